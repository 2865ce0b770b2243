//! What stands behind the cells of a task: compressed, and unpacked by the page when somebody looks.

use std::collections::HashMap;
use std::io::{self, Write as _};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fairtrial_core::answer::Code;
use fairtrial_record::AttemptRow;
use flate2::Compression;
use flate2::write::GzEncoder;
use serde::Serialize;

use crate::safe::safe;
use crate::view::{AttemptView, NamedTrial, StepView, TestView, TrialEvidence};

/// Longest text that is kept whole, in bytes; of longer ones head and tail are.
const TEXT_MAX: usize = 24 << 10;

/// Most steps of an attempt that are listed.
const STEPS_MAX: usize = 200;

/// Most tests of an attempt that are listed one by one; failures come first.
const TESTS_MAX: usize = 200;

/// Every trial at a task. Texts are kept once, and named by their places.
#[derive(Default, Serialize)]
struct TaskDetail {
    texts: Vec<String>,
    trials: Vec<TrialDetail>,
    #[serde(skip)]
    known: HashMap<String, usize>,
}

#[derive(Serialize)]
struct TrialDetail {
    candidate: String,
    trial: i64,
    sample: u32,
    verdict: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    prompt: Option<usize>,
    seconds: f64,
    cost: f64,
    tokens: [u64; 2],
    #[serde(skip_serializing_if = "Option::is_none")]
    helped: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    unanswered: Vec<String>,
    attempts: Vec<AttemptDetail>,
}

#[derive(Serialize)]
struct AttemptDetail {
    verdict: String,
    tests_passed: u32,
    tests_total: u32,
    /// `None`: the page has no texts of this trial.
    #[serde(skip_serializing_if = "Option::is_none")]
    answer: Option<usize>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    deviations: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    files: Vec<(String, usize)>,
    #[serde(skip_serializing_if = "Option::is_none")]
    change: Option<usize>,
    #[serde(skip_serializing_if = "Option::is_none")]
    message: Option<usize>,
    #[serde(skip_serializing_if = "Option::is_none")]
    feedback: Option<usize>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    notes: Vec<String>,
    tests: Vec<TestDetail>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    steps: Vec<StepDetail>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    again: Vec<String>,
}

#[derive(Serialize)]
struct TestDetail {
    name: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    role: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    failed: Option<&'static str>,
    #[serde(skip_serializing_if = "String::is_empty")]
    summary: String,
    /// Input, expectation and result, where they may be shown.
    #[serde(skip_serializing_if = "Option::is_none")]
    open: Option<[usize; 3]>,
}

#[derive(Serialize)]
struct StepDetail {
    kind: String,
    subject: String,
    outcome: String,
    seconds: f64,
}

/// The trials at a task as gzip in base64.
///
/// # Errors
/// Never, but that the encoder could not be written to.
pub fn packed(trials: &[NamedTrial]) -> io::Result<String> {
    let mut detail = TaskDetail::default();
    for trial in trials {
        let trial = detail.trial(trial);
        detail.trials.push(trial);
    }
    let mut encoder = GzEncoder::new(Vec::new(), Compression::best());
    encoder.write_all(serde_json::to_string(&detail)?.as_bytes())?;
    Ok(STANDARD.encode(encoder.finish()?))
}

impl TaskDetail {
    /// The place of a text.
    fn text(&mut self, text: &str) -> usize {
        let text = safe(&shortened(text)).into_owned();
        if let Some(&place) = self.known.get(&text) {
            return place;
        }
        self.texts.push(text.clone());
        self.known.insert(text, self.texts.len() - 1);
        self.texts.len() - 1
    }

    fn trial(&mut self, trial: &NamedTrial) -> TrialDetail {
        let NamedTrial { candidate, evidence } = trial;
        let row = evidence.row();
        let tokens = row.tokens();
        let unanswered = row.requests.iter().filter(|it| it.outcome != "answered");
        let unanswered = unanswered.map(|it| format!("{}: {}", it.outcome, it.detail));
        let (prompt, attempts) = match evidence {
            TrialEvidence::Full(view) => (
                Some(self.text(&view.prompt)),
                view.attempts.iter().map(|it| self.attempt(it)).collect(),
            ),
            TrialEvidence::Brief(row) => (None, row.attempts.iter().map(brief).collect()),
        };
        TrialDetail {
            candidate: safe(candidate).into_owned(),
            trial: row.number,
            sample: row.key.sample,
            verdict: row.verdict.map_or("under way".to_owned(), |it| it.to_string()),
            prompt,
            seconds: match evidence {
                TrialEvidence::Full(view) => view.seconds,
                TrialEvidence::Brief(row) => row.seconds(),
            },
            cost: row.cost(),
            tokens: [tokens.input, tokens.output],
            helped: row.helped.clone(),
            unanswered: unanswered.map(|it| shortened(&it)).collect(),
            attempts,
        }
    }

    fn attempt(&mut self, view: &AttemptView) -> AttemptDetail {
        let row = &view.row;
        let lossy = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let (mut files, mut change) = (Vec::new(), None);
        match &view.code {
            Some(Code::Files(found)) => {
                for (path, bytes) in found {
                    files.push((path.as_str().to_owned(), self.text(&lossy(bytes))));
                }
            }
            Some(Code::Patch(patch)) => change = Some(self.text(&lossy(patch))),
            None => {}
        }
        let mut tests: Vec<&TestView> = view.tests.iter().collect();
        tests.sort_by_key(|it| it.outcome.failed.is_none());
        let again = view.again.iter().map(|(row, at)| {
            let cause = row.cause.as_ref().map_or(String::new(), |it| format!(": {it}"));
            format!("{} ({}/{} tests), {at}{cause}", row.again, row.passed, row.total)
        });
        AttemptDetail {
            verdict: verdict_of(row),
            tests_passed: row.tests_passed,
            tests_total: row.tests_total,
            answer: Some(self.text(&view.answer)),
            deviations: row.deviations.clone(),
            files,
            change,
            message: view.message.as_ref().map(|it| self.text(it)),
            feedback: view.feedback.as_ref().map(|it| self.text(it)),
            notes: row.notes.clone(),
            tests: tests.into_iter().take(TESTS_MAX).map(|it| self.test(it)).collect(),
            steps: view.steps.iter().take(STEPS_MAX).map(step).collect(),
            again: again.collect(),
        }
    }

    fn test(&mut self, view: &TestView) -> TestDetail {
        let test = &view.outcome;
        let is_told = !(test.input.is_empty() && test.expected.is_empty() && test.found.is_empty());
        let open = (view.is_open && is_told)
            .then(|| [&test.input, &test.expected, &test.found].map(|it| self.text(it)));
        TestDetail {
            name: test.name.clone(),
            role: test.role.clone(),
            failed: test.failed.map(|it| it.word()),
            summary: test.summary.clone(),
            open,
        }
    }
}

/// What an attempt came to, without any text.
fn brief(row: &AttemptRow) -> AttemptDetail {
    AttemptDetail {
        verdict: verdict_of(row),
        tests_passed: row.tests_passed,
        tests_total: row.tests_total,
        answer: None,
        deviations: row.deviations.clone(),
        files: Vec::new(),
        change: None,
        message: None,
        feedback: None,
        notes: Vec::new(),
        tests: Vec::new(),
        steps: Vec::new(),
        again: Vec::new(),
    }
}

fn verdict_of(row: &AttemptRow) -> String {
    row.verdict.map_or("not judged".to_owned(), |it| it.to_string())
}

fn step(step: &StepView) -> StepDetail {
    StepDetail {
        kind: step.kind.clone(),
        subject: shortened(&step.subject),
        outcome: step.outcome.clone(),
        seconds: step.seconds,
    }
}

/// Head and tail of a long text, and how much is left out between them.
fn shortened(text: &str) -> String {
    if text.len() <= TEXT_MAX {
        return text.to_owned();
    }
    let mut head = TEXT_MAX / 2;
    while !text.is_char_boundary(head) {
        head -= 1;
    }
    let mut tail = text.len() - TEXT_MAX / 2;
    while !text.is_char_boundary(tail) {
        tail += 1;
    }
    let cut = tail - head;
    format!(
        "{}\n[… {cut} bytes are left out here; the record has them …]\n{}",
        &text[..head],
        &text[tail..]
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_texts_keep_head_and_tail() {
        let text = format!("begin{}end", "ü".repeat(TEXT_MAX));
        let short = shortened(&text);
        assert!(
            short.starts_with("begin") && short.ends_with("end") && short.len() < TEXT_MAX + 99
        );
        assert!(short.contains("bytes are left out here"));
        assert_eq!(shortened("short"), "short");
    }
}
