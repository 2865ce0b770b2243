//! Trouble on the way to an answer, counted and shown, and what the relay sees of an agent.

use serde_json::{Value, json};

use crate::agents::{prepare, prepare_actor, run};
use crate::env::TestEnv;
use crate::scripted::{calling, saying, scripted};

fn counts(attempt: &Value) -> [u64; 5] {
    ["same_failure", "undone", "repeated", "turned_red", "false_claims"]
        .map(|sort| attempt["trouble"][sort].as_u64().unwrap())
}

fn edit(old: &str, new: &str) -> (&'static str, Value) {
    ("edit", json!({ "path": "merrow/tides.py", "old": old, "new": new }))
}

#[test]
fn what_comes_to_nothing_is_counted_attempt_by_attempt() {
    let env = TestEnv::new();
    let read = || ("read", json!({ "path": "merrow/tides.py" }));
    let (good, bad) = ("    return spans", "    return None and spans");
    let (address, server) = scripted(vec![
        calling(&[read(), read(), read(), edit(good, bad), edit(bad, good)]),
        saying("All tests pass.\n\nfinished"),
        calling(&[edit(good, bad), read()]),
        saying("not finished"),
        calling(&[("run", json!({ "command": "true" }))]),
        saying("It is fixed now."),
        calling(&[edit(bad, good), ("write", json!({ "path": "half", "content": "1" }))]),
        saying("I could not do it."),
    ]);
    prepare_actor(&env, &address, "");
    let plan = std::fs::read_to_string(env.path("plan.toml")).unwrap();
    env.write("plan.toml", &plan.replace("attempts = 2", "attempts = 4"));
    let trial = run(&env);
    server.join().unwrap();
    let attempts = trial["attempts"].as_array().unwrap();
    let found: Vec<_> = attempts.iter().map(counts).collect();
    let broken = attempts[1]["turned_red"].as_array().unwrap().len() as u64;
    assert!(broken > 0, "{:#}", attempts[1]);
    // Attempt 1 read thrice, undid its edit, changed nothing and claimed to be done; 2 broke tests that
    // were green from the start, and says that it is not done; 3 is as 2 was, and claims; 4 undid that.
    assert_eq!(found[0], [0, 1, 1, 0, 1]);
    assert_eq!(found[1], [0, 0, 0, broken, 0]);
    assert_eq!(found[2], [1, 0, 0, 0, 1]);
    assert_eq!(found[3], [0, 1, 0, 0, 0]);
    let mended: Vec<_> = attempts[3]["turned_green"].as_array().unwrap().iter().collect();
    assert_eq!(mended.len() as u64, broken);
    let standings = env.json(&["standings", "record", "--json"]);
    assert_eq!(
        standings["trouble"],
        json!([{ "candidate": "wherry", "trials": 1, "same_failure": 1, "undone": 1, "repeated": 1,
                 "turned_red": 1, "false_claims": 1 }])
    );
    let shown = env.run(&["show", "record", "--trial", "1"]).out;
    assert!(shown.contains("trouble: edits undone 1 ×, repeated 1 ×, false claims 1 ×"), "{shown}");
    assert!(shown.contains("turned green: ") && shown.contains("asked 1"), "{shown}");
    let table = env.run(&["standings", "record"]).out;
    assert!(table.contains("trouble on the way, in so many trials"), "{table}");
}

#[test]
fn one_that_is_stuck_is_ended_and_gets_no_further_attempt() {
    let env = TestEnv::new();
    let read = || ("read", json!({ "path": "merrow/tides.py" }));
    let (address, server) = scripted(vec![calling(&[read(), read(), read(), read(), read()])]);
    prepare_actor(&env, &address, "");
    let plan = std::fs::read_to_string(env.path("plan.toml")).unwrap();
    env.write("plan.toml", &format!("stop_when_stuck = 3\n{plan}"));
    let trial = run(&env);
    assert_eq!(server.join().unwrap().len(), 1);
    let attempts = trial["attempts"].as_array().unwrap();
    assert_eq!((attempts.len(), &attempts[0]["ended"]["limit"]), (1, &"stuck".into()));
    assert_eq!(counts(&attempts[0]), [0, 0, 3, 0, 0]);
}

/// A program that asks as it is told, and then does nothing for long.
const ASKING: &str = r#"
python3 - "$1" <<'P'
import json, os, sys, time, urllib.error, urllib.request
def ask(path, body):
    request = urllib.request.Request(os.environ["URL"] + path, json.dumps(body).encode())
    try:
        with urllib.request.urlopen(request, timeout=20) as answer:
            return json.load(answer)
    except urllib.error.HTTPError as error:
        return error.code
exec(os.environ["ASK"])
P
"#;

#[test]
fn an_agent_s_calls_and_repeated_requests_are_seen_as_they_pass() {
    let env = TestEnv::new();
    let (address, server) = scripted(vec![
        calling(&[("open", json!({ "file": "a" })), ("open", json!({ "file": "b" }))]),
        calling(&[("open", json!({ "file": "a" }))]),
        calling(&[("open", json!({ "file": "a" }))]),
    ]);
    let more = format!(
        "endpoint = \"{address}\"\nmodel = \"auk\"\n[candidate.env]\nURL = \"{{endpoint}}\"\n\
         ASK = \"for at in range(3): ask('/chat/completions', {{'messages': [{{'role': 'user', 'content': 'tides?'}}]}})\\ntime.sleep(300)\""
    );
    prepare(&env, ASKING, "attempts = 3\nstop_when_stuck = 3", &more);
    let trial = run(&env);
    server.join().unwrap();
    let attempts = trial["attempts"].as_array().unwrap();
    assert_eq!((attempts.len(), &attempts[0]["ended"]["limit"]), (1, &"stuck".into()), "{trial:#}");
    let steps: Vec<String> = attempts[0]["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|it| format!("{} {}", it["kind"].as_str().unwrap(), it["subject"].as_str().unwrap()))
        .collect();
    assert_eq!(
        steps,
        [
            "call open {\"file\":\"a\"}",
            "call open {\"file\":\"b\"}",
            "request the same as request 1",
            "call open {\"file\":\"a\"}",
            "request the same as request 2",
            "call open {\"file\":\"a\"}",
        ]
    );
    // Two requests were the same as before, and the same file was opened three times.
    assert_eq!(counts(&attempts[0]), [0, 0, 3, 0, 0]);
}

#[test]
fn requests_of_another_api_are_passed_on_and_metered_by_the_plan() {
    let env = TestEnv::new();
    let answer = json!({ "text": "ebb", "usage": { "in": 100, "stored": 20, "out": 7 } });
    let (address, server) = scripted(vec![(200, answer), (429, json!({ "error": "busy" }))]);
    let more = format!(
        "endpoint = \"{address}\"\nmodel = \"auk\"\nkey_env = \"HARBOUR_KEY\"\n\
         relay = {{ paths = [\"/letters\"], header = \"x-harbour\", usage = {{ input = [\"/usage/in + /usage/stored\"], cached = [\"/usage/stored\"], output = [\"/usage/out\"] }} }}\n\
         price = {{ input = 1e6, output = 1e6, cached_input = 0.0 }}\n[candidate.env]\nURL = \"{{endpoint}}\"\n\
         ASK = \"print(ask('/letters?v=2', {{'model': 'auk', 'q': 1}})['text'], ask('/letters', {{'q': 2}}), ask('/letters', {{'model': 'owl'}}), ask('/post', {{}}))\""
    );
    prepare(&env, ASKING, "", &more);
    let trial = run(&env);
    let asked = server.join().unwrap();
    assert!(asked[0].head.starts_with("POST /v1/letters?v=2 HTTP/1.1"), "{}", asked[0].head);
    assert!(asked[0].head.to_lowercase().contains("x-harbour: seaworthy-4711"));
    assert!(!asked[0].head.to_lowercase().contains("authorization"));
    assert_eq!(
        (&asked[0].body, &asked[1].body),
        (&json!({ "model": "auk", "q": 1 }), &json!({ "q": 2 }))
    );
    assert_eq!(trial["attempts"][0]["ended"]["stdout"], "ebb 429 404 404\n", "{trial:#}");
    let request = &trial["requests"][0];
    let tokens = ["tokens_input", "tokens_cached", "tokens_output"].map(|it| request[it].as_u64());
    assert_eq!(tokens, [Some(120), Some(20), Some(7)]);
    assert_eq!((&request["cost"], &request["tokens_estimated"]), (&107.0.into(), &false.into()));
    assert_eq!(trial["requests"][1]["outcome"], "rate limit");
    for (from, to, why) in [
        ("\"/letters\"", "\"letters\"", "each beginning with `/`"),
        ("header", "hedder", "unknown field `hedder`"),
        ("\"/usage/out\"", "\"usage.out\"", "JSON pointers"),
        ("kind = \"agent\"", "kind = \"agent\"\npermit = [\"read\"]", "for the kind `acp`"),
        ("kind = \"agent\"", "kind = \"acp\"", "gets its prompt by the protocol"),
    ] {
        let plan = std::fs::read_to_string(env.path("plan.toml")).unwrap();
        env.write("other.toml", &plan.replacen(from, to, 1));
        let refused = env.run(&["run", "other.toml"]);
        assert!(refused.code == 2 && refused.err.contains(why), "{why}: {}", refused.err);
    }
}
