//! `fairtrial regrade`.

use std::fs;

use crate::env::TestEnv;

fn record(env: &TestEnv) {
    env.gap_docket("time = 2");
    let answer = |code: &str| format!("```python\n{code}\n```");
    let right = answer("def gap(a, b):\n    return a - b");
    env.recorded("", &[("gap", &right)]);
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
}

#[test]
fn recorded_answers_get_the_same_verdicts_again() {
    let env = TestEnv::new();
    record(&env);
    let before = env.json(&["standings", "record", "--json"]);
    let ran = env.run(&["regrade", "record"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("grading 1: 1 answer judged again"), "{}", ran.out);
    assert!(ran.out.contains("1 the same, 0 not"), "{}", ran.out);
    let json = env.json(&["regrade", "record", "--json"]);
    assert_eq!((&json["grading"], &json["same"]), (&2.into(), &1.into()));
    assert_eq!(json["rows"][0]["verdict_again"], "pass");
    assert_eq!(before, env.json(&["standings", "record", "--json"]));
    assert!(
        env.run(&["show", "record"]).out.contains("judged again: pass"),
        "{}",
        env.run(&["show", "record"]).out
    );
}

#[test]
fn a_verdict_that_differs_is_told_with_the_reason_and_the_first_one_stands() {
    let env = TestEnv::new();
    record(&env);
    let sealed = env.path("docket/gap/sealed/calls.jsonl");
    fs::write(
        &sealed,
        "{\"args\": [71, 30], \"returns\": 41}\n{\"args\": [5, 8], \"returns\": 3}\n",
    )
    .unwrap();
    let ran = env.run(&["regrade", "record"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(ran.out.contains("pass      wrong result  2 → 1 of 2  task changed"), "{}", ran.out);
    let shown = &env.json(&["show", "record", "--json"])["trials"][0];
    assert_eq!(shown["verdict"], "pass");
    // Another copy of the docket, where the tasks are as they were.
    env.gap_docket("time = 2");
    fs::rename(env.path("docket"), env.path("elsewhere")).unwrap();
    let lost = env.run(&["regrade", "record"]);
    assert_eq!(lost.code, 2);
    assert!(lost.err.contains("--docket DIR"), "{}", lost.err);
    assert_eq!(env.run(&["regrade", "record", "--docket", "elsewhere"]).code, 0);
    assert_eq!(env.run(&["regrade", "nowhere"]).code, 2);
}

#[test]
fn what_comes_and_goes_is_called_unstable() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    let answer = "```python\nimport time\ndef gap(a, b):\n    return a - b if time.time() % 0.02 < 0.01 else 0\n```";
    let trial = |n: u32| {
        format!(
            "{{\"task\": \"gap\", \"sample\": {n}, \"answer\": {}}}\n",
            serde_json::json!(answer)
        )
    };
    env.recorded("samples = 12", &[]);
    env.write("answers.jsonl", &(1..=12).map(trial).collect::<String>());
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let mut seen = false;
    for _ in 0..4 {
        let ran = env.run(&["regrade", "record"]);
        seen |= ran.code == 1 && ran.out.contains("unstable");
    }
    assert!(seen, "twelve coins fell the same way four times");
}
