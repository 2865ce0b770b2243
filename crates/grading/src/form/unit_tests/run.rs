//! A run of sealed unit tests: built, run, and what its report comes to.

use std::collections::{BTreeMap, BTreeSet};
use std::hash::{BuildHasher as _, RandomState};

use super::apart::ApartRun;
use super::sealed::{ResolvedTest, ResolvedTests, SealedTests, TestsSettings, Wrong, resolve};
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::language::{ApartRunner, TestRunner};
use fairtrial_core::testrun::{self, REPORT_MAX, ReportKind, TestReport};
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::{FileTree, RelPath, Snapshot};
use fairtrial_core::verdict::{FailReason, Verdict};
use fairtrial_sandbox::{Archive, Caps, Collect, Ending, Job, Outcome};
use serde_json::json;

use crate::context::{JudgeContext, JudgeError};
use crate::outcome::{nothing_run, resolve as resolve_tests, usage};
use crate::test_rng::TestRng;

/// Longest message kept of a test, in bytes.
const MESSAGE_MAX: usize = 4 << 10;

/// A run of sealed tests, prepared.
#[derive(Clone)]
pub(super) struct Run<'a> {
    pub(super) context: &'a JudgeContext<'a>,
    pub(super) settings: &'a TestsSettings,
    pub(super) runner: &'a TestRunner,
    pub(super) sealed: &'a SealedTests,
    pub(super) mark: String,
    /// Nobody can know it before.
    pub(super) seed: u64,
}

/// The sealed files as they are put beside an answer.
#[derive(Debug, Clone)]
pub(super) struct LaidTests {
    pub(super) files: FileTree,
    /// Those of them that hold tests.
    pub(super) code: Vec<RelPath>,
}

/// Files from which tests are run.
pub(super) enum BuiltFiles<'a> {
    /// Those that were there.
    Given(&'a Archive),
    /// Those that a build left.
    Made(Archive),
}

impl std::ops::Deref for BuiltFiles<'_> {
    type Target = Archive;

    fn deref(&self) -> &Archive {
        match self {
            Self::Given(archive) => archive,
            Self::Made(archive) => archive,
        }
    }
}

/// What came of a run.
pub(super) struct TestRun {
    pub(super) outcome: Outcome,
    pub(super) report: Result<TestReport, String>,
    /// What shows that files were changed.
    pub(super) changed: Vec<String>,
    /// What a driver of ours sent.
    pub(super) sent: Vec<u8>,
}

/// What a runner needs beside the answer.
pub(super) fn written(
    settings: &TestsSettings,
    runner: &TestRunner,
) -> Result<FileTree, JudgeError> {
    let file = |(path, text): (&String, &String)| {
        let text = text.replace("{file}", settings.file.as_str());
        let path = RelPath::parse(path).map_err(|error| {
            JudgeError::Sandbox(fairtrial_sandbox::SandboxError::SetUp(error.to_string()))
        })?;
        Ok((path, text.into_bytes()))
    };
    runner.lay.iter().map(file).collect()
}

pub(super) fn env(
    context: &JudgeContext<'_>,
    settings: &TestsSettings,
    runner: &TestRunner,
) -> BTreeMap<String, String> {
    let mut env = context.env();
    for (key, value) in &runner.env {
        let memory = context.caps().memory;
        let filled = context.command(std::slice::from_ref(value), &settings.file, memory);
        env.extend(filled.into_iter().next().map(|value| (key.clone(), value)));
    }
    env
}

impl<'a> Run<'a> {
    pub(super) fn prepare(
        context: &'a JudgeContext<'a>,
        settings: &'a TestsSettings,
        runner: &'a TestRunner,
        sealed: &'a SealedTests,
    ) -> Self {
        // Seeded by the system anew for each: nobody can know it before.
        let seed = RandomState::new().hash_one(context.task.name.as_str());
        let mark = TestRng::new(seed ^ 1).mark();
        Self { context, settings, runner, sealed, mark, seed }
    }

    /// The sealed files as they stand.
    pub(super) fn as_they_stand(&self) -> LaidTests {
        let files = self.sealed.files.clone();
        let code = files.iter().filter(|it| self.runner.has_tests(it.0, it.1));
        let code = code.map(|it| it.0.clone()).collect();
        LaidTests { files, code }
    }

    pub(super) fn judge(&self, files: &Snapshot) -> Result<Judgement, JudgeError> {
        let laid = self.as_they_stand();
        let base = Archive::of_snapshot(files)?;
        match self.build(&self.runner.build, &base, Some(&laid))? {
            Err(outcome) => Ok(self.not_run(FailReason::DidNotBuild, &outcome, "")),
            Ok(built) => self.resolve_run(self.run_tests(&built, &laid)?, |_, _| Ok(())),
        }
    }

    /// Runs commands that make something to run, and gives the files that are then there, or what came of the
    /// command that failed.
    pub(super) fn build<'b>(
        &self,
        commands: &[Vec<String>],
        base: &'b Archive,
        laid: Option<&LaidTests>,
    ) -> Result<Result<BuiltFiles<'b>, Box<Outcome>>, JudgeError> {
        let mut built = BuiltFiles::Given(base);
        let files = laid.map_or_else(FileTree::new, |it| it.files.clone());
        let beside = Archive::of(&self.with_runner_files(files)?)?;
        for command in commands {
            let caps = self.context.build_caps();
            let command = self.command(command, caps.memory, laid);
            let job = Job {
                command,
                collect: Collect::All,
                env: self.env(),
                ..self.context.job(&[], &self.settings.file, caps, vec![&built, &beside])
            };
            let outcome = self.context.sandbox().run(&job)?;
            if outcome.limit.is_some() || outcome.ending != Ending::Exited(0) {
                return Ok(Err(Box::new(outcome)));
            }
            if let Some(collected) = outcome.collected {
                built = BuiltFiles::Made(collected);
            }
        }
        Ok(Ok(built))
    }

    pub(super) fn judge_apart(
        &self,
        apart: &ApartRunner,
        files: &Snapshot,
    ) -> Result<Judgement, JudgeError> {
        let (context, settings, runner) = (self.context, self.settings, self.runner);
        let apart = ApartRun { context, settings, runner, apart, sealed: self.sealed };
        if let Some(run) = apart.twins_alone(files, &self.sealed.names, self.seed)? {
            return Ok(self.passed_all(&run.answer));
        }
        let run = apart.run(files, &self.sealed.files, None)?;
        let report = match run.believed(context) {
            Ok(report) => report,
            Err((reason, why)) => {
                let outcome = if run.answer.limit.is_some() { &run.answer } else { &run.tests };
                return Ok(self.not_run(reason, outcome, &why));
            }
        };
        let mut resolved = resolve(&self.sealed.names, &report.tests);
        let mut twins = apart.twins(files, report, self.seed)?;
        twins.evidence.extend(report.evidence.iter().cloned());
        for test in resolved.tests.iter_mut().filter(|it| it.wrong.is_none()) {
            if twins.unsteady.contains(&test.name) {
                test.wrong = Some(Wrong::Failed);
                test.message = "it did not pass each time that it was run".to_owned();
            }
        }
        let mut tests: Vec<TestOutcome> = resolved.tests.iter().map(outcome_of).collect();
        if let Some(first) = tests.first_mut() {
            first.usage = Some(usage(&run.answer));
        }
        let mut judgement = resolve_tests(tests, None);
        if !twins.evidence.is_empty() {
            return Ok(tampered(judgement, &twins.evidence));
        }
        if judgement.verdict == Verdict::Pass {
            return Ok(judgement);
        }
        if report.broken.is_some() {
            judgement.verdict = Verdict::Fail(FailReason::DidNotBuild);
        } else if report.gone {
            judgement.verdict = Verdict::Fail(context.reason(&run.answer));
        } else if report.tests.is_empty() {
            judgement.verdict = Verdict::Fail(FailReason::Crashed);
        }
        Ok(judgement)
    }

    /// A judgement of an answer for which every expected test passed.
    pub(super) fn passed_all(&self, answer: &Outcome) -> Judgement {
        let pass = |name: &String| TestOutcome::passed(name, false, 1.0);
        let mut tests: Vec<TestOutcome> = self.sealed.names.iter().map(pass).collect();
        if let Some(first) = tests.first_mut() {
            first.usage = Some(usage(answer));
        }
        resolve_tests(tests, None)
    }

    /// The sealed files as they are when they are run: tests are blank where the runner has them
    /// from elsewhere, so that no answer can read what is expected of it.
    fn as_run(&self, laid: &LaidTests) -> FileTree {
        let mut files = laid.files.clone();
        for path in laid.code.iter().filter(|_| self.runner.blank) {
            files.insert(path.clone(), Vec::new());
        }
        files
    }

    /// Sealed files and what the runner needs beside them.
    fn with_runner_files(&self, sealed: FileTree) -> Result<FileTree, JudgeError> {
        let mut files = sealed;
        files.extend(written(self.settings, self.runner)?);
        Ok(files)
    }

    fn caps(&self) -> Caps {
        Caps { output: REPORT_MAX as u64, ..self.context.caps() }
    }

    fn env(&self) -> BTreeMap<String, String> {
        env(self.context, self.settings, self.runner)
    }

    fn command(&self, command: &[String], memory: u64, laid: Option<&LaidTests>) -> Vec<String> {
        let mut out = Vec::new();
        for part in command {
            if part == "{files}" {
                let code = laid.iter().flat_map(|it| &it.code);
                out.extend(code.map(|it| it.as_str().to_owned()));
            } else {
                out.push(part.clone());
            }
        }
        self.context.command(&out, &self.settings.file, memory)
    }

    pub(super) fn run_tests(
        &self,
        base: &Archive,
        laid: &LaidTests,
    ) -> Result<TestRun, JudgeError> {
        let as_run = self.as_run(laid);
        let sealed = Archive::of(&self.with_runner_files(as_run.clone())?)?;
        let driver = match self.runner.report {
            ReportKind::Lines => self.context.driver(&self.context.definition.drivers.tests)?,
            _ => None,
        };
        let mut wanted: Vec<RelPath> = laid.files.keys().cloned().collect();
        wanted.extend(RelPath::parse(&self.runner.file).ok());
        let caps = self.caps();
        let job = Job {
            command: self.command(&self.runner.command, caps.memory, Some(laid)),
            env: self.env(),
            driver: driver.as_ref(),
            channel: driver.is_some(),
            collect: Collect::Files(wanted),
            sealed: Some(&sealed),
            ..self.context.job(&[], &self.settings.file, caps, vec![base])
        };
        let mut running = self.context.sandbox().start(&job)?;
        let sent = match &driver {
            Some(_) => {
                let text = |path: &RelPath| String::from_utf8_lossy(&laid.files[path]).into_owned();
                let files: BTreeMap<&str, String> =
                    laid.code.iter().map(|path| (path.as_str(), text(path))).collect();
                let order = json!({
                    "files": files,
                    "mark": self.mark,
                    "runner": self.settings.runner,
                    "packages": self.context.task.packages,
                });
                running.converse(order.to_string().as_bytes(), REPORT_MAX)?
            }
            None => Vec::new(),
        };
        let outcome = running.finish()?;
        let mut after = FileTree::new();
        if let Some(archive) = &outcome.collected {
            after.extend(archive.files()?);
        }
        let bytes = match (&driver, RelPath::parse(&self.runner.file)) {
            (Some(_), _) => Some(sent.clone()),
            (None, Ok(path)) => after.get(&path).cloned(),
            (None, Err(_)) => Some(outcome.stdout.bytes.clone()),
        };
        let report = match bytes {
            Some(bytes) => testrun::read(self.runner.report, &bytes).map_err(|it| it.to_string()),
            None => Err("there is no report".to_owned()),
        };
        let unlike = as_run.iter().filter(|(path, bytes)| after.get(*path) != Some(*bytes));
        let changed =
            unlike.map(|(path, _)| format!("the sealed file `{path}` was changed")).collect();
        Ok(TestRun { outcome, report, changed, sent })
    }

    /// What a run of the tests as they stand comes to, when `look` has said what else is known of them.
    pub(super) fn resolve_run(
        &self,
        test_run: TestRun,
        look: impl FnOnce(&mut ResolvedTests, &mut BTreeSet<String>) -> Result<(), JudgeError>,
    ) -> Result<Judgement, JudgeError> {
        let TestRun { outcome, report, changed, .. } = test_run;
        if outcome.limit.is_some() {
            return Ok(self.not_run(self.context.reason(&outcome), &outcome, ""));
        }
        let report = match report {
            Ok(report) => report,
            Err(why) => return Ok(self.not_run(FailReason::Crashed, &outcome, &why)),
        };
        let mut resolved = resolve(&self.sealed.names, &report.tests);
        let mut evidence = self.evidence(&report, &resolved, changed);
        look(&mut resolved, &mut evidence)?;
        let mut tests: Vec<TestOutcome> = resolved.tests.iter().map(outcome_of).collect();
        if let Some(first) = tests.first_mut() {
            first.usage = Some(usage(&outcome));
        }
        let mut judgement = resolve_tests(tests, None);
        if !evidence.is_empty() {
            return Ok(tampered(judgement, &evidence));
        }
        if report.broken.is_some() {
            judgement.verdict = Verdict::Fail(FailReason::DidNotBuild);
        } else if report.tests.is_empty() {
            judgement.verdict = Verdict::Fail(self.context.reason(&outcome));
        }
        Ok(judgement)
    }

    /// Everything that shows that the report is not to be believed, each once.
    fn evidence(
        &self,
        report: &TestReport,
        resolved: &ResolvedTests,
        changed: Vec<String>,
    ) -> BTreeSet<String> {
        let mut evidence: BTreeSet<String> = changed.into_iter().collect();
        evidence.extend(report.evidence.iter().cloned());
        evidence.extend(resolved.evidence.iter().cloned());
        let all_held = resolved.tests.iter().all(|it| it.wrong.is_none());
        if !self.has_ended(report) {
            let what = match &report.mark {
                Some(_) => Some("the end of the run was forged"),
                None => all_held.then_some("the run was ended before its end"),
            };
            evidence.extend(what.map(str::to_owned));
        }
        evidence
    }

    /// Whether a driver of ours came to its end, where there is one.
    pub(super) fn has_ended(&self, report: &TestReport) -> bool {
        self.runner.report != ReportKind::Lines || report.mark.as_ref() == Some(&self.mark)
    }

    /// A judgement of tests that could not be run. What was printed is for people only: the answer's
    /// code can read the sealed tests, so nothing of its making may go back to the candidate.
    pub(super) fn not_run(&self, reason: FailReason, outcome: &Outcome, why: &str) -> Judgement {
        self.nothing_run(reason, format!("{why}\n{}", self.said(outcome)).trim())
    }

    /// As `not_run`, with what to tell people alone.
    pub(super) fn nothing_run(&self, reason: FailReason, why: &str) -> Judgement {
        let mut judgement = nothing_run(self.context.sealed, reason, None);
        if let Some(first) = judgement.tests.first_mut() {
            first.found = why.to_owned();
        }
        judgement
    }

    /// What was printed, for people.
    pub(super) fn said(&self, outcome: &Outcome) -> String {
        let stderr = String::from_utf8_lossy(&outcome.stderr.bytes);
        let stdout = String::from_utf8_lossy(&outcome.stdout.bytes);
        let text = if stderr.trim().is_empty() { stdout } else { stderr };
        head_and_tail(&format!("{}\n{text}", self.context.ended(outcome)), MESSAGE_MAX)
    }
}

/// A judgement of which nothing is believed any longer.
pub(super) fn tampered(mut judgement: Judgement, evidence: &BTreeSet<String>) -> Judgement {
    for test in judgement.tests.iter_mut().filter(|it| it.failed.is_none()) {
        test.failed = Some(FailReason::Tampering);
        test.summary = "passed, as was reported; but the report is not to be believed".to_owned();
    }
    judgement.verdict = Verdict::Fail(FailReason::Tampering);
    judgement.notes = evidence.iter().map(|it| format!("tampering: {it}")).collect();
    judgement.message = None;
    judgement
}

fn outcome_of(found: &ResolvedTest) -> TestOutcome {
    let passed = TestOutcome::passed(&found.name, false, 1.0);
    let (failed, summary) = match found.wrong {
        None => return passed,
        Some(Wrong::Failed) => (FailReason::WrongResult, "failed"),
        Some(Wrong::Missing) => (FailReason::WrongResult, "was not run"),
        Some(Wrong::Skipped) => (FailReason::WrongResult, "was skipped"),
        Some(Wrong::Unknown) => (FailReason::WrongResult, "is not among the sealed tests"),
    };
    let found = head_and_tail(&found.message, MESSAGE_MAX);
    TestOutcome { failed: Some(failed), summary: summary.to_owned(), found, ..passed }
}
