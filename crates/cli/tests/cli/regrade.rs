//! `fairtrial regrade`.

use std::fs;

use crate::bed::Bed;

fn record(bed: &Bed) {
    bed.gap_docket("time = 2");
    let answer = |code: &str| format!("```python\n{code}\n```");
    let right = answer("def gap(a, b):\n    return a - b");
    bed.recorded("", &[("gap", &right)]);
    let ran = bed.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
}

#[test]
fn recorded_answers_get_the_same_verdicts_again() {
    let bed = Bed::new();
    record(&bed);
    let before = bed.json(&["standings", "record", "--json"]);
    let ran = bed.run(&["regrade", "record"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("grading 1: 1 answer judged again"), "{}", ran.out);
    assert!(ran.out.contains("1 the same, 0 not"), "{}", ran.out);
    let json = bed.json(&["regrade", "record", "--json"]);
    assert_eq!((&json["grading"], &json["same"]), (&2.into(), &1.into()));
    assert_eq!(json["rows"][0]["verdict_again"], "pass");
    assert_eq!(before, bed.json(&["standings", "record", "--json"]));
    assert!(
        bed.run(&["show", "record"]).out.contains("judged again: pass"),
        "{}",
        bed.run(&["show", "record"]).out
    );
}

#[test]
fn a_verdict_that_differs_is_told_with_the_reason_and_the_first_one_stands() {
    let bed = Bed::new();
    record(&bed);
    let sealed = bed.path("docket/gap/sealed/calls.jsonl");
    fs::write(
        &sealed,
        "{\"args\": [71, 30], \"returns\": 41}\n{\"args\": [5, 8], \"returns\": 3}\n",
    )
    .unwrap();
    let ran = bed.run(&["regrade", "record"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(ran.out.contains("pass      wrong result  2 → 1 of 2  task changed"), "{}", ran.out);
    let shown = &bed.json(&["show", "record", "--json"])["trials"][0];
    assert_eq!(shown["verdict"], "pass");
    // Another copy of the docket, where the tasks are as they were.
    bed.gap_docket("time = 2");
    fs::rename(bed.path("docket"), bed.path("elsewhere")).unwrap();
    let lost = bed.run(&["regrade", "record"]);
    assert_eq!(lost.code, 2);
    assert!(lost.err.contains("--docket DIR"), "{}", lost.err);
    assert_eq!(bed.run(&["regrade", "record", "--docket", "elsewhere"]).code, 0);
    assert_eq!(bed.run(&["regrade", "nowhere"]).code, 2);
}

#[test]
fn what_comes_and_goes_is_called_unstable() {
    let bed = Bed::new();
    bed.gap_docket("time = 2");
    let answer = "```python\nimport time\ndef gap(a, b):\n    return a - b if time.time() % 0.02 < 0.01 else 0\n```";
    let trial = |n: u32| {
        format!(
            "{{\"task\": \"gap\", \"sample\": {n}, \"answer\": {}}}\n",
            serde_json::json!(answer)
        )
    };
    bed.recorded("samples = 12", &[]);
    bed.write("answers.jsonl", &(1..=12).map(trial).collect::<String>());
    let ran = bed.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let mut seen = false;
    for _ in 0..4 {
        let ran = bed.run(&["regrade", "record"]);
        seen |= ran.code == 1 && ran.out.contains("unstable");
    }
    assert!(seen, "twelve coins fell the same way four times");
}
