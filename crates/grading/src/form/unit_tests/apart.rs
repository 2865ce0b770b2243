//! Sealed unit tests apart from the answer: each in a process and a sandbox of its own.
//!
//! The tests import stand-ins for the answer's modules and talk to its process over streams of their own.
//! What is reported comes from the tests' process alone, in which no code of the answer's ever runs.

use std::collections::BTreeSet;
use std::os::fd::{AsFd as _, OwnedFd};

use fairtrial_core::language::{ApartRunner, TestRunner};
use fairtrial_core::testrun::{self, REPORT_MAX, ReportKind, Status, TestReport};
use fairtrial_core::tree::{FileTree, RelPath, Snapshot};
use fairtrial_core::verdict::FailReason;
use fairtrial_sandbox::{Archive, Caps, Job, LimitHit, Outcome, SandboxError, link};
use serde::Serialize;
use serde_json::json;

use super::sealed::{SealedTests, TestsSettings};
use crate::context::{JudgeContext, JudgeError};

/// A run of sealed tests apart from the answer.
pub struct ApartRun<'a> {
    pub context: &'a JudgeContext<'a>,
    pub settings: &'a TestsSettings,
    pub runner: &'a TestRunner,
    pub apart: &'a ApartRunner,
    pub sealed: &'a SealedTests,
}

/// In how many ways an expectation is changed before it counts that it holds all the same.
const VARIANTS: u8 = 3;

/// How often tests are run again of which some did not pass beside twins.
const STEADY_RUNS: usize = 2;

/// What twins came to.
#[derive(Debug, Default)]
pub struct Twins {
    /// Tests that passed first, and not each time.
    pub unsteady: BTreeSet<String>,
    /// Where an expectation held that was changed.
    pub evidence: BTreeSet<String>,
}

/// Twice the time: what crosses between the two processes costs both of them some.
fn with_room(caps: Caps) -> Caps {
    Caps { cpu: 2 * caps.cpu, wall: 2 * caps.wall, ..caps }
}

/// Which assertions are to be changed so that they must fail.
#[derive(Debug, Clone, Serialize)]
pub struct TwinsOrder {
    /// Decides which half of them.
    pub seed: u32,
    /// Which of the two halves.
    pub part: u8,
    /// Which of several changes.
    pub variant: u8,
    /// Their places, in place of a half.
    pub sites: Option<BTreeSet<String>>,
}

/// What came of it.
pub struct ApartOutcome {
    /// Of the tests' process.
    pub tests: Outcome,
    /// Of the answer's process; how it ended counts for nothing when it was ended with the tests.
    pub answer: Outcome,
    /// What the tests' process reported.
    pub report: Result<TestReport, String>,
}

impl ApartOutcome {
    /// The report of a run that came to its end.
    ///
    /// # Errors
    /// Why it did not.
    pub fn believed(
        &self,
        context: &JudgeContext<'_>,
    ) -> Result<&TestReport, (FailReason, String)> {
        if self.answer.limit.is_some_and(|it| it != LimitHit::Stopped) {
            return Err((context.reason(&self.answer), String::new()));
        }
        if self.tests.limit.is_some() {
            return Err((context.reason(&self.tests), String::new()));
        }
        match &self.report {
            Ok(report) if report.mark.is_some() => Ok(report),
            Ok(_) => Err((FailReason::Crashed, "the run has no end".to_owned())),
            Err(why) => Err((FailReason::Crashed, why.clone())),
        }
    }

    /// The tests that passed.
    fn passed(&self, context: &JudgeContext<'_>) -> BTreeSet<&str> {
        let report = self.believed(context).ok();
        let tests = report.iter().flat_map(|it| &it.tests);
        tests.filter(|it| it.status == Status::Passed).map(|it| it.name.as_str()).collect()
    }

    /// The places of twins that held.
    fn held(&self, context: &JudgeContext<'_>) -> BTreeSet<String> {
        self.believed(context).map(|it| it.held.iter().cloned().collect()).unwrap_or_default()
    }
}

impl ApartRun<'_> {
    /// Runs these files of tests against the answer.
    ///
    /// # Errors
    /// When our own part goes wrong.
    pub fn run(
        &self,
        answer: &Snapshot,
        sealed: &FileTree,
        twins: Option<&TwinsOrder>,
    ) -> Result<ApartOutcome, JudgeError> {
        let drivers = &self.context.definition.drivers;
        let links = (0..self.apart.links).map(|_| link()).collect::<Result<Vec<_>, _>>()?;
        let (ours, theirs): (Vec<OwnedFd>, Vec<OwnedFd>) = links.into_iter().unzip();
        let base = Archive::of_snapshot(answer)?;
        let shared = Archive::of(&self.shared(sealed))?;
        let serve_driver = self.context.driver(&drivers.serve)?;
        let caps = with_room(self.context.caps());
        let serve = Job {
            driver: serve_driver.as_ref(),
            links: theirs.iter().map(|it| it.as_fd()).collect(),
            ..self.context.job(&self.apart.serve, &self.settings.file, caps, vec![&base, &shared])
        };
        let beside = Archive::of_snapshot(&self.beside(answer))?;
        let layer = Archive::of(sealed)?;
        let tests_driver = self.context.driver(&drivers.apart)?;
        let caps = Caps { output: REPORT_MAX as u64, ..with_room(self.context.caps()) };
        let tests = Job {
            driver: tests_driver.as_ref(),
            channel: true,
            links: ours.iter().map(|it| it.as_fd()).collect(),
            ..self.context.job(
                &self.apart.command,
                &self.settings.file,
                caps,
                vec![&beside, &layer],
            )
        };
        let serving = self.context.sandbox().start(&serve)?;
        let mut running = self.context.sandbox().start(&tests)?;
        drop((serve, tests));
        // Each sees the end of the other by the end of the stream.
        drop((ours, theirs));
        let order = self.order(answer, sealed, twins).to_string();
        let stopper = serving.stopper()?;
        let (ended, answer) = std::thread::scope(|scope| {
            let serving = scope.spawn(|| serving.finish());
            let ended = (|| -> Result<_, SandboxError> {
                let sent = running.converse(order.as_bytes(), REPORT_MAX)?;
                Ok((sent, running.finish()?))
            })();
            stopper.stop();
            (ended, serving.join())
        });
        let answer = answer.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
        let (sent, tests) = ended?;
        let report = testrun::read(ReportKind::Lines, &sent).map_err(|it| it.to_string());
        Ok(ApartOutcome { tests, answer, report })
    }

    /// Whether the answer says that it compares its objects itself, so that twins will be asked for.
    pub fn says_it_decides(&self, answer: &Snapshot) -> bool {
        let marks = &self.apart.decides;
        let says = |path: &RelPath| {
            let code = answer.file(path.as_str()).map(String::from_utf8_lossy);
            code.is_some_and(|code| marks.iter().any(|mark| code.contains(mark.as_str())))
        };
        !marks.is_empty() && self.code(answer).into_iter().any(says)
    }

    /// Both runs of twins, each with half of all assertions changed.
    fn halves(&self, answer: &Snapshot, seed: u32) -> Result<[ApartOutcome; 2], JudgeError> {
        let run = |part| {
            let order = TwinsOrder { seed, part, variant: 0, sites: None };
            self.run(answer, &self.sealed.files, Some(&order))
        };
        let (one, other) = std::thread::scope(|scope| {
            let other = scope.spawn(|| run(1));
            (run(0), other.join())
        });
        Ok([one?, other.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?])
    }

    /// The runs of twins alone, where they say all: every expected test passed in both, and no twin held.
    ///
    /// # Errors
    /// When our own part goes wrong.
    pub fn twins_alone(
        &self,
        answer: &Snapshot,
        names: &[String],
        seed: u64,
    ) -> Result<Option<ApartOutcome>, JudgeError> {
        if !self.says_it_decides(answer) {
            return Ok(None);
        }
        let [one, other] = self.halves(answer, (seed >> 32) as u32)?;
        let says_all = [&one, &other].into_iter().all(|run| {
            let passed = run.passed(self.context);
            let is_clean = run.believed(self.context).is_ok_and(|it| it.evidence.is_empty());
            // Nothing else may be reported, either.
            let is_all =
                passed.len() == names.len() && names.iter().all(|it| passed.contains(it.as_str()));
            let is_known = run.believed(self.context).is_ok_and(|it| it.tests.len() == names.len());
            is_clean && is_all && is_known && run.held(self.context).is_empty()
        });
        Ok(says_all.then_some(one))
    }

    /// Tries what the answer's own code decided with other expectations, which must not hold: half of the
    /// assertions in one run, the others in a second.
    ///
    /// # Errors
    /// When our own part goes wrong.
    pub fn twins(
        &self,
        answer: &Snapshot,
        first: &TestReport,
        seed: u64,
    ) -> Result<Twins, JudgeError> {
        let mut twins = Twins::default();
        let of_first = |name: &&String| {
            first.tests.iter().any(|it| it.name == **name && it.status == Status::Passed)
        };
        if !first.decided.iter().any(|name| of_first(&name)) {
            return Ok(twins);
        }
        let seed = (seed >> 32) as u32;
        let runs = self.halves(answer, seed)?;
        let passed = runs.each_ref().map(|it| it.passed(self.context));
        let names = first.tests.iter().filter(|it| it.status == Status::Passed).map(|it| &it.name);
        let unsteady = names.filter(|it| passed.iter().any(|passed| !passed.contains(it.as_str())));
        let mut unsteady: BTreeSet<String> = unsteady.cloned().collect();
        if !unsteady.is_empty() {
            // An assertion that was changed may have left something undone that a later one counts on: what is not
            // steady is so without twins, too.
            let again = (0..STEADY_RUNS).map(|_| self.run(answer, &self.sealed.files, None));
            let again = again.collect::<Result<Vec<_>, _>>()?;
            let passed: Vec<_> = again.iter().map(|it| it.passed(self.context)).collect();
            unsteady.retain(|name| passed.iter().any(|it| !it.contains(name.as_str())));
        }
        twins.unsteady = unsteady;
        let mut held: BTreeSet<String> = runs.iter().flat_map(|it| it.held(self.context)).collect();
        // A change can be none to what is compared, as another order is none to a set: it is changed otherwise.
        for variant in 1..VARIANTS {
            if held.is_empty() {
                break;
            }
            let order = TwinsOrder { seed, part: 0, variant, sites: Some(held.clone()) };
            let again = self.run(answer, &self.sealed.files, Some(&order))?.held(self.context);
            held.retain(|site| again.contains(site));
        }
        let evidence =
            |site: &String| format!("{site}: what the answer compares holds for other values, too");
        twins.evidence = held.iter().map(evidence).collect();
        Ok(twins)
    }

    /// What the tests find beside the sealed files: data, and nothing that their runner or language would load.
    fn beside(&self, answer: &Snapshot) -> Snapshot {
        let mut beside = Snapshot::new();
        for (path, node) in answer.iter() {
            let is_loaded = self.is_code(path) || self.runner.is_config(path);
            // A name without an ending can be looked for before one with it.
            let of_sealed = |sealed: &RelPath| {
                sealed
                    .as_str()
                    .strip_prefix(path.as_str())
                    .is_some_and(|it| it.starts_with(['.', '/']))
            };
            let is_sealed =
                self.sealed.files.contains_key(path) || self.sealed.files.keys().any(of_sealed);
            if !is_loaded && !is_sealed {
                beside.put(path.clone(), node.clone());
            }
        }
        beside
    }

    fn order(
        &self,
        answer: &Snapshot,
        sealed: &FileTree,
        twins: Option<&TwinsOrder>,
    ) -> serde_json::Value {
        let files: Vec<&RelPath> =
            sealed.keys().filter(|path| self.runner.is_test_file(path)).collect();
        json!({
            "files": files,
            "sealed": sealed.keys().collect::<Vec<_>>(),
            "answer": self.code(answer),
            "file": self.settings.file,
            "mark": "",
            "twins": twins,
            "runner": self.settings.runner,
            "packages": self.context.task.packages,
        })
    }

    /// The answer's files that tests can load.
    fn code<'s>(&self, answer: &'s Snapshot) -> Vec<&'s RelPath> {
        let paths = answer.iter().map(|(path, _)| path);
        paths.filter(|path| self.is_code(path) && !self.sealed.files.contains_key(path)).collect()
    }

    fn is_code(&self, path: &RelPath) -> bool {
        let extension = path.as_str().rsplit_once('.').map_or("", |it| it.1);
        self.context.definition.extensions.iter().any(|it| it == extension)
    }

    /// Sealed settings of the runner that the answer's files are loaded by, too.
    fn shared(&self, sealed: &FileTree) -> FileTree {
        let is_shared = |path: &RelPath| self.apart.share.iter().any(|it| it == path.as_str());
        let files = sealed.iter().filter(|(path, _)| is_shared(path));
        files.map(|(path, bytes)| (path.clone(), bytes.clone())).collect()
    }
}
