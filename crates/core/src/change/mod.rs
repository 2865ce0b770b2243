//! Changes of work trees, and patches: how a change is written down, read, and put on.
//!
//! A [`Change`] says what each changed path came to. A patch is its text, as git writes it: with modes,
//! links, renames, deletions and binary files. Patches come from anywhere, so that reading one is
//! bounded in memory, and no path in it leads out of the tree.

mod apply;
mod binary;
mod facts;
mod hunk;
mod name;
mod patch;
mod place;
mod slack;
mod write;

use std::collections::BTreeMap;

pub use apply::{Applied, PatchError, apply_patch};
pub use facts::{ChangeFacts, FileFacts};
pub use patch::is_patch;
pub use slack::Slack;
pub use write::write_patch;

use crate::tree::{FileTree, Node, RelPath, Snapshot, TreePath, WorkTree};

/// What a change makes of the paths that it touches, in path order.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Change(BTreeMap<TreePath, Option<Node>>);

impl Change {
    /// The change that turns `before` into `after`.
    #[must_use]
    pub fn between(before: &WorkTree, after: &WorkTree) -> Self {
        let put = after.iter().filter(|(path, node)| before.get(path) != Some(node));
        let gone = before.iter().filter(|(path, _)| after.get(path).is_none());
        put.map(|(path, node)| (path.clone(), Some(node.clone())))
            .chain(gone.map(|(path, _)| (path.clone(), None)))
            .collect()
    }

    /// The tree that comes of it.
    #[must_use]
    pub fn on(&self, tree: &WorkTree) -> WorkTree {
        let mut out = tree.clone();
        for (path, node) in &self.0 {
            match node {
                Some(node) => {
                    out.put(path.clone(), node.clone());
                }
                None => {
                    out.remove(path);
                }
            }
        }
        out
    }

    /// The regular files that it puts, under names that a person could have written.
    #[must_use]
    pub fn files(&self) -> FileTree {
        let file = |(path, node): (&TreePath, Option<&Node>)| match node {
            Some(Node::File { bytes, .. }) => Some((path.to_rel()?, bytes.to_vec())),
            _ => None,
        };
        self.iter().filter_map(file).collect()
    }

    /// Whether nothing is changed.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// How many paths are touched.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// What each touched path comes to; `None` where nothing is left.
    pub fn iter(&self) -> impl Iterator<Item = (&TreePath, Option<&Node>)> {
        self.0.iter().map(|(path, node)| (path, node.as_ref()))
    }

    /// Says what a path comes to.
    pub fn put(&mut self, path: TreePath, node: Option<Node>) {
        self.0.insert(path, node);
    }

    /// What a path comes to, if it is touched.
    #[must_use]
    pub fn get(&self, path: &TreePath) -> Option<Option<&Node>> {
        self.0.get(path).map(Option::as_ref)
    }

    /// Splits off the paths for which `which` says so.
    #[must_use]
    pub fn split(self, which: impl Fn(&TreePath) -> bool) -> (Self, Self) {
        let (taken, left) = self.0.into_iter().partition(|(path, _)| which(path));
        (Self(taken), Self(left))
    }

    /// Bytes of the files that it puts.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        let size = |node: &Option<Node>| match node {
            Some(Node::File { bytes, .. }) => bytes.len() as u64,
            Some(Node::Link { to }) => to.len() as u64,
            None => 0,
        };
        self.0.values().map(size).sum()
    }
}

impl FromIterator<(TreePath, Option<Node>)> for Change {
    fn from_iter<T: IntoIterator<Item = (TreePath, Option<Node>)>>(entries: T) -> Self {
        Self(entries.into_iter().collect())
    }
}

impl From<FileTree> for Change {
    /// Puts plain files that may not be run.
    fn from(files: FileTree) -> Self {
        let put = |(path, bytes): (RelPath, Vec<u8>)| {
            (path.into(), Some(Node::File { bytes: bytes.into(), executable: false }))
        };
        files.into_iter().map(put).collect()
    }
}

impl From<Snapshot> for Change {
    /// Puts everything that is in a snapshot.
    fn from(files: Snapshot) -> Self {
        files.iter().map(|(path, node)| (path.into(), Some(node.clone()))).collect()
    }
}

#[cfg(test)]
mod tests;
