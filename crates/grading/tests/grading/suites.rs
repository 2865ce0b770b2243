//! Suites of sealed tests that use much of their language and runner: right answers pass them.

use std::fs;
use std::path::{Path, PathBuf};

use fairtrial_core::judgement::Judgement;

use crate::env::{PASS, TestTask};
use crate::needs;

/// Files of a folder of `tests/suites`.
fn folder(name: &str) -> Vec<(String, String)> {
    files_of(&PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/suites").join(name))
}

/// Files of a folder, those in folders of it, too, in the order of their names.
pub fn files_of(top: &Path) -> Vec<(String, String)> {
    let (mut files, mut open) = (Vec::new(), vec![top.to_owned()]);
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else {
                files.push((below(top, &path), fs::read_to_string(path).unwrap()));
            }
        }
    }
    files.sort();
    files
}

fn below(top: &Path, path: &Path) -> String {
    path.strip_prefix(top).unwrap().to_str().unwrap().to_owned()
}

pub fn borrowed(files: &[(String, String)]) -> Vec<(&str, &str)> {
    files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect()
}

/// Judges the right answers of a suite.
fn judge_suite(language: &str, runner: &str, file: &str, more: &str) -> Judgement {
    // The suites of both runners of Python are about the same answers.
    let name = if language == "python" { "pytest" } else { runner };
    let answer = folder(&format!("{name}/answer"));
    let sealed = folder(&format!("{runner}/sealed"));
    let table = format!("runner = \"{runner}\"\n{more}");
    TestTask {
        form: "tests",
        language,
        file,
        table: &table,
        sealed: &borrowed(&sealed),
        time: 40,
        ..TestTask::default()
    }
    .judge(&borrowed(&answer))
}

/// Right answers pass a suite of at least so many tests.
pub fn holds(language: &str, runner: &str, file: &str, least: usize) {
    holds_with("", (language, runner, file), least);
}

fn holds_with(more: &str, (language, runner, file): (&str, &str, &str), least: usize) {
    let judged = judge_suite(language, runner, file, more);
    let failed: Vec<_> = judged.tests.iter().filter(|it| it.failed.is_some()).collect();
    assert_eq!(judged.verdict, PASS, "{runner}: {:?} {failed:#?}", judged.notes);
    assert!(judged.tests.len() >= least, "{}", judged.tests.len());
    assert!(judged.notes.is_empty(), "{runner}: {:?}", judged.notes);
}

#[test]
fn suites_of_cargo_hold_with_twins() {
    holds("rust", "cargo", "quay.rs", 24);
}

#[test]
fn suites_of_go_hold_with_twins() {
    if needs::there(&["go"]) {
        holds("go", "go", "quay.go", 27);
    }
}

#[test]
fn suites_of_junit_hold_with_twins() {
    if needs::there(&["junit5"]) {
        holds("java", "junit5", "Quay.java", 25);
    }
}

/// The line of a brief by which tests share a process with the answer.
const SHARED: &str = "process = \"shared\"";

#[test]
fn suites_of_pytest_hold_with_twins() {
    if needs::there(&["pytest"]) {
        holds_with(SHARED, ("python", "pytest", "quay.py"), 110);
    }
}

#[test]
fn suites_of_unittest_hold_with_twins() {
    holds_with(SHARED, ("python", "unittest", "quay.py"), 21);
}

#[test]
fn suites_of_node_hold_with_twins() {
    if needs::there(&["node"]) {
        holds_with(SHARED, ("javascript", "node", "toll.js"), 60);
    }
}
