//! What `cargo test` prints: a line `test NAME ... ok` for each, then what failed tests printed.

use super::{Ran, Report, Status, TESTS_MAX};

pub(super) fn read(text: &str) -> Report {
    let mut report = Report::default();
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
        if let Some(ran) = test_line(line) {
            report.tests.push(ran);
            if report.tests.len() > TESTS_MAX {
                return report;
            }
        } else if let Some(test) = about.and_then(|index| report.tests.get_mut(index)) {
            test.message = Ran::new("", test.status, &format!("{}\n{line}", test.message)).message;
        }
    }
    report
}

fn test_line(line: &str) -> Option<Ran> {
    let (name, said) = line.strip_prefix("test ")?.rsplit_once(" ... ")?;
    let status = match said.split([',', ' ']).next()? {
        "ok" => Status::Passed,
        "FAILED" => Status::Failed,
        "ignored" => Status::Skipped,
        _ => return None,
    };
    let name = name.strip_suffix(" - should panic").unwrap_or(name);
    Some(Ran::new(name, status, ""))
}
