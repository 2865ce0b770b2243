//! How candidates are asked: wording, commands, answers that were written down, and what it will take.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use serde_json::json;

use crate::env::{PROGRAM, TestEnv, wait_for};

#[test]
fn the_wording_is_the_plans_and_who_has_another_is_named() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    let standin = env.standin(&[], &[]);
    let own = "prompt = { first = \"Be quick.\\n{{ statement }}\\n{{ answer }}\" }";
    env.chats("", &standin.address, &["kittiwake"], "");
    let first = fs::read_to_string(env.path("plan.toml")).unwrap();
    env.chats("", &standin.address, &["puffin"], own);
    let second = fs::read_to_string(env.path("plan.toml")).unwrap();
    let plan = first + second.split_once("[[").map(|it| format!("[[{}", it.1)).unwrap().as_str();
    env.write("plan.toml", &plan);
    let dry = env.run(&["run", "plan.toml", "--dry-run"]);
    assert!(
        dry.out.contains("first prompt of puffin ---\nBe quick.\nWrite gap(a, b)."),
        "{}",
        dry.out
    );
    assert!(dry.out.contains("gap: first prompt ---\nWrite gap(a, b)."), "{}", dry.out);
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let shown = env.json(&["show", "record", "--candidate", "puffin", "--json"]);
    assert!(shown["trials"][0]["prompt"].as_str().unwrap().starts_with("Be quick.\nWrite gap"));
    let table = env.run(&["standings", "record"]).out.replace('\n', " ");
    assert!(table.contains("Not the same prompt: puffin had another"), "{table}");
    // Another wording would be another footing.
    env.write("plan.toml", &format!("prompt = {{ repair = \"No. {{{{ again }}}}\" }}\n{plan}"));
    let ran = env.run(&["run", "plan.toml"]);
    assert!(ran.code == 2 && ran.err.contains("`prompt.repair` was not set"), "{}", ran.err);
    env.write("plan.toml", &plan.replace("{{ statement }}", "{{ statment }}"));
    let ran = env.run(&["run", "plan.toml", "--record", "other"]);
    assert!(
        ran.code == 2 && ran.err.contains("candidate `puffin`, `prompt.first`: line 2"),
        "{}",
        ran.err
    );
}

#[test]
fn a_command_asks_in_our_place_and_its_faults_are_told_apart() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    env.write(
        "ask.py",
        "#!/usr/bin/env python3\nimport json, os, sys\nasked = json.load(sys.stdin)\n\
         assert asked['messages'][-1]['role'] == 'user' and os.environ['KEY'] and 'HOST' not in os.environ\n\
         how = asked['model']\n\
         if how == 'busy': print(json.dumps({'error': 'slow down', 'fault': 'rate limit', 'retry_after': 0}))\n\
         elif how == 'broken': sys.exit('no luck with ' + os.environ['KEY'])\n\
         elif how == 'odd': print('a text')\n\
         elif how == 'slow': __import__('time').sleep(60)\n\
         else: print(json.dumps({'answer': 'def gap(a, b):\\n    return a - b\\n', 'thought': 'easy',\n\
         'tokens_input': 1000, 'tokens_output': 500, 'cost': 0.25 if how == 'told' else None}))\n",
    );
    fs::set_permissions(env.path("ask.py"), fs::Permissions::from_mode(0o755)).unwrap();
    let kinds = [
        ("told", "pass"),
        ("priced", "pass"),
        ("busy", "rate limit"),
        ("broken", "command failed"),
        ("odd", "command failed"),
        ("slow", "timed out"),
    ];
    let mut plan = "docket = \"docket\"\nparallel = 9\n".to_owned();
    for (model, _) in kinds {
        plan += &format!(
            "[[candidate]]\nname = \"{model}\"\nkind = \"command\"\ncommand = [\"./ask.py\"]\n\
             model = \"{model}\"\ntimeout = 4\nretries = 0\nenv = {{ KEY = {{ env = \"HARBOUR_KEY\" }} }}\n\
             price = {{ input = 1.0, output = 2.0 }}\n"
        );
    }
    env.write("plan.toml", &plan);
    let missing = env.run(&["run", "plan.toml"]);
    assert!(
        missing.code == 2 && missing.err.contains("`HARBOUR_KEY` is not set"),
        "{}",
        missing.err
    );
    let key = [("HARBOUR_KEY", "seaworthy-1234"), ("HOST", "x")];
    let ran = env.run_with(&["run", "plan.toml"], &key);
    assert_eq!(ran.code, 3, "{}", ran.err);
    let shown = env.run(&["show", "record", "--json"]).out;
    assert!(!shown.contains("seaworthy") && !ran.err.contains("seaworthy"), "{shown}");
    let shown: serde_json::Value = serde_json::from_str(&shown).unwrap();
    let of = |name: &str| {
        let trials = shown["trials"].as_array().unwrap();
        trials.iter().find(|it| it["candidate"] == name).unwrap().clone()
    };
    for (model, expected) in kinds {
        let trial = of(model);
        let found = trial["fault"].as_str().or(trial["reason"].as_str());
        assert_eq!(found.unwrap_or("pass"), expected, "{trial:#}");
    }
    assert_eq!((&of("told")["cost"], &of("priced")["cost"]), (&json!(0.25), &json!(0.002)));
    assert_eq!(of("told")["attempts"][0]["thought"], "easy");
    assert!(of("broken")["requests"][0]["detail"].as_str().unwrap().contains("no luck with [key]"));
}

#[test]
fn answers_that_were_written_down_may_say_what_they_took() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    env.recorded("", &[]);
    let line = json!({"task": "gap", "answer": "def gap(a, b): return a - b", "tokens_input": 100,
        "tokens_output": 50, "seconds": 2.5, "cost": 0.5});
    env.write("answers.jsonl", &format!("{line}\n"));
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let row = &env.json(&["standings", "record", "--json"])["candidates"][0];
    assert_eq!((&row["cost"], &row["seconds"]), (&json!(0.5), &json!(2.5)));
    assert_eq!((&row["tokens_input"], &row["tokens_output"]), (&json!(100), &json!(50)));
    env.write("answers.jsonl", "{\"task\": \"gap\", \"answer\": \"x\", \"cost\": -1}\n");
    let ran = env.run(&["run", "plan.toml", "--record", "other"]);
    assert!(
        ran.code == 2 && ran.err.contains("line 1: `cost` is a number of at least 0"),
        "{}",
        ran.err
    );
}

#[test]
fn a_forecast_says_what_is_still_to_be_paid_and_asks_nobody() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "berth-label", "tow-order", "flag-count", "harbour-toll"]);
    let price = "price = { input = 10.0, output = 20.0 }";
    env.chats("samples = 4\nattempts = 3", "http://127.0.0.1:9/v1", &["kittiwake"], price);
    let found = env.json(&["forecast", "plan.toml", "--json"]);
    let row = &found["candidates"][0];
    assert_eq!((&row["trials"], &row["few"]["requests"]), (&json!(20), &json!(20.0)));
    assert_eq!(row["many"]["requests"], json!(60.0));
    let tokens = |of: &str| row[of]["tokens_input"].as_f64().unwrap();
    assert!(tokens("few") > 1000.0 && tokens("many") > 3.0 * tokens("few"), "{row:#}");
    assert!(found["shows"].as_f64().unwrap() > 0.3, "five tasks show little");
    assert!(!env.path("record").exists());
    // Measured, it is what an earlier run took.
    let standin = env.standin(&[], &[]);
    env.chats("samples = 1\nattempts = 3", &standin.address, &["kittiwake"], price);
    assert_eq!(env.run(&["run", "plan.toml", "--record", "earlier"]).code, 0);
    let cost = &env.json(&["standings", "earlier", "--json"])["candidates"][0]["cost"];
    env.chats("samples = 4\nattempts = 3", &standin.address, &["kittiwake"], price);
    let found = env.json(&["forecast", "plan.toml", "--from", "earlier", "--json"]);
    let few = found["candidates"][0]["few"]["cost"].as_f64().unwrap();
    assert!((few / (4.0 * cost.as_f64().unwrap()) - 1.0).abs() < 0.02, "{few} {cost}");
    let text = env.run(&["forecast", "plan.toml", "--from", "earlier"]).out;
    assert!(text.contains("As measured in the earlier record"), "{text}");
}

/// A command that answers with the kinds of the parts that it was sent.
const PARTS: &str = "#!/usr/bin/env python3\nimport base64, json, sys\nsaid = json.load(sys.stdin)['messages'][-1]['content']\n\
    parts = said if isinstance(said, list) else [{'type': 'text', 'text': said}]\n\
    shown = [base64.b64decode(it['image_url']['url'].split(',')[1])[:4] for it in parts[1:]]\n\
    names = 'berths.png' in parts[0]['text'], 'sent along' in parts[0]['text']\n\
    print(json.dumps({'answer': repr((shown, names))}))\n";

#[test]
fn images_go_with_the_first_message_to_those_that_take_them() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    let brief = fs::read_to_string(env.path("docket/gap/brief.md")).unwrap();
    let with = |images: &str| {
        let brief = brief.replacen("+++\n", &format!("+++\nimages = {images}\n"), 1);
        env.write("docket/gap/brief.md", &brief);
    };
    fs::create_dir_all(env.path("docket/gap/given")).unwrap();
    fs::write(env.path("docket/gap/given/berths.png"), b"\x89PNG\r\n\x1a\n\0\xff\0").unwrap();
    env.write("docket/gap/given/notes.png", "no image");
    env.write("ask.py", PARTS);
    fs::set_permissions(env.path("ask.py"), fs::Permissions::from_mode(0o755)).unwrap();
    let mut plan = "docket = \"docket\"\n".to_owned();
    for (name, more) in [("auk", ""), ("tern", "prompt = { images = false }\n")] {
        plan += &format!(
            "[[candidate]]\nname = \"{name}\"\nkind = \"command\"\ncommand = [\"./ask.py\"]\n{more}"
        );
    }
    env.write("plan.toml", &plan);
    for (images, part) in [
        ("[\"notes.png\"]", "is no PNG, JPEG, GIF or WebP file"),
        ("[\"quay.png\"]", "there is no file `given/quay.png`"),
        ("[\"berths.png\", \"berths.png\"]", "names `berths.png` twice"),
    ] {
        with(images);
        let ran = env.run(&["run", "plan.toml"]);
        assert!(ran.code == 2 && ran.err.contains(part), "{}", ran.err);
    }
    with("[\"berths.png\"]");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let shown = env.json(&["show", "record", "--json"]);
    let answers: Vec<_> = ["auk", "tern"]
        .map(|name| {
            let trials = shown["trials"].as_array().unwrap();
            let trial = trials.iter().find(|it| it["candidate"] == name).unwrap();
            trial["attempts"][0]["answer"].as_str().unwrap().to_owned()
        })
        .into();
    assert_eq!(answers, [r"([b'\x89PNG'], (True, True))", "([], (True, False))"]);
    let table = env.run(&["standings", "record"]).out.replace('\n', " ");
    assert!(table.contains("Not the same prompt: tern had another"), "{table}");
    // An image is not counted by the length of its letters.
    let tokens = |name: &str| {
        let found = env.json(&["forecast", "plan.toml", "--record", "other", "--json"]);
        let rows = found["candidates"].as_array().unwrap();
        let row = rows.iter().find(|it| it["candidate"] == name).unwrap();
        row["few"]["tokens_input"].as_f64().unwrap()
    };
    assert!((900.0..1100.0).contains(&(tokens("auk") - tokens("tern"))));
}

#[test]
fn a_command_ends_with_a_run_that_is_killed() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    env.write(
        "ask.sh",
        "#!/bin/sh\ncat > /dev/null\nsleep 600 & echo $! >> \"$OUT\"\necho $$ >> \"$OUT\"\nwait\n",
    );
    fs::set_permissions(env.path("ask.sh"), fs::Permissions::from_mode(0o755)).unwrap();
    let pids = env.path("pids");
    env.write(
        "plan.toml",
        &format!(
            "docket = \"docket\"\n[[candidate]]\nname = \"auk\"\nkind = \"command\"\n\
             command = [\"./ask.sh\"]\nenv = {{ OUT = \"{}\" }}\n",
            pids.display()
        ),
    );
    let mut run = env.command(Path::new(PROGRAM)).args(["run", "plan.toml"]).spawn().unwrap();
    let read = || fs::read_to_string(&pids).unwrap_or_default();
    wait_for("the command", || read().lines().count() == 2);
    run.kill().unwrap();
    run.wait().unwrap();
    let is_gone = |pid: &str| {
        // One that nobody has waited for yet has ended all the same.
        let state = fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
        state.rsplit_once(") ").is_none_or(|it| it.1.starts_with('Z'))
    };
    wait_for("its end", || read().lines().all(is_gone));
}
