//! Drivers: what serves calls, runs whole programs or reports tests in the candidate's own process. Their
//! files belong to the language.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use fairtrial_core::language::{DriverSet, Precompile};
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_sandbox::{Archive, SandboxError};

use crate::context::{JudgeContext, JudgeError};
use crate::probe;

/// The driver of calls, ready to be unpacked.
#[derive(Debug)]
pub struct CallDriver {
    /// Its files.
    pub files: Archive,
    /// The file to be run in place of the driver's own, where it was compiled ahead.
    pub compiled: Option<String>,
}

impl JudgeContext<'_> {
    /// A driver of the language, ready to be unpacked; `None` where it needs none.
    ///
    /// # Errors
    /// When a file of it cannot be used.
    pub fn driver(&self, set: &DriverSet) -> Result<Option<Archive>, JudgeError> {
        if set.is_empty() {
            return Ok(None);
        }
        Ok(Some(Archive::of(&self.driver_tree(set)?)?))
    }

    /// The driver of calls. Where the tool can compile it, that is done once: it takes as long as the
    /// interpreter's start.
    ///
    /// # Errors
    /// When a file of it cannot be used.
    pub fn call_driver(&self) -> Result<CallDriver, JudgeError> {
        let drivers = &self.definition.drivers;
        let mut tree = self.driver_tree(&drivers.call)?;
        let compiled = match (tree.first_key_value(), &drivers.precompile) {
            (Some((path, source)), Some(how)) => self
                .compiled(how, source)
                .map(|bytes| (format!("{path}{}", how.suffix), bytes.to_vec())),
            _ => None,
        };
        if !self.task.packages.is_empty() {
            tree.extend(self.driver_tree(&drivers.packages)?);
        }
        let Some((name, bytes)) = compiled else {
            return Ok(CallDriver { files: Archive::of(&tree)?, compiled: None });
        };
        tree.insert(parse(&name)?, bytes);
        Ok(CallDriver { files: Archive::of(&tree)?, compiled: Some(name) })
    }

    fn driver_tree(&self, set: &DriverSet) -> Result<FileTree, JudgeError> {
        let files = self.shared.languages.driver_files(self.definition, set);
        let missing = |name| set_up(format!("the file `{name}` of a driver is not there"));
        let file = |(name, text): (&str, String)| Ok((parse(name)?, text.into_bytes()));
        files.map_err(missing)?.into_iter().map(file).collect()
    }

    /// What the tool compiled of a source; `None` where that failed, and the source has to do.
    fn compiled(&self, how: &Precompile, source: &[u8]) -> Option<Arc<[u8]>> {
        static DONE: Mutex<Compiled> = Mutex::new(BTreeMap::new());
        let mut done = DONE.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (self.tool.program.clone(), source.to_vec());
        done.entry(key).or_insert_with(|| self.compile(how, source).map(Arc::from)).clone()
    }

    fn compile(&self, how: &Precompile, source: &[u8]) -> Option<Vec<u8>> {
        let tool = self.tool;
        let asked =
            probe::ask(self.sandbox(), &tool.program, &how.args, &tool.folders, source).ok()?;
        (asked.stdout.bytes.len() > 16).then_some(asked.stdout.bytes)
    }
}

/// What was compiled, by tool and source.
type Compiled = BTreeMap<(PathBuf, Vec<u8>), Option<Arc<[u8]>>>;

fn parse(name: &str) -> Result<RelPath, JudgeError> {
    RelPath::parse(name).map_err(|error| set_up(error.to_string()))
}

fn set_up(why: String) -> JudgeError {
    JudgeError::Sandbox(SandboxError::SetUp(why))
}
