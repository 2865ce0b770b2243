//! Drivers: what serves calls in the candidate's own process. One file a language.

use fairtrial_core::recipe::Runner;
use fairtrial_core::testrun::ReportKind;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_sandbox::{Archive, SandboxError};

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

/// The driver of a runner that reports by [`ReportKind::Lines`](fairtrial_core::testrun::ReportKind).
#[derive(Debug, Clone, Copy)]
pub struct UnitDriver {
    files: &'static [(&'static str, &'static str)],
}

impl UnitDriver {
    /// The driver for a language's runner; `None` where the runner reports by itself.
    pub fn of(language: &str, runner: &Runner) -> Option<Self> {
        if runner.report != ReportKind::Lines {
            return None;
        }
        match language {
            "python" => Some(Self { files: &[("driver.py", include_str!("drivers/unit.py"))] }),
            "javascript" => Some(Self {
                files: &[
                    ("driver.js", include_str!("drivers/unit.js")),
                    ("reporter.js", include_str!("drivers/reporter.js")),
                ],
            }),
            _ => None,
        }
    }

    /// Its files, to be laid out.
    pub fn archive(self) -> Result<Archive, JudgeError> {
        archive(self.files)
    }
}

fn archive(files: &[(&str, &str)]) -> Result<Archive, JudgeError> {
    let mut tree = FileTree::new();
    for (name, source) in files {
        let path = RelPath::parse(name)
            .map_err(|error| JudgeError::Sandbox(SandboxError::SetUp(error.to_string())))?;
        tree.insert(path, source.as_bytes().to_vec());
    }
    Ok(Archive::of(&tree)?)
}

impl Driver {
    /// The driver for files with this extension.
    pub fn of(extension: &str) -> Option<Self> {
        DRIVERS.iter().find(|it| it.0.contains(&extension)).map(|it| it.1)
    }

    /// Its files, to be laid out.
    pub fn archive(self) -> Result<Archive, JudgeError> {
        archive(&[(self.file, self.source)])
    }
}
