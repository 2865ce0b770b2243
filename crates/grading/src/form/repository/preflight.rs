//! Does a task hold on this machine? With its sealed tests on the untouched repository, every test that must
//! turn green is red, and every one that must stay green is green.
//!
//! That is found out once for a task and a machine, and kept beside the prepared tree.

use std::hash::{BuildHasher as _, RandomState};
use std::path::{Path, PathBuf};
use std::{fs, io};

use fairtrial_core::change::Change;
use fairtrial_core::digest::Digest;
use fairtrial_core::testrun::PrintedTests;
use fairtrial_core::text::head_and_tail;
use fairtrial_sandbox::{Ending, Outcome};
use fairtrial_worktree::PreparedTree;

use super::super::Start;
use super::colour::{Colour, colour_of};
use super::guard::Guard;
use super::settings::RepositoryTask;
use super::tests_run::run_tests;
use crate::context::{JudgeContext, JudgeError};
use crate::preflights::{Checked, GuardMode};

/// Names that are given as examples of what is wrong.
const NAMED_MAX: usize = 3;

/// Longest text of what tests said that is kept, in bytes.
const SAID_MAX: usize = 2000;

/// What is known of a task, found out where it is not.
///
/// # Errors
/// [`JudgeError::Unfit`] when it does not hold.
pub fn check(
    task: &RepositoryTask,
    context: &JudgeContext<'_>,
    start: &Start,
) -> Result<Checked, JudgeError> {
    let Start::Prepared(prepared) = start else {
        return Err(JudgeError::Unfit("its repository was not made ready".to_owned()));
    };
    let key = key(task, context, prepared);
    let found = context.shared.preflights.get(&key, || {
        let place = place(context, prepared, &key);
        let kept = place.as_ref().and_then(|it| serde_json::from_slice(&fs::read(it).ok()?).ok());
        if let Some(checked) = kept {
            return Ok(Ok(checked));
        }
        let found = find_out(task, context, prepared)?;
        if let (Ok(checked), Some(place)) = (&found, &place) {
            keep(checked, place);
        }
        Ok::<_, JudgeError>(found)
    })?;
    found.map_err(JudgeError::Unfit)
}

/// Keeps what was found for later runs. Where that fails it is found out again.
fn keep(checked: &Checked, place: &Path) {
    let written = place.with_extension("checked-new");
    let _ = serde_json::to_vec(checked)
        .map_err(io::Error::other)
        .and_then(|bytes| fs::write(&written, bytes))
        .and_then(|()| fs::rename(&written, place));
}

fn key(task: &RepositoryTask, context: &JudgeContext<'_>, prepared: &PreparedTree) -> Digest {
    let text = format!(
        "1\0{}\0{}\0{}\0{}\0{:?}\0{:?}\0{:?}\0{:?}",
        prepared.name(),
        Digest::of_snapshot(&task.sealed),
        task.test,
        task.report,
        task.turn_green,
        task.stay_green,
        task.protected_globs,
        context.limits,
    );
    Digest::of(text.as_bytes())
}

fn place(context: &JudgeContext<'_>, prepared: &PreparedTree, key: &Digest) -> Option<PathBuf> {
    let name = format!("{}-{}.checked", prepared.name(), &key.as_str()[..16]);
    Some(context.sandbox().store()?.join(name))
}

/// Runs the tests on the untouched repository: with tests of our own in files of theirs, then among the
/// others, then without.
fn find_out(
    task: &RepositoryTask,
    context: &JudgeContext<'_>,
    prepared: &PreparedTree,
) -> Result<Result<Checked, String>, JudgeError> {
    let mut fault = String::new();
    let seed = RandomState::new().hash_one(task.test.as_str());
    for mode in [GuardMode::Beside, GuardMode::Within, GuardMode::Nowhere] {
        let guard = Guard::make(task, context, prepared.base(), mode, seed);
        if guard.canaries.is_empty() && mode != GuardMode::Nowhere {
            continue;
        }
        let run = run_tests(task, context, prepared, &Change::default(), &guard.sealed)?;
        let found = faults(task, context, &run.outcome, &run.tests);
        let stands = match &run.tests {
            Ok(tests) => mode == GuardMode::Nowhere || guard.stands(&tests.tests),
            Err(_) => false,
        };
        match found {
            None if stands => {
                let status_tells = run.outcome.ending != Ending::Exited(0);
                return Ok(Ok(Checked { guard: mode, seed, status_tells }));
            }
            None => {}
            Some(found) => fault = found,
        }
    }
    Ok(Err(fault))
}

/// Why the tests do not come to what they must before anything is changed.
fn faults(
    task: &RepositoryTask,
    context: &JudgeContext<'_>,
    outcome: &Outcome,
    tests: &Result<PrintedTests, String>,
) -> Option<String> {
    let before = "before anything is changed";
    if outcome.limit.is_some() {
        return Some(format!("{before}, its tests {}", context.ended(outcome)));
    }
    let said = || {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim().to_owned();
        let all = format!("{}\n{}", text(&outcome.stdout.bytes), text(&outcome.stderr.bytes));
        head_and_tail(all.trim(), SAID_MAX)
    };
    let tests = match tests {
        Err(why) => return Some(format!("{before}, {why}; its tests said: {}", said())),
        Ok(tests) if tests.tests.is_empty() => {
            let ended = context.ended(outcome);
            return Some(format!(
                "{before}, no result of a test can be read as `{}`: the command {ended}; it said: {}",
                task.report,
                said()
            ));
        }
        Ok(tests) => &tests.tests,
    };
    let wrong = |names: &[String], wanted: fn(Colour) -> bool| -> Vec<String> {
        let of = |name: &String| {
            let colour = colour_of(name, tests);
            (!wanted(colour)).then(|| format!("`{name}` {}", colour.word()))
        };
        names.iter().filter_map(of).collect()
    };
    let green = wrong(&task.turn_green, |it| it != Colour::Green);
    let not_green = wrong(&task.stay_green, |it| it == Colour::Green);
    let mut parts = Vec::new();
    for (list, names) in [("turn_green", green), ("stay_green", not_green)] {
        if !names.is_empty() {
            let more = names.len().saturating_sub(NAMED_MAX);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let shown: Vec<String> = names.into_iter().take(NAMED_MAX).collect();
            parts.push(format!("of `{list}` {}{more}", shown.join(", ")));
        }
    }
    (!parts.is_empty()).then(|| format!("{before}, {}", parts.join("; ")))
}
