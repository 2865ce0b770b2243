//! Recorded answers of every kind, judged.

use std::fs;
use std::path::Path;

use serde_json::json;

use crate::env::TestEnv;
use crate::needs;

/// Every task of the demo, answered by its own proofs of one kind.
fn judge_proofs(kind: &str) -> Vec<(String, String)> {
    let env = TestEnv::new();
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/docket");
    let (mut tasks, mut lines) = (Vec::new(), String::new());
    let mut samples = 0;
    for entry in fs::read_dir(&demo).unwrap().map(Result::unwrap) {
        let Ok(proofs) = fs::read_dir(entry.path().join("proofs")) else {
            continue;
        };
        let task = entry.file_name().into_string().unwrap();
        let mut files: Vec<_> = proofs.map(|it| it.unwrap().path()).collect();
        files.sort();
        files.retain(|it| it.file_name().unwrap().to_string_lossy().starts_with(kind));
        for (index, file) in files.iter().enumerate() {
            let answer = format!("```\n{}```", fs::read_to_string(file).unwrap());
            let sample = index + 1;
            lines.push_str(&json!({"task": task, "sample": sample, "answer": answer}).to_string());
            lines.push('\n');
            samples = samples.max(sample);
        }
        tasks.push(task);
    }
    env.demo_docket(&tasks.iter().map(String::as_str).collect::<Vec<_>>());
    env.recorded(&format!("samples = {samples}"), &[]);
    env.write("answers.jsonl", &lines);
    // Not every task has as many proofs: the trials without an answer are void.
    let ran = env.run(&["run", "plan.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let shown = env.json(&["show", "record", "--json"]);
    let trials = shown["trials"].as_array().unwrap();
    let verdict = |trial: &serde_json::Value| {
        let text = |key: &str| trial[key].as_str().unwrap_or_default().to_owned();
        (format!("{} {}", text("task"), trial["sample"]), text("verdict"))
    };
    let verdicts: Vec<_> = trials.iter().map(verdict).filter(|it| it.1 != "void").collect();
    assert_eq!(verdicts.len(), lines.lines().count());
    verdicts
}

#[test]
fn right_answers_get_every_trial() {
    if !needs::there(&["node", "javac", "c++"]) {
        return;
    }
    for (trial, verdict) in judge_proofs("right") {
        assert_eq!(verdict, "pass", "{trial}");
    }
}

#[test]
fn wrong_answers_get_none() {
    if !needs::there(&["node", "javac", "c++"]) {
        return;
    }
    for (trial, verdict) in judge_proofs("wrong") {
        assert_eq!(verdict, "fail", "{trial}");
    }
}

#[test]
fn each_way_to_fail_has_its_own_reason() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    for (answer, reason) in [
        ("def gap(a, b):\n    return b - a\n", "wrong result"),
        ("async def gap(a, b):\n    return a - b\n", "wrong result"),
        ("def gap(a, b):\n    return a / 0\n", "crashed"),
        ("def gap(a, b):\n    import os; os._exit(0)\n", "crashed"),
        ("def gap(a, b):\n    while True: pass\n", "timed out"),
        ("def gap(a, b:\n    return a\n", "did not build"),
        ("def gip(a, b):\n    return a - b\n", "did not build"),
        ("import nowhere\ndef gap(a, b):\n    return a - b\n", "did not build"),
        ("First, subtract the one from the other.", "no code found"),
        ("```js\nfunction gap(a, b) { return a - b; }\n```", "wrong language"),
        ("def gap(a, b):\n    # rest as before\n    pass\n", "incomplete"),
    ] {
        let attempt = env.judge_gap(answer);
        assert_eq!(attempt["reason"], reason, "{answer}: {attempt:#}");
        assert_eq!(attempt["tests_total"], 2, "{answer}");
    }
}

#[test]
fn honest_oddities_pass() {
    let env = TestEnv::new();
    env.gap_docket("time = 2\nmemory = \"320 MiB\"");
    for answer in [
        "import sys\nprint('x' * 10000)\nsys.stderr.write('noise')\ndef gap(a, b):\n    print(a)\n    return a - b\n",
        "import threading\ndef gap(a, b):\n    out = []\n    t = threading.Thread(target=lambda: out.append(a - b))\n    t.start(); t.join()\n    return out[0]\n",
        "import subprocess\ndef gap(a, b):\n    return int(subprocess.run(['expr', str(a), '-', str(b)], capture_output=True).stdout)\n",
        "import tempfile\ndef gap(a, b):\n    with tempfile.TemporaryFile() as f:\n        f.write(b'x')\n    return a - b\n",
        "def gap(a, b):\n    block = bytearray(200 << 20)\n    block[::4096] = b'x' * len(block[::4096])\n    return a - b\n",
        "def gap(a, b):\n    return float(a - b)\n\nif __name__ == '__main__':\n    print(gap(int(input()), 1))\n",
        "import sys\nsys.setrecursionlimit(20000)\ndef gap(a, b, n=9000):\n    return a - b if n == 0 else gap(a, b, n - 1)\n",
        "import logging\nlogging.basicConfig(level=10)\ndef gap(a, b):\n    logging.info('x')\n    open(__file__).read()\n    return a - b\n",
        "import multiprocessing\ndef work(a, b, q):\n    q.put(a - b)\ndef gap(a, b):\n    q = multiprocessing.Queue()\n    p = multiprocessing.Process(target=work, args=(a, b, q))\n    p.start()\n    got = q.get()\n    p.join()\n    return got\n",
    ] {
        let attempt = env.judge_gap(answer);
        assert_eq!(attempt["verdict"], "pass", "{answer}: {attempt:#}");
    }
}

#[test]
fn files_and_patches_are_answers_too() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    env.write("docket/gap/given/solution.py", "def gap(a, b):\n    return b - a\n");
    env.recorded("samples = 3", &[]);
    let good = "--- a/solution.py\n+++ b/solution.py\n@@ -1,2 +1,2 @@\n def gap(a, b):\n-    return b - a\n+    return a - b\n";
    let rows = [
        json!({"task": "gap", "files": {"solution.py": "from span import gap\n", "span.py": "def gap(a, b):\n    return a - b\n"}}),
        json!({"task": "gap", "sample": 2, "patch": good}),
        json!({"task": "gap", "sample": 3, "patch": good.replace("-    return b - a", "-    return b + a")}),
    ];
    env.write("answers.jsonl", &rows.map(|row| format!("{row}\n")).concat());
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let shown = env.json(&["show", "record", "--json"]);
    for trial in shown["trials"].as_array().unwrap() {
        let expected = if trial["sample"] == 3 { "patch does not apply" } else { "" };
        assert_eq!(trial["reason"].as_str().unwrap_or_default(), expected, "{trial:#}");
    }
}

#[test]
fn the_strict_reading_counts_when_the_plan_says_so() {
    let env = TestEnv::new();
    env.gap_docket("time = 2");
    let answer = "Here you are:\n```python\ndef gap(a, b):\n    return a - b\n```\n";
    for (reading, verdict) in [("lenient", "pass"), ("strict", "fail")] {
        env.recorded(&format!("reading = \"{reading}\""), &[("gap", answer)]);
        let record = format!("{reading}.record");
        assert_eq!(env.run(&["run", "plan.toml", "--record", &record]).code, 0);
        let trial = &env.json(&["show", &record, "--json"])["trials"][0];
        assert_eq!(trial["verdict"], verdict);
        assert_eq!(trial["attempts"][0]["deviations"], json!(["text around the code"]));
    }
}
