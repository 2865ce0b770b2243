//! Bad input: a clear error, the right exit code, nothing lost.

use std::fs;

use crate::env::TestEnv;

#[test]
fn bad_files_are_told_with_their_place() {
    let env = TestEnv::new();
    let mut said = String::new();
    let mut check = |what: &str, file: &str, text: Option<&str>, part: &str| {
        env.gap_docket("time = 1");
        env.recorded("", &[("gap", "def gap(a, b): return a - b")]);
        match text {
            Some(text) => env.write(file, text),
            None => fs::remove_file(env.path(file)).unwrap(),
        }
        let ran = env.run(&["run", "plan.toml"]);
        assert_eq!(ran.code, 2, "{what}: {}", ran.err);
        assert!(ran.err.contains(part), "{what}: {}", ran.err);
        assert!(!env.path("record").exists(), "{what}: a record was begun");
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
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    env.chats("", "http://127.0.0.1:9/v1", &["petrel"], "key_env = \"HARBOUR_KEY\"");
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("the environment variable `HARBOUR_KEY` is not set"), "{}", ran.err);
    assert!(ran.err.contains("hint: set it for this command"), "{}", ran.err);
}

#[test]
fn records_that_are_none_or_too_new_are_refused() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    env.recorded("", &[("gap", "def gap(a, b): return a - b")]);
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    for command in
        [&["standings", "docket"][..], &["show", "nowhere"], &["show", "docket", "--json"]]
    {
        let ran = env.run(command);
        assert_eq!(ran.code, 2, "{command:?}");
        assert!(ran.err.contains("is no record"), "{}", ran.err);
    }
    let manifest = fs::read_to_string(env.path("record/manifest.json")).unwrap();
    let newer = manifest.replacen("\"format_version\": 8", "\"format_version\": 9", 1);
    assert_ne!(manifest, newer);
    env.write("record/manifest.json", &newer);
    for command in [&["standings", "record"][..], &["run", "plan.toml"]] {
        let ran = env.run(command);
        assert_eq!(ran.code, 2, "{command:?}");
        assert!(ran.err.contains("has format 9; this version reads up to 8"), "{}", ran.err);
    }
    assert_eq!(fs::read_to_string(env.path("record/manifest.json")).unwrap(), newer);
}

#[test]
fn a_docket_holds_as_much_as_its_settings_say() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    env.recorded("", &[("gap", "def gap(a, b): return a - b")]);
    let settings = fs::read_to_string(env.path("docket/docket.toml")).unwrap();
    env.write("docket/gap/large.bin", &"x".repeat(2 << 20));
    env.write("docket/docket.toml", &format!("size = \"1 MiB\"\n{settings}"));
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 2, "{}", ran.err);
    assert!(ran.err.contains("holds more than 1 MiB; `size` in its `docket.toml`"), "{}", ran.err);
    env.write("docket/docket.toml", &format!("size = \"3 MiB\"\n{settings}"));
    let ran = env.run(&["run", "plan.toml"]);
    assert!(!ran.err.contains("holds more"), "{}", ran.err);
    env.write("docket/docket.toml", &format!("size = \"much\"\n{settings}"));
    assert!(env.run(&["run", "plan.toml"]).err.contains("docket.toml`, line 1"));
}

#[test]
fn what_is_sealed_may_not_lie_where_it_can_be_read() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    env.recorded("", &[("gap", "def gap(a, b): return a - b")]);
    // A language that shows the very folder of the docket; then one that shows only the record's.
    let definition = |folder: &str| {
        format!(
            "[python]\ntitle = \"Python\"\ntags = [\"python\"]\nextensions = [\"py\"]\n\
             tool = [\"python3\"]\nrun = [\"{{tool}}\", \"{{file}}\"]\ncall = [\"{{tool}}\", \
             \"{{driver}}\"]\nlocate = [\"-c\", \"import sys; print(sys.executable); \
             print('{folder}')\"]\n"
        )
    };
    let plan = fs::read_to_string(env.path("plan.toml")).unwrap();
    env.write("plan.toml", &format!("languages = [\"r.toml\"]\n{plan}"));
    let folder = fs::canonicalize(env.path("docket")).unwrap();
    for (shown, part) in [
        (folder.clone(), "the docket `docket`"),
        (folder.with_file_name("seen"), "the record `seen/r`"),
    ] {
        fs::create_dir_all(&shown).unwrap();
        env.write("r.toml", &definition(shown.to_str().unwrap()));
        let ran = env.run(&["run", "plan.toml", "--record", "seen/r"]);
        assert_eq!(ran.code, 2, "{}", ran.err);
        assert!(ran.err.contains(part) && ran.err.contains("hint: keep it outside"), "{}", ran.err);
        assert!(!env.path("seen/r").exists());
    }
}

#[test]
fn wrong_calls_of_the_program_exit_with_2() {
    let env = TestEnv::new();
    for args in
        [&[][..], &["sail"], &["run"], &["standings"], &["run", "a", "b"], &["demo", "--seed", "x"]]
    {
        assert_eq!(env.run(args).code, 2, "{args:?}");
    }
    let help = env.run(&["--help"]);
    assert_eq!((help.code, help.err.as_str()), (0, ""));
    insta::assert_snapshot!(help.out);
}

#[test]
fn a_language_that_is_not_there_makes_void_cells_and_a_note() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    env.write(
        "docket/reef/brief.md",
        "+++\ntitle = \"Reef\"\nform = \"program\"\nlanguage = \"reef\"\ncategory = \"basics\"\n\
         difficulty = 1\n[program]\nfile = \"main.reef\"\n+++\nSay hello.\n",
    );
    env.write("docket/reef/sealed/cases.jsonl", "{\"stdout\": \"hello\"}");
    env.write(
        "reef.toml",
        "[reef]\ntitle = \"Reef\"\ntags = [\"reef\"]\nextensions = [\"reef\"]\ntool = \
         [\"reefc\"]\nrun = [\"{tool}\", \"{file}\"]\n",
    );
    let answers = [("gap", "def gap(a, b):\n    return a - b\n"), ("reef", "```reef\nhello\n```")];
    env.recorded("languages = [\"reef.toml\"]", &answers);
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(
        ran.err.contains("reef cannot be run here: `reefc` is not on the search path"),
        "{}",
        ran.err
    );
    assert!(ran.out.contains("Void trials count for nobody: 1 tool missing."), "{}", ran.out);
    // A language of the user's own, for a tool that is there.
    let awk = "[reef]\ntitle = \"Reef\"\ntags = [\"reef\"]\nextensions = [\"reef\"]\ntool = \
               [\"cat\"]\nrun = [\"{tool}\", \"{file}\"]\n";
    env.write("reef.toml", awk);
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let row = &env.json(&["standings", "record", "--json"])["candidates"][0];
    assert_eq!((&row["solved"], &row["void"]), (&2.into(), &0.into()));
}
