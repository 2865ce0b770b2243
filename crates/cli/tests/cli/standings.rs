//! `fairtrial standings`.

use crate::bed::Bed;

/// A record of two candidates with recorded answers to `gap`, one right and one wrong.
fn two_candidates(bed: &Bed, samples: u32) {
    bed.gap_docket("time = 2");
    bed.write("right.jsonl", "");
    let row = |code: &str, sample: u32| {
        serde_json::json!({"task": "gap", "sample": sample, "answer": code}).to_string() + "\n"
    };
    let all = |code: &str| (1..=samples).map(|it| row(code, it)).collect::<String>();
    bed.write("right.jsonl", &all("```python\ndef gap(a, b):\n    return a - b\n```"));
    bed.write("wrong.jsonl", &all("def gap(a, b):\n    return a + b\n"));
    bed.write(
        "plan.toml",
        &format!(
            "title = \"Tides\"\ndocket = \"docket\"\nsamples = {samples}\ncurrency = \"EUR\"\n\
             [[candidate]]\nname = \"dinghy\"\nkind = \"recorded\"\npath = \"right.jsonl\"\n\
             [[candidate]]\nname = \"skiff\"\nkind = \"recorded\"\npath = \"wrong.jsonl\"\n"
        ),
    );
    assert_eq!(bed.run(&["run", "plan.toml"]).code, 0);
}

#[test]
fn the_table_and_its_notes_read_well() {
    let bed = Bed::new();
    two_candidates(&bed, 2);
    let ran = bed.run(&["standings", "record"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!(ran.out);
}

#[test]
fn one_task_is_too_little_to_tell_candidates_apart() {
    let bed = Bed::new();
    two_candidates(&bed, 3);
    let json = bed.json(&["standings", "record", "--json"]);
    let rows = json["candidates"].as_array().unwrap();
    assert_eq!((&rows[0]["solved_rate"], &rows[1]["solved_rate"]), (&1.0.into(), &0.0.into()));
    assert_eq!((&rows[0]["rank"], &rows[1]["rank"]), (&1.into(), &1.into()));
    assert_eq!(json["comparisons"][0]["established"], false);
    assert_eq!(json["format_version"], 1);
}
