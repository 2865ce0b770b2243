//! Outcomes of tests over a whole record: wrong values, and tests that nobody passes.

use std::collections::{BTreeMap, HashMap};

use fairtrial_core::judgement::TestOutcome;
use fairtrial_core::verdict::FailReason;

use crate::read::conversion;
use crate::write::Record;
use crate::{RecordError, blob};

impl Record {
    /// For each task, the sealed tests that were run and that no attempt of anybody ever passed, of tasks of which
    /// some attempt passed another test.
    ///
    /// # Errors
    /// When the database cannot be read, or a stored text is damaged.
    pub fn tests_never_passed(&self) -> Result<BTreeMap<String, Vec<String>>, RecordError> {
        self.read("read tests", || {
            // For each task, whether each test was ever passed.
            let mut passed = BTreeMap::<String, BTreeMap<String, bool>>::new();
            let mut statement = self
                .connection
                .prepare("SELECT DISTINCT task, tests FROM attempts WHERE tests IS NOT NULL")?;
            let mut rows = statement.query([])?;
            while let Some(row) = rows.next()? {
                let (task, digest): (String, String) = (row.get(0)?, row.get(1)?);
                let tests = passed.entry(task).or_default();
                for test in self.outcomes(&digest)? {
                    if !test.visible && test.was_run() {
                        *tests.entry(test.name).or_default() |= test.failed.is_none();
                    }
                }
            }
            let never = |tests: BTreeMap<String, bool>| {
                let some = tests.values().any(|it| *it);
                let names = tests.into_iter().filter(|it| some && !it.1).map(|it| it.0);
                names.collect::<Vec<String>>()
            };
            let all = passed.into_iter().map(|(task, tests)| (task, never(tests)));
            Ok(all.filter(|it| !it.1.is_empty()).collect())
        })
    }

    /// Gives the wrong values of all first attempts to `take`: candidate, task, test, value.
    ///
    /// # Errors
    /// When the database cannot be read, or a stored text is damaged.
    pub fn each_wrong_value(
        &self,
        mut take: impl FnMut(&str, &str, &str, &str),
    ) -> Result<(), RecordError> {
        self.read("read tests", || {
            let mut known = HashMap::<String, Vec<(String, String)>>::new();
            let mut statement = self.connection.prepare(
                "SELECT candidate, task, tests FROM attempts
                 WHERE attempt = 1 AND verdict = 'fail' AND tests IS NOT NULL",
            )?;
            let mut rows = statement.query([])?;
            while let Some(row) = rows.next()? {
                let (candidate, task): (String, String) = (row.get(0)?, row.get(1)?);
                let digest: String = row.get(2)?;
                if !known.contains_key(&digest) {
                    let is_wrong = |it: &TestOutcome| {
                        it.failed == Some(FailReason::WrongResult) && !it.found.is_empty()
                    };
                    let tests = self.outcomes(&digest)?.into_iter().filter(is_wrong);
                    known.insert(digest.clone(), tests.map(|it| (it.name, it.found)).collect());
                }
                for (test, value) in known.get(&digest).into_iter().flatten() {
                    take(&candidate, &task, test, value);
                }
            }
            Ok(())
        })
    }

    fn outcomes(&self, digest: &str) -> rusqlite::Result<Vec<TestOutcome>> {
        let bytes = blob::load(&self.connection, digest)?;
        serde_json::from_slice(&bytes).map_err(conversion)
    }
}
