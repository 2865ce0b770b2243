//! What the runs of one keeper have in common.

use std::path::PathBuf;

use super::group::Group;
use super::identity::Identity;
use super::network::Network;
use super::root::Again;
use super::scratch::Scratch;
use crate::tier::Tier;

/// What the runs of one keeper have in common.
pub struct House {
    pub tier: Tier,
    pub identity: Identity,
    /// Folders of the machine that programs may read besides the system's own.
    pub show: Vec<PathBuf>,
    /// Folders that each run shows again.
    pub again: Vec<Again>,
    /// The network namespace, where runs get one.
    pub network: Option<Network>,
    /// The control group, where there is one.
    pub group: Option<Group>,
    /// Where the folders of runs are made, in tiers without a file system of their own.
    pub scratch: Option<Scratch>,
}

impl House {
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
