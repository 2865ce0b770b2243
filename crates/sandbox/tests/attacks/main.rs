//! Hostile programs in the real sandbox: in the full tier and in the plain one, as root and as an
//! ordinary user, and where the kernel gives no namespaces.
//!
//! One test holds all attacks in one setting; other settings are reached by starting this test's
//! program again, as another user or without namespaces.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]
#![cfg(target_arch = "x86_64")]

mod control;
mod env;
#[path = "../support/needs.rs"]
mod needs;
mod neighbours;
mod set;

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Mutex, MutexGuard, PoisonError};

use fairtrial_sandbox::{Demand, Tier};

use crate::env::AttackEnv;

/// Tells a program that was started again which tier it is to test.
const TIER: &str = "ATTACKS_IN_TIER";

/// Tells it where the helper is.
const HELPER: &str = "ATTACKS_HELPER";

/// An ordinary user that every system has.
const NOBODY: &str = "65534";

/// Takes every kind of namespace away from a user namespace, then goes on.
const WITHOUT_NAMESPACES: &str =
    "for i in /proc/sys/user/max_*_namespaces; do echo 0 > $i; done; exec \"$@\"";

fn helper() -> PathBuf {
    let given = std::env::var_os(HELPER).map(PathBuf::from);
    given.unwrap_or_else(|| env!("CARGO_BIN_EXE_fairtrial-helper").into())
}

fn is_root() -> bool {
    fs::metadata("/proc/self").unwrap().uid() == 0
}

/// They use up what a machine has: one setting at a time.
static ALONE: Mutex<()> = Mutex::new(());

fn alone() -> MutexGuard<'static, ()> {
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Does nothing unless this program was started again.
#[test]
fn in_the_setting_that_was_asked_for() {
    let Ok(tier) = std::env::var(TIER) else { return };
    let env = AttackEnv::set_up(&helper(), Demand::Confined);
    assert_eq!(env.tier().word(), tier);
    env.run_beside_hogs();
    env.run_all();
}

/// Tells a program that was started again that attacks are to run where nothing stands in their way.
const CONTROL: &str = "ATTACKS_UNCONFINED";

/// Does nothing unless this program was started again.
#[test]
fn where_nothing_stands_in_the_way() {
    if std::env::var_os(CONTROL).is_none() {
        return;
    }
    let env = AttackEnv::set_up(&helper(), Demand::Only(Tier::Full));
    let powerless = control::powerless(&env);
    assert!(powerless.is_empty(), "{}", powerless.join("\n"));
}

#[test]
fn each_attack_gets_what_it_is_after_where_nothing_stands_in_its_way() {
    if !needs::there(&["node"]) {
        return;
    }
    assert!(control::is_possible(), "an ordinary user can make no container here");
    let folder = tempfile::tempdir().unwrap();
    let mut before = vec!["env", "ATTACKS_UNCONFINED=1"];
    if is_root() {
        before = vec!["setpriv", "--reuid", NOBODY, "--regid", NOBODY, "--clear-groups"];
        before.extend(["env", "ATTACKS_UNCONFINED=1"]);
    }
    start_again(folder.path(), &before, "where_nothing_stands_in_the_way", Tier::Full);
}

#[test]
fn no_attack_gets_out_of_the_full_tier() {
    let _alone = alone();
    AttackEnv::set_up(&helper(), Demand::Only(Tier::Full)).run_all();
}

#[test]
fn no_attack_gets_out_of_the_plain_tier() {
    let _alone = alone();
    let env = AttackEnv::set_up(&helper(), Demand::Only(Tier::Plain));
    env.run_beside_hogs();
    env.run_all();
}

#[test]
fn no_neighbour_is_felt_in_the_full_tier() {
    let _alone = alone();
    AttackEnv::set_up(&helper(), Demand::Only(Tier::Full)).run_beside_hogs();
}

/// Starts this program again with copies that every user can reach.
fn again(folder: &Path, before: &[&str], tier: Tier) {
    start_again(folder, before, "in_the_setting_that_was_asked_for", tier);
}

fn start_again(folder: &Path, before: &[&str], test: &str, tier: Tier) {
    let _alone = alone();
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755)).unwrap();
    let copy = |from: &Path, name: &str| {
        let to = folder.join(name);
        fs::copy(from, &to).unwrap();
        to
    };
    let program = copy(&std::env::current_exe().unwrap(), "attacks");
    let helper = copy(&helper(), "helper");
    let out = Command::new(before[0])
        .args(&before[1..])
        .arg(program)
        .args(["--exact", test, "--nocapture"])
        .env(TIER, tier.word())
        .env(HELPER, helper)
        .env("HOME", "/")
        .output()
        .unwrap();
    let said =
        format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    assert!(out.status.success(), "{said}");
    assert!(said.contains("1 passed"), "{said}");
}

#[test]
fn no_attack_gets_out_as_an_ordinary_user() {
    if !is_root() {
        // The other tests run as one already.
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let user = ["setpriv", "--reuid", NOBODY, "--regid", NOBODY, "--clear-groups"];
    again(folder.path(), &user, Tier::Full);
}

#[test]
fn no_attack_gets_out_as_a_user_with_subordinate_users() {
    if !is_root() || !needs::there(&["newuidmap", "newgidmap"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    // The files that say so, in a mount namespace of this test alone.
    let ids = folder.path().join("ids");
    fs::write(&ids, "nobody:3000000000:65536\n").unwrap();
    let lay = format!(
        "for f in /etc/subuid /etc/subgid; do mount --bind {} $f || exit 9; done; exec \"$@\"",
        ids.display()
    );
    let mut before = vec!["unshare", "--mount", "sh", "-c", &lay, "sh"];
    before.extend(["setpriv", "--reuid", NOBODY, "--regid", NOBODY, "--clear-groups"]);
    before.extend(["env", "ATTACKS_OWN_USERS=1"]);
    again(folder.path(), &before, Tier::Full);
}

#[test]
fn no_attack_gets_out_where_there_are_no_namespaces() {
    let folder = tempfile::tempdir().unwrap();
    let mut before = Vec::new();
    if is_root() {
        before.extend(["setpriv", "--reuid", NOBODY, "--regid", NOBODY, "--clear-groups"]);
    }
    before.extend(["unshare", "--user", "--map-root-user", "sh", "-c", WITHOUT_NAMESPACES, "sh"]);
    again(folder.path(), &before, Tier::Plain);
}
