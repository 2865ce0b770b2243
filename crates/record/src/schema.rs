//! The database's layout and its versions.

use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::limits::Limit;
use rusqlite::{Connection, OpenFlags};

use crate::blob::TEXT_MAX;
use crate::migrations;
pub use crate::migrations::NEWEST;

/// Marks the file as ours: "FTrl" in ASCII.
const APPLICATION_ID: i64 = 0x4654_726C;

/// Why a database cannot be used.
#[derive(Debug)]
pub enum SchemaRefusal {
    /// It says so itself.
    Sqlite(rusqlite::Error),
    /// It is of a newer version than this tool knows.
    Newer(u32),
    /// It is another program's.
    Foreign,
    /// It does not have a record's tables, or has more.
    OtherTables,
}

impl From<rusqlite::Error> for SchemaRefusal {
    fn from(error: rusqlite::Error) -> Self {
        Self::Sqlite(error)
    }
}

/// Settings without which a database from a stranger could do more than hold rows.
pub fn distrust(connection: &Connection) -> rusqlite::Result<()> {
    connection.busy_timeout(Duration::from_secs(10))?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_VIEW, false)?;
    connection.set_limit(Limit::SQLITE_LIMIT_LENGTH, TEXT_MAX as i32)?;
    connection.pragma_update(None, "cell_size_check", true)?;
    connection.pragma_update(None, "mmap_size", 0)?;
    Ok(())
}

/// Checks that a database is one of ours: its mark, its version, and that it holds our tables and
/// nothing else. Gives its version; 0 when it is empty.
pub fn check(connection: &Connection) -> Result<u32, SchemaRefusal> {
    let number = |name: &str| connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
    let (mark, version) = (number("application_id")?, number("user_version")?);
    let found = layout(connection)?;
    if mark == 0 && version == 0 && found.is_empty() {
        return Ok(0);
    }
    if mark != APPLICATION_ID {
        return Err(SchemaRefusal::Foreign);
    }
    let version = u32::try_from(version).unwrap_or(u32::MAX);
    if version > NEWEST {
        return Err(SchemaRefusal::Newer(version));
    }
    let own = Connection::open_in_memory()?;
    for version in 1..=version {
        migrations::apply(&own, version)?;
    }
    if version == 0 || found != layout(&own)? {
        return Err(SchemaRefusal::OtherTables);
    }
    Ok(version)
}

/// Everything that a database is made of, by kind and name, with the statement that made it.
fn layout(connection: &Connection) -> rusqlite::Result<Vec<[Option<String>; 4]>> {
    let mut statement = connection
        .prepare("SELECT type, name, tbl_name, sql FROM sqlite_schema ORDER BY type, name")?;
    let row = |row: &rusqlite::Row<'_>| Ok([row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?]);
    statement.query_map([], row)?.collect()
}

/// Makes the layout of a database that is to be written to the newest one.
pub fn migrate(connection: &mut Connection) -> Result<(), SchemaRefusal> {
    let found = check(connection)?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    // An answer that was paid for must survive a power cut, too.
    connection.pragma_update(None, "synchronous", "full")?;
    connection.pragma_update(None, "foreign_keys", true)?;
    if found < NEWEST {
        let transaction = connection.transaction()?;
        for version in found + 1..=NEWEST {
            migrations::apply(&transaction, version)?;
        }
        transaction.pragma_update(None, "application_id", APPLICATION_ID)?;
        transaction.pragma_update(None, "user_version", NEWEST)?;
        transaction.commit()?;
    }
    Ok(())
}

/// How a database is opened that nobody writes to: as it is, and without a file beside it. Here and below, a
/// connection is one thread's at a time, which the compiler sees to: SQLite's own locks are not needed.
pub const UNCHANGING: OpenFlags = OpenFlags::SQLITE_OPEN_READ_ONLY
    .union(OpenFlags::SQLITE_OPEN_NOFOLLOW)
    .union(OpenFlags::SQLITE_OPEN_NO_MUTEX)
    .union(OpenFlags::SQLITE_OPEN_URI);

/// How a database is opened that a run writes to.
pub const CHANGING: OpenFlags = OpenFlags::SQLITE_OPEN_READ_ONLY
    .union(OpenFlags::SQLITE_OPEN_NO_MUTEX)
    .union(OpenFlags::SQLITE_OPEN_NOFOLLOW);

/// How a run opens it.
pub const WRITING: OpenFlags = OpenFlags::SQLITE_OPEN_READ_WRITE
    .union(OpenFlags::SQLITE_OPEN_CREATE)
    .union(OpenFlags::SQLITE_OPEN_NO_MUTEX)
    .union(OpenFlags::SQLITE_OPEN_NOFOLLOW);
