//! A sealed checker: judges what no value can be written down for, such as a property.
//!
//! It is the task's own program, but what it reads comes from the candidate, so it runs in a
//! sandbox of its own. A checker that does not answer is no pass: else an answer could win by
//! bringing it down.

use super::sealed::{Call, Reply, Returned};
use fairtrial_core::judgement::TestOutcome;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::value::{Value, to_json};
use fairtrial_core::verdict::FailReason;
use fairtrial_sandbox::{Archive, Ending, Outcome};
use serde::Deserialize;
use serde_json::{Value as Json, json};

use crate::context::{JudgeContext, JudgeError};
use crate::tools::ToolMissing;

/// Longest reason that is kept, in bytes.
const WHY_MAX: usize = 4 << 10;

/// A checker, ready to be asked.
pub struct Checker<'a> {
    /// Its own language's surroundings.
    pub context: JudgeContext<'a>,
    /// Its file.
    pub file: &'a RelPath,
    /// What is in it.
    pub source: &'a [u8],
}

/// What a checker prints: one line of JSON.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct CheckerReply {
    pass: bool,
    /// The share of the points, 0 to 1; all or nothing when it is left out.
    points: Option<f64>,
    #[serde(default)]
    why: String,
}

impl<'a> Checker<'a> {
    /// The checker of a task, in its own language.
    ///
    /// # Errors
    /// When the tool of that language is missing.
    pub fn new(
        context: &JudgeContext<'a>,
        file: &'a RelPath,
        source: &'a [u8],
    ) -> Result<Self, JudgeError> {
        let languages = &context.shared.languages;
        let language = languages.by_extension(file.extension()).unwrap_or_default();
        let context = context.in_language(language).map_err(|missing| {
            let why = format!("{} (the checker)", missing.why);
            JudgeError::ToolMissing(ToolMissing { why, ..missing })
        })?;
        Ok(Self { context, file, source })
    }

    /// Asks about one call, and writes down what it says.
    pub fn check(
        &self,
        candidate: &JudgeContext<'_>,
        call: &Call,
        data: &Json,
        replies: &[Reply],
        printed: &[u8],
        test: &mut TestOutcome,
    ) -> Result<(), JudgeError> {
        let question = json!({
            "task": candidate.task.name,
            "name": call.name,
            "check": data,
            "steps": replies.iter().zip(&call.steps).map(|(reply, step)| {
                let mut out = json!({
                    "args": step.args.iter().map(to_json).collect::<Vec<_>>(),
                    "args_after": reply.args.iter().map(to_json).collect::<Vec<_>>(),
                });
                match &reply.returned {
                    Returned::Value(value) => out["returned"] = shown(value),
                    Returned::Raised { kinds, message } => {
                        out["raised"] = json!({ "kinds": kinds, "message": message });
                    }
                }
                out
            }).collect::<Vec<_>>(),
            "printed": String::from_utf8_lossy(printed),
        });
        let outcome = self.run(question.to_string().into_bytes())?;
        let said = String::from_utf8_lossy(&outcome.stdout.bytes);
        let said = serde_json::from_str::<CheckerReply>(said.trim());
        match (outcome.limit, outcome.ending, said) {
            (None, Ending::Exited(0), Ok(said)) => write_down(said, test),
            _ => {
                test.failed = Some(FailReason::WrongResult);
                test.summary = "the checker gave no verdict".to_owned();
                test.found = self.failure(&outcome);
            }
        }
        Ok(())
    }

    fn run(&self, question: Vec<u8>) -> Result<Outcome, JudgeError> {
        let files = FileTree::from([(self.file.clone(), self.source.to_vec())]);
        let layer = Archive::of(&files)?;
        let context = &self.context;
        let driver = context.driver(&context.definition.drivers.program)?;
        let mut job = context.job(&context.definition.run, self.file, context.caps(), vec![&layer]);
        job.driver = driver.as_ref();
        job.stdin = question;
        Ok(context.sandbox().run(&job)?)
    }

    fn failure(&self, outcome: &Outcome) -> String {
        let said = String::from_utf8_lossy(&outcome.stdout.bytes);
        let errors = String::from_utf8_lossy(&outcome.stderr.bytes);
        head_and_tail(&format!("{}\n{said}\n{errors}", self.context.ended(outcome)), WHY_MAX)
    }
}

/// A value as the checker gets it; what has no form outside of its language goes by name.
fn shown(value: &Value) -> Json {
    to_json(value)
}

fn write_down(said: CheckerReply, test: &mut TestOutcome) {
    let share = said.points.unwrap_or(if said.pass { 1.0 } else { 0.0 });
    if said.pass && share >= 1.0 {
        return;
    }
    test.failed = Some(FailReason::WrongResult);
    test.summary = "the checker does not take it".to_owned();
    test.share = Some(if share.is_finite() { share.clamp(0.0, 1.0) } else { 0.0 });
    test.found = head_and_tail(&said.why, WHY_MAX);
}
