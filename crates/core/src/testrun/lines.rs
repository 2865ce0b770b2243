//! What our own drivers of test runners say: one object a line.

use serde::Deserialize;

use super::{Ran, Report, ReportError, Status, TESTS_MAX, cut};

/// Longest piece of evidence that is kept, in bytes, and most pieces.
const EVIDENCE_MAX: usize = 300;
const PIECES_MAX: usize = 20;

#[derive(Deserialize)]
#[serde(untagged)]
enum Line {
    Test {
        test: String,
        status: Word,
        #[serde(default)]
        message: String,
    },
    Evidence {
        evidence: String,
    },
    Broken {
        broken: String,
    },
    Done {
        done: String,
    },
}

#[derive(Deserialize)]
#[serde(rename_all = "lowercase")]
enum Word {
    Passed,
    Failed,
    Skipped,
}

pub(super) fn read(text: &str) -> Result<Report, ReportError> {
    let mut report = Report::default();
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        let line: Line = serde_json::from_str(line)
            .map_err(|_| ReportError::Malformed("a line is none of a driver's".to_owned()))?;
        match line {
            Line::Test { test, status, message } => {
                let status = match status {
                    Word::Passed => Status::Passed,
                    Word::Failed => Status::Failed,
                    Word::Skipped => Status::Skipped,
                };
                report.tests.push(Ran::new(&test, status, &message));
            }
            Line::Evidence { evidence } if report.evidence.len() < PIECES_MAX => {
                report.evidence.push(cut(&evidence, EVIDENCE_MAX));
            }
            Line::Evidence { .. } => {}
            Line::Broken { broken } => report.broken = Some(cut(&broken, super::MESSAGE_MAX)),
            Line::Done { done } => report.mark = Some(cut(&done, super::NAME_MAX)),
        }
        if report.tests.len() > TESTS_MAX {
            return Err(ReportError::TooMany);
        }
    }
    Ok(report)
}
