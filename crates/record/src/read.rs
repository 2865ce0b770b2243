//! Reading a record.

use std::collections::BTreeMap;

use fairtrial_core::answer::{AnswerEnd, Code, ReadingNotes, Submission};
use fairtrial_core::change::ChangeFacts;
use fairtrial_core::judgement::TestOutcome;
use fairtrial_core::plan::Tokens;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::Verdict;
use rusqlite::{Row, ToSql};

use crate::rows::{AttemptRow, RequestRow, Selection, StepRow, TrialRow, TrialSummary};
use crate::write::Record;
use crate::{RecordError, blob};

impl Record {
    /// Trials in figures, in the order in which they were begun.
    ///
    /// # Errors
    /// When the database cannot be read, or holds words that this version does not know.
    pub fn summaries(&self, selection: &Selection) -> Result<Vec<TrialSummary>, RecordError> {
        let of = Filter::of(selection);
        let (where_, own) = (of.clause("t."), of.clause(""));
        let sql = format!(
            "WITH a AS (
                SELECT candidate, task, sample, count(*) AS attempts, max(attempt) AS last,
                    sum(answer_seconds) AS seconds
                FROM attempts {own} GROUP BY candidate, task, sample),
             r AS (
                SELECT candidate, task, sample, sum(cost) AS cost,
                    sum(CASE WHEN outcome = 'answered' THEN seconds END) AS seconds,
                    sum(tokens_input) AS input, sum(tokens_cached) AS cached,
                    sum(tokens_output) AS output, sum(tokens_reasoning) AS reasoning
                FROM requests {own} GROUP BY candidate, task, sample)
             SELECT t.number, t.candidate, t.task, t.sample, t.verdict, t.reason, a.attempts,
                l.tests_passed, l.tests_total, coalesce(a.seconds, r.seconds),
                r.input, r.cached, r.output, r.cost, r.reasoning
             FROM trials t LEFT JOIN a USING (candidate, task, sample)
                LEFT JOIN r USING (candidate, task, sample)
                LEFT JOIN attempts l ON l.candidate = t.candidate AND l.task = t.task
                    AND l.sample = t.sample AND l.attempt = a.last
             {where_} ORDER BY t.number"
        );
        self.read("read trials", || {
            of.rows(self, &sql, |row| {
                let count = |column: usize| -> rusqlite::Result<u32> {
                    Ok(row.get::<_, Option<u32>>(column)?.unwrap_or(0))
                };
                let real = |column: usize| -> rusqlite::Result<f64> {
                    Ok(row.get::<_, Option<f64>>(column)?.unwrap_or(0.0))
                };
                let long = |column: usize| -> rusqlite::Result<u64> {
                    Ok(row.get::<_, Option<i64>>(column)?.unwrap_or(0).max(0) as u64)
                };
                Ok(TrialSummary {
                    number: row.get(0)?,
                    key: key_at(row, 1)?,
                    verdict: verdict_at(row, 4)?,
                    attempts: count(6)?,
                    tests: (count(7)?, count(8)?),
                    seconds: real(9)?,
                    tokens: Tokens {
                        input: long(10)?,
                        cached: long(11)?,
                        output: long(12)?,
                        reasoning: long(14)?,
                    },
                    cost: real(13)?,
                })
            })
        })
    }

    /// The highest number of a trial; `None` while none has begun.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn last_number(&self) -> Result<Option<i64>, RecordError> {
        self.read("read trials", || {
            self.connection.query_row("SELECT max(number) FROM trials", [], |row| row.get(0))
        })
    }

    /// Trials in full, in the order in which they were begun.
    ///
    /// # Errors
    /// When the database cannot be read, or holds words that this version does not know.
    pub fn trials(&self, selection: &Selection) -> Result<Vec<TrialRow>, RecordError> {
        let of = Filter::of(selection);
        let own = of.clause("");
        self.read("read trials", || {
            let trials = format!(
                "SELECT number, candidate, task, sample, round, prompt, verdict, reason, begun, ended,
                 helped, counts_from FROM trials {own} ORDER BY number"
            );
            let mut trials = of.rows(self, &trials, trial_row)?;
            let attempts = format!(
                "SELECT candidate, task, sample, attempt, answer_kind, answer, cut_off, verdict,
                 reason, tests_passed, tests_total, credit, deviations, code, message, notes,
                 feedback, judge_seconds, tests, change, ended_as, same_failure, undone, repeated,
                 turned_red, false_claims, answer_seconds, refused, reading, reused
                 FROM attempts {own} ORDER BY candidate, task, sample, attempt"
            );
            let mut attempts =
                group(of.rows(self, &attempts, |row| Ok((key_at(row, 0)?, attempt_row(row)?)))?);
            let requests = format!(
                "SELECT candidate, task, sample, round, attempt, number, outcome, detail, status,
                 seconds, first_token, tokens_input, tokens_cached, tokens_output, estimated, cost,
                 sent, tokens_reasoning, thought
                 FROM requests {own} ORDER BY candidate, task, sample, round, attempt, number"
            );
            let mut requests =
                group(of.rows(self, &requests, |row| Ok((key_at(row, 0)?, request_row(row)?)))?);
            let steps = format!(
                "SELECT candidate, task, sample, round, attempt, number, at, kind, subject, outcome,
                 detail, seconds, files_before, files_after
                 FROM steps {own} ORDER BY candidate, task, sample, round, attempt, number"
            );
            let mut steps =
                group(of.rows(self, &steps, |row| Ok((key_at(row, 0)?, step_row(row)?)))?);
            for trial in &mut trials {
                trial.steps = steps.remove(&trial.key).unwrap_or_default();
                // Those of what was set aside belong to no attempt that is there.
                trial.steps.retain(|it| it.round >= trial.counts_from);
                trial.attempts = attempts.remove(&trial.key).unwrap_or_default();
                trial.requests = requests.remove(&trial.key).unwrap_or_default();
            }
            Ok(trials)
        })
    }

    /// One trial in full; `None` when it was not begun.
    ///
    /// # Errors
    /// As [`Self::trials`].
    pub fn trial(&self, key: &TrialKey) -> Result<Option<TrialRow>, RecordError> {
        Ok(self.trials(&Selection::of(key))?.pop())
    }

    /// The tests of an attempt; none until it is judged.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn tests(&self, attempt: &AttemptRow) -> Result<Vec<TestOutcome>, RecordError> {
        let Some(digest) = &attempt.tests else { return Ok(Vec::new()) };
        self.read("read tests", || {
            let bytes = blob::load(&self.connection, digest)?;
            serde_json::from_slice(&bytes).map_err(conversion)
        })
    }

    /// A stored text.
    ///
    /// # Errors
    /// When it is not there, or damaged.
    pub fn text(&self, digest: &str) -> Result<String, RecordError> {
        self.bytes(digest).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    /// A stored text in bytes, which need not be UTF-8.
    ///
    /// # Errors
    /// When it is not there, or damaged.
    pub fn bytes(&self, digest: &str) -> Result<Vec<u8>, RecordError> {
        self.read("read a text", || blob::load(&self.connection, digest))
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

    /// What was judged of an attempt; `None` where nothing was.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn code(&self, attempt: &AttemptRow) -> Result<Option<Code>, RecordError> {
        let Some(digest) = &attempt.code else { return Ok(None) };
        Ok(Some(match attempt.change {
            Some(_) => Code::Patch(self.bytes(digest)?),
            None => Code::Files(self.files(digest)?),
        }))
    }

    /// What the change of an attempt does; `None` where the answer is no change to a repository.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn change(&self, attempt: &AttemptRow) -> Result<Option<ChangeFacts>, RecordError> {
        let Some(digest) = &attempt.change else { return Ok(None) };
        let text = self.text(digest)?;
        serde_json::from_str(&text).map(Some).map_err(|_| RecordError::Damaged {
            path: self.folder().to_owned(),
            why: format!("`{digest}` does not say what a change does"),
        })
    }

    /// How a candidate that acts ended an attempt: a JSON object; `None` for others.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn ended_as(&self, attempt: &AttemptRow) -> Result<Option<serde_json::Value>, RecordError> {
        let Some(digest) = &attempt.ended_as else { return Ok(None) };
        let text = self.text(digest)?;
        serde_json::from_str(&text).map(Some).map_err(|_| RecordError::Damaged {
            path: self.folder().to_owned(),
            why: format!("`{digest}` does not say how a candidate ended"),
        })
    }

    /// What was sent in an attempt.
    ///
    /// # Errors
    /// When it is not there, or damaged.
    pub fn answer(&self, attempt: &AttemptRow) -> Result<Submission, RecordError> {
        Ok(match attempt.answer_kind.as_str() {
            "files" => Submission::Files(self.files(&attempt.answer)?),
            "patch" => Submission::Patch(self.bytes(&attempt.answer)?),
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
        self.workload.refill();
        work().map_err(|source| RecordError::Database { what, path: self.folder.clone(), source })
    }
}

/// A selection as a condition.
pub(crate) struct Filter<'a> {
    conditions: Vec<&'static str>,
    values: Vec<&'a dyn ToSql>,
}

impl<'a> Filter<'a> {
    pub fn of(selection: &'a Selection) -> Self {
        let mut of = Self { conditions: Vec::new(), values: Vec::new() };
        let Selection { candidate, task, sample, number, verdict, reason } = selection;
        if let Some(candidate) = candidate {
            of.add("{t}candidate = ?", candidate);
        }
        if let Some(task) = task {
            of.add("{t}task = ?", task);
        }
        if let Some(sample) = sample {
            of.add("{t}sample = ?", sample);
        }
        if let Some(number) = number {
            of.add(
                "({t}candidate, {t}task, {t}sample) IN
                 (SELECT candidate, task, sample FROM trials WHERE number = ?)",
                number,
            );
        }
        for (of_trial, value) in [
            (
                "({t}candidate, {t}task, {t}sample) IN
              (SELECT candidate, task, sample FROM trials WHERE verdict = ?)",
                verdict,
            ),
            (
                "({t}candidate, {t}task, {t}sample) IN
              (SELECT candidate, task, sample FROM trials WHERE ? IN (reason,
               substr(reason, 1, instr(reason || ': ', ': ') - 1),
               substr(reason, instr(reason, ': ') + 2)))",
                reason,
            ),
        ] {
            if let Some(value) = value {
                of.add(of_trial, value);
            }
        }
        of
    }

    fn add(&mut self, condition: &'static str, value: &'a dyn ToSql) {
        self.conditions.push(condition);
        self.values.push(value);
    }

    /// The clause, of columns of one table. Places for values are numbered, so that it can be used twice.
    pub fn clause(&self, table: &str) -> String {
        let numbered = self.conditions.iter().enumerate().map(|(index, condition)| {
            let condition = condition.replace('?', &format!("?{}", index + 1));
            condition.replace("{t}", table)
        });
        let all = numbered.collect::<Vec<_>>().join(" AND ");
        if all.is_empty() { all } else { format!("WHERE {all}") }
    }

    pub fn rows<T>(
        &self,
        record: &Record,
        sql: &str,
        read: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> rusqlite::Result<Vec<T>> {
        let mut statement = record.connection.prepare_cached(sql)?;
        statement.query_map(self.values.as_slice(), read)?.collect()
    }
}

fn group<T>(rows: Vec<(TrialKey, T)>) -> BTreeMap<TrialKey, Vec<T>> {
    let mut groups = BTreeMap::<TrialKey, Vec<T>>::new();
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
    word: Option<&str>,
    reason: Option<&str>,
) -> rusqlite::Result<Option<Verdict>> {
    word.map(|word| Verdict::parse(word, reason)).transpose().map_err(conversion)
}

/// The verdict in a column and its reason in the next; `None` where there is none.
pub(crate) fn verdict_at(row: &Row<'_>, column: usize) -> rusqlite::Result<Option<Verdict>> {
    let text = |column: usize| -> rusqlite::Result<Option<&str>> {
        row.get_ref(column)?.as_str_or_null().map_err(rusqlite::Error::from)
    };
    verdict(text(column)?, text(column + 1)?)
}

pub(crate) fn key_at(row: &Row<'_>, column: usize) -> rusqlite::Result<TrialKey> {
    let (candidate, task) = (row.get(column)?, row.get(column + 1)?);
    Ok(TrialKey { candidate, task, sample: row.get(column + 2)? })
}

fn trial_row(row: &Row<'_>) -> rusqlite::Result<TrialRow> {
    Ok(TrialRow {
        number: row.get(0)?,
        key: key_at(row, 1)?,
        round: row.get(4)?,
        prompt: row.get(5)?,
        verdict: verdict_at(row, 6)?,
        begun: row.get(8)?,
        ended: row.get(9)?,
        helped: row.get(10)?,
        counts_from: row.get(11)?,
        attempts: Vec::new(),
        requests: Vec::new(),
        steps: Vec::new(),
    })
}

fn attempt_row(row: &Row<'_>) -> rusqlite::Result<AttemptRow> {
    let list = |column: usize| -> rusqlite::Result<Vec<String>> {
        let text: Option<String> = row.get(column)?;
        text.map_or_else(|| Ok(Vec::new()), |it| serde_json::from_str(&it).map_err(conversion))
    };
    Ok(AttemptRow {
        number: row.get(3)?,
        answer_kind: row.get(4)?,
        answer: row.get(5)?,
        end: match (row.get(6)?, row.get(27)?) {
            (true, _) => AnswerEnd::CutOff,
            (false, true) => AnswerEnd::Refused,
            (false, false) => AnswerEnd::Complete,
        },
        verdict: verdict_at(row, 7)?,
        tests_passed: row.get::<_, Option<u32>>(9)?.unwrap_or(0),
        tests_total: row.get::<_, Option<u32>>(10)?.unwrap_or(0),
        credit: row.get::<_, Option<f64>>(11)?.unwrap_or(0.0),
        deviations: list(12)?,
        code: row.get(13)?,
        message: row.get(14)?,
        notes: list(15)?,
        feedback: row.get(16)?,
        judge_seconds: row.get::<_, Option<f64>>(17)?.unwrap_or(0.0),
        tests: row.get(18)?,
        change: row.get(19)?,
        ended_as: row.get(20)?,
        trouble: trouble(row, 21)?,
        answer_seconds: row.get(26)?,
        reading: match row.get::<_, Option<String>>(28)? {
            Some(text) => serde_json::from_str(&text).map_err(conversion)?,
            None => ReadingNotes::default(),
        },
        reused: row.get(29)?,
    })
}

/// The counts of trouble from a column on; `None` where it was not looked for.
fn trouble(row: &Row<'_>, from: usize) -> rusqlite::Result<Option<Trouble>> {
    let Some(same_failure) = row.get(from)? else { return Ok(None) };
    let count =
        |place: usize| row.get::<_, Option<u32>>(from + place).map(Option::unwrap_or_default);
    Ok(Some(Trouble {
        same_failure,
        undone: count(1)?,
        repeated: count(2)?,
        turned_red: count(3)?,
        false_claims: count(4)?,
    }))
}

fn step_row(row: &Row<'_>) -> rusqlite::Result<StepRow> {
    Ok(StepRow {
        round: row.get(3)?,
        attempt: row.get(4)?,
        number: row.get(5)?,
        at: row.get(6)?,
        kind: row.get(7)?,
        subject: row.get(8)?,
        outcome: row.get(9)?,
        detail: row.get(10)?,
        seconds: row.get(11)?,
        files: row.get::<_, Option<String>>(12)?.zip(row.get(13)?),
    })
}

fn request_row(row: &Row<'_>) -> rusqlite::Result<RequestRow> {
    let count = |column: usize| row.get::<_, i64>(column).map(|it| it.max(0) as u64);
    Ok(RequestRow {
        round: row.get(3)?,
        attempt: row.get(4)?,
        number: row.get(5)?,
        outcome: row.get(6)?,
        detail: row.get(7)?,
        status: row.get(8)?,
        seconds: row.get(9)?,
        first_token: row.get(10)?,
        tokens: Tokens {
            input: count(11)?,
            cached: count(12)?,
            output: count(13)?,
            reasoning: count(17)?,
        },
        estimated: row.get(14)?,
        cost: row.get(15)?,
        sent: row.get(16)?,
        thought: row.get(18)?,
    })
}
