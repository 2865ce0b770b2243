//! What a run with twins shows.

use std::collections::BTreeSet;

use fairtrial_core::testrun::{ReportedTest, Status};

use super::suite::{Suite, Written};
use super::syntax::words;
use super::trace::Trace;

/// What a run shows, under the sealed names.
#[derive(Debug, Default)]
pub struct Findings {
    /// Every reported test, with its status as it would be without twins.
    pub tests: Vec<ReportedTest>,
    /// Changed assertions that held each time.
    pub held: BTreeSet<usize>,
    /// Tests that were to fail as a whole and were reported as passed. Those that expect a panic do so where there is
    /// none.
    pub unfailed: BTreeSet<String>,
    /// Whether some assertion that was left as it was failed, in a test or in what tests share.
    pub any_failed: bool,
    /// What no honest run shows.
    pub evidence: BTreeSet<String>,
}

impl Findings {
    /// Reads what was reported and noted in a run.
    pub fn read(
        suite: &Suite,
        written: &Written,
        reported: &[ReportedTest],
        trace: &Trace,
    ) -> Self {
        let mut findings = Self::default();
        let choice = &written.choice;
        let mut failed = BTreeSet::new();
        for (number, _, _) in suite.sites() {
            let is_changed = choice.changed.contains(&number);
            // In a loop a change may be none for some of what it goes through.
            let only_held = trace.held.contains(&number) && !trace.failed.contains(&number);
            if is_changed && only_held {
                findings.held.insert(number);
            }
            if !is_changed && trace.failed.contains(&number) {
                findings.any_failed = true;
                failed.extend(suite.test_of(number));
            }
        }
        let changed: BTreeSet<(usize, usize)> = choice
            .changed
            .iter()
            .filter_map(|it| suite.test_of(*it))
            .chain(choice.failing.iter().copied())
            .collect();
        // Tests that fail by what they noted, whatever else they come to.
        let failing: BTreeSet<(usize, usize)> = suite
            .sites()
            .filter(|it| it.2.is_certain && choice.changed.contains(&it.0))
            .filter(|it| trace.failed.contains(&it.0) && !trace.held.contains(&it.0))
            .filter_map(|it| suite.test_of(it.0))
            .chain(choice.failing.iter().copied())
            .collect();
        for test in reported {
            let own = |name: &str| words(&test.name).any(|it| it == name);
            let of: Vec<_> = written.fresh.iter().filter(|it| own(it.1)).map(|it| *it.0).collect();
            let must_fail = of.iter().any(|key| {
                let is_whole =
                    suite.syntax.fails_below || test.name.ends_with(written.fresh[key].as_str());
                failing.contains(key) && is_whole
            });
            let mut status = match test.status {
                Status::Failed if of.iter().any(|it| changed.contains(it)) => Status::Passed,
                Status::Passed if must_fail => {
                    findings.unfailed.extend(written.original(&test.name));
                    Status::Failed
                }
                status => status,
            };
            let is_certain = |it: &(usize, usize, &super::syntax::Site)| {
                it.2.is_certain && it.2.test.is_some_and(|at| of.contains(&(it.1, at)))
            };
            if status == Status::Passed
                && suite.sites().filter(is_certain).any(|it| !trace.has_seen(it.0))
            {
                // One that was reported as failed may have ended before them.
                if test.status == Status::Passed {
                    let what = "a test was reported as passed whose assertions it did not come by";
                    findings.evidence.insert(what.to_owned());
                }
                status = Status::Failed;
            }
            if status == Status::Passed && of.iter().any(|it| failed.contains(it)) {
                status = Status::Failed;
            }
            let Some(name) = written.original(&test.name) else {
                let what = "a test was reported by a name that it does not have in this run";
                findings.evidence.insert(what.to_owned());
                continue;
            };
            findings.tests.push(ReportedTest { name, status, message: test.message.clone() });
        }
        findings
    }

    /// Whether all of these tests passed, no other was reported, and nothing failed.
    pub fn is_all(&self, names: &[String]) -> bool {
        let passed: BTreeSet<&str> = self
            .tests
            .iter()
            .filter(|it| it.status == Status::Passed)
            .map(|it| it.name.as_str())
            .collect();
        !self.any_failed
            && self.evidence.is_empty()
            && passed.len() == names.len()
            && self.tests.iter().all(|it| it.status == Status::Passed)
            && names.iter().all(|it| passed.contains(it.as_str()))
    }
}
