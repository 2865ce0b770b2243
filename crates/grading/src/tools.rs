//! Interpreters and compilers of this machine: where they really are, and which version.

use std::collections::BTreeMap;
use std::env;
use std::fs;
use std::path::{Path, PathBuf};

use fairtrial_core::language::{LanguageDefinition, Languages, TestRunner};
use fairtrial_core::task::Task;
use fairtrial_sandbox::{Sandbox, is_system};

use crate::probe;

/// What a language needs, found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tool {
    /// The interpreter or compiler itself, not a version manager's stand-in for it.
    pub program: PathBuf,
    /// Further programs, by name.
    pub also: BTreeMap<String, PathBuf>,
    /// Folders that must be visible for it to run.
    pub folders: Vec<PathBuf>,
    /// What it says of its version; empty when it says nothing.
    pub version: String,
}

/// Something a language needs is not on this machine.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{language} cannot be run here: {why}")]
pub struct ToolMissing {
    /// The language.
    pub language: String,
    /// What is missing, or what went wrong when it was asked.
    pub why: String,
}

/// The tools of every language that was asked for.
#[derive(Debug, Clone, Default)]
pub struct Toolbox {
    found: BTreeMap<String, Result<Tool, ToolMissing>>,
    /// Those of runners of unit tests, by language and name.
    runners: BTreeMap<(String, String), Result<Tool, ToolMissing>>,
    /// Packages of tasks, by language, runner and names, with their versions.
    packages: BTreeMap<Packages, Result<String, ToolMissing>>,
}

/// Language, runner (empty without one) and names of packages.
type Packages = (String, String, Vec<String>);

fn packages_of(task: &Task, runner: Option<&str>) -> Packages {
    let runner = runner.unwrap_or_default().to_owned();
    (task.language.clone(), runner, task.packages.clone())
}

impl Toolbox {
    /// Looks for the tools of the languages `names`, each once. They are asked in the sandbox.
    #[must_use]
    pub fn find<'a>(
        languages: &Languages,
        names: impl Iterator<Item = &'a str>,
        sandbox: &Sandbox,
    ) -> Self {
        let mut found = BTreeMap::new();
        for language in names {
            if found.contains_key(language) {
                continue;
            }
            let tool = match languages.find(language) {
                Some(definition) => find_tool(definition, sandbox),
                None => Err("there is no definition of it".to_owned()),
            };
            let language = language.to_owned();
            let tool = tool.map_err(|why| ToolMissing { language: language.clone(), why });
            found.insert(language, tool);
        }
        Self { found, runners: BTreeMap::new(), packages: BTreeMap::new() }
    }

    /// Looks for the packages that answers to a task may import, when its tools were looked for.
    pub fn find_packages(
        &mut self,
        languages: &Languages,
        task: &Task,
        runner: Option<&str>,
        sandbox: &Sandbox,
    ) {
        let key = packages_of(task, runner);
        if task.packages.is_empty() || self.packages.contains_key(&key) {
            return;
        }
        let tool = match runner {
            Some(runner) => self.runner(&task.language, runner),
            None => self.get(&task.language),
        };
        let (Ok(tool), Some(definition)) = (tool, languages.find(&task.language)) else { return };
        let args: Vec<String> = definition.packages.iter().chain(&task.packages).cloned().collect();
        let asked = probe::ask(sandbox, &tool.program, &args, &tool.folders, &[]);
        let versions = asked.map(|it| probe::said(&it).trim().to_owned());
        let language = format!("{} with {}", task.language, task.packages.join(", "));
        let missing =
            |_| ToolMissing { language, why: "not all of these are installed".to_owned() };
        self.packages.insert(key, versions.map_err(missing));
    }

    /// The tools that answers to a task are run with: those of its runner, where it has one.
    ///
    /// # Errors
    /// When they, or the task's packages, are not on this machine, or were not looked for.
    pub fn of_task(&self, task: &Task, runner: Option<&str>) -> Result<&Tool, ToolMissing> {
        if let Some(Err(missing)) = self.packages.get(&packages_of(task, runner)) {
            return Err(missing.clone());
        }
        match runner {
            Some(runner) => self.runner(&task.language, runner),
            None => self.get(&task.language),
        }
    }

    /// Packages that were looked for: the language, and names with versions or what is missing.
    pub fn packages(&self) -> impl Iterator<Item = (&str, &Result<String, ToolMissing>)> {
        self.packages.iter().map(|(key, found)| (key.0.as_str(), found))
    }

    /// Looks for a runner of unit tests, too.
    pub fn find_runner(
        &mut self,
        languages: &Languages,
        language: &str,
        runner: &str,
        sandbox: &Sandbox,
    ) {
        let key = (language.to_owned(), runner.to_owned());
        if self.runners.contains_key(&key) {
            return;
        }
        let definition = languages.find(language);
        let tool = match definition.and_then(|it| Some((it, it.runners.get(runner)?))) {
            Some((definition, runner)) => find_runner(definition, runner, sandbox),
            None => Err("there is no definition of it".to_owned()),
        };
        let language = format!("{language} with {runner}");
        self.runners.insert(key, tool.map_err(|why| ToolMissing { language, why }));
    }

    /// The tools of a runner.
    ///
    /// # Errors
    /// When they are not on this machine, or were not looked for.
    pub fn runner(&self, language: &str, runner: &str) -> Result<&Tool, ToolMissing> {
        match self.runners.get(&(language.to_owned(), runner.to_owned())) {
            Some(found) => found.as_ref().map_err(Clone::clone),
            None => Err(ToolMissing {
                language: format!("{language} with {runner}"),
                why: "it was not looked for".to_owned(),
            }),
        }
    }

    /// Whether code under trial could read what lies at `path`, which need not be there yet: in a
    /// folder of the system, or in one that a tool needs.
    #[must_use]
    pub fn shows(&self, path: &Path) -> bool {
        let there = path.ancestors().find_map(|it| {
            let it = if it.as_os_str().is_empty() { Path::new(".") } else { it };
            fs::canonicalize(it).ok()
        });
        let Some(there) = there else { return false };
        let tools = self.found.values().chain(self.runners.values()).flatten();
        is_system(&there) || tools.flat_map(|it| &it.folders).any(|it| there.starts_with(it))
    }

    /// The tools of a language.
    ///
    /// # Errors
    /// When they are not on this machine, or were not looked for.
    pub fn get(&self, language: &str) -> Result<&Tool, ToolMissing> {
        match self.found.get(language) {
            Some(Ok(tool)) => Ok(tool),
            Some(Err(missing)) => Err(missing.clone()),
            None => Err(ToolMissing {
                language: language.to_owned(),
                why: "it was not looked for".to_owned(),
            }),
        }
    }

    /// Languages and what was found for each, in name order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Result<Tool, ToolMissing>)> {
        self.found.iter().map(|(language, tool)| (language.as_str(), tool))
    }
}

fn find_tool(definition: &LanguageDefinition, sandbox: &Sandbox) -> Result<Tool, String> {
    let names = definition.tool.join("` or `");
    let first = definition.tool.iter().find_map(|name| on_search_path(name).next());
    let first = first.ok_or_else(|| format!("`{names}` is not on the search path"))?;
    tool_at(definition, &definition.also, first, sandbox)
}

/// The first of a language's tools, in the order of the search path, that has the runner.
fn find_runner(
    definition: &LanguageDefinition,
    runner: &TestRunner,
    sandbox: &Sandbox,
) -> Result<Tool, String> {
    let also: Vec<String> = definition.also.iter().chain(&runner.also).cloned().collect();
    let mut why = format!("`{}` is not on the search path", definition.tool.join("` or `"));
    for place in definition.tool.iter().flat_map(|name| on_search_path(name)) {
        let tool = tool_at(definition, &also, place, sandbox)?;
        if runner.probe.is_empty() {
            return Ok(tool);
        }
        match probe::ask(sandbox, &tool.program, &runner.probe, &tool.folders, &[]) {
            Ok(_) => return Ok(tool),
            Err(error) => why = error,
        }
    }
    Err(why)
}

/// The tool that is found at a place of the search path.
fn tool_at(
    definition: &LanguageDefinition,
    also: &[String],
    first: PathBuf,
    sandbox: &Sandbox,
) -> Result<Tool, String> {
    let mut tool = Tool {
        program: real(first.clone()),
        also: BTreeMap::new(),
        folders: Vec::new(),
        version: String::new(),
    };
    if !definition.locate.is_empty() {
        let seen = seen_by(&first);
        let said = probe::said(&probe::ask(sandbox, &first, &definition.locate, &seen, &[])?);
        let mut lines = said.lines().map(str::trim).filter(|line| !line.is_empty());
        let place = lines.next().ok_or("it does not say where it is")?;
        tool.program = locate(Path::new(place), &definition.tool)?;
        tool.folders = lines.map(PathBuf::from).collect();
        if Path::new(place).is_dir() {
            tool.folders.push(PathBuf::from(place));
        }
    }
    for name in also {
        // Beside the tool itself first: on the search path may stand a version manager's.
        let beside = tool.program.with_file_name(name);
        let found = if beside.is_file() { Some(beside) } else { on_search_path(name).next() };
        let found = found.ok_or_else(|| format!("`{name}` is not on the search path"))?;
        tool.also.insert(name.clone(), real(found));
    }
    tool.folders.extend(own_folder(&tool.program));
    tool.folders.extend(tool.also.values().filter_map(|it| own_folder(it)));
    tool.folders.retain(|folder| !shows_too_much(folder));
    tool.folders.sort();
    tool.folders.dedup();
    if !definition.version.is_empty() {
        let asked = probe::ask(sandbox, &tool.program, &definition.version, &tool.folders, &[])?;
        let said = probe::said(&asked);
        tool.version = said.lines().next().unwrap_or_default().trim().to_owned();
    }
    Ok(tool)
}

/// What must be seen of the machine for a program of the search path to say where the tool is. It can
/// be a version manager's stand-in, which has the tools elsewhere.
fn seen_by(program: &Path) -> Vec<PathBuf> {
    let mut seen: Vec<PathBuf> = own_folder(program).into_iter().collect();
    let real = real(program.to_owned());
    seen.extend(own_folder(&real));
    let beside = program.parent().into_iter().flat_map(Path::parent);
    seen.extend(
        beside
            .filter(|_| program.parent().is_some_and(|it| it.ends_with("shims")))
            .map(Path::to_owned),
    );
    let home = env::var_os("HOME").map(PathBuf::from);
    let toolchains = env::var_os("RUSTUP_HOME").map(PathBuf::from);
    seen.extend(toolchains.or_else(|| home.map(|it| it.join(".rustup"))));
    seen.retain(|it| it.is_dir() && !shows_too_much(it));
    seen.sort();
    seen.dedup();
    seen
}

/// A tool names its own file, or the folder in whose `bin/` it is.
fn locate(place: &Path, names: &[String]) -> Result<PathBuf, String> {
    if !place.is_dir() {
        return Ok(real(place.to_owned()));
    }
    let inside = names.iter().map(|name| place.join("bin").join(name));
    inside
        .into_iter()
        .find(|path| path.is_file())
        .map(real)
        .ok_or_else(|| format!("it is not in `{}`", place.join("bin").display()))
}

/// The folder that belongs to a program outside of the system's folders: what holds its `bin/`,
/// or its own folder. A home directory is never taken as one.
fn own_folder(program: &Path) -> Option<PathBuf> {
    if is_system(program) {
        return None;
    }
    let folder = program.parent()?;
    let whole = if folder.ends_with("bin") { folder.parent()? } else { folder };
    [whole, folder].into_iter().find(|it| !shows_too_much(it)).map(Path::to_owned)
}

/// Whether a folder holds more than an interpreter: the root, or a home directory.
pub fn shows_too_much(folder: &Path) -> bool {
    let home = env::var_os("HOME").map(PathBuf::from);
    let holds_home = |home: &Path| home.is_absolute() && real(home.to_owned()).starts_with(folder);
    folder.parent().is_none() || home.as_deref().is_some_and(holds_home)
}

fn on_search_path(name: &str) -> impl Iterator<Item = PathBuf> {
    let is_program = |path: &Path| {
        use std::os::unix::fs::PermissionsExt as _;
        fs::metadata(path)
            .is_ok_and(|meta| meta.is_file() && meta.permissions().mode() & 0o111 != 0)
    };
    let search = env::var_os("PATH").unwrap_or_else(|| "/usr/local/bin:/usr/bin:/bin".into());
    let places: Vec<PathBuf> = env::split_paths(&search).map(|it| it.join(name)).collect();
    places.into_iter().filter(move |path| is_program(path))
}

fn real(path: PathBuf) -> PathBuf {
    fs::canonicalize(&path).unwrap_or(path)
}
