//! What our own drivers of test runners say: one object a line.

use serde::Deserialize;

use super::{ReportError, ReportedTest, Status, TESTS_MAX, TestReport, cut};

/// Longest piece of evidence that is kept, in bytes, and most pieces.
const EVIDENCE_MAX: usize = 300;
const PIECES_MAX: usize = 20;

#[derive(Deserialize)]
#[serde(untagged)]
enum ReportLine {
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
    /// What an assertion came to, which is read elsewhere.
    Note {
        #[expect(dead_code, reason = "what is read is the bare text")]
        note: String,
    },
    Done {
        done: String,
        #[serde(default)]
        decided: Vec<String>,
        #[serde(default)]
        held: Vec<String>,
        #[serde(default)]
        gone: bool,
    },
}

#[derive(Deserialize)]
#[serde(rename_all = "lowercase")]
enum Word {
    Passed,
    Failed,
    Skipped,
}

pub(super) fn read(text: &str) -> Result<TestReport, ReportError> {
    let mut report = TestReport::default();
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        let line: ReportLine = serde_json::from_str(line)
            .map_err(|_| ReportError::Malformed("a line is none of a driver's".to_owned()))?;
        match line {
            ReportLine::Test { test, status, message } => {
                let status = match status {
                    Word::Passed => Status::Passed,
                    Word::Failed => Status::Failed,
                    Word::Skipped => Status::Skipped,
                };
                report.tests.push(ReportedTest::new(&test, status, &message));
            }
            ReportLine::Evidence { evidence } if report.evidence.len() < PIECES_MAX => {
                report.evidence.push(cut(&evidence, EVIDENCE_MAX));
            }
            ReportLine::Evidence { .. } | ReportLine::Note { .. } => {}
            ReportLine::Broken { broken } => report.broken = Some(cut(&broken, super::MESSAGE_MAX)),
            ReportLine::Done { done, decided, held, gone } => {
                report.mark = Some(cut(&done, super::NAME_MAX));
                (report.decided, report.held, report.gone) = (decided, held, gone);
            }
        }
        if report.tests.len() > TESTS_MAX {
            return Err(ReportError::TooMany);
        }
    }
    Ok(report)
}
