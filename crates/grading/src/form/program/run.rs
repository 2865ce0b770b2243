//! The form `program`: every case is a run of its own, from the same fresh folder.

use std::collections::BTreeMap;

use super::case::{Case, CaseOutcome, ProgramResult};
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::text::{TextMismatch, head_and_tail};
use fairtrial_core::tree::RelPath;
use fairtrial_core::verdict::FailReason;
use fairtrial_sandbox::{Archive, Collect, Ending, Outcome};

use crate::context::{JudgeContext, JudgeError, new_session};
use crate::outcome::{TIMEOUTS_MAX, any_failed, resolve, usage};

/// Longest text kept of an input, an expectation or an output, in bytes.
const SHOWN_MAX: usize = 4 << 10;

/// Judges the program `file` by cases. Examples are run only when something sealed failed. Nothing of one run is there in
/// the next, so what an answer says of an example cannot tell of a sealed case.
pub fn judge(
    context: &JudgeContext<'_>,
    file: &RelPath,
    layer: &Archive,
    sealed: &[Case],
    visible: &[Case],
) -> Result<Judgement, JudgeError> {
    let mut tests = run_all(context, file, layer, sealed, false)?;
    if any_failed(&tests) && !visible.is_empty() {
        let apart = JudgeContext { session: new_session(), ..*context };
        tests.extend(run_all(&apart, file, layer, visible, true)?);
    }
    Ok(resolve(tests, None))
}

fn run_all(
    context: &JudgeContext<'_>,
    file: &RelPath,
    layer: &Archive,
    cases: &[Case],
    visible: bool,
) -> Result<Vec<TestOutcome>, JudgeError> {
    let mut tests: Vec<TestOutcome> = Vec::new();
    for case in cases {
        let timeouts = tests.iter().filter(|it| it.failed == Some(FailReason::TimedOut)).count();
        tests.push(if timeouts >= TIMEOUTS_MAX {
            not_run(case, visible)
        } else {
            run_case(context, file, layer, case, visible)?
        });
    }
    Ok(tests)
}

fn not_run(case: &Case, visible: bool) -> TestOutcome {
    TestOutcome {
        failed: Some(FailReason::TimedOut),
        summary: "not run, since others ran out of time".to_owned(),
        ..empty(case, visible)
    }
}

fn empty(case: &Case, visible: bool) -> TestOutcome {
    TestOutcome { input: input(case), ..TestOutcome::passed(&case.name, visible, case.points) }
}

fn input(case: &Case) -> String {
    let mut parts = Vec::new();
    if !case.args.is_empty() {
        parts.push(format!("arguments: {}", case.args.join(" ")));
    }
    for (path, bytes) in &case.files {
        parts.push(format!("{path}:\n{}", String::from_utf8_lossy(bytes)));
    }
    if !case.stdin.is_empty() {
        parts.push(String::from_utf8_lossy(&case.stdin).into_owned());
    }
    head_and_tail(&parts.join("\n"), SHOWN_MAX)
}

fn run_case(
    context: &JudgeContext<'_>,
    file: &RelPath,
    layer: &Archive,
    case: &Case,
    visible: bool,
) -> Result<TestOutcome, JudgeError> {
    let files = Archive::of(&case.files)?;
    let wanted: Vec<RelPath> = case.files_after.keys().cloned().collect();
    let driver = context.driver(&context.definition.drivers.program)?;
    let mut job = context.job(&context.definition.run, file, context.caps(), vec![layer, &files]);
    job.driver = driver.as_ref();
    job.command.extend(case.args.iter().cloned());
    job.stdin.clone_from(&case.stdin);
    if !wanted.is_empty() {
        job.collect = Collect::Files(wanted);
    }
    let outcome = context.sandbox().run(&job)?;
    let mut files_after = BTreeMap::new();
    if let Some(archive) = &outcome.collected {
        files_after.extend(archive.files()?);
    }
    let mut test = TestOutcome { usage: Some(usage(&outcome)), ..empty(case, visible) };
    match (outcome.limit, outcome.ending) {
        (None, Ending::Exited(status)) => {
            let result =
                ProgramResult { status, stdout: &outcome.stdout.bytes, files_after: &files_after };
            write_down(context, &case.judge(&result), status, &outcome, &mut test);
        }
        _ => {
            test.failed = Some(context.reason(&outcome));
            test.summary = context.ended(&outcome);
            test.found = stderr(&outcome);
        }
    }
    Ok(test)
}

/// Writes down what a case came to.
fn write_down(
    context: &JudgeContext<'_>,
    judged: &CaseOutcome,
    status: i32,
    outcome: &Outcome,
    test: &mut TestOutcome,
) {
    let mut differs = |what: String, mismatch: &TextMismatch| {
        test.failed = Some(FailReason::WrongResult);
        test.summary = format!("{what} differs at {}", mismatch.place);
        test.expected = head_and_tail(&mismatch.expected, SHOWN_MAX);
        test.found = head_and_tail(&mismatch.found, SHOWN_MAX);
    };
    match judged {
        CaseOutcome::Holds => {}
        CaseOutcome::WrongOutput(mismatch) => differs("standard output".to_owned(), mismatch),
        CaseOutcome::WrongFile(path, mismatch) => differs(format!("the file `{path}`"), mismatch),
        CaseOutcome::MissingFile(path) => {
            test.failed = Some(FailReason::WrongResult);
            test.summary = "a file is missing afterwards".to_owned();
            test.expected = format!("the file `{path}`");
        }
        CaseOutcome::WrongStatus { expected } => {
            // Ending with an error where success was expected is a crash; any other difference is
            // a wrong result.
            let crashed = *expected == 0;
            test.failed =
                Some(if crashed { context.reason(outcome) } else { FailReason::WrongResult });
            test.summary = context.ended(outcome);
            test.expected = format!("status {expected}");
            test.found = format!("status {status}\n{}", stderr(outcome)).trim_end().to_owned();
        }
    }
}

fn stderr(outcome: &Outcome) -> String {
    head_and_tail(&String::from_utf8_lossy(&outcome.stderr.bytes), SHOWN_MAX)
}
