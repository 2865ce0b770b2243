//! Answers that were written down, as a candidate.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use fairtrial_core::answer::{AnswerEnd, Submission};
use fairtrial_core::plan::{RecordedCandidate, Tokens};
use fairtrial_core::source::{SourceError, parse_jsonl, utf8};
use fairtrial_core::tree::RelPath;
use fairtrial_core::verdict::VoidReason;
use serde::Deserialize;

use crate::ask::{
    Ask, AskOutcome, AskReply, Asker, AskerError, OnReply, Reporter, RequestNote, Workspace,
};

/// One line of the file.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RecordedLine {
    task: String,
    #[serde(default = "one")]
    sample: u32,
    #[serde(default = "one")]
    attempt: u32,
    answer: Option<String>,
    files: Option<BTreeMap<RelPath, String>>,
    patch: Option<String>,
    #[serde(default)]
    cut_off: bool,
    #[serde(default)]
    refused: bool,
    tokens_input: Option<u64>,
    #[serde(default)]
    tokens_cached: u64,
    tokens_output: Option<u64>,
    #[serde(default)]
    tokens_reasoning: u64,
    /// Seconds until the answer was whole.
    seconds: Option<f64>,
    /// Seconds until its first part.
    first_token_seconds: Option<f64>,
    /// What it cost, in the plan's currency; `None`: as the price says.
    cost: Option<f64>,
}

/// What was written down.
#[derive(Debug)]
struct RecordedAnswer {
    submission: Submission,
    end: AnswerEnd,
    /// What is known of the request that brought it; `None`: nothing.
    request: Option<RequestNote>,
}

impl RecordedLine {
    /// What is known of the request.
    fn request(&self) -> Result<Option<RequestNote>, String> {
        let span = |key: &str, seconds: Option<f64>| match seconds.map(Duration::try_from_secs_f64)
        {
            None => Ok(None),
            Some(Ok(span)) => Ok(Some(span)),
            Some(Err(_)) => Err(format!("`{key}` is no number of seconds")),
        };
        let (took, first_token) = (
            span("seconds", self.seconds)?,
            span("first_token_seconds", self.first_token_seconds)?,
        );
        if self.cost.is_some_and(|it| !(it >= 0.0 && it.is_finite())) {
            return Err("`cost` is a number of at least 0".to_owned());
        }
        if self.tokens_input.is_some() != self.tokens_output.is_some() {
            return Err("`tokens_input` and `tokens_output` come together".to_owned());
        }
        let is_known = self.cost.is_some() || self.tokens_input.is_some() || took.is_some();
        let input = self.tokens_input.unwrap_or(0);
        let tokens = Tokens {
            input,
            cached: self.tokens_cached.min(input),
            output: self.tokens_output.unwrap_or(0),
            reasoning: self.tokens_reasoning,
        };
        let bare = RequestNote::bare("answered", took.unwrap_or_default());
        let cost = self.cost;
        Ok(is_known.then_some(RequestNote { first_token, tokens, cost, ..bare }))
    }
}

const fn one() -> u32 {
    1
}

/// A candidate whose answers were written down.
#[derive(Debug)]
pub struct RecordedAsker {
    answers: BTreeMap<(String, u32, u32), RecordedAnswer>,
}

impl RecordedAsker {
    /// The answers of a candidate, by what stands in its `file`.
    ///
    /// # Errors
    /// When a line is malformed or says twice what another said.
    pub fn new(config: &RecordedCandidate, file: &Path, bytes: &[u8]) -> Result<Self, AskerError> {
        Self::parse(&file.display().to_string(), bytes)
            .map_err(|source| AskerError::Malformed { candidate: config.name.clone(), source })
    }

    fn parse(file: &str, bytes: &[u8]) -> Result<Self, SourceError> {
        let mut answers = BTreeMap::new();
        for (number, line) in parse_jsonl::<RecordedLine>(file, utf8(file, bytes)?)? {
            let fail = |message: String| Err(SourceError::at_line(file, number, message));
            if line.sample == 0 || line.attempt == 0 {
                return fail("`sample` and `attempt` count from 1".to_owned());
            }
            let request = match line.request() {
                Ok(request) => request,
                Err(what) => return fail(what),
            };
            let submission = match (line.answer, line.files, line.patch) {
                (Some(text), None, None) => Submission::Text(text),
                (None, Some(files), None) => Submission::Files(
                    files.into_iter().map(|(path, text)| (path, text.into_bytes())).collect(),
                ),
                (None, None, Some(patch)) => Submission::Patch(patch.into_bytes()),
                _ => return fail("exactly one of `answer`, `files`, `patch` is needed".to_owned()),
            };
            let key = (line.task, line.sample, line.attempt);
            if answers.contains_key(&key) {
                let (task, sample, attempt) = key;
                return fail(format!(
                    "task `{task}`, sample {sample}, attempt {attempt} was answered before"
                ));
            }
            let end = match (line.cut_off, line.refused) {
                (false, false) => AnswerEnd::Complete,
                (true, false) => AnswerEnd::CutOff,
                (false, true) => AnswerEnd::Refused,
                (true, true) => {
                    return fail("an answer is either `cut_off` or `refused`".to_owned());
                }
            };
            answers.insert(key, RecordedAnswer { submission, end, request });
        }
        Ok(Self { answers })
    }

    /// The tasks that there are answers for, each once.
    pub fn tasks(&self) -> impl Iterator<Item = &str> {
        let mut last = None;
        self.answers
            .keys()
            .map(|key| key.0.as_str())
            .filter(move |task| last.replace(*task) != Some(task))
    }
}

impl RecordedAsker {
    fn reply(&self, ask: &Ask) -> AskReply {
        let key = (ask.task.clone(), ask.sample, ask.attempt);
        let outcome = match self.answers.get(&key) {
            Some(known) => {
                let (submission, end) = (known.submission.clone(), known.end);
                let outcome = AskOutcome::Answer { submission, end };
                return AskReply { request: known.request.clone(), ..AskReply::bare(outcome) };
            }
            None if ask.attempt > 1 => AskOutcome::NothingMore,
            None => {
                let why = format!("no answer is recorded for sample {}", ask.sample);
                AskOutcome::Void(VoidReason::NotRecorded, why)
            }
        };
        AskReply::bare(outcome)
    }
}

impl Asker for RecordedAsker {
    fn ask(
        &self,
        ask: &Ask,
        _workspace: Option<&Workspace<'_>>,
        _reporter: &Arc<dyn Reporter>,
    ) -> AskReply {
        self.reply(ask)
    }

    fn answers_by_itself(&self) -> bool {
        true
    }

    fn begin(&self, ask: &Ask, answered: OnReply) {
        answered(self.reply(ask));
    }

    fn has(&self, task: &str, sample: u32) -> bool {
        self.answers.contains_key(&(task.to_owned(), sample, 1))
    }

    fn makes_requests_for(&self, ask: &Ask) -> bool {
        let key = (ask.task.clone(), ask.sample, ask.attempt);
        self.answers.get(&key).is_some_and(|it| it.request.is_some())
    }

    fn host(&self) -> Option<&str> {
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Nobody;

    impl Reporter for Nobody {
        fn requested(&self) -> Option<u32> {
            Some(1)
        }

        fn request_over(&self, _number: u32, _note: crate::ask::RequestNote) {}

        fn step(&self, _step: crate::ask::StepNote) {}

        fn is_stopping(&self) -> bool {
            false
        }

        fn is_stuck(&self) -> bool {
            false
        }
    }

    fn parse(text: &str) -> Result<RecordedAsker, SourceError> {
        RecordedAsker::parse("a.jsonl", text.as_bytes())
    }

    #[test]
    fn answers_are_found_by_task_sample_and_attempt() {
        let text = "{\"task\": \"gap\", \"answer\": \"x\"}\n\
                    {\"task\": \"gap\", \"attempt\": 2, \"files\": {\"a.py\": \"y\"}}\n\
                    {\"task\": \"berth\", \"sample\": 2, \"patch\": \"z\"}";
        let asker = parse(text).unwrap();
        assert!(asker.has("gap", 1) && asker.has("berth", 2) && !asker.has("berth", 1));
        assert_eq!(asker.tasks().collect::<Vec<_>>(), ["berth", "gap"]);
        let ask = |attempt| {
            let task = "gap".into();
            let ask = Ask { task, sample: 1, attempt, messages: vec![], seed: 0, last: None };
            let nobody: Arc<dyn Reporter> = Arc::new(Nobody);
            asker.ask(&ask, None, &nobody).outcome
        };
        assert_eq!(
            ask(1),
            AskOutcome::Answer {
                submission: Submission::Text("x".into()),
                end: AnswerEnd::Complete
            }
        );
        assert_eq!(ask(3), AskOutcome::NothingMore);
    }

    #[test]
    fn bad_lines_are_told() {
        for (text, part) in [
            ("{\"task\": \"gap\"}", "line 1: exactly one of"),
            (
                "{\"task\": \"a\", \"answer\": \"\"}\n{\"task\": \"a\", \"answer\": \"\"}",
                "line 2: task `a`",
            ),
            ("{\"task\": \"a\", \"anser\": \"\"}", "unknown field `anser`"),
            ("{\"task\": \"a\", \"files\": {\"../x\": \"\"}}", "not a usable file path"),
            ("{\"task\": \"a\", \"sample\": 0, \"answer\": \"\"}", "count from 1"),
        ] {
            let error = parse(text).unwrap_err().to_string();
            assert!(error.contains(part), "{text}: {error}");
        }
    }
}
