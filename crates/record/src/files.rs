//! The files of a record, opened with suspicion: a record may come from a stranger.
//!
//! No link is followed, nothing but regular files is opened, and nothing is waited for.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read as _};
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

use crate::RecordError;

/// The database's file.
pub const DATABASE: &str = "trials.sqlite";

/// The file whose lock a run holds.
pub const LOCK: &str = "lock";

/// What the database's file may have beside it.
const BESIDE: &[&str] = &["trials.sqlite-wal", "trials.sqlite-shm", "trials.sqlite-journal"];

/// Makes an error of the disk's.
pub fn io(what: &'static str, path: &Path) -> impl Fn(io::Error) -> RecordError + use<> {
    let path = path.to_owned();
    move |source| RecordError::Io { what, path: path.clone(), source }
}

/// Opens a regular file. `None` when there is none.
///
/// # Errors
/// When it is a link, a folder, a pipe or the like, or the disk refuses.
pub fn open(path: &Path, options: &mut OpenOptions) -> Result<Option<File>, RecordError> {
    // A pipe without a writer must not be waited for.
    let opened =
        options.custom_flags(libc::O_NOFOLLOW | libc::O_NONBLOCK | libc::O_CLOEXEC).open(path);
    let file = match opened {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) if error.raw_os_error() == Some(libc::ELOOP) => {
            return Err(RecordError::NotAFile(path.to_owned()));
        }
        Err(error) => return Err(io("open", path)(error)),
    };
    if !file.metadata().map_err(io("look at", path))?.is_file() {
        return Err(RecordError::NotAFile(path.to_owned()));
    }
    Ok(Some(file))
}

/// Reads a regular file of at most `most` bytes. `None` when there is none.
///
/// # Errors
/// As [`open`], and when it is longer.
pub fn read(path: &Path, most: u64) -> Result<Option<Vec<u8>>, RecordError> {
    let Some(file) = open(path, OpenOptions::new().read(true))? else { return Ok(None) };
    let mut bytes = Vec::new();
    file.take(most + 1).read_to_end(&mut bytes).map_err(io("read", path))?;
    if bytes.len() as u64 > most {
        let why = format!("`{}` is longer than {} MiB", path.display(), most >> 20);
        let path = path.parent().unwrap_or(path).to_owned();
        return Err(RecordError::Damaged { path, why });
    }
    Ok(Some(bytes))
}

/// The database of a record, when it and what stands beside it are regular files. `None` when there
/// is none.
///
/// # Errors
/// When one of them is something else.
pub fn database(folder: &Path) -> Result<Option<PathBuf>, RecordError> {
    // The database refuses links anywhere on its path; those above the record are the user's own.
    let folder = fs::canonicalize(folder).map_err(io("find", folder))?;
    let regular = |name: &str| {
        let path = folder.join(name);
        match fs::symlink_metadata(&path) {
            Ok(meta) if meta.is_file() => Ok(Some(path)),
            Ok(_) => Err(RecordError::NotAFile(path)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(io("look at", &path)(error)),
        }
    };
    for name in BESIDE {
        regular(name)?;
    }
    regular(DATABASE)
}

/// Whether changes stand beside the database that are not in it yet: its last run was killed.
pub fn has_changes_beside(database: &Path) -> bool {
    let folder = database.parent().unwrap_or(Path::new("."));
    let is_there = |name: &&str| fs::metadata(folder.join(name)).is_ok_and(|it| it.len() > 0);
    ["trials.sqlite-wal", "trials.sqlite-journal"].iter().any(is_there)
}

/// How many times larger a file may be than the room that it takes: some file systems compress.
const HOLES_MAX: u64 = 64;

/// Copies the database, with what stands beside it, into a folder.
///
/// # Errors
/// When the disk refuses.
pub fn copy_database(database: &Path, to: &Path) -> Result<PathBuf, RecordError> {
    let folder = database.parent().unwrap_or(Path::new("."));
    for name in [DATABASE, "trials.sqlite-wal", "trials.sqlite-journal"] {
        let from = folder.join(name);
        if from.exists() {
            let meta = fs::symlink_metadata(&from).map_err(io("look at", &from))?;
            // A copy would fill the disk with what takes no room where it is.
            if meta.len() > HOLES_MAX * (meta.blocks() * 512 + (1 << 20)) {
                let why = format!("`{name}` is hardly anything but holes");
                return Err(RecordError::Damaged { path: folder.to_owned(), why });
            }
            fs::copy(&from, to.join(name)).map_err(io("copy", &from))?;
        }
    }
    Ok(to.join(DATABASE))
}
