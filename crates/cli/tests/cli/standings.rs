//! `fairtrial standings`.

use crate::env::TestEnv;

/// A record of two candidates with recorded answers to `gap`, one right and one wrong.
fn two_candidates(env: &TestEnv, samples: u32) {
    env.gap_docket("time = 2");
    env.write("right.jsonl", "");
    let row = |code: &str, sample: u32| {
        serde_json::json!({"task": "gap", "sample": sample, "answer": code}).to_string() + "\n"
    };
    let all = |code: &str| (1..=samples).map(|it| row(code, it)).collect::<String>();
    env.write("right.jsonl", &all("```python\ndef gap(a, b):\n    return a - b\n```"));
    env.write("wrong.jsonl", &all("def gap(a, b):\n    return a + b\n"));
    env.write(
        "plan.toml",
        &format!(
            "title = \"Tides\"\ndocket = \"docket\"\nsamples = {samples}\ncurrency = \"EUR\"\n\
             [[candidate]]\nname = \"dinghy\"\nkind = \"recorded\"\npath = \"right.jsonl\"\n\
             [[candidate]]\nname = \"skiff\"\nkind = \"recorded\"\npath = \"wrong.jsonl\"\n"
        ),
    );
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
}

#[test]
fn the_table_and_its_notes_read_well() {
    let env = TestEnv::new();
    two_candidates(&env, 2);
    let ran = env.run(&["standings", "record"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!(ran.out);
}

#[test]
fn one_task_is_too_little_to_tell_candidates_apart() {
    let env = TestEnv::new();
    two_candidates(&env, 3);
    let json = env.json(&["standings", "record", "--json"]);
    let rows = json["candidates"].as_array().unwrap();
    assert_eq!((&rows[0]["solved_rate"], &rows[1]["solved_rate"]), (&1.0.into(), &0.0.into()));
    assert_eq!((&rows[0]["rank"], &rows[1]["rank"]), (&1.into(), &1.into()));
    assert_eq!(json["comparisons"][0]["established"], false);
    assert_eq!(json["format_version"], 1);
}
