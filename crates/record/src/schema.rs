//! The database's layout and its versions.

use rusqlite::Connection;

/// Marks the file as ours: "FTrl" in ASCII.
const APPLICATION_ID: i64 = 0x4654_726C;

/// Every version of the layout. A migration is never edited, only followed by another.
const MIGRATIONS: &[&str] = &[include_str!("schema.sql"), include_str!("regrades.sql")];

/// Makes the layout the newest one.
///
/// `Ok(Err(version))` when the file is of a newer version than this tool knows.
pub fn prepare(connection: &mut Connection) -> rusqlite::Result<Result<(), u32>> {
    connection.busy_timeout(std::time::Duration::from_secs(10))?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    // An answer that was paid for must survive a power cut, too.
    connection.pragma_update(None, "synchronous", "full")?;
    connection.pragma_update(None, "foreign_keys", true)?;
    let found: u32 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    let known = MIGRATIONS.len() as u32;
    if found > known {
        return Ok(Err(found));
    }
    if found < known {
        let transaction = connection.transaction()?;
        for migration in &MIGRATIONS[found as usize..] {
            transaction.execute_batch(migration)?;
        }
        transaction.pragma_update(None, "application_id", APPLICATION_ID)?;
        transaction.pragma_update(None, "user_version", known)?;
        transaction.commit()?;
    }
    Ok(Ok(()))
}
