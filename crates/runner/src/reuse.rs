//! Answers that another record has to the very same requests: they are not paid for twice.

use fairtrial_candidates::{Ask, AskOutcome, AskReply};
use fairtrial_core::answer::Submission;
use fairtrial_core::plan::{Candidate, Plan};
use fairtrial_core::schedule::TrialKey;
use fairtrial_record::{Record, RecordError, TrialRow};

use crate::trial::conversation;

/// A record whose answers are taken over where the request is the same to the letter.
pub struct ReusedRecord {
    record: Record,
    label: String,
    /// Whether seeds that are sent are the same, too.
    has_same_seed: bool,
}

impl ReusedRecord {
    /// Takes answers of `record` over for trials of `plan`.
    #[must_use]
    pub fn new(record: Record, plan: &Plan) -> Self {
        let has_same_seed = record.manifest().plan.seed == plan.seed;
        let label = record.folder().display().to_string();
        Self { record, label, has_same_seed }
    }

    /// The answer to a request, if it was made before; `None`: it was not. Only of models that answer in words.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn answer(
        &self,
        candidate: &Candidate,
        ask: &Ask,
    ) -> Result<Option<AskReply>, RecordError> {
        let Candidate::Chat(wanted) = candidate else { return Ok(None) };
        let is_same = |it: &&Candidate| match it {
            Candidate::Chat(chat) => {
                let has_seed = chat.send_seed || wanted.send_seed;
                chat.model == wanted.model
                    && chat.endpoint.trim_end_matches('/') == wanted.endpoint.trim_end_matches('/')
                    && chat.sampling == wanted.sampling
                    && chat.acts == wanted.acts
                    && chat.send_seed == wanted.send_seed
                    && (self.has_same_seed || !has_seed)
            }
            _ => false,
        };
        for known in self.record.manifest().plan.candidates.iter().filter(is_same) {
            let (task, sample) = (ask.task.clone(), ask.sample);
            let key = TrialKey { candidate: known.name().to_owned(), task, sample };
            let Some(row) = self.record.trial(&key)? else { continue };
            if let Some(outcome) = self.outcome(known, &row, ask)? {
                return Ok(Some(AskReply {
                    reused: Some(self.label.clone()),
                    ..AskReply::bare(outcome)
                }));
            }
        }
        Ok(None)
    }

    fn outcome(
        &self,
        candidate: &Candidate,
        row: &TrialRow,
        ask: &Ask,
    ) -> Result<Option<AskOutcome>, RecordError> {
        let attempt = row.attempts.iter().find(|it| it.number == ask.attempt);
        let Some(attempt) = attempt.filter(|it| it.answer_kind == "text") else { return Ok(None) };
        let said = conversation(row, &self.record, candidate.system(), ask.attempt)?;
        if said != ask.messages {
            return Ok(None);
        }
        let submission = Submission::Text(self.record.text(&attempt.answer)?);
        Ok(Some(AskOutcome::Answer { submission, end: attempt.end }))
    }
}
