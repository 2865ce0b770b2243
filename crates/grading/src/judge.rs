//! From a task and an answer's files to a judgement.

use fairtrial_core::docket::{Docket, Proceedings, Task};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::limits::{LimitSettings, Limits};
use fairtrial_core::recipe::Recipes;
use fairtrial_core::tree::FileTree;
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_sandbox::Sandbox;

use crate::bench::{Bench, JudgeError, new_session};
use crate::checker::Checker;
use crate::outcome::nothing_run;
use crate::tools::{ToolMissing, Toolbox};
use crate::{build, call, program, stability, unit};

/// Judges answers. One serves any number of threads.
#[derive(Debug)]
pub struct Judge {
    recipes: Recipes,
    tools: Toolbox,
    sandbox: Sandbox,
    builds: build::Builds,
}

/// The limits of a task: the built-in ones, overlaid by the docket's, the task's and the plan's.
#[must_use]
pub fn limits_of(docket: &Docket, task: &Task, plan: &LimitSettings) -> Limits {
    Limits::default().overlaid(&docket.settings.limits).overlaid(&task.limits).overlaid(plan)
}

impl Judge {
    /// A judge who knows these languages, has these tools, and runs code in this sandbox.
    #[must_use]
    pub fn new(recipes: Recipes, tools: Toolbox, sandbox: Sandbox) -> Self {
        Self { recipes, tools, sandbox, builds: build::Builds::default() }
    }

    /// The tools.
    #[must_use]
    pub fn tools(&self) -> &Toolbox {
        &self.tools
    }

    /// The sandbox.
    #[must_use]
    pub fn sandbox(&self) -> &Sandbox {
        &self.sandbox
    }

    /// The languages.
    #[must_use]
    pub fn recipes(&self) -> &Recipes {
        &self.recipes
    }

    /// The judgement of an answer that there is nothing to run of: every sealed test failed.
    #[must_use]
    pub fn without_code(task: &Task, reason: FailReason, message: Option<String>) -> Judgement {
        nothing_run(task, reason, message)
    }

    /// Judges `answer`, laid over the task's given files. `examples` says whether visible
    /// examples are run after a failure, for feedback.
    ///
    /// What is our own fault comes back as a void verdict with the error in `notes`.
    #[must_use]
    pub fn judge(
        &self,
        task: &Task,
        answer: &FileTree,
        limits: Limits,
        examples: bool,
    ) -> Judgement {
        let found = match task.runner() {
            Some(runner) => self.tools.runner(&task.language, runner),
            None => self.tools.get(&task.language),
        };
        let tool = match found {
            Ok(tool) => tool,
            Err(missing) => {
                let bare = Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
                return Judgement { notes: vec![missing.to_string()], ..bare };
            }
        };
        let Some(recipe) = self.recipes.find(&task.language) else {
            return Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
        };
        let mut files = task.given.clone();
        files.extend(answer.iter().map(|(path, bytes)| (path.clone(), bytes.clone())));
        let sandbox = &self.sandbox;
        let session = new_session();
        let bench = Bench { task, recipe, tool, limits, sandbox, session };
        let checker = match self.checker(task) {
            Ok(checker) => checker,
            Err(missing) => {
                let bare = Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
                return Judgement { notes: vec![format!("the checker: {missing}")], ..bare };
            }
        };
        let checker = checker.as_ref();
        let by_form = || by_form(&bench, checker, &self.builds, &files, examples);
        let judge = || {
            // A warden that was lost is no verdict, and no reason to spoil a trial at once.
            let judged = match by_form() {
                Err(error) if error.is_lost_warden() => by_form(),
                judged => judged,
            };
            judged.unwrap_or_else(|error| {
                if let Some(message) = error.of_the_answer() {
                    return nothing_run(task, FailReason::DidNotBuild, Some(message));
                }
                let bare = Judgement::bare(Verdict::Void(VoidReason::SandboxError));
                Judgement { notes: vec![chain(&error)], ..bare }
            })
        };
        let mut first = judge();
        if task.rerun_failures > 0 && could_differ(first.verdict) {
            let again: Vec<Judgement> = (0..task.rerun_failures).map(|_| judge()).collect();
            stability::compare(&mut first, &again);
        }
        first
    }
}

impl Judge {
    /// The task's checker in the surroundings of its own language; `None` when it has none.
    fn checker<'a>(&'a self, task: &'a Task) -> Result<Option<Checker<'a>>, ToolMissing> {
        let Proceedings::Call { settings, checker: Some(source), .. } = &task.proceedings else {
            return Ok(None);
        };
        let Some(file) = &settings.checker else { return Ok(None) };
        let language = self.recipes.by_extension(file.extension()).unwrap_or_default();
        let tool = self.tools.get(language)?;
        let Some(recipe) = self.recipes.find(language) else { return Ok(None) };
        let sandbox = &self.sandbox;
        let (limits, session) = (Limits::default(), new_session());
        let bench = Bench { task, recipe, tool, limits, sandbox, session };
        Ok(Some(Checker { bench, file, source }))
    }
}

/// Whether running the tests again could come to something else.
fn could_differ(verdict: Verdict) -> bool {
    matches!(
        verdict,
        Verdict::Fail(
            FailReason::WrongResult
                | FailReason::Crashed
                | FailReason::TimedOut
                | FailReason::OutOfMemory
                | FailReason::TooMuchOutput
        )
    )
}

/// An error with its causes, on one line.
fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        text = format!("{text}: {error}");
        cause = error.source();
    }
    text
}

/// Judges files by the form of the task.
fn by_form(
    bench: &Bench<'_>,
    checker: Option<&Checker<'_>>,
    builds: &build::Builds,
    files: &FileTree,
    examples: bool,
) -> Result<Judgement, JudgeError> {
    if !files.contains_key(bench.task.file()) {
        let message = format!("the file `{}` is not in the answer", bench.task.file());
        return Ok(nothing_run(bench.task, FailReason::NoCodeFound, Some(message)));
    }
    match &bench.task.proceedings {
        Proceedings::Call { settings, examples: visible, sealed, .. } => {
            let visible = if examples { visible.as_slice() } else { &[] };
            let examined = call::Examined { settings, checker, sealed, visible };
            call::judge(bench, builds, &examined, files)
        }
        Proceedings::Tests { settings, sealed } => unit::judge(bench, settings, sealed, files),
        Proceedings::Program { examples: visible, sealed, .. } => {
            let visible = if examples { visible.as_slice() } else { &[] };
            let layer = match build::build(bench, builds, &bench.recipe.build, files)? {
                build::Built::Ready(layer) => layer,
                build::Built::Failed(judgement) => return Ok(judgement),
            };
            program::judge(bench, &layer, sealed, visible)
        }
    }
}
