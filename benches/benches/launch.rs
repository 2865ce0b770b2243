//! What it costs to start a confined program, against starting it plainly.

use std::process::{Command, ExitCode, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use fairtrial_benches::{job, median, pair, print, python};
use fairtrial_sandbox::{Demand, Job, Sandbox, Tier, helper_main, is_helper};

const ROUNDS: usize = 60;

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

fn main() -> ExitCode {
    if is_helper() {
        return helper_main();
    }
    let helper = std::path::Path::new("/proc/self/exe");
    let sandbox = &Sandbox::open(helper, Demand::Only(Tier::Full)).expect("the full tier");
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

/// Launches by one thread and by two, in turn.
#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
fn parallel(sandbox: &Sandbox, job: &Job<'_>) {
    const SLICE: Duration = Duration::from_secs(2);
    let count = |threads: usize| {
        let began = Instant::now();
        let done = AtomicUsize::new(0);
        std::thread::scope(|scope| {
            for _ in 0..threads {
                scope.spawn(|| {
                    while began.elapsed() < SLICE {
                        confined(sandbox, job);
                        done.fetch_add(1, Ordering::Relaxed);
                    }
                });
            }
        });
        done.into_inner()
    };
    count(2);
    let rows: Vec<(usize, usize)> = (0..3).map(|_| (count(1), count(2))).collect();
    let ratio = |row: &(usize, usize)| (row.1 as f64 / row.0 as f64 * 1e6) as u64;
    println!(
        "launches a second: {} by one thread, {} by two, ratio {:.2}",
        median(rows.iter().map(|row| row.0).collect()) / 2,
        median(rows.iter().map(|row| row.1).collect()) / 2,
        median(rows.iter().map(ratio).collect()) as f64 / 1e6
    );
}
