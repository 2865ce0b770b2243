//! What single calls cost, against starts of an interpreter.

use std::path::Path;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use fairtrial_benches::{job, pair, print, python};
use fairtrial_core::language::Languages;
use fairtrial_core::limits::Limits;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_grading::{Docket, Judge, PosedTask, Toolbox};
use fairtrial_sandbox::{Demand, Sandbox, Tier, helper_main, is_helper};

const ROUNDS: usize = 30;

/// A task of `calls` calls of a function that adds two numbers.
fn task(calls: usize, isolate: bool) -> PosedTask {
    let brief = format!(
        "+++\ntitle = \"T\"\nform = \"call\"\nlanguage = \"python\"\ncategory = \"c\"\n\
         difficulty = 1\n[call]\nfile = \"a.py\"\nname = \"f\"\nisolate = {isolate}\n+++\nAdd.\n"
    );
    let line = |n: usize| format!("{{\"args\": [{n}, 1], \"returns\": {}}}\n", n + 1);
    let mut files = FileTree::new();
    for (path, text) in [
        ("docket.toml", "title = \"D\"".to_owned()),
        ("t/brief.md", brief),
        ("t/sealed/calls.jsonl", (0..calls).map(line).collect()),
    ] {
        files.insert(RelPath::parse(path).expect("a path"), text.into_bytes());
    }
    Docket::parse("d", &files.into(), &Languages::shipped()).expect("a docket").tasks.remove(0)
}

fn judged(judge: &Judge, task: &PosedTask, answer: &FileTree) {
    let judged = judge.judge_files(task, answer, Limits::default(), false);
    assert!(judged.verdict.is_pass(), "{judged:?}");
}

#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
fn main() -> ExitCode {
    if is_helper() {
        return helper_main();
    }
    let open = || Sandbox::open(Path::new("/proc/self/exe"), Demand::Only(Tier::Full));
    let sandbox = open().expect("the full tier");
    let Some((program, folder)) = python() else {
        println!("no Python here");
        return ExitCode::SUCCESS;
    };
    // As the driver is started.
    let job = job(&[&program, "-B", "-S", "-c", "pass"], vec![folder]);
    let languages = Languages::shipped();
    let tools = Toolbox::find(&languages, ["python"].into_iter(), &sandbox);
    let judge = Judge::new(languages, tools, open().expect("the full tier"));
    let path = RelPath::parse("a.py").expect("a path");
    let answer = FileTree::from([(path, b"def f(a, b):\n    return a + b\n".to_vec())]);
    let fresh = || assert!(sandbox.run(&job).expect("it runs").limit.is_none());
    let fifty = task(50, false);
    let found = pair(ROUNDS, || judged(&judge, &fifty, &answer), fresh);
    print("a task of 50 calls, against one confined start", found);
    let (one, many) = (task(1, true), task(51, true));
    let each = || {
        let began = Instant::now();
        judged(&judge, &many, &answer);
        let with = began.elapsed();
        let began = Instant::now();
        judged(&judge, &one, &answer);
        with.saturating_sub(began.elapsed()) / 50
    };
    let mut calls: Vec<Duration> = (0..ROUNDS / 3).map(|_| each()).collect();
    let mut starts: Vec<Duration> = (0..ROUNDS)
        .map(|_| {
            let began = Instant::now();
            fresh();
            began.elapsed()
        })
        .collect();
    calls.sort();
    starts.sort();
    let (call, start) = (calls[calls.len() / 2], starts[starts.len() / 2]);
    println!(
        "an isolated call: {:.2} ms, {:.3} of a confined start ({:.2} ms)",
        call.as_secs_f64() * 1e3,
        call.as_secs_f64() / start.as_secs_f64(),
        start.as_secs_f64() * 1e3
    );
    ExitCode::SUCCESS
}
