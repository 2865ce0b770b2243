//! Drivers: what serves calls, or reports tests, in the candidate's own process. One file a language.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use fairtrial_core::language::TestRunner;
use fairtrial_core::testrun::ReportKind;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_sandbox::{Archive, SandboxError};

use crate::context::{JudgeContext, JudgeError};
use crate::probe;

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

/// Lets packages of Python's be imported, where a task names some.
const PACKAGES: (&str, &str) = ("packages.py", include_str!("drivers/packages.py"));

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

    /// Its files, to be unpacked.
    pub fn archive(self) -> Result<Archive, JudgeError> {
        archive(self.files)
    }
}

/// A driver, ready to be unpacked.
#[derive(Debug)]
pub struct DriverFiles {
    /// Its files.
    pub files: Archive,
    /// The file to be run in place of the driver's own, where it was compiled ahead.
    pub compiled: Option<String>,
}

impl Driver {
    /// The driver for a tool. Python's is compiled by the tool itself, once: that takes as long as
    /// the interpreter's start.
    pub fn prepare(self, context: &JudgeContext<'_>) -> Result<DriverFiles, JudgeError> {
        let Some((name, source)) = self.files.first().filter(|it| it.0.ends_with(".py")) else {
            return Ok(DriverFiles { files: self.archive()?, compiled: None });
        };
        let mut tree = tree(self.files)?;
        if !context.task.packages.is_empty() {
            tree.insert(parse(PACKAGES.0)?, PACKAGES.1.as_bytes().to_vec());
        }
        let Some(bytes) = compiled(context, source) else {
            return Ok(DriverFiles { files: Archive::of(&tree)?, compiled: None });
        };
        let name = format!("{name}c");
        tree.insert(parse(&name)?, bytes.to_vec());
        Ok(DriverFiles { files: Archive::of(&tree)?, compiled: Some(name) })
    }
}

/// Writes a module's code, as Python keeps it, of the source on standard input.
const COMPILE: &str = "import sys, marshal, importlib.util as u\n\
    code = compile(sys.stdin.read(), '/opt/driver/driver.py', 'exec', dont_inherit=True)\n\
    sys.stdout.buffer.write(u.MAGIC_NUMBER + bytes(12) + marshal.dumps(code))\n";

/// What was compiled, by tool and source; `None` where that failed, and the source has to do.
type Compiled = BTreeMap<(PathBuf, &'static str), Option<Arc<[u8]>>>;

fn compiled(context: &JudgeContext<'_>, source: &'static str) -> Option<Arc<[u8]>> {
    static DONE: Mutex<Compiled> = Mutex::new(BTreeMap::new());
    let mut done = DONE.lock().unwrap_or_else(PoisonError::into_inner);
    let key = (context.tool.program.clone(), source);
    done.entry(key).or_insert_with(|| compile(context, source).map(Arc::from)).clone()
}

fn compile(context: &JudgeContext<'_>, source: &str) -> Option<Vec<u8>> {
    let args = ["-I", "-S", "-c", COMPILE].map(str::to_owned);
    let tool = context.tool;
    let asked =
        probe::ask(context.sandbox(), &tool.program, &args, &tool.folders, source.as_bytes())
            .ok()?;
    (asked.stdout.bytes.len() > 16).then_some(asked.stdout.bytes)
}

/// What runs whole programs of a language, where they are not run by the tool alone.
pub fn program_driver(language: &str) -> Result<Option<Archive>, JudgeError> {
    match language {
        "python" => archive(&[(
            "driver.py",
            concat!(include_str!("drivers/packages.py"), include_str!("drivers/program.py")),
        )])
        .map(Some),
        _ => Ok(None),
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
    pub fn of(language: &str, runner: &TestRunner) -> Option<Self> {
        if runner.report != ReportKind::Lines {
            return None;
        }
        match language {
            "python" => Some(Self {
                files: &[(
                    "driver.py",
                    concat!(include_str!("drivers/packages.py"), include_str!("drivers/unit.py")),
                )],
            }),
            "javascript" => Some(Self {
                files: &[
                    ("driver.js", include_str!("drivers/unit.js")),
                    ("reporter.js", include_str!("drivers/reporter.js")),
                ],
            }),
            _ => None,
        }
    }

    /// Its files, to be unpacked.
    pub fn archive(self) -> Result<Archive, JudgeError> {
        archive(self.files)
    }
}

fn archive(files: &[(&str, &str)]) -> Result<Archive, JudgeError> {
    Ok(Archive::of(&tree(files)?)?)
}

fn tree(files: &[(&str, &str)]) -> Result<FileTree, JudgeError> {
    let entry = |(name, source): &(&str, &str)| Ok((parse(name)?, source.as_bytes().to_vec()));
    files.iter().map(entry).collect()
}

fn parse(name: &str) -> Result<RelPath, JudgeError> {
    RelPath::parse(name)
        .map_err(|error| JudgeError::Sandbox(SandboxError::SetUp(error.to_string())))
}
