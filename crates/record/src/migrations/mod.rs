//! From each version of the database's layout to the next. A migration is never edited, only followed by
//! another.

use rusqlite::{Connection, params};

use crate::blob;

/// The newest version.
pub const NEWEST: u32 = 3;

/// Makes the layout of `version` out of the one before it.
///
/// # Errors
/// When the database refuses, or a stored text is damaged.
pub fn apply(connection: &Connection, version: u32) -> rusqlite::Result<()> {
    match version {
        1 => connection.execute_batch(include_str!("1-trials.sql")),
        2 => connection.execute_batch(include_str!("2-gradings.sql")),
        _ => {
            connection.execute_batch(include_str!("3-natural-keys.sql"))?;
            gather_tests(connection)?;
            connection.execute_batch(include_str!("3-drop-old.sql"))
        }
    }
}

/// Puts the tests of each attempt, of which each was a text of its own, into one text.
fn gather_tests(connection: &Connection) -> rusqlite::Result<()> {
    let attempts: Vec<(i64, String, String, i64, i64)> = connection
        .prepare(
            "SELECT a.id, t.candidate, t.task, t.sample, a.number
             FROM old_attempts a JOIN old_trials t ON t.id = a.trial ORDER BY a.id",
        )?
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?)))?
        .collect::<Result<_, _>>()?;
    let mut tests =
        connection.prepare("SELECT detail FROM old_outcomes WHERE attempt = ?1 ORDER BY place")?;
    let mut set = connection.prepare(
        "UPDATE attempts SET tests = ?5
         WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND attempt = ?4",
    )?;
    for (id, candidate, task, sample, attempt) in attempts {
        let digests: Vec<String> =
            tests.query_map([id], |row| row.get(0))?.collect::<Result<_, _>>()?;
        if digests.is_empty() {
            continue;
        }
        let details = digests.iter().map(|it| blob::load(connection, it));
        let details = details.collect::<Result<Vec<_>, _>>()?;
        let array = [b"[".as_slice(), &details.join(&b","[..]), b"]"].concat();
        let digest = blob::store(connection, &array)?;
        set.execute(params![candidate, task, sample, attempt, digest.as_str()])?;
    }
    Ok(())
}
