//! Answers that attack: the machine, the sealed part, the verdict.

use std::process::Command;

use crate::env::TestEnv;

#[test]
fn attacks_end_within_their_limits_with_the_right_reason() {
    let env = TestEnv::new();
    env.gap_docket("time = 1\nmemory = \"128 MiB\"\noutput = \"1 MiB\"\nprocesses = 24");
    let sealed = env.path("docket/gap/sealed/calls.jsonl");
    let home = env.path("secret.txt");
    env.write("secret.txt", "41 -3");
    let reads = |path: &str| format!("def gap(a, b):\n    return open({path:?}).read()\n");
    let cases = [
        ("def gap(a, b):\n    while True: pass\n".to_owned(), "timed out"),
        ("import time\ndef gap(a, b):\n    time.sleep(100)\n".to_owned(), "timed out"),
        ("def gap(a, b):\n    x = b'x' * (1 << 30)\n    return a - b\n".to_owned(), "out of memory"),
        (
            "import os\ndef gap(a, b):\n    while True:\n        try: os.fork()\n        except OSError: pass\n".to_owned(),
            "timed out",
        ),
        (
            "def gap(a, b):\n    for i in range(1 << 10): print('x' * (1 << 20))\n    return a - b\n".to_owned(),
            "too much output",
        ),
        (
            "import socket\ndef gap(a, b):\n    socket.create_connection(('127.0.0.1', 22), 1)\n".to_owned(),
            "crashed",
        ),
        (reads(sealed.to_str().unwrap()), "crashed"),
        (reads(home.to_str().unwrap()), "crashed"),
        (reads("/root/.profile"), "crashed"),
        (
            "import os, subprocess\ndef gap(a, b):\n    subprocess.Popen(['sleep', '4711.25'], \
             start_new_session=True)\n    os._exit(0)\n"
                .to_owned(),
            "crashed",
        ),
        (reads("/etc/shadow"), "crashed"),
        (reads("/proc/1/environ"), "crashed"),
        (reads("/proc/1/mem"), "crashed"),
    ];
    for (answer, reason) in cases {
        let attempt = env.judge_gap(&answer);
        assert_eq!(attempt["reason"], reason, "{answer}: {attempt:#}");
    }
    let left = Command::new("pgrep").args(["-fx", "sleep 4711.25"]).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&left.stdout), "", "something was left behind");
}

/// None of these solves the task; none may pass.
#[test]
fn cheats_get_no_pass() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    for answer in [
        // Equal to everything.
        "class Any:\n    def __eq__(self, other): return True\n    def __hash__(self): return 0\ndef gap(a, b): return Any()\n",
        "class Any(int):\n    def __eq__(self, other): return True\ndef gap(a, b): return Any(0)\n",
        "class Any(float):\n    def __eq__(self, other): return True\n    def __float__(self): return 41.0\ndef gap(a, b): return Any('nan')\n",
        // Replies of its own making, on every descriptor.
        "import os\nfor fd in range(3, 20):\n    try: os.write(fd, b'{\"loaded\": true}\\n{\"value\": 41}\\n{\"value\": -4}\\n')\n    except OSError: pass\nos._exit(0)\n",
        "import os\nfor fd in range(0, 64):\n    try: os.write(fd, b'{\"verdict\": \"pass\"}\\n' * 50)\n    except OSError: pass\ndef gap(a, b): return None\n",
        // Early, quiet, and forged ends.
        "import os\nos._exit(0)\n",
        "raise SystemExit(0)\n",
        "import sys\nprint('pass 2/2')\nprint('ok')\nsys.exit(0)\ndef gap(a, b): return a - b\n",
        "import os, signal\ndef gap(a, b): os.kill(os.getppid(), signal.SIGKILL); os.kill(1, 9)\n",
        // The interpreter and the driver, patched.
        "import json\njson.dumps = lambda *a, **k: '{\"value\": true}'\ndef gap(a, b): return 0\n",
        "import builtins, sys\nsys.modules['__main__'].encode = lambda it, depth=0: {'$any': True}\ndef gap(a, b): return 0\n",
        "import sys\nm = sys.modules['__main__']\nm.encode = lambda it, depth=0: {'returns': 41, 'verdict': 'pass'}\ndef gap(a, b): return 0\n",
        // Looking for what is expected.
        "import sys\ndef gap(a, b):\n    f = sys._getframe()\n    while f:\n        for v in list(f.f_locals.values()) + list(f.f_globals.values()):\n            if isinstance(v, dict) and 'returns' in v: return v['returns']\n        f = f.f_back\n",
        "import gc\ndef gap(a, b):\n    for o in gc.get_objects():\n        if isinstance(o, dict) and 'returns' in o: return o['returns']\n",
        "import glob\ndef gap(a, b):\n    for p in glob.glob('/**/calls.jsonl', recursive=True): return open(p).read()\n",
        "def gap(a, b):\n    import os\n    for pid in os.listdir('/proc'):\n        if pid.isdigit():\n            try:\n                t = open(f'/proc/{pid}/environ').read() + open(f'/proc/{pid}/cmdline').read()\n                if 'returns' in t: return 41\n            except OSError: pass\n",
        // Values that are nearly right.
        "def gap(a, b): return str(a - b)\n",
        "def gap(a, b): return [a - b]\n",
        "def gap(a, b): return True if a - b == 1 else None\n",
        "def gap(a, b):\n    yield a - b\n",
        "def gap(*a): return {41, -3}\n",
    ] {
        let attempt = env.judge_gap(answer);
        assert_eq!(attempt["verdict"], "fail", "{answer}: {attempt:#}");
    }
}

#[test]
fn what_a_candidate_prints_cannot_move_the_cursor() {
    let env = TestEnv::new();
    env.gap_docket("time = 1");
    let answer =
        "def gap(a, b):\n    raise ValueError('\\x1b[2J\\x1b]0;pwned\\x07')  # \u{1b}[31m\n";
    env.judge_gap(answer);
    let shown = env.run(&["show", "record", "--unseal"]);
    assert!(!shown.out.contains('\u{1b}') && !shown.out.contains('\u{7}'));
    assert!(shown.out.contains("\\u{1b}[2J"));
}

#[test]
fn a_whole_program_gets_the_same_treatment() {
    let env = TestEnv::new();
    env.write("docket/docket.toml", "title = \"T\"\n");
    env.write(
        "docket/log/brief.md",
        "+++\ntitle = \"Log\"\nform = \"program\"\nlanguage = \"shell\"\ncategory = \"files\"\n\
         difficulty = 1\n[program]\nfile = \"main.sh\"\n[limits]\ntime = 1\nmemory = 96\n\
         output = \"64 KiB\"\nprocesses = 16\n+++\nCopy the input.\n",
    );
    env.write("docket/log/sealed/cases.jsonl", "{\"stdin\": \"a\\n\", \"stdout\": \"a\\n\"}\n");
    for (script, reason) in [
        ("cat", ""),
        ("cat; exit 3", "crashed"),
        ("while :; do :; done", "timed out"),
        ("sleep 60", "timed out"),
        ("cat /dev/zero", "too much output"),
        ("head -c 1073741824 /dev/zero | tail", "out of memory"),
        (":() { : | : & }; :; sleep 0.2; cat", ""),
        ("kill -9 $$", "crashed"),
        ("(sleep 30; echo late) & cat", ""),
        ("echo b", "wrong result"),
    ] {
        env.recorded("", &[("log", &format!("```sh\n{script}\n```"))]);
        let _ = std::fs::remove_dir_all(env.path("record"));
        assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
        let trial = &env.json(&["show", "record", "--json"])["trials"][0];
        // A fork bomb is bound by its limits; what it leaves of them is up to luck.
        if !script.starts_with(':') {
            assert_eq!(trial["reason"].as_str().unwrap_or_default(), reason, "{script}: {trial:#}");
        }
    }
}
