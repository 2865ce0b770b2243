//! `fairtrial read`, and what readings are recorded.

use std::io::Write as _;
use std::path::Path;
use std::process::Stdio;

use serde_json::json;

use crate::env::{PROGRAM, TestEnv, ran};

const ANSWER: &str = "<think>\n```python\ndef gap(a, b): return 0\n```\n</think>\n\nA first version:\n\n```python\n\
def gap(a, b):\n    return b - a\n```\n\nThe sign is wrong. Corrected:\n\n```python\ndef gap(a, b):\n    \
return a \u{2212} b\n```\n\nUse it:\n\n```python\nprint(gap(3, 1))\n```\n\nIt prints \u{1b}[31m\n\n```\n2\n```\n";

#[test]
fn a_text_is_read_and_what_each_block_was_taken_for_is_shown() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    env.write("answer.md", ANSWER);
    let read = env.run(&["read", "answer.md", "--task", "docket/gap"]);
    assert_eq!((read.code, read.err.as_str()), (0, ""));
    insta::assert_snapshot!(read.out);
    let json = env.json(&["read", "answer.md", "--task", "docket/gap", "--json"]);
    assert_eq!(json["files"]["solution.py"], "def gap(a, b):\n    return a - b\n");
    assert_eq!((&json["strict"], &json["reason"]), (&json!(false), &json!(null)));
    assert_eq!(env.run(&["read", "answer.md", "--task", "docket/gap", "--strict"]).code, 1);
    // From standard input, and as a strict reader wants it.
    let mut command = env.command(Path::new(PROGRAM));
    command.args(["read", "-", "--task", "docket/gap", "--strict"]).stdin(Stdio::piped());
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let clean = "```python\ndef gap(a, b):\n    return a - b\n```\n";
    child.stdin.take().unwrap().write_all(clean.as_bytes()).unwrap();
    let done = child.wait_with_output().unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let out = String::from_utf8_lossy(&done.stdout);
    assert!(out.contains("standard input as an answer to gap"), "{out}");
    assert!(out.contains("both readers take it, to the letter"), "{out}");
}

#[test]
fn what_cannot_be_read_is_told() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    env.write("none.md", "I'm sorry, but I can't help with that.");
    let read = env.run(&["read", "none.md", "--task", "docket/gap"]);
    assert_eq!(read.code, 1);
    assert!(read.out.contains("neither reader takes it: refused"), "{}", read.out);
    env.write("cut.md", "```python\ndef gap(a");
    let read = env.run(&["read", "cut.md", "--task", "docket/gap", "--cut-off"]);
    assert!(read.out.contains("parts of it are left out"), "{}", read.out);
    for (args, part) in [
        (["read", "none.md", "--task", "docket"], "is no task"),
        (["read", "none.md", "--task", "docket/nowhere"], "is no task"),
        (["read", "nothing.md", "--task", "docket/gap"], "failed to read `nothing.md`"),
    ] {
        let read = env.run(&args);
        assert!(read.code >= 2 && read.err.contains(part), "{}: {}", read.code, read.err);
    }
    let mut command = env.command(Path::new(PROGRAM));
    command.args(["read", "none.md"]);
    assert_eq!(ran(&mut command).code, 2);
}

#[test]
fn an_answer_deviates_exactly_where_a_strict_reader_refuses_it() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    let good = "def gap(a, b):\n    return a - b\n";
    let answers = [
        format!("```python\n{good}```\n"),
        format!("Here:\n```python\n{good}```\n"),
        good.to_owned(),
        "No idea.".to_owned(),
        "I cannot help with that.".to_owned(),
        "```js\nfunction gap(a, b) { return a - b; }\n```".to_owned(),
        format!("```python\n{}```\n", good.replace('-', "\u{2212}")),
        format!("```\n{good}```"),
    ];
    let rows = |refused: bool| {
        let rows = answers.iter().enumerate().map(|(at, answer)| {
            let is_refused = refused && at == 4;
            json!({"task": "gap", "sample": at + 1, "answer": answer, "refused": is_refused})
                .to_string()
                + "\n"
        });
        rows.collect::<String>()
    };
    for reading in ["strict", "lenient"] {
        env.recorded(&format!("samples = 8\nreading = \"{reading}\""), &[]);
        env.write("answers.jsonl", &rows(reading == "lenient"));
        let record = format!("{reading}.record");
        assert_eq!(env.run(&["run", "plan.toml", "--record", &record]).code, 0);
    }
    let strict = env.json(&["show", "strict.record", "--json"]);
    let lenient = env.json(&["show", "lenient.record", "--json"]);
    let of = |shown: &serde_json::Value, sample: u64, key: &str| {
        let trials = shown["trials"].as_array().unwrap();
        let trial = trials.iter().find(|it| it["sample"] == sample).unwrap();
        trial["attempts"][0][key].clone()
    };
    for sample in 1..=8 {
        let deviates = of(&lenient, sample, "deviations") != json!([]);
        let refused = of(&strict, sample, "verdict") == "fail";
        assert_eq!((deviates, refused), (!matches!(sample, 1 | 8), deviates), "{sample}");
    }
    assert_eq!(of(&strict, 2, "reason"), "not in the form asked for");
    assert_eq!(of(&strict, 2, "message"), "text around the code");
    assert_eq!(of(&lenient, 5, "refused"), true);
    assert_eq!(of(&lenient, 5, "reason"), "refused");
    assert_eq!(of(&lenient, 7, "verdict"), "pass");
    assert_eq!(of(&lenient, 7, "reading")["mends"], json!(["put typographic marks back"]));
    let standings = env.json(&["standings", "lenient.record", "--json"]);
    assert_eq!(standings["candidates"][0]["answers_deviating"], 6, "{standings:#}");
}
