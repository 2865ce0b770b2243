//! Right answers of many kinds, each with a suite of sealed tests as people write them: all of them pass.
//!
//! A file of `tests/pairs` has those of one runner: `== NAME`, then files, each below `-- PATH`. The first is the answer's
//! own; `-- names` are the names of the tests.

use std::path::PathBuf;

use crate::env::{PASS, TestTask};
use crate::needs;
use crate::suites::borrowed;

/// A right answer and its suite.
struct Pair {
    name: String,
    answer: Vec<(String, String)>,
    sealed: Vec<(String, String)>,
}

fn pairs(runner: &str) -> Vec<Pair> {
    let file = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join(format!("tests/pairs/{runner}.txt"));
    let text = format!("\n{}", std::fs::read_to_string(file).unwrap());
    text.split("\n== ").skip(1).map(pair).collect()
}

fn pair(text: &str) -> Pair {
    let (name, files) = text.split_once('\n').unwrap();
    let files = format!("\n{files}");
    let (mut answer, mut sealed) = (Vec::new(), Vec::new());
    for file in files.split("\n-- ").skip(1) {
        let (path, text) = file.split_once('\n').unwrap();
        let text = format!("{text}\n");
        match path.strip_prefix("sealed/") {
            Some(path) => sealed.push((path.to_owned(), text)),
            None if path == "names" => sealed.push(("tests.list".to_owned(), text)),
            None => answer.push((path.to_owned(), text)),
        }
    }
    Pair { name: name.to_owned(), answer, sealed }
}

fn hold(language: &str, runner: &str, more: &str) {
    for pair in pairs(runner) {
        let answer = borrowed(&pair.answer);
        let judged = TestTask {
            form: "tests",
            language,
            file: answer[0].0,
            table: &format!("runner = \"{runner}\"\n{more}"),
            sealed: &borrowed(&pair.sealed),
            time: 40,
            ..TestTask::default()
        }
        .judge(&answer);
        let failed: Vec<_> = judged.tests.iter().filter(|it| it.failed.is_some()).collect();
        let Pair { name, .. } = pair;
        assert_eq!(judged.verdict, PASS, "{runner}, {name} {more}: {:?} {failed:#?}", judged.notes);
    }
}

const SHARED: &str = "process = \"shared\"";

#[test]
fn right_answers_hold_with_pytest() {
    if needs::there(&["pytest"]) {
        hold("python", "pytest", "");
        hold("python", "pytest", SHARED);
    }
}

#[test]
fn right_answers_hold_with_unittest() {
    hold("python", "unittest", "");
    hold("python", "unittest", SHARED);
}

#[test]
fn right_answers_hold_with_node() {
    if needs::there(&["node"]) {
        hold("javascript", "node", "");
        hold("javascript", "node", SHARED);
    }
}

#[test]
fn right_answers_hold_with_cargo() {
    hold("rust", "cargo", "");
}

#[test]
fn right_answers_hold_with_go() {
    if needs::there(&["go"]) {
        hold("go", "go", "");
    }
}

#[test]
fn right_answers_hold_with_junit() {
    if needs::there(&["junit5"]) {
        hold("java", "junit5", "");
    }
}
