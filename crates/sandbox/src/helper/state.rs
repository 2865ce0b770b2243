//! What the runs of one zygote have in common.

use std::path::PathBuf;

use super::group::Group;
use super::identity::Identity;
use super::network::Network;
use super::root::SharedFolder;
use super::scratch::Scratch;
use crate::tier::Tier;

/// What the runs of one zygote have in common.
pub struct SandboxState {
    pub tier: Tier,
    pub identity: Identity,
    /// Whether the kernel counts what a user has in each user namespace.
    pub counts_in_namespaces: bool,
    /// Folders of the machine that programs may read besides the system's own.
    pub show: Vec<PathBuf>,
    /// Where the trees are that runs have views of.
    pub store: Option<PathBuf>,
    /// Folders that each run shows again.
    pub shared: Vec<SharedFolder>,
    /// The network namespace, where runs get one.
    pub network: Option<Network>,
    /// The control group, where there is one.
    pub group: Option<Group>,
    /// Where the folders of runs are made, in tiers without a file system of their own.
    pub scratch: Option<Scratch>,
}

impl SandboxState {
    /// Whether the kernel counts the processes of a run, its waiting signals and the like, for the run
    /// alone: its user is the run's, or the kernel counts in each user namespace (Linux 5.14).
    pub fn counts_alone(&self) -> bool {
        self.identity.changes || (self.tier == Tier::Full && self.counts_in_namespaces)
    }

    /// Takes back what lies outside of this process.
    pub fn close(self) {
        if let Some(scratch) = self.scratch {
            scratch.remove();
        }
        if let Some(group) = self.group {
            group.remove();
        }
    }
}
