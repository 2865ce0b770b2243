//! One trial as a state machine: ask, judge, tell what failed, ask again.

use fairtrial_candidates::{Message, Role, StepNote};
use fairtrial_core::answer::{AnswerEnd, Code, Submission};
use fairtrial_core::image::{IMAGE_TOKENS, Image};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::trouble::{StepWatch, TrialWatch, Trouble, WatchedStep};
use fairtrial_core::verdict::Verdict;
use fairtrial_record::{Record, RecordError, TrialRow};

/// Bytes that are counted as one token.
const BYTES_PER_TOKEN: u64 = 4;

/// One trial under way.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialState {
    /// Which trial.
    pub key: TrialKey,
    /// In which round of it: more than 1 when it was void before.
    pub round: u32,
    /// The attempt under way, from 1.
    pub attempt: u32,
    /// Requests of the attempt that failed so far, in this session.
    pub tries: u32,
    /// The number of the request under way, as the record has it.
    pub request: Option<u32>,
    /// Whether a request was denied that its candidate wanted to send while it acted.
    pub denied: bool,
    /// What was answered and is not judged yet.
    pub unjudged: Option<Unjudged>,
    /// The conversation so far.
    pub messages: Vec<Message>,
    attempts_max: u32,
    last: Option<Verdict>,
    /// What the last attempt came to.
    pub last_submission: Option<Submission>,
    /// Whether the candidate met a limit of the plan: then there is no further attempt.
    pub met_limit: bool,
    /// Looks for trouble in the steps of the attempt under way, and in the attempts so far.
    pub steps: StepWatch,
    attempts: TrialWatch,
    /// What it said last, where it acts.
    last_words: Option<String>,
    /// How often it may show the same trouble; `None`: as often as it likes.
    stuck_at: Option<u32>,
}

/// What a trial may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrialTerms<'a> {
    /// Attempts at most.
    pub attempts: u32,
    /// How often it may show the same trouble; `None`: as often as it likes.
    pub stuck_at: Option<u32>,
    /// The setting, before anything is asked.
    pub system: Option<&'a str>,
    /// What is shown with the first prompt.
    pub images: &'a [Image],
}

/// A step, as far as trouble is looked for in it.
pub fn step_of(step: &StepNote) -> WatchedStep<'_> {
    WatchedStep {
        kind: &step.kind,
        subject: &step.subject,
        outcome: &step.outcome,
        detail: &step.detail,
        files: step.files.as_ref().map(|(before, after)| (before.as_str(), after.as_str())),
    }
}

/// An answer that is recorded and not judged yet.
#[derive(Debug, Clone, PartialEq)]
pub struct Unjudged {
    /// What was sent.
    pub submission: Submission,
    /// How it ended.
    pub end: AnswerEnd,
}

/// What comes next.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Next {
    /// Ask for an attempt.
    Ask,
    /// Judge the answer that is recorded.
    Judge,
    /// The trial is over.
    Over(Verdict),
}

impl TrialState {
    /// A trial from its beginning.
    #[must_use]
    pub fn new(key: TrialKey, round: u32, terms: TrialTerms<'_>, prompt: &str) -> Self {
        let system = terms.system.map(|text| message(Role::System, text));
        let first = Message { images: terms.images.to_vec(), ..message(Role::User, prompt) };
        let messages = system.into_iter().chain([first]).collect();
        Self {
            key,
            round,
            attempt: 1,
            tries: 0,
            request: None,
            denied: false,
            unjudged: None,
            messages,
            attempts_max: terms.attempts,
            last: None,
            last_submission: None,
            met_limit: false,
            steps: StepWatch::default(),
            attempts: TrialWatch::default(),
            last_words: None,
            stuck_at: terms.stuck_at,
        }
    }

    /// A trial that was left off, with what comes next.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn resume(
        row: &TrialRow,
        record: &Record,
        terms: TrialTerms<'_>,
    ) -> Result<(Self, Next), RecordError> {
        let prompt = record.text(&row.prompt)?;
        let key = row.key.clone();
        let mut trial = Self::new(key, row.round, terms, &prompt);
        let mut next = Next::Ask;
        for attempt in &row.attempts {
            let submission = record.answer(attempt)?;
            trial.attempt = attempt.number;
            let ended = record.ended_as(attempt)?;
            let text = |key: &str| ended.as_ref()?.get(key)?.as_str();
            trial.met_limit = text("limit").is_some_and(|it| !it.is_empty());
            let last_words = text("stdout").map(str::to_owned);
            next = trial.answered(submission, attempt.end, last_words);
            trial.steps = StepWatch::default();
            for step in row.steps.iter().filter(|it| it.attempt == attempt.number) {
                let detail = step.detail.as_deref().map(|it| record.text(it)).transpose()?;
                trial.steps.take(&WatchedStep {
                    kind: &step.kind,
                    subject: &step.subject,
                    outcome: &step.outcome,
                    detail: detail.as_deref().unwrap_or_default(),
                    files: step.files.as_ref().map(|it| (it.0.as_str(), it.1.as_str())),
                });
            }
            if let Some(verdict) = attempt.verdict.filter(|it| !it.is_void()) {
                let message = attempt.message.as_deref().map(|it| record.text(it)).transpose()?;
                let tests = record.tests(attempt)?;
                let judgement = Judgement { tests, message, ..Judgement::bare(verdict) };
                trial.trouble_of(&judgement, record.code(attempt)?.as_ref());
                let feedback = attempt.feedback.as_deref().map(|it| record.text(it)).transpose()?;
                next = trial.judged(verdict, feedback.as_deref());
            }
        }
        Ok((trial, next))
    }

    /// Takes note of an answer that was recorded.
    pub fn answered(
        &mut self,
        submission: Submission,
        end: AnswerEnd,
        last_words: Option<String>,
    ) -> Next {
        self.last_words = last_words;
        self.messages.push(message(Role::Assistant, &as_said(&submission)));
        self.last_submission = Some(submission.clone());
        self.unjudged = Some(Unjudged { submission, end });
        Next::Judge
    }

    /// Looks for trouble in an attempt that was judged, and gives what is to be counted for it. To be called
    /// once for each, before [`TrialState::judged`].
    pub fn trouble_of(&mut self, judgement: &Judgement, code: Option<&Code>) -> Trouble {
        let steps = std::mem::take(&mut self.steps);
        self.attempts.take(judgement, code, &steps, self.last_words.as_deref())
    }

    /// Whether a verdict would end the trial.
    #[must_use]
    pub fn would_end(&self, verdict: Verdict) -> bool {
        let is_stuck = self.stuck_at.is_some_and(|most| self.attempts.total().most() >= most);
        let is_last = self.attempt >= self.attempts_max || self.met_limit || is_stuck;
        is_last || !matches!(verdict, Verdict::Fail(_))
    }

    /// Takes note of a verdict, and of what goes back to the candidate.
    pub fn judged(&mut self, verdict: Verdict, feedback: Option<&str>) -> Next {
        self.last = Some(verdict);
        self.unjudged = None;
        match feedback {
            Some(text) if !self.would_end(verdict) => {
                self.messages.push(message(Role::User, text));
                self.attempt += 1;
                self.tries = 0;
                Next::Ask
            }
            _ => Next::Over(verdict),
        }
    }

    /// Tokens that its next request takes at least, by the length of what is sent.
    #[must_use]
    pub fn tokens_wanted(&self) -> u64 {
        let of = |it: &Message| {
            it.content.len() as u64 / BYTES_PER_TOKEN + it.images.len() as u64 * IMAGE_TOKENS
        };
        self.messages.iter().map(of).sum()
    }

    /// The verdict of the last attempt that was judged.
    #[must_use]
    pub fn last(&self) -> Option<Verdict> {
        self.last
    }
}

/// What was said before an attempt of a recorded trial; fewer messages where it has not come that far.
///
/// # Errors
/// When the record cannot be read.
pub fn conversation(
    row: &TrialRow,
    record: &Record,
    system: Option<&str>,
    attempt: u32,
) -> Result<Vec<Message>, RecordError> {
    let mut said: Vec<Message> =
        system.map(|text| message(Role::System, text)).into_iter().collect();
    said.push(message(Role::User, &record.text(&row.prompt)?));
    for earlier in row.attempts.iter().filter(|it| it.number < attempt) {
        said.push(message(Role::Assistant, &as_said(&record.answer(earlier)?)));
        if let Some(feedback) = &earlier.feedback {
            said.push(message(Role::User, &record.text(feedback)?));
        }
    }
    Ok(said)
}

fn message(role: Role, content: &str) -> Message {
    Message { role, content: content.to_owned(), images: Vec::new() }
}

/// An answer as it stands in the conversation.
fn as_said(submission: &Submission) -> String {
    match submission {
        Submission::Text(text) => text.clone(),
        Submission::Patch(patch) => format!("```diff\n{}\n```", String::from_utf8_lossy(patch)),
        Submission::Files(files) => {
            let file = |(path, bytes): (_, &Vec<u8>)| {
                format!("``` {path}\n{}\n```\n", String::from_utf8_lossy(bytes))
            };
            files.iter().map(file).collect()
        }
    }
}

#[cfg(test)]
mod tests {
    use fairtrial_core::verdict::{FailReason, VoidReason};

    use super::*;

    const FAIL: Verdict = Verdict::Fail(FailReason::Crashed);

    fn trial(attempts: u32) -> TrialState {
        let key = TrialKey { candidate: "auk".into(), task: "gap".into(), sample: 1 };
        let terms =
            TrialTerms { attempts, stuck_at: Some(2), system: Some("be brief"), images: &[] };
        TrialState::new(key, 1, terms, "solve this")
    }

    #[test]
    fn a_failure_goes_back_until_attempts_run_out() {
        let mut trial = trial(2);
        let next = trial.answered(Submission::Text("first".into()), AnswerEnd::Complete, None);
        assert_eq!(next, Next::Judge);
        assert_eq!(trial.judged(FAIL, Some("no")), Next::Ask);
        assert_eq!(trial.attempt, 2);
        let said: Vec<_> = trial.messages.iter().map(|it| it.content.as_str()).collect();
        assert_eq!(said, ["be brief", "solve this", "first", "no"]);
        trial.answered(Submission::Text("second".into()), AnswerEnd::Complete, None);
        assert_eq!(trial.judged(FAIL, Some("no")), Next::Over(FAIL));
    }

    #[test]
    fn one_that_is_stuck_gets_no_further_attempt() {
        let mut trial = trial(9);
        let judgement = Judgement::bare(FAIL);
        for (attempt, same) in [(1, 0), (2, 1), (3, 1)] {
            trial.answered(Submission::Text("again".into()), AnswerEnd::Complete, None);
            let trouble = trial.trouble_of(&judgement, None);
            assert_eq!((trial.attempt, trouble.same_failure), (attempt, same));
            assert_eq!(trial.would_end(FAIL), attempt == 3);
            trial.judged(FAIL, Some("no"));
        }
    }

    #[test]
    fn a_pass_and_a_void_verdict_end_it_at_once() {
        for verdict in [Verdict::Pass, Verdict::Void(VoidReason::SandboxError)] {
            let mut trial = trial(5);
            trial.answered(Submission::Text("x".into()), AnswerEnd::Complete, None);
            assert_eq!(trial.judged(verdict, None), Next::Over(verdict));
        }
    }
}
