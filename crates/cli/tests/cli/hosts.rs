//! Hosts that refuse, vanish, and come back.

use crate::env::TestEnv;

fn models(fault: &str) -> String {
    format!(
        "[[model]]\nname = \"petrel\"\nskill = 9\nrepair = 1\ntokens_per_second = 50000\n{fault}\n"
    )
}

#[test]
fn a_refusal_is_tried_again_and_does_not_count_against_the_model() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label"]);
    env.write("models.toml", &models("fault_rate = 1.0\nfault_status = 429"));
    let standin = env.standin(&["--models", "models.toml"], &[]);
    env.chats("samples = 2", &standin.address, &["petrel"], "");
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let shown = env.json(&["show", "record", "--json"]);
    for trial in shown["trials"].as_array().unwrap() {
        assert_eq!(trial["verdict"], "pass");
        assert_eq!(trial["requests"][0]["outcome"], "rate limit");
        assert_eq!(trial["requests"][1]["outcome"], "answered");
    }
}

#[test]
fn what_stays_refused_is_void_and_is_held_again_later() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    env.write("models.toml", &models("fault_rate = 1.0\nfault_status = 503\nfault_repeats = 2"));
    let standin = env.standin(&["--models", "models.toml"], &[]);
    env.chats("", &standin.address, &["petrel"], "retries = 0");
    for _ in 0..2 {
        let ran = env.run(&["run", "plan.toml"]);
        assert_eq!(ran.code, 3);
        assert!(ran.err.contains("hint: run the same command again"), "{}", ran.err);
        let row = &env.json(&["standings", "record", "--json"])["candidates"][0];
        assert_eq!(
            (&row["void"], &row["trials"], &row["rank"]),
            (&1.into(), &0.into(), &().into())
        );
    }
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let trial = &env.json(&["show", "record", "--json"])["trials"][0];
    assert_eq!((&trial["verdict"], &trial["round"]), (&"pass".into(), &3.into()));
}

#[test]
fn an_answer_that_was_paid_for_is_kept_when_the_host_fails_later() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    let fault = "fault_rate = 1.0\nfault_status = 503";
    env.write("models.toml", &models(fault).replace("skill = 9", "skill = -9"));
    let standin = env.standin(&["--models", "models.toml", "--log", "asked.jsonl"], &[]);
    env.chats("attempts = 2", &standin.address, &["petrel"], "retries = 0");
    // Each new conversation is refused once: the first answer, then the repair.
    assert_eq!(env.run(&["run", "plan.toml"]).code, 3);
    assert_eq!(env.run(&["run", "plan.toml"]).code, 3);
    let trial = &env.json(&["show", "record", "--json"])["trials"][0];
    assert_eq!(
        (&trial["verdict"], &trial["attempts"][0]["verdict"]),
        (&"void".into(), &"fail".into())
    );
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let trial = &env.json(&["show", "record", "--json"])["trials"][0];
    assert_eq!(
        (&trial["verdict"], trial["attempts"].as_array().unwrap().len()),
        (&"pass".into(), 2)
    );
    assert_eq!((&trial["round"], trial["requests"].as_array().unwrap().len()), (&3.into(), 4));
    let asked = std::fs::read_to_string(env.path("asked.jsonl")).unwrap();
    assert_eq!(asked.lines().count(), 2, "{asked}");
}

#[test]
fn streaming_and_whole_answers_come_to_the_same() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-windows", "tow-order"]);
    let standin = env.standin(&[], &[]);
    let answers = |more: &str, record: &str| {
        env.chats("samples = 2\nattempts = 2", &standin.address, &["petrel"], more);
        assert_eq!(env.run(&["run", "plan.toml", "--record", record]).code, 0);
        let shown = env.json(&["show", record, "--json"]);
        let trials = shown["trials"].as_array().unwrap().clone();
        let mut rows: Vec<_> = trials
            .iter()
            .map(|trial| {
                let request = &trial["requests"][0];
                let streamed = request["first_token_seconds"].is_number();
                assert_eq!(streamed, more.contains("true"));
                assert!(request["tokens_output"].as_u64().unwrap() > 0);
                assert_eq!(request["tokens_estimated"], false);
                format!("{} {} {}", trial["task"], trial["sample"], trial["attempts"][0]["answer"])
            })
            .collect();
        rows.sort();
        rows
    };
    assert_eq!(answers("stream = false", "a.record"), answers("stream = true", "b.record"));
}

#[test]
fn nobody_there_a_wrong_key_and_a_wrong_model_are_told() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label", "tow-order"]);
    let standin = env.standin(&["--key-env", "HARBOUR_KEY"], &[("HARBOUR_KEY", "seaworthy-1234")]);
    let run = |more: &str, address: &str, model: &str, key: &str, record: &str| {
        env.chats("samples = 2", address, &[model], more);
        let ran = env.run_with(&["run", "plan.toml", "--record", record], &[("KEY", key)]);
        assert!(!ran.err.contains("barnacle-9999"), "a key was printed: {}", ran.err);
        let row = env.json(&["standings", record, "--json"])["candidates"][0].clone();
        (ran.code, ran.err, row["solved"].as_u64().unwrap())
    };
    let with_key = "key_env = \"KEY\"";
    let (code, err, _) = run(with_key, &standin.address, "kittiwake", "barnacle-9999", "a");
    assert_eq!(code, 3);
    assert!(
        err.contains(
            "`kittiwake` was no longer asked: key refused (status 401): the key is not valid"
        ),
        "{err}"
    );
    let (code, err, _) = run(with_key, &standin.address, "kitti", "seaworthy-1234", "b");
    assert_eq!(code, 3);
    assert!(err.contains("there is no model `kitti`"), "{err}");
    let gone = "http://127.0.0.1:9/v1";
    let (code, err, _) = run("retries = 1", gone, "kittiwake", "", "c");
    assert_eq!(code, 3);
    assert!(err.contains("http://127.0.0.1:9/v1"), "{err}");
    // The same record, the host back: what is missing is run.
    let (code, err, solved) = run(with_key, &standin.address, "kittiwake", "seaworthy-1234", "a");
    assert_eq!((code, solved > 3), (0, true), "{err}");
}

#[test]
fn feedback_goes_back_and_holds_nothing_sealed() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    env.recorded("attempts = 4\nfeedback = \"examples\"", &[]);
    let row = |attempt: u32, answer: &str| {
        serde_json::json!({"task": "gap", "attempt": attempt, "answer": answer}).to_string() + "\n"
    };
    let answers = [
        row(1, "def gap(a, b):\n    return 1 / 0\n"),
        row(2, "def gap(a, b)\n    return b - a\n"),
        // Hands on all that it is called with, in every way that there is.
        row(
            3,
            "import os, sys\ndef gap(a, b):\n    seen = f'{a},{b}'\n    for place in ('/tmp/seen', '/work/seen', '/dev/shm/seen'):\n        \
             try: open(place, 'a').write(seen + ';')\n        except OSError: pass\n    said = [open(it).read() for it in ('/tmp/seen', '/work/seen') if os.path.exists(it)]\n    \
             print(seen, said)\n    print(seen, file=sys.stderr)\n    kind = type('E' + seen.replace(',', '_').replace('-', 'm'), (Exception,), {})\n    \
             raise kind(f'{seen} {said}')\n",
        ),
        row(4, "def gap(a, b):\n    return a - b\n"),
    ];
    env.write("answers.jsonl", &answers.concat());
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let trial = &env.json(&["show", "record", "--json"])["trials"][0];
    assert_eq!(trial["verdict"], "pass");
    let feedback = |index: usize| trial["attempts"][index]["feedback"].as_str().unwrap_or_default();
    // An example is reported in full, with its error; so is what does not load.
    assert!(feedback(0).contains("ZeroDivisionError: division by zero (line 2, in gap)"));
    assert!(feedback(1).contains("SyntaxError"), "{}", feedback(1));
    assert!(feedback(2).contains("E3_1: 3,1"), "{}", feedback(2));
    assert_eq!(feedback(3), "");
    for index in 0..3 {
        for secret in ["41", "-3", "71", "30"] {
            assert!(!feedback(index).contains(secret), "{}", feedback(index));
        }
    }
    let row = &env.json(&["standings", "record", "--json"])["candidates"][0];
    assert_eq!((&row["mean_repairs"], &row["first_try_rate"]), (&3.0.into(), &0.0.into()));
}
