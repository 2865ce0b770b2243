//! What `cargo test` prints: a line `test NAME ... ok` for each, then what failed tests printed.

use super::{ReportedTest, StatedCounts, Status, TESTS_MAX, TestReport};

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

/// Reads what `cargo test` prints about several targets; names are `TARGET::TEST`. What it says of the
/// targets goes to standard error, in the order in which their tests are on standard output.
pub(super) fn read_targets(stdout: &str, stderr: &str) -> (TestReport, Option<StatedCounts>) {
    let mut report = TestReport::default();
    let mut targets = stderr.lines().filter_map(target);
    let (mut stated, mut any_stated) = (StatedCounts::default(), false);
    let (mut inline, mut block) = (None, String::new());
    let mut current: Option<String> = None;
    let flush = |block: &mut String, current: &Option<String>, report: &mut TestReport| {
        for mut test in read(block).tests {
            if let Some(target) = current {
                test.name =
                    ReportedTest::new(&format!("{target}::{}", test.name), test.status, "").name;
            }
            report.tests.push(test);
        }
        block.clear();
    };
    for line in stdout.lines() {
        if let Some(found) = target(line) {
            inline = Some(found);
        } else if line.starts_with("running ") && line.ends_with([' ', 't', 's']) && is_count(line)
        {
            flush(&mut block, &current, &mut report);
            current = inline.take().or_else(|| targets.next());
        } else if let Some(counts) = result_line(line) {
            any_stated = true;
            stated.passed += counts.passed;
            stated.failed += counts.failed;
        }
        block.push_str(line);
        block.push('\n');
    }
    flush(&mut block, &current, &mut report);
    (report, any_stated.then_some(stated))
}

/// `running 3 tests`
fn is_count(line: &str) -> bool {
    let mut words = line.split(' ').skip(1);
    let number = words.next().is_some_and(|it| it.parse::<usize>().is_ok());
    number && matches!(words.next(), Some("test" | "tests"))
}

/// `test result: FAILED. 1 passed; 1 failed; …`
fn result_line(line: &str) -> Option<StatedCounts> {
    let rest = line.strip_prefix("test result: ")?.split_once(". ")?.1;
    let count = |word: &str| {
        let part = rest.split(';').find_map(|it| it.trim().strip_suffix(word))?;
        part.trim().parse().ok()
    };
    Some(StatedCounts { passed: count("passed")?, failed: count("failed")? })
}

/// The target that a line of cargo's announces: `Running tests/tides.rs (target/debug/deps/tides-0f…)`,
/// `Doc-tests harbour`.
fn target(line: &str) -> Option<String> {
    let line = line.trim_start();
    if let Some(name) = line.strip_prefix("Doc-tests ") {
        return Some(name.trim().to_owned());
    }
    let (_, binary) = line.strip_prefix("Running ")?.rsplit_once('(')?;
    let binary = binary.trim_end().strip_suffix(')')?;
    let file = binary.rsplit(['/', '\\']).next()?;
    Some(file.rsplit_once('-').map_or(file, |it| it.0).to_owned())
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
