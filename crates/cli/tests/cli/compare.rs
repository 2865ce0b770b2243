//! `fairtrial compare` and `fairtrial gate`.

use crate::regatta::{lay_out, sailed};

#[test]
fn two_candidates_are_compared_on_what_both_did() {
    let env = sailed();
    let ran = env.run(&["compare", "record", "tern", "auk"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    insta::assert_snapshot!(without_times(&ran.out));
    let json = env.json(&["compare", "record", "auk", "tern", "--json"]);
    let pair = &json["comparisons"][0];
    assert_eq!((&pair["wins"], &pair["ties"], &pair["losses"]), (&0.into(), &4.into(), &4.into()));
    assert_eq!(pair["difference"], -0.5);
    assert!((pair["p"].as_f64().unwrap() - 0.0625).abs() < 1e-12, "{pair}");
    assert_eq!(pair["established"], false);
    assert_eq!(pair["compared_tasks"][0]["second"]["solved"], 2);
    let unknown = env.run(&["compare", "record", "tern", "puffin"]);
    assert_eq!(unknown.code, 2);
    assert!(unknown.err.contains("there are: tern, auk, gull"), "{}", unknown.err);
}

/// Times differ from run to run.
fn without_times(text: &str) -> String {
    let line = |line: &str| match line.starts_with("leg-") {
        true => line.split_whitespace().take(5).collect::<Vec<_>>().join(" "),
        false => line.to_owned(),
    };
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

#[test]
fn one_task_stands_side_by_side() {
    let env = sailed();
    let ran = env.run(&["compare", "record", "tern", "auk", "--task", "leg-8", "--sample", "2"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let row = ran.out.lines().find(|it| it.contains("return a + 8")).unwrap();
    assert!(row.contains("│     return a - 8"), "{}", ran.out);
    assert!(ran.out.lines().all(|it| it.chars().count() <= 100), "{}", ran.out);
    let none = env.run(&["compare", "record", "tern", "auk", "--task", "leg-9"]);
    assert_eq!(none.code, 2, "{}", none.err);
}

#[test]
fn two_records_are_compared_candidate_by_candidate() {
    let env = sailed();
    std::fs::rename(env.path("record"), env.path("old")).unwrap();
    lay_out(&env, "");
    // The new auk solves everything, and one task is another one.
    std::fs::copy(env.path("tern.jsonl"), env.path("auk.jsonl")).unwrap();
    env.write("docket/leg-1/sealed/calls.jsonl", "{\"args\": [31], \"returns\": 32}\n");
    // And gull is not quite who it was.
    let plan = std::fs::read_to_string(env.path("plan.toml")).unwrap();
    let (before, gull) = plan.split_at(plan.find("name = \"gull\"").unwrap());
    env.write("plan.toml", &(before.to_owned() + &gull.replace("small", "tiny")));
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let json = env.json(&["compare", "old", "record", "--json"]);
    let pairs = json["comparisons"].as_array().unwrap();
    let auk = pairs.iter().find(|it| it["first"] == "auk (new)").unwrap();
    assert_eq!((&auk["tasks"], &auk["wins"]), (&7.into(), &4.into()));
    assert_eq!(auk["changed"][0], "leg-1");
    let ran = env.run(&["compare", "old", "record"]);
    assert!(
        ran.out.contains("Not the same task in both, and not compared: leg-1 (2/2 and 2/2)"),
        "{}",
        ran.out
    );
    // Together they have twice the samples, but for what is not the same.
    let joint = env.json(&["standings", "old", "record", "--json"]);
    assert_eq!((&joint["tasks"], &joint["samples"]), (&7.into(), &4.into()));
    assert_eq!(joint["candidates"][0]["trials"], 28);
    let gulls = joint["candidates"].as_array().unwrap().iter().filter(|it| it["trials"] == 14);
    let gulls: Vec<_> = gulls.map(|it| it["name"].as_str().unwrap()).collect();
    assert_eq!(gulls, ["gull", "gull (2)"]);
    let xml = env.run(&["report", "old", "record", "-o", "-", "--format", "junit"]).out;
    assert_eq!(xml.matches("<?xml").count(), 1);
    assert!(xml.contains("<testsuite name=\"gull (2)\" tests=\"16\""), "{xml}");
    assert!(xml.contains("<testsuite name=\"tern\" tests=\"32\""), "{xml}");
    let chosen = ["report", "record", "-o", "-", "--format", "junit", "--only", "task=leg-1"];
    assert_eq!(env.run(&chosen).code, 2);
    let alike = env.json(&["standings", "old", "record", "--alike", "--json"]);
    let both = &alike["alike"].as_array().unwrap()[0];
    assert_eq!((&both["first"], &both["second"]), (&"gull".into(), &"gull (2)".into()));
    assert_eq!((&both["both_wrong"], &both["same_wrong"]), (&7.into(), &7.into()));
    let notes = joint["notes"].to_string();
    assert!(notes.contains("`gull (2)` is configured otherwise"), "{notes}");
    assert!(notes.contains("other tasks under these names: leg-1"), "{notes}");
}

#[test]
fn a_gate_says_yes_or_no_by_its_exit_code() {
    let env = sailed();
    for (rule, code) in [
        ("tern solved at least 1", 0),
        ("tern surely solved at least 0.9", 1),
        ("auk solved at most 0.5", 0),
        ("tern better than gull", 0),
        ("tern better than auk", 1),
        ("auk not worse than tern", 0),
        ("auk not worse than tern by more than 0.2", 1),
        ("tern not worse than record", 0),
    ] {
        let ran = env.run(&["gate", "record", "--rule", rule]);
        assert_eq!(ran.code, code, "{rule}: {}{}", ran.out, ran.err);
        let word = if code == 0 { "holds: " } else { "fails: " };
        assert!(ran.out.starts_with(&format!("{word}{rule}; ")), "{}", ran.out);
    }
    // Of a choice of tasks both sorts of rules are about it: on the first legs auk is as good as tern.
    for (leg, solved, code) in
        [("leg-1", "auk solved at least 1", 0), ("leg-8", "auk solved at least 1", 1)]
    {
        let only = format!("task={leg}");
        let ran = env.run(&[
            "gate",
            "record",
            "--only",
            &only,
            "--rule",
            solved,
            "--json",
            "--rule",
            "auk not worse than tern",
        ]);
        assert_eq!(ran.code, code, "{}", ran.out);
        let json: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
        let difference = if code == 0 { 0.0 } else { -1.0 };
        assert_eq!(json["rules"][1]["value"], difference, "{json}");
    }
    // A run that is not complete says so beside its answer.
    let plan = std::fs::read_to_string(env.path("record/manifest.json")).unwrap();
    env.write("record/manifest.json", &plan.replacen("\"samples\": 2", "\"samples\": 3", 1));
    let ran = env.run(&["gate", "record", "--rule", "tern solved at least 1"]);
    assert!(
        ran.code == 0 && ran.err.contains("not complete: 48 of 72 trials are over"),
        "{}",
        ran.err
    );
    let ran = env.run(&["gate", "record", "--rule", "puffin solved at least 0"]);
    assert_eq!(ran.code, 2, "{}", ran.err);
    let ran = env.run(&["gate", "record", "--rule", "tern sings at least 1"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("unknown measure `sings`; allowed are: solved"), "{}", ran.err);
    let both = [
        "gate",
        "record",
        "--json",
        "--rule",
        "tern solved at least 1",
        "--rule",
        "gull solved at least 1",
    ];
    let ran = env.run(&both);
    let json: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    assert_eq!(
        (ran.code, &json["holds"], &json["rules"][0]["holds"]),
        (1, &false.into(), &true.into())
    );
}
