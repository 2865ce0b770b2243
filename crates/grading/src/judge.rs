//! From a task and an answer's files to a judgement.
//!
//! Whatever an answer does, its judgement is a verdict on it. What looks like a fault of ours, or of a
//! machine that is busy with other things, is judged again with nothing beside it; what is lost twice
//! while the answer's program runs is the answer's doing.

use std::sync::{PoisonError, RwLock};

use fairtrial_core::change::Change;
use fairtrial_core::digest::Digest;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Languages;
use fairtrial_core::limits::{LimitSettings, Limits};
use fairtrial_core::task::{DocketSettings, Task};
use fairtrial_core::tree::FileTree;
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_sandbox::Sandbox;
use fairtrial_worktree::TreeCache;

use crate::context::{JudgeContext, JudgeError, new_session};
use crate::docket::PosedTask;
use crate::doubts::Doubts;
use crate::form::{Answered, Start, Surroundings};
use crate::outcome::{SealedTest, nothing_run};
use crate::preflights::Preflights;
use crate::pressure::Pressure;
use crate::shared::{Builds, Seats, Shared, Soundness};
use crate::stability;
use crate::tools::{ToolMissing, Toolbox};

/// Judges answers. One serves any number of threads.
#[derive(Debug)]
pub struct Judge {
    shared: Shared,
    /// Shared by judgements that are made at the same time; taken alone by one that must be.
    turn: RwLock<()>,
}

/// Bytes that prepared repositories may have, all together.
pub const TREES_MAX: u64 = 8 << 30;

/// The limits of a task: the built-in ones, overlaid by its language's, its form's, the docket's, its own
/// and the plan's.
#[must_use]
pub fn limits_of(
    languages: &Languages,
    docket: &DocketSettings,
    task: &PosedTask,
    plan: &LimitSettings,
) -> Limits {
    let language = languages.find(&task.language).map(|it| it.limits).unwrap_or_default();
    Limits::default()
        .overlaid(&language)
        .overlaid(&task.form.limits())
        .overlaid(&docket.limits)
        .overlaid(&task.limits)
        .overlaid(plan)
}

impl Judge {
    /// A judge who knows these languages, has these tools, and runs code in this sandbox.
    #[must_use]
    pub fn new(languages: Languages, tools: Toolbox, sandbox: Sandbox) -> Self {
        Self::with_trees(languages, tools, sandbox, TreeCache::new(TREES_MAX, false))
    }

    /// The same with another cache of prepared repositories.
    #[must_use]
    pub fn with_trees(
        languages: Languages,
        tools: Toolbox,
        sandbox: Sandbox,
        trees: TreeCache,
    ) -> Self {
        let (builds, checkers_doubts) = (Builds::default(), Doubts::default());
        let (preflights, soundness) = (Preflights::default(), Soundness::default());
        let shared = Shared {
            languages,
            tools,
            sandbox,
            builds,
            soundness,
            trees,
            preflights,
            checkers_doubts,
            seats: Seats::default(),
        };
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

    /// Judges files, put over the task's given ones. `examples` says whether visible examples are run
    /// after a failure, for feedback.
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
        match self.start(task, limits) {
            Ok(start) => {
                self.judge_change(task, &start, &Change::from(answer.clone()), limits, examples)
            }
            Err(error) => error_judged(&task.form.sealed_tests(), &error),
        }
    }

    /// What answers to a task start from: made ready where that takes something.
    ///
    /// # Errors
    /// When it cannot be made ready, or something that it takes is not on this machine.
    pub fn start(&self, task: &PosedTask, limits: Limits) -> Result<Start, JudgeError> {
        let (doubts, runner) = (&Doubts::default(), task.form.runner());
        let context = self.context(task, runner, &[], limits, doubts);
        task.form.start(&context.map_err(JudgeError::ToolMissing)?)
    }

    /// What programs of a task find around them.
    ///
    /// # Errors
    /// When something that the task takes is not on this machine.
    pub fn surroundings(
        &self,
        task: &PosedTask,
        limits: Limits,
    ) -> Result<Surroundings, ToolMissing> {
        let (doubts, runner) = (&Doubts::default(), task.form.runner());
        Ok(task.form.surroundings(&self.context(task, runner, &[], limits, doubts)?))
    }

    /// Whether a task holds on this machine before anything is changed.
    ///
    /// # Errors
    /// Why not.
    pub fn preflight(&self, task: &PosedTask, limits: Limits) -> Result<Start, JudgeError> {
        let (doubts, runner) = (&Doubts::default(), task.form.runner());
        let sealed = task.form.sealed_tests();
        let context = self.context(task, runner, &sealed, limits, doubts);
        let context = context.map_err(JudgeError::ToolMissing)?;
        let start = task.form.start(&context)?;
        task.form.preflight(&context, &start)?;
        Ok(start)
    }

    /// Judges a change of what the task starts from.
    pub(crate) fn judge_change(
        &self,
        task: &PosedTask,
        start: &Start,
        change: &Change,
        limits: Limits,
        examples: bool,
    ) -> Judgement {
        let (doubts, sealed) = (&Doubts::default(), task.form.sealed_tests());
        let context = match self.context(task, task.form.runner(), &sealed, limits, doubts) {
            Ok(context) => context,
            Err(missing) => return tool_missing(&missing),
        };
        let answered = Answered { start, change };
        let judge = || {
            self.judged(&context, || task.form.judge(&context, &answered, examples))
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
            let _seat = self.shared.seats.take();
            context.doubts.clear();
            let pressure = Pressure::watch();
            let first = judge();
            (first, context.doubts.any() && pressure.was_felt())
        };
        if let (Ok(_) | Err(JudgeError::ToolMissing(_) | JudgeError::Unfit(_)), false) =
            (&first, is_doubtful)
        {
            return first;
        }
        let _alone = self.turn.write().unwrap_or_else(PoisonError::into_inner);
        let _seats = self.shared.seats.take_all();
        again_alone(&first, judge())
    }

    /// Whether an answer parses, or builds where its language has no command for that; `None` when that
    /// cannot be found out. No sealed test is there. Equal files are looked at once.
    #[must_use]
    pub(crate) fn is_sound(
        &self,
        task: &PosedTask,
        start: &Start,
        change: &Change,
        limits: Limits,
    ) -> Option<bool> {
        let _turn = self.turn.read().unwrap_or_else(PoisonError::into_inner);
        let (doubts, runner) = (&Doubts::default(), task.form.runner());
        let context = self.context(task, runner, &[], limits, doubts).ok()?;
        let files = Digest::of_snapshot(&Answered { start, change }.files());
        let of_what = format!("{} {:?} {files}", task.digest, context.tool.program);
        let key = Digest::of(of_what.as_bytes());
        if let Some(known) = self.shared.soundness.find(&key) {
            return Some(known);
        }
        let found = task.form.is_sound(&context, &Answered { start, change }).ok()??;
        self.shared.soundness.keep(key, found);
        Some(found)
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
pub(crate) fn error_judged(sealed: &[SealedTest], error: &JudgeError) -> Judgement {
    let note = match error {
        JudgeError::ToolMissing(missing) => return tool_missing(missing),
        JudgeError::Unfit(why) => {
            let bare = Judgement::bare(Verdict::Void(VoidReason::Preflight));
            return Judgement { notes: vec![why.clone()], ..bare };
        }
        JudgeError::Sandbox(_) => chain(error),
    };
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
