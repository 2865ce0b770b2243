//! Drivers: what serves calls, or reports tests, in the candidate's own process. One file a language.

use fairtrial_core::recipe::Runner;
use fairtrial_core::testrun::ReportKind;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_sandbox::{Archive, SandboxError};

use crate::bench::JudgeError;

/// The driver of a language.
#[derive(Debug, Clone, Copy)]
pub struct Driver {
    /// Its files, in the driver's folder. The first is the driver itself.
    files: &'static [(&'static str, &'static str)],
    /// Whether it can serve each call by a copy of itself in which nothing else has happened.
    pub forks: bool,
    /// Whether it is compiled together with the candidate's file.
    pub is_shim: bool,
}

const PYTHON: Driver = Driver {
    files: &[("driver.py", include_str!("drivers/python.py"))],
    forks: true,
    is_shim: false,
};

const JAVASCRIPT: Driver = Driver {
    files: &[("driver.js", include_str!("drivers/javascript.js"))],
    forks: false,
    is_shim: false,
};

const TYPESCRIPT: Driver = Driver { files: &[JAVASCRIPT.files[0], STRIP], ..JAVASCRIPT };

const RUST: Driver = Driver { files: &[], forks: false, is_shim: true };

/// Takes the types out of TypeScript.
const STRIP: (&str, &str) = ("strip.js", include_str!("drivers/strip.js"));

impl Driver {
    /// The driver for files with this extension.
    pub fn of(extension: &str) -> Option<Self> {
        match extension {
            "py" => Some(PYTHON),
            "js" | "mjs" | "cjs" => Some(JAVASCRIPT),
            "ts" | "mts" | "cts" => Some(TYPESCRIPT),
            "rs" => Some(RUST),
            _ => None,
        }
    }

    /// Its files, to be laid out.
    pub fn archive(self) -> Result<Archive, JudgeError> {
        archive(self.files)
    }
}

/// What builds of a language find in the driver's folder; `None` where they need nothing.
pub fn build_tools(language: &str) -> Result<Option<Archive>, JudgeError> {
    if language == "typescript" { archive(&[STRIP]).map(Some) } else { Ok(None) }
}

/// The driver of a runner that reports by [`ReportKind::Lines`].
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
