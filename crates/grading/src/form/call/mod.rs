//! The form `call`: a function or class in a file, judged by sealed calls.

mod checker;
mod frame;
mod line;
mod prompt;
mod sealed;
mod session;
mod shim;

use fairtrial_core::answer::WantedKind;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Dialect;
use fairtrial_core::source::SourceError;
use fairtrial_core::tree::RelPath;

use self::sealed::{Call, CallSettings};
use super::answer_file::AnswerFile;
use super::{AnswerShape, Answered, Form, FormKind, FormSource, SealedTest};
use crate::build::Built;
use crate::context::{JudgeContext, JudgeError, Parsed};

/// The form.
pub const KIND: FormKind = FormKind { name: NAME, parse };

const NAME: &str = "call";

/// A task of this form.
#[derive(Debug)]
struct CallForm {
    answer: AnswerFile,
    settings: CallSettings,
    /// File and source of the program that judges what no value can be written down for.
    checker: Option<(RelPath, Vec<u8>)>,
    examples: Vec<Call>,
    sealed: Vec<Call>,
}

fn parse(mut source: FormSource<'_>) -> Result<Box<dyn Form>, SourceError> {
    let brief = source.brief;
    if source.definition.call.is_empty() {
        let offered = source.languages.iter().filter(|(_, it)| !it.call.is_empty());
        let names = offered.map(|(name, _)| name).collect::<Vec<_>>().join(", ");
        let language = source.language;
        let message = format!("the form `call` is offered for {names}, not for `{language}`");
        return Err(SourceError::whole(brief, message));
    }
    let settings: CallSettings = source.take_table(NAME)?;
    let examples = source.read_examples(line::parse_example)?;
    let (text, file) = source.sealed(NAME, "calls.jsonl")?;
    let sealed = line::parse_calls(&file, text)?;
    let checker = match &settings.checker {
        Some(name) => Some((name.clone(), sealed_checker(&source, name)?)),
        None => None,
    };
    if checker.is_none() && sealed.iter().chain(&examples).any(|it| it.check.is_some()) {
        let message = "a call has `check`, but `[call]` names no `checker`";
        return Err(SourceError::whole(brief, message));
    }
    let kind = WantedKind::Definition(settings.name.clone());
    let answer = AnswerFile { path: settings.file.clone(), kind };
    Ok(Box::new(CallForm { answer, settings, checker, examples, sealed }))
}

/// The checker's source, in a language that is known.
fn sealed_checker(source: &FormSource<'_>, name: &RelPath) -> Result<Vec<u8>, SourceError> {
    let file = format!("{}/sealed/{name}", source.place);
    let bytes = source
        .file(&format!("sealed/{name}"))
        .ok_or_else(|| SourceError::whole(&file, "it is missing; `[call]` names it"))?;
    if source.languages.by_extension(name.extension()).is_none() {
        let message = format!("no known language has files that end in `.{}`", name.extension());
        return Err(SourceError::whole(&file, message));
    }
    Ok(bytes.to_vec())
}

impl Form for CallForm {
    fn name(&self) -> &'static str {
        NAME
    }

    fn checker(&self) -> Option<&RelPath> {
        self.settings.checker.as_ref()
    }

    fn instructions(&self, language: &str) -> String {
        format!(
            "Write the file `{}` in {language}. It defines `{}`,\n\
             which is called with other arguments than those shown.{}",
            self.settings.file,
            self.settings.name,
            if self.settings.awaits {
                "\nIt may be asynchronous: what it gives is waited for."
            } else {
                ""
            },
        )
    }

    fn answer(&self) -> &dyn AnswerShape {
        &self.answer
    }

    fn examples(&self, dialect: Dialect<'_>) -> String {
        let of_call = |call: &Call| prompt::example(&self.settings.name, call, dialect);
        self.examples.iter().map(of_call).collect()
    }

    fn sealed_tests(&self) -> Vec<SealedTest> {
        let test = |it: &Call| SealedTest { name: it.name.clone(), points: it.points };
        self.sealed.iter().map(test).collect()
    }

    fn also_visible(&self) -> Vec<String> {
        let is_visible = |it: &&Call| self.examples.iter().any(|example| example.steps == it.steps);
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
        let calls: Vec<&Call> = self.examples.iter().collect();
        let built = session::build_for(context, &self.settings, &calls, files)?;
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
        let checker = match &self.checker {
            Some((file, source)) => Some(checker::Checker::new(context, file, source)?),
            None => None,
        };
        let tests = session::CallTests {
            settings: &self.settings,
            checker: checker.as_ref(),
            sealed: &self.sealed,
            visible: if examples { &self.examples } else { &[] },
        };
        session::judge(context, &tests, files)
    }
}
