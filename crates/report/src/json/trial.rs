//! Trials in full, for programs.

use std::collections::BTreeMap;
use std::io::{self, Write};

use fairtrial_core::answer::{AnswerEnd, Code};
use fairtrial_core::change::ChangeFacts;
use fairtrial_core::tree::RelPath;
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::Verdict;
use fairtrial_record::RequestRow;
use serde::Serialize;
use serde_json::Value;

use super::reading::ReadingOutput;
use super::write_json;
use crate::view::{ActorEndView, AttemptView, StepView, TestView, TrialView};

/// The version of this output.
const FORMAT_VERSION: u32 = 1;

#[derive(Serialize)]
struct ShowOutput {
    format_version: u32,
    trials: Vec<TrialOutput>,
}

#[derive(Serialize)]
struct TrialOutput {
    trial: i64,
    candidate: String,
    task: String,
    sample: u32,
    round: u32,
    verdict: Option<&'static str>,
    reason: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    fault: Option<&'static str>,
    begun: String,
    ended: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    helped: Option<String>,
    seconds: f64,
    cost: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    system: Option<String>,
    prompt: String,
    attempts: Vec<AttemptOutput>,
    requests: Vec<RequestOutput>,
}

#[derive(Serialize)]
struct AttemptOutput {
    attempt: u32,
    verdict: Option<&'static str>,
    reason: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    fault: Option<&'static str>,
    tests_passed: u32,
    tests_total: u32,
    credit: f64,
    answer_kind: String,
    answer: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    thought: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    reused: Option<String>,
    cut_off: bool,
    refused: bool,
    deviations: Vec<String>,
    reading: ReadingOutput,
    code: Option<Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    patch: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    change: Option<ChangeFacts>,
    #[serde(skip_serializing_if = "Option::is_none")]
    ended: Option<ActorEndView>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    steps: Vec<StepView>,
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<Trouble>,
    turned_green: Vec<String>,
    turned_red: Vec<String>,
    message: Option<String>,
    notes: Vec<String>,
    feedback: Option<String>,
    judge_seconds: f64,
    tests: Vec<Test>,
}

#[derive(Serialize)]
struct Test {
    name: String,
    visible: bool,
    #[serde(skip_serializing_if = "String::is_empty")]
    role: String,
    verdict: &'static str,
    reason: Option<&'static str>,
    summary: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    input: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    expected: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    found: Option<String>,
    points: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    unstable: Option<[u32; 2]>,
    cpu_seconds: Option<f64>,
    wall_seconds: Option<f64>,
    peak_memory_bytes: Option<u64>,
    output_bytes: Option<u64>,
    processes_started: Option<u32>,
    accounting: Option<String>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    calls_refused: BTreeMap<String, u64>,
}

#[derive(Serialize)]
struct RequestOutput {
    round: u32,
    attempt: u32,
    number: u32,
    outcome: String,
    detail: String,
    status: Option<u16>,
    seconds: f64,
    first_token_seconds: Option<f64>,
    tokens_input: u64,
    tokens_cached: u64,
    tokens_output: u64,
    tokens_reasoning: u64,
    tokens_estimated: bool,
    cost: f64,
}

/// Writes trials as JSON.
///
/// # Errors
/// When the writer fails.
pub fn show_json(out: &mut dyn Write, trials: Vec<TrialView>) -> io::Result<()> {
    let trials = trials.into_iter().map(trial).collect();
    write_json(out, &ShowOutput { format_version: FORMAT_VERSION, trials })
}

fn trial(view: TrialView) -> TrialOutput {
    let row = view.row;
    TrialOutput {
        trial: row.number,
        round: row.round,
        verdict: row.verdict.map(Verdict::word),
        reason: row.verdict.and_then(Verdict::family),
        fault: row.verdict.and_then(Verdict::fault),
        seconds: view.seconds,
        cost: row.cost(),
        system: view.system,
        prompt: view.prompt,
        attempts: view.attempts.into_iter().map(attempt).collect(),
        requests: row.requests.into_iter().map(request).collect(),
        candidate: row.key.candidate,
        task: row.key.task,
        sample: row.key.sample,
        begun: row.begun,
        ended: row.ended,
        helped: row.helped,
    }
}

fn attempt(view: AttemptView) -> AttemptOutput {
    let row = view.row;
    let file = |(path, bytes): (RelPath, Vec<u8>)| {
        let content = match String::from_utf8(bytes) {
            Ok(text) => Value::from(text),
            Err(error) => Value::from(error.into_bytes()),
        };
        (path.to_string(), content)
    };
    AttemptOutput {
        attempt: row.number,
        verdict: row.verdict.map(Verdict::word),
        reason: row.verdict.and_then(Verdict::family),
        fault: row.verdict.and_then(Verdict::fault),
        tests_passed: row.tests_passed,
        tests_total: row.tests_total,
        credit: row.credit,
        answer: view.answer,
        thought: view.thought,
        reused: row.reused,
        cut_off: row.end == AnswerEnd::CutOff,
        refused: row.end == AnswerEnd::Refused,
        reading: row.reading.into(),
        patch: match &view.code {
            Some(Code::Patch(patch)) => Some(String::from_utf8_lossy(patch).into_owned()),
            _ => None,
        },
        code: match view.code {
            Some(Code::Files(files)) => Some(files.into_iter().map(file).collect()),
            _ => None,
        },
        change: view.change,
        ended: view.ended,
        steps: view.steps,
        trouble: row.trouble,
        turned_green: view.colours.turned_green,
        turned_red: view.colours.turned_red,
        message: view.message,
        feedback: view.feedback,
        answer_kind: row.answer_kind,
        deviations: row.deviations,
        notes: row.notes,
        judge_seconds: row.judge_seconds,
        tests: view.tests.into_iter().map(test).collect(),
    }
}

fn test(view: TestView) -> Test {
    let test = view.outcome;
    let usage = test.usage.as_ref();
    let shown = |text: String| Some(text).filter(|text| view.is_open && !text.is_empty());
    Test {
        verdict: test.failed.map_or("pass", |_| "fail"),
        reason: test.failed.map(|it| it.word()),
        input: shown(test.input),
        expected: shown(test.expected),
        found: shown(test.found),
        name: test.name,
        visible: test.visible,
        role: test.role,
        summary: test.summary,
        points: test.points,
        unstable: test.unstable.map(|it| [it.failed, it.runs]),
        cpu_seconds: usage.map(|it| it.cpu_seconds),
        wall_seconds: usage.map(|it| it.wall_seconds),
        peak_memory_bytes: usage.map(|it| it.peak_memory),
        output_bytes: usage.map(|it| it.bytes_out),
        processes_started: usage.and_then(|it| it.started),
        accounting: usage.map(|it| it.accounting.clone()),
        calls_refused: usage.map(|it| it.denied.clone()).unwrap_or_default(),
    }
}

fn request(row: RequestRow) -> RequestOutput {
    RequestOutput {
        round: row.round,
        attempt: row.attempt,
        number: row.number,
        outcome: row.outcome,
        detail: row.detail,
        status: row.status,
        seconds: row.seconds,
        first_token_seconds: row.first_token,
        tokens_input: row.tokens.input,
        tokens_cached: row.tokens.cached,
        tokens_output: row.tokens.output,
        tokens_reasoning: row.tokens.reasoning,
        tokens_estimated: row.estimated,
        cost: row.cost,
    }
}
