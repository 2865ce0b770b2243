//! Records and plans that come from strangers.

use std::fs;
use std::process::Command;

use crate::env::TestEnv;

/// A language whose every command leaves a mark, where it can.
fn marking(mark: &str) -> String {
    let touch = format!("touch {mark}; echo /bin/sh; echo 1.0");
    format!(
        "[reef]\ntitle = \"Reef\"\ntags = [\"reef\"]\nextensions = [\"reef\"]\ntool = [\"sh\"]\n\
         locate = [\"-c\", \"{touch}\"]\nversion = [\"-c\", \"{touch}\"]\nrun = [\"{{tool}}\", \"{{file}}\"]\n"
    )
}

fn lay_out(env: &TestEnv) {
    let mark = env.path("mark").display().to_string();
    env.write("reef.toml", &marking(&mark));
    env.write("docket/docket.toml", "title = \"Tides\"\n");
    env.write(
        "docket/reef/brief.md",
        "+++\ntitle = \"R\"\nform = \"program\"\nlanguage = \"reef\"\ncategory = \"c\"\ndifficulty = 1\n\
         [program]\nfile = \"m.reef\"\n+++\nGo.\n",
    );
    env.write("docket/reef/sealed/cases.jsonl", "{\"stdout\": \"fair\"}");
    env.recorded("languages = [\"reef.toml\"]", &[("reef", "```reef\necho fair\n```")]);
}

#[test]
fn a_record_s_languages_are_shown_and_never_run() {
    let env = TestEnv::new();
    lay_out(&env);
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("1/1"), "{}", ran.out);
    assert!(!env.path("mark").exists(), "a command of a language ran outside of the sandbox");
    let refused = env.run(&["regrade", "record"]);
    assert_eq!(refused.code, 2, "{}", refused.err);
    for part in
        ["languages that its plan defined: `reef`", "--languages FILE", "`reef` has the tool `sh`"]
    {
        assert!(refused.err.contains(part), "{part}: {}", refused.err);
    }
    let again = env.run(&["regrade", "record", "--languages", "reef.toml"]);
    assert_eq!(again.code, 0, "{}{}", again.out, again.err);
    // Defined otherwise than in the record: said where a verdict differs.
    let other = fs::read_to_string(env.path("reef.toml"))
        .unwrap()
        .replace("\"{file}\"", "\"-c\", \"exit 3\"");
    env.write("other.toml", &other);
    let differs = env.run(&["regrade", "record", "--languages", "other.toml"]);
    assert_eq!(differs.code, 1, "{}{}", differs.out, differs.err);
    assert!(differs.out.contains("language defined otherwise"), "{}", differs.out);
    assert!(!env.path("mark").exists());
}

#[test]
fn values_of_headers_are_written_nowhere() {
    let env = TestEnv::new();
    env.demo_docket(&["tide-gap"]);
    let standin = env.standin(&[], &[]);
    env.chats("", &standin.address, &["petrel"], "headers = { x-harbour = \"seaworthy-1234\" }");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let manifest = fs::read_to_string(env.path("record/manifest.json")).unwrap();
    assert!(manifest.contains("x-harbour") && !manifest.contains("seaworthy"), "{manifest}");
    let found =
        Command::new("grep").args(["-r", "seaworthy-1234"]).arg(env.path("record")).output();
    assert_eq!(String::from_utf8_lossy(&found.unwrap().stdout), "");
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0, "the same plan goes on");
}

#[test]
fn pipes_and_endless_files_are_refused() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    assert!(Command::new("mkfifo").arg(env.path("pipe")).status().unwrap().success());
    for path in ["pipe", "/dev/zero"] {
        env.recorded("", &[]);
        let plan = fs::read_to_string(env.path("plan.toml")).unwrap();
        env.write("odd.toml", &plan.replace("answers.jsonl", path));
        for command in [&["run", "odd.toml"][..], &["run", path], &["doctor", "--languages", path]]
        {
            let ran = env.run(command);
            assert_eq!(ran.code, 2, "{command:?}: {}", ran.err);
            assert!(ran.err.contains("is no regular file"), "{command:?}: {}", ran.err);
        }
    }
}
