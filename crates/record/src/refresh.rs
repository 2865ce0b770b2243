//! Computing the figures of a trial anew, whenever a row about it changes.

use fairtrial_core::schedule::TrialKey;
use rusqlite::{Connection, params};

/// The figures of one trial, from the rows about it; none while it is under way.
pub const OF_TRIAL: &str = "
    SELECT t.candidate, t.task, t.sample, t.verdict, t.reason, a.answers, a.deviating,
        t.verdict = 'pass' AND coalesce(l.deviations, '[]') = '[]', coalesce(l.credit, 0.0),
        coalesce(a.seconds, r.seconds, 0.0), coalesce(r.input, 0), coalesce(r.cached, 0),
        coalesce(r.output, 0), coalesce(r.estimated, 0), coalesce(r.cost, 0.0), a.same_failure,
        coalesce(a.undone, 0), coalesce(a.repeated, 0), coalesce(a.turned_red, 0),
        coalesce(a.false_claims, 0), t.helped IS NOT NULL
    FROM trials t JOIN (
        SELECT count(*) AS answers, max(attempt) AS last,
            count(CASE WHEN deviations <> '[]' THEN 1 END) AS deviating,
            sum(answer_seconds) AS seconds, sum(same_failure) AS same_failure,
            sum(undone) AS undone, sum(repeated) AS repeated, sum(turned_red) AS turned_red,
            sum(false_claims) AS false_claims
        FROM attempts WHERE candidate = ?1 AND task = ?2 AND sample = ?3) a
    JOIN (
        SELECT sum(cost) AS cost, max(estimated) AS estimated,
            sum(CASE WHEN outcome = 'answered' THEN seconds END) AS seconds,
            sum(tokens_input) AS input, sum(tokens_cached) AS cached,
            sum(tokens_output) AS output
        FROM requests WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND round >= (
            SELECT counts_from FROM trials WHERE candidate = ?1 AND task = ?2 AND sample = ?3)) r
    LEFT JOIN attempts l ON l.candidate = ?1 AND l.task = ?2 AND l.sample = ?3
        AND l.attempt = a.last
    WHERE t.candidate = ?1 AND t.task = ?2 AND t.sample = ?3 AND t.verdict IS NOT NULL";

/// Columns of the table, in the order in which they are read.
pub const COLUMNS: &str =
    "candidate, task, sample, verdict, reason, answers, deviating, strict, credit, seconds,
    tokens_input, tokens_cached, tokens_output, estimated, cost, same_failure, undone, repeated,
    turned_red, false_claims, helped";

/// Computes the figures of a trial anew; while it is under way it has none.
pub fn refresh(connection: &Connection, key: &TrialKey) -> rusqlite::Result<()> {
    let of = params![key.candidate, key.task, key.sample];
    connection
        .prepare_cached("DELETE FROM figures WHERE candidate = ?1 AND task = ?2 AND sample = ?3")?
        .execute(of)?;
    connection.prepare_cached(&format!("INSERT INTO figures {OF_TRIAL}"))?.execute(of)?;
    Ok(())
}
