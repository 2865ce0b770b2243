//! From a plan's file to everything that a run needs, checked before anything is asked.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use fairtrial_candidates::{Asker, AskerError, ChatAsker, RecordedAsker};
use fairtrial_core::docket::Task;
use fairtrial_core::limits::Limits;
use fairtrial_core::plan::{Candidate, ChatCandidate, Plan};
use fairtrial_core::prompt::first_prompt;
use fairtrial_core::recipe::Recipes;
use fairtrial_core::source::{SourceError, utf8};
use fairtrial_grading::{FolderError, Judge, Toolbox, limits_of, read_docket};
use fairtrial_record::{FORMAT_VERSION, Machine, Manifest, TaskNote, ToolNote};

/// One task of the run.
#[derive(Debug)]
pub struct Entry {
    /// The task.
    pub task: Task,
    /// Its limits, all settled.
    pub limits: Limits,
    /// The first prompt, the same for every candidate.
    pub prompt: String,
}

/// Everything that a run needs.
pub struct Preparation {
    /// The plan.
    pub plan: Plan,
    /// The tasks, by name.
    pub tasks: BTreeMap<String, Entry>,
    /// Who judges.
    pub judge: Judge,
    /// Who is asked, by name.
    pub askers: BTreeMap<String, Box<dyn Asker>>,
    /// What the record will say of the run, but for the times.
    pub manifest: Manifest,
    /// What a person should know before the run: missing tools, answers for unknown tasks.
    pub notes: Vec<String>,
}

/// Why a plan cannot be run.
#[derive(Debug, thiserror::Error)]
pub enum PrepareError {
    /// A file cannot be read.
    #[error("failed to read `{path}`")]
    Read {
        /// The file.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
    /// A file is malformed.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// A docket cannot be read.
    #[error("failed to read the docket `{folder}`")]
    Docket {
        /// Its folder.
        folder: PathBuf,
        /// What is wrong.
        #[source]
        source: FolderError,
    },
    /// Two dockets have a task of the same name.
    #[error("two dockets have a task `{0}`; names must differ within a plan")]
    TaskTwice(String),
    /// A candidate cannot be asked as it is configured.
    #[error(transparent)]
    Asker(#[from] AskerError),
}

impl Preparation {
    /// Asks every chat candidate at another address than the plan's. The plan in the record stays
    /// as it was read.
    ///
    /// # Errors
    /// When a candidate cannot be asked as it is configured.
    pub fn redirect(&mut self, endpoint: &str) -> Result<(), PrepareError> {
        for candidate in &self.plan.candidates {
            if let Candidate::Chat(chat) = candidate {
                let chat = ChatCandidate { endpoint: endpoint.to_owned(), ..chat.clone() };
                let asker = ChatAsker::new(&chat, |_| None)?;
                self.askers.insert(chat.name, Box::new(asker));
            }
        }
        Ok(())
    }
}

/// Reads a plan and all that it names. `env` looks up environment variables; `version` is the
/// tool's own.
///
/// # Errors
/// When anything is missing or malformed. Nothing has been asked or written then.
pub fn prepare(
    path: &Path,
    env: &dyn Fn(&str) -> Option<String>,
    version: &str,
) -> Result<Preparation, PrepareError> {
    let base = path.parent().unwrap_or(Path::new("."));
    let plan = Plan::parse(&path.display().to_string(), &read_text(path)?)?;
    let mut recipes = Recipes::shipped();
    for file in &plan.recipes {
        let file = base.join(file);
        recipes.add(&file.display().to_string(), &read_text(&file)?)?;
    }
    let mut read = Vec::new();
    for folder in plan.docket.folders() {
        let folder = base.join(folder);
        let docket = read_docket(&folder, &recipes)
            .map_err(|source| PrepareError::Docket { folder: folder.clone(), source })?;
        read.push(docket);
    }
    let languages = read.iter().flat_map(|docket| &docket.tasks).map(|task| task.language.as_str());
    let tools = Toolbox::find(&recipes, languages);
    let mut notes = missing_tools(&tools);
    let (mut tasks, mut task_notes) = (BTreeMap::new(), Vec::new());
    for docket in &read {
        for task in &docket.tasks {
            let limits = limits_of(docket, task, &plan.limits);
            let tool = tools.get(&task.language);
            let tool_version = tool.map(|tool| tool.version.clone()).unwrap_or_default();
            let prompt = recipes.find(&task.language).map_or_else(String::new, |recipe| {
                first_prompt(task, recipe, &tool_version, &limits)
            });
            task_notes.push(TaskNote {
                name: task.name.clone(),
                title: task.title.clone(),
                docket: docket.settings.title.clone(),
                docket_version: docket.settings.version.clone(),
                category: task.category.clone(),
                difficulty: task.difficulty,
                language: task.language.clone(),
                points: task.points,
                digest: task.digest.clone(),
            });
            let entry = Entry { task: task.clone(), limits, prompt };
            if tasks.insert(task.name.clone(), entry).is_some() {
                return Err(PrepareError::TaskTwice(task.name.clone()));
            }
        }
    }
    let mut askers: BTreeMap<String, Box<dyn Asker>> = BTreeMap::new();
    for candidate in &plan.candidates {
        let asker: Box<dyn Asker> = match candidate {
            Candidate::Chat(chat) => Box::new(ChatAsker::new(chat, env)?),
            Candidate::Recorded(recorded) => {
                let asker = RecordedAsker::load(recorded, base)?;
                notes.extend(unknown_tasks(&recorded.name, &asker, &tasks));
                Box::new(asker)
            }
        };
        askers.insert(candidate.name().to_owned(), asker);
    }
    let machine = Machine {
        fairtrial: version.to_owned(),
        kernel: kernel(),
        tools: tools
            .iter()
            .map(|(language, tool)| ToolNote {
                language: language.to_owned(),
                version: match tool {
                    Ok(tool) => tool.version.clone(),
                    Err(missing) => missing.why.clone(),
                },
                found: tool.is_ok(),
            })
            .collect(),
        since: String::new(),
    };
    let manifest = Manifest {
        format_version: FORMAT_VERSION,
        created: String::new(),
        plan: plan.clone(),
        tasks: task_notes,
        machines: vec![machine],
    };
    let judge = Judge::new(recipes, tools);
    Ok(Preparation { plan, tasks, judge, askers, manifest, notes })
}

fn read_text(path: &Path) -> Result<String, PrepareError> {
    let bytes =
        fs::read(path).map_err(|source| PrepareError::Read { path: path.to_owned(), source })?;
    Ok(utf8(&path.display().to_string(), &bytes)?.to_owned())
}

fn missing_tools(tools: &Toolbox) -> Vec<String> {
    let missing = tools.iter().filter_map(|(_, tool)| tool.as_ref().err());
    missing.map(|it| format!("{it}; its trials will be void")).collect()
}

fn unknown_tasks(
    candidate: &str,
    asker: &RecordedAsker,
    tasks: &BTreeMap<String, Entry>,
) -> Option<String> {
    let unknown: Vec<&str> = asker.tasks().filter(|task| !tasks.contains_key(*task)).collect();
    (!unknown.is_empty()).then(|| {
        let count = unknown.len();
        let first = unknown.iter().take(3).map(|it| format!("`{it}`")).collect::<Vec<_>>();
        let more = if count > 3 { " …" } else { "" };
        format!(
            "candidate `{candidate}` has answers for {count} unknown tasks: {}{more}",
            first.join(", ")
        )
    })
}

/// The kernel's name and release.
fn kernel() -> String {
    let read = |file: &str| fs::read_to_string(format!("/proc/sys/kernel/{file}"));
    let part = |file: &str| read(file).map(|it| it.trim().to_owned()).unwrap_or_default();
    format!("{} {}", part("ostype"), part("osrelease"))
}
