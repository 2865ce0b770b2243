//! The lock of a record: who writes to it, and where.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{Read as _, Seek as _, Write as _};
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use crate::RecordError;
use crate::files::{self, LOCK};

/// How long a run waits for those who look at its record.
const PATIENCE: Duration = Duration::from_secs(10);

/// Longest text that is read of who has the lock, in bytes.
const HOLDER_MAX: u64 = 300;

/// Locks a record to write to it. Those who look have it for moments only, and are waited for.
///
/// # Errors
/// When another run has it, or somebody looks for too long.
pub fn lock(folder: &Path) -> Result<File, RecordError> {
    let path = folder.join(LOCK);
    let mut options = OpenOptions::new();
    let opened = files::open(&path, options.create(true).truncate(false).read(true).write(true))?;
    let Some(mut lock) = opened else { return Err(RecordError::NotAFile(path)) };
    let begun = Instant::now();
    loop {
        match lock.try_lock() {
            Ok(()) => {
                sign(&mut lock).map_err(files::io("write", &path))?;
                return Ok(lock);
            }
            Err(TryLockError::WouldBlock) => {
                // A run holds it alone, so it cannot be shared: there is nothing to wait for.
                match lock.try_lock_shared() {
                    Ok(()) => lock.unlock().map_err(files::io("unlock", &path))?,
                    Err(_) => return Err(locked(folder)),
                }
                if begun.elapsed() > PATIENCE {
                    return Err(RecordError::LookedAt(folder.to_owned()));
                }
                thread::sleep(Duration::from_millis(20));
            }
            Err(TryLockError::Error(error)) => return Err(files::io("lock", &path)(error)),
        }
    }
}

/// Whether a run writes to a record now.
///
/// # Errors
/// When the lock cannot be looked at.
pub fn is_being_written(folder: &Path) -> Result<bool, RecordError> {
    let path = folder.join(LOCK);
    let lock = files::open(&path, OpenOptions::new().read(true))?;
    let Some(lock) = lock else { return Ok(false) };
    match lock.try_lock_shared() {
        Ok(()) => Ok(false),
        Err(TryLockError::WouldBlock) => Ok(true),
        Err(TryLockError::Error(error)) => Err(files::io("lock", &path)(error)),
    }
}

/// Writes down who has the lock.
fn sign(lock: &mut File) -> std::io::Result<()> {
    let host = fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    lock.set_len(0)?;
    lock.rewind()?;
    writeln!(lock, "process {} on {}", std::process::id(), host.trim())
}

/// That another run writes to a record, and which one.
pub fn locked(folder: &Path) -> RecordError {
    let mut by = String::new();
    if let Ok(Some(file)) = files::open(&folder.join(LOCK), OpenOptions::new().read(true)) {
        let _ = file.take(HOLDER_MAX).read_to_string(&mut by);
    }
    let by = match by.trim() {
        "" => "another run".to_owned(),
        by => by.to_owned(),
    };
    RecordError::Locked { path: folder.to_owned(), by }
}
