//! Runs that are killed, stopped, and resumed.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use rusqlite::Connection;

use crate::env::{PROGRAM, TestEnv};

const TASKS: &[&str] = &["tide-gap", "berth-label", "flag-count", "tow-order", "harbour-toll"];

const SLOW: &str = "[[model]]\nname = \"petrel\"\nskill = 2.5\nrepair = 0.4\n\
    tokens_per_second = 900\nlatency = 0.03\n[[model]]\nname = \"puffin\"\nskill = 1.0\n\
    repair = 0.2\ntokens_per_second = 1500\nlatency = 0.02\n";

/// The variable by which a run is killed another number of times, and is so much longer.
const KILLS: &str = "FAIRTRIAL_TEST_KILLS";

#[test]
fn a_run_killed_many_times_ends_with_every_trial_once() {
    let env = TestEnv::new();
    let rounds = std::env::var(KILLS).map_or(10, |it| it.parse::<u64>().unwrap());
    let samples = i64::try_from(rounds * 4 / 10).unwrap();
    env.demo_docket(TASKS);
    env.write("models.toml", SLOW);
    let standin = env.standin(&["--models", "models.toml", "--log", "asked.jsonl"], &[]);
    env.chats(
        &format!("samples = {samples}\nattempts = 3\nparallel = 5"),
        &standin.address,
        &["petrel", "puffin"],
        "",
    );
    let mut kills = 0;
    for round in 0..rounds {
        let mut command = env.command(Path::new(PROGRAM));
        command.args(["run", "plan.toml"]).stdout(Stdio::null()).stderr(Stdio::null());
        let mut child = command.spawn().unwrap();
        // Spread over the run by a sequence that repeats only after all of it.
        let wait = 120 + round * 379 % 700;
        thread::sleep(Duration::from_millis(wait));
        kills += u64::from(child.try_wait().unwrap().is_none());
        child.kill().unwrap();
        child.wait().unwrap();
    }
    assert!(
        kills * 5 >= rounds * 4,
        "the run was over after {kills} kills: it is too short for this test"
    );
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);

    let record = Connection::open(env.path("record/trials.sqlite")).unwrap();
    let one = |sql: &str| record.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(one("SELECT count(*) FROM trials WHERE verdict IS NOT NULL"), samples * 10);
    assert_eq!(one("SELECT count(*) FROM trials WHERE verdict IS NULL"), 0);
    let keys = "SELECT count(*) FROM (SELECT DISTINCT candidate, task, sample FROM trials)";
    assert_eq!(one(keys), samples * 10);
    assert_eq!(one("SELECT count(*) FROM attempts WHERE verdict IS NULL"), 0);
    let gaps = "SELECT count(*) FROM (SELECT max(attempt) AS last, count(*) AS all_of FROM attempts
                GROUP BY candidate, task, sample) WHERE last <> all_of";
    assert_eq!(one(gaps), 0);
    let check = record.query_row("PRAGMA integrity_check", [], |row| row.get::<_, String>(0));
    assert_eq!(check.unwrap(), "ok");
    assert_nothing_was_asked_again(&env, &record, rounds);
}

/// No request came after the answer to the same question had been committed.
fn assert_nothing_was_asked_again(env: &TestEnv, record: &Connection, kills: u64) {
    let mut statement = record
        .prepare(
            "SELECT candidate, task, attempt, count(*),
             max((julianday(answered) - 2440587.5) * 86400.0)
             FROM attempts GROUP BY candidate, task, attempt",
        )
        .unwrap();
    let committed: BTreeMap<(String, String, i64), i64> = statement
        .query_map([], |row| Ok(((row.get(0)?, row.get(1)?, row.get(2)?), row.get(3)?)))
        .unwrap()
        .map(Result::unwrap)
        .collect();
    let mut asked = BTreeMap::<(String, String, i64), BTreeMap<u64, u32>>::new();
    for line in fs::read_to_string(env.path("asked.jsonl")).unwrap().lines() {
        let row: serde_json::Value = serde_json::from_str(line).unwrap();
        let text = |key: &str| row[key].as_str().unwrap().to_owned();
        let key = (text("model"), text("task"), row["attempt"].as_i64().unwrap());
        *asked.entry(key).or_default().entry(row["seed"].as_u64().unwrap()).or_default() += 1;
    }
    // A question is a task, a sample (by its seed) and an attempt. At each kill at most
    // five requests were in flight: only these may have been sent again.
    let mut again = 0;
    for (key, by_seed) in &asked {
        assert_eq!(by_seed.len() as i64, committed[key], "{key:?}");
        again += by_seed.values().map(|count| count - 1).sum::<u32>();
    }
    assert!(u64::from(again) <= kills * 5, "{again} requests were sent again");
    let trials: i64 = asked.values().map(|by_seed| by_seed.len() as i64).sum();
    let one = |sql: &str| record.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(one("SELECT count(*) FROM attempts"), trials);
    // Whatever reached the host, and may have to be paid for, was recorded before it was sent.
    let sent: u32 = asked.values().flat_map(BTreeMap::values).sum();
    let (recorded, lost) = (
        one("SELECT count(*) FROM requests"),
        one("SELECT count(*) FROM requests WHERE outcome = 'lost'"),
    );
    assert!(recorded >= i64::from(sent) && recorded - lost == trials, "{sent} {recorded} {lost}");
    assert_eq!(one("SELECT count(*) FROM requests WHERE outcome = 'under way'"), 0);
}

#[test]
fn an_answer_that_was_committed_is_judged_without_asking() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    env.recorded("", &[("gap", "def gap(a, b):\n    return a - b\n")]);
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    // As a kill between the two commits leaves it.
    let record = Connection::open(env.path("record/trials.sqlite")).unwrap();
    record
        .execute_batch(
            "UPDATE attempts SET verdict = NULL, reason = NULL, tests = NULL;
             UPDATE trials SET verdict = NULL, ended = NULL;",
        )
        .unwrap();
    drop(record);
    env.write("answers.jsonl", "");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let trial = &env.json(&["show", "record", "--json"])["trials"][0];
    assert_eq!(
        (&trial["verdict"], trial["attempts"].as_array().unwrap().len()),
        (&"pass".into(), 1)
    );
}

#[test]
fn more_samples_are_added_and_other_conditions_refused() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    let standin = env.standin(&["--log", "asked.jsonl"], &[]);
    let asked = || fs::read_to_string(env.path("asked.jsonl")).unwrap().lines().count();
    env.chats("samples = 1", &standin.address, &["kittiwake"], "");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    assert_eq!(asked(), 1);
    env.chats("samples = 3", &standin.address, &["kittiwake", "puffin"], "");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    assert_eq!(asked(), 6);
    for (head, more, part) in [
        ("samples = 3\nattempts = 2", "", "`attempts` was 1, now it is 2"),
        ("samples = 3\nseed = 9", "", "`seed` was 0, now it is 9"),
        ("samples = 3", "sampling = { temperature = 1 }", "is configured otherwise"),
    ] {
        env.chats(head, &standin.address, &["kittiwake", "puffin"], more);
        let ran = env.run(&["run", "plan.toml"]);
        assert_eq!(ran.code, 2, "{head}");
        assert!(ran.err.contains(part) && ran.err.contains("hint:"), "{}", ran.err);
    }
    env.chats("samples = 3", &standin.address, &["kittiwake", "puffin"], "");
    env.write("docket/tide-gap/sealed/calls.jsonl", "{\"args\": [2, 1], \"returns\": 1}\n");
    let ran = env.run(&["run", "plan.toml"]);
    assert!(ran.err.contains("the task `tide-gap` has changed"), "{}", ran.err);
    assert_eq!(asked(), 6);
}

#[test]
fn an_interrupt_leaves_a_record_that_can_be_resumed() {
    for (signal, code) in [("-INT", 130), ("-TERM", 143)] {
        interrupt(signal, code);
    }
}

fn interrupt(signal: &str, code: i32) {
    let env = TestEnv::new();
    env.demo_docket(TASKS);
    env.write("models.toml", SLOW);
    let standin = env.standin(&["--models", "models.toml"], &[]);
    env.chats("samples = 4\nparallel = 2", &standin.address, &["petrel"], "");
    let mut command = env.command(Path::new(PROGRAM));
    let child = command.args(["run", "plan.toml"]).stdout(Stdio::piped()).stderr(Stdio::piped());
    let child = child.spawn().unwrap();
    let database = env.path("record/trials.sqlite");
    let began = Instant::now();
    let some = || {
        let record = Connection::open(&database).ok()?;
        let sql = "SELECT count(*) FROM trials WHERE verdict IS NOT NULL";
        record.query_row(sql, [], |row| row.get::<_, i64>(0)).ok()
    };
    while some().unwrap_or(0) < 2 && began.elapsed() < Duration::from_secs(20) {
        thread::sleep(Duration::from_millis(20));
    }
    let pid = child.id().to_string();
    assert!(Command::new("kill").args([signal, &pid]).status().unwrap().success());
    let out = child.wait_with_output().unwrap();
    let err = String::from_utf8(out.stderr).unwrap();
    assert_eq!(out.status.code(), Some(code), "{err}");
    assert!(err.contains("stopping: waiting for") && err.contains("are not run yet"), "{err}");
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(env.json(&["standings", "record", "--json"])["complete"], true);
}

#[test]
fn two_runs_do_not_write_to_one_record() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    env.write("models.toml", &SLOW.replace("latency = 0.03", "latency = 3"));
    let standin = env.standin(&["--models", "models.toml"], &[]);
    env.chats("", &standin.address, &["petrel"], "");
    let mut command = env.command(Path::new(PROGRAM));
    command.args(["run", "plan.toml"]).stdout(Stdio::null()).stderr(Stdio::null());
    let mut first = command.spawn().unwrap();
    let began = Instant::now();
    while !env.path("record/trials.sqlite").exists() && began.elapsed() < Duration::from_secs(9) {
        thread::sleep(Duration::from_millis(10));
    }
    let second = env.run(&["run", "plan.toml"]);
    assert_eq!(second.code, 3);
    let by = format!("process {} on ", first.id());
    assert!(second.err.contains(&by) && second.err.contains("is writing to"), "{}", second.err);
    assert!(first.wait().unwrap().success());
}

#[test]
fn a_full_disk_ends_a_run_and_loses_nothing() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    let noise: String = (0..4000_u64).map(|i| format!("# {:x}\n", i * i * 2_654_435_761)).collect();
    let answer = format!("```python\ndef gap(a, b):\n    return a - b\n{noise}```");
    let row = |sample: u32| {
        let answer = answer.replace("# 0\n", &format!("# {sample}\n"));
        serde_json::json!({"task": "gap", "sample": sample, "answer": answer}).to_string() + "\n"
    };
    env.recorded("samples = 12\nparallel = 1", &[]);
    env.write("answers.jsonl", &(1..=12).map(row).collect::<String>());
    fs::create_dir(env.path("small")).unwrap();
    let script = format!(
        "mount -t tmpfs -o size=700k none small && {{ {PROGRAM} run plan.toml --record small/r; \
         echo \"status $?\"; {PROGRAM} standings small/r --json; mount -o remount,size=64m small; \
         {PROGRAM} run plan.toml --record small/r >&2 && {PROGRAM} standings small/r --json; }}"
    );
    let mut command = env.command(Path::new("unshare"));
    command.args(["--user", "--map-root-user", "--mount", "sh", "-c", &script]);
    let ran = crate::env::ran(&mut command);
    assert!(ran.out.contains("status 3"), "{}\n{}", ran.out, ran.err);
    assert!(ran.err.contains("what was committed is safe"), "{}", ran.err);
    let jsons: Vec<&str> = ran.out.split("\n{\n").skip(1).collect();
    let solved = |text: &str| {
        let json: serde_json::Value = serde_json::from_str(&format!("{{{text}")).unwrap();
        json["candidates"][0]["solved"].as_u64().unwrap()
    };
    let (before, after) = (solved(jsons[0]), solved(jsons[1]));
    assert!(before > 0 && before < 12, "{before} were run before the disk was full");
    assert_eq!(after, 12);
}
