//! The complete example.

use crate::env::TestEnv;
use crate::needs;

#[test]
fn the_demo_ranks_its_models_by_the_skill_they_were_given() {
    if !needs::there(&["node", "javac", "c++"]) {
        return;
    }
    let env = TestEnv::new();
    let ran = env.run(&["demo", "--out", "demo"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("Look next:"), "{}", ran.out);
    let table = ran.out.lines().take_while(|line| *line != "Look next:");
    assert!(table.into_iter().all(|line| line.chars().count() <= 100), "{}", ran.out);
    let standings = env.json(&["standings", "demo/record", "--json"]);
    let rows = standings["candidates"].as_array().unwrap();
    let names: Vec<_> = rows.iter().map(|row| row["name"].as_str().unwrap()).collect();
    assert_eq!((names[0], names[3]), ("kittiwake", "puffin"), "{names:?}");
    assert_eq!((&rows[0]["rank"], &rows[3]["rank"]), (&1.into(), &4.into()));
    for row in rows {
        let counted = row["trials"].as_u64().unwrap() + row["void"].as_u64().unwrap();
        assert_eq!(counted, 63);
        assert!(row["cost"].as_f64().unwrap() > 0.0);
    }
    assert_eq!(standings["complete"], true);
    // Agents are ranked over the tasks that they stand for, beside the models.
    let narrow = &standings["narrower"][0];
    assert_eq!(narrow["candidates"].as_array().unwrap().len(), 11);
    let shown = env.json(&["show", "demo/record", "--json"]);
    for (agent, reason) in [
        ("skiff", serde_json::Value::Null),
        ("dory", "broke what worked".into()),
        ("punt", "wrong result".into()),
        ("coracle", "empty change".into()),
        ("gig", "wrong result".into()),
        ("yawl", serde_json::Value::Null),
        ("wherry", serde_json::Value::Null),
    ] {
        let trials =
            shown["trials"].as_array().unwrap().iter().filter(|it| it["candidate"] == agent);
        let reasons: Vec<_> = trials.map(|it| &it["reason"]).collect();
        assert_eq!(reasons, vec![&reason; 6], "{agent}");
    }
    let trouble = |agent: &str, sort: &str| {
        let rows = standings["trouble"].as_array().unwrap();
        let row = rows.iter().find(|it| it["candidate"] == agent);
        row.map_or(0, |it| it[sort].as_u64().unwrap())
    };
    assert_eq!(trouble("coracle", "repeated"), 6, "{:#}", standings["trouble"]);
    assert_eq!((trouble("dory", "turned_red"), trouble("gig", "false_claims")), (6, 6));
    assert_eq!((trouble("skiff", "repeated"), trouble("wherry", "false_claims")), (0, 0));
    // Everything is done, so nothing is run again, and the standings stay.
    let again = env.run(&["demo", "--out", "demo"]);
    assert_eq!(again.code, 0, "{}", again.err);
    assert!(again.err.contains("trials 294 of 294"), "{}", again.err);
    assert_eq!(env.json(&["standings", "demo/record", "--json"]), standings);
}

#[test]
fn a_folder_that_holds_something_else_is_left_alone() {
    let env = TestEnv::new();
    env.write("demo/letters.txt", "dear harbour master");
    let ran = env.run(&["demo", "--out", "demo"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("is no demo of this version"), "{}", ran.err);
    assert!(!env.path("demo/plan.toml").exists());
}

#[test]
fn the_same_seed_gives_the_same_verdicts_and_another_seed_others() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap", "harbour-toll", "tow-order", "pilot-roster"]);
    let standin = env.standin(&[], &[]);
    let verdicts = |seed: u32, record: &str| {
        let head = format!("samples = 3\nattempts = 2\nseed = {seed}");
        env.chats(&head, &standin.address, &["petrel", "puffin"], "");
        let ran = env.run(&["run", "plan.toml", "--record", record]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        let shown = env.json(&["show", record, "--json"]);
        let mut rows: Vec<String> = shown["trials"]
            .as_array()
            .unwrap()
            .iter()
            .map(|trial| {
                let attempts = trial["attempts"].as_array().unwrap();
                let answers: Vec<_> =
                    attempts.iter().map(|it| (&it["answer"], &it["reason"])).collect();
                format!("{} {} {} {answers:?}", trial["candidate"], trial["task"], trial["sample"])
            })
            .collect();
        rows.sort();
        rows
    };
    let first = verdicts(1, "a.record");
    assert_eq!(first.len(), 24);
    assert_eq!(first, verdicts(1, "b.record"));
    assert_ne!(first, verdicts(2, "c.record"));
}
