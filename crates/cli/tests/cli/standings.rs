//! `fairtrial standings`.

use crate::env::TestEnv;
use crate::regatta::{lay_out, sailed};

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

#[test]
fn slices_and_choices_are_of_what_there_is() {
    let env = sailed();
    let json = env.json(&["standings", "record", "--by", "category", "--json"]);
    let slices = json["slices"].as_array().unwrap();
    assert_eq!((&slices[0]["by"], &slices[0]["name"]), (&"category".into(), &"berths".into()));
    assert_eq!((&slices[0]["tasks"], slices.len()), (&4.into(), 2));
    assert_eq!(slices[1]["candidates"][1]["solved_rate"], 0.5);
    // Tides weigh three times as much as berths; both are half solved.
    assert_eq!(json["candidates"][1]["points_rate"], 0.5);
    let only = env.json(&["standings", "record", "--only", "task=leg-1", "--json"]);
    assert_eq!((&only["tasks"], &only["candidates"][1]["solved"]), (&1.into(), &2.into()));
    let sizes = env.json(&["standings", "record", "--by", "label:size", "--json"]);
    assert_eq!(sizes["slices"][1]["candidates"].as_array().unwrap().len(), 2);
    let reasons = env.json(&["standings", "record", "--by", "reason", "--json"]);
    let wrong = &reasons["reasons"][0];
    assert_eq!(
        (&wrong["reason"], &wrong["candidates"][1]["failed"]),
        (&"wrong result".into(), &8.into())
    );
    for (args, part) in [
        (vec!["--only", "category=tide"], "there are: berths, tides"),
        (vec!["--only", "candidate=puffin"], "there are: tern, auk, gull"),
        (vec!["--by", "weather"], "allowed are: category, difficulty"),
        (vec!["--by", "label:colour"], "there are: label:size"),
        (vec!["--sort", "weight"], "allowed are: rank, candidate"),
        (vec!["--grading", "latest"], "fairtrial regrade RECORD"),
        (vec!["--at-attempt", "0"], "0 is not in"),
    ] {
        let ran = env.run(&[["standings", "record"].as_slice(), &args].concat());
        assert_eq!(ran.code, 2, "{args:?}: {}", ran.out);
        assert!(ran.err.contains(part), "{args:?}: {}", ran.err);
    }
}

#[test]
fn every_view_of_the_standings_reads_well() {
    let env = sailed();
    let mut all = String::new();
    for args in [
        ["--matrix"].as_slice(),
        &["--pairs"],
        &["--tasks"],
        &["--alike"],
        &["--by", "difficulty"],
        &[
            "--columns",
            "candidate,share,curve,repeats,all-of-k,points,strict",
            "--sort",
            "candidate",
        ],
    ] {
        let ran = env.run(&[["standings", "record"].as_slice(), args].concat());
        assert_eq!(ran.code, 0, "{}", ran.err);
        assert!(ran.out.lines().all(|it| it.chars().count() <= 100), "{}", ran.out);
        all += &format!("$ {}\n{}\n", args.join(" "), ran.out);
    }
    insta::assert_snapshot!(all);
    let csv = env.run(&["standings", "record", "--csv", "--columns", "candidate,solved,share"]).out;
    assert_eq!(csv, "candidate,solved,solved_rate\ntern,16,1\nauk,8,0.5\ngull,0,0\n");
    let markdown =
        env.run(&["standings", "record", "--markdown", "--columns", "candidate,solved"]).out;
    assert!(
        markdown.starts_with("| candidate | solved |\n|---|--:|\n| tern | 16/16 |\n"),
        "{markdown}"
    );
}

#[test]
fn verdicts_of_a_grading_count_where_they_are_asked_for() {
    let env = sailed();
    // The task was wrong: what gull said was right all along.
    env.write("docket/leg-2/sealed/calls.jsonl", "{\"args\": [30], \"returns\": 28}\n");
    assert_eq!(env.run(&["regrade", "record"]).code, 1);
    let solved = |args: &[&str], name: &str| {
        let json = env.json(&[["standings", "record", "--json"].as_slice(), args].concat());
        let rows = json["candidates"].as_array().unwrap().clone();
        rows.iter().find(|it| it["name"] == name).unwrap()["solved"].clone()
    };
    assert_eq!((solved(&[], "gull"), solved(&[], "tern")), (0.into(), 16.into()));
    for grading in ["latest", "1"] {
        let args = ["--grading", grading];
        assert_eq!((solved(&args, "gull"), solved(&args, "tern")), (2.into(), 14.into()));
    }
    let ran = env.run(&["standings", "record", "--grading", "latest"]);
    assert!(ran.out.contains("Verdicts are those of the grading of "), "{}", ran.out);
    assert_eq!(env.run(&["standings", "record", "--grading", "2"]).code, 2);
}

#[test]
fn published_figures_stand_beside_and_are_not_mixed_in() {
    let env = TestEnv::new();
    lay_out(
        &env,
        "[[published]]\ncandidate = \"auk\"\nmeasure = \"solved\"\nvalue = 0.9\nsource = \"its makers, 2031\"\n",
    );
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let ran = env.run(&["standings", "record"]);
    assert!(
        ran.out.contains(
            "Published, not measured here: auk, solved 90.0 % (here 50.0 %); its makers, 2031."
        ),
        "{}",
        ran.out
    );
    let json = env.json(&["standings", "record", "--json"]);
    assert_eq!(
        (&json["published"][0]["value"], &json["published"][0]["own"]),
        (&0.9.into(), &0.5.into())
    );
    assert_eq!(json["candidates"].as_array().unwrap().len(), 3);
}

#[test]
fn a_manifest_that_says_anything_takes_no_memory_for_it() {
    let env = sailed();
    let manifest = std::fs::read_to_string(env.path("record/manifest.json")).unwrap();
    let samples = "\"samples\": 2";
    assert!(manifest.contains(samples));
    env.write("record/manifest.json", &manifest.replacen(samples, "\"samples\": 4000000000", 1));
    for command in [["standings", "record"].as_slice(), &["report", "record", "-o", "page.html"]] {
        let ran = env.run(command);
        assert_eq!(ran.code, 2, "{}", ran.out);
        assert!(ran.err.contains("3 candidates at 8 tasks with 4000000000 samples"), "{}", ran.err);
    }
}

#[test]
fn what_a_name_says_is_no_markup_in_any_form() {
    let env = sailed();
    let manifest = std::fs::read_to_string(env.path("record/manifest.json")).unwrap();
    let hostile = "<img src=x>|*=1+1\u{202e}";
    let said = serde_json::to_string(hostile).unwrap();
    env.write(
        "record/manifest.json",
        &manifest.replace("\"title\": \"Regatta\"", &format!("\"title\": {said}")),
    );
    let markdown = env.run(&["standings", "record", "--markdown"]).out;
    assert!(!markdown.contains("<img"), "{markdown}");
    let text = env.run(&["standings", "record"]).out;
    assert!(text.contains("\\u{202e}") && !text.contains('\u{202e}'), "{text}");
    assert_eq!(env.run(&["report", "record", "-o", "page.html"]).code, 0);
    let page = std::fs::read_to_string(env.path("page.html")).unwrap();
    assert!(page.contains("&lt;img src=x&gt;") && !page.contains('\u{202e}'));
    let xml = env.run(&["report", "record", "-o", "-", "--format", "junit"]).out;
    assert!(xml.contains("name=\"&lt;img src=x&gt;|*=1+1\\u{202e}\""), "{xml}");
}
