//! Sealed unit tests apart from the answer: each in a process and a sandbox of its own.
//!
//! The tests import stand-ins for the answer's modules and talk to its process over streams of their own.
//! What is reported comes from the tests' process alone, in which no code of the answer's ever runs.

use std::collections::{BTreeMap, BTreeSet};
use std::os::fd::{AsFd as _, OwnedFd};

use fairtrial_core::language::{ApartRunner, TestRunner};
use fairtrial_core::testrun::{self, REPORT_MAX, ReportKind, TestReport};
use fairtrial_core::tree::{FileTree, RelPath, Snapshot};
use fairtrial_core::verdict::FailReason;
use fairtrial_sandbox::{Archive, Caps, Job, LimitHit, Outcome, SandboxError, link};
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
    /// Why the answer's process was over before the tests were; `None` when it was not.
    pub fn answer_ended(&self, context: &JudgeContext<'_>) -> Option<FailReason> {
        let was_stopped = self.answer.limit == Some(LimitHit::Stopped);
        (!was_stopped).then(|| context.reason(&self.answer))
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
        mark: &str,
    ) -> Result<ApartOutcome, JudgeError> {
        let drivers = &self.context.definition.drivers;
        let links = (0..self.apart.links).map(|_| link()).collect::<Result<Vec<_>, _>>()?;
        let (ours, theirs): (Vec<OwnedFd>, Vec<OwnedFd>) = links.into_iter().unzip();
        let base = Archive::of_snapshot(answer)?;
        let serve_driver = self.context.driver(&drivers.serve)?;
        let caps = self.context.caps();
        let serve = Job {
            driver: serve_driver.as_ref(),
            links: theirs.iter().map(|it| it.as_fd()).collect(),
            ..self.context.job(&self.apart.serve, &self.settings.file, caps, vec![&base])
        };
        let beside = Archive::of_snapshot(&self.beside(answer))?;
        let layer = Archive::of(sealed)?;
        let tests_driver = self.context.driver(&drivers.apart)?;
        let caps = Caps { output: REPORT_MAX as u64, ..self.context.caps() };
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
        let order = self.order(answer, sealed, mark).to_string();
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

    /// What the tests find beside the sealed files: data, and nothing that their runner or language would load.
    fn beside(&self, answer: &Snapshot) -> Snapshot {
        let mut beside = Snapshot::new();
        let extensions = &self.context.definition.extensions;
        for (path, node) in answer.iter() {
            let extension = path.as_str().rsplit_once('.').map_or("", |it| it.1);
            let is_code = extensions.iter().any(|it| it == extension);
            if !is_code && !self.runner.is_config(path) && !self.sealed.files.contains_key(path) {
                beside.put(path.clone(), node.clone());
            }
        }
        beside
    }

    fn order(&self, answer: &Snapshot, sealed: &FileTree, mark: &str) -> serde_json::Value {
        let files: Vec<&RelPath> =
            sealed.keys().filter(|path| self.runner.is_test_file(path)).collect();
        json!({
            "files": files,
            "sealed": sealed.keys().collect::<Vec<_>>(),
            "modules": self.modules(answer),
            "mark": mark,
            "runner": self.settings.runner,
            "packages": self.context.task.packages,
        })
    }

    /// Names that tests can import the answer's files by, and whether others lie below them.
    fn modules(&self, answer: &Snapshot) -> BTreeMap<String, bool> {
        let extensions: BTreeSet<&str> =
            self.context.definition.extensions.iter().map(String::as_str).collect();
        let mut modules = BTreeMap::new();
        for (path, _) in answer.iter() {
            let Some((stem, extension)) = path.as_str().rsplit_once('.') else { continue };
            if !extensions.contains(extension) || self.sealed.files.contains_key(path) {
                continue;
            }
            let mut parts: Vec<&str> = stem.split('/').collect();
            if parts.last() == Some(&"__init__") {
                parts.pop();
            }
            for end in 1..parts.len() {
                modules.insert(parts[..end].join("."), true);
            }
            let is_package = path.as_str().ends_with("/__init__.py");
            if !parts.is_empty() {
                *modules.entry(parts.join(".")).or_insert(false) |= is_package;
            }
        }
        modules
    }
}
