//! The same as root, as an ordinary user, and as root of a user namespace.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

use crate::env::{PROGRAM, TestEnv, ran};

/// An ordinary user that every system has.
const NOBODY: &str = "65534";

/// A plan with shell tasks: a shell is where every user can reach it.
fn prepare(env: &TestEnv) {
    env.demo_docket(&["quay-log"]);
    let right = "```sh\nid -u >&2\nawk 'NF >= 3 { t[$2] += $3 } END { for (q in t) print q, t[q] }' | sort\n```";
    env.recorded("", &[("quay-log", right)]);
    fs::copy(PROGRAM, env.path("program")).unwrap();
}

fn check(command: &mut Command) {
    let ran = ran(command);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("1/1  100.0 %"), "{}", ran.out);
}

#[test]
fn an_ordinary_user_can_hold_trials() {
    let env = TestEnv::new();
    prepare(&env);
    let is_root =
        fs::metadata("/proc/self").is_ok_and(|it| std::os::unix::fs::MetadataExt::uid(&it) == 0);
    if is_root {
        let folder = env.path(".");
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o755)).unwrap();
        let status = Command::new("chown").arg("-R").arg(NOBODY).arg(&folder).status().unwrap();
        assert!(status.success());
        let mut command = env.command(Path::new("setpriv"));
        command.args(["--reuid", NOBODY, "--regid", NOBODY, "--clear-groups"]);
        check(command.arg(env.path("program")).args(["run", "plan.toml"]));
    } else {
        check(env.command(&env.path("program")).args(["run", "plan.toml"]));
    }
}

#[test]
fn root_of_a_user_namespace_can_hold_trials() {
    let env = TestEnv::new();
    prepare(&env);
    let mut command = env.command(Path::new("unshare"));
    command.args(["--user", "--map-root-user"]).arg(env.path("program"));
    check(command.args(["run", "plan.toml"]));
}
