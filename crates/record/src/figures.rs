//! Figures of trials that are over: all that standings need, one narrow row each.
//!
//! They are computed from trials, attempts and requests, and computed again in the transaction that changes any
//! of these. Whoever doubts them has [`Record::check_figures`].

use fairtrial_core::plan::Tokens;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::standings::TrialFigures;
use fairtrial_core::trouble::Trouble;
use rusqlite::{Row, params};

use crate::RecordError;
use crate::read::{key_at, verdict};
use crate::refresh::{COLUMNS, OF_TRIAL};
use crate::write::Record;

impl Record {
    /// Gives every trial that is over to `take`, by its candidate, task and sample, in their order: nothing is
    /// kept meanwhile. Only those of some candidates, where any are named.
    ///
    /// # Errors
    /// When the database cannot be read, or holds words that this version does not know.
    pub fn each_figures(
        &self,
        candidates: &[String],
        mut take: impl FnMut(&str, &str, u32, &TrialFigures),
    ) -> Result<(), RecordError> {
        self.read("read figures", || {
            let some = match candidates.len() {
                0 => String::new(),
                many => format!("WHERE candidate IN ({})", vec!["?"; many].join(", ")),
            };
            let sql =
                format!("SELECT {COLUMNS} FROM figures {some} ORDER BY candidate, task, sample");
            let mut statement = self.connection.prepare(&sql)?;
            let mut rows = statement.query(rusqlite::params_from_iter(candidates))?;
            while let Some(row) = rows.next()? {
                let figures = trial_figures(row)?;
                let text = |column| row.get_ref(column)?.as_str().map_err(rusqlite::Error::from);
                take(text(0)?, text(1)?, row.get(2)?, &figures);
            }
            Ok(())
        })
    }

    /// Trials whose figures are not what the rows about them give: none, unless somebody changed the database
    /// by hand.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn check_figures(&self) -> Result<Vec<TrialKey>, RecordError> {
        self.read("check figures", || {
            let keys = self.rows(
                "SELECT candidate, task, sample FROM trials WHERE verdict IS NOT NULL
                 UNION SELECT candidate, task, sample FROM figures",
                |row| key_at(row, 0),
            )?;
            let of = "candidate = ?1 AND task = ?2 AND sample = ?3";
            let mut check = self.connection.prepare(&format!(
                "SELECT EXISTS ({OF_TRIAL} EXCEPT SELECT {COLUMNS} FROM figures WHERE {of})
                 OR NOT EXISTS ({OF_TRIAL})"
            ))?;
            let mut wrong = Vec::new();
            for key in keys {
                let row = params![key.candidate, key.task, key.sample];
                if check.query_row(row, |row| row.get::<_, bool>(0))? {
                    wrong.push(key);
                }
            }
            Ok(wrong)
        })
    }
}

fn trial_figures(row: &Row<'_>) -> rusqlite::Result<TrialFigures> {
    let count = |column: usize| row.get::<_, u32>(column);
    let long = |column: usize| row.get::<_, i64>(column).map(|it| it.max(0) as u64);
    let text = |column: usize| -> rusqlite::Result<Option<&str>> {
        row.get_ref(column)?.as_str_or_null().map_err(rusqlite::Error::from)
    };
    let trouble = match row.get::<_, Option<u32>>(15)? {
        None => None,
        Some(same_failure) => Some(Trouble {
            same_failure,
            undone: count(16)?,
            repeated: count(17)?,
            turned_red: count(18)?,
            false_claims: count(19)?,
        }),
    };
    Ok(TrialFigures {
        verdict: verdict(text(3)?, text(4)?)?.ok_or(rusqlite::Error::QueryReturnedNoRows)?,
        answers: count(5)?,
        deviating: count(6)?,
        strict: row.get(7)?,
        credit: row.get(8)?,
        seconds: row.get(9)?,
        tokens: Tokens { input: long(10)?, cached: long(11)?, output: long(12)?, reasoning: 0 },
        estimated: row.get(13)?,
        cost: row.get(14)?,
        trouble,
        helped: row.get(20)?,
    })
}
