//! From a task and an answer's files to a judgement.
//!
//! Whatever an answer does, its judgement is a verdict on it. What looks like a fault of ours, or of a
//! machine that is busy with other things, is judged again with nothing beside it; what is lost twice
//! while the answer's program runs is the answer's doing.

use std::sync::{PoisonError, RwLock};

use fairtrial_core::docket::{Docket, Proceedings, Task};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Languages;
use fairtrial_core::limits::{LimitSettings, Limits};
use fairtrial_core::tree::FileTree;
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_sandbox::Sandbox;

use crate::checker::Checker;
use crate::context::{Doubts, JudgeContext, JudgeError, new_session};
use crate::outcome::nothing_run;
use crate::pressure::Pressure;
use crate::tools::{ToolMissing, Toolbox};
use crate::{build, call, program, sound, stability, unit};

/// Judges answers. One serves any number of threads.
#[derive(Debug)]
pub struct Judge {
    languages: Languages,
    tools: Toolbox,
    sandbox: Sandbox,
    builds: build::Builds,
    /// Doubts about the runs of checkers decide nothing: their answers are no candidate's.
    checkers_doubts: Doubts,
    /// Shared by judgements that are made at the same time; taken alone by one that must be.
    turn: RwLock<()>,
}

/// The limits of a task: the built-in ones, overlaid by its language's, the docket's, its own and the
/// plan's.
#[must_use]
pub fn limits_of(
    languages: &Languages,
    docket: &Docket,
    task: &Task,
    plan: &LimitSettings,
) -> Limits {
    let language = languages.find(&task.language).map(|it| it.limits).unwrap_or_default();
    Limits::default()
        .overlaid(&language)
        .overlaid(&docket.settings.limits)
        .overlaid(&task.limits)
        .overlaid(plan)
}

impl Judge {
    /// A judge who knows these languages, has these tools, and runs code in this sandbox.
    #[must_use]
    pub fn new(languages: Languages, tools: Toolbox, sandbox: Sandbox) -> Self {
        let builds = build::Builds::default();
        let (turn, checkers_doubts) = (RwLock::new(()), Doubts::default());
        Self { languages, tools, sandbox, builds, checkers_doubts, turn }
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
    pub fn languages(&self) -> &Languages {
        &self.languages
    }

    /// The judgement of an answer that there is nothing to run of: every sealed test failed.
    #[must_use]
    pub fn without_code(task: &Task, reason: FailReason, message: Option<String>) -> Judgement {
        nothing_run(task, reason, message)
    }

    /// Judges `answer`, put over the task's given files. `examples` says whether visible
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
        let tool = match self.tools.of_task(task) {
            Ok(tool) => tool,
            Err(missing) => {
                let bare = Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
                return Judgement { notes: vec![missing.to_string()], ..bare };
            }
        };
        let Some(definition) = self.languages.find(&task.language) else {
            return Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
        };
        let files = over_given(task, answer);
        let sandbox = &self.sandbox;
        let session = new_session();
        let doubts = &Doubts::default();
        let language = task.language.as_str();
        let context =
            JudgeContext { task, language, definition, tool, limits, sandbox, session, doubts };
        let checker = match self.checker(task) {
            Ok(checker) => checker,
            Err(missing) => {
                let bare = Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
                return Judgement { notes: vec![format!("the checker: {missing}")], ..bare };
            }
        };
        let checker = checker.as_ref();
        let by_form = || by_form(&context, checker, &self.builds, &files, examples);
        let judge = || {
            let first = {
                let _turn = self.turn.read().unwrap_or_else(PoisonError::into_inner);
                doubts.clear();
                let pressure = Pressure::watch();
                let judged = by_form();
                (judged, doubts.any() && pressure.was_felt())
            };
            match first {
                (Ok(judgement), false) => Ok(judgement),
                (first, _) => {
                    let _alone = self.turn.write().unwrap_or_else(PoisonError::into_inner);
                    again_alone(&first, by_form())
                }
            }
            .unwrap_or_else(|error| error_judged(task, &error))
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
    /// Whether an answer parses, or builds where its language has no command for that. No sealed test
    /// is there. What cannot be found out counts as sound: it is left as it stands.
    #[must_use]
    pub fn is_sound(&self, task: &Task, answer: &FileTree, limits: Limits) -> bool {
        let _turn = self.turn.read().unwrap_or_else(PoisonError::into_inner);
        let (Ok(tool), Some(definition)) =
            (self.tools.of_task(task), self.languages.find(&task.language))
        else {
            return true;
        };
        let (sandbox, session, doubts) = (&self.sandbox, new_session(), &Doubts::default());
        let language = task.language.as_str();
        let context =
            JudgeContext { task, language, definition, tool, limits, sandbox, session, doubts };
        sound::is_sound(&context, &self.builds, &over_given(task, answer)).unwrap_or(true)
    }

    /// The task's checker in the surroundings of its own language; `None` when it has none.
    fn checker<'a>(&'a self, task: &'a Task) -> Result<Option<Checker<'a>>, ToolMissing> {
        let Proceedings::Call { settings, checker: Some(source), .. } = &task.proceedings else {
            return Ok(None);
        };
        let Some(file) = &settings.checker else { return Ok(None) };
        let language = self.languages.by_extension(file.extension()).unwrap_or_default();
        let tool = self.tools.get(language)?;
        let Some(definition) = self.languages.find(language) else { return Ok(None) };
        let sandbox = &self.sandbox;
        let (limits, session) = (Limits::default(), new_session());
        let doubts = &self.checkers_doubts;
        let context =
            JudgeContext { task, language, definition, tool, limits, sandbox, session, doubts };
        Ok(Some(Checker { context, file, source }))
    }
}

/// An answer's files, put over those that were given.
fn over_given(task: &Task, answer: &FileTree) -> FileTree {
    let mut files = task.given.clone();
    files.extend(answer.iter().map(|(path, bytes)| (path.clone(), bytes.clone())));
    files
}

/// What counts of two tries, the second of them alone: the second, with a note where it differs.
fn again_alone(
    first: &Result<Judgement, JudgeError>,
    second: Result<Judgement, JudgeError>,
) -> Result<Judgement, JudgeError> {
    let mut judgement = second?;
    let at_first = match first {
        Ok(first) if first.verdict == judgement.verdict => None,
        Ok(first) => Some(format!("{}, with little processor time used", first.verdict)),
        Err(error) => Some(chain(error)),
    };
    judgement.notes.extend(at_first.map(|it| format!("judged again alone; at first: {it}")));
    Ok(judgement)
}

/// What an error comes to that came twice.
fn error_judged(task: &Task, error: &JudgeError) -> Judgement {
    let note = chain(error);
    match error.of_the_answer() {
        Some((reason, message)) => {
            let judgement = nothing_run(task, reason, message);
            Judgement { notes: vec![note], ..judgement }
        }
        None => {
            let bare = Judgement::bare(Verdict::Void(VoidReason::SandboxError));
            Judgement { notes: vec![note], ..bare }
        }
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
    context: &JudgeContext<'_>,
    checker: Option<&Checker<'_>>,
    builds: &build::Builds,
    files: &FileTree,
    examples: bool,
) -> Result<Judgement, JudgeError> {
    if !files.contains_key(context.task.file()) {
        let message = format!("the file `{}` is not in the answer", context.task.file());
        return Ok(nothing_run(context.task, FailReason::NoCodeFound, Some(message)));
    }
    match &context.task.proceedings {
        Proceedings::Call { settings, examples: visible, sealed, .. } => {
            let visible = if examples { visible.as_slice() } else { &[] };
            let examined = call::Examined { settings, checker, sealed, visible };
            call::judge(context, builds, &examined, files)
        }
        Proceedings::Tests { settings, sealed } => unit::judge(context, settings, sealed, files),
        Proceedings::Program { examples: visible, sealed, .. } => {
            let visible = if examples { visible.as_slice() } else { &[] };
            let layer = match build::build(context, builds, &context.definition.build, files)? {
                build::Built::Ready(layer) => layer,
                build::Built::Failed(judgement) => return Ok(judgement),
            };
            program::judge(context, &layer, sealed, visible)
        }
    }
}
