//! Runs one program confined, and says what it did and what it used.
//!
//! A run is started by starting our own program again (`/proc/self/exe`) under another name, so
//! that nothing but `exec` follows the fork in a program with threads. That second process, the
//! *stage*, is single-threaded. It makes the namespaces and forks the *warden*: process 1 of the
//! new process namespace. The warden lays out the file system, starts the program under trial in
//! a user namespace of its own, watches its limits, and reports. When the warden ends, the kernel
//! ends everything in its namespace and frees its mounts: nothing is left behind, not even when
//! the tool is killed.
//!
//! Files go in and come out as archives in memory; nothing is written to the machine's disks.
//!
//! What the program did is data ([`Outcome`]). An error ([`SandboxError`]) means that our own
//! tool, or this machine, could not do its part.

mod archive;
mod inner;
mod job;
mod running;
mod wire;

pub use archive::{Archive, ArchiveError, Entry};
pub use inner::{is_stage, is_system, stage_main};
pub use job::{Caps, Captured, Collect, Ending, Job, LimitHit, Outcome, SandboxError, WORK};
pub use running::{Frame, Running, run, start, use_stage};
