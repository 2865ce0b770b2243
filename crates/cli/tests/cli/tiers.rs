//! Machines that can confine less: without namespaces, and without anything.

use std::path::Path;
use std::process::Command;

use crate::env::{Finished, PROGRAM, TestEnv, ran, wait_for};
use crate::needs;

/// Takes every kind of namespace away from a user namespace, then goes on.
const NO_NAMESPACES: &str =
    "for i in /proc/sys/user/max_*_namespaces; do echo 0 > $i; done; exec \"$@\"";

/// Makes the calls of Landlock unknown, then goes on.
const NO_LANDLOCK: &str = "import ctypes, os, struct, sys\n\
    code = [(0x20, 0, 0, 0), (0x35, 0, 2, 444), (0x35, 1, 0, 447), (6, 0, 0, 0x50026), (6, 0, 0, 0x7fff0000)]\n\
    raw = b''.join(struct.pack('HBBI', *it) for it in code)\n\
    buf = ctypes.create_string_buffer(raw)\n\
    prog = struct.pack('HxxxxxxQ', len(code), ctypes.addressof(buf))\n\
    libc = ctypes.CDLL(None, use_errno=True)\n\
    assert libc.prctl(38, 1, 0, 0, 0) == 0 and libc.prctl(22, 2, prog, 0, 0) == 0\n\
    os.execv(sys.argv[1], sys.argv[1:])\n";

/// The program on a machine without namespaces.
fn without_namespaces(env: &TestEnv) -> Command {
    let mut command = env.command(Path::new("unshare"));
    command.args(["--user", "--map-root-user", "sh", "-c", NO_NAMESPACES, "sh"]);
    command
}

fn without_anything(env: &TestEnv, args: &[&str]) -> Finished {
    let mut command = without_namespaces(env);
    command.args(["/usr/bin/python3", "-c", NO_LANDLOCK, PROGRAM]).args(args);
    ran(&mut command)
}

fn lay_out(env: &TestEnv) {
    env.demo_docket(&["quay-log"]);
    let right =
        "```sh\nawk 'NF >= 3 { t[$2] += $3 } END { for (q in t) print q, t[q] }' | sort\n```";
    env.recorded("", &[("quay-log", right)]);
}

#[test]
fn without_namespaces_the_plain_tier_is_used_and_said() {
    let env = TestEnv::new();
    lay_out(&env);
    let mut command = without_namespaces(&env);
    let ran = ran(command.arg(PROGRAM).args(["run", "plan.toml"]));
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.err.contains("note: code under trial runs in the plain tier"), "{}", ran.err);
    assert!(ran.out.contains("1/1  100.0 %"), "{}", ran.out);
    assert!(ran.out.contains("Code was confined in the plain tier"), "{}", ran.out);
    assert_eq!(env.json(&["standings", "record", "--json"])["tiers"][0], "plain");
    // Nothing is left of the folders that the tier needs.
    let left = std::fs::read_dir(env.path(".")).unwrap().flatten();
    let left = left.filter(|it| it.file_name().to_string_lossy().starts_with("fairtrial-"));
    assert_eq!(left.count(), 0);
}

#[test]
fn every_language_works_without_namespaces_too() {
    if !needs::there(&["node", "junit5", "c++", "go", "tsc", "pytest"]) {
        return;
    }
    let env = TestEnv::new();
    let mut command = without_namespaces(&env);
    let ran = ran(command.arg(PROGRAM).args(["doctor"]));
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(!ran.out.contains("Not here:"), "{}", ran.out);
}

#[test]
fn what_cannot_be_confined_is_not_run_unless_it_is_trusted() {
    let env = TestEnv::new();
    lay_out(&env);
    let refused = without_anything(&env, &["run", "plan.toml"]);
    assert_eq!(refused.code, 3, "{}", refused.err);
    assert!(refused.err.contains("cannot be confined on this machine"), "{}", refused.err);
    assert!(refused.err.contains("no Landlock"), "{}", refused.err);
    assert!(refused.err.contains("--trust-code"), "{}", refused.err);
    assert!(!env.path("record").exists());
    let trusted = without_anything(&env, &["run", "plan.toml", "--trust-code"]);
    assert_eq!(trusted.code, 0, "{}", trusted.err);
    assert!(trusted.out.contains("1/1  100.0 %"), "{}", trusted.out);
    assert!(trusted.out.contains("Code was trusted, not confined"), "{}", trusted.out);
    assert_eq!(env.json(&["standings", "record", "--json"])["tiers"][0], "trusted");
    let doctor = without_anything(&env, &["doctor", "shell"]);
    assert_eq!(doctor.code, 1, "{}", doctor.out);
    assert!(doctor.out.starts_with("── Sandbox: none"), "{}", doctor.out);
}

fn lines(program: &str, args: &[&str]) -> Vec<String> {
    let out = Command::new(program).args(args).output().unwrap();
    String::from_utf8(out.stdout).unwrap().lines().map(str::to_owned).collect()
}

#[test]
fn when_the_tool_is_killed_nothing_is_left_behind() {
    for is_plain in [false, true] {
        let env = TestEnv::new();
        env.gap_docket("time = 50");
        let mark = format!("sleep 61.{}{}", std::process::id(), u8::from(is_plain));
        let answer = format!(
            "```python\nimport subprocess\ndef gap(a, b):\n    open('/tmp/x', 'w').close() if {} else None\n    \
             subprocess.Popen('{mark}', shell=True, start_new_session=True)\n    subprocess.run('{mark}', shell=True)\n```",
            if is_plain { "False" } else { "True" }
        );
        env.recorded("", &[("gap", &answer)]);
        let mut command = env.command(Path::new(PROGRAM));
        if is_plain {
            command = without_namespaces(&env);
            command.arg(PROGRAM);
        }
        let mut tool = command.args(["run", "plan.toml"]).spawn().unwrap();
        let running = || lines("pgrep", &["-f", &mark]).len() >= 2;
        wait_for("the answer is judged", running);
        let zygotes = lines("pgrep", &["-P", &tool.id().to_string()]);
        assert!(!zygotes.is_empty());
        tool.kill().unwrap();
        tool.wait().unwrap();
        wait_for("processes are left", || {
            let is_there = |pid: &String| Path::new("/proc").join(pid).exists();
            lines("pgrep", &["-f", &mark]).is_empty() && !zygotes.iter().any(is_there)
        });
        for zygote in &zygotes {
            let name = format!("fairtrial-{zygote}");
            let groups = lines("find", &["/sys/fs/cgroup", "-name", &name]);
            assert!(groups.is_empty(), "a control group is left: {groups:?}");
            assert!(!env.path(&name).exists(), "a folder is left");
        }
    }
}
