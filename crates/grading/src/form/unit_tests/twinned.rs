//! Sealed unit tests in one process with the answer: as twins of themselves, in two runs that complement each
//! other.
//!
//! A right answer passes both, and nothing else is run. Where something does not pass, the tests are run once more
//! as they stand, for what the runner says of them.

use std::collections::{BTreeMap, BTreeSet};
use std::panic::resume_unwind;
use std::thread;

use fairtrial_core::judgement::Judgement;
use fairtrial_core::tree::Snapshot;
use fairtrial_core::verdict::{FailReason, Verdict};
use fairtrial_sandbox::{Archive, Outcome};

use super::run::{BuiltFiles, LaidTests, Run, tampered};
use super::sealed::{ResolvedTests, TestsProcess, Wrong};
use crate::context::{JudgeContext, JudgeError, new_session};
use crate::test_rng::TestRng;
use crate::twins::{Choice, Findings, Level, Suite, Trace, Written};

/// How often a changed assertion that held is changed otherwise before it counts.
const ROUNDS: usize = 6;

/// How often where there are several.
const ROUNDS_OF_SEVERAL: usize = 2;

/// What several are.
const SEVERAL: usize = 3;

/// In how many of these it may fail all the same: who looks for what is expected does not always find it.
const MISSES: usize = 2;

/// What came of a run with twins.
struct TwinRun {
    outcome: Outcome,
    /// What it shows, or why it shows nothing.
    findings: Result<Findings, (FailReason, String)>,
    /// What shows that files were changed.
    changed: BTreeSet<String>,
    /// Whether a file of tests could not be loaded.
    is_broken: bool,
}

impl TwinRun {
    fn is_all(&self, names: &[String]) -> bool {
        self.changed.is_empty() && self.findings.as_ref().is_ok_and(|it| it.is_all(names))
    }

    fn evidence(&self) -> BTreeSet<String> {
        let mut evidence = self.changed.clone();
        evidence.extend(self.findings.iter().flat_map(|it| it.evidence.iter().cloned()));
        evidence
    }

    fn held(&self) -> BTreeSet<usize> {
        self.findings.as_ref().map(|it| it.held.clone()).unwrap_or_default()
    }
}

/// What came of a run, or how its build failed.
type TwinResult = Result<Result<TwinRun, Box<Outcome>>, JudgeError>;

/// Runs that all build at one level of change.
struct Twinning<'a> {
    run: &'a Run<'a>,
    suite: &'a Suite,
    base: &'a Archive,
    rng: TestRng,
}

impl Twinning<'_> {
    /// Runs it with these changes.
    fn run(&mut self, choice: &Choice) -> TwinResult {
        let written = self.suite.write(choice, &mut self.rng);
        self.run_written(self.run, &written)
    }

    /// Runs two halves: both at once where a processor is free, or else only the first.
    fn run_halves(&mut self, halves: &[Choice; 2]) -> (TwinResult, Option<TwinResult>) {
        let Some(_seat) = self.run.context.shared.seats.take_free() else {
            return (self.run(&halves[0]), None);
        };
        let [first, second] = halves.each_ref().map(|it| self.suite.write(it, &mut self.rng));
        let context = JudgeContext { session: new_session(), ..*self.run.context };
        let beside = Run { context: &context, ..self.run.clone() };
        thread::scope(|scope| {
            let second = scope.spawn(|| self.run_written(&beside, &second));
            let first = self.run_written(self.run, &first);
            (first, Some(second.join().unwrap_or_else(|panic| resume_unwind(panic))))
        })
    }

    fn run_written(&self, run: &Run<'_>, written: &Written) -> TwinResult {
        let laid = LaidTests { files: written.files.clone(), code: written.code.clone() };
        let built = run.build(&run.runner.build, self.base, Some(&laid))?;
        let built = match built {
            Ok(built) => built,
            Err(outcome) => return Ok(Err(outcome)),
        };
        let test_run = run.run_tests(&built, &laid)?;
        let (outcome, context) = (test_run.outcome, run.context);
        let mut is_broken = false;
        let findings = match test_run.report {
            _ if outcome.limit.is_some() => Err((context.reason(&outcome), String::new())),
            Err(why) => Err((FailReason::Crashed, why)),
            Ok(report) => {
                is_broken = report.broken.is_some();
                let streams =
                    [&outcome.stdout.bytes[..], &outcome.stderr.bytes[..], &test_run.sent[..]];
                let trace = Trace::read(&written.mark, &streams);
                let mut findings = Findings::read(self.suite, written, &report.tests, &trace);
                findings.any_failed |= !run.has_ended(&report);
                Ok(findings)
            }
        };
        let changed = test_run.changed.into_iter().collect();
        Ok(Ok(TwinRun { outcome, findings, changed, is_broken }))
    }

    /// What came of a run, where it built. Literals differ, so one half may build where another does not: then
    /// assertions alone are changed.
    fn or_less(&mut self, result: TwinResult, choice: &Choice) -> TwinResult {
        match result? {
            Err(_) if choice.level == Level::Full => {
                self.run(&Choice { level: Level::Swaps, ..choice.clone() })
            }
            result => Ok(result),
        }
    }

    /// Adds runs with changes of two halves each, as long as all pass. How a build failed is given back.
    fn add_pairs(
        &mut self,
        level: Level,
        runs: &mut Vec<TwinRun>,
    ) -> Result<Option<Box<Outcome>>, JudgeError> {
        for _ in 1..self.suite.pairs(level) {
            if !self.all_passed(runs) {
                break;
            }
            let halves = self.suite.halves(level, &mut self.rng);
            let (first, second) = self.run_halves(&halves);
            match self.or_less(first, &halves[0])? {
                Ok(run) => runs.push(run),
                failed => return Ok(failed.err()),
            }
            if let Some(failed) = self.add_second(second, &halves[1], runs)? {
                return Ok(Some(failed));
            }
        }
        Ok(None)
    }

    /// Adds what came of a second half, which is run where it was not, and where all else passed.
    fn add_second(
        &mut self,
        second: Option<TwinResult>,
        choice: &Choice,
        runs: &mut Vec<TwinRun>,
    ) -> Result<Option<Box<Outcome>>, JudgeError> {
        if second.is_none() && !self.all_passed(runs) {
            return Ok(None);
        }
        let second = second.unwrap_or_else(|| self.run(choice));
        match self.or_less(second, choice)? {
            Ok(run) => runs.push(run),
            failed => return Ok(failed.err()),
        }
        Ok(None)
    }

    fn all_passed(&self, runs: &[TwinRun]) -> bool {
        runs.iter().all(|it| it.is_all(&self.run.sealed.names))
    }

    /// Of assertions that held although they were changed, those that hold however they are changed. What comes of
    /// the others is added to `runs`.
    fn confirmed(
        &mut self,
        held: BTreeSet<usize>,
        runs: &mut Vec<TwinRun>,
    ) -> Result<BTreeSet<usize>, JudgeError> {
        let mut misses: BTreeMap<usize, usize> = held.into_iter().map(|it| (it, 0)).collect();
        for round in 0..ROUNDS {
            let sure = misses.iter().filter(|it| *it.1 == 0 && !self.suite.is_made(*it.0)).count();
            // Several that hold each time need not be asked as often as one.
            if misses.is_empty() || (round >= ROUNDS_OF_SEVERAL && sure >= SEVERAL) {
                break;
            }
            let level = if round == 0 { Level::Full } else { Level::Far };
            let changed = misses.keys().copied().collect();
            let choice = Choice { level, changed, failing: BTreeSet::new() };
            if let Ok(again) = self.run(&choice)? {
                if let Ok(findings) = &again.findings {
                    misses.retain(|site, misses| {
                        *misses += usize::from(!findings.held.contains(site));
                        // Where a value is made, several may make the same: then it must hold each time.
                        *misses == 0 || (*misses <= MISSES && !self.suite.is_made(*site))
                    });
                }
                runs.push(again);
            }
        }
        Ok(misses.into_keys().collect())
    }
}

/// Judges an answer by a suite with twins.
pub fn judge_twinned(
    run: &Run<'_>,
    suite: &Suite,
    files: &Snapshot,
) -> Result<Judgement, JudgeError> {
    let base = Archive::of_snapshot(files)?;
    let base = match run.build(&run.runner.build_answer, &base, None)? {
        Ok(built) => built,
        Err(outcome) => return Ok(run.not_run(FailReason::DidNotBuild, &outcome, "")),
    };
    let mut twinning = Twinning { run, suite, base: &base, rng: TestRng::new(run.seed) };
    let mut as_it_stands = None;
    let mut notes = Vec::new();
    // An answer may fail to build or to load by chance: without twins its tests run only where the task asks for less.
    let is_less = run.settings.process == Some(TestsProcess::Shared) && run.runner.apart.is_none();
    let levels: &[Level] = if is_less {
        &[Level::Full, Level::Swaps, Level::Named]
    } else {
        &[Level::Full, Level::Swaps]
    };
    for &level in levels {
        let halves = suite.halves(level, &mut twinning.rng);
        let (first, second) = twinning.run_halves(&halves);
        let first = match first? {
            Ok(first) if first.is_broken && !is_broken_as_it_stands(run, &base)? => {
                notes = vec![less(level, &run.said(&first.outcome))];
                as_it_stands = as_it_stands.or(Some(BuiltFiles::Given(&base)));
                continue;
            }
            Ok(first) => first,
            Err(outcome) => {
                if as_it_stands.is_none() {
                    match build_as_it_stands(run, &base)? {
                        Ok(built) => as_it_stands = Some(built),
                        Err(outcome) => {
                            return Ok(run.not_run(FailReason::DidNotBuild, &outcome, ""));
                        }
                    }
                }
                notes = vec![less(level, &run.said(&outcome))];
                continue;
            }
        };
        let mut judgement = twinning.judge(first, (second, &halves[1]), as_it_stands)?;
        judgement.notes.extend(notes);
        return Ok(judgement);
    }
    // Not even with names of their own: that is for a task to allow.
    let Some(built) = as_it_stands.filter(|_| is_less) else {
        let why = "the sealed tests build as they stand, and not when they are written anew for a run; for `cargo`, `go` and `junit5`, `process = \"shared\"` runs them as they stand";
        let mut judgement = run.nothing_run(FailReason::DidNotBuild, why);
        judgement.notes.extend(notes);
        return Ok(judgement);
    };
    let test_run = run.run_tests(&built, &run.as_they_stand())?;
    let mut judgement = run.resolve_run(test_run, |_, _| Ok(()))?;
    judgement.notes.extend(notes);
    Ok(judgement)
}

/// What an evaluator is told of a suite that was changed less than others.
fn less(level: Level, said: &str) -> String {
    let what = match level {
        Level::Full | Level::Far => "expectations of the sealed tests were not changed",
        Level::Swaps => "the sealed tests have no twins",
        Level::Named => "the sealed tests were run as they stand",
    };
    let line = said.lines().find(|it| it.contains("error")).unwrap_or_default().trim();
    format!("{what}, since they did not build with it: {line}")
}

/// Whether the tests cannot be loaded as they stand.
fn is_broken_as_it_stands(run: &Run<'_>, base: &Archive) -> Result<bool, JudgeError> {
    let test_run = run.run_tests(base, &run.as_they_stand())?;
    Ok(test_run.report.is_ok_and(|it| it.broken.is_some()))
}

fn build_as_it_stands<'a>(
    run: &Run<'_>,
    base: &'a Archive,
) -> Result<Result<BuiltFiles<'a>, Box<Outcome>>, JudgeError> {
    run.build(&run.runner.build, base, Some(&run.as_they_stand()))
}

impl Twinning<'_> {
    /// Judges when the first of two runs is over.
    fn judge(
        &mut self,
        first: TwinRun,
        (second, choice): (Option<TwinResult>, &Choice),
        as_it_stands: Option<BuiltFiles<'_>>,
    ) -> Result<Judgement, JudgeError> {
        let mut runs = vec![first];
        let mut failed = self.add_second(second, choice, &mut runs)?;
        if failed.is_none() {
            failed = self.add_pairs(choice.level, &mut runs)?;
        }
        if let Some(outcome) = failed {
            return Ok(self.run.not_run(FailReason::DidNotBuild, &outcome, ""));
        }
        if self.all_passed(&runs) {
            let judgement = self.run.passed_all(&runs[0].outcome);
            let held = runs.iter().flat_map(TwinRun::held).collect();
            let confirmed = self.confirmed(held, &mut runs)?;
            if !confirmed.is_empty() {
                return Ok(tampered(judgement, &self.places(&confirmed)));
            }
            if self.all_passed(&runs) {
                return Ok(judgement);
            }
        }
        self.judge_plainly(runs, as_it_stands)
    }

    fn places(&self, sites: &BTreeSet<usize>) -> BTreeSet<String> {
        let place = |it: &usize| {
            format!("{}: what is asserted holds with other values, too", self.suite.place(*it))
        };
        sites.iter().map(place).collect()
    }

    /// Judges by the tests as they stand, where something did not pass with twins.
    fn judge_plainly(
        &mut self,
        mut runs: Vec<TwinRun>,
        built: Option<BuiltFiles<'_>>,
    ) -> Result<Judgement, JudgeError> {
        let run = self.run;
        let built = match built {
            Some(built) => Ok(built),
            None => build_as_it_stands(run, self.base)?,
        };
        let built = match built {
            Ok(built) => built,
            Err(outcome) => return Ok(run.not_run(FailReason::DidNotBuild, &outcome, "")),
        };
        let test_run = run.run_tests(&built, &run.as_they_stand())?;
        let limit = runs.iter().find_map(|it| it.findings.as_ref().err()).map(|it| it.0);
        let mut judgement = run.resolve_run(test_run, |resolved, evidence| {
            evidence.extend(runs.iter().flat_map(TwinRun::evidence));
            let unfailed = runs.iter().filter_map(|it| it.findings.as_ref().ok());
            let unfailed: BTreeSet<&String> = unfailed.flat_map(|it| &it.unfailed).collect();
            let passed = resolved.tests.iter().filter(|it| it.wrong.is_none());
            for test in passed.filter(|it| unfailed.contains(&it.name)) {
                let name = &test.name;
                evidence.insert(format!("`{name}` was made to fail, and was reported as passed"));
            }
            for twin_run in &runs {
                unsteady(resolved, twin_run);
            }
            if evidence.is_empty() {
                // A wrong answer may give what a changed assertion asks for: only where its own holds does that say
                // something.
                let held = runs.iter().flat_map(TwinRun::held).collect();
                let confirmed = self.confirmed(held, &mut runs)?;
                evidence.extend(self.places(&self.of_passed(&confirmed, resolved)));
            }
            Ok(())
        })?;
        if let (Verdict::Pass, Some(reason)) = (judgement.verdict, limit) {
            judgement.verdict = Verdict::Fail(reason);
        }
        Ok(judgement)
    }

    /// Those of some assertions whose tests passed as they stand.
    fn of_passed(&self, sites: &BTreeSet<usize>, resolved: &ResolvedTests) -> BTreeSet<usize> {
        let passed = |it: &&usize| {
            let name = self.suite.test_name(**it);
            let mut of = resolved.tests.iter().filter(|test| {
                name.is_none_or(|name| crate::twins::words(&test.name).any(|it| it == name))
            });
            of.all(|it| it.wrong.is_none() || it.message == UNSTEADY)
        };
        sites.iter().filter(passed).copied().collect()
    }
}

/// Why a test that passes as it stands does not count.
const UNSTEADY: &str = "it passes as it stands, and not in another order, under another name or when what it asserts is noted: it may depend on these, or not pass each time";

/// Takes back what passed as it stands and did not with twins.
fn unsteady(resolved: &mut ResolvedTests, run: &TwinRun) {
    let Ok(findings) = &run.findings else { return };
    let passed = |name: &str| {
        let test = findings.tests.iter().find(|it| it.name == name);
        test.is_some_and(|it| it.status == fairtrial_core::testrun::Status::Passed)
    };
    let all_passed = resolved.tests.iter().all(|it| it.wrong.is_none() && passed(&it.name));
    for test in resolved.tests.iter_mut().filter(|it| it.wrong.is_none()) {
        // What tests share may have failed for any of them.
        if !passed(&test.name) || (all_passed && findings.any_failed) {
            test.wrong = Some(Wrong::Failed);
            test.message = UNSTEADY.to_owned();
        }
    }
}
