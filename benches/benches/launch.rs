//! What it costs to start a confined program, against starting it plainly.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::{Command, ExitCode, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use fairtrial_benches::{pair, print};
use fairtrial_sandbox::{Caps, Collect, Demand, Job, Sandbox, Tier, is_stage, stage_main};

const ROUNDS: usize = 60;

fn job(command: &[&str], show: Vec<PathBuf>) -> Job<'static> {
    Job {
        command: command.iter().map(|&it| it.to_owned()).collect(),
        env: BTreeMap::from([("PATH".into(), "/usr/bin:/bin".into())]),
        stdin: Vec::new(),
        layers: Vec::new(),
        driver: None,
        sealed: None,
        show,
        channel: false,
        collect: Collect::Nothing,
        session: 1,
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

fn plain(command: &[&str]) {
    let status = Command::new(command[0])
        .args(&command[1..])
        .env_clear()
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    assert!(status.expect("the command is there").success());
}

fn confined(sandbox: &Sandbox, job: &Job<'_>) {
    assert!(sandbox.run(job).expect("the sandbox works here").limit.is_none());
}

/// The interpreter itself, not a version manager's stand-in for it.
fn python() -> Option<(String, PathBuf)> {
    let say = "import os, sys; print(os.path.realpath(sys.executable)); print(sys.base_prefix)";
    let out = Command::new("python3").args(["-I", "-c", say]).output().ok()?;
    let text = String::from_utf8(out.stdout).ok()?;
    let (program, folder) = text.trim().split_once('\n')?;
    Some((program.to_owned(), PathBuf::from(folder)))
}

fn main() -> ExitCode {
    if is_stage() {
        return stage_main();
    }
    let stage = std::path::Path::new("/proc/self/exe");
    let sandbox = &Sandbox::open(stage, Demand::Only(Tier::Full)).expect("the full tier");
    let true_job = job(&["/bin/true"], Vec::new());
    let plain_true = || plain(&["/bin/true"]);
    print(
        "confined /bin/true, against plain",
        pair(ROUNDS, || confined(sandbox, &true_job), plain_true),
    );
    let bwrap = [
        "bwrap",
        "--unshare-all",
        "--ro-bind",
        "/usr",
        "/usr",
        "--symlink",
        "usr/lib",
        "/lib",
        "--symlink",
        "usr/lib64",
        "/lib64",
        "--symlink",
        "usr/bin",
        "/bin",
        "--dev",
        "/dev",
        "--proc",
        "/proc",
        "--tmpfs",
        "/tmp",
        "--tmpfs",
        "/work",
        "--",
        "/bin/true",
    ];
    let there = Command::new("bwrap").arg("--version").output().is_ok();
    if there {
        let reference = || plain(&bwrap);
        let found = pair(ROUNDS, || confined(sandbox, &true_job), reference);
        print("confined /bin/true, against bubblewrap's like", found);
    }
    if let Some((program, folder)) = python() {
        let command = [program.as_str(), "-S", "-E", "-c", "pass"];
        let python_job = job(&command, vec![folder]);
        let reference = || plain(&command);
        let found = pair(ROUNDS, || confined(sandbox, &python_job), reference);
        print("confined python3 -S -E -c pass, against plain", found);
    }
    parallel(sandbox, &true_job);
    ExitCode::SUCCESS
}

/// Launches for two seconds, by one thread and by two.
#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
fn parallel(sandbox: &Sandbox, job: &Job<'_>) {
    let count = |threads: usize| {
        let began = Instant::now();
        let done = AtomicUsize::new(0);
        std::thread::scope(|scope| {
            for _ in 0..threads {
                scope.spawn(|| {
                    while began.elapsed() < Duration::from_secs(2) {
                        confined(sandbox, job);
                        done.fetch_add(1, Ordering::Relaxed);
                    }
                });
            }
        });
        done.into_inner()
    };
    count(2);
    let (one, two) = (count(1), count(2));
    println!(
        "launches in 2 s: {one} by one thread, {two} by two, ratio {:.2}",
        two as f64 / one as f64
    );
}
