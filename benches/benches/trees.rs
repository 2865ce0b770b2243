//! What it costs to begin on a prepared repository of 10,000 files and 200 MB, against a clone that shares
//! the objects and a copy of what was prepared.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::{Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

use fairtrial_benches::{job, pair, print};
use fairtrial_core::tree::{Node, TreePath, WorkTree};
use fairtrial_sandbox::{Caps, Collect, Demand, Job, Sandbox, Tier, helper_main, is_helper};
use fairtrial_worktree::{Source, TreeCache, TreePreparation, take_change};

const ROUNDS: usize = 5;

/// Files that git tracks, and those that preparing makes.
const TRACKED: usize = 9_000;
const PREPARED: usize = 1_000;

/// Bytes of each that is made.
const PREPARED_SIZE: usize = 200_000;

fn sh(folder: &Path, script: &str) {
    let mut command = Command::new("/bin/sh");
    command.args(["-ec", script]).current_dir(folder).stdin(Stdio::null()).stdout(Stdio::null());
    assert!(command.status().expect("there is a shell").success(), "{script}");
}

fn source() -> WorkTree {
    let file = |number: usize| {
        let path = format!("src/{}/file{number}.py", number / 100);
        let text = format!("# {number}\n").repeat(20);
        let node = Node::File { bytes: text.as_bytes().into(), executable: false };
        (TreePath::parse(path.as_bytes()).expect("a path"), node)
    };
    let ignore = Node::File { bytes: b"/made/\n"[..].into(), executable: false };
    let ignore = (TreePath::parse(b".gitignore").expect("a path"), ignore);
    (0..TRACKED).map(file).chain([ignore]).collect()
}

#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
fn main() -> ExitCode {
    if is_helper() {
        return helper_main();
    }
    let folder = tempfile::tempdir().expect("a folder");
    let sandbox = Sandbox::open(Path::new("/proc/self/exe"), Demand::Only(Tier::Full));
    let sandbox = sandbox.expect("the full tier").with_store(folder.path().join("trees"));
    let sandbox = sandbox.expect("a store");
    let make = format!(
        "mkdir made; i=0; while [ $i -lt {PREPARED} ]; do head -c {PREPARED_SIZE} /dev/urandom > made/$i; i=$((i+1)); done"
    );
    let caps = Caps {
        wall: Duration::from_secs(120),
        cpu: Duration::from_secs(120),
        memory: 1 << 30,
        disk: 1 << 30,
        processes: 64,
        output: 1 << 20,
    };
    let preparation = TreePreparation {
        source: Source::Files(source()),
        given: WorkTree::new(),
        commands: vec![make],
        network: false,
        show: Vec::new(),
        env: BTreeMap::from([("PATH".into(), "/usr/bin:/bin".into())]),
        caps,
        tools: String::new(),
    };
    let cache = TreeCache::new(8 << 30, false);
    let prepared = cache.prepared(&sandbox, &preparation).expect("it can be made ready");
    let tree = folder.path().join("trees").join(prepared.name());
    let begun = |script: &str, collect| Job {
        tree: Some(prepared.name().to_owned()),
        collect,
        caps,
        ..job(&["/bin/sh", "-c", script], Vec::new())
    };
    let view = begun("echo 1 > src/0/new.py", Collect::Nothing);
    let run = || assert!(sandbox.run(&view).expect("the sandbox works").limit.is_none());
    // The reference: what a tool without views does for each trial.
    let origin = folder.path().join("origin");
    sh(
        folder.path(),
        &format!(
            "cp -r {} origin && cd origin && rm -rf .git && git init -q && git add -A && git -c user.name=b -c user.email=b@localhost commit -qm x",
            tree.display()
        ),
    );
    let clone = format!(
        "rm -rf clone && git clone -q --shared origin clone && cp -r {}/made clone/made",
        origin.display()
    );
    print(
        "begin on a prepared repository, against a shared clone and a copy",
        pair(ROUNDS, run, || sh(folder.path(), &clone)),
    );
    let began = Instant::now();
    let rounds = 50;
    (0..rounds).for_each(|_| run());
    let each = began.elapsed().as_secs_f64() * 1000.0 / f64::from(rounds);
    println!("begin on a prepared repository: {each:.1} ms");
    let skip = vec![".git".to_owned()];
    let changed = begun("echo 1 > src/0/new.py; rm src/1/file100.py", Collect::Changes { skip });
    let began = Instant::now();
    for _ in 0..rounds {
        let outcome = sandbox.run(&changed).expect("the sandbox works");
        let collected = outcome.collected.expect("changes are collected");
        assert_eq!(take_change(&prepared, &collected).expect("it can be read").change.len(), 2);
    }
    let taken = began.elapsed().as_secs_f64() * 1000.0 / f64::from(rounds);
    println!("the same, and the change taken out: {taken:.1} ms");
    ExitCode::SUCCESS
}
