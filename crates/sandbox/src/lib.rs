//! Runs one program confined, and says what it did and what it used.
//!
//! Runs are forked by a *zygote*: our own program (`/proc/self/exe`), started again under another
//! name, small and of one thread, in a mount namespace whose root is what programs see. For each
//! run it forks a *supervisor* into new namespaces: process 1, which mounts what is the run's own,
//! starts the program under trial in a user namespace of its own, watches its limits, and reports.
//! When the supervisor ends, the kernel ends everything in its namespace and frees its mounts: nothing
//! is left behind, not even when the tool is killed.
//!
//! Where the kernel gives no namespaces, Landlock, the system-call filter and resource limits have
//! to do: the plain [`Tier`]. Less than that is used only when the user says so.
//!
//! Files go in and come out as archives in memory; nothing is written to the machine's disks.
//!
//! What the program did is data ([`Outcome`]). An error ([`SandboxError`]) means that our own
//! tool, or this machine, could not do its part.

mod archive;
mod helper;
mod job;
mod pool;
mod running;
mod sandbox;
mod tier;
mod wire;

pub use archive::{Archive, ArchiveEntry, ArchiveError};
pub use helper::{helper_main, is_helper, is_system, take_channel};
pub use job::{
    Accounting, Caps, Captured, Collect, DRIVER, Ending, HOME, Job, Lap, LimitHit, OWN_PROGRAM,
    Outcome, Reach, SandboxError, Still, TreeView, WORK,
};
pub use pool::link;
pub use running::{Allowed, Frame, Running, Stopper};
pub use sandbox::{Demand, Sandbox};
pub use tier::{Layer, LayerState, Tier};
