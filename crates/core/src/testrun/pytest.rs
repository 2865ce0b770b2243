//! The lines of pytest: the summary of `-rA`, and those of `-v`.

use super::{ReportedTest, StatedCounts, Status, TESTS_MAX, TestReport};

const WORDS: &[(&str, Status)] = &[
    ("PASSED", Status::Passed),
    ("FAILED", Status::Failed),
    ("ERROR", Status::Failed),
    ("SKIPPED", Status::Skipped),
    ("XFAIL", Status::Skipped),
    ("XPASS", Status::Passed),
];

pub(super) fn read(text: &str) -> TestReport {
    let mut report = TestReport::default();
    for line in text.lines() {
        let Some((name, status, message)) = summary_line(line).or_else(|| verbose_line(line))
        else {
            continue;
        };
        report.tests.push(ReportedTest::new(name, status, message));
        if report.tests.len() > TESTS_MAX {
            break;
        }
    }
    report
}

/// `FAILED tests/test_a.py::test_x[a - b] - what was wrong`. A test that was skipped stands there without
/// its name.
fn summary_line(line: &str) -> Option<(&str, Status, &str)> {
    let (word, rest) = line.split_once(' ')?;
    let status = WORDS.iter().find(|it| it.0 == word)?.1;
    let (name, message) = if word == "PASSED" { (rest, "") } else { split_message(rest) };
    let name = name.trim_end();
    (name.contains("::") && word != "SKIPPED").then_some((name, status, message))
}

/// Parts a name from what is said of it. What stands in brackets belongs to the name.
fn split_message(text: &str) -> (&str, &str) {
    let bracket = text.find('[').filter(|&at| text.find(" - ").is_none_or(|dash| at < dash));
    let from = bracket.and_then(|at| {
        let close = text[at..].find("] - ").or_else(|| text[at..].rfind(']'))?;
        Some(at + close)
    });
    let from = from.unwrap_or(0);
    match text[from..].find(" - ") {
        Some(at) => (&text[..from + at], &text[from + at + 3..]),
        None => (text, ""),
    }
}

/// `tests/test_a.py::test_x PASSED   [ 10%]`
fn verbose_line(line: &str) -> Option<(&str, Status, &str)> {
    let rest = line.trim_end().strip_suffix("%]")?;
    let rest = rest.trim_end_matches(|c: char| c.is_ascii_digit()).trim_end().strip_suffix('[')?;
    let rest = rest.trim_end();
    WORDS.iter().find_map(|(word, status)| {
        let at = rest.rfind(&format!(" {word}"))?;
        let after = &rest[at + 1 + word.len()..];
        let name = &rest[..at];
        let is_whole = after.is_empty() || after.starts_with(" (");
        (is_whole && name.contains("::")).then_some((name, *status, ""))
    })
}

/// `==== 4 failed, 4 passed, 1 error in 0.07s ====`
pub(super) fn stated(text: &str) -> Option<StatedCounts> {
    let line = text
        .lines()
        .rev()
        .find(|it| it.contains(" in ") && it.trim_end_matches([' ', '=']).ends_with(['s', ')']))?;
    let line = line.trim_matches(['=', ' ']);
    let mut counts = StatedCounts::default();
    let mut any = false;
    for part in line.split(" in ").next()?.split(", ") {
        let (number, word) = part.trim().split_once(' ')?;
        let number: usize = number.parse().ok()?;
        any = true;
        match word {
            "passed" | "xpassed" => counts.passed += number,
            "failed" | "error" | "errors" => counts.failed += number,
            _ => {}
        }
    }
    any.then_some(counts)
}
