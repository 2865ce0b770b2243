//! Landlock (landlock(7)): a second fence around files, behind the mounts, and one around TCP,
//! abstract sockets and signals.
//!
//! The new root holds nothing but what a program may see, so all of it may be read and run. Only the
//! work folder, `/tmp`, `/dev` and `/proc` may be written to. Kernels differ in what they can
//! restrict; each restricts what it can. A kernel without Landlock leaves the mounts alone to hold.

use landlock::{
    ABI, Access as _, AccessFs, AccessNet, PathBeneath, PathFd, Ruleset, RulesetAttr as _,
    RulesetCreated, RulesetCreatedAttr as _, RulesetError, Scope,
};

use crate::job::WORK;

/// The newest set of restrictions that is asked for.
const NEWEST: ABI = ABI::V6;

/// Where a program may write.
const WRITABLE: &[&str] = &[WORK, "/tmp", "/dev", "/proc"];

/// Puts the calling process, and all that it starts, behind the fence.
pub fn install() -> Result<(), String> {
    restrict().map_err(|error| format!("landlock: {error}"))
}

fn restrict() -> Result<(), RulesetError> {
    let mut ruleset = Ruleset::default()
        .handle_access(AccessFs::from_all(NEWEST))?
        // No port is named below, so none can be bound or connected to.
        .handle_access(AccessNet::from_all(NEWEST))?
        .scope(Scope::from_all(NEWEST))?
        .create()?;
    ruleset = allow(ruleset, "/", AccessFs::from_read(NEWEST))?;
    for path in WRITABLE {
        ruleset = allow(ruleset, path, AccessFs::from_all(NEWEST))?;
    }
    ruleset.restrict_self().map(drop)
}

fn allow(
    ruleset: RulesetCreated,
    path: &str,
    access: landlock::BitFlags<AccessFs>,
) -> Result<RulesetCreated, RulesetError> {
    match PathFd::new(path) {
        Ok(fd) => ruleset.add_rule(PathBeneath::new(fd, access)),
        // What is not there needs no permission.
        Err(_) => Ok(ruleset),
    }
}
