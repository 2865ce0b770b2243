//! From each version of the database's layout to the next. A migration is never edited, only followed by
//! another.

use rusqlite::{Connection, params};

use crate::blob;

/// The newest version.
pub const NEWEST: u32 = 8;

/// Makes the layout of `version` out of the one before it.
///
/// # Errors
/// When the database refuses, or a stored text is damaged.
pub fn apply(connection: &Connection, version: u32) -> rusqlite::Result<()> {
    match version {
        1 => connection.execute_batch(include_str!("1-trials.sql")),
        2 => connection.execute_batch(include_str!("2-gradings.sql")),
        3 => {
            connection.execute_batch(include_str!("3-natural-keys.sql"))?;
            gather_tests(connection)?;
            connection.execute_batch(include_str!("3-drop-old.sql"))
        }
        4 => connection.execute_batch(include_str!("4-changes-and-steps.sql")),
        5 => connection.execute_batch(include_str!("5-trouble.sql")),
        6 => connection.execute_batch(include_str!("6-reading.sql")),
        7 => connection.execute_batch(include_str!("7-figures.sql")),
        _ => connection.execute_batch(include_str!("8-asking.sql")),
    }
}

/// How many times more bytes texts may unpack to than the database has, all of them together. Ours pack
/// to a tenth at best; a record from a stranger must not keep anybody busy.
const UNPACKED_MAX: u64 = 50;

/// Puts the tests of each attempt, of which each was a text of its own, into one text.
fn gather_tests(connection: &Connection) -> rusqlite::Result<()> {
    let number = |name: &str| connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
    let size = number("page_count")?.max(0) as u64 * number("page_size")?.max(0) as u64;
    let mut left = size.saturating_mul(UNPACKED_MAX);
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
        let mut array = b"[".to_vec();
        for digest in &digests {
            let detail = blob::load(connection, digest)?;
            left = left.checked_sub(detail.len() as u64).ok_or_else(too_much)?;
            if array.len() > 1 {
                array.push(b',');
            }
            array.extend(detail);
            if array.len() > blob::TEXT_MAX {
                return Err(too_much());
            }
        }
        array.push(b']');
        let digest = blob::store(connection, &array)?;
        set.execute(params![candidate, task, sample, attempt, digest.as_str()])?;
    }
    Ok(())
}

fn too_much() -> rusqlite::Error {
    let why = "its tests unpack to more than a database of this size can have";
    rusqlite::Error::ToSqlConversionFailure(why.into())
}
