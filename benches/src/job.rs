//! Programs to be confined.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::Command;
use std::time::Duration;

use fairtrial_sandbox::{Caps, Collect, Job, Reach};

/// A command that may read `show` besides the system's folders, within limits that it does not reach.
pub fn job(command: &[&str], show: Vec<PathBuf>) -> Job<'static> {
    Job {
        command: command.iter().map(|&it| it.to_owned()).collect(),
        env: BTreeMap::from([("PATH".into(), "/usr/bin:/bin".into())]),
        stdin: Vec::new(),
        layers: Vec::new(),
        driver: None,
        sealed: None,
        show,
        channel: false,
        links: Vec::new(),
        terminals: false,
        collect: Collect::Nothing,
        session: 1,
        network: Reach::Nothing,
        tree: None,
        home: None,
        caps: Caps {
            wall: Duration::from_secs(10),
            cpu: Duration::from_secs(5),
            memory: 256 << 20,
            processes: 16,
            output: 1 << 20,
            disk: 16 << 20,
        },
    }
}

/// The interpreter itself, not a version manager's stand-in for it, and the folder it needs.
pub fn python() -> Option<(String, PathBuf)> {
    let say = "import os, sys; print(os.path.realpath(sys.executable)); print(sys.base_prefix)";
    let out = Command::new("python3").args(["-I", "-c", say]).output().ok()?;
    let text = String::from_utf8(out.stdout).ok()?;
    let (program, folder) = text.trim().split_once('\n')?;
    Some((program.to_owned(), PathBuf::from(folder)))
}
