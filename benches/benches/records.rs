//! Large records: standings with intervals, ranks and ranges, one comparison, one trial, reading included, beside
//! the same by a script of numpy and pandas. `cargo bench -p fairtrial-benches --bench records`; with `-- --large`
//! for 1,000,000 trials; with `-- --report` the page of 20,000 trials with answers of their own.

#![expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use fairtrial_benches::{RecordSize, generate, median, wait_with_usage};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let args: Vec<String> = std::env::args().collect();
    let is_set = |name: &str| args.iter().any(|it| it == name);
    let own_texts = is_set("--report");
    let size = |candidates, tasks, samples, void_in| RecordSize {
        candidates,
        tasks,
        samples,
        void_in,
        own_texts,
    };
    let sizes = match (is_set("--test"), is_set("--large")) {
        (true, _) => vec![size(3, 20, 2, 50)],
        _ if own_texts => vec![size(10, 400, 5, 50)],
        (false, false) => vec![size(20, 500, 10, 0), size(20, 500, 10, 50)],
        (false, true) => vec![size(100, 1000, 10, 0), size(100, 1000, 10, 50)],
    };
    let repeats = if is_set("--test") { 1 } else { 5 };
    // A record that was made before is measured again: `--record DIR`.
    let kept = args.iter().position(|it| it == "--record").and_then(|it| args.get(it + 1));
    let kept: Option<PathBuf> = kept.map(PathBuf::from);
    let program = built()?;
    for size in sizes {
        let folder = tempfile::tempdir()?;
        let record = kept.clone().unwrap_or_else(|| folder.path().join("record"));
        let began = Instant::now();
        if !record.exists() {
            generate(&record, size)?;
        }
        let trials = size.candidates * size.tasks * size.samples;
        println!("{trials} trials, one in {} void (made in {:.0?})", size.void_in, began.elapsed());
        let path = record.to_string_lossy().into_owned();
        for (name, args) in [
            ("standings", vec!["standings", &path, "--json"]),
            ("by category", vec!["standings", &path, "--by", "category", "--json"]),
            ("comparison", vec!["compare", &path, "seabird-001", "seabird-002", "--json"]),
            ("one trial", vec!["show", &path, "--trial", "77"]),
        ] {
            let mut times = Vec::new();
            let mut memory = 0;
            for _ in 0..repeats {
                let (time, peak) = timed(Command::new(&program).args(&args))?;
                times.push(time);
                memory = memory.max(peak);
            }
            let time = median(times).as_secs_f64();
            println!("  {name:<12} {time:>7.3} s {:>6} MB", memory / 1000);
        }
        if own_texts {
            let page = folder.path().join("page.html");
            let began = Instant::now();
            let args = ["report", &path, "-o", &page.to_string_lossy()];
            assert!(Command::new(&program).args(args).status()?.success());
            let size = std::fs::metadata(&page)?.len() as f64 / 1e6;
            let seconds = began.elapsed().as_secs_f64();
            println!("  {:<12} {seconds:>7.3} s {size:>6.1} MB of page", "report");
        } else {
            reference(&record);
        }
    }
    Ok(())
}

/// The program as a release build makes it.
fn built() -> Result<String, Box<dyn std::error::Error>> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let status = Command::new("cargo")
        .args(["build", "--release", "--quiet", "-p", "fairtrial"])
        .current_dir(&root)
        .status()?;
    assert!(status.success(), "the program does not build");
    Ok(root.join("target/release/fairtrial").to_string_lossy().into_owned())
}

/// How long a command takes, and its most memory in kilobytes.
fn timed(command: &mut Command) -> Result<(Duration, u64), Box<dyn std::error::Error>> {
    let began = Instant::now();
    let child = command.stdout(Stdio::null()).spawn()?;
    let (succeeded, peak) = wait_with_usage(child)?;
    assert!(succeeded, "{command:?} failed");
    Ok((began.elapsed(), peak))
}

/// The same by numpy and pandas, where they are.
fn reference(record: &Path) {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("standings_reference.py");
    let began = Instant::now();
    let database = record.join("trials.sqlite");
    let ran = Command::new("python3").arg(script).arg(database).stdout(Stdio::null()).status();
    match ran {
        Ok(status) if status.success() => {
            println!("  {:<12} {:>7.3} s", "numpy+pandas", began.elapsed().as_secs_f64());
        }
        _ => println!("  no reference: python3 with numpy and pandas is not there"),
    }
}
