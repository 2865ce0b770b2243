//! The same cheats and odd answers, judged by an ordinary user.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::process::Command;

use crate::env::{HELPER, helper};

/// An ordinary user that every system has.
const NOBODY: &str = "65534";

/// What is judged again, by the languages that every user finds.
const AGAIN: &[&str] = &[
    "cheats::no_cheat_passes_a_call",
    "cheats::no_cheat_passes_as_a_program",
    "apart::no_error_of_a_runner_s_own_ends_a_test_well",
    "apart::nothing_that_an_answer_hands_out_does_anything_among_the_tests",
    "cheats::what_a_runner_obeys_is_not_taken_from_an_answer",
    "honest::odd_but_right_answers_pass",
    "honest::whole_numbers_of_any_length_go_in_and_come_out",
];

#[test]
fn verdicts_are_the_same_for_an_ordinary_user() {
    if fs::metadata("/proc/self").unwrap().uid() != 0 {
        // All the other tests run as one already.
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let copy = |from: &std::path::Path, name: &str| {
        let to = folder.path().join(name);
        fs::copy(from, &to).unwrap();
        to
    };
    let program = copy(&std::env::current_exe().unwrap(), "grading");
    let helper = copy(&helper(), "helper");
    let out = Command::new("setpriv")
        .args(["--reuid", NOBODY, "--regid", NOBODY, "--clear-groups"])
        .arg(program)
        .arg("--exact")
        .args(AGAIN)
        .env(HELPER, helper)
        .env("HOME", "/")
        .env("PATH", "/usr/local/bin:/usr/bin:/bin")
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&out.stdout);
    assert!(said.contains(&format!("{} passed", AGAIN.len())), "{said}");
}
