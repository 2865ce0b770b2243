//! Gradings: recorded answers judged again, kept beside the first verdicts, which never change.

use std::collections::HashMap;

use fairtrial_core::judgement::Judgement;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::Verdict;
use rusqlite::{Row, params};

use crate::read::{Filter, conversion, key_at, verdict_at};
use crate::rows::Selection;
use crate::write::{Record, json};
use crate::{Machine, RecordError, blob};

/// An answer judged again, ready to be written.
#[derive(Debug)]
pub struct NewRegrade {
    /// Which trial.
    pub key: TrialKey,
    /// Which attempt of it, from 1.
    pub attempt: u32,
    /// What judging came to this time.
    pub judgement: Judgement,
    /// Why it differs from the first verdict; `None` when it does not.
    pub cause: Option<String>,
}

/// A grading: all answers of a record, judged again at one time.
#[derive(Debug, Clone, PartialEq)]
pub struct GradingRow {
    /// Its number, from 1.
    pub id: i64,
    /// When it was begun, in UTC, RFC 3339.
    pub begun: String,
    /// Where, and with which tools.
    pub machine: Machine,
    /// Answers that could not be judged again.
    pub left_out: u32,
    /// The answers, in the order in which their trials were begun.
    pub answers: Vec<RegradeRow>,
}

/// A grading, without its answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GradingNote {
    /// Its number, from 1.
    pub id: i64,
    /// When it was begun, in UTC, RFC 3339.
    pub begun: String,
}

/// What a trial comes to by a grading.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RegradedTrial {
    /// The verdict: of the first answer that passes or is void, else of the last.
    pub verdict: Verdict,
    /// Answers up to that one.
    pub answers: u32,
    /// Whether it passed with an answer that a strict reader takes, too.
    pub strict: bool,
    /// The share of points that the answer earned.
    pub credit: f64,
}

/// One answer, judged twice.
#[derive(Debug, Clone, PartialEq)]
pub struct RegradeRow {
    /// The trial's number.
    pub trial: i64,
    /// Which trial.
    pub key: TrialKey,
    /// Which attempt of it, from 1.
    pub attempt: u32,
    /// What it came to at first.
    pub first: Verdict,
    /// Sealed tests that passed at first.
    pub first_passed: u32,
    /// What it came to this time.
    pub again: Verdict,
    /// Sealed tests that passed this time, and sealed tests.
    pub passed: u32,
    /// Sealed tests.
    pub total: u32,
    /// Why the two differ; `None` when they do not.
    pub cause: Option<String>,
    /// What a person should know of how it was judged this time.
    pub notes: Vec<String>,
}

impl Record {
    /// Begins a grading and gives its number.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn begin_grading(
        &mut self,
        begun: &str,
        machine: &Machine,
        left_out: u32,
    ) -> Result<i64, RecordError> {
        self.transact("begin a grading", |transaction| {
            transaction.execute(
                "INSERT INTO gradings (begun, machine, left_out) VALUES (?1, ?2, ?3)",
                params![begun, json(machine)?, left_out],
            )?;
            Ok(transaction.last_insert_rowid())
        })
    }

    /// Commits an answer of a grading.
    ///
    /// # Errors
    /// When the database refuses: then it is not recorded.
    pub fn commit_regrade(&mut self, grading: i64, answer: &NewRegrade) -> Result<(), RecordError> {
        self.transact("commit a grading", |transaction| {
            let judgement = &answer.judgement;
            let (passed, total) = judgement.counts();
            let tests = blob::store(transaction, json(&judgement.tests)?.as_bytes())?;
            transaction
                .prepare_cached(
                    "INSERT INTO regrades (grading, candidate, task, sample, attempt, verdict,
                     reason, tests_passed, tests_total, credit, cause, notes, tests)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
                )?
                .execute(params![
                    grading,
                    answer.key.candidate,
                    answer.key.task,
                    answer.key.sample,
                    answer.attempt,
                    judgement.verdict.word(),
                    judgement.verdict.reason(),
                    passed as i64,
                    total as i64,
                    judgement.credit(),
                    answer.cause,
                    json(&judgement.notes)?,
                    tests.as_str()
                ])?;
            Ok(())
        })
    }

    /// Adds to the answers of a grading that could not be judged again.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn leave_out_of_grading(&mut self, grading: i64, more: u32) -> Result<(), RecordError> {
        self.transact("commit a grading", |transaction| {
            transaction.execute(
                "UPDATE gradings SET left_out = left_out + ?2 WHERE id = ?1",
                params![grading, more],
            )?;
            Ok(())
        })
    }

    /// All gradings, the oldest first, without their answers.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn grading_notes(&self) -> Result<Vec<GradingNote>, RecordError> {
        self.read("read gradings", || {
            self.rows("SELECT id, begun FROM gradings ORDER BY id", |row| {
                Ok(GradingNote { id: row.get(0)?, begun: row.get(1)? })
            })
        })
    }

    /// What each trial comes to by a grading, where it judged any answer of it again. Answers after the first
    /// that passes are not needed: the candidate would not have been asked for them.
    ///
    /// # Errors
    /// When the database cannot be read, or holds words that this version does not know.
    pub fn regraded(&self, grading: i64) -> Result<HashMap<TrialKey, RegradedTrial>, RecordError> {
        self.read("read a grading", || {
            let mut statement = self.connection.prepare(
                "SELECT r.candidate, r.task, r.sample, r.attempt, r.verdict, r.reason, r.credit,
                 coalesce(a.deviations, '[]') = '[]'
                 FROM regrades r JOIN attempts a USING (candidate, task, sample, attempt)
                 WHERE r.grading = ?1 ORDER BY r.candidate, r.task, r.sample, r.attempt",
            )?;
            let mut rows = statement.query([grading])?;
            let mut trials = HashMap::<TrialKey, RegradedTrial>::new();
            while let Some(row) = rows.next()? {
                let key = key_at(row, 0)?;
                let missing = || rusqlite::Error::QueryReturnedNoRows;
                let verdict = verdict_at(row, 4)?.ok_or_else(missing)?;
                if trials.get(&key).is_some_and(|it| !matches!(it.verdict, Verdict::Fail(_))) {
                    continue;
                }
                let (answers, credit) = (row.get(3)?, row.get(6)?);
                let strict = verdict.is_pass() && row.get(7)?;
                trials.insert(key, RegradedTrial { verdict, answers, strict, credit });
            }
            Ok(trials)
        })
    }

    /// All gradings, the oldest first, with the answers of the trials that are wanted.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn gradings(&self, selection: &Selection) -> Result<Vec<GradingRow>, RecordError> {
        let of = Filter::of(selection);
        self.read("read gradings", || {
            let mut gradings = self.rows(
                "SELECT id, begun, machine, left_out FROM gradings ORDER BY id",
                |row| {
                    let machine: String = row.get(2)?;
                    Ok(GradingRow {
                        id: row.get(0)?,
                        begun: row.get(1)?,
                        machine: serde_json::from_str(&machine).map_err(conversion)?,
                        left_out: row.get(3)?,
                        answers: Vec::new(),
                    })
                },
            )?;
            let sql = format!(
                "SELECT r.grading, t.number, t.candidate, t.task, t.sample, a.attempt, a.verdict,
                 a.reason, a.tests_passed, r.verdict, r.reason, r.tests_passed, r.tests_total,
                 r.cause, r.notes
                 FROM regrades r JOIN attempts a USING (candidate, task, sample, attempt)
                 JOIN trials t USING (candidate, task, sample)
                 {} ORDER BY t.number, a.attempt",
                of.clause("r.")
            );
            let answers =
                of.rows(self, &sql, |row| Ok((row.get::<_, i64>(0)?, regrade_row(row)?)))?;
            for (grading, answer) in answers {
                if let Some(grading) = gradings.iter_mut().find(|it| it.id == grading) {
                    grading.answers.push(answer);
                }
            }
            Ok(gradings)
        })
    }
}

fn regrade_row(row: &Row<'_>) -> rusqlite::Result<RegradeRow> {
    let notes: String = row.get(14)?;
    let missing = || rusqlite::Error::QueryReturnedNoRows;
    Ok(RegradeRow {
        trial: row.get(1)?,
        key: key_at(row, 2)?,
        attempt: row.get(5)?,
        first: verdict_at(row, 6)?.ok_or_else(missing)?,
        first_passed: row.get::<_, Option<u32>>(8)?.unwrap_or(0),
        again: verdict_at(row, 9)?.ok_or_else(missing)?,
        passed: row.get(11)?,
        total: row.get(12)?,
        cause: row.get(13)?,
        notes: serde_json::from_str(&notes).map_err(conversion)?,
    })
}
