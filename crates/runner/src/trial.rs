//! One trial as a state machine: ask, judge, tell what failed, ask again.

use fairtrial_candidates::{Message, Role};
use fairtrial_core::answer::Submission;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::Verdict;
use fairtrial_record::{Record, RecordError, TrialRow};

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
}

/// An answer that is recorded and not judged yet.
#[derive(Debug, Clone, PartialEq)]
pub struct Unjudged {
    /// What was sent.
    pub submission: Submission,
    /// Whether the host cut it off.
    pub cut_off: bool,
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
    pub fn new(
        key: TrialKey,
        round: u32,
        attempts_max: u32,
        system: Option<&str>,
        prompt: &str,
    ) -> Self {
        let system = system.map(|text| message(Role::System, text));
        let messages = system.into_iter().chain([message(Role::User, prompt)]).collect();
        Self {
            key,
            round,
            attempt: 1,
            tries: 0,
            request: None,
            unjudged: None,
            messages,
            attempts_max,
            last: None,
            last_submission: None,
            met_limit: false,
        }
    }

    /// A trial that was left off, with what comes next.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn resume(
        row: &TrialRow,
        record: &Record,
        attempts_max: u32,
        system: Option<&str>,
    ) -> Result<(Self, Next), RecordError> {
        let prompt = record.text(&row.prompt)?;
        let key = row.key.clone();
        let mut trial = Self::new(key, row.round, attempts_max, system, &prompt);
        let mut next = Next::Ask;
        for attempt in &row.attempts {
            let submission = record.answer(attempt)?;
            trial.attempt = attempt.number;
            let ended = record.ended_as(attempt)?;
            let limit = ended.as_ref().and_then(|it| it.get("limit"));
            trial.met_limit = limit.is_some_and(|it| it.as_str() != Some(""));
            next = trial.answered(submission, attempt.cut_off);
            if let Some(verdict) = attempt.verdict.filter(|it| !it.is_void()) {
                let feedback = attempt.feedback.as_deref().map(|it| record.text(it)).transpose()?;
                next = trial.judged(verdict, feedback.as_deref());
            }
        }
        Ok((trial, next))
    }

    /// Takes note of an answer that was recorded.
    pub fn answered(&mut self, submission: Submission, cut_off: bool) -> Next {
        self.messages.push(message(Role::Assistant, &as_said(&submission)));
        self.last_submission = Some(submission.clone());
        self.unjudged = Some(Unjudged { submission, cut_off });
        Next::Judge
    }

    /// Whether a verdict would end the trial.
    #[must_use]
    pub fn would_end(&self, verdict: Verdict) -> bool {
        !matches!(verdict, Verdict::Fail(_)) || self.attempt >= self.attempts_max || self.met_limit
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

    /// The verdict of the last attempt that was judged.
    #[must_use]
    pub fn last(&self) -> Option<Verdict> {
        self.last
    }
}

fn message(role: Role, content: &str) -> Message {
    Message { role, content: content.to_owned() }
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
        TrialState::new(key, 1, attempts, Some("be brief"), "solve this")
    }

    #[test]
    fn a_failure_goes_back_until_attempts_run_out() {
        let mut trial = trial(2);
        let next = trial.answered(Submission::Text("first".into()), false);
        assert_eq!(next, Next::Judge);
        assert_eq!(trial.judged(FAIL, Some("no")), Next::Ask);
        assert_eq!(trial.attempt, 2);
        let said: Vec<_> = trial.messages.iter().map(|it| it.content.as_str()).collect();
        assert_eq!(said, ["be brief", "solve this", "first", "no"]);
        trial.answered(Submission::Text("second".into()), false);
        assert_eq!(trial.judged(FAIL, Some("no")), Next::Over(FAIL));
    }

    #[test]
    fn a_pass_and_a_void_verdict_end_it_at_once() {
        for verdict in [Verdict::Pass, Verdict::Void(VoidReason::SandboxError)] {
            let mut trial = trial(5);
            trial.answered(Submission::Text("x".into()), false);
            assert_eq!(trial.judged(verdict, None), Next::Over(verdict));
        }
    }
}
