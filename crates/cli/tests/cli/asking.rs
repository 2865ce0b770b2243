//! Asking under control: every way in which hosts misbehave, caps, a choice of trials, ways on, watching.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::thread;
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use crate::env::{PROGRAM, TestEnv};
use crate::scripted::{saying, scripted};

/// The rows of the table in docs/standin.md: each fault, and what a run makes of it.
fn faults() -> Vec<(String, String)> {
    let guide =
        fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/standin.md"))
            .unwrap();
    let table = guide.split("| `fault` | ").nth(1).unwrap().split("\n\n").next().unwrap();
    let rows = table.lines().filter(|it| it.starts_with("| `"));
    let cells = |row: &str| row.split('|').map(|it| it.trim().to_owned()).collect::<Vec<_>>();
    rows.map(|row| (cells(row)[1].replace('`', ""), cells(row)[3].clone())).collect()
}

/// What a trial came to, in the words of that table.
fn outcome(trial: &Value) -> String {
    let attempt = &trial["attempts"][0];
    let request = &trial["requests"][0];
    match trial["verdict"].as_str().unwrap() {
        "void" => {
            format!("void: `{}`", trial["fault"].as_str().or(trial["reason"].as_str()).unwrap())
        }
        "fail" => format!("failed: `{}`", trial["reason"].as_str().unwrap()),
        _ if attempt["thought"] == "Let me see." && request["tokens_reasoning"] == 3 => {
            "answered, thinking kept apart".to_owned()
        }
        _ if request["tokens_estimated"] == true => "answered, tokens estimated".to_owned(),
        _ => "answered".to_owned(),
    }
}

#[test]
fn a_host_may_misbehave_in_every_way_and_none_is_laid_to_the_candidate() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    let faults = faults();
    assert!(faults.len() > 30, "{}", faults.len());
    let model = |fault: &str| {
        format!(
            "[[model]]\nname = \"{fault}\"\nskill = 9\nrepair = 1\ntokens_per_second = 50000\n\
             fault_rate = 1.0\nfault_repeats = 99\nfault = \"{fault}\"\n"
        )
    };
    let models: String = faults.iter().map(|it| model(&it.0)).collect();
    env.write("models.toml", &models);
    let standin = env.standin(&["--models", "models.toml"], &[]);
    let mut plan = "docket = \"docket\"\nparallel = 100\n".to_owned();
    for (fault, _) in &faults {
        for stream in [true, false] {
            plan += &format!(
                "[[candidate]]\nname = \"{fault}, {stream}\"\nkind = \"chat\"\nmodel = \"{fault}\"\n\
                 endpoint = \"{}\"\nstream = {stream}\nretries = 0\ntimeout = 3\n\
                 patience = {{ silence = 2 }}\n",
                standin.address
            );
        }
    }
    env.write("plan.toml", &plan);
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 3, "{}", ran.err);
    let shown = env.json(&["show", "record", "--json"]);
    let trials = shown["trials"].as_array().unwrap();
    assert_eq!(trials.len(), 2 * faults.len());
    let of: BTreeMap<&str, String> =
        trials.iter().map(|it| (it["candidate"].as_str().unwrap(), outcome(it))).collect();
    for (fault, expected) in &faults {
        let expected = if fault == "status" { "void: `rate limit`" } else { expected };
        for stream in [true, false] {
            let name = format!("{fault}, {stream}");
            let found = &of[name.as_str()];
            // One object cannot be cut after its end, nor have a character in two events.
            let is_whole = !stream && (fault == "cut after end" || fault == "halves");
            assert!(found == expected || is_whole && found == "answered", "{name}: {found}");
        }
    }
    // The kinds stand under the standings, and trials can be chosen by them.
    let table = env.run(&["standings", "record"]).out.replace('\n', " ");
    assert!(table.contains("provider error: timed out"), "{table}");
    let listed = env.run(&["show", "record", "--reason", "timed out"]).out;
    assert_eq!(listed.matches("provider error: timed out").count(), 4, "{listed}");
    let listed = env.run(&["show", "record", "--reason", "provider error"]).out;
    assert!(listed.matches("void (provider error").count() > 20, "{listed}");
}

#[test]
fn a_cap_stops_the_run_says_what_was_spent_and_a_higher_one_goes_on() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label", "tow-order"]);
    let standin = env.standin(&["--log", "asked.jsonl"], &[]);
    let price = "price = { input = 10.0, output = 10.0 }";
    let plan = |budget: &str| {
        let head = format!("samples = 4\nparallel = 1\n{budget}");
        env.chats(&head, &standin.address, &["kittiwake", "puffin"], price);
    };
    plan("budget = { money = 0.01 }");
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 3, "{}", ran.err);
    assert!(ran.err.contains("the cap on money of the run, 0.0100 USD, is reached"), "{}", ran.err);
    assert!(ran.err.contains("raise the cap in the plan"), "{}", ran.err);
    let rows = env.json(&["standings", "record", "--json"]);
    let void = |name: &str| rows["candidates"][0]["void_reasons"][name].as_u64().unwrap_or(0);
    assert!(void("budget reached") > 0, "{rows:#}");
    let asked = || fs::read_to_string(env.path("asked.jsonl")).unwrap().lines().count();
    let before = asked();
    assert!(before < 24, "{before}");
    // The same cap asks for nothing more; a higher one for what is missing, and only that.
    assert_eq!(env.run(&["run", "plan.toml"]).code, 3);
    assert_eq!(asked(), before);
    plan("budget = { money = 9, candidate = { tokens = 1000000 }, trial = { time = 60 } }");
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!((ran.code, asked()), (0, 24), "{}", ran.err);
    // A candidate's own cap leaves the others alone.
    env.chats("samples = 3", &standin.address, &["puffin"], "budget = { tokens = 1 }");
    let both = fs::read_to_string(env.path("plan.toml")).unwrap()
        + &format!(
            "[[candidate]]\nname = \"auk\"\nkind = \"chat\"\nmodel = \"kittiwake\"\nendpoint = \"{}\"\n",
            standin.address
        );
    env.write("plan.toml", &both);
    let ran = env.run(&["run", "plan.toml", "--record", "own"]);
    assert!(ran.err.contains("the cap on tokens of `puffin`, 1 tokens, is reached"), "{}", ran.err);
    let rows = env.json(&["standings", "own", "--json"]);
    let row = |name: &str| {
        rows["candidates"].as_array().unwrap().iter().find(|it| it["name"] == name).unwrap().clone()
    };
    assert_eq!((&row("auk")["trials"], &row("auk")["void"]), (&9.into(), &0.into()));
    assert!(row("puffin")["void"].as_u64().unwrap() > 0);
}

#[test]
fn a_cap_on_time_counts_what_earlier_sessions_took() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    let slow = "[[model]]\nname = \"petrel\"\nskill = 2.5\nrepair = 0.4\ntokens_per_second = 900\nlatency = 0.4\n";
    env.write("models.toml", slow);
    let standin = env.standin(&["--models", "models.toml", "--log", "asked.jsonl"], &[]);
    let plan = |budget: &str| {
        env.chats(
            &format!("samples = 9\nparallel = 1\n{budget}"),
            &standin.address,
            &["petrel"],
            "",
        );
    };
    let asked = || fs::read_to_string(env.path("asked.jsonl")).unwrap().lines().count();
    plan("budget = { time = 1 }");
    let ran = env.run(&["run", "plan.toml"]);
    assert!(ran.code == 3 && ran.err.contains("the cap on time of the run"), "{}", ran.err);
    let before = asked();
    assert!((1..9).contains(&before), "{before}");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 3);
    assert!(asked() <= before + 1, "its time was up before: {before}, {}", asked());
    plan("budget = { time = 60 }");
    assert_eq!((env.run(&["run", "plan.toml"]).code, asked() >= 9), (0, true));
}

/// The gap task, and a plan for one model at a scripted host.
fn one_model(env: &TestEnv, address: &str, head: &str, more: &str) {
    env.chats(head, address, &["petrel"], more);
}

const RIGHT: &str = "```python\ndef gap(a, b):\n    return a - b\n```\n";
const WRONG: &str = "```python\ndef gap(a, b):\n    return a + b\n```\n";

#[test]
fn trials_are_chosen_and_held_again_and_the_first_results_are_kept() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    let (address, host) =
        scripted(vec![saying(WRONG), saying(RIGHT), saying(RIGHT), saying(RIGHT), saying(WRONG)]);
    one_model(&env, &address, "samples = 2\nparallel = 1", "price = { output = 1000.0 }");
    let run = |args: &[&str]| {
        let mut all = vec!["run", "plan.toml"];
        all.extend(args);
        env.run(&all)
    };
    let ran = run(&["--samples", "1"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.err.contains("left for another run, since not chosen: 1 trial"), "{}", ran.err);
    assert_eq!(run(&[]).code, 0);
    let verdicts = || -> Vec<String> {
        let shown = env.json(&["show", "record", "--json"]);
        let trials = shown["trials"].as_array().unwrap();
        trials.iter().map(|it| it["verdict"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(verdicts(), ["fail", "pass"]);
    // A dry run shows what would be held again, and holds nothing.
    let dry = run(&["--again", "failed", "--dry-run"]);
    assert!(dry.out.contains("1 trial would be run"), "{}", dry.out);
    assert_eq!(run(&["--again", "failed"]).code, 0);
    assert_eq!(verdicts(), ["pass", "pass"]);
    let table = env.run(&["standings", "record"]).out.replace('\n', " ");
    assert!(
        table.contains("Held again although not void") && table.contains("1 trial (failed)"),
        "{table}"
    );
    // What was set aside was paid for, and costs the trial nothing.
    let trial = &env.json(&["show", "record", "--json"])["trials"][0];
    assert_eq!(trial["requests"].as_array().unwrap().len(), 2);
    assert!((trial["cost"].as_f64().unwrap() - 0.01).abs() < 1e-9, "{trial:#}");
    assert_eq!(env.run(&["regrade", "record"]).code, 0, "the figures fit the rows");
    for (args, part) in [
        (vec!["--task", "gapp"], "there is no task `gapp` in the plan; there are: gap"),
        (vec!["--candidate", "auk"], "there is no candidate `auk`"),
        (vec!["--samples", "3"], "the plan has 2 samples"),
        (vec!["--again", "17"], "there is no trial 17"),
        (vec!["--again", "lost"], "`void`, `failed`, `changed`, or the number of a trial"),
    ] {
        let ran = run(&args);
        assert!(ran.code == 2 && ran.err.contains(part), "{args:?}: {}", ran.err);
    }
    // A corrected task is a way on: its trials are held again, by all.
    env.write("docket/gap/sealed/calls.jsonl", "{\"args\": [71, 30], \"returns\": 41}\n");
    let refused = run(&[]);
    assert!(refused.code == 2 && refused.err.contains("--again changed"), "{}", refused.err);
    // Proofs are no part of a task.
    assert_eq!(run(&["--again", "changed"]).code, 0);
    env.write("docket/gap/proofs/right.py", "def gap(a, b):\n    return a - b\n");
    let ran = run(&[]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let mut now = verdicts();
    now.sort();
    assert_eq!(now, ["fail", "pass"]);
    assert_eq!(host.join().unwrap().len(), 5);
    // So is a corrected price, and a candidate that is dropped.
    let plan = fs::read_to_string(env.path("plan.toml")).unwrap().replace("1000.0", "2000.0");
    env.write("plan.toml", &plan);
    let ran = run(&[]);
    assert!(
        ran.code == 0 && ran.err.contains("the price of `petrel` was 0 in, 1000 out"),
        "{}",
        ran.err
    );
    let row = &env.json(&["standings", "record", "--json"])["candidates"][0];
    assert!((row["cost"].as_f64().unwrap() - 0.04).abs() < 1e-9, "{row:#}");
    env.write("plan.toml", &plan.replace("\"petrel\"", "\"tern\""));
    let dry = run(&["--dry-run"]);
    assert!(dry.out.contains("`petrel` is no longer in the plan"), "{}", dry.out);
}

#[test]
fn the_same_request_is_not_paid_for_twice() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label"]);
    let standin = env.standin(&["--log", "asked.jsonl"], &[]);
    let asked = || fs::read_to_string(env.path("asked.jsonl")).unwrap().lines().count();
    env.chats("attempts = 2", &standin.address, &["kittiwake"], "price = { output = 1.0 }");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let before = asked();
    env.chats(
        "attempts = 2\nsamples = 2",
        &standin.address,
        &["kittiwake"],
        "price = { output = 1.0 }",
    );
    let ran = env.run(&["run", "plan.toml", "--record", "second", "--reuse", "record"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let again = env.json(&["show", "second", "--json"]);
    let trials = again["trials"].as_array().unwrap();
    for trial in trials {
        let is_reused = trial["attempts"][0]["reused"] == "record";
        assert_eq!(is_reused, trial["sample"] == 1, "{trial:#}");
        assert_eq!(trial["cost"] == 0.0, trial["sample"] == 1);
    }
    let answers: usize = trials
        .iter()
        .filter(|it| it["sample"] == 2)
        .map(|it| it["attempts"].as_array().unwrap().len())
        .sum();
    assert_eq!(asked(), before + answers);
    assert!(env.run(&["standings", "second"]).out.contains("taken over from another record"));
}

#[test]
fn a_first_look_costs_one_request_each_and_a_wrong_key_no_more() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label", "tow-order"]);
    let standin = env.standin(&["--log", "asked.jsonl"], &[]);
    env.chats("samples = 3", &standin.address, &["kittiwake", "no-such-model"], "");
    let ran = env.run(&["run", "plan.toml", "--try"]);
    assert_eq!(ran.code, 3, "{}", ran.err);
    assert!(ran.out.contains("kittiwake: answered on "), "{}", ran.out);
    assert!(ran.out.contains("no-such-model: no answer on "), "{}", ran.out);
    assert!(ran.err.contains("model not found (status 404): there is no model"), "{}", ran.err);
    let asked = || fs::read_to_string(env.path("asked.jsonl")).unwrap().lines().count();
    assert_eq!(asked(), 1);
    // What was asked for counts, and the rest follows.
    assert_eq!(env.run(&["run", "plan.toml"]).code, 3);
    assert_eq!(asked(), 9);
    let requests = env.json(&["show", "record", "--candidate", "no-such-model", "--json"]);
    let sent: usize = requests["trials"]
        .as_array()
        .unwrap()
        .iter()
        .map(|it| it["requests"].as_array().unwrap().len())
        .sum();
    assert_eq!(sent, 2, "one in each session");
}

#[test]
fn a_run_is_watched_from_elsewhere_and_says_what_happens() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label"]);
    env.write(
        "models.toml",
        "[[model]]\nname = \"petrel\"\nskill = 9\nrepair = 1\ntokens_per_second = 5000\nlatency = 1.5\n",
    );
    let standin =
        env.standin(&["--models", "models.toml", "--key-env", "KEY"], &[("KEY", "seaworthy-1234")]);
    env.chats("parallel = 2", &standin.address, &["petrel"], "key_env = \"KEY\"");
    assert!(env.run(&["watch", "record"]).err.contains("no run has said in `record`"));
    let mut command = env.command(Path::new(PROGRAM));
    command.args(["run", "plan.toml", "--events", "events.jsonl", "--verbose"]);
    let run = command
        .env("KEY", "seaworthy-1234")
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let began = Instant::now();
    let watched = loop {
        let watched = env.run(&["watch", "record"]);
        let is_late = began.elapsed() > Duration::from_secs(20);
        if watched.out.contains("0 of 2") || is_late {
            break watched;
        }
        thread::sleep(Duration::from_millis(50));
    };
    assert!(
        watched.out.contains("petrel") && !watched.out.contains("run is over"),
        "{}",
        watched.out
    );
    assert!(watched.out.lines().all(|it| it.chars().count() <= 100), "{}", watched.out);
    // A second run is told who writes.
    let second = env.run_with(&["run", "plan.toml"], &[("KEY", "seaworthy-1234")]);
    let by = format!("process {} on ", run.id());
    assert!(second.code == 3 && second.err.contains(&by), "{}", second.err);
    let out = run.wait_with_output().unwrap();
    assert!(out.status.success());
    let err = String::from_utf8(out.stderr).unwrap();
    assert!(err.contains("answer begins") && err.contains("judged"), "{err}");
    let events = fs::read_to_string(env.path("events.jsonl")).unwrap();
    assert!(!err.contains("seaworthy") && !events.contains("seaworthy"));
    let events: Vec<Value> = events.lines().map(|it| serde_json::from_str(it).unwrap()).collect();
    let kinds: Vec<&str> = events.iter().map(|it| it["event"].as_str().unwrap()).collect();
    assert_eq!((kinds[0], kinds[kinds.len() - 1]), ("run begun", "run over"));
    for kind in ["trial begun", "request sent", "request over", "answered", "judged", "trial over"]
    {
        assert_eq!(kinds.iter().filter(|it| **it == kind).count(), 2, "{kind}: {kinds:?}");
    }
    assert!(env.run(&["watch", "record"]).out.contains("the run is over"));
    let status = env.json(&["watch", "record", "--json"]);
    assert_eq!((&status["over"], &status["trials_over"]), (&json!(true), &json!(2)));
}

#[test]
fn a_record_that_is_not_whole_is_refused_and_nothing_is_lost() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    env.recorded("", &[("gap", "def gap(a, b): return a - b")]);
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    for (gone, part) in [
        ("manifest.json", "has trials and no `manifest.json`"),
        ("trials.sqlite", "has no `trials.sqlite`"),
    ] {
        let (from, to) = (env.path("record").join(gone), env.path(gone));
        fs::rename(&from, &to).unwrap();
        let ran = env.run(&["run", "plan.toml"]);
        assert!(ran.code == 2 && ran.err.contains(part), "{}", ran.err);
        assert!(ran.err.contains(&format!("put its `{gone}` back")), "{}", ran.err);
        assert!(!from.exists(), "nothing is made in its place");
        fs::rename(&to, &from).unwrap();
    }
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    for (more, part) in [
        ("[limits]\nmemory = 0", "[limits]: `memory` is not above 0"),
        ("[budget]\nmoney = 0", "[budget]: `money` is not above 0"),
        ("[[host]]\nendpoint = \"http://nobody\"", "no candidate has this `endpoint`"),
    ] {
        let plan = fs::read_to_string(env.path("plan.toml")).unwrap();
        env.write("other.toml", &format!("{plan}{more}\n"));
        let ran = env.run(&["run", "other.toml"]);
        assert!(ran.code == 2 && ran.err.contains(part), "{}", ran.err);
    }
}

#[test]
fn a_host_is_asked_no_more_often_than_the_plan_allows() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label", "tow-order"]);
    let standin = env.standin(&["--log", "asked.jsonl"], &[]);
    let plan = |limit: &str| {
        env.chats("samples = 2", &standin.address, &["kittiwake"], "");
        let plan = fs::read_to_string(env.path("plan.toml")).unwrap();
        let host = format!("[[host]]\nendpoint = \"{}/\"\n{limit}\n", standin.address);
        env.write("plan.toml", &(plan + &host));
    };
    plan("requests_per_day = 4");
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 3, "{}", ran.err);
    assert!(ran.err.contains("by the limits in [[host]]"), "{}", ran.err);
    let asked = || fs::read_to_string(env.path("asked.jsonl")).unwrap().lines().count();
    assert_eq!(asked(), 4);
    // Those of earlier sessions count.
    assert_eq!(env.run(&["run", "plan.toml"]).code, 3);
    assert_eq!(asked(), 4);
    plan("at_once = 1");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    assert_eq!(asked(), 6);
}
