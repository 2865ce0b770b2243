//! What `cargo test` prints: a line `test NAME ... ok` for each, then what failed tests printed.

use super::{ReportedTest, Status, TESTS_MAX, TestReport};

pub(super) fn read(text: &str) -> TestReport {
    let mut report = TestReport::default();
    let mut about: Option<usize> = None;
    for line in text.lines() {
        if let Some(name) =
            line.strip_prefix("---- ").and_then(|it| it.strip_suffix(" stdout ----"))
        {
            about = report.tests.iter().position(|it| it.name == name);
            continue;
        }
        if line.starts_with("failures:") || line.starts_with("test result:") {
            about = None;
            continue;
        }
        if let Some(reported) = test_line(line) {
            report.tests.push(reported);
            if report.tests.len() > TESTS_MAX {
                return report;
            }
        } else if let Some(test) = about.and_then(|index| report.tests.get_mut(index)) {
            test.message =
                ReportedTest::new("", test.status, &format!("{}\n{line}", test.message)).message;
        }
    }
    report
}

fn test_line(line: &str) -> Option<ReportedTest> {
    let (name, said) = line.strip_prefix("test ")?.rsplit_once(" ... ")?;
    let status = match said.split([',', ' ']).next()? {
        "ok" => Status::Passed,
        "FAILED" => Status::Failed,
        "ignored" => Status::Skipped,
        _ => return None,
    };
    let name = name.strip_suffix(" - should panic").unwrap_or(name);
    Some(ReportedTest::new(name, status, ""))
}
