//! Trials that are held again although they are not void, and prices that are corrected: what there was before is kept.

use fairtrial_core::plan::Price;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::Verdict;
use rusqlite::{Connection, OptionalExtension as _, params};

use crate::read::{key_at, verdict_at};
use crate::write::Record;
use crate::{RecordError, blob, refresh};

/// What a trial had come to before it was set aside.
#[derive(Debug, Clone, PartialEq)]
pub struct EarlierRow {
    /// Which trial.
    pub key: TrialKey,
    /// In which round of it.
    pub round: u32,
    /// What it had come to.
    pub verdict: Verdict,
    /// Why it was set aside, such as `failed` or `changed`.
    pub why: String,
    /// When, in UTC, RFC 3339.
    pub at: String,
}

impl Record {
    /// Sets trials aside that are over, to be held again from their beginning, all in one transaction: what they came to
    /// is kept, and no longer counted. `trials` has each with its first prompt.
    ///
    /// # Errors
    /// When the database refuses, or one is not over.
    pub fn set_aside(
        &mut self,
        trials: &[(TrialKey, &str)],
        why: &str,
        at: &str,
    ) -> Result<(), RecordError> {
        self.transact("set trials aside", |transaction| {
            trials.iter().try_for_each(|(key, prompt)| set_aside(transaction, key, prompt, why, at))
        })
    }

    /// What trials had come to before they were set aside, by candidate, task, sample and round.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn earlier(&self) -> Result<Vec<EarlierRow>, RecordError> {
        self.read("read what was set aside", || {
            self.rows(
                "SELECT candidate, task, sample, round, verdict, reason, why, at FROM earlier
                 ORDER BY candidate, task, sample, round",
                |row| {
                    Ok(EarlierRow {
                        key: key_at(row, 0)?,
                        round: row.get(3)?,
                        verdict: verdict_at(row, 4)?.ok_or(rusqlite::Error::QueryReturnedNoRows)?,
                        why: row.get(6)?,
                        at: row.get(7)?,
                    })
                },
            )
        })
    }

    /// How many trials of each candidate were set aside and held again, by why.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn held_again(&self) -> Result<Vec<(String, String, usize)>, RecordError> {
        self.read("read what was set aside", || {
            self.rows(
                "SELECT candidate, why, count(*) FROM earlier GROUP BY candidate, why",
                |row| Ok((row.get(0)?, row.get(1)?, row.get::<_, i64>(2)?.max(0) as usize)),
            )
        })
    }

    /// How many answers were taken over from other records.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn reused_answers(&self) -> Result<usize, RecordError> {
        self.read("read answers", || {
            let sql = "SELECT count(*) FROM attempts WHERE reused IS NOT NULL";
            self.connection
                .query_row(sql, [], |row| row.get::<_, i64>(0).map(|it| it.max(0) as usize))
        })
    }

    /// How many trials are over of candidates and tasks that are no longer in the plan.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn dropped_over(&self) -> Result<usize, RecordError> {
        let manifest = self.manifest();
        let (candidates, tasks) = (&manifest.dropped_candidates, &manifest.dropped_tasks);
        if candidates.is_empty() && tasks.is_empty() {
            return Ok(0);
        }
        let mut over = 0;
        self.each_figures(&[], |candidate, task, _, _| {
            let is_dropped =
                candidates.iter().any(|it| it == candidate) || tasks.iter().any(|it| it == task);
            over += usize::from(is_dropped);
        })?;
        Ok(over)
    }

    /// When requests of candidates were sent since a time (UTC, RFC 3339), each with the tokens that it took.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn requests_sent(
        &self,
        candidates: &[&str],
        since: &str,
    ) -> Result<Vec<(String, u64)>, RecordError> {
        self.read("read requests", || {
            let mut statement = self.connection.prepare(
                "SELECT sent, tokens_input + tokens_output FROM requests
                 WHERE candidate = ?1 AND sent >= ?2",
            )?;
            let mut sent = Vec::new();
            for candidate in candidates {
                let row = |row: &rusqlite::Row<'_>| {
                    Ok((row.get(0)?, row.get::<_, i64>(1)?.max(0) as u64))
                };
                let rows = statement.query_map([candidate, &since], row)?;
                sent.extend(rows.collect::<Result<Vec<_>, _>>()?);
            }
            Ok(sent)
        })
    }

    /// When each request was sent, in UTC, RFC 3339, and how many seconds it took.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn request_spans(&self) -> Result<Vec<(String, f64)>, RecordError> {
        self.read("read requests", || {
            let mut statement = self.connection.prepare("SELECT sent, seconds FROM requests")?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect()
        })
    }

    /// Computes anew what the requests of a candidate cost, by a price that was corrected. Gives how many there are.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn correct_price(&mut self, candidate: &str, price: &Price) -> Result<usize, RecordError> {
        let cached = price.cached_input.unwrap_or(price.input);
        self.transact("correct a price", |transaction| {
            let changed = transaction.execute(
                "UPDATE requests SET cost = (
                    (tokens_input - min(tokens_cached, tokens_input)) * ?2
                    + min(tokens_cached, tokens_input) * ?3 + tokens_output * ?4) / 1e6
                 WHERE candidate = ?1",
                params![candidate, price.input, cached, price.output],
            )?;
            let keys: Vec<TrialKey> = transaction
                .prepare("SELECT candidate, task, sample FROM trials WHERE candidate = ?1")?
                .query_map([candidate], |row| key_at(row, 0))?
                .collect::<Result<_, _>>()?;
            keys.iter().try_for_each(|key| refresh::refresh(transaction, key))?;
            Ok(changed)
        })
    }
}

fn set_aside(
    connection: &Connection,
    key: &TrialKey,
    prompt: &str,
    why: &str,
    at: &str,
) -> rusqlite::Result<()> {
    let of = params![key.candidate, key.task, key.sample];
    let attempts: String = connection
        .prepare_cached(
            "SELECT json_group_array(json_object('attempt', attempt, 'answer_kind', answer_kind,
                'answer', answer, 'cut_off', cut_off, 'refused', refused, 'verdict', verdict,
                'reason', reason, 'tests_passed', tests_passed, 'tests_total', tests_total,
                'credit', credit, 'code', code, 'change', change, 'ended_as', ended_as,
                'message', message, 'feedback', feedback, 'tests', tests))
             FROM attempts WHERE candidate = ?1 AND task = ?2 AND sample = ?3",
        )?
        .query_row(of, |row| row.get(0))?;
    let attempts = blob::store(connection, attempts.as_bytes())?;
    let kept = connection
        .prepare_cached(
            "INSERT INTO earlier (candidate, task, sample, round, verdict, reason, why, at, attempts)
             SELECT candidate, task, sample, round, verdict, reason, ?4, ?5, ?6 FROM trials
             WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND verdict IS NOT NULL
             RETURNING round",
        )?
        .query_row(
            params![key.candidate, key.task, key.sample, why, at, attempts.as_str()],
            |row| row.get::<_, u32>(0),
        )
        .optional()?;
    if kept.is_none() {
        return Err(rusqlite::Error::StatementChangedRows(0));
    }
    for table in ["figures", "regrades", "attempts"] {
        let sql = format!("DELETE FROM {table} WHERE candidate = ?1 AND task = ?2 AND sample = ?3");
        connection.prepare_cached(&sql)?.execute(of)?;
    }
    let prompt = blob::store(connection, prompt.as_bytes())?;
    connection
        .prepare_cached(
            "UPDATE trials SET round = round + 1, counts_from = round + 1, begun = ?4,
             verdict = NULL, reason = NULL, ended = NULL, prompt = ?5
             WHERE candidate = ?1 AND task = ?2 AND sample = ?3",
        )?
        .execute(params![key.candidate, key.task, key.sample, at, prompt.as_str()])?;
    refresh::refresh(connection, key)
}
