//! The form `program`: a whole program, judged by sealed cases.

mod case;
mod run;

use std::fmt::Write as _;

use fairtrial_core::answer::WantedKind;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Dialect;
use fairtrial_core::source::SourceError;
use fairtrial_core::text::fence_for;

use self::case::{Case, ExpectedContent, ProgramSettings};
use super::answer_file::AnswerFile;
use super::{AnswerShape, Answered, Form, FormKind, FormSource, SealedTest};
use crate::build::{Built, build};
use crate::context::{JudgeContext, JudgeError, Parsed};

/// The form.
pub const KIND: FormKind = FormKind { name: NAME, parse };

const NAME: &str = "program";

/// A task of this form.
#[derive(Debug)]
struct ProgramForm {
    answer: AnswerFile,
    examples: Vec<Case>,
    sealed: Vec<Case>,
}

fn parse(mut source: FormSource<'_>) -> Result<Box<dyn Form>, SourceError> {
    let settings: ProgramSettings = source.take_table(NAME)?;
    let examples = source.read_examples(case::parse_example)?;
    let (text, file) = source.sealed(NAME, "cases.jsonl")?;
    let sealed = case::parse_cases(&file, text)?;
    let answer = AnswerFile { path: settings.file.clone(), kind: WantedKind::Program };
    Ok(Box::new(ProgramForm { answer, examples, sealed }))
}

impl Form for ProgramForm {
    fn name(&self) -> &'static str {
        NAME
    }

    fn instructions(&self, language: &str) -> String {
        format!(
            "Write a whole program, the file `{}`, in {language}.\n\
             It is run with other input than shown.",
            self.answer.path
        )
    }

    fn answer(&self) -> &dyn AnswerShape {
        &self.answer
    }

    fn examples(&self, _dialect: Dialect<'_>) -> String {
        self.examples.iter().map(case_example).collect::<Vec<_>>().join("\n")
    }

    fn sealed_tests(&self) -> Vec<SealedTest> {
        let test = |it: &Case| SealedTest { name: it.name.clone(), points: it.points };
        self.sealed.iter().map(test).collect()
    }

    fn also_visible(&self) -> Vec<String> {
        let input = |it: &Case| (it.args.clone(), it.stdin.clone(), it.files.clone());
        let is_visible = |it: &&Case| self.examples.iter().any(|seen| input(seen) == input(it));
        self.sealed.iter().filter(is_visible).map(|it| it.name.clone()).collect()
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
        let built = build(context, &context.definition.build, &self.answer.path, files)?;
        Ok(Some(matches!(built, Built::Ready(_))))
    }

    fn judge(
        &self,
        context: &JudgeContext<'_>,
        answered: &Answered<'_>,
        examples: bool,
    ) -> Result<Judgement, JudgeError> {
        let files = &answered.files();
        if let Some(judgement) = self.answer.missing(context, files) {
            return Ok(judgement);
        }
        match build(context, &context.definition.build, &self.answer.path, files)? {
            Built::Failed(judgement) => Ok(judgement),
            Built::Ready(layer) => {
                let visible = if examples { self.examples.as_slice() } else { &[] };
                run::judge(context, &self.answer.path, &layer, &self.sealed, visible)
            }
        }
    }
}

fn case_example(case: &Case) -> String {
    let mut out = format!("{}:\n", case.name);
    let mut block = |title: &str, bytes: &[u8]| {
        let text = String::from_utf8_lossy(bytes);
        let fence = fence_for(&text);
        let _ = write!(out, "\n{title}:\n\n{fence}\n{}\n{fence}\n", text.trim_end_matches('\n'));
    };
    if !case.args.is_empty() {
        block("Arguments, one a line", case.args.join("\n").as_bytes());
    }
    for (path, bytes) in &case.files {
        block(&format!("File `{path}`"), bytes);
    }
    if !case.stdin.is_empty() {
        block("Standard input", &case.stdin);
    }
    if let Some(stdout) = &case.stdout {
        block("Standard output", &stdout.bytes);
    }
    for (path, ExpectedContent { bytes, .. }) in &case.files_after {
        block(&format!("File `{path}` afterwards"), bytes);
    }
    if case.status != 0 {
        let _ = write!(out, "\nExit status {}\n", case.status);
    }
    out
}
