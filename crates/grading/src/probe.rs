//! Asking a tool where it is, which version it is, and what it can do: confined, like all that a
//! language's definition names, since a definition can come from somebody else.

use std::collections::BTreeMap;
use std::env;
use std::path::{Path, PathBuf};
use std::time::Duration;

use fairtrial_sandbox::{Caps, Collect, Ending, Job, Outcome, Reach, Sandbox};

/// What a tool may use to say who it is.
const CAPS: Caps = Caps {
    wall: Duration::from_secs(60),
    cpu: Duration::from_secs(20),
    memory: 2 << 30,
    processes: 128,
    output: 1 << 20,
    disk: 16 << 20,
};

/// Variables that tell a tool where its parts are.
const PASSED: &[&str] = &["PATH", "HOME", "RUSTUP_HOME", "RUSTUP_TOOLCHAIN"];

/// What a tool prints, with `input` on its standard input. Beside the system's folders it sees
/// `folders`; it cannot write anywhere, and there is no network.
///
/// # Errors
/// In words: it cannot be started, ends with an error, or takes too long.
pub fn ask(
    sandbox: &Sandbox,
    program: &Path,
    args: &[String],
    folders: &[PathBuf],
    input: &[u8],
) -> Result<Outcome, String> {
    let known = |name: &&str| Some(((*name).to_owned(), env::var(name).ok()?));
    let mut env: BTreeMap<String, String> = PASSED.iter().filter_map(known).collect();
    env.insert("LANG".to_owned(), "C.UTF-8".to_owned());
    let program = program.to_string_lossy().into_owned();
    let job = Job {
        command: [program.clone()].into_iter().chain(args.iter().cloned()).collect(),
        env,
        stdin: input.to_vec(),
        layers: Vec::new(),
        driver: None,
        sealed: None,
        show: folders.to_vec(),
        channel: false,
        links: Vec::new(),
        terminals: false,
        collect: Collect::Nothing,
        session: 0,
        network: Reach::Nothing,
        tree: None,
        home: None,
        caps: CAPS,
    };
    let outcome = sandbox.run(&job).map_err(|error| error.to_string())?;
    match (outcome.limit, outcome.ending) {
        (None, Ending::Exited(0)) => Ok(outcome),
        (Some(limit), _) => {
            Err(format!("`{program} {}` came to a limit ({limit:?})", args.join(" ")))
        }
        (None, _) => {
            let said = said(&outcome);
            let first = said.lines().next().unwrap_or_default();
            Err(format!("`{program} {}` failed: {first}", args.join(" ")))
        }
    }
}

/// What was printed, wherever it was.
pub fn said(outcome: &Outcome) -> String {
    let (out, err) = (&outcome.stdout.bytes, &outcome.stderr.bytes);
    String::from_utf8_lossy(if out.is_empty() { err } else { out }).into_owned()
}
