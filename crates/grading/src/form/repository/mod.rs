//! The form `repository`: a change to a git repository, judged by named tests that must turn green and others
//! that must stay so.
//!
//! The change is put on a clean view of the prepared checkout, paths that it may not touch are put back,
//! sealed files are laid over it, and the task's own command runs the tests. That command, its runner and
//! what is tested share a process, so tests of our own making stand among them, some of which must fail.

mod change;
mod colour;
mod guard;
mod judging;
mod pickups;
mod preflight;
mod settings;
mod tests_run;

use std::collections::BTreeSet;
use std::path::PathBuf;

use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Dialect;
use fairtrial_core::limits::{Bytes, LimitSettings, Span};
use fairtrial_core::source::SourceError;
use fairtrial_core::tree::TreePath;

use self::change::ChangeShape;
use self::settings::RepositoryTask;
use super::{AnswerShape, Answered, Form, FormKind, FormSource, SealedTest, Start, Surroundings};
use crate::context::{JudgeContext, JudgeError};

/// The form.
pub const KIND: FormKind = FormKind { name: NAME, parse };

const NAME: &str = "repository";

/// A line shorter than this says too little to give anything away.
const LINE_MIN: usize = 24;

/// A task of this form.
#[derive(Debug)]
struct RepositoryForm {
    task: RepositoryTask,
    answer: ChangeShape,
}

fn parse(mut source: FormSource<'_>) -> Result<Box<dyn Form>, SourceError> {
    if !source.examples.is_empty() {
        let message = "the form `repository` has no `[[example]]`: its tests can be read";
        return Err(SourceError::whole(source.brief, message));
    }
    let task = RepositoryTask::parse(&mut source)?;
    Ok(Box::new(RepositoryForm { task, answer: ChangeShape }))
}

impl Form for RepositoryForm {
    fn name(&self) -> &'static str {
        NAME
    }

    fn instructions(&self, _language: &str) -> String {
        let mut text = "Change the repository so that it does what is asked.\n\
             Tests that you do not see are run afterwards: some that fail now must pass, and those that \
             pass now must still pass."
            .to_owned();
        if !self.task.protected_globs.is_empty() {
            let globs = self.task.protected_globs.join("`, `");
            text += &format!("\nWhat you change in `{globs}` is put back before.");
        }
        text
    }

    fn answer(&self) -> &dyn AnswerShape {
        &self.answer
    }

    /// Suites of whole projects take longer than single answers, and need room for what they build.
    fn limits(&self) -> LimitSettings {
        let (time, build_time) = (std::time::Duration::from_secs(120), 600);
        LimitSettings {
            time: Some(Span(time)),
            memory: Some(Bytes::mib(2048)),
            output: Some(Bytes::mib(8)),
            processes: Some(256),
            disk: Some(Bytes::mib(512)),
            build_time: Some(Span(std::time::Duration::from_secs(build_time))),
            build_memory: Some(Bytes::mib(4096)),
            build_disk: Some(Bytes::mib(2048)),
            patch: None,
        }
    }

    fn brings_packages(&self) -> bool {
        true
    }

    fn is_prepared(&self) -> bool {
        true
    }

    fn folders(&self) -> &[PathBuf] {
        &self.task.show
    }

    fn surroundings(&self, context: &JudgeContext<'_>) -> Surroundings {
        Surroundings { show: self.task.folders(context), env: self.task.env(context) }
    }

    fn start(&self, context: &JudgeContext<'_>) -> Result<Start, JudgeError> {
        self.task.prepared(context).map(Start::Prepared)
    }

    fn beside(&self) -> Option<&str> {
        self.task.beside.as_deref()
    }

    fn preflight(&self, context: &JudgeContext<'_>, start: &Start) -> Result<(), JudgeError> {
        preflight::check(&self.task, context, start).map(drop)
    }

    fn context_files(&self) -> &[TreePath] {
        &self.task.context
    }

    fn examples(&self, _dialect: Dialect<'_>) -> String {
        String::new()
    }

    fn sealed_tests(&self) -> Vec<SealedTest> {
        let test = |name: &String| SealedTest { name: name.clone(), points: 1.0 };
        self.task.turn_green.iter().chain(&self.task.stay_green).map(test).collect()
    }

    /// Those that must turn green are red before anything is changed, and the others are green.
    fn proved_tests(&self) -> Vec<String> {
        self.sealed_tests().into_iter().map(|it| it.name).collect()
    }

    /// Sealed files of which a line that asserts something is visible.
    fn shown(&self, visible: &BTreeSet<&str>) -> Vec<String> {
        let says_much = |it: &str| it.len() >= LINE_MIN && it.to_lowercase().contains("assert");
        let shown = |bytes: &[u8]| {
            let text = String::from_utf8_lossy(bytes).into_owned();
            let mut lines = text.lines().map(str::trim);
            lines.find(|it| says_much(it) && visible.contains(it)).map(str::to_owned)
        };
        let files = self.task.sealed.files().filter_map(|(path, it)| Some((path, shown(it)?)));
        files.map(|(path, line)| format!("a line of `sealed/{path}` is shown: {line}")).collect()
    }

    fn is_sound(
        &self,
        _context: &JudgeContext<'_>,
        _answered: &Answered<'_>,
    ) -> Result<Option<bool>, JudgeError> {
        // Nothing is mended in a patch.
        Ok(None)
    }

    fn judge(
        &self,
        context: &JudgeContext<'_>,
        answered: &Answered<'_>,
        _examples: bool,
    ) -> Result<Judgement, JudgeError> {
        judging::judge(&self.task, context, answered)
    }
}
