//! What a process used.

use std::io;
use std::process::Child;

use nix::sys::resource::{UsageWho, getrusage};

/// Waits for a process and gives whether it succeeded, and the most memory in kilobytes of any process waited for
/// so far.
///
/// # Errors
/// When it cannot be waited for.
pub fn wait_with_usage(mut child: Child) -> io::Result<(bool, u64)> {
    let status = child.wait()?;
    let usage = getrusage(UsageWho::RUSAGE_CHILDREN)?;
    Ok((status.success(), usage.max_rss().max(0) as u64))
}
