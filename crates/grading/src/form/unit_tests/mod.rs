//! The form `tests`: code, judged by sealed unit tests and the language's own runner.

mod apart;
mod judging;
mod run;
mod sealed;
mod twinned;

use std::collections::BTreeSet;

use fairtrial_core::answer::WantedKind;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Dialect;
use fairtrial_core::source::SourceError;

pub use self::sealed::parse_list;
use self::sealed::{LIST, SealedTests, TestsProcess, TestsSettings};
use super::answer_file::AnswerFile;
use super::{AnswerShape, Answered, Form, FormKind, FormSource, SealedTest};
use crate::context::{JudgeContext, JudgeError, Parsed};
use crate::twins::Suite;

/// The form.
pub const KIND: FormKind = FormKind { name: NAME, parse };

const NAME: &str = "tests";

/// A line shorter than this says too little to give anything away.
const LINE_MIN: usize = 24;

/// A task of this form.
#[derive(Debug, Clone)]
struct TestsForm {
    answer: AnswerFile,
    settings: TestsSettings,
    sealed: SealedTests,
    /// Whether its runner can run them apart.
    can_be_apart: bool,
    /// The tests that share a process with the answer and have no twins.
    without_twins: Vec<String>,
}

fn parse(mut source: FormSource<'_>) -> Result<Box<dyn Form>, SourceError> {
    let settings: TestsSettings = source.take_table(NAME)?;
    let runners = &source.definition.runners;
    if !runners.contains_key(&settings.runner) {
        let names = runners.keys().cloned().collect::<Vec<_>>().join(", ");
        let (runner, language) = (&settings.runner, source.language);
        let message = if names.is_empty() {
            format!("the form `tests` is not offered for `{language}`")
        } else {
            format!("unknown runner `{runner}`; `{language}` has {names}")
        };
        return Err(SourceError::whole(source.brief, message));
    }
    let can_be_apart = runners.get(&settings.runner).is_some_and(|it| it.apart.is_some());
    if settings.process == Some(TestsProcess::Apart) && !can_be_apart {
        let message = format!(
            "`process = \"apart\"` is not offered for the runner `{}`: its tests and the answer are one program",
            settings.runner
        );
        return Err(SourceError::whole(source.brief, message));
    }
    if !source.examples.is_empty() {
        let message = "the form `tests` has no `[[example]]`: put tests to be seen in `given/`";
        return Err(SourceError::whole(source.brief, message));
    }
    let (text, file) = source.sealed(NAME, LIST)?;
    let names = sealed::parse_list(&file, text)?;
    let mut files = source.files.below("sealed/").to_files();
    files.retain(|path, _| path.as_str() != LIST);
    let answer = AnswerFile { path: settings.file.clone(), kind: WantedKind::Module };
    let is_apart = can_be_apart && settings.process != Some(TestsProcess::Shared);
    let runner = runners.get(&settings.runner).filter(|_| !is_apart);
    let suite = runner.and_then(|runner| {
        Suite::take_apart(&runner.twins, &files, |path, bytes| runner.has_tests(path, bytes))
    });
    let without_twins = suite.map_or(Vec::new(), |it| it.without_twins(&names));
    let sealed = SealedTests { files, names };
    Ok(Box::new(TestsForm { answer, settings, sealed, can_be_apart, without_twins }))
}

impl Form for TestsForm {
    fn name(&self) -> &'static str {
        NAME
    }

    fn runner(&self) -> Option<&str> {
        Some(&self.settings.runner)
    }

    fn other_process(&self) -> Option<(&'static str, Box<dyn Form>)> {
        let is_shared = self.settings.process == Some(TestsProcess::Shared);
        let (is, other) = if is_shared {
            ("shared", TestsProcess::Apart)
        } else {
            ("apart", TestsProcess::Shared)
        };
        let settings = TestsSettings { process: Some(other), ..self.settings.clone() };
        self.can_be_apart
            .then(|| (is, Box::new(Self { settings, ..self.clone() }) as Box<dyn Form>))
    }

    fn instructions(&self, language: &str) -> String {
        format!(
            "Write the file `{}` in {language}.\n\
             Unit tests that you do not see are run against it.",
            self.settings.file
        )
    }

    fn answer(&self) -> &dyn AnswerShape {
        &self.answer
    }

    fn examples(&self, _dialect: Dialect<'_>) -> String {
        String::new()
    }

    fn without_twins(&self) -> Vec<String> {
        self.without_twins.clone()
    }

    fn sealed_tests(&self) -> Vec<SealedTest> {
        let test = |name: &String| SealedTest { name: name.clone(), points: 1.0 };
        self.sealed.names.iter().map(test).collect()
    }

    /// Files of which a line that asserts something is visible.
    fn shown(&self, visible: &BTreeSet<&str>) -> Vec<String> {
        let says_much = |it: &str| it.len() >= LINE_MIN && it.to_lowercase().contains("assert");
        let shown = |bytes: &[u8]| {
            let text = String::from_utf8_lossy(bytes).into_owned();
            let mut lines = text.lines().map(str::trim);
            lines.find(|it| says_much(it) && visible.contains(it)).map(str::to_owned)
        };
        let files = self.sealed.files.iter().filter_map(|(path, it)| Some((path, shown(it)?)));
        files.map(|(path, line)| format!("a line of `sealed/{path}` is shown: {line}")).collect()
    }

    fn is_sound(
        &self,
        context: &JudgeContext<'_>,
        answered: &Answered<'_>,
    ) -> Result<Option<bool>, JudgeError> {
        let files = &answered.files();
        match context.parses(&self.answer.path, files)? {
            Parsed::Told(parses) => return Ok(Some(parses)),
            Parsed::Untold => return Ok(None),
            Parsed::NoCommand => {}
        }
        match context.definition.runners.get(&self.settings.runner) {
            Some(runner) => {
                Ok(Some(judging::check(context, &self.settings, runner, files)?.is_none()))
            }
            None => Ok(None),
        }
    }

    fn judge(
        &self,
        context: &JudgeContext<'_>,
        answered: &Answered<'_>,
        _examples: bool,
    ) -> Result<Judgement, JudgeError> {
        let files = &answered.files();
        if let Some(judgement) = self.answer.missing(context, files) {
            return Ok(judgement);
        }
        judging::judge(context, &self.settings, &self.sealed, files)
    }
}
