//! What is to be run, and what came of it.

use std::collections::BTreeMap;
use std::os::fd::BorrowedFd;
use std::path::PathBuf;
use std::time::Duration;

use fairtrial_core::tree::RelPath;
use serde::{Deserialize, Serialize};

use crate::archive::{Archive, ArchiveError};

/// The folder that a program finds itself in.
pub const WORK: &str = "/work";

/// The folder of the files in [`Job::home`].
pub const HOME: &str = "/tmp/home";

/// The folder of the files in [`Job::driver`].
pub const DRIVER: &str = "/opt/driver";

/// Our own program, as one to run: it is started inside as it was started outside, wherever its file is.
pub const OWN_PROGRAM: &str = "/proc/self/exe";

/// One program to run.
#[derive(Debug)]
pub struct Job<'a> {
    /// The program, as a path that exists inside, and its arguments. Paths below [`WORK`] and
    /// [`DRIVER`] are replaced by their real paths in the tier that is used.
    pub command: Vec<String>,
    /// Its whole environment; paths as in the command.
    pub env: BTreeMap<String, String>,
    /// What it reads on standard input.
    pub stdin: Vec<u8>,
    /// A tree of the sandbox's store, which the work folder is a view of: what the program writes there
    /// is the run's own.
    pub tree: Option<String>,
    /// What is unpacked into [`WORK`], over the tree, later layers over earlier ones.
    pub layers: Vec<&'a Archive>,
    /// What is unpacked into [`HOME`]; `None`: there is no such folder.
    pub home: Option<&'a Archive>,
    /// Laid over the layers: files that it may read but neither change nor move nor remove. In the
    /// plain tier that holds only where the tool runs as root.
    pub sealed: Option<&'a Archive>,
    /// Files that it may read but not change, unpacked into [`DRIVER`].
    pub driver: Option<&'a Archive>,
    /// Folders of this machine that it may read besides the system's own.
    pub show: Vec<PathBuf>,
    /// Whether descriptor 3 is a channel to the tool.
    pub channel: bool,
    /// Its ends of [`link`](crate::link) to programs of other runs: the descriptors behind the channel, or
    /// from 3 on where there is none.
    pub links: Vec<BorrowedFd<'a>>,
    /// Whether it can open pseudo-terminals of its own (pty(7)), in the full tier.
    pub terminals: bool,
    /// What of [`WORK`] is wanted afterwards.
    pub collect: Collect,
    /// Runs of one session, such as the cases of one answer, may follow each other in one empty
    /// network namespace, whose making is half of what a start costs. 0 gets a new one always.
    pub session: u64,
    /// What it can reach by the network.
    pub network: Reach,
    /// How much it may use.
    pub caps: Caps,
}

/// What a program can reach by the network. More than nothing takes the full tier.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Reach {
    /// Nothing: the network is the run's own, and empty.
    #[default]
    Nothing,
    /// A port of 127.0.0.1, in a network of the run's own, at which the tool listens; all others stay shut.
    Port(u16),
    /// The loopback device of a network of the run's own, on which it may serve and ask itself.
    Loopback {
        /// A port of it at which the tool listens.
        tool: Option<u16>,
    },
    /// What the machine reaches. For programs that the user vouches for.
    Machine,
}

impl Reach {
    /// The port at which the tool listens.
    #[must_use]
    pub const fn tool_port(self) -> Option<u16> {
        match self {
            Self::Port(port) | Self::Loopback { tool: Some(port) } => Some(port),
            Self::Nothing | Self::Loopback { tool: None } | Self::Machine => None,
        }
    }
}

/// What is wanted of a run's files when it is over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Collect {
    /// Nothing.
    Nothing,
    /// These files of the work folder, where they are there.
    Files(Vec<RelPath>),
    /// Every regular file of the work folder.
    All,
    /// What differs from [`Job::tree`]: files with their modes, links, and what is gone. Names in `skip`
    /// are left out, at any depth.
    Changes {
        /// Such as `.git`.
        skip: Vec<String>,
    },
    /// These files of `/tmp`, where they are there.
    Temporary(Vec<RelPath>),
    /// The whole work folder becomes a tree of the store, under this name.
    Keep(String),
}

/// How much a run may use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Caps {
    /// Time by the clock on the wall; since the last lap where there are laps.
    pub wall: Duration,
    /// Processor time of all processes together; since the last lap where there are laps.
    pub cpu: Duration,
    /// Memory of all processes together, in bytes.
    pub memory: u64,
    /// Processes and threads at one time.
    pub processes: u32,
    /// Bytes on standard output and standard error together; in each lap where there are laps.
    pub output: u64,
    /// Bytes in the work folder, and again in `/tmp`.
    pub disk: u64,
}

/// How a program ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Ending {
    /// By itself, with this status.
    Exited(i32),
    /// By this signal.
    Signalled(i32),
}

/// Which limit ended a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum LimitHit {
    /// [`Caps::wall`].
    Wall,
    /// [`Caps::cpu`].
    Cpu,
    /// [`Caps::memory`].
    Memory,
    /// [`Caps::processes`]: where the kernel does not refuse what is more.
    Processes,
    /// [`Caps::output`].
    Output,
    /// [`Caps::disk`]: where no file system of that size holds it, or its own files did not fit.
    Disk,
    /// Nobody wanted it any longer.
    Stopped,
}

/// How what a program uses was measured and limited.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum Accounting {
    /// By a control group, which the kernel keeps; memory is polled in between.
    Group,
    /// By looking at every process from time to time.
    #[default]
    Polling,
}

/// How a run saw a tree of the store.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum TreeView {
    /// By overlayfs: what it wrote lay over the tree.
    Overlay,
    /// In a copy of its own, which shared the blocks of the files until they were written (ioctl_ficlone(2)).
    Reflinks,
    /// In a copy of its own.
    Copies,
}

/// What a stream carried.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Captured {
    /// Its first bytes, up to the output limit.
    pub bytes: Vec<u8>,
    /// How many there were in all.
    pub total: u64,
}

impl Captured {
    /// Whether bytes were dropped.
    #[must_use]
    pub fn is_cut(&self) -> bool {
        self.total > self.bytes.len() as u64
    }
}

/// What was used in one lap: from one exchange on the channel to the next.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lap {
    /// Processor time of all processes together.
    pub cpu: Duration,
    /// Most memory at one time, in bytes; 0 when the lap was over before the first poll.
    pub peak_memory: u64,
    /// System calls that were refused, as in [`Outcome::denied`].
    pub denied: BTreeMap<String, u64>,
    /// How it was measured.
    pub accounting: Accounting,
}

/// What a run that stands still has come to.
#[derive(Debug)]
pub struct Still {
    /// What [`Job::collect`] wants of its files, as they are now.
    pub collected: Archive,
    /// Processor time of the lap.
    pub cpu: Duration,
    /// Most memory at one time in the lap, as it was sampled, in bytes.
    pub peak_memory: u64,
    /// How it saw [`Job::tree`].
    pub view: Option<TreeView>,
}

/// What a run came to.
#[derive(Debug)]
pub struct Outcome {
    /// How the program ended.
    pub ending: Ending,
    /// The limit that ended it, where one did.
    pub limit: Option<LimitHit>,
    /// Time by the clock on the wall, from the program's start to its end.
    pub wall: Duration,
    /// Processor time of all processes together.
    pub cpu: Duration,
    /// Most memory at one time, as it was sampled, in bytes.
    pub peak_memory: u64,
    /// Most processes and threads at one time, as it was sampled.
    pub peak_processes: u32,
    /// Processes and threads that were started in all, the program among them; `None` where the
    /// kernel does not tell.
    pub started: Option<u32>,
    /// System calls that the filter refused, by name, with how often; only those of the list that
    /// honest programs do not need.
    pub denied: BTreeMap<String, u64>,
    /// How it was measured.
    pub accounting: Accounting,
    /// How it saw [`Job::tree`].
    pub view: Option<TreeView>,
    /// Bytes on both streams in laps before the last one.
    pub earlier_out: u64,
    /// Laps before the last one, where there are laps.
    pub laps: Vec<Lap>,
    /// Standard output, of the last lap where there are laps.
    pub stdout: Captured,
    /// Standard error, likewise.
    pub stderr: Captured,
    /// What was asked for of the work folder.
    pub collected: Option<Archive>,
}

impl Outcome {
    /// Bytes on both streams of the last lap, or of the whole run where there are none: what
    /// [`Caps::output`] applies to.
    #[must_use]
    pub fn last_out(&self) -> u64 {
        self.stdout.total + self.stderr.total
    }

    /// Bytes on standard output and standard error together, those that were dropped too.
    #[must_use]
    pub fn bytes_out(&self) -> u64 {
        self.earlier_out + self.last_out()
    }
}

/// Our own tool, or this machine, could not do its part.
#[derive(Debug, thiserror::Error)]
pub enum SandboxError {
    /// The helper could not be started.
    #[error("failed to start the sandbox's own process")]
    Start(#[source] std::io::Error),
    /// This machine offers no tier that is good enough.
    #[error(
        "code under trial cannot be confined on this machine: the full tier fails ({full}), and \
         so does the plain tier ({plain})"
    )]
    NoTier {
        /// Why there is no full tier.
        full: String,
        /// Why there is no plain one.
        plain: String,
    },
    /// A layer could not be made; the text says which and what to do.
    #[error("failed to set up the sandbox: {0}")]
    SetUp(String),
    /// The program to run could not be started.
    #[error("failed to start `{program}` in the sandbox: {why}")]
    Exec {
        /// The program.
        program: String,
        /// What the kernel said.
        why: String,
    },
    /// The helper ended without a report, before the program was started.
    #[error("the sandbox's own process ended without a report")]
    NoReport,
    /// The helper was lost while the program ran.
    #[error("the sandbox's own process was lost while the program ran")]
    Lost,
    /// What the program left could not be taken out.
    #[error("failed to take out the files that the program left: {0}")]
    Collect(String),
    /// The store of trees could not be used.
    #[error("failed to use the store of prepared trees at `{path}`")]
    Store {
        /// Where it is, or should be.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
    /// Files could not be written for the program.
    #[error("failed to write files for the program: {0}")]
    Files(String),
    /// A pipe or a socket to the helper failed.
    #[error("failed to talk to the sandbox's own process")]
    Talk(#[source] std::io::Error),
    /// Files could not be packed or unpacked.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
}
