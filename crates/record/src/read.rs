//! Reading a record.

use std::collections::BTreeMap;

use fairtrial_core::answer::Submission;
use fairtrial_core::judgement::TestOutcome;
use fairtrial_core::plan::Tokens;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::standings::TrialResult;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::verdict::Verdict;
use rusqlite::{Row, params};

use crate::write::Record;
use crate::{RecordError, blob};

/// A trial, as far as it has come.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialRow {
    /// Its number in the database.
    pub id: i64,
    /// Which trial.
    pub key: TrialKey,
    /// How often it was taken up: from 1, more when it was void before.
    pub holding: u32,
    /// The digest of its first prompt.
    pub prompt: String,
    /// What it came to; `None` while it is under way.
    pub verdict: Option<Verdict>,
    /// When it was begun.
    pub begun: String,
    /// When it was over.
    pub ended: Option<String>,
    /// The attempts, in order.
    pub attempts: Vec<AttemptRow>,
    /// The requests of all holdings, in order.
    pub requests: Vec<RequestRow>,
}

/// An attempt, as far as it has come.
#[derive(Debug, Clone, PartialEq)]
pub struct AttemptRow {
    /// Its number in the database.
    pub id: i64,
    /// Which attempt of the trial, from 1.
    pub number: u32,
    /// `text`, `files` or `patch`.
    pub answer_kind: String,
    /// The digest of the answer.
    pub answer: String,
    /// Whether the host stopped it at a length limit.
    pub cut_off: bool,
    /// What it came to; `None` until it is judged.
    pub verdict: Option<Verdict>,
    /// Sealed tests that passed.
    pub tests_passed: u32,
    /// Sealed tests.
    pub tests_total: u32,
    /// The share of points earned, 0 to 1.
    pub credit: f64,
    /// What the lenient reader forgave.
    pub deviations: Vec<String>,
    /// The digest of the files that were judged.
    pub code: Option<String>,
    /// The digest of the error or compiler message.
    pub message: Option<String>,
    /// What a person should know of how it was judged.
    pub notes: Vec<String>,
    /// The digest of the feedback.
    pub feedback: Option<String>,
    /// Seconds that judging took.
    pub judge_seconds: f64,
}

/// A request.
#[derive(Debug, Clone, PartialEq)]
pub struct RequestRow {
    /// For which attempt.
    pub attempt: u32,
    /// Which try, from 1.
    pub number: u32,
    /// `answered`, or why not.
    pub outcome: String,
    /// What the host said.
    pub detail: String,
    /// The HTTP status.
    pub status: Option<u16>,
    /// Seconds until the answer was whole.
    pub seconds: f64,
    /// Seconds until its first part.
    pub first_token: Option<f64>,
    /// Tokens.
    pub tokens: Tokens,
    /// Whether the tokens are an estimate.
    pub estimated: bool,
    /// What it cost.
    pub cost: f64,
}

impl TrialRow {
    /// Seconds that the candidate took to answer, faults of the host left out.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        let answered = self.requests.iter().filter(|it| it.outcome == "answered");
        answered.fold(0.0, |sum, it| sum + it.seconds)
    }

    /// What it cost, all requests together.
    #[must_use]
    pub fn cost(&self) -> f64 {
        self.requests.iter().fold(0.0, |sum, it| sum + it.cost)
    }

    /// Tokens, all requests together.
    #[must_use]
    pub fn tokens(&self) -> Tokens {
        self.requests.iter().fold(Tokens::default(), |sum, it| Tokens {
            input: sum.input + it.tokens.input,
            cached: sum.cached + it.tokens.cached,
            output: sum.output + it.tokens.output,
        })
    }

    /// What the standings need of it; `None` while it is under way.
    #[must_use]
    pub fn result(&self) -> Option<TrialResult> {
        Some(TrialResult {
            candidate: self.key.candidate.clone(),
            task: self.key.task.clone(),
            verdict: self.verdict?,
            attempts: self.attempts.len() as u32,
            deviating: self.attempts.iter().filter(|it| !it.deviations.is_empty()).count() as u32,
            seconds: self.seconds(),
            tokens: self.tokens(),
            cost: self.cost(),
        })
    }
}

impl Record {
    /// All trials, in the order in which they were begun.
    ///
    /// # Errors
    /// When the database cannot be read, or holds words that this version does not know.
    pub fn trials(&self) -> Result<Vec<TrialRow>, RecordError> {
        self.read("read trials", || {
            let mut trials = self.rows(
                "SELECT id, candidate, task, sample, holding, prompt, verdict, reason, begun, ended
                 FROM trials ORDER BY id",
                trial_row,
            )?;
            let mut attempts = group(self.rows(
                "SELECT a.trial, a.id, a.number, a.answer_kind, a.answer, a.cut_off, a.verdict,
                 a.reason, a.tests_passed, a.tests_total, a.credit, a.deviations, a.code, a.message,
                 a.notes, a.feedback, a.judge_seconds
                 FROM attempts a ORDER BY a.trial, a.number",
                |row| Ok((row.get(0)?, attempt_row(row)?)),
            )?);
            let mut requests = group(self.rows(
                "SELECT r.trial, r.attempt, r.number, r.outcome, r.detail, r.status, r.seconds,
                 r.first_token, r.tokens_input, r.tokens_cached, r.tokens_output, r.estimated,
                 r.cost
                 FROM requests r ORDER BY r.trial, r.id",
                |row| Ok((row.get(0)?, request_row(row)?)),
            )?);
            for trial in &mut trials {
                trial.attempts = attempts.remove(&trial.id).unwrap_or_default();
                trial.requests = requests.remove(&trial.id).unwrap_or_default();
            }
            Ok(trials)
        })
    }

    /// The tests of an attempt.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn tests(&self, attempt: i64) -> Result<Vec<TestOutcome>, RecordError> {
        self.read("read tests", || {
            let mut statement = self
                .connection
                .prepare_cached("SELECT detail FROM outcomes WHERE attempt = ?1 ORDER BY place")?;
            let digests = statement.query_map(params![attempt], |row| row.get::<_, String>(0))?;
            digests
                .map(|digest| {
                    let bytes = blob::load(&self.connection, &digest?)?;
                    serde_json::from_slice(&bytes).map_err(conversion)
                })
                .collect()
        })
    }

    /// A stored text.
    ///
    /// # Errors
    /// When it is not there, or damaged.
    pub fn text(&self, digest: &str) -> Result<String, RecordError> {
        self.read("read a text", || {
            blob::load(&self.connection, digest)
                .map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
        })
    }

    /// Stored files.
    ///
    /// # Errors
    /// When they are not there, or damaged.
    pub fn files(&self, digest: &str) -> Result<FileTree, RecordError> {
        let text = self.text(digest)?;
        unpack(&text).ok_or_else(|| RecordError::Damaged {
            path: self.folder().to_owned(),
            why: format!("`{digest}` is no set of files"),
        })
    }

    /// What was sent in an attempt.
    ///
    /// # Errors
    /// When it is not there, or damaged.
    pub fn answer(&self, attempt: &AttemptRow) -> Result<Submission, RecordError> {
        Ok(match attempt.answer_kind.as_str() {
            "files" => Submission::Files(self.files(&attempt.answer)?),
            "patch" => Submission::Patch(self.text(&attempt.answer)?),
            _ => Submission::Text(self.text(&attempt.answer)?),
        })
    }

    pub(crate) fn rows<T>(
        &self,
        sql: &str,
        read: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> rusqlite::Result<Vec<T>> {
        self.connection.prepare_cached(sql)?.query_map([], read)?.collect()
    }

    pub(crate) fn read<T>(
        &self,
        what: &'static str,
        work: impl FnOnce() -> rusqlite::Result<T>,
    ) -> Result<T, RecordError> {
        self.steps.refill();
        work().map_err(|source| RecordError::Database { what, path: self.folder.clone(), source })
    }
}

fn group<T>(rows: Vec<(i64, T)>) -> BTreeMap<i64, Vec<T>> {
    let mut groups = BTreeMap::<i64, Vec<T>>::new();
    for (key, row) in rows {
        groups.entry(key).or_default().push(row);
    }
    groups
}

fn unpack(text: &str) -> Option<FileTree> {
    let files: BTreeMap<String, serde_json::Value> = serde_json::from_str(text).ok()?;
    let entry = |(path, content): (String, serde_json::Value)| {
        let bytes = match content {
            serde_json::Value::String(text) => text.into_bytes(),
            other => serde_json::from_value(other).ok()?,
        };
        Some((RelPath::parse(&path).ok()?, bytes))
    };
    files.into_iter().map(entry).collect()
}

pub(crate) fn conversion(error: impl std::error::Error + Send + Sync + 'static) -> rusqlite::Error {
    rusqlite::Error::FromSqlConversionFailure(0, rusqlite::types::Type::Text, error.into())
}

pub(crate) fn verdict(
    word: Option<String>,
    reason: Option<String>,
) -> rusqlite::Result<Option<Verdict>> {
    word.map(|word| Verdict::parse(&word, reason.as_deref())).transpose().map_err(conversion)
}

fn trial_row(row: &Row<'_>) -> rusqlite::Result<TrialRow> {
    let key = TrialKey { candidate: row.get(1)?, task: row.get(2)?, sample: row.get(3)? };
    Ok(TrialRow {
        id: row.get(0)?,
        key,
        holding: row.get(4)?,
        prompt: row.get(5)?,
        verdict: verdict(row.get(6)?, row.get(7)?)?,
        begun: row.get(8)?,
        ended: row.get(9)?,
        attempts: Vec::new(),
        requests: Vec::new(),
    })
}

fn attempt_row(row: &Row<'_>) -> rusqlite::Result<AttemptRow> {
    let list = |column: usize| -> rusqlite::Result<Vec<String>> {
        let text: Option<String> = row.get(column)?;
        text.map_or_else(|| Ok(Vec::new()), |it| serde_json::from_str(&it).map_err(conversion))
    };
    Ok(AttemptRow {
        id: row.get(1)?,
        number: row.get(2)?,
        answer_kind: row.get(3)?,
        answer: row.get(4)?,
        cut_off: row.get(5)?,
        verdict: verdict(row.get(6)?, row.get(7)?)?,
        tests_passed: row.get::<_, Option<u32>>(8)?.unwrap_or(0),
        tests_total: row.get::<_, Option<u32>>(9)?.unwrap_or(0),
        credit: row.get::<_, Option<f64>>(10)?.unwrap_or(0.0),
        deviations: list(11)?,
        code: row.get(12)?,
        message: row.get(13)?,
        notes: list(14)?,
        feedback: row.get(15)?,
        judge_seconds: row.get::<_, Option<f64>>(16)?.unwrap_or(0.0),
    })
}

fn request_row(row: &Row<'_>) -> rusqlite::Result<RequestRow> {
    let count = |column: usize| row.get::<_, i64>(column).map(|it| it.max(0) as u64);
    Ok(RequestRow {
        attempt: row.get(1)?,
        number: row.get(2)?,
        outcome: row.get(3)?,
        detail: row.get(4)?,
        status: row.get(5)?,
        seconds: row.get(6)?,
        first_token: row.get(7)?,
        tokens: Tokens { input: count(8)?, cached: count(9)?, output: count(10)? },
        estimated: row.get(11)?,
        cost: row.get(12)?,
    })
}
