//! The lines of `python -m unittest -v`: each test as it runs, then what failed.

use std::collections::BTreeMap;

use super::{ReportedTest, Status, TESTS_MAX, TestReport};

pub(super) fn read(texts: &[&str]) -> TestReport {
    let (mut order, mut found) = (Vec::new(), BTreeMap::<String, (Status, String)>::new());
    for text in texts {
        let mut about: Option<String> = None;
        for line in text.lines() {
            if let Some(name) = failed_head(line) {
                found.insert(name.clone(), (Status::Failed, String::new()));
                if !order.contains(&name) {
                    order.push(name.clone());
                }
                about = Some(name);
            } else if let Some((name, rest)) = test_name(line) {
                about = None;
                if order.len() > TESTS_MAX {
                    continue;
                }
                if !found.contains_key(&name) {
                    order.push(name.clone());
                    found.insert(name.clone(), (Status::Passed, String::new()));
                }
                note(&mut found, &name, rest);
                about = (!rest.contains(" ... ")).then_some(name).or(about);
            } else if line.starts_with("Ran ") || line.starts_with("-----") {
                if line.starts_with("Ran ") {
                    about = None;
                }
            } else if let Some(name) = &about {
                // The first line of a test's documentation, or what is said of a failure.
                match found.get_mut(name) {
                    Some((Status::Failed, message)) => {
                        if message.len() < super::MESSAGE_MAX {
                            message.push_str(line);
                            message.push('\n');
                        }
                    }
                    _ => {
                        let name = name.clone();
                        note(&mut found, &name, line);
                        about = None;
                    }
                }
            }
        }
    }
    let test = |name: &String| {
        let (status, message) = &found[name];
        ReportedTest::new(name, *status, message)
    };
    TestReport { tests: order.iter().map(test).collect(), ..TestReport::default() }
}

/// What stands behind the dots of a test. Whatever else does was printed by the test itself: then it
/// passed, unless it is among those that failed.
fn note(found: &mut BTreeMap<String, (Status, String)>, name: &str, rest: &str) {
    let Some((_, said)) = rest.rsplit_once(" ... ") else { return };
    let status = match said.split_whitespace().next() {
        Some("skipped" | "expected") => Status::Skipped,
        Some("FAIL" | "ERROR" | "unexpected") => Status::Failed,
        _ => return,
    };
    found.insert(name.to_owned(), (status, String::new()));
}

/// `test_x (tests.test_a.TestA.test_x)`, or as older versions have it `test_x (tests.test_a.TestA)`.
fn test_name(line: &str) -> Option<(String, &str)> {
    let (method, rest) = line.trim_start().split_once(" (")?;
    let (path, rest) = rest.split_once(')')?;
    let is_word = |it: &str| !it.is_empty() && it.chars().all(|c| c.is_alphanumeric() || c == '_');
    if !is_word(method) || !path.contains('.') || !path.split('.').all(is_word) {
        return None;
    }
    let own = path.rsplit('.').next().unwrap_or_default();
    let name = if own == method { path.to_owned() } else { format!("{path}.{method}") };
    Some((name, rest))
}

/// `FAIL: test_x (tests.test_a.TestA.test_x) (i=1)`
fn failed_head(line: &str) -> Option<String> {
    let heads = ["FAIL: ", "ERROR: ", "UNEXPECTED SUCCESS: "];
    let rest = heads.iter().find_map(|it| line.strip_prefix(it))?;
    Some(test_name(rest)?.0)
}
