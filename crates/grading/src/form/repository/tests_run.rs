//! One run of a repository's tests.

use fairtrial_core::change::Change;
use fairtrial_core::testrun::{self, Printed, PrintedReport, PrintedTests, REPORT_MAX};
use fairtrial_core::tree::{FileTree, Node, RelPath, Snapshot};
use fairtrial_sandbox::{
    Archive, Caps, Collect, DRIVER, Job, Outcome, Reach, SandboxError, Tier, WORK,
};
use fairtrial_worktree::PreparedTree;

use super::settings::RepositoryTask;
use crate::context::{JudgeContext, JudgeError};

/// The name of the file in `/tmp` that tests may report to.
const REPORT: &str = "report";

/// Where that is.
const REPORT_PATH: &str = "/tmp/report";

/// Node's own runner has no report that names files.
const NODE_REPORTER: &str = include_str!("node_reporter.mjs");

/// Sealed files that are mounted so that nothing can change them; more are only laid.
const SEALED_MAX: usize = 256;

/// What a run of the tests came to.
pub struct TestsRun {
    pub outcome: Outcome,
    pub tests: Result<PrintedTests, String>,
}

/// Runs the task's tests on a change, with `sealed` laid over it.
pub fn run_tests(
    task: &RepositoryTask,
    context: &JudgeContext<'_>,
    prepared: &PreparedTree,
    change: &Change,
    sealed: &Snapshot,
) -> Result<TestsRun, JudgeError> {
    let layer = Archive::of_change(change)?;
    let over = Archive::of_snapshot(sealed)?;
    let home = Archive::empty()?;
    let driver = Archive::of(&FileTree::from([(rel("reporter.mjs")?, NODE_REPORTER.into())]))?;
    let is_mounted = sealed.len() <= SEALED_MAX;
    let mut env = task.env(context);
    env.insert("REPORT".to_owned(), REPORT_PATH.to_owned());
    if let Some(options) = node_options(task, prepared, change) {
        env.insert("NODE_OPTIONS".to_owned(), options);
    }
    let network = match context.sandbox().tier() {
        Tier::Full => Reach::Loopback { tool: None },
        Tier::Plain | Tier::Trusted => Reach::Nothing,
    };
    let job = Job {
        command: ["/bin/sh", "-c", &task.test].map(str::to_owned).to_vec(),
        env,
        tree: Some(prepared.name().to_owned()),
        layers: if is_mounted { vec![&layer] } else { vec![&layer, &over] },
        home: Some(&home),
        driver: Some(&driver),
        sealed: is_mounted.then_some(&over),
        show: task.folders(context),
        network,
        collect: Collect::Temporary(vec![rel(REPORT)?]),
        session: 0,
        terminals: true,
        ..context.job(&[], &rel(REPORT)?, caps(context), Vec::new())
    };
    let outcome = context.sandbox().run(&job)?;
    let files = match &outcome.collected {
        Some(archive) => archive.files()?,
        None => FileTree::new(),
    };
    let from = Printed {
        file: files.values().next().map(Vec::as_slice),
        stdout: &outcome.stdout.bytes,
        stderr: &outcome.stderr.bytes,
        root: WORK,
    };
    let tests = testrun::read_printed(task.report, &from).map_err(|error| error.to_string());
    Ok(TestsRun { tests, outcome })
}

/// Output is a report here.
fn caps(context: &JudgeContext<'_>) -> Caps {
    let caps = context.caps();
    Caps { output: caps.output.max(REPORT_MAX as u64), ..caps }
}

fn rel(text: &str) -> Result<RelPath, JudgeError> {
    let parsed = RelPath::parse(text);
    parsed.map_err(|error| JudgeError::Sandbox(SandboxError::SetUp(error.to_string())))
}

/// What makes Node's runner report to our reporter, besides what the command makes it do. `None` where the
/// command says where reports go: then its own is read.
fn node_options(task: &RepositoryTask, prepared: &PreparedTree, change: &Change) -> Option<String> {
    if task.report != PrintedReport::Node {
        return None;
    }
    let manifest = rel("package.json").ok().map(|it| (&it).into())?;
    let node = change.get(&manifest).unwrap_or_else(|| prepared.base().get(&manifest));
    let manifest = match node {
        Some(Node::File { bytes, .. }) => String::from_utf8_lossy(bytes).into_owned(),
        _ => String::new(),
    };
    let says = |option: &str| task.test.contains(option) || manifest.contains(option);
    if says("--test-reporter-destination") {
        return None;
    }
    let ours =
        format!("--test-reporter={DRIVER}/reporter.mjs --test-reporter-destination={REPORT_PATH}");
    // Options of the environment come first, and each reporter needs a destination.
    Some(if says("--test-reporter") {
        format!("{ours} --test-reporter-destination=stdout")
    } else {
        format!("{ours} --test-reporter=spec --test-reporter-destination=stdout")
    })
}
