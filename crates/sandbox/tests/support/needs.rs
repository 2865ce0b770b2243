//! What a test needs of a machine besides Rust, a C linker, Python 3 and git. Where it is not there, the
//! test is not run, and its binary says so at its end; `FAIRTRIAL_TEST_ALL` makes that a failure.

use std::io::Write as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};

/// The variable that demands that every test is run.
const DEMAND: &str = "FAIRTRIAL_TEST_ALL";

/// Whether all of `needs` are there, for the test that calls this: names of programs, `pytest`, `junit5`.
pub fn there(needs: &[&str]) -> bool {
    let missing: Vec<&str> = needs.iter().copied().filter(|need| !is_there(need)).collect();
    if missing.is_empty() {
        return true;
    }
    let name = std::thread::current().name().unwrap_or("a test").to_owned();
    let line = format!("not run: {name}: no {} here", missing.join(", no "));
    assert!(std::env::var_os(DEMAND).is_none(), "{line}, and {DEMAND} is set");
    tell_at_end(&line);
    false
}

fn is_there(need: &str) -> bool {
    match need {
        "pytest" => on_search_path("python3").any(|python| {
            let asked = Command::new(python).args(["-I", "-c", "import pytest"]).output();
            asked.is_ok_and(|it| it.status.success())
        }),
        "junit5" => {
            let jar = Path::new("/usr/share/java/junit-platform-console.jar");
            jar.exists() && is_there("javac") && is_there("java")
        }
        program => on_search_path(program).next().is_some(),
    }
}

fn on_search_path(name: &str) -> impl Iterator<Item = std::path::PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let places: Vec<_> = std::env::split_paths(&path).map(|it| it.join(name)).collect();
    places.into_iter().filter(|it| it.is_file())
}

/// Keeps a line until this process ends: a child that waits for the end of its input prints it then.
fn tell_at_end(line: &str) {
    static TELLER: Mutex<Option<Child>> = Mutex::new(None);
    let mut teller = TELLER.lock().unwrap_or_else(PoisonError::into_inner);
    if teller.is_none() {
        let script = "lines=$(sort -u); printf '%s\\n' \"$lines\" >&2";
        *teller = Command::new("sh").args(["-c", script]).stdin(Stdio::piped()).spawn().ok();
    }
    match teller.as_mut().and_then(|it| it.stdin.as_mut()) {
        Some(to) => writeln!(to, "{line}").expect("the teller reads"),
        // Never silently.
        None => panic!("{line}"),
    }
}
