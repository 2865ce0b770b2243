//! `fairtrial run --dry-run`.

use std::fs;

use crate::env::TestEnv;

#[test]
fn a_dry_run_shows_what_a_run_asks_and_asks_nobody() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label"]);
    let standin = env.standin(&["--log", "asked.jsonl"], &[]);
    env.chats("samples = 2", &standin.address, &["petrel"], "system = \"Be brief.\"");
    let dry = |args: &[&str]| env.run(&[&["run", "plan.toml", "--dry-run"], args].concat());
    let shown = dry(&[]);
    assert_eq!(shown.code, 0, "{}", shown.err);
    assert!(shown.out.contains("\n4 trials would be run; nobody was asked.\n"), "{}", shown.out);
    assert!(shown.out.contains("--- system message of petrel ---\nBe brief.\n"), "{}", shown.out);
    let asked = fs::read_to_string(env.path("asked.jsonl")).unwrap_or_default();
    assert!(asked.is_empty() && !env.path("record").exists(), "{asked}");
    // What it shows is what is sent, to the letter.
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let record = env.json(&["show", "record", "--json"]);
    let trials = record["trials"].as_array().unwrap();
    assert_eq!(trials.len(), 4);
    for trial in trials {
        let prompt = trial["prompt"].as_str().unwrap();
        let head = format!("--- {}: first prompt ---\n", trial["task"].as_str().unwrap());
        let block = shown.out.split(&head).nth(1).unwrap();
        assert!(block.starts_with(prompt.trim_end()), "{prompt}\n{block}");
    }
    // What is over is not run again, and another plan does not go on with the record.
    assert!(dry(&[]).out.contains("\n0 trials would be run"));
    env.chats("samples = 2", &standin.address, &["petrel"], "system = \"Be long.\"");
    let other = dry(&[]);
    assert_eq!(other.code, 2, "{}", other.err);
    assert!(other.err.contains("the plan does not fit the record"), "{}", other.err);
}

#[test]
fn what_is_missing_is_told_before_anything_is_shown() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    let more = "headers = { x-team = { env = \"HARBOUR_TEAM\" } }";
    env.chats("", "http://127.0.0.1:9", &["petrel"], more);
    let dry = |value: &[(&str, &str)]| env.run_with(&["run", "plan.toml", "--dry-run"], value);
    let missing = dry(&[]);
    assert_eq!(missing.code, 2, "{}", missing.err);
    let said = "candidate `petrel`: the environment variable `HARBOUR_TEAM` is not set";
    assert!(missing.err.contains(said) && missing.out.is_empty(), "{}", missing.err);
    assert_eq!(dry(&[("HARBOUR_TEAM", "seaworthy-1234")]).code, 0);
    env.write(
        "plan.toml",
        &fs::read_to_string(env.path("plan.toml"))
            .unwrap()
            .replace("{ env = \"HARBOUR_TEAM\" }", "7"),
    );
    let wrong = dry(&[]);
    assert!(wrong.code == 2 && wrong.err.contains("`{ env = \"NAME\" }`"), "{}", wrong.err);
}
