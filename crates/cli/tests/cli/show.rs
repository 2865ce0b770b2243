//! `fairtrial show`.

use crate::env::TestEnv;

fn record(env: &TestEnv) {
    env.gap_docket("time = 2");
    env.recorded("attempts = 2\nfeedback = \"examples\"", &[]);
    let row = |attempt: u32, answer: &str| {
        serde_json::json!({"task": "gap", "attempt": attempt, "answer": answer}).to_string() + "\n"
    };
    let first = row(1, "Here:\n```python\ndef gap(a, b):\n    return a + b\n```");
    env.write(
        "answers.jsonl",
        &(first + &row(2, "```python\ndef gap(a, b):\n    return a - b\n```")),
    );
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
}

/// The output without figures that differ from run to run.
fn steady(text: &str) -> String {
    let is_usage = |part: &&str| {
        let number = part.split(' ').next().unwrap_or("").parse::<f64>().is_ok();
        part.contains("MiB")
            || number && [" µs", " ms", " s"].iter().any(|unit| part.ends_with(unit))
    };
    let mut out = String::new();
    for line in text.lines() {
        let line = match line.split_once(", judged in ") {
            Some((head, _)) => format!("{head}, judged in …"),
            None => {
                line.split(" · ").filter(|part| !is_usage(part)).collect::<Vec<_>>().join(" · ")
            }
        };
        let line = match line.split_once("(here: ") {
            Some((head, tail)) => format!("{head}(here: …{}", &tail[tail.find(')').unwrap_or(0)..]),
            None => line,
        };
        let line = match line.split_once(" in Python ") {
            Some((head, tail)) => {
                format!("{head} in Python …{}", &tail[tail.find(". ").unwrap_or(0)..])
            }
            None => line,
        };
        out.push_str(&line);
        out.push('\n');
    }
    out
}

#[test]
fn a_trial_is_shown_from_prompt_to_verdict() {
    let env = TestEnv::new();
    record(&env);
    let ran = env.run(&["show", "record", "--task", "gap"]);
    assert_eq!(ran.code, 0);
    insta::assert_snapshot!(steady(&ran.out));
    // What is sealed shows only when asked for.
    assert!(!ran.out.contains("71, 30"));
    let unsealed = env.run(&["show", "record", "--task", "gap", "--unseal"]);
    assert!(
        unsealed.out.contains("input    71, 30") && unsealed.out.contains("expected 41"),
        "{}",
        unsealed.out
    );
    let json = env.run(&["show", "record", "--json"]);
    assert!(!json.out.contains("71, 30"));
    let json = env.run(&["show", "record", "--json", "--unseal"]);
    assert!(json.out.contains("71, 30"));
}

#[test]
fn what_is_not_there_is_told_with_what_there_is() {
    let env = TestEnv::new();
    record(&env);
    for (option, value, there) in [
        ("--task", "gip", "tasks: gap"),
        ("--candidate", "yawl", "candidates: dinghy"),
        ("--trial", "9", "trials are numbered from 1 to 1"),
    ] {
        let ran = env.run(&["show", "record", option, value]);
        assert_eq!((ran.code, ran.out.as_str()), (2, ""));
        assert!(ran.err.ends_with(&format!("hint: {there}\n")), "{}", ran.err);
    }
}

#[test]
fn long_inputs_are_cut_with_where_to_find_the_rest() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    let long: String = (0..30_000).map(|it| format!("{it}, ")).collect();
    let lines = format!(
        "{{\"args\": [[{}0], 1], \"returns\": 1}}\n{{\"args\": [\"{}\", 1], \"returns\": 2}}\n",
        long,
        "tide\\n".repeat(900)
    );
    env.write("docket/gap/sealed/calls.jsonl", &lines);
    env.recorded("", &[("gap", "```python\ndef gap(a, b):\n    return 0\n```")]);
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let shown = env.run(&["show", "record", "--unseal"]);
    assert!(shown.out.len() < 8000, "{} bytes", shown.out.len());
    assert!(shown.out.contains("`--json` has all that is kept"), "{}", shown.out);
}
