//! Judging a change: which tests changed their colour.

use std::collections::BTreeSet;

use fairtrial_core::change::{Change, ChangeFacts, apply_patch, write_patch};
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::testrun::{PrintedTests, ReportedTest, Status};
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::TreePath;
use fairtrial_core::verdict::{FailReason, Verdict};
use fairtrial_sandbox::{Ending, Outcome};

use super::super::{Answered, Start};
use super::colour::{Colour, colour_of, meant};
use super::guard::Guard;
use super::pickups::picked_up;
use super::preflight;
use super::settings::RepositoryTask;
use super::tests_run::{TestsRun, run_tests};
use crate::canaries::{NOT_REPORTED, canary_evidence};
use crate::context::{JudgeContext, JudgeError};
use crate::outcome::{nothing_run, usage};
use crate::preflights::{Checked, GuardMode};

/// Longest message kept of a test, in bytes.
const MESSAGE_MAX: usize = 4 << 10;

/// Broken tests that a note names.
const NAMED_MAX: usize = 5;

/// The role of a test in its outcome.
pub const TURN_GREEN: &str = "turn green";
pub const STAY_GREEN: &str = "stay green";

/// Judges a change of the prepared repository.
pub fn judge(
    task: &RepositoryTask,
    context: &JudgeContext<'_>,
    answered: &Answered<'_>,
) -> Result<Judgement, JudgeError> {
    let Start::Prepared(prepared) = answered.start else {
        return Err(JudgeError::Unfit("its repository was not made ready".to_owned()));
    };
    let checked = preflight::check(task, context, answered.start)?;
    let put_back =
        |path: &TreePath| task.protected.is_match(path.to_string()) || picked_up(task.report, path);
    let (back, taken) = answered.change.clone().split(put_back);
    let facts = facts(task, answered, &back);
    let mut judgement = if answered.change.is_empty() {
        nothing_run(context.sealed, FailReason::EmptyChange, None)
    } else {
        let guard = Guard::make(task, context, prepared.base(), checked.guard, checked.seed);
        let run = run_tests(task, context, prepared, &taken, &guard.sealed)?;
        resolve(task, context, checked, &guard, run)
    };
    judgement.notes.splice(0..0, notes(checked, &back));
    judgement.change = Some(Box::new(facts));
    Ok(judgement)
}

fn facts(task: &RepositoryTask, answered: &Answered<'_>, back: &Change) -> ChangeFacts {
    let base = answered.start.tree();
    let patch = write_patch(base, answered.change);
    let mut facts = ChangeFacts::of(base, answered.change, patch.len() as u64);
    let right = task.right.as_ref().and_then(|it| apply_patch(base, it, u64::MAX).ok());
    facts.compare(&task.expected, right.map(|it| it.change).as_ref());
    facts.put_back = back.iter().map(|(path, _)| path.to_string()).collect();
    facts
}

fn notes(checked: Checked, back: &Change) -> Vec<String> {
    let mut notes: Vec<String> = back
        .iter()
        .map(|(path, _)| format!("`{path}` was put back: a change may not touch it"))
        .collect();
    if checked.guard == GuardMode::Nowhere {
        notes.push("no tests of our own stand among the sealed ones".to_owned());
    }
    notes
}

fn resolve(
    task: &RepositoryTask,
    context: &JudgeContext<'_>,
    checked: Checked,
    guard: &Guard,
    run: TestsRun,
) -> Judgement {
    let TestsRun { outcome, tests } = run;
    if outcome.limit.is_some() {
        return not_run(context, context.reason(&outcome), &outcome, "");
    }
    let tests = match tests {
        Ok(tests) => tests,
        Err(why) => return not_run(context, FailReason::Crashed, &outcome, &why),
    };
    let named = |name: &String, role| outcome_of(name, role, &tests.tests);
    let turned = task.turn_green.iter().map(|name| named(name, TURN_GREEN));
    let stayed = task.stay_green.iter().map(|name| named(name, STAY_GREEN));
    let mut outcomes: Vec<TestOutcome> = turned.chain(stayed).collect();
    let any_reported = outcomes.iter().any(|it| it.summary != Colour::Missing.word());
    if !any_reported {
        return not_run(context, FailReason::DidNotBuild, &outcome, "no listed test was run");
    }
    if let Some(first) = outcomes.first_mut() {
        first.usage = Some(usage(&outcome));
    }
    let any_green = outcomes.iter().any(|it| it.failed.is_none());
    let evidence = evidence(checked, guard, &outcome, &tests, any_green);
    let mut judgement = Judgement { tests: outcomes, ..Judgement::bare(Verdict::Pass) };
    let is_cut_short = evidence.iter().all(|it| it == NOT_REPORTED);
    if !evidence.is_empty() && is_cut_short && outcome.ending != Ending::Exited(0) {
        judgement.verdict = Verdict::Fail(FailReason::Crashed);
        let ended = context.ended(&outcome);
        judgement.notes.push(format!("not all tests were run: the command {ended}"));
        return judgement;
    }
    if !evidence.is_empty() {
        return tampered(judgement, &evidence);
    }
    let red = |role: &str| {
        let failed = judgement.tests.iter().filter(|it| it.failed.is_some() && it.role == role);
        failed.map(|it| format!("`{}`", it.name)).collect::<Vec<_>>()
    };
    let (still_red, broken) = (red(TURN_GREEN), red(STAY_GREEN));
    let mut notes = Vec::new();
    if !still_red.is_empty() {
        let (count, all) = (still_red.len(), task.turn_green.len());
        notes.push(format!("{count} of the {all} tests that must turn green are still red"));
        judgement.verdict = Verdict::Fail(FailReason::WrongResult);
    }
    if !broken.is_empty() {
        let more = broken.len().saturating_sub(NAMED_MAX);
        let named = broken[..broken.len() - more].join(", ");
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        notes.push(format!("broken, of what worked before: {named}{more}"));
        if still_red.is_empty() {
            judgement.verdict = Verdict::Fail(FailReason::BrokeWhatWorked);
        }
    }
    judgement.notes.extend(notes);
    judgement
}

/// What a listed test came to. What its runner said of it is for people only: code of the candidate's can
/// read the sealed tests.
fn outcome_of(name: &str, role: &str, tests: &[ReportedTest]) -> TestOutcome {
    let colour = colour_of(name, tests);
    let passed = TestOutcome {
        role: role.to_owned(),
        summary: colour.word().to_owned(),
        ..TestOutcome::passed(name, false, 1.0)
    };
    if colour == Colour::Green {
        return passed;
    }
    let failed =
        if role == TURN_GREEN { FailReason::WrongResult } else { FailReason::BrokeWhatWorked };
    let said = meant(name, tests).find(|it| it.status == Status::Failed);
    let found = said.map_or(String::new(), |it| head_and_tail(&it.message, MESSAGE_MAX));
    TestOutcome { failed: Some(failed), found, ..passed }
}

/// Everything that shows that the report is not to be believed, each once.
fn evidence(
    checked: Checked,
    guard: &Guard,
    outcome: &Outcome,
    tests: &PrintedTests,
    any_green: bool,
) -> BTreeSet<String> {
    let canaries = canary_evidence(&guard.canaries, &tests.tests, any_green);
    let mut evidence: BTreeSet<String> = canaries.into_iter().collect();
    let must_fail = guard.canaries.iter().any(|it| !it.holds);
    if must_fail && any_green && checked.status_tells && outcome.ending == Ending::Exited(0) {
        evidence
            .insert("the command ended as if all had passed, although a test must fail".to_owned());
    }
    if let (Some(stated), true) = (tests.stated, must_fail && any_green)
        && stated.failed == 0
    {
        evidence.insert("the runner counted no failed test, although one must fail".to_owned());
    }
    evidence
}

/// A judgement of tests that could not be run. What was printed is for people only.
fn not_run(
    context: &JudgeContext<'_>,
    reason: FailReason,
    outcome: &Outcome,
    why: &str,
) -> Judgement {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let (stdout, stderr) = (text(&outcome.stdout.bytes), text(&outcome.stderr.bytes));
    let ended = context.ended(outcome);
    let said = head_and_tail(format!("{why}\n{ended}\n{stdout}\n{stderr}").trim(), MESSAGE_MAX);
    let mut judgement = nothing_run(context.sealed, reason, None);
    if let Some(first) = judgement.tests.first_mut() {
        (first.found, first.usage) = (said, Some(usage(outcome)));
    }
    judgement
}

/// A judgement of which nothing is believed any longer.
fn tampered(mut judgement: Judgement, evidence: &BTreeSet<String>) -> Judgement {
    for test in judgement.tests.iter_mut().filter(|it| it.failed.is_none()) {
        test.failed = Some(FailReason::Tampering);
        test.summary = "passed, as was reported; but the report is not to be believed".to_owned();
    }
    judgement.verdict = Verdict::Fail(FailReason::Tampering);
    judgement.notes = evidence.iter().map(|it| format!("tampering: {it}")).collect();
    judgement
}
