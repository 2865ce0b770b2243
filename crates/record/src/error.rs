//! What can go wrong with a record.

use std::io;
use std::path::PathBuf;

/// What can go wrong with a record.
#[derive(Debug, thiserror::Error)]
pub enum RecordError {
    /// The disk, or the lack of something on it.
    #[error("failed to {what} `{path}`")]
    Io {
        /// What was tried, such as `write`.
        what: &'static str,
        /// On what.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: io::Error,
    },
    /// The database.
    #[error("failed to {what} in the record `{path}`")]
    Database {
        /// What was tried.
        what: &'static str,
        /// The record.
        path: PathBuf,
        /// What the database said.
        #[source]
        source: rusqlite::Error,
    },
    /// There is no record.
    #[error("`{0}` is no record: it holds no `manifest.json`")]
    NotARecord(PathBuf),
    /// A newer version of the tool wrote it.
    #[error(
        "{what} of the record `{path}` has format {found}; this version reads up to {known}: use a \
         newer one"
    )]
    Newer {
        /// The manifest or the database.
        what: &'static str,
        /// The record.
        path: PathBuf,
        /// Its format.
        found: u32,
        /// The newest that is known.
        known: u32,
    },
    /// A file of the record is a link, a folder, a pipe or the like.
    #[error("`{0}` is no regular file: a record holds no links, pipes or devices")]
    NotAFile(PathBuf),
    /// The manifest is there, and no database.
    #[error("the record `{0}` has no `trials.sqlite`: it is not whole")]
    NoDatabase(PathBuf),
    /// The database is none that this tool makes.
    #[error("the database of the record `{path}` is {what}")]
    NotOurs {
        /// The record.
        path: PathBuf,
        /// What it is.
        what: &'static str,
    },
    /// The manifest is malformed.
    #[error("`{path}` is malformed")]
    Manifest {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        #[source]
        source: serde_json::Error,
    },
    /// Another run is writing to it.
    #[error("{by} is writing to the record `{path}`")]
    Locked {
        /// The record.
        path: PathBuf,
        /// Who, in words: the process and its machine.
        by: String,
    },
    /// The database is there, and no manifest.
    #[error("the record `{0}` has trials and no `manifest.json`: it is not whole")]
    NoManifest(PathBuf),
    /// Somebody looks at it, and does not come to an end.
    #[error("the record `{0}` is being looked at")]
    LookedAt(PathBuf),
    /// What is stored contradicts itself.
    #[error("the record `{path}` is damaged: {why}")]
    Damaged {
        /// The record.
        path: PathBuf,
        /// What does not fit.
        why: String,
    },
}

impl RecordError {
    /// Whether the disk is full: nothing that was committed is lost, and the run can go on later.
    #[must_use]
    pub fn is_disk_full(&self) -> bool {
        match self {
            Self::Io { source, .. } => {
                matches!(source.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded)
            }
            Self::Database { source, .. } => matches!(
                source.sqlite_error_code(),
                Some(rusqlite::ErrorCode::DiskFull | rusqlite::ErrorCode::SystemIoFailure)
            ),
            _ => false,
        }
    }
}
