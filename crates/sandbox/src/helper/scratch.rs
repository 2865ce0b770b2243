//! The folders of a run in tiers without a file system of their own.

use std::fs::{self, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _, chown};
use std::path::{Path, PathBuf};

use nix::unistd::getpid;

use super::identity::Identity;
use crate::job::{DRIVER, WORK};

/// A folder of the zygote's, in which a run has its own.
#[derive(Debug)]
pub struct Scratch {
    top: PathBuf,
}

impl Scratch {
    /// Makes the zygote's folder below `at`.
    pub fn below(at: &Path) -> Result<Self, String> {
        let top = at.join(format!("fairtrial-{}", getpid()));
        let made = fs::DirBuilder::new().mode(0o711).create(&top);
        made.map_err(|error| format!("folder `{}`: {error}", top.display()))?;
        Ok(Self { top })
    }

    /// Where programs find themselves.
    pub fn work(&self) -> PathBuf {
        self.top.join("work")
    }

    /// Where their temporary files go.
    pub fn tmp(&self) -> PathBuf {
        self.top.join("tmp")
    }

    /// Where the driver's files are.
    pub fn driver(&self) -> PathBuf {
        self.top.join("driver")
    }

    /// Makes the folders of a run, empty.
    pub fn fresh(&self, identity: Identity) -> Result<(), String> {
        self.clear();
        let failed_at = |error: io::Error| format!("folder in `{}`: {error}", self.top.display());
        for folder in [self.work(), self.tmp(), self.driver()] {
            fs::DirBuilder::new().mode(0o755).create(&folder).map_err(failed_at)?;
        }
        if identity.changes {
            let id = Some(identity.id);
            for folder in [self.work(), self.tmp()] {
                fs::set_permissions(&folder, Permissions::from_mode(0o700)).map_err(failed_at)?;
                chown(&folder, id, id).map_err(failed_at)?;
            }
        }
        Ok(())
    }

    /// Whether the work folder or the one for temporary files holds more than `most` bytes.
    pub fn is_over(&self, most: u64) -> bool {
        [self.work(), self.tmp()].into_iter().any(|folder| size_of(folder, most) > most)
    }

    /// Removes what a run left. Every process that could interfere is dead.
    pub fn clear(&self) {
        for folder in [self.work(), self.tmp(), self.driver()] {
            if fs::remove_dir_all(&folder).is_err() && folder.exists() {
                open_up(&folder);
                let _ = fs::remove_dir_all(&folder);
            }
        }
    }

    /// Removes everything.
    pub fn remove(self) {
        self.clear();
        let _ = fs::remove_dir(&self.top);
    }

    /// A path of the full tier, as it is here. One that is here already, or in
    /// a folder that is shown, stays.
    pub fn real(&self, path: &str, show: &[PathBuf]) -> String {
        let stays = show.iter().chain([&self.top]).any(|it| Path::new(path).starts_with(it));
        if stays {
            return path.to_owned();
        }
        for (inside, here) in [(WORK, self.work()), (DRIVER, self.driver()), ("/tmp", self.tmp())] {
            match path.strip_prefix(inside) {
                Some(rest) if rest.is_empty() || rest.starts_with('/') => {
                    return format!("{}{rest}", here.display());
                }
                _ => {}
            }
        }
        path.to_owned()
    }
}

/// Bytes below a folder, as far as they matter: adding up ends past `most`, and each file counts
/// for at least a block. A folder that its owner may not read is given that right.
fn size_of(folder: PathBuf, most: u64) -> u64 {
    const BLOCK: u64 = 512;
    let (mut sum, mut left) = (0, vec![folder]);
    while let Some(folder) = left.pop() {
        let entries = fs::read_dir(&folder).or_else(|_| {
            let _ = fs::set_permissions(&folder, Permissions::from_mode(0o700));
            fs::read_dir(&folder)
        });
        for entry in entries.into_iter().flatten().flatten() {
            let Ok(meta) = entry.metadata() else { continue };
            sum += meta.len().max(BLOCK);
            if meta.is_dir() {
                left.push(entry.path());
            }
            if sum > most {
                return sum;
            }
        }
    }
    sum
}

/// Gives the owner every right on the folders below, so that they can be emptied. Links are not
/// followed.
fn open_up(folder: &Path) {
    let mut left = vec![folder.to_owned()];
    while let Some(folder) = left.pop() {
        let _ = fs::set_permissions(&folder, Permissions::from_mode(0o700));
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                left.push(entry.path());
            }
        }
    }
}
