//! Streams that nobody reads: what is done, and the exit code, do not depend on them.

use std::path::Path;
use std::process::Command;

use crate::env::{PROGRAM, TestEnv};

/// Runs the program by a shell, with what follows it there; gives the program's own exit code.
fn in_shell(env: &TestEnv, args: &str, after: &str) -> i32 {
    let script = format!("{{ \"$0\" {args}; echo $? > code; }} {after}");
    let mut command: Command = env.command(Path::new("sh"));
    assert!(command.args(["-c", &script, PROGRAM]).status().unwrap().code().is_some());
    let code = std::fs::read_to_string(env.path("code")).unwrap();
    code.trim().parse().unwrap()
}

#[test]
fn a_closed_stream_changes_nothing() {
    // Standard error closed, and a note to print: its tool is missing.
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    env.write("reef.toml", "[reef]\ntitle = \"Reef\"\ntags = []\nextensions = [\"reef\"]\ntool = [\"reefc\"]\nrun = [\"{tool}\"]\n");
    env.write(
        "docket/reef/brief.md",
        "+++\ntitle = \"R\"\nform = \"program\"\nlanguage = \"reef\"\ncategory = \"c\"\ndifficulty = 1\n\
         [program]\nfile = \"m.reef\"\n+++\nGo.\n",
    );
    env.write("docket/reef/sealed/cases.jsonl", "{\"stdout\": \"\"}");
    let answer = "def gap(a, b):\n    return a - b\n";
    env.recorded("languages = [\"reef.toml\"]", &[("gap", answer), ("reef", "x")]);
    for after in ["2>&-", "2>/dev/full", "2>&1 | true", ">&- 2>&-"] {
        let _ = std::fs::remove_dir_all(env.path("record"));
        assert_eq!(in_shell(&env, "run plan.toml", after), 0, "{after}");
        let solved =
            env.json(&["standings", "record", "--json"])["candidates"][0]["solved"].clone();
        assert_eq!(solved, 1, "{after}");
    }
    // Standard output closed: a run that failed has failed.
    let gone = "docket = \"docket\"\nlanguages = [\"reef.toml\"]\n[[candidate]]\nname = \"auk\"\nkind = \"chat\"\n\
         model = \"m\"\nendpoint = \"http://127.0.0.1:9/v1\"\nretries = 0\n";
    env.write("gone.toml", gone);
    for after in ["| true", ">&-", "2>&- | true"] {
        assert_eq!(in_shell(&env, "run gone.toml", after), 3, "{after}");
    }
    assert_eq!(in_shell(&env, "show record --unseal", "| head -c 1"), 0);
    // A disk that is full is no reader who has gone.
    assert_eq!(in_shell(&env, "show record", "> /dev/full"), 3);
}
