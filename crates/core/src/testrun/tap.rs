//! TAP (testanything.org, versions 12 to 14): test lines, with subtests indented by four.

use super::{ReportedTest, StatedCounts, Status, TESTS_MAX, TestReport};

/// Deepest nesting that is followed.
const DEPTH_MAX: usize = 16;

pub(super) fn read(text: &str) -> TestReport {
    let mut report = TestReport::default();
    // The names of the subtests that are open, and whether anything was reported inside.
    let mut open: Vec<(String, bool)> = Vec::new();
    let mut in_block = false;
    for line in text.lines() {
        let spaces = line.len() - line.trim_start_matches(' ').len();
        let rest = line.trim_start_matches(' ');
        if in_block {
            in_block = rest.trim_end() != "...";
            let last = report.tests.last_mut().filter(|it| it.status == Status::Failed);
            if let (true, Some(last)) = (in_block, last) {
                last.message =
                    ReportedTest::new("", last.status, &format!("{}\n{rest}", last.message))
                        .message;
            }
            continue;
        }
        if rest.trim_end() == "---" {
            in_block = true;
            continue;
        }
        let depth = (spaces / 4).min(DEPTH_MAX);
        if let Some(name) = rest.strip_prefix("# Subtest: ") {
            open.truncate(depth);
            open.push((name.trim().to_owned(), false));
            continue;
        }
        let Some((passed, rest)) = test_line(rest) else { continue };
        // A line at the depth of an open subtest closes it: what counts then was inside.
        let closed = open.len() > depth && open[depth].1;
        open.truncate(depth);
        if let Some(parent) = open.last_mut() {
            parent.1 = true;
        }
        if closed {
            continue;
        }
        let (description, directive) = split_directive(rest);
        let number = report.tests.len() + 1;
        let own = if description.is_empty() { format!("test {number}") } else { description };
        let parts: Vec<&str> = open.iter().map(|it| it.0.as_str()).chain([own.as_str()]).collect();
        let skipped = directive.to_lowercase().starts_with("skip");
        let status = match (passed, skipped) {
            (_, true) => Status::Skipped,
            (true, false) => Status::Passed,
            (false, false) => Status::Failed,
        };
        report.tests.push(ReportedTest::new(&parts.join(" > "), status, ""));
        if report.tests.len() > TESTS_MAX {
            return report;
        }
    }
    report
}

/// `ok` or `not ok`, a number that may be left out, a dash that may be left out.
fn test_line(line: &str) -> Option<(bool, &str)> {
    let (passed, rest) = match line.strip_prefix("not ok") {
        Some(rest) => (false, rest),
        None => (true, line.strip_prefix("ok")?),
    };
    if !rest.is_empty() && !rest.starts_with(' ') {
        return None;
    }
    let rest = rest.trim_start().trim_start_matches(|c: char| c.is_ascii_digit()).trim_start();
    Some((passed, rest.strip_prefix("- ").unwrap_or(rest).trim_end()))
}

/// The description, and the directive behind it: `# SKIP …` or `# TODO …`. Any other `#` belongs to the
/// description.
fn split_directive(text: &str) -> (String, &str) {
    let mut before = ' ';
    for (at, c) in text.char_indices() {
        let directive = text[at..].strip_prefix('#').map(str::trim_start).filter(|it| {
            let word = it.get(..4).unwrap_or_default();
            word.eq_ignore_ascii_case("skip") || word.eq_ignore_ascii_case("todo")
        });
        if let (Some(directive), true) = (directive, before != '\\') {
            return (unescape(text[..at].trim_end()), directive);
        }
        before = c;
    }
    (unescape(text), "")
}

fn unescape(text: &str) -> String {
    text.replace("\\#", "#").replace("\\\\", "\\")
}

/// What a runner says at its end: `# pass 3`, `# fail 1`.
pub(super) fn stated(text: &str) -> Option<StatedCounts> {
    let count = |word: &str| {
        let line = text.lines().rev().find_map(|it| it.strip_prefix(word))?;
        line.trim().parse().ok()
    };
    Some(StatedCounts { passed: count("# pass ")?, failed: count("# fail ")? })
}
