//! Drivers: what serves calls in the candidate's own process. One file a language.

use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_sandbox::{Archive, ArchiveError, SandboxError};

use crate::bench::JudgeError;

/// The driver of a language.
#[derive(Debug, Clone, Copy)]
pub struct Driver {
    /// Its file, in the driver's folder.
    file: &'static str,
    source: &'static str,
    /// Whether it can serve each call by a copy of itself in which nothing else has happened.
    pub forks: bool,
}

/// Every driver, with the extensions of the files that it loads.
const DRIVERS: &[(&[&str], Driver)] = &[
    (&["py"], Driver { file: "driver.py", source: include_str!("drivers/python.py"), forks: true }),
    (
        &["js", "mjs", "cjs"],
        Driver { file: "driver.js", source: include_str!("drivers/javascript.js"), forks: false },
    ),
];

impl Driver {
    /// The driver for files with this extension.
    pub fn of(extension: &str) -> Option<Self> {
        DRIVERS.iter().find(|it| it.0.contains(&extension)).map(|it| it.1)
    }

    /// Its files, to be laid out.
    pub fn archive(self) -> Result<Archive, JudgeError> {
        let wrong = |error: fairtrial_core::tree::PathError| {
            JudgeError::Sandbox(SandboxError::SetUp(error.to_string()))
        };
        let path = RelPath::parse(self.file).map_err(wrong)?;
        let files = FileTree::from([(path, self.source.as_bytes().to_vec())]);
        Archive::of(&files).map_err(|error: ArchiveError| error.into())
    }
}
