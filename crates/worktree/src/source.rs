//! Where a repository comes from.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use fairtrial_core::digest::Digest;
use fairtrial_core::tree::WorkTree;

/// Where a repository comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    /// The files themselves, without a history.
    Files(WorkTree),
    /// A commit of a git bundle (git-bundle(1)).
    Bundle {
        /// The bundle.
        bytes: Arc<[u8]>,
        /// A commit's name, or that of a branch or tag of the bundle.
        commit: String,
    },
    /// A commit of a repository elsewhere.
    Address {
        /// Such as `https://…`, or a folder of this machine.
        address: String,
        /// The commit's whole name.
        commit: String,
    },
}

impl Source {
    /// The address, checked.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn of_address(address: &str, commit: &str) -> Result<Self, String> {
        let known = ["https://", "http://", "git://", "file:///", "/"];
        if !known.iter().any(|it| address.starts_with(it)) || address.contains(char::is_control) {
            let known = known.join("`, `");
            return Err(format!("an address of a repository begins with `{known}`"));
        }
        let is_whole = matches!(commit.len(), 40 | 64);
        if !is_whole || !commit.chars().all(|it| it.is_ascii_hexdigit()) {
            return Err("of an address, `commit` is the whole name of a commit, 40 or 64 \
                        hexadecimal digits: a branch can move"
                .to_owned());
        }
        Ok(Self::Address { address: address.to_owned(), commit: commit.to_owned() })
    }

    /// What it is, in words.
    pub(crate) fn describe(&self) -> String {
        match self {
            Self::Files(_) => "its files".to_owned(),
            Self::Bundle { .. } => "the bundle".to_owned(),
            Self::Address { address, .. } => format!("`{address}`"),
        }
    }

    /// The commit to take out.
    pub(crate) fn commit(&self) -> Option<&str> {
        match self {
            Self::Files(_) => None,
            Self::Bundle { commit, .. } | Self::Address { commit, .. } => Some(commit),
        }
    }

    /// A folder of this machine that is needed to read it.
    pub(crate) fn folder(&self) -> Option<PathBuf> {
        let Self::Address { address, .. } = self else { return None };
        let path = address.strip_prefix("file://").unwrap_or(address);
        path.starts_with('/').then(|| Path::new(path).to_owned())
    }

    /// What is the same only for equal sources.
    pub(crate) fn digest(&self) -> Digest {
        match self {
            Self::Files(files) => Digest::of_snapshot(files),
            Self::Bundle { bytes, commit } => {
                Digest::of(format!("{}\0{commit}", Digest::of(bytes)).as_bytes())
            }
            Self::Address { address, commit } => {
                Digest::of(format!("{address}\0{commit}").as_bytes())
            }
        }
    }
}
