//! From a plan's file to everything that a run needs, checked before anything is asked.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use fairtrial_candidates::{
    AcpAsker, ActorAsker, AgentAsker, Asker, AskerError, ChatAsker, CommandAsker, RecordedAsker,
};
use fairtrial_core::image::Image;
use fairtrial_core::language::{LanguageDefinition, Languages};
use fairtrial_core::limits::{LimitSettings, Limits};
use fairtrial_core::plan::{AgentCandidate, Candidate, ChatCandidate, Plan};
use fairtrial_core::source::{SourceError, utf8};
use fairtrial_core::task::DocketSettings;
use fairtrial_grading::{
    Docket, FolderError, Images, Judge, JudgeError, Manner, PosedTask, PromptTemplates, Start,
    TREES_MAX, TemplateError, Tool, ToolMissing, Toolbox, limits_of, prompt_parts, read_docket,
    read_file,
};
use fairtrial_record::{FORMAT_VERSION, Machine, Manifest, SandboxNote, TaskNote, ToolNote};
use fairtrial_sandbox::{Demand, Layer, Sandbox, SandboxError, Tier};
use fairtrial_worktree::{LeftOut, TreeCache};

/// One task of the run.
#[derive(Debug)]
pub struct PlannedTask {
    /// The task.
    pub task: PosedTask,
    /// Its limits, complete.
    pub limits: Limits,
    /// The first prompt, the same for every candidate that answers in words.
    pub prompt: String,
    /// The first prompt, the same for every candidate that acts.
    pub acting_prompt: String,
    /// Whether the task's images go with it.
    pub sends_images: bool,
    /// The first prompts of candidates whose wording is their own.
    pub own_prompts: BTreeMap<String, OwnPrompt>,
    /// Why the task does not hold on this machine; `None` when it does, or nobody looked.
    pub unfit: Option<String>,
}

/// The first prompt of a candidate whose wording is its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnPrompt {
    /// The text.
    pub prompt: String,
    /// Whether the task's images go with it.
    pub sends_images: bool,
}

impl PlannedTask {
    /// A task that nobody is asked yet: its prompts are empty.
    #[must_use]
    pub fn new(task: PosedTask, limits: Limits) -> Self {
        Self {
            task,
            limits,
            prompt: String::new(),
            acting_prompt: String::new(),
            sends_images: false,
            own_prompts: BTreeMap::new(),
            unfit: None,
        }
    }

    /// The first prompt of a candidate that answers in this manner.
    #[must_use]
    pub fn first_prompt(&self, candidate: &str, manner: Manner) -> &str {
        match (self.own_prompts.get(candidate), manner) {
            (Some(own), _) => &own.prompt,
            (None, Manner::Says) => &self.prompt,
            (None, Manner::Acts) => &self.acting_prompt,
        }
    }

    /// The images that go with it. Who acts finds them in its folder.
    #[must_use]
    pub fn first_images(&self, candidate: &str, manner: Manner) -> &[Image] {
        let sends = self.own_prompts.get(candidate).map_or(self.sends_images, |it| it.sends_images);
        match (sends, manner) {
            (true, Manner::Says) => &self.task.images,
            _ => &[],
        }
    }

    /// Words the prompts anew.
    fn word(
        &mut self,
        wording: &Wording,
        definition: &LanguageDefinition,
        version: &str,
        start: Option<&Start>,
    ) {
        let templates = &wording.templates;
        let parts = |manner, images| {
            prompt_parts(&self.task, start, definition, version, &self.limits, manner, images)
        };
        let acts = parts(Manner::Acts, Images::Named);
        self.prompt = templates.first(None, &parts(Manner::Says, templates.images(None)));
        self.acting_prompt = templates.first(None, &acts);
        self.sends_images = templates.images(None) == Images::Sent;
        self.own_prompts.clear();
        for candidate in templates.with_own_first() {
            let images = templates.images(Some(candidate));
            let own = match wording.acting.contains(candidate) {
                true => acts.clone(),
                false => parts(Manner::Says, images),
            };
            let prompt = templates.first(Some(candidate), &own);
            let own = OwnPrompt { prompt, sends_images: images == Images::Sent };
            self.own_prompts.insert(candidate.to_owned(), own);
        }
    }
}

/// How prompts are worded.
pub(crate) struct Wording {
    /// The templates of the plan and its candidates.
    pub templates: PromptTemplates,
    /// Candidates that act.
    acting: BTreeSet<String>,
}

impl Wording {
    /// As shipped.
    pub fn shipped() -> Self {
        Self { templates: PromptTemplates::shipped(), acting: BTreeSet::new() }
    }

    /// As a plan has it.
    fn of_plan(plan: &Plan) -> Result<Self, TemplateError> {
        let own = plan.candidates.iter().filter_map(|it| Some((it.name(), it.prompt()?)));
        let acts = plan.candidates.iter().filter(|it| it.acts());
        Ok(Self {
            templates: PromptTemplates::parse(&plan.prompt, own)?,
            acting: acts.map(|it| it.name().to_owned()).collect(),
        })
    }
}

/// Everything that a run needs.
pub struct Preparation {
    /// The plan.
    pub plan: Plan,
    /// The folder that it is in.
    pub base: PathBuf,
    /// The tasks, by name.
    pub tasks: BTreeMap<String, PlannedTask>,
    /// Who judges.
    pub judge: Judge,
    /// Who is asked, by name.
    pub askers: BTreeMap<String, Box<dyn Asker>>,
    /// What the record will say of the run, but for the times.
    pub manifest: Manifest,
    /// How what goes back after a failure is worded.
    pub templates: PromptTemplates,
    /// What a person should know before the run: missing tools, answers for unknown tasks.
    pub notes: Vec<String>,
}

/// Why a plan cannot be run.
#[derive(Debug, thiserror::Error)]
pub enum PrepareError {
    /// The wording of a prompt cannot be used.
    #[error(transparent)]
    Template(#[from] TemplateError),
    /// A pattern of files that are left out is none.
    #[error("`leave_out` of the plan: {0}")]
    LeaveOut(String),
    /// A file cannot be read.
    #[error(transparent)]
    Read(FolderError),
    /// The answers of a candidate cannot be read.
    #[error("candidate `{candidate}`")]
    Answers {
        /// The candidate.
        candidate: String,
        /// What is wrong.
        #[source]
        source: FolderError,
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
    /// A docket lies where it could be read by those it is kept from.
    #[error("the docket `{0}` lies in a folder that code under trial can read")]
    Exposed(PathBuf),
    /// A candidate is to stand for a task that is not there.
    #[error("candidate `{candidate}`: there is no task `{task}`")]
    UnknownTask {
        /// The candidate.
        candidate: String,
        /// The task.
        task: String,
    },
    /// A candidate cannot be asked as it is configured.
    #[error(transparent)]
    Asker(#[from] AskerError),
    /// Code under trial cannot be confined on this machine.
    #[error(transparent)]
    Sandbox(#[from] SandboxError),
}

/// What a run takes from its environment.
pub struct PrepareOptions<'a> {
    /// Looks up environment variables.
    pub env: &'a dyn Fn(&str) -> Option<String>,
    /// The tool's own version.
    pub version: &'a str,
    /// Which tiers of the sandbox will do.
    pub demand: Demand,
    /// Whether repositories that earlier runs made ready are made ready anew.
    pub fresh: bool,
    /// Hears what takes a while before the run begins.
    pub progress: &'a dyn Fn(&str),
}

impl Preparation {
    /// Asks every candidate that has an endpoint at another address than the plan's. The plan in the record stays
    /// as it was read.
    ///
    /// # Errors
    /// When a candidate cannot be asked as it is configured.
    pub fn redirect(&mut self, endpoint: &str) -> Result<(), PrepareError> {
        for candidate in &self.plan.candidates {
            let endpoint = endpoint.to_owned();
            match candidate {
                Candidate::Chat(chat) => {
                    let chat = ChatCandidate { endpoint, ..chat.clone() };
                    let asker = chat_asker(&chat, &self.base, |_| None)?;
                    self.askers.insert(chat.name, asker);
                }
                Candidate::Agent(agent) if agent.endpoint.is_some() => {
                    let agent = AgentCandidate { endpoint: Some(endpoint), ..agent.clone() };
                    let asker = AgentAsker::new(&agent, &self.base, |_| None)?;
                    self.askers.insert(agent.name, Box::new(asker));
                }
                Candidate::Acp(agent) if agent.endpoint.is_some() => {
                    let agent = AgentCandidate { endpoint: Some(endpoint), ..agent.clone() };
                    let asker = AcpAsker::new(&agent, &self.base, |_| None)?;
                    self.askers.insert(agent.name, Box::new(asker));
                }
                Candidate::Agent(_)
                | Candidate::Acp(_)
                | Candidate::Command(_)
                | Candidate::Recorded(_) => {}
            }
        }
        Ok(())
    }
}

/// Who asks a model: as one that answers, or as one that acts.
fn chat_asker(
    chat: &ChatCandidate,
    base: &Path,
    env: impl Fn(&str) -> Option<String>,
) -> Result<Box<dyn Asker>, AskerError> {
    Ok(match chat.acts {
        true => Box::new(ActorAsker::new(chat, base, env)?),
        false => Box::new(ChatAsker::new(chat, base, env)?),
    })
}

/// Longest plan or file of languages, in bytes.
const SETTINGS_MAX: u64 = 16 << 20;

/// Longest file of recorded answers, in bytes.
const ANSWERS_MAX: u64 = 1 << 30;

/// The program that is the sandbox's helper: this one, started again.
const HELPER: &str = "/proc/self/exe";

/// Reads a plan and all that it names.
///
/// # Errors
/// When anything is missing or malformed, or code cannot be confined. Nothing has been asked or
/// written then.
pub fn prepare(path: &Path, options: &PrepareOptions<'_>) -> Result<Preparation, PrepareError> {
    let base = path.parent().unwrap_or(Path::new("."));
    let plan = Plan::parse(&path.display().to_string(), &read_text(path)?)?;
    let sources = Sources { wording: Wording::of_plan(&plan)?, ..Sources::of_plan(&plan, base) };
    let JudgingSetup { mut tasks, judge, machine, task_notes, mut notes } =
        JudgingSetup::prepare(&plan.limits, &sources, options)?;
    make_ready(&mut tasks, &judge, &sources.wording, options.progress, &mut notes);
    let askers = make_askers(&plan, base, options.env, &tasks, &mut notes)?;
    let mut machine = machine;
    machine.tools.extend(versions(&askers, judge.sandbox()));
    let manifest = Manifest {
        format_version: FORMAT_VERSION,
        created: String::new(),
        plan: plan.clone(),
        tasks: task_notes,
        languages: judge.languages().added(),
        machines: vec![machine],
        changes: Vec::new(),
        dropped_candidates: Vec::new(),
        dropped_tasks: Vec::new(),
    };
    let (base, templates) = (base.to_owned(), sources.wording.templates);
    Ok(Preparation { plan, base, tasks, judge, askers, manifest, templates, notes })
}

/// What judging takes: tasks, and who judges them.
pub(crate) struct JudgingSetup {
    /// The tasks, by name.
    pub tasks: BTreeMap<String, PlannedTask>,
    pub judge: Judge,
    /// This machine, but for the time.
    pub machine: Machine,
    /// What the manifest says of the tasks.
    pub task_notes: Vec<TaskNote>,
    /// What a person should know.
    pub notes: Vec<String>,
}

/// Where tasks and languages come from.
pub(crate) struct Sources {
    /// Folders of dockets.
    pub dockets: Vec<PathBuf>,
    /// Files of languages besides the shipped ones.
    pub languages: Vec<PathBuf>,
    /// Patterns of files that are taken out of repositories.
    pub leave_out: Vec<String>,
    /// How prompts are worded.
    pub wording: Wording,
}

impl Sources {
    /// What a plan names. Only a plan that the user runs may name languages: they are commands.
    pub fn of_plan(plan: &Plan, base: &Path) -> Self {
        Self {
            dockets: plan.docket.folders().iter().map(|folder| base.join(folder)).collect(),
            languages: plan.languages.iter().map(|file| base.join(file)).collect(),
            leave_out: plan.leave_out.clone(),
            wording: Wording::shipped(),
        }
    }
}

impl JudgingSetup {
    /// Reads dockets and languages, with `limits` over theirs, opens the sandbox, finds the tools.
    pub fn prepare(
        limits: &LimitSettings,
        sources: &Sources,
        options: &PrepareOptions<'_>,
    ) -> Result<Self, PrepareError> {
        let languages = read_languages(&sources.languages)?;
        let folders = &sources.dockets;
        let dockets = read_dockets(folders, &languages)?;
        let all = || dockets.iter().flat_map(|docket| &docket.tasks);
        let mut sandbox = Sandbox::open(Path::new(HELPER), options.demand)?;
        if all().any(|task| task.form.is_prepared()) {
            sandbox = sandbox.with_store(store(options.env))?;
        }
        let tools = find_tools(&languages, all(), &sandbox);
        let is_shown = |folder: &&PathBuf| {
            tools.shows(folder) || all().any(|task| lies_in(folder, task.form.folders()))
        };
        if let Some(folder) = folders.iter().find(is_shown) {
            return Err(PrepareError::Exposed(folder.clone()));
        }
        let mut notes = missing_tools(&tools);
        let (mut tasks, mut task_notes) = (BTreeMap::new(), Vec::new());
        for docket in dockets {
            for task in docket.tasks {
                let name = task.name.clone();
                task_notes.push(task_note(&docket.settings, &task));
                let entry =
                    planned(&docket.settings, task, limits, &languages, &tools, &sources.wording);
                if tasks.insert(name.clone(), entry).is_some() {
                    return Err(PrepareError::TaskTwice(name));
                }
            }
        }
        notes.extend(weaker_tier(&sandbox));
        let machine = machine(&tools, &sandbox, options.version);
        let left_out = LeftOut::parse(&sources.leave_out).map_err(PrepareError::LeaveOut)?;
        let trees = TreeCache::new(TREES_MAX, options.fresh).leaving_out(left_out);
        let judge = Judge::with_trees(languages, tools, sandbox, trees);
        Ok(Self { tasks, judge, machine, task_notes, notes })
    }
}

fn find_tools<'a>(
    languages: &'a Languages,
    tasks: impl Iterator<Item = &'a PosedTask>,
    sandbox: &Sandbox,
) -> Toolbox {
    let tasks: Vec<&PosedTask> = tasks.collect();
    let names = tasks.iter().flat_map(|task| task.languages(languages));
    let mut tools = Toolbox::find(languages, names, sandbox);
    for task in tasks {
        if let Some(runner) = task.form.runner() {
            tools.find_runner(languages, &task.language, runner, sandbox);
        }
        tools.find_packages(languages, task, task.form.runner(), sandbox);
    }
    tools
}

fn read_languages(files: &[PathBuf]) -> Result<Languages, PrepareError> {
    let mut languages = Languages::shipped();
    for file in files {
        languages.add(&file.display().to_string(), &read_text(file)?)?;
    }
    Ok(languages)
}

fn read_dockets(folders: &[PathBuf], languages: &Languages) -> Result<Vec<Docket>, PrepareError> {
    let read = |folder: &PathBuf| {
        let folder = folder.clone();
        read_docket(&folder, languages).map_err(|source| PrepareError::Docket { folder, source })
    };
    folders.iter().map(read).collect()
}

/// A task with its limits resolved and its prompt written.
fn planned(
    docket: &DocketSettings,
    task: PosedTask,
    limits: &LimitSettings,
    languages: &Languages,
    tools: &Toolbox,
    wording: &Wording,
) -> PlannedTask {
    let limits = limits_of(languages, docket, &task, limits);
    let version = tools.get(&task.language).map(|tool| tool.version.clone()).unwrap_or_default();
    let definition = languages.find(&task.language);
    let mut planned = PlannedTask::new(task, limits);
    if let Some(definition) = definition {
        planned.word(wording, definition, &version, None);
    }
    planned
}

/// Makes repositories ready, and sees whether their tasks hold, before anybody is asked. What stands in their
/// prompts is known only then.
fn make_ready(
    tasks: &mut BTreeMap<String, PlannedTask>,
    judge: &Judge,
    wording: &Wording,
    progress: &dyn Fn(&str),
    notes: &mut Vec<String>,
) {
    for (name, entry) in tasks.iter_mut().filter(|it| it.1.task.form.is_prepared()) {
        progress(&format!("making `{name}` ready"));
        match judge.preflight(&entry.task, entry.limits) {
            Ok(start) => {
                let language = entry.task.language.as_str();
                let version = judge.tools().get(language).map(|it| it.version.clone());
                if let Some(definition) = judge.languages().find(language) {
                    entry.word(wording, definition, &version.unwrap_or_default(), Some(&start));
                }
            }
            Err(error @ JudgeError::ToolMissing(_)) => drop(error),
            Err(error) => {
                notes.push(format!("task `{name}`: {error}; its trials will be void"));
                entry.unfit = Some(error.to_string());
            }
        }
    }
}

/// Where prepared repositories are kept: a folder for caches, by the XDG base directory specification.
fn store(env: &dyn Fn(&str) -> Option<String>) -> PathBuf {
    let absolute = |name: &str| env(name).map(PathBuf::from).filter(|it| it.is_absolute());
    let cache = absolute("XDG_CACHE_HOME").or_else(|| Some(absolute("HOME")?.join(".cache")));
    cache.unwrap_or_else(std::env::temp_dir).join("fairtrial").join("trees")
}

/// Whether a path lies in one of these folders.
pub(crate) fn lies_in(path: &Path, folders: &[PathBuf]) -> bool {
    let real = |it: &Path| fs::canonicalize(it).unwrap_or_else(|_| it.to_owned());
    let there = path.ancestors().find(|it| it.exists()).map(real);
    there.is_some_and(|it| folders.iter().any(|folder| it.starts_with(real(folder))))
}

fn make_askers(
    plan: &Plan,
    base: &Path,
    env: &dyn Fn(&str) -> Option<String>,
    tasks: &BTreeMap<String, PlannedTask>,
    notes: &mut Vec<String>,
) -> Result<BTreeMap<String, Box<dyn Asker>>, PrepareError> {
    let mut askers: BTreeMap<String, Box<dyn Asker>> = BTreeMap::new();
    for candidate in &plan.candidates {
        if let Some(unknown) = candidate.tasks().iter().find(|it| !tasks.contains_key(*it)) {
            let (candidate, task) = (candidate.name().to_owned(), unknown.clone());
            return Err(PrepareError::UnknownTask { candidate, task });
        }
        let asker: Box<dyn Asker> = match candidate {
            Candidate::Chat(chat) => chat_asker(chat, base, env)?,
            Candidate::Agent(agent) => Box::new(AgentAsker::new(agent, base, env)?),
            Candidate::Acp(agent) => Box::new(AcpAsker::new(agent, base, env)?),
            Candidate::Command(command) => Box::new(CommandAsker::new(command, base, env)?),
            Candidate::Recorded(recorded) => {
                let file = base.join(&recorded.path);
                let bytes = read_file(&file, ANSWERS_MAX).map_err(|source| {
                    PrepareError::Answers { candidate: recorded.name.clone(), source }
                })?;
                let asker = RecordedAsker::new(recorded, &file, &bytes)?;
                notes.extend(unknown_tasks(&recorded.name, &asker, tasks));
                Box::new(asker)
            }
        };
        askers.insert(candidate.name().to_owned(), asker);
    }
    Ok(askers)
}

/// What agents say of their versions.
fn versions<'a>(
    askers: &'a BTreeMap<String, Box<dyn Asker>>,
    sandbox: &'a Sandbox,
) -> impl Iterator<Item = ToolNote> + 'a {
    askers.iter().filter_map(move |(name, asker)| {
        let version = asker.version(sandbox)?;
        Some(ToolNote {
            language: format!("agent {name}"),
            found: version.is_ok(),
            version: version.unwrap_or_else(|why| why),
        })
    })
}

fn task_note(docket: &DocketSettings, posed: &PosedTask) -> TaskNote {
    let task = &posed.task;
    let weights = &docket.weights;
    TaskNote {
        name: task.name.clone(),
        title: task.title.clone(),
        docket: docket.title.clone(),
        docket_version: docket.version.clone(),
        category: task.category.clone(),
        difficulty: task.difficulty,
        language: task.language.clone(),
        form: posed.form.name().to_owned(),
        tags: task.tags.clone(),
        points: task.points,
        weight: (!weights.is_empty()).then(|| weights.get(&task.category).copied().unwrap_or(1.0)),
        digest: task.digest.clone(),
    }
}

/// Where this session runs; when is filled in as it begins.
fn machine(tools: &Toolbox, sandbox: &Sandbox, version: &str) -> Machine {
    let note = |(language, tool): (&str, &Result<Tool, ToolMissing>)| ToolNote {
        language: language.to_owned(),
        version: match tool {
            Ok(tool) => tool.version.clone(),
            Err(missing) => missing.why.clone(),
        },
        found: tool.is_ok(),
    };
    let packages = |(language, found): (&str, &Result<String, ToolMissing>)| ToolNote {
        language: format!("{language}, packages"),
        version: found.as_ref().map_or_else(ToString::to_string, Clone::clone),
        found: found.is_ok(),
    };
    Machine {
        fairtrial: version.to_owned(),
        kernel: kernel(),
        tools: tools.iter().map(note).chain(tools.packages().map(packages)).collect(),
        sandbox: Some(sandbox_note(sandbox)),
        since: String::new(),
    }
}

fn sandbox_note(sandbox: &Sandbox) -> SandboxNote {
    let layer = |it: &Layer| (it.name.clone(), it.found.clone());
    SandboxNote {
        tier: sandbox.tier().word().to_owned(),
        layers: sandbox.layers().iter().map(layer).collect(),
    }
}

fn weaker_tier(sandbox: &Sandbox) -> Option<String> {
    let what = match sandbox.tier() {
        Tier::Full => return None,
        Tier::Plain => "code under trial runs in the plain tier, without namespaces",
        Tier::Trusted => "code under trial is trusted: it can do what you can do",
    };
    let why = sandbox.why_not_full().unwrap_or("nothing else was wanted");
    Some(format!("{what} ({why}); `fairtrial doctor` says more"))
}

fn read_text(path: &Path) -> Result<String, PrepareError> {
    let bytes = read_file(path, SETTINGS_MAX).map_err(PrepareError::Read)?;
    Ok(utf8(&path.display().to_string(), &bytes)?.to_owned())
}

fn missing_tools(tools: &Toolbox) -> Vec<String> {
    let packages = tools.packages().filter_map(|(_, found)| found.as_ref().err());
    let missing = tools.iter().filter_map(|(_, tool)| tool.as_ref().err()).chain(packages);
    missing.map(|it| format!("{it}; its trials will be void")).collect()
}

fn unknown_tasks(
    candidate: &str,
    asker: &RecordedAsker,
    tasks: &BTreeMap<String, PlannedTask>,
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
