//! What `go test -json` prints: one event a line.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::{MESSAGE_MAX, ReportError, ReportedTest, Status, TESTS_MAX, TestReport};

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct GoEvent {
    action: String,
    test: Option<String>,
    package: Option<String>,
    output: Option<String>,
}

/// Reads events; names are those of tests alone.
pub(super) fn read(text: &str) -> Result<TestReport, ReportError> {
    read_named(text, |_, test| test)
}

/// Reads events; names are `PACKAGE::TEST`.
pub(super) fn read_packages(text: &str) -> Result<TestReport, ReportError> {
    read_named(text, |package, test| match package {
        Some(package) => format!("{package}::{test}"),
        None => test,
    })
}

fn read_named(
    text: &str,
    name: impl Fn(Option<String>, String) -> String,
) -> Result<TestReport, ReportError> {
    let mut report = TestReport::default();
    let mut said = BTreeMap::<String, String>::new();
    for line in text.lines().filter(|line| line.starts_with('{')) {
        let Ok(event) = serde_json::from_str::<GoEvent>(line) else { continue };
        let Some(test) = event.test else { continue };
        let name = name(event.package, test);
        let status = match event.action.as_str() {
            "pass" => Status::Passed,
            "fail" => Status::Failed,
            "skip" => Status::Skipped,
            "output" => {
                let text = said.entry(name).or_default();
                if text.len() < MESSAGE_MAX {
                    text.push_str(event.output.as_deref().unwrap_or_default());
                }
                continue;
            }
            _ => continue,
        };
        let message = said.remove(&name).unwrap_or_default();
        let message = if status == Status::Failed { message.as_str() } else { "" };
        report.tests.push(ReportedTest::new(&name, status, message));
        if report.tests.len() > TESTS_MAX {
            return Err(ReportError::TooMany);
        }
    }
    Ok(report)
}
