//! Agents that speak the Agent Client Protocol: sessions, leave, files, commands, and those that misbehave.

use std::process::Stdio;
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::agents::{NOBODY, PATIENCE, run, trial};
use crate::env::{PROGRAM, TestEnv, ran};

/// What the agents of these tests have in common; each brings a `turn(number, text)` of its own.
const AGENT: &str = r#"
import json, os, subprocess, sys, threading, time
last = 0
lock = threading.Lock()
def send(**message):
    with lock:
        print(json.dumps({"jsonrpc": "2.0", **message}), flush=True)
def ask(method, **params):
    global last
    last += 1
    send(id=last, method=method, params={"sessionId": "s", **params})
    while True:
        message = json.loads(sys.stdin.readline())
        if message.get("id") == last:
            return message.get("result", message.get("error"))
def update(sort, **what):
    send(method="session/update", params={"sessionId": "s", "update": {"sessionUpdate": sort, **what}})
def say(text):
    update("agent_message_chunk", content={"type": "text", "text": text})
def fix():
    path = "/work/merrow/tides.py"
    text = ask("fs/read_text_file", path=path)["content"]
    text = text.replace("    return spans", "    if start is not None:\n        spans.append((start, last))\n    return spans")
    return "error" not in ask("fs/write_text_file", path=path, content=text)
def serve(turn, version=1, need=None):
    turns, known = 0, need is None
    print("a stray line before anything is said")
    for line in sys.stdin:
        message = json.loads(line)
        method, number = message["method"], message["id"]
        if method == "initialize":
            send(id=number, result={"protocolVersion": version, "authMethods": [{"id": "card", "name": "Card"}]})
        elif method == "authenticate":
            known = message["params"]["methodId"] == need
            send(id=number, result={})
        elif method == "session/new" and not known:
            send(id=number, error={"code": -32000, "message": "who is there?"})
        elif method == "session/new":
            send(id=number, result={"sessionId": "s"})
        elif method == "session/prompt":
            turns += 1
            stop = turn(turns, message["params"]["prompt"][0]["text"])
            send(id=number, result={"stopReason": stop or "end_turn"})
"#;

/// A plan with one such agent on the task `night-tide`.
fn prepare(env: &TestEnv, script: &str, head: &str, more: &str) {
    env.demo_docket(&["night-tide"]);
    env.write("agent/common.py", AGENT);
    env.write("agent/run.py", &format!("from common import *\n{script}\n"));
    env.write(
        "plan.toml",
        &format!(
            "docket = \"docket\"\n{head}\n[[candidate]]\nname = \"yawl\"\nkind = \"acp\"\n\
             command = [\"python3\", \"agent/run.py\"]\nshow = [\"agent\"]\n{more}\n"
        ),
    );
}

fn steps(attempt: &Value) -> Vec<String> {
    let text = |step: &Value, key: &str| step[key].as_str().unwrap().to_owned();
    let steps = attempt["steps"].as_array().into_iter().flatten();
    steps
        .map(|it| format!("{} {}: {}", text(it, "kind"), text(it, "subject"), text(it, "outcome")))
        .collect()
}

#[test]
fn a_repair_is_a_further_prompt_to_the_same_agent() {
    let env = TestEnv::new();
    let script = r#"
def work():
    while True:
        with open("/tmp/ticks", "a") as file: file.write(".")
        time.sleep(0.001)
threading.Thread(target=work, daemon=True).start()
def turn(number, text):
    say(f"turn {number} of {os.getpid()}, ")
    say(f"{len(text.splitlines())} lines, {'complain' in text} {'did not pass' in text} {'as you left them' in text}")
    if number == 1:
        return ask("fs/write_text_file", path="/work/half", content="1") and None
    assert open("/work/half").read() == "1"
    os.remove("/work/half")
    fix()
serve(turn)
"#;
    prepare(&env, script, "attempts = 3", "");
    let trial = run(&env);
    assert_eq!(trial["verdict"], "pass", "{trial:#}");
    let attempts = trial["attempts"].as_array().unwrap();
    assert_eq!(attempts.len(), 2);
    let said = |at: usize| attempts[at]["ended"]["stdout"].as_str().unwrap();
    let pid = said(0).split([' ', ',']).nth(3).unwrap();
    assert!(said(0).ends_with("True False False"), "{}", said(0));
    assert!(said(1).starts_with(&format!("turn 2 of {pid}, ")), "{}", said(1));
    assert!(said(1).ends_with("False True True"), "it knows the task: {}", said(1));
    assert_eq!(attempts[0]["ended"]["ended"], "ended its turn (end_turn)");
    assert_eq!(attempts[0]["change"]["files"][0]["path"], "half");
    assert_eq!(attempts[1]["change"]["files"].as_array().unwrap().len(), 1, "`half` is gone");
    assert!(attempts[1]["ended"]["cpu_seconds"].as_f64().unwrap() > 0.0);
    // How long it took is said alike, though it made no request.
    let wall = |at: usize| attempts[at]["ended"]["wall_seconds"].as_f64().unwrap();
    let standings = env.json(&["standings", "record", "--json"]);
    for took in [&trial["seconds"], &standings["candidates"][0]["seconds"]] {
        assert!((took.as_f64().unwrap() - wall(0) - wall(1)).abs() < 1e-9, "{took}");
    }
    assert_eq!(
        steps(&attempts[1])[1..],
        ["read /work/merrow/tides.py: done", "write /work/merrow/tides.py: done"]
    );
    let again = env.run(&["regrade", "record"]);
    assert_eq!(again.code, 0, "{}{}", again.out, again.err);
}

#[test]
fn leave_is_given_by_the_plan_and_commands_are_run_where_the_agent_is() {
    let env = TestEnv::new();
    let script = r#"
def leave(kind, options):
    call = {"toolCallId": kind, "title": f"May I {kind}", "kind": kind}
    update("tool_call", status="pending", **call)
    return ask("session/request_permission", toolCall={"toolCallId": kind, "title": f"May I {kind}"},
        options=[{"optionId": it, "name": it, "kind": it} for it in options])["outcome"]
def turn(number, text):
    said = [leave("edit", ["allow_always", "reject_once"]), leave("execute", ["allow_once", "reject_always"]), leave("fetch", ["allow_once"])]
    made = ask("terminal/create", command="sh", args=["-c", "echo out; echo err >&2; echo $TIDE; pwd; exit 3"], env=[{"name": "TIDE", "value": "ebb"}])
    ended = ask("terminal/wait_for_exit", terminalId=made["terminalId"])
    shown = ask("terminal/output", terminalId=made["terminalId"])
    slow = ask("terminal/create", command="sleep 300")["terminalId"]
    ask("terminal/kill", terminalId=slow)
    killed = ask("terminal/wait_for_exit", terminalId=slow)
    odd = [ask("terminal/output", terminalId="none")["code"], ask("terminal/create", command="/no/such")["code"],
        ask("fs/read_text_file", path="merrow/tides.py")["code"], ask("fs/read_text_file", path="/etc/shadow")["code"],
        ask("session/guess")["code"]]
    part = ask("fs/read_text_file", path="/work/merrow/tides.py", line=2, limit=1)["content"].count("\n")
    tail = ask("terminal/create", command="seq 1 1000", outputByteLimit=9)["terminalId"]
    ask("terminal/wait_for_exit", terminalId=tail)
    say(json.dumps([said, ended, shown, killed, odd, part, ask("terminal/output", terminalId=tail)]))
    fix()
serve(turn, need="card")
"#;
    prepare(&env, script, "", "permit = [\"read\", \"edit\"]");
    let trial = run(&env);
    let attempt = &trial["attempts"][0];
    assert_eq!(trial["verdict"], "pass", "{trial:#}");
    let said: Value = serde_json::from_str(attempt["ended"]["stdout"].as_str().unwrap()).unwrap();
    let picked = |option: &str| serde_json::json!({ "outcome": "selected", "optionId": option });
    let gone = serde_json::json!({ "outcome": "cancelled" });
    assert_eq!(said[0], serde_json::json!([picked("allow_always"), picked("reject_always"), gone]));
    let ended = serde_json::json!({ "exitCode": 3, "signal": null });
    assert_eq!(said[1], ended);
    let output = "out\nerr\nebb\n/work\n";
    let shown = serde_json::json!({ "output": output, "truncated": false, "exitStatus": ended });
    assert_eq!(said[2], shown);
    assert_eq!(said[3]["signal"], "SIGKILL");
    assert_eq!(said[4], serde_json::json!([-32002, -32602, -32602, -32002, -32601]));
    assert_eq!(said[5], 1);
    assert_eq!((&said[6]["output"], &said[6]["truncated"]), (&"999\n1000\n".into(), &true.into()));
    let steps = steps(attempt);
    for step in [
        "permission May I edit: allowed",
        "permission May I execute: refused",
        "run sh -c echo out; echo err >&2; echo $TIDE; pwd; exit 3: done",
        "run sleep 300: done",
        "read merrow/tides.py: refused",
        "tool:fetch May I fetch: left open",
    ] {
        assert!(steps.iter().any(|it| it == step), "{step}: {steps:#?}");
    }
}

#[test]
fn a_session_that_a_kill_ended_is_begun_anew_from_the_files_it_had() {
    let env = TestEnv::new();
    let slow = env.path("agent/slow");
    let script = format!(
        "def turn(number, text):\n    say(f\"turn {{number}} {{'complain' in text}} {{'did not pass' in text}}\")\n    \
         if not os.path.exists('/work/half'): return ask('fs/write_text_file', path='/work/half', content='1') and None\n    \
         if os.path.exists('{}'): subprocess.run(['sleep', '302'])\n    os.remove('/work/half')\n    fix()\nserve(turn)",
        slow.display()
    );
    prepare(&env, &script, "attempts = 3", "");
    env.write("agent/slow", "");
    let mut command = env.command(std::path::Path::new(PROGRAM));
    command.args(["run", "plan.toml"]).stdout(Stdio::null()).stderr(Stdio::null());
    let mut child = command.spawn().unwrap();
    let began = Instant::now();
    let sleeps = || {
        let found =
            std::process::Command::new("pgrep").args(["-f", "^sleep 302"]).output().unwrap();
        !found.stdout.is_empty()
    };
    while !sleeps() {
        assert!(began.elapsed() < PATIENCE, "the second turn does not begin");
        std::thread::sleep(Duration::from_millis(50));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    while sleeps() {
        assert!(began.elapsed() < PATIENCE, "the agent outlived the tool");
        std::thread::sleep(Duration::from_millis(50));
    }
    std::fs::remove_file(slow).unwrap();
    let first = trial(&env);
    assert_eq!(first["attempts"].as_array().unwrap().len(), 1, "the first turn is there");
    let trial = run(&env);
    let attempts = trial["attempts"].as_array().unwrap();
    assert_eq!((&trial["verdict"], attempts.len()), (&"pass".into(), 2), "{trial:#}");
    assert_eq!(attempts[0], first["attempts"][0], "and it is what it was");
    assert_eq!(attempts[1]["ended"]["stdout"], "turn 1 True True", "it reads the task again");
}

/// Each ends in its own way, and is judged by what it left.
#[test]
fn one_that_misbehaves_is_judged_by_what_it_left() {
    for (script, more, verdict, ended) in [
        ("serve(lambda number, text: fix() and sys.exit(7))", "", "pass", "ended with status 7"),
        ("serve(lambda number, text: fix() and 'refusal')", "", "pass", "ended its turn (refusal)"),
        (
            "serve(lambda number, text: None, version=99)",
            "",
            "fail",
            "speaks version 99 of the protocol, not 1",
        ),
        ("sys.exit(4)", "", "fail", "ended with status 4"),
        (
            "serve(lambda number, text: fix() and time.sleep(300))",
            "[candidate.limits]\nwall = 3",
            "pass",
            "was ended at its limit of wall",
        ),
        (
            "def turn(number, text):\n fix()\n while True: pass\nserve(turn)",
            "[candidate.limits]\ntime = 1",
            "pass",
            "was ended at its limit of cpu",
        ),
        (
            "def turn(number, text):\n fix()\n for at in range(3000): update('tool_call', toolCallId=str(at), title='x', status='completed')\nserve(turn)",
            "",
            "pass",
            "ended its turn (end_turn)",
        ),
        (
            // It finds its client's way to the tool, if there is one, and speaks in its place.
            "def turn(number, text):\n fix()\n me = os.getppid()\n for fd in os.listdir(f'/proc/{me}/fd'):\n  try: open(f'/proc/{me}/fd/{fd}', 'w').write('{\"turn\": {\"stop\": \"FORGED\", \"last_words\": \"\"}}\\n')\n  except OSError: pass\nserve(turn)",
            "",
            "pass",
            "ended its turn (end_turn)",
        ),
        (
            // It ends its client, with which it ends itself.
            "import signal\nserve(lambda number, text: fix() and os.kill(os.getppid(), signal.SIGKILL))",
            "",
            "pass",
            "ended by signal 9",
        ),
    ] {
        let env = TestEnv::new();
        prepare(&env, script, "", more);
        let trial = run(&env);
        let attempt = &trial["attempts"][0];
        assert_eq!(trial["verdict"], verdict, "{script}: {trial:#}");
        assert_eq!(attempt["ended"]["ended"], ended, "{script}: {:#}", attempt["ended"]);
        assert!(steps(attempt).len() <= 2000, "{script}");
    }
}

#[test]
fn an_ordinary_user_can_run_them_and_a_host_that_never_answers_spoils_the_trial() {
    let env = TestEnv::new();
    let is_root = std::fs::metadata("/proc/self")
        .is_ok_and(|it| std::os::unix::fs::MetadataExt::uid(&it) == 0);
    std::fs::copy(PROGRAM, env.path("program")).unwrap();
    let script = "import urllib.request\ndef turn(number, text):\n try: urllib.request.urlopen(urllib.request.Request(os.environ['URL'] + '/chat/completions', b'{}'), timeout=20)\n except OSError as error: say(str(error))\nserve(turn)";
    let more =
        "endpoint = \"http://127.0.0.1:9/v1\"\nmodel = \"petrel\"\nenv = { URL = \"{endpoint}\" }";
    prepare(&env, script, "attempts = 2", more);
    let mut command = env.command(&env.path("program"));
    if is_root {
        let folder = env.path(".");
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(&folder, mode).unwrap();
        let chown = std::process::Command::new("chown").arg("-R").arg(NOBODY).arg(&folder).status();
        assert!(chown.unwrap().success());
        command = env.command(std::path::Path::new("setpriv"));
        command.args(["--reuid", NOBODY, "--regid", NOBODY, "--clear-groups"]);
        command.arg(env.path("program"));
    }
    let finished = ran(command.args(["run", "plan.toml"]));
    assert_eq!(finished.code, 3, "{}", finished.err);
    let trial = trial(&env);
    assert_eq!(trial["verdict"], "void", "{trial:#}");
    assert_eq!(trial["requests"].as_array().unwrap().len(), 3, "begun anew twice");
}
