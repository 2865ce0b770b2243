//! Making a repository ready: taking it out of its source, one commit, the task's commands.

use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use fairtrial_core::digest::Digest;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::{FileTree, RelPath, WorkTree};
use fairtrial_sandbox::{
    Archive, ArchiveError, Caps, Collect, DRIVER, Ending, HOME, Job, LimitHit, Outcome, Reach,
    Sandbox, WORK,
};

use crate::error::TreeError;
use crate::left_out::LeftOut;
use crate::read::TreeFolder;
use crate::source::Source;

/// Lays out the repository and runs the task's commands.
const LAY: &str = include_str!("lay.sh");

/// Takes a commit out of its source.
const CHECKOUT: &str = include_str!("checkout.sh");

/// With this a layout ends when a command of the task's failed.
const COMMAND_FAILED: i32 = 97;

/// Longest text of a failed command that is kept, in bytes.
const SAID_MAX: usize = 2000;

/// How a repository is made ready.
#[derive(Debug, Clone)]
pub struct TreePreparation {
    /// Where it comes from.
    pub source: Source,
    /// Files that are put over it first.
    pub given: WorkTree,
    /// Lines for the shell, run in the checkout one after the other.
    pub commands: Vec<String>,
    /// Whether the commands may use the machine's network.
    pub network: bool,
    /// Folders of this machine that they see, read-only.
    pub show: Vec<PathBuf>,
    /// Their environment.
    pub env: BTreeMap<String, String>,
    /// What they may use, all together.
    pub caps: Caps,
    /// What else the result depends on: the tools and their versions.
    pub tools: String,
}

/// A repository, ready: its prepared tree is in the store, where runs get views of it.
#[derive(Debug)]
pub struct PreparedTree {
    pub(crate) name: String,
    pub(crate) folder: PathBuf,
    pub(crate) base: WorkTree,
    /// Locked as long as the tree is in use.
    pub(crate) _lock: File,
}

impl PreparedTree {
    /// Its name in the store.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The files of the repository, as candidates find them. Files that were made by its preparation,
    /// and those of git's own, are not among them.
    #[must_use]
    pub fn base(&self) -> &WorkTree {
        &self.base
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(crate) fn open(&self) -> Result<TreeFolder, TreeError> {
        TreeFolder::open(&self.folder).map_err(TreeError::io(&self.folder))
    }
}

impl TreePreparation {
    /// What is the same only for equal results in this sandbox.
    pub(crate) fn digest(&self, sandbox: &Sandbox, left_out: &LeftOut) -> Digest {
        let mut text = format!(
            "1\0{}\0{}\0{}\0{LAY}\0{CHECKOUT}\0{}\0{}",
            sandbox.tree_kind(),
            self.source.digest(),
            Digest::of_snapshot(&self.given),
            self.network,
            self.tools,
        );
        for command in &self.commands {
            text += &format!("\0c{command}");
        }
        for folder in &self.show {
            text += &format!("\0s{}", folder.display());
        }
        for (key, value) in &self.env {
            text += &format!("\0e{key}={value}");
        }
        text += &left_out.text();
        Digest::of(text.as_bytes())
    }

    /// The files of the source but for those that are left out, with those that are given over them.
    /// `staging` names a tree of the store that may be made on the way.
    pub(crate) fn files(
        &self,
        sandbox: &Sandbox,
        staging: &str,
        left_out: &LeftOut,
    ) -> Result<WorkTree, TreeError> {
        let files = match &self.source {
            Source::Files(files) => files.clone(),
            other => self.check_out(sandbox, other, staging)?,
        };
        let mut files = left_out.without(files);
        for (path, node) in self.given.iter() {
            files.put(path.clone(), node.clone());
        }
        Ok(files)
    }

    fn check_out(
        &self,
        sandbox: &Sandbox,
        source: &Source,
        staging: &str,
    ) -> Result<WorkTree, TreeError> {
        let commit = source.commit().unwrap_or_default();
        let mut home = FileTree::new();
        let mut arguments = match source {
            Source::Bundle { bytes, .. } => {
                let name = RelPath::parse("source.bundle").map_err(io::Error::other);
                let name = name.map_err(TreeError::io(Path::new(HOME)))?;
                home.insert(name, bytes.to_vec());
                vec!["bundle".to_owned(), format!("{HOME}/source.bundle")]
            }
            Source::Address { address, .. } => vec!["address".to_owned(), address.clone()],
            Source::Files(_) => Vec::new(),
        };
        arguments.push(commit.to_owned());
        let is_elsewhere = matches!(source, Source::Address { .. }) && source.folder().is_none();
        let home = Archive::of(&home).map_err(archive)?;
        let job = Job {
            home: Some(&home),
            show: source.folder().into_iter().collect(),
            network: if is_elsewhere { Reach::Machine } else { Reach::Nothing },
            collect: Collect::Keep(staging.to_owned()),
            ..self.job(&arguments)
        };
        let outcome = run_script(sandbox, CHECKOUT, job)?;
        if outcome.limit.is_some() || outcome.ending != Ending::Exited(0) {
            return Err(TreeError::Checkout {
                commit: commit.to_owned(),
                source_name: source.describe(),
                said: said(&outcome, &self.caps),
            });
        }
        let folder = sandbox.store().unwrap_or(Path::new("/")).join(staging);
        let read = TreeFolder::open(&folder).and_then(|it| it.all());
        read.map_err(TreeError::io(&folder))
    }

    /// Makes the tree `name` of the store.
    pub(crate) fn make(
        &self,
        sandbox: &Sandbox,
        files: &WorkTree,
        name: &str,
    ) -> Result<(), TreeError> {
        let layer = Archive::of_snapshot(files).map_err(archive)?;
        let home = Archive::empty().map_err(archive)?;
        // Without namespaces the network cannot be the run's own.
        let is_apart = sandbox.tier() == fairtrial_sandbox::Tier::Full;
        let network = match (self.network, is_apart) {
            (true, _) => Reach::Machine,
            (false, true) => Reach::Loopback { tool: None },
            (false, false) => Reach::Nothing,
        };
        let job = Job {
            layers: vec![&layer],
            home: Some(&home),
            show: self.show.clone(),
            network,
            collect: Collect::Keep(name.to_owned()),
            ..self.job(&self.commands)
        };
        let outcome = run_script(sandbox, LAY, job)?;
        match (outcome.limit, outcome.ending) {
            (None, Ending::Exited(0)) => Ok(()),
            (None, Ending::Exited(COMMAND_FAILED)) => Err(self.failed_command(&outcome)),
            _ => Err(TreeError::Layout(said(&outcome, &self.caps))),
        }
    }

    fn failed_command(&self, outcome: &Outcome) -> TreeError {
        let text = String::from_utf8_lossy(&outcome.stderr.bytes);
        let last = text.trim_end().rsplit('\n').next().unwrap_or_default();
        let mut words = last.strip_prefix(FAILED).unwrap_or_default().split(' ');
        let number: usize = words.next().and_then(|it| it.parse().ok()).unwrap_or(1);
        let status = words.next().unwrap_or("another status than 0");
        let command = self.commands.get(number.saturating_sub(1)).cloned().unwrap_or_default();
        let said = text.trim_end().strip_suffix(last).unwrap_or_default();
        let stdout = String::from_utf8_lossy(&outcome.stdout.bytes);
        let said = if said.trim().is_empty() { &stdout } else { said };
        TreeError::Command {
            number,
            command,
            ended: format!("ended with status {status}"),
            said: head_and_tail(said.trim(), SAID_MAX),
        }
    }

    fn job(&self, arguments: &[String]) -> Job<'_> {
        let mut command: Vec<String> =
            ["/bin/sh", &format!("{DRIVER}/script")].map(str::to_owned).to_vec();
        command.extend(arguments.iter().cloned());
        let mut env = self.env.clone();
        env.insert("WORK".to_owned(), WORK.to_owned());
        env.insert("TMPDIR".to_owned(), "/tmp".to_owned());
        Job {
            command,
            env,
            stdin: Vec::new(),
            tree: None,
            layers: Vec::new(),
            home: None,
            driver: None,
            sealed: None,
            show: Vec::new(),
            channel: false,
            links: Vec::new(),
            terminals: false,
            collect: Collect::Nothing,
            session: 0,
            network: Reach::Nothing,
            caps: self.caps,
        }
    }
}

/// Stands before the number of a command that failed.
const FAILED: &str = "prepare-failed ";

fn archive(error: ArchiveError) -> TreeError {
    TreeError::Sandbox(error.into())
}

fn run_script(sandbox: &Sandbox, script: &str, job: Job<'_>) -> Result<Outcome, TreeError> {
    if !["/usr/local/bin/git", "/usr/bin/git"].iter().any(|it| Path::new(it).exists()) {
        return Err(TreeError::NoGit);
    }
    let name = RelPath::parse("script").map_err(io::Error::other);
    let name = name.map_err(TreeError::io(Path::new(DRIVER)))?;
    let driver = Archive::of(&FileTree::from([(name, script.as_bytes().to_vec())]));
    let driver = driver.map_err(archive)?;
    Ok(sandbox.run(&Job { driver: Some(&driver), ..job })?)
}

/// What a run that failed said, or which limit it met.
fn said(outcome: &Outcome, caps: &Caps) -> String {
    let stderr = String::from_utf8_lossy(&outcome.stderr.bytes);
    let how = match (outcome.limit, outcome.ending) {
        (Some(LimitHit::Wall | LimitHit::Cpu), _) => {
            format!("it took more than {} s", caps.cpu.as_secs())
        }
        (Some(LimitHit::Memory), _) => {
            format!("it used more than {} MiB of memory", caps.memory >> 20)
        }
        (Some(LimitHit::Disk), _) => format!(
            "it wrote more than {} MiB of files; `[limits] build_disk` sets that",
            caps.disk >> 20
        ),
        (Some(limit), _) => format!("it met the limit {limit:?}"),
        (None, Ending::Exited(status)) => format!("it ended with status {status}"),
        (None, Ending::Signalled(signal)) => format!("it ended by signal {signal}"),
    };
    let said = head_and_tail(stderr.trim(), SAID_MAX);
    if said.is_empty() { how } else { format!("{how}; {said}") }
}
