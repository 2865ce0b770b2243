//! What the tool itself costs: its own processor time a trial, outside of the sandboxed programs;
//! the memory of a whole demo; the time of a start that does nothing.
//!
//! The first figure is that of this process while it holds 200 trials of recorded answers: reading
//! the answer, starting the sandbox, talking to it, comparing, writing the record. The helper and
//! the program under trial are processes of their own and are not in it.

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};
use std::sync::atomic::AtomicBool;
use std::time::Instant;

use fairtrial_benches::{pair, print};
use fairtrial_runner::{
    Observer, PrepareOptions, Progress, RunNews, RunOptions, TrialChoice, prepare, run_trials,
};
use fairtrial_sandbox::{Demand, Tier};
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::time::TimeValLike as _;

/// Samples of each of the two tasks.
const SAMPLES: usize = 100;

struct Silent;

impl Observer for Silent {
    fn progress(&mut self, _: &Progress) {}
    fn happened(&mut self, _: &RunNews<'_>) {}
}

fn cpu_ms() -> f64 {
    let usage = getrusage(UsageWho::RUSAGE_SELF).expect("the kernel tells");
    (usage.user_time().num_microseconds() + usage.system_time().num_microseconds()) as f64 / 1e3
}

fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo")
}

/// Lays out a plan of two tasks, a call and a program, with their right answers.
fn write_docket(folder: &Path) -> std::io::Result<PathBuf> {
    let docket = folder.join("docket");
    std::fs::create_dir_all(&docket)?;
    std::fs::copy(demo().join("docket/docket.toml"), docket.join("docket.toml"))?;
    let mut lines = String::new();
    for (task, proof) in [("tide-windows", "right.py"), ("quay-log", "right.sh")] {
        let from = demo().join("docket").join(task);
        let done = Command::new("cp").arg("-r").arg(&from).arg(&docket).status()?;
        assert!(done.success());
        let code = std::fs::read_to_string(from.join("proofs").join(proof))?;
        let answer = format!("```\n{code}```").replace('\\', "\\\\").replace('"', "\\\"");
        let answer = answer.replace('\n', "\\n");
        for sample in 1..=SAMPLES {
            lines.push_str(&format!(
                "{{\"task\": \"{task}\", \"sample\": {sample}, \"answer\": \"{answer}\"}}\n"
            ));
        }
    }
    std::fs::write(folder.join("answers.jsonl"), lines)?;
    let plan = folder.join("plan.toml");
    std::fs::write(
        &plan,
        format!(
            "docket = \"docket\"\nsamples = {SAMPLES}\n[[candidate]]\nname = \"dinghy\"\n\
             kind = \"recorded\"\npath = \"answers.jsonl\"\n"
        ),
    )?;
    Ok(plan)
}

#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
fn main() -> ExitCode {
    if fairtrial_sandbox::is_helper() {
        return fairtrial_sandbox::helper_main();
    }
    let folder = tempfile::tempdir().expect("a folder");
    let plan = write_docket(folder.path()).expect("the demo is there");
    let options = PrepareOptions {
        env: &|_| None,
        version: "bench",
        demand: Demand::Only(Tier::Full),
        fresh: false,
        progress: &|_| {},
    };
    let preparation = prepare(&plan, &options).expect("the plan is right");
    let options = RunOptions {
        record: folder.path().join("record"),
        judging: 2,
        choice: TrialChoice::default(),
        trying: false,
        reuse: None,
    };
    let (before, began) = (cpu_ms(), Instant::now());
    let summary = run_trials(&preparation, &options, &AtomicBool::new(false), &mut Silent);
    let (own, wall) = (cpu_ms() - before, began.elapsed());
    let progress = summary.expect("the record can be written").progress;
    assert_eq!(progress.candidates[0].passed, 2 * SAMPLES, "every trial passes");
    let trials = (2 * SAMPLES) as f64;
    println!(
        "own processor time a trial: {:.2} ms (limit 5 ms); {:.1} ms of wall time a trial",
        own / trials,
        wall.as_secs_f64() * 1e3 / trials
    );
    program_figures(folder.path());
    ExitCode::SUCCESS
}

/// Figures of the built program: `cargo build --release` makes it.
#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
fn program_figures(folder: &Path) {
    let program = Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/release/fairtrial");
    if !program.exists() {
        println!("no release build: run `cargo build --release` for the program's own figures");
        return;
    }
    let run = |program: &Path, args: &[&str]| {
        let mut command = Command::new(program);
        command.args(args).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        assert!(command.status().expect("it starts").success());
    };
    let found = pair(100, || run(&program, &["--version"]), || run(Path::new("/bin/true"), &[]));
    print("fairtrial --version, against /bin/true", found);
    let out = folder.join("demo");
    let began = Instant::now();
    let mut child = Command::new(&program)
        .args(["demo", "--out"])
        .arg(&out)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("it starts");
    let status = PathBuf::from(format!("/proc/{}/status", child.id()));
    let mut peak = 0;
    while child.try_wait().expect("it is ours").is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = line.and_then(|it| it.trim().strip_suffix(" kB")?.trim().parse().ok());
        peak = peak.max(kib.unwrap_or(0_u64));
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    println!(
        "fairtrial demo: {:.1} s, {:.1} MB of memory at most (limit 60 MB)",
        began.elapsed().as_secs_f64(),
        peak as f64 * 1024.0 / 1e6
    );
}
