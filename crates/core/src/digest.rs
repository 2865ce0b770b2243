//! Digests: the names of contents.

use std::fmt;

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

use crate::tree::{FileTree, Node, Snapshot};

/// Stand before the length of what is no plain file; no length is that long.
const EXECUTABLE: u64 = u64::MAX;
const LINK: u64 = u64::MAX - 1;

/// The SHA-256 digest (FIPS 180-4) of some bytes, written as 64 hexadecimal digits.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Digest(String);

impl Digest {
    /// The digest of `bytes`.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        Self::from_hash(Sha256::digest(bytes).as_slice())
    }

    /// The digest of a tree: of every path and the length and bytes behind it, in path order.
    #[must_use]
    pub fn of_tree(tree: &FileTree) -> Self {
        let mut hasher = Sha256::new();
        for (path, bytes) in tree {
            hasher.update((path.as_str().len() as u64).to_le_bytes());
            hasher.update(path.as_str());
            hasher.update((bytes.len() as u64).to_le_bytes());
            hasher.update(bytes);
        }
        Self::from_hash(hasher.finalize().as_slice())
    }

    /// The digest of a snapshot: that of its tree where it has plain files only, and else of modes and
    /// links, too.
    #[must_use]
    pub fn of_snapshot<P: Ord + AsRef<[u8]>>(snapshot: &Snapshot<P>) -> Self {
        let mut hasher = Sha256::new();
        for (path, node) in snapshot.iter() {
            let path = path.as_ref();
            hasher.update((path.len() as u64).to_le_bytes());
            hasher.update(path);
            let (mark, bytes) = match node {
                Node::File { bytes, executable: false } => (None, &**bytes),
                Node::File { bytes, executable: true } => (Some(EXECUTABLE), &**bytes),
                Node::Link { to } => (Some(LINK), to.as_slice()),
            };
            mark.into_iter().for_each(|it| hasher.update(it.to_le_bytes()));
            hasher.update((bytes.len() as u64).to_le_bytes());
            hasher.update(bytes);
        }
        Self::from_hash(hasher.finalize().as_slice())
    }

    fn from_hash(hash: &[u8]) -> Self {
        Self(hash.iter().map(|byte| format!("{byte:02x}")).collect())
    }

    /// The hexadecimal digits.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// A number drawn from `parts`, the same for the same parts on every machine.
///
/// Each part is preceded by its length, so that `["ab", "c"]` and `["a", "bc"]` differ.
#[must_use]
pub fn hash64(parts: &[&str]) -> u64 {
    let mut hasher = Sha256::new();
    for part in parts {
        hasher.update((part.len() as u64).to_le_bytes());
        hasher.update(part);
    }
    let hash = hasher.finalize();
    let mut first = [0; 8];
    first.copy_from_slice(&hash.as_slice()[..8]);
    u64::from_le_bytes(first)
}

/// A number in [0, 1) drawn from `parts`, by [`hash64`].
#[must_use]
pub fn unit(parts: &[&str]) -> f64 {
    // 53 bits are what an f64 holds exactly.
    (hash64(parts) >> 11) as f64 / (1_u64 << 53) as f64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tree::RelPath;

    #[test]
    fn the_digest_is_the_published_one() {
        // FIPS 180-4 example "abc".
        let expected = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert_eq!(Digest::of(b"abc").as_str(), expected);
    }

    #[test]
    fn a_tree_digest_tells_where_one_file_ends() {
        let tree = |files: &[(&str, &str)]| {
            let pairs =
                files.iter().map(|(p, b)| (RelPath::parse(p).unwrap(), b.as_bytes().into()));
            Digest::of_tree(&pairs.collect())
        };
        assert_ne!(tree(&[("a", "bc")]), tree(&[("ab", "c")]));
        assert_ne!(tree(&[("a", "1"), ("b", "")]), tree(&[("a", ""), ("b", "1")]));
    }

    #[test]
    fn draws_are_even() {
        let mean = (0..2000).map(|i| unit(&["x", &i.to_string()])).sum::<f64>() / 2000.0;
        assert!((mean - 0.5).abs() < 0.03, "{mean}");
    }
}
