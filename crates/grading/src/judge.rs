//! From a task and an answer's files to a judgement.
//!
//! Whatever an answer does, its judgement is a verdict on it. What looks like a fault of ours, or of a
//! machine that is busy with other things, is judged again with nothing beside it; what is lost twice
//! while the answer's program runs is the answer's doing.

use std::sync::{PoisonError, RwLock};

use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Languages;
use fairtrial_core::limits::{LimitSettings, Limits};
use fairtrial_core::task::{DocketSettings, Task};
use fairtrial_core::tree::{FileTree, Snapshot};
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_sandbox::Sandbox;

use crate::context::{JudgeContext, JudgeError, new_session};
use crate::docket::PosedTask;
use crate::doubts::Doubts;
use crate::outcome::{SealedTest, nothing_run};
use crate::pressure::Pressure;
use crate::shared::{Builds, Shared};
use crate::stability;
use crate::tools::{ToolMissing, Toolbox};

/// Judges answers. One serves any number of threads.
#[derive(Debug)]
pub struct Judge {
    shared: Shared,
    /// Shared by judgements that are made at the same time; taken alone by one that must be.
    turn: RwLock<()>,
}

/// The limits of a task: the built-in ones, overlaid by its language's, the docket's, its own and the
/// plan's.
#[must_use]
pub fn limits_of(
    languages: &Languages,
    docket: &DocketSettings,
    task: &Task,
    plan: &LimitSettings,
) -> Limits {
    let language = languages.find(&task.language).map(|it| it.limits).unwrap_or_default();
    Limits::default()
        .overlaid(&language)
        .overlaid(&docket.limits)
        .overlaid(&task.limits)
        .overlaid(plan)
}

impl Judge {
    /// A judge who knows these languages, has these tools, and runs code in this sandbox.
    #[must_use]
    pub fn new(languages: Languages, tools: Toolbox, sandbox: Sandbox) -> Self {
        let (builds, checkers_doubts) = (Builds::default(), Doubts::default());
        let shared = Shared { languages, tools, sandbox, builds, checkers_doubts };
        Self { shared, turn: RwLock::new(()) }
    }

    /// The tools.
    #[must_use]
    pub fn tools(&self) -> &Toolbox {
        &self.shared.tools
    }

    /// The sandbox.
    #[must_use]
    pub fn sandbox(&self) -> &Sandbox {
        &self.shared.sandbox
    }

    /// The languages.
    #[must_use]
    pub fn languages(&self) -> &Languages {
        &self.shared.languages
    }

    /// Judges `answer`, put over the task's given files. `examples` says whether visible
    /// examples are run after a failure, for feedback.
    ///
    /// What is our own fault comes back as a void verdict with the error in `notes`.
    #[must_use]
    pub fn judge_files(
        &self,
        task: &PosedTask,
        answer: &FileTree,
        limits: Limits,
        examples: bool,
    ) -> Judgement {
        let (doubts, sealed) = (&Doubts::default(), task.form.sealed_tests());
        let context = match self.context(task, task.form.runner(), &sealed, limits, doubts) {
            Ok(context) => context,
            Err(missing) => return tool_missing(&missing),
        };
        let files = over_given(task, answer);
        let judge = || {
            self.judged(&context, || task.form.judge(&context, &files, examples))
                .unwrap_or_else(|error| error_judged(&sealed, &error))
        };
        let mut first = judge();
        if task.rerun_failures > 0 && could_differ(first.verdict) {
            let again: Vec<Judgement> = (0..task.rerun_failures).map(|_| judge()).collect();
            stability::compare(&mut first, &again);
        }
        first
    }

    /// Judges beside others, and once more alone where that looks doubtful.
    fn judged(
        &self,
        context: &JudgeContext<'_>,
        judge: impl Fn() -> Result<Judgement, JudgeError>,
    ) -> Result<Judgement, JudgeError> {
        let (first, is_doubtful) = {
            let _turn = self.turn.read().unwrap_or_else(PoisonError::into_inner);
            context.doubts.clear();
            let pressure = Pressure::watch();
            let first = judge();
            (first, context.doubts.any() && pressure.was_felt())
        };
        if let (Ok(_) | Err(JudgeError::ToolMissing(_)), false) = (&first, is_doubtful) {
            return first;
        }
        let _alone = self.turn.write().unwrap_or_else(PoisonError::into_inner);
        again_alone(&first, judge())
    }

    /// Whether an answer parses, or builds where its language has no command for that. No sealed test
    /// is there. What cannot be found out counts as sound: it is left as it stands.
    #[must_use]
    pub fn is_sound(&self, task: &PosedTask, answer: &FileTree, limits: Limits) -> bool {
        let _turn = self.turn.read().unwrap_or_else(PoisonError::into_inner);
        let (doubts, runner) = (&Doubts::default(), task.form.runner());
        let Ok(context) = self.context(task, runner, &[], limits, doubts) else { return true };
        task.form.is_sound(&context, &over_given(task, answer)).unwrap_or(true)
    }

    /// All that the runs of one judgement have in common.
    fn context<'a>(
        &'a self,
        task: &'a Task,
        runner: Option<&str>,
        sealed: &'a [SealedTest],
        limits: Limits,
        doubts: &'a Doubts,
    ) -> Result<JudgeContext<'a>, ToolMissing> {
        let (shared, language, session) = (&self.shared, task.language.as_str(), new_session());
        let (tool, definition) =
            (shared.tools.of_task(task, runner)?, shared.definition(language)?);
        Ok(JudgeContext {
            shared,
            task,
            sealed,
            language,
            definition,
            tool,
            limits,
            session,
            doubts,
        })
    }
}

/// The judgement where nothing can be run.
fn tool_missing(missing: &ToolMissing) -> Judgement {
    let bare = Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
    Judgement { notes: vec![missing.to_string()], ..bare }
}

/// An answer's files, put over those that were given.
fn over_given(task: &PosedTask, answer: &FileTree) -> Snapshot {
    let mut files = task.given.clone();
    files.put_files(answer);
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
fn error_judged(sealed: &[SealedTest], error: &JudgeError) -> Judgement {
    if let JudgeError::ToolMissing(missing) = error {
        return tool_missing(missing);
    }
    let note = chain(error);
    match error.of_the_answer() {
        Some((reason, message)) => {
            let judgement = nothing_run(sealed, reason, message);
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
