//! Bad input: a clear error, the right exit code, nothing lost.

use std::fs;

use crate::bed::Bed;

#[test]
fn bad_files_are_told_with_their_place() {
    let bed = Bed::new();
    let mut said = String::new();
    let mut check = |what: &str, file: &str, text: Option<&str>, part: &str| {
        bed.gap_docket("time = 1");
        bed.recorded("", &[("gap", "def gap(a, b): return a - b")]);
        match text {
            Some(text) => bed.write(file, text),
            None => fs::remove_file(bed.path(file)).unwrap(),
        }
        let ran = bed.run(&["run", "plan.toml"]);
        assert_eq!(ran.code, 2, "{what}: {}", ran.err);
        assert!(ran.err.contains(part), "{what}: {}", ran.err);
        assert!(!bed.path("record").exists(), "{what}: a record was begun");
        said.push_str(&format!("# {what}\n{}\n", ran.err));
    };
    let brief = "+++\ntitle = \"G\"\nform = \"cal\"\n+++\nx\n";
    let plan = "docket = \"docket\"\nsample = 3\n";
    check("no plan", "plan.toml", None, "failed to read `plan.toml`");
    check("broken plan", "plan.toml", Some("docket = \n"), "line 1");
    check("unknown key", "plan.toml", Some(plan), "unknown field `sample`");
    check("no docket", "docket/docket.toml", None, "docket.toml`: it is missing");
    check("unknown form", "docket/gap/brief.md", Some(brief), "line 3, column 8");
    check("no sealed calls", "docket/gap/sealed/calls.jsonl", None, "calls.jsonl`: it is missing");
    check(
        "bad call",
        "docket/gap/sealed/calls.jsonl",
        Some("{\"args\": [1]}\n{\"args\":"),
        "line 2",
    );
    check("no answers", "answers.jsonl", None, "failed to read `answers.jsonl`");
    check("bad answer", "answers.jsonl", Some("{\"task\": \"gap\"}"), "line 1: exactly one of");
    insta::assert_snapshot!(said);
}

#[test]
fn a_key_that_is_not_set_is_noticed_before_anything_is_asked() {
    let bed = Bed::new();
    bed.demo_docket(&["tide-gap"]);
    bed.chats("", "http://127.0.0.1:9/v1", &["petrel"], "key_env = \"HARBOUR_KEY\"");
    let ran = bed.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("the environment variable `HARBOUR_KEY` is not set"), "{}", ran.err);
    assert!(ran.err.contains("hint: set it for this command"), "{}", ran.err);
}

#[test]
fn records_that_are_none_or_too_new_are_refused() {
    let bed = Bed::new();
    bed.gap_docket("time = 1");
    bed.recorded("", &[("gap", "def gap(a, b): return a - b")]);
    assert_eq!(bed.run(&["run", "plan.toml"]).code, 0);
    for command in
        [&["standings", "docket"][..], &["show", "nowhere"], &["show", "docket", "--json"]]
    {
        let ran = bed.run(command);
        assert_eq!(ran.code, 2, "{command:?}");
        assert!(ran.err.contains("is no record"), "{}", ran.err);
    }
    let manifest = fs::read_to_string(bed.path("record/manifest.json")).unwrap();
    let newer = manifest.replacen("\"format_version\": 1", "\"format_version\": 9", 1);
    assert_ne!(manifest, newer);
    bed.write("record/manifest.json", &newer);
    for command in [&["standings", "record"][..], &["run", "plan.toml"]] {
        let ran = bed.run(command);
        assert_eq!(ran.code, 2, "{command:?}");
        assert!(ran.err.contains("has format 9; this version reads up to 1"), "{}", ran.err);
    }
    assert_eq!(fs::read_to_string(bed.path("record/manifest.json")).unwrap(), newer);
}

#[test]
fn what_is_sealed_may_not_lie_where_it_can_be_read() {
    let bed = Bed::new();
    bed.gap_docket("time = 1");
    bed.recorded("", &[("gap", "def gap(a, b): return a - b")]);
    // A recipe that shows the very folder of the docket; then one that shows only the record's.
    let recipe = |folder: &str| {
        format!(
            "[python]\ntitle = \"Python\"\ntags = [\"python\"]\nextensions = [\"py\"]\n\
             tool = [\"python3\"]\nrun = [\"{{tool}}\", \"{{file}}\"]\ncall = [\"{{tool}}\", \
             \"{{driver}}\"]\nlocate = [\"-c\", \"import sys; print(sys.executable); \
             print('{folder}')\"]\n"
        )
    };
    let plan = fs::read_to_string(bed.path("plan.toml")).unwrap();
    bed.write("plan.toml", &format!("recipes = [\"r.toml\"]\n{plan}"));
    let folder = fs::canonicalize(bed.path("docket")).unwrap();
    for (shown, part) in [
        (folder.clone(), "the docket `docket`"),
        (folder.with_file_name("seen"), "the record `seen/r`"),
    ] {
        fs::create_dir_all(&shown).unwrap();
        bed.write("r.toml", &recipe(shown.to_str().unwrap()));
        let ran = bed.run(&["run", "plan.toml", "--record", "seen/r"]);
        assert_eq!(ran.code, 2, "{}", ran.err);
        assert!(ran.err.contains(part) && ran.err.contains("hint: keep it outside"), "{}", ran.err);
        assert!(!bed.path("seen/r").exists());
    }
}

#[test]
fn wrong_calls_of_the_program_exit_with_2() {
    let bed = Bed::new();
    for args in
        [&[][..], &["sail"], &["run"], &["standings"], &["run", "a", "b"], &["demo", "--seed", "x"]]
    {
        assert_eq!(bed.run(args).code, 2, "{args:?}");
    }
    let help = bed.run(&["--help"]);
    assert_eq!((help.code, help.err.as_str()), (0, ""));
    insta::assert_snapshot!(help.out);
}

#[test]
fn a_language_that_is_not_there_makes_void_cells_and_a_note() {
    let bed = Bed::new();
    bed.gap_docket("time = 1");
    bed.write(
        "docket/reef/brief.md",
        "+++\ntitle = \"Reef\"\nform = \"program\"\nlanguage = \"reef\"\ncategory = \"basics\"\n\
         difficulty = 1\n[program]\nfile = \"main.reef\"\n+++\nSay hello.\n",
    );
    bed.write("docket/reef/sealed/cases.jsonl", "{\"stdout\": \"hello\"}");
    bed.write(
        "reef.toml",
        "[reef]\ntitle = \"Reef\"\ntags = [\"reef\"]\nextensions = [\"reef\"]\ntool = \
         [\"reefc\"]\nrun = [\"{tool}\", \"{file}\"]\n",
    );
    let answers = [("gap", "def gap(a, b):\n    return a - b\n"), ("reef", "```reef\nhello\n```")];
    bed.recorded("recipes = [\"reef.toml\"]", &answers);
    let ran = bed.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(
        ran.err.contains("reef cannot be run here: `reefc` is not on the search path"),
        "{}",
        ran.err
    );
    assert!(ran.out.contains("Void trials count for nobody: 1 tool missing."), "{}", ran.out);
    // A recipe of the user's own, for a tool that is there.
    let awk = "[reef]\ntitle = \"Reef\"\ntags = [\"reef\"]\nextensions = [\"reef\"]\ntool = \
               [\"cat\"]\nrun = [\"{tool}\", \"{file}\"]\n";
    bed.write("reef.toml", awk);
    assert_eq!(bed.run(&["run", "plan.toml"]).code, 0);
    let row = &bed.json(&["standings", "record", "--json"])["candidates"][0];
    assert_eq!((&row["solved"], &row["void"]), (&2.into(), &0.into()));
}
