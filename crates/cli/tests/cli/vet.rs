//! `fairtrial vet`.

use crate::env::TestEnv;
use crate::needs;

#[test]
fn the_demo_s_docket_holds() {
    if !needs::there(&["node", "javac", "c++"]) {
        return;
    }
    let env = TestEnv::new();
    let docket = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/docket");
    let ran = env.run(&["vet", docket]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    assert!(ran.out.ends_with("21 of 21 tasks hold up.\n"), "{}", ran.out);
    assert!(ran.out.lines().all(|it| it.chars().count() <= 100), "{}", ran.out);
}

#[test]
fn what_does_not_hold_is_told_by_proof_and_test() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    let proof = |name: &str, code: &str| env.write(&format!("docket/gap/proofs/{name}.py"), code);
    proof("right", "def gap(a, b):\n    return a - b\n");
    proof("wrong-sign", "def gap(a, b):\n    return b - a\n");
    let ran = env.run(&["vet", "docket"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""), "{}", ran.out);
    // Tests that pass although the work is broken, a start that passes, and one that is not the same
    // twice.
    proof("right-wrong", "def gap(a, b):\n    return abs(a - b)\n");
    proof("wrong-passes", "def gap(a, b):\n    return a + -b\n");
    proof("wrong-by-turns", "import os\ndef gap(a, b):\n    return os.urandom(4)[0]\n");
    env.write("docket/gap/given/solution.py", "def gap(a, b):\n    return a - b\n");
    let json: serde_json::Value = {
        let ran = env.run(&["vet", "docket", "--json"]);
        assert_eq!(ran.code, 1, "{}", ran.err);
        serde_json::from_str(&ran.out).unwrap()
    };
    let task = &json["tasks"][0];
    assert_eq!((&json["holds"], &task["holds"]), (&false.into(), &false.into()));
    let faults = task["faults"].to_string();
    for part in [
        "the proof `right-wrong` does not pass: fail (wrong result), 1 of 2 tests, first by `call 2`",
        "the proof `wrong-passes` passes",
        "the given files alone passes",
    ] {
        assert!(faults.contains(part), "{part}: {faults}");
    }
    let sign = task["proofs"].as_array().unwrap().iter().find(|it| it["name"] == "wrong-sign");
    assert_eq!(sign.unwrap()["failed_by"], serde_json::json!(["call 1", "call 2"]));
    let one = env.run(&["vet", "docket", "--task", "gap"]);
    assert_eq!(one.code, 1);
    assert!(one.out.contains("0 of 1 task holds up"), "{}", one.out);
    assert_eq!(env.run(&["vet", "docket", "--task", "none"]).code, 2);
    assert_eq!(env.run(&["vet", "nowhere"]).code, 2);
}

#[test]
fn a_proof_that_comes_to_something_else_each_time_is_told() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    env.write("docket/gap/proofs/right.py", "def gap(a, b):\n    return a - b\n");
    // It fails one of the two tests, and which one is a matter of chance: forty calls agree by chance
    // once in 2 to the 40.
    let calls = "{\"args\": [5, 8], \"returns\": -3}\n".repeat(40);
    env.write("docket/gap/sealed/calls.jsonl", &calls);
    env.write(
        "docket/gap/proofs/wrong-by-chance.py",
        "import os\ndef gap(a, b):\n    return a - b if os.urandom(1)[0] < 128 else 7\n",
    );
    let ran = env.run(&["vet", "docket"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(ran.out.replace('\n', " ").contains("not the same every time"), "{}", ran.out);
}

#[test]
fn names_of_unit_tests_are_those_that_the_runner_reports() {
    let env = TestEnv::new();
    env.write("docket/docket.toml", "title = \"Tides\"\n");
    env.write(
        "docket/toll/brief.md",
        "+++\ntitle = \"Toll\"\nform = \"tests\"\nlanguage = \"python\"\ncategory = \"c\"\ndifficulty = 1\n\
         [tests]\nfile = \"toll.py\"\nrunner = \"unittest\"\n+++\nWrite toll(n). It begins as\n\n    \
         self.assertEqual(toll(3), 6)\n",
    );
    env.write(
        "docket/toll/sealed/test_toll.py",
        "import unittest\nfrom toll import toll\n\nclass Toll(unittest.TestCase):\n    def test_one(self):\n        \
         self.assertEqual(toll(3), 6)\n    def test_two(self):\n        self.assertEqual(toll(4), 8)\n",
    );
    env.write(
        "docket/toll/sealed/tests.list",
        "test_toll.Toll.test_one\ntest_toll.Toll.test_tow\n",
    );
    env.write("docket/toll/proofs/right.py", "def toll(n):\n    return 2 * n\n");
    env.write("docket/toll/proofs/wrong.py", "def toll(n):\n    return 3 * n\n");
    let ran = env.run(&["vet", "docket"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    let out = ran.out.replace('\n', " ");
    for part in [
        "in `tests.list`, but not reported: `test_toll.Toll.test_tow`",
        "reported, but not in `tests.list`: `test_toll.Toll.test_two`",
        "a line of `sealed/test_toll.py` is shown: self.assertEqual(toll(3), 6)",
    ] {
        assert!(out.contains(part), "{part}: {out}");
    }
}

#[test]
fn where_unit_tests_run_is_told_and_both_are_tried() {
    let env = TestEnv::new();
    env.write("docket/docket.toml", "title = \"Tides\"\n");
    let brief = |process: &str| {
        format!(
            "+++\ntitle = \"Toll\"\nform = \"tests\"\nlanguage = \"python\"\ncategory = \"c\"\ndifficulty = 1\n\
             [tests]\nfile = \"toll.py\"\nrunner = \"unittest\"\n{process}\n+++\nWrite toll(n), without a loop.\n"
        )
    };
    let suite = |look: &str| {
        format!(
            "import inspect\nimport unittest\nimport toll\n\nclass Toll(unittest.TestCase):\n    def test_one(self):\n        \
             self.assertEqual(toll.toll(3), 6)\n        {look}\n"
        )
    };
    let source = "self.assertNotIn('for', inspect.getsource(toll))";
    for (task, process, look) in
        [("reads", "", source), ("plain", "process = \"shared\"", "pass"), ("fair", "", "pass")]
    {
        env.write(&format!("docket/{task}/brief.md"), &brief(process));
        env.write(&format!("docket/{task}/sealed/test_toll.py"), &suite(look));
        env.write(&format!("docket/{task}/sealed/tests.list"), "test_toll.Toll.test_one\n");
        env.write(&format!("docket/{task}/proofs/right.py"), "def toll(n):\n    return 2 * n\n");
        env.write(&format!("docket/{task}/proofs/wrong.py"), "def toll(n):\n    return 3 * n\n");
    }
    let ran = env.run(&["vet", "docket"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    let out = ran.out.split_whitespace().collect::<Vec<_>>().join(" ");
    for part in [
        "reads tests, apart 0/1",
        "plain tests, shared 1/1",
        "fair tests, apart 1/1",
        "reads: its right proofs pass with `process = \"shared\"`",
        "The right proofs of `plain` pass apart, too",
        "2 of 3 tasks hold up.",
    ] {
        assert!(out.contains(part), "{part}: {out}");
    }
    let closed = "def toll(n):\n    import ctypes\n    return 2 * n\n";
    env.write("docket/plain/proofs/right.py", closed);
    let ran = env.run(&["vet", "docket"]);
    let out = ran.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        out.contains("plain: its right proofs pass with `process = \"apart\"`: in one"),
        "{out}"
    );
    assert!(!out.contains("The right proofs of `plain` pass apart, too"), "{out}");
    let go = brief("process = \"apart\"").replace("python", "go").replace("unittest", "go");
    env.write("docket/fair/brief.md", &go.replace("toll.py", "toll.go"));
    let ran = env.run(&["vet", "docket"]);
    assert_eq!(ran.code, 2, "{}", ran.out);
    assert!(ran.err.contains("is not offered for the runner `go`"), "{}", ran.err);
}

#[test]
fn a_proof_that_cannot_be_put_on_proves_nothing() {
    let env = TestEnv::new();
    env.demo_docket(&["night-tide"]);
    let patch = |hunk: &str| format!("--- a/merrow/tides.py\n+++ b/merrow/tides.py\n{hunk}");
    env.write(
        "docket/night-tide/proofs/wrong-elsewhere.patch",
        &patch("@@ -1,3 +1,3 @@\n nothing\n-like\n+this\n here\n"),
    );
    let right = std::fs::read_to_string(env.path("docket/night-tide/proofs/right.patch")).unwrap();
    let miscounted = right.replacen(",4 +", ",9 +", 1);
    assert_ne!(miscounted, right);
    env.write("docket/night-tide/proofs/wrong-miscounted.patch", &miscounted);
    let ran = env.run(&["vet", "docket"]);
    assert_eq!(ran.code, 1, "{}", ran.out);
    let said = ran.out.split_whitespace().collect::<Vec<_>>().join(" ");
    for part in [
        "the proof `wrong-elsewhere` proves nothing: patch does not apply",
        "the proof `wrong-miscounted` proves nothing: not in the form asked for: not to the letter: wrong head in patch",
    ] {
        assert!(said.contains(part), "{part}: {}", ran.out);
    }
}
