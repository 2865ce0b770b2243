//! Counts for standings: nothing loads every trial to print a table of a few lines.

use fairtrial_core::plan::Tokens;
use fairtrial_core::standings::TaskCounts;
use fairtrial_core::trouble::Trouble;

use crate::RecordError;
use crate::rows::CountsRow;
use crate::write::Record;

/// Trials by candidate and task. What an attempt lacks in a record of an older format counts as nothing.
const COUNTS: &str = "
    WITH a AS (
        SELECT candidate, task, sample, count(*) AS attempts,
            count(CASE WHEN deviations <> '[]' THEN 1 END) AS deviating,
            sum(answer_seconds) AS seconds, sum(same_failure) AS same_failure,
            sum(undone) AS undone, sum(repeated) AS repeated, sum(turned_red) AS turned_red,
            sum(false_claims) AS false_claims
        FROM attempts GROUP BY candidate, task, sample),
    r AS (
        SELECT candidate, task, sample, sum(cost) AS cost, max(estimated) AS estimated,
            sum(CASE WHEN outcome = 'answered' THEN seconds END) AS seconds,
            sum(tokens_input) AS input, sum(tokens_cached) AS cached,
            sum(tokens_output) AS output
        FROM requests GROUP BY candidate, task, sample),
    t AS (
        SELECT candidate, task, sample, helped IS NOT NULL AS helped, verdict IS NOT NULL AS over,
            coalesce(verdict IN ('pass', 'fail'), 0) AS counts, coalesce(verdict = 'pass', 0) AS passed
        FROM trials)
    SELECT t.candidate, t.task, sum(counts), sum(passed), sum(passed AND a.attempts = 1),
        sum(CASE WHEN passed THEN a.attempts - 1 END), sum(over AND NOT counts),
        sum(CASE WHEN counts THEN a.attempts END), sum(CASE WHEN counts THEN a.deviating END),
        sum(CASE WHEN counts THEN coalesce(a.seconds, r.seconds) END),
        sum(CASE WHEN over THEN r.input END), sum(CASE WHEN over THEN r.cached END),
        sum(CASE WHEN over THEN r.output END), sum(CASE WHEN over THEN r.cost END),
        sum(counts AND a.same_failure IS NOT NULL), sum(counts AND a.same_failure > 0),
        sum(counts AND a.undone > 0), sum(counts AND a.repeated > 0),
        sum(counts AND a.turned_red > 0), sum(counts AND a.false_claims > 0),
        sum(t.helped), sum(t.helped AND passed), max(r.estimated)
    FROM t LEFT JOIN a USING (candidate, task, sample) LEFT JOIN r USING (candidate, task, sample)
    GROUP BY t.candidate, t.task ORDER BY t.candidate, t.task";

impl Record {
    /// The trials of each candidate at each task, counted: one row for each pair that has any.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn counts(&self) -> Result<Vec<CountsRow>, RecordError> {
        self.read("count trials", || {
            let mut statement = self.connection.prepare(COUNTS)?;
            let rows = statement.query_map([], |row| {
                let count = |column: usize| -> rusqlite::Result<u32> {
                    Ok(row.get::<_, Option<u32>>(column)?.unwrap_or(0))
                };
                let long = |column: usize| -> rusqlite::Result<u64> {
                    Ok(row.get::<_, Option<i64>>(column)?.unwrap_or(0).max(0) as u64)
                };
                let real = |column: usize| -> rusqlite::Result<f64> {
                    Ok(row.get::<_, Option<f64>>(column)?.unwrap_or(0.0))
                };
                Ok(CountsRow {
                    counts: TaskCounts {
                        candidate: row.get(0)?,
                        task: row.get(1)?,
                        trials: count(2)?,
                        passed: count(3)?,
                        first_try: count(4)?,
                        repairs: count(5)?,
                        void: count(6)?,
                        answers: count(7)?,
                        deviating: count(8)?,
                        seconds: real(9)?,
                        tokens: Tokens { input: long(10)?, cached: long(11)?, output: long(12)? },
                        cost: real(13)?,
                    },
                    looked_for: count(14)?,
                    trouble: Trouble {
                        same_failure: count(15)?,
                        undone: count(16)?,
                        repeated: count(17)?,
                        turned_red: count(18)?,
                        false_claims: count(19)?,
                    },
                    helped: count(20)?,
                    helped_passed: count(21)?,
                    estimated: count(22)? > 0,
                })
            })?;
            rows.collect()
        })
    }

    /// Void trials, by reason.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub fn void_reasons(&self) -> Result<Vec<(String, u32)>, RecordError> {
        self.read("count void trials", || {
            let sql = "SELECT coalesce(reason, ''), count(*) FROM trials WHERE verdict = 'void'
                       GROUP BY reason ORDER BY reason";
            let mut statement = self.connection.prepare(sql)?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect()
        })
    }
}
