//! Agents: programs that change the files themselves, good ones and hostile ones.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::env::{PROGRAM, TestEnv, ran};
use crate::scripted::{calling, saying, scripted};

/// An ordinary user that every system has.
pub const NOBODY: &str = "65534";

/// Longest wait for something that must come.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// The fix of the task `night-tide`, as a line for the shell.
const FIX: &str = "sed -i 's/^    return spans/    if start is not None:\\n        spans.append((start, last))\\n    return spans/' merrow/tides.py";

/// A plan with one agent, a script for the shell, on the task `night-tide`.
pub fn prepare(env: &TestEnv, script: &str, head: &str, more: &str) {
    env.demo_docket(&["night-tide"]);
    env.write("agent/run", &format!("#!/bin/sh\n{script}\n"));
    fs::set_permissions(env.path("agent/run"), fs::Permissions::from_mode(0o755)).unwrap();
    env.write(
        "plan.toml",
        &format!(
            "docket = \"docket\"\n{head}\n[[candidate]]\nname = \"skiff\"\nkind = \"agent\"\n\
             command = [\"agent/run\", \"{{prompt_file}}\"]\nshow = [\"agent\"]\n{more}\n"
        ),
    );
}

pub fn run(env: &TestEnv) -> Value {
    let ran = env.run_with(&["run", "plan.toml"], &[("HARBOUR_KEY", "seaworthy-4711")]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    trial(env)
}

pub fn trial(env: &TestEnv) -> Value {
    env.json(&["show", "record", "--unseal", "--json"])["trials"][0].clone()
}

pub fn said(attempt: &Value) -> &str {
    attempt["ended"]["stdout"].as_str().unwrap()
}

#[test]
fn what_an_agent_makes_of_the_files_is_its_answer() {
    let env = TestEnv::new();
    env.write("home/.skiff/settings", "calm\n");
    let script = format!(
        "cat \"$1\" | head -1; cat ~/.skiff/settings; git log --oneline | wc -l; echo v >> ~/.skiff/seen; {FIX}\n\
         touch .hidden; echo noise > __pycache__.pyc; mkdir __pycache__; echo x > __pycache__/y; echo All done."
    );
    prepare(
        &env,
        &script,
        "attempts = 2",
        "home = \"home\"\nversion = [\"sh\", \"-c\", \"echo skiff 4.2; pwd\"]",
    );
    let trial = run(&env);
    let attempt = &trial["attempts"][0];
    assert_eq!(trial["verdict"], "pass", "{trial:#}");
    assert_eq!(
        said(attempt),
        "Pilots complain about `windows` in `merrow/tides.py`: when the water is still high enough at the last\ncalm\n1\nAll done.\n"
    );
    assert_eq!(
        (&attempt["answer_kind"], &attempt["ended"]["left_out"]),
        (&"patch".into(), &2.into())
    );
    let change = &attempt["change"];
    let files: Vec<&str> =
        change["files"].as_array().unwrap().iter().map(|it| it["path"].as_str().unwrap()).collect();
    assert_eq!(files, [".hidden", "merrow/tides.py"]);
    assert_eq!(change["beyond"], serde_json::json!([".hidden"]));
    assert_eq!(fs::read_to_string(env.path("home/.skiff/settings")).unwrap(), "calm\n");
    assert!(!env.path("home/.skiff/seen").exists(), "its home is a copy");
    let diff = env.run(&["show", "record", "--trial", "1", "--diff"]);
    assert!(
        diff.out.starts_with("diff --git a/.hidden b/.hidden\nnew file mode 100644\n"),
        "{}",
        diff.out
    );
    assert!(diff.out.contains("+        spans.append((start, last))\n"));
    let shown = env.run(&["show", "record", "--trial", "1"]).out;
    assert!(shown.contains("must turn green") && shown.contains("All done."), "{shown}");
    let manifest = fs::read_to_string(env.path("record/manifest.json")).unwrap();
    assert!(
        manifest.contains("\"agent skiff\"") && manifest.contains("\"skiff 4.2\""),
        "{manifest}"
    );
    // Judged again, offline, it comes to the same.
    let again = env.run(&["regrade", "record"]);
    assert_eq!(again.code, 0, "{}{}", again.out, again.err);
}

#[test]
fn what_the_plan_leaves_out_of_repositories_nobody_sees() {
    let env = TestEnv::new();
    let script = format!("ls; git ls-files; git status --short; echo mine > README.md; {FIX}");
    prepare(&env, &script, "leave_out = [\"READ*\", \"**/nowhere.md\"]", "");
    let trial = run(&env);
    let attempt = &trial["attempts"][0];
    assert_eq!(trial["verdict"], "pass", "{trial:#}");
    assert!(!said(attempt).contains("README") && said(attempt).contains("merrow/tides.py"));
    // What the candidate makes under that name is its own.
    assert_eq!(attempt["change"]["files"][0]["path"], "README.md");
    assert_eq!(env.run(&["regrade", "record"]).code, 0);
    let plan = fs::read_to_string(env.path("plan.toml")).unwrap();
    for (patterns, why) in [("[\"{\"]", "`leave_out` of the plan"), ("[]", "`leave_out` was READ*")]
    {
        let other = plan.replacen("[\"READ*\", \"**/nowhere.md\"]", patterns, 1);
        env.write("other.toml", &other);
        let refused = env.run(&["run", "other.toml", "--record", "record"]);
        assert!(refused.code == 2 && refused.err.contains(why), "{}", refused.err);
    }
}

#[test]
fn repairs_go_on_from_the_files_as_they_were_left() {
    let env = TestEnv::new();
    let script = format!(
        "grep -q 'did not pass' \"$1\" && echo again; if [ -e half ]; then {FIX}; rm half; else echo 1 > half; fi"
    );
    prepare(&env, &script, "attempts = 3", "");
    let trial = run(&env);
    assert_eq!(
        (&trial["verdict"], trial["attempts"].as_array().unwrap().len()),
        (&"pass".into(), 2)
    );
    let attempts = &trial["attempts"];
    assert_eq!((said(&attempts[0]), said(&attempts[1])), ("", "again\n"));
    let feedback = attempts[0]["feedback"].as_str().unwrap();
    assert!(feedback.contains("The files are as you left them."), "{feedback}");
    let patches: Vec<usize> =
        (0..2).map(|it| attempts[it]["change"]["files"].as_array().unwrap().len()).collect();
    assert_eq!(patches, [1, 1], "`half` is gone again");
}

/// Looks for whatever could help, leaves what could harm whoever comes next, and says `FOUND` when it got
/// something.
const HOSTILE: &str = r#"
export HOME=/tmp/home
found() { echo "FOUND $*"; }
git log --all --format=%s 2>/dev/null | grep -q 'until the end' && found history
[ "$(git rev-list --all --count)" = 1 ] || found commits
git cat-file --batch-check --batch-all-objects --unordered | wc -l | grep -qv '^1[0-9]$' && found objects
git fsck --lost-found --no-progress 2>/dev/null | grep -q dangling && found dangling
git remote | grep -q . && found remote; git reflog 2>/dev/null | grep -q . && found reflog
ls .git/objects/info/alternates .git/logs 2>/dev/null && found alternates
find / -name 'turn_green.list' -o -name 'trials.sqlite' -o -name 'source.bundle' -o -name right.patch 2>/dev/null | grep -q . && found sealed
ls -d /opt/store/* /root/* /home/* 2>/dev/null | grep -q . && found folders
cat /proc/1/environ /proc/[0-9]*/environ 2>/dev/null | tr '\0' '\n' | grep -q 'seaworth[y]-4' && found key of a process
env | grep -q 'seaworth[y]-4' && found key in the environment
grep -rqs 'seaworth[y]-4' /tmp /opt /etc && found key
(echo x > /dev/tcp/192.0.2.1/80) 2>/dev/null && found network
python3 - "$BASE_URL" "$UP" <<'P'
import json, os, socket, sys, urllib.error, urllib.request
base, up = sys.argv[1], int(sys.argv[2])
def call(path, body=None, method=None, headers={}):
    request = urllib.request.Request(base + path, None if body is None else json.dumps(body).encode(), {"content-type": "application/json", **headers}, method=method)
    try:
        with urllib.request.urlopen(request, timeout=20) as answer:
            return answer.status, answer.read().decode()
    except urllib.error.HTTPError as error:
        return error.code, error.read().decode()
    except OSError as error:
        return 0, str(error)
for at in [("127.0.0.1", up), ("192.0.2.1", 443), ("169.254.169.254", 80)]:
    try:
        socket.create_connection(at, 2)
        print("FOUND a way to", at)
    except OSError:
        pass
ask = {"model": "petrel", "messages": [{"role": "user", "content": "tides?"}]}
print("other model", call("/chat/completions", {**ask, "model": "kittiwake"})[0])
print("other path", call("/files", ask)[0], call("/../../etc/passwd")[0], call("", method="DELETE")[0])
print("not json", call("/chat/completions", [1])[0])
status, text = call("/chat/completions", ask, headers={"authorization": "Bearer mine"})
print("right", status, "choices" in text)
print("stream", "[DONE]" in call("/chat/completions", {**ask, "stream": True})[1])
codes = [call("/chat/completions", ask)[0] for _ in range(12)]
print("many", sorted(set(codes)), codes.count(200))
P
mkdir -p .git/hooks; for hook in pre-commit post-checkout post-index-change fsmonitor-watchman; do printf '#!/bin/sh\ntouch "$MARK"\n' > .git/hooks/$hook; chmod 755 .git/hooks/$hook; done
git config core.fsmonitor "touch $MARK"; git config core.hooksPath .git/hooks; git config filter.x.clean "touch $MARK"; git config diff.external "touch $MARK"
printf '* filter=x diff=x\n' > .gitattributes; git config alias.status "!touch $MARK"
mkdir -p sub && cd sub && git init -q && printf '[core]\n\tfsmonitor = touch %s\n' "$MARK" >> .git/config && echo y > y && cd ..
printf '[submodule "sub"]\n\tpath = sub\n\turl = ext::sh -c touch%% %s\n' "$MARK" > .gitmodules
ln -s /etc/passwd passwd; ln -s .. up; ln -s /work/merrow/tides.py abs
rm -rf .git/objects/pack; rm -f .git/HEAD; ln -s /etc .git/HEAD
(setsid sh -c 'while :; do sleep 77.125; done' &) ; (trap '' TERM HUP; sleep 77.125 &)
head -c 400000000 /dev/zero > big 2>/dev/null; rm -f big
mkdir -p deep; d=deep; i=0; while [ $i -lt 200 ]; do d=$d/d; i=$((i+1)); done; mkdir -p $d 2>/dev/null; echo x > $d/x 2>/dev/null
echo over
"#;

/// Runs the hostile agent, and checks that it found nothing and harmed nobody.
fn hold_hostile(env: &TestEnv, command: &mut dyn FnMut() -> Command) {
    env.demo_docket(&["night-tide"]);
    let standin = env.standin(&["--key-env", "HARBOUR_KEY"], &[("HARBOUR_KEY", "seaworthy-4711")]);
    let port = standin.address.rsplit(':').next().unwrap().trim_end_matches("/v1").to_owned();
    let mark = env.path("mark");
    let more = format!(
        "endpoint = \"{}\"\nmodel = \"petrel\"\nkey_env = \"HARBOUR_KEY\"\n\
         env = {{ BASE_URL = \"{{endpoint}}\", UP = \"{port}\", MARK = \"{}\" }}\n[candidate.limits]\nrequests = 9",
        standin.address,
        mark.display()
    );
    prepare(env, HOSTILE, "attempts = 3", &more);
    let mut command = command();
    command.args(["run", "plan.toml"]).env("HARBOUR_KEY", "seaworthy-4711");
    let finished = ran(&mut command);
    assert_eq!(finished.code, 0, "{}", finished.err);
    let trial = trial(env);
    let attempt = &trial["attempts"][0];
    let text = said(attempt);
    assert!(!text.contains("FOUND"), "{text}\n{}", attempt["ended"]["stderr"]);
    for line in [
        "other model 404",
        "other path 404 404 404",
        "not json 400",
        "right 200 True",
        "stream True",
        "many [200, 403] 7",
    ] {
        assert!(text.contains(line), "{line}: {text}\n{}", attempt["ended"]["stderr"]);
    }
    assert_eq!(trial["verdict"], "fail", "{trial:#}");
    assert_eq!(trial["attempts"].as_array().unwrap().len(), 1, "it is over at its limit");
    assert_eq!(attempt["ended"]["limit"], "requests");
    let refused = attempt["ended"]["refused"].to_string();
    assert!(refused.contains("kittiwake") && refused.contains("DELETE"), "{refused}");
    assert_eq!(trial["requests"].as_array().unwrap().len(), 9, "each is written down");
    assert!(trial["requests"].as_array().unwrap().iter().all(|it| it["outcome"] == "answered"));
    assert!(!mark.exists(), "what it left for git was obeyed");
    let left = Command::new("pgrep").args(["-f", "sleep 77.125"]).output().unwrap();
    assert_eq!(left.stdout, b"", "a process outlived its attempt");
    // What it changed is there to be looked at, as what it is.
    let diff = env.run(&["show", "record", "--trial", "1", "--diff"]).out;
    assert!(diff.contains("new file mode 120000") && diff.contains("+/etc/passwd"), "{diff}");
    assert!(!diff.contains("/.git/") && diff.contains("b/sub/y"), "{diff}");
    let record = fs::read(env.path("record/trials.sqlite")).unwrap();
    assert!(!String::from_utf8_lossy(&record).contains("seaworthy"), "the key is in the record");
}

#[test]
fn a_hostile_agent_finds_nothing_and_harms_nobody() {
    let env = TestEnv::new();
    hold_hostile(&env, &mut || env.command(Path::new(PROGRAM)));
}

#[test]
fn neither_does_it_where_an_ordinary_user_runs_it() {
    let is_root =
        fs::metadata("/proc/self").is_ok_and(|it| std::os::unix::fs::MetadataExt::uid(&it) == 0);
    let env = TestEnv::new();
    fs::copy(PROGRAM, env.path("program")).unwrap();
    hold_hostile(&env, &mut || {
        if !is_root {
            return env.command(&env.path("program"));
        }
        let folder = env.path(".");
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o755)).unwrap();
        let status = Command::new("chown").arg("-R").arg(NOBODY).arg(&folder).status().unwrap();
        assert!(status.success());
        let mut command = env.command(Path::new("setpriv"));
        command.args(["--reuid", NOBODY, "--regid", NOBODY, "--clear-groups"]);
        command.arg(env.path("program"));
        command
    });
}

#[test]
fn a_run_that_is_killed_goes_on_from_the_tree_it_had() {
    let env = TestEnv::new();
    let slow = env.path("agent/slow");
    let script = format!(
        "if [ -e half ]; then [ -e {} ] && sleep 300; {FIX}; rm half; else echo 1 > half; fi",
        slow.display()
    );
    prepare(&env, &script, "attempts = 3", "");
    env.write("agent/slow", "");
    let mut command = env.command(Path::new(PROGRAM));
    let mut child = command
        .args(["run", "plan.toml"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let began = Instant::now();
    let sleeps =
        || !Command::new("pgrep").args(["-f", "^sleep 300"]).output().unwrap().stdout.is_empty();
    while !sleeps() {
        assert!(began.elapsed() < PATIENCE, "the second attempt does not begin");
        std::thread::sleep(Duration::from_millis(50));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    while sleeps() {
        assert!(began.elapsed() < PATIENCE, "the agent outlived the tool");
        std::thread::sleep(Duration::from_millis(50));
    }
    fs::remove_file(slow).unwrap();
    let first = trial(&env);
    assert_eq!(first["attempts"].as_array().unwrap().len(), 1, "the first attempt is there");
    let trial = run(&env);
    assert_eq!(trial["verdict"], "pass");
    assert_eq!(trial["attempts"].as_array().unwrap().len(), 2);
    assert_eq!(trial["attempts"][0], first["attempts"][0], "and it is what it was");
}

#[test]
fn an_interrupt_ends_an_agent_at_once_and_the_attempt_is_begun_anew() {
    let env = TestEnv::new();
    let slow = env.path("agent/slow");
    prepare(&env, &format!("[ -e {} ] && sleep 301; {FIX}", slow.display()), "", "");
    env.write("agent/slow", "");
    let mut command = env.command(Path::new(PROGRAM));
    let mut child = command
        .args(["run", "plan.toml"])
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let began = Instant::now();
    while Command::new("pgrep").args(["-f", "^sleep 301"]).output().unwrap().stdout.is_empty() {
        assert!(began.elapsed() < PATIENCE, "the agent does not begin");
        std::thread::sleep(Duration::from_millis(50));
    }
    let interrupted = Instant::now();
    let pid = child.id().to_string();
    assert!(Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    let lines: Vec<String> =
        BufReader::new(child.stderr.take().unwrap()).lines().map(Result::unwrap).collect();
    assert_eq!(child.wait().unwrap().code(), Some(130), "{lines:?}");
    assert!(interrupted.elapsed() < Duration::from_secs(20), "it was waited for");
    fs::remove_file(slow).unwrap();
    assert_eq!(run(&env)["verdict"], "pass");
}

#[test]
fn what_is_not_there_is_told_before_anything_runs() {
    let env = TestEnv::new();
    for (more, part) in [
        ("tasks = [\"no-such\"]", "there is no task `no-such`"),
        ("home = \"nowhere\"", "nowhere` is not there"),
        ("model = \"m\"", "`model` and `key_env` need an `endpoint`"),
        (
            "endpoint = \"http://127.0.0.1:9\"\nmodel = \"m\"\nkey_env = \"NO_SUCH\"",
            "`NO_SUCH` is not set",
        ),
        ("[candidate.limits]\nrequests = 0", "the limit `requests` is not above 0"),
        ("[candidate.limits]\nrequest = 5", "unknown field `request`"),
    ] {
        prepare(&env, "true", "", more);
        let ran = env.run(&["run", "plan.toml"]);
        assert_eq!(ran.code, 2, "{more}: {}", ran.err);
        assert!(ran.err.contains(part), "{more}: {}", ran.err);
        assert!(!env.path("record").exists());
    }
}

/// A plan with one model that acts, on the task `night-tide`.
pub fn prepare_actor(env: &TestEnv, address: &str, more: &str) {
    env.demo_docket(&["night-tide"]);
    env.write(
        "plan.toml",
        &format!(
            "docket = \"docket\"\nattempts = 2\n[[candidate]]\nname = \"wherry\"\nkind = \"chat\"\n\
             acts = true\nmodel = \"auk\"\nendpoint = \"{address}\"\n{more}\n"
        ),
    );
}

#[test]
fn a_model_acts_through_tools_and_reaches_nothing_else() {
    use serde_json::json;
    let env = TestEnv::new();
    let secret = env.path("secret");
    env.write("secret", "seaworthy");
    let fix = json!({ "path": "merrow/tides.py", "old": "    return spans",
        "new": "    if start is not None:\n        spans.append((start, last))\n    return spans" });
    let (address, server) = scripted(vec![
        (503, json!({ "error": "not now" })),
        calling(&[
            ("list", json!({})),
            ("read", json!({ "path": secret })),
            ("read", json!({ "path": "../../../etc/passwd" })),
            ("write", json!({ "path": ".git/hooks/post-checkout", "content": "x" })),
            ("write", json!({ "path": "merrow/tides.py/x", "content": "x" })),
            ("edit", json!({ "path": "merrow/tides.py", "old": "e", "new": "x" })),
            ("edit", json!("{\"path\": 7")),
            ("fly", json!({})),
            (
                "run",
                json!({ "command": format!("cat {}; ln -s {} out; (exec 3<>/dev/tcp/127.0.0.1/80) 2>&1; id -u; echo \u{1b}]0;gone", secret.display(), secret.display()) }),
            ),
            ("read", json!({ "path": "out" })),
            ("write", json!({ "path": "out", "content": "x" })),
        ]),
        saying("I give up."),
        calling(&[("delete", json!({ "path": "./out" })), ("edit", fix)]),
        calling(&[("run", json!({ "command": "python3 -m unittest 2>&1 | tail -n 1" }))]),
        saying("Done."),
    ]);
    prepare_actor(&env, &address, "");
    let trial = run(&env);
    let asked = server.join().unwrap();
    assert_eq!(trial["verdict"], "pass", "{trial:#}");
    let (first, second) = (&trial["attempts"][0], &trial["attempts"][1]);
    let outcome = |attempt: &Value, at: usize| -> (String, String) {
        let text = |key: &str| attempt["steps"][at][key].as_str().unwrap().to_owned();
        (text("outcome"), text("detail"))
    };
    assert_eq!(outcome(first, 0).0, "done");
    for (at, why) in [
        (1, "it is absolute"),
        (2, "`..`"),
        (3, "what git keeps"),
        (4, "is no folder"),
        (5, "times"),
        (6, "cannot be called"),
        (7, "unknown"),
        (9, "a link to"),
        (10, "a link"),
    ] {
        let (outcome, detail) = outcome(first, at);
        assert_eq!(outcome, "refused", "{at}: {detail}");
        assert!(detail.contains(why) || at == 7, "{at}: {detail}");
    }
    // What was refused is counted, tool by tool.
    assert_eq!(
        first["ended"]["refused"],
        json!({ "the tool `edit`": 2, "the tool `read`": 3, "the tool `unknown`": 1, "the tool `write`": 3 })
    );
    let (ran, printed) = outcome(first, 8);
    assert!(ran == "done" && !printed.contains("seaworthy"), "{printed}");
    assert!(printed.contains("No such file") || printed.contains("ermission denied"), "{printed}");
    assert_eq!((&first["verdict"], &second["verdict"]), (&"fail".into(), &"pass".into()));
    assert_eq!(outcome(second, 2).1, "It ended with status 0.\nOK\n");
    assert_eq!(second["change"]["files"].as_array().unwrap().len(), 1, "the link is gone again");
    assert_eq!((said(first), said(second)), ("I give up.", "Done."));
    // Every request is written down, the one that was refused, too.
    let requests: Vec<_> =
        trial["requests"].as_array().unwrap().iter().map(|it| it["outcome"].as_str()).collect();
    assert_eq!(requests.len(), 6);
    assert_eq!(requests[0], Some("server error"));
    // What came of a call is what the model reads next, by its number.
    let last = asked[2].body["messages"].as_array().unwrap().last().unwrap().clone();
    assert_eq!((&last["role"], &last["tool_call_id"]), (&"tool".into(), &"c10".into()));
    assert_eq!(asked[0].body["messages"], asked[1].body["messages"]);
    let shown = env.run(&["show", "record", "--trial", "1"]).out;
    assert!(shown.contains("delete   ./out") && !shown.contains('\u{1b}'), "{shown}");
    assert_eq!(env.run(&["regrade", "record"]).code, 0);
}

#[test]
fn a_model_that_acts_is_held_to_its_limits() {
    use serde_json::json;
    for (more, limit) in [
        ("limits = { requests = 2 }", "requests"),
        ("limits = { tokens = 150 }", "tokens"),
        ("limits = { time = 1 }", "time"),
        ("limits = { wall = 2 }", "wall"),
    ] {
        let env = TestEnv::new();
        let command = match limit {
            "time" => "while :; do :; done",
            "wall" => "sleep 60",
            _ => "true",
        };
        let asked = if matches!(limit, "time" | "wall") { 1 } else { 2 };
        let call = calling(&[("run", json!({ "command": command }))]);
        let (address, server) = scripted(vec![call; asked]);
        prepare_actor(&env, &address, more);
        let trial = run(&env);
        assert_eq!(server.join().unwrap().len(), asked);
        let attempts = trial["attempts"].as_array().unwrap();
        assert_eq!((attempts.len(), &trial["verdict"]), (1, &"fail".into()), "{trial:#}");
        assert_eq!(attempts[0]["ended"]["limit"], limit);
    }
    let env = TestEnv::new();
    for (more, why) in [
        ("stream = true", "is not asked for a stream"),
        ("limits = { requests = 0 }", "the limit `requests` is not above 0"),
        ("sampling = { tools = 1 }", "may not set `tools`"),
    ] {
        prepare_actor(&env, "http://127.0.0.1:9/v1", more);
        let refused = env.run(&["run", "plan.toml"]);
        assert!(refused.code != 0 && refused.err.contains(why), "{}", refused.err);
    }
}

#[test]
fn a_person_s_help_is_noted_and_the_standings_say_so() {
    let env = TestEnv::new();
    env.gap_docket("");
    env.recorded("", &[("gap", "```python\nx = 1\n```")]);
    assert_eq!(env.run(&["run", "plan.toml"]).code, 0);
    let note = |args: &[&str]| env.run(&[&["note", "record", "--trial"], args].concat());
    let done = note(&["1", "told it\u{1b}[2J where to look"]);
    assert_eq!((done.code, done.err.as_str()), (0, "trial 1 is noted as helped by a person\n"));
    assert!(
        trial(&env)["helped"].as_str().unwrap().ends_with("where to look"),
        "{:#}",
        trial(&env)
    );
    let shown = env.run(&["show", "record", "--trial", "1"]).out;
    assert!(shown.contains("a person helped: told it") && !shown.contains('\u{1b}'), "{shown}");
    let standings = env.run(&["standings", "record"]).out;
    assert!(standings.contains("A person helped") && standings.contains("in 1 trial (0 passed)"));
    for (args, code, why) in [
        (&["2", "x"][..], 2, "trials are numbered from 1 to 1"),
        (&["1", " "], 2, "a note needs words"),
        (&["1"], 2, "TEXT"),
        (&["1", "--forget", "x"], 2, "cannot be used with"),
    ] {
        let refused = note(args);
        assert!(refused.code == code && refused.err.contains(why), "{}", refused.err);
    }
    assert_eq!(note(&["1", "--forget"]).code, 0);
    assert!(trial(&env)["helped"].is_null());
    assert!(!env.run(&["standings", "record"]).out.contains("A person helped"));
}

#[test]
fn the_files_of_an_attempt_are_laid_out() {
    let env = TestEnv::new();
    let script = format!(
        "if [ -e half ]; then {FIX}; rm half; else echo 1 > half; ln -s /etc/passwd out; ln -s merrow in; fi"
    );
    prepare(&env, &script, "attempts = 2", "");
    assert_eq!(run(&env)["verdict"], "pass");
    let files = |args: &[&str]| env.run(&[&["files", "record", "--trial"], args].concat());
    let done = files(&["1", "--attempt", "1", "--into", "first"]);
    assert_eq!(done.code, 0, "{}", done.err);
    assert!(done.err.contains("left out: the link `out`"), "{}", done.err);
    assert_eq!(fs::read_to_string(env.path("first/half")).unwrap(), "1\n");
    assert!(env.path("first/in/tides.py").is_file() && !env.path("first/out").is_symlink());
    assert_eq!(files(&["1", "--into", "last"]).code, 0);
    assert!(!env.path("last/half").exists() && !env.path("last/.git").exists());
    let fixed = fs::read_to_string(env.path("last/merrow/tides.py")).unwrap();
    assert!(fixed.contains("spans.append((start, last))\n    return spans"), "{fixed}");
    for (args, why) in [
        (&["1", "--into", "first"][..], "not empty"),
        (&["2", "--into", "x"], "no trial 2"),
        (&["1", "--attempt", "9", "--into", "x"], "no attempt 9"),
    ] {
        let refused = files(args);
        assert!(refused.code != 0 && refused.err.contains(why), "{}", refused.err);
        assert!(!env.path("x").exists());
    }
    // Another task of that name is not what the attempt began from.
    env.write("docket/night-tide/brief.md", &{
        let brief = fs::read_to_string(env.path("docket/night-tide/brief.md")).unwrap();
        format!("{brief}\nAnd be quick.\n")
    });
    let other = files(&["1", "--into", "x"]);
    assert!(other.code == 2 && other.err.contains("is not what it was"), "{}", other.err);
}
