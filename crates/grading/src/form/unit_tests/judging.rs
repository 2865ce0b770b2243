//! The form `tests`: sealed unit tests, run by the language's own runner.
//!
//! Where candidate and tests share a process, the sealed files are put over the answer, from a fresh
//! copy, as twins of themselves where they can be taken apart; what runners pick up by themselves is not taken from the
//! candidate; and whatever shows that the report was tampered with is a reason of its own.

use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::TestRunner;
use fairtrial_core::tree::Snapshot;
use fairtrial_core::verdict::{FailReason, Verdict};
use fairtrial_sandbox::{Archive, Collect, Ending, Job, Tier};

use super::run::{Run, env, written};
use super::sealed::{SealedTests, TestsProcess, TestsSettings};
use super::twinned::judge_twinned;
use crate::build::said;
use crate::context::{JudgeContext, JudgeError, new_session};
use crate::outcome::nothing_run;
use crate::twins::Suite;

/// What is said where tests that run apart cannot.
const NOT_APART: &str =
    "the tests shared a process with the answer: to run them apart takes the full tier";

/// Judges by unit tests.
pub fn judge(
    context: &JudgeContext<'_>,
    settings: &TestsSettings,
    sealed: &SealedTests,
    files: &Snapshot,
) -> Result<Judgement, JudgeError> {
    let Some(runner) = context.definition.runners.get(&settings.runner) else {
        let message = format!("there is no runner `{}`", settings.runner);
        return Ok(nothing_run(context.sealed, FailReason::DidNotBuild, Some(message)));
    };
    let (taken, notes) = without_config(files, settings, sealed, runner);
    let run = Run::prepare(context, settings, runner, sealed);
    let is_shared = settings.process == Some(TestsProcess::Shared);
    let suite = || {
        Suite::take_apart(&runner.twins, &sealed.files, |path, bytes| runner.has_tests(path, bytes))
    };
    // Elsewhere the folders of two sandboxes have different names.
    let has_room = context.sandbox().tier() == Tier::Full;
    let mut judgement = match &runner.apart {
        Some(apart) if !is_shared && has_room => run.judge_apart(apart, &taken)?,
        of_two => match suite() {
            // Where there is no other way, it asks for less.
            Some(suite) if is_shared && of_two.is_none() => {
                judge_twinned(&run, &suite.with_own_names(), &taken)?
            }
            Some(suite) => judge_twinned(&run, &suite, &taken)?,
            None => run.judge(&taken)?,
        },
    };
    let not_run = FailReason::DidNotBuild;
    if judgement.verdict == Verdict::Fail(not_run) {
        judgement.message = check(context, settings, runner, &taken)?;
    }
    judgement.notes.splice(0..0, notes);
    if runner.apart.is_some() && !is_shared && !has_room {
        judgement.notes.push(NOT_APART.to_owned());
    }
    Ok(judgement)
}

/// Why an answer does not build or load by itself; `None` when it does. No sealed file is there, so
/// whatever the answer says may be passed on.
pub fn check(
    context: &JudgeContext<'_>,
    settings: &TestsSettings,
    runner: &TestRunner,
    files: &Snapshot,
) -> Result<Option<String>, JudgeError> {
    let mut base = Archive::of_snapshot(files)?;
    let written = Archive::of(&written(settings, runner)?)?;
    let apart = JudgeContext { session: new_session(), ..*context };
    for command in &runner.check {
        let caps = apart.build_caps();
        let command = apart.command(command, &settings.file, caps.memory);
        let env = env(&apart, settings, runner);
        let job = Job {
            command,
            collect: Collect::All,
            env,
            ..apart.job(&[], &settings.file, caps, vec![&base, &written])
        };
        let outcome = apart.sandbox().run(&job)?;
        if outcome.limit.is_some() || outcome.ending != Ending::Exited(0) {
            return Ok(Some(said(&apart, &outcome)));
        }
        if let Some(built) = outcome.collected {
            base = built;
        }
    }
    Ok(None)
}

/// The candidate's files without those that a runner picks up by itself, and without those that
/// bear the name of a sealed one.
fn without_config(
    files: &Snapshot,
    settings: &TestsSettings,
    sealed: &SealedTests,
    runner: &TestRunner,
) -> (Snapshot, Vec<String>) {
    let (mut taken, mut notes) = (Snapshot::new(), Vec::new());
    for (path, node) in files.iter() {
        let is_config = runner.is_config(path) || runner.lay.contains_key(path.as_str());
        let allowed = *path == settings.file || settings.allow.contains(path);
        if sealed.files.contains_key(path) {
            notes.push(format!("`{path}` was not taken from the answer: it is a sealed file"));
        } else if is_config && !allowed {
            notes.push(format!("`{path}` was not taken from the answer: the runner obeys it"));
        } else {
            taken.put(path.clone(), node.clone());
        }
    }
    (taken, notes)
}
