//! What happens in a run, as lines of JSON. `docs/json.md` describes each.

use std::fs::{File, OpenOptions};
use std::io::{self, Write as _};
use std::path::Path;
use std::time::SystemTime;

use fairtrial_core::schedule::TrialKey;
use fairtrial_runner::{CapOwner, Observer, Progress, RunNews};
use serde_json::{Map, Value, json};

/// The version of the lines' format.
const FORMAT_VERSION: u32 = 1;

/// A file that is written as things happen.
pub struct EventLog {
    file: File,
}

impl EventLog {
    /// Writes behind what the file has.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn open(path: &Path) -> io::Result<Self> {
        Ok(Self { file: OpenOptions::new().create(true).append(true).open(path)? })
    }
}

impl Observer for EventLog {
    fn progress(&mut self, _progress: &Progress) {}

    fn happened(&mut self, what: &RunNews<'_>) {
        let at = humantime::format_rfc3339_millis(SystemTime::now().max(SystemTime::UNIX_EPOCH));
        let mut line = Map::new();
        line.insert("at".into(), json!(at.to_string()));
        line.extend(fields(what));
        // A log that cannot be written must not end a run that costs money. One write a line: who reads along never
        // finds half of one.
        let _ = self.file.write_all(format!("{}\n", Value::Object(line)).as_bytes());
    }
}

fn fields(what: &RunNews<'_>) -> Map<String, Value> {
    let of = |event: &str, more: Value| {
        let mut fields = Map::new();
        fields.insert("event".into(), json!(event));
        if let Value::Object(more) = more {
            fields.extend(more);
        }
        fields
    };
    let trial = |event: &str, key: &TrialKey, more: Value| {
        let mut fields = of(
            event,
            json!({ "candidate": key.candidate, "task": key.task, "sample": key.sample }),
        );
        if let Value::Object(more) = more {
            fields.extend(more);
        }
        fields
    };
    match what {
        RunNews::Begun { trials } => {
            of("run begun", json!({ "format_version": FORMAT_VERSION, "trials": trials }))
        }
        RunNews::Changed { what } => of("plan changed", json!({ "what": what })),
        RunNews::TrialBegun { key, round } => trial("trial begun", key, json!({ "round": round })),
        RunNews::RequestSent { key, attempt, number } => {
            trial("request sent", key, json!({ "attempt": attempt, "number": number }))
        }
        RunNews::RequestOver { key, attempt, number, result } => trial(
            "request over",
            key,
            json!({
                "attempt": attempt,
                "number": number,
                "outcome": result.outcome,
                "status": result.status,
                "seconds": result.seconds,
                "first_token_seconds": result.first_token,
                "tokens_input": result.tokens.input,
                "tokens_cached": result.tokens.cached,
                "tokens_output": result.tokens.output,
                "tokens_reasoning": result.tokens.reasoning,
                "tokens_estimated": result.estimated,
                "cost": result.cost,
            }),
        ),
        RunNews::Answered { key, attempt, end } => {
            let end = match end {
                fairtrial_core::answer::AnswerEnd::Complete => "complete",
                fairtrial_core::answer::AnswerEnd::CutOff => "cut off",
                fairtrial_core::answer::AnswerEnd::Refused => "refused",
            };
            trial("answered", key, json!({ "attempt": attempt, "end": end }))
        }
        RunNews::Judged { key, attempt, verdict, tests } => trial(
            "judged",
            key,
            json!({
                "attempt": attempt,
                "verdict": verdict.word(),
                "reason": verdict.family(),
                "tests_passed": tests.0,
                "tests_total": tests.1,
            }),
        ),
        RunNews::TrialOver { key, verdict, attempts } => trial(
            "trial over",
            key,
            json!({
                "verdict": verdict.word(),
                "reason": verdict.family(),
                "fault": verdict.fault(),
                "attempts": attempts,
            }),
        ),
        RunNews::Halted { candidate, why } => {
            of("candidate stopped", json!({ "candidate": candidate, "why": why }))
        }
        RunNews::CapReached { owner } => match owner {
            CapOwner::Run => of("cap reached", json!({ "of": "run" })),
            CapOwner::Candidate(name) => {
                of("cap reached", json!({ "of": "candidate", "candidate": name }))
            }
            CapOwner::Trial(key) => trial("cap reached", key, json!({ "of": "trial" })),
        },
        RunNews::Stopping { under_way } => of("stopping", json!({ "under_way": under_way })),
        RunNews::Over { stopped } => of("run over", json!({ "stopped": stopped })),
    }
}
