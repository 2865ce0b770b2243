//! Files in memory, under paths that cannot leave the folder they are meant for.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Deserializer, Serialize};

/// A relative path of ordinary parts: no `..`, no leading `/`, no control characters.
///
/// Every path that comes from an answer, a patch or a docket goes through this type before it
/// touches a file system.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(transparent)]
pub struct RelPath(String);

/// Why a text is no [`RelPath`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{path}` is not a usable file path: {why}")]
pub struct PathError {
    /// The text, with control characters escaped.
    pub path: String,
    /// What is wrong with it.
    pub why: &'static str,
}

impl RelPath {
    /// Longest path taken, in bytes.
    pub const MAX: usize = 255;

    /// Checks a path. A leading `./` is dropped.
    ///
    /// # Errors
    /// When it is empty, absolute, too long, or has a part that is empty, `.` or `..`, a
    /// backslash, or a control character.
    pub fn parse(text: &str) -> Result<Self, PathError> {
        let fail = |why| Err(PathError { path: text.escape_debug().to_string(), why });
        let path = text.strip_prefix("./").unwrap_or(text);
        if path.is_empty() {
            return fail("it is empty");
        }
        if path.len() > Self::MAX {
            return fail("it is longer than 255 bytes");
        }
        if path.chars().any(|c| c.is_control() || c == '\\') {
            return fail("it has a control character or a backslash");
        }
        if path.starts_with('/') {
            return fail("it is absolute");
        }
        if path.split('/').any(|part| matches!(part, "" | "." | "..")) {
            return fail("it has an empty part, `.` or `..`");
        }
        Ok(Self(path.to_owned()))
    }

    /// The path as text, parts separated by `/`.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The last part.
    #[must_use]
    pub fn file_name(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or(&self.0)
    }

    /// What follows the last dot of the last part; empty without one.
    #[must_use]
    pub fn extension(&self) -> &str {
        self.file_name().rsplit_once('.').map_or("", |(_, ext)| ext)
    }

    /// The last part without its extension.
    #[must_use]
    pub fn stem(&self) -> &str {
        let name = self.file_name();
        name.rsplit_once('.').map_or(name, |(stem, _)| stem)
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl<'de> Deserialize<'de> for RelPath {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        Self::parse(&text).map_err(serde::de::Error::custom)
    }
}

impl AsRef<[u8]> for RelPath {
    fn as_ref(&self) -> &[u8] {
        self.0.as_bytes()
    }
}

/// A relative path as a kernel or git has it: any bytes, but no way out of its folder.
///
/// Paths inside of work trees are these; what a person writes in a task or an answer is a [`RelPath`].
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TreePath(Vec<u8>);

impl TreePath {
    /// Longest path taken, in bytes.
    pub const MAX: usize = 4095;

    /// Checks a path.
    ///
    /// # Errors
    /// When it is empty, absolute, too long, or has a NUL byte or a part that is empty, `.` or `..`.
    pub fn parse(bytes: &[u8]) -> Result<Self, PathError> {
        let fail = |why| Err(PathError { path: bytes.escape_ascii().to_string(), why });
        if bytes.is_empty() {
            return fail("it is empty");
        }
        if bytes.len() > Self::MAX {
            return fail("it is longer than 4095 bytes");
        }
        if bytes.contains(&0) {
            return fail("it has a NUL byte");
        }
        if bytes[0] == b'/' {
            return fail("it is absolute");
        }
        if bytes.split(|&byte| byte == b'/').any(|part| matches!(part, b"" | b"." | b"..")) {
            return fail("it has an empty part, `.` or `..`");
        }
        Ok(Self(bytes.to_vec()))
    }

    /// The bytes of the path, parts separated by `/`.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Its parts, from the outermost folder to the name.
    pub fn parts(&self) -> impl DoubleEndedIterator<Item = &[u8]> {
        self.0.split(|&byte| byte == b'/')
    }

    /// The last part.
    #[must_use]
    pub fn file_name(&self) -> &[u8] {
        self.parts().next_back().unwrap_or(&self.0)
    }

    /// The same path as one that a person could have written; `None` where it is none.
    #[must_use]
    pub fn to_rel(&self) -> Option<RelPath> {
        RelPath::parse(std::str::from_utf8(&self.0).ok()?)
            .ok()
            .filter(|it| it.0.as_bytes() == self.0)
    }
}

impl From<RelPath> for TreePath {
    fn from(path: RelPath) -> Self {
        Self(path.0.into_bytes())
    }
}

impl From<&RelPath> for TreePath {
    fn from(path: &RelPath) -> Self {
        Self(path.0.as_bytes().to_vec())
    }
}

impl AsRef<[u8]> for TreePath {
    fn as_ref(&self) -> &[u8] {
        &self.0
    }
}

impl fmt::Display for TreePath {
    /// For people: what is no text, and control characters, are escaped.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for chunk in self.0.utf8_chunks() {
            for c in chunk.valid().chars() {
                if c.is_control() { write!(f, "{}", c.escape_debug())? } else { write!(f, "{c}")? }
            }
            write!(f, "{}", chunk.invalid().escape_ascii())?;
        }
        Ok(())
    }
}

/// Files by path, in path order.
pub type FileTree = BTreeMap<RelPath, Vec<u8>>;

/// What stands under one path of a [`Snapshot`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Node {
    /// A regular file.
    File {
        /// What is in it, shared by all snapshots that have it.
        bytes: Arc<[u8]>,
        /// Whether it may be run.
        executable: bool,
    },
    /// A symbolic link. It is never followed but by programs in a sandbox, where it leads nowhere else.
    Link {
        /// Where it leads, as it was written.
        to: Vec<u8>,
    },
}

/// A tree of files by what is in them, with modes and links, in path order. Copies share their contents.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Snapshot<P: Ord = RelPath>(BTreeMap<P, Node>);

/// The work tree of a repository.
pub type WorkTree = Snapshot<TreePath>;

impl<P: Ord> Default for Snapshot<P> {
    fn default() -> Self {
        Self(BTreeMap::new())
    }
}

impl<P: Ord> Snapshot<P> {
    /// An empty one.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Whether there is nothing in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// How many files and links there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Puts a node under a path, in the place of what stood there.
    pub fn put(&mut self, path: P, node: Node) {
        self.0.insert(path, node);
    }

    /// Takes away what stands under a path.
    pub fn remove(&mut self, path: &P) -> Option<Node> {
        self.0.remove(path)
    }

    /// What stands under a path.
    #[must_use]
    pub fn get(&self, path: &P) -> Option<&Node> {
        self.0.get(path)
    }

    /// Everything, in path order.
    pub fn iter(&self) -> impl Iterator<Item = (&P, &Node)> {
        self.0.iter()
    }

    /// The regular files with what is in them, in path order.
    pub fn files(&self) -> impl Iterator<Item = (&P, &[u8])> {
        self.0.iter().filter_map(|(path, node)| match node {
            Node::File { bytes, .. } => Some((path, &**bytes)),
            Node::Link { .. } => None,
        })
    }
}

impl Snapshot {
    /// Longest target of a link, in bytes.
    pub const LINK_MAX: usize = 4095;

    /// Puts plain files over it. One that takes the place of a file keeps its mode.
    pub fn put_files(&mut self, files: &FileTree) {
        for (path, bytes) in files {
            let executable = matches!(self.0.get(path), Some(Node::File { executable: true, .. }));
            self.put(path.clone(), Node::File { bytes: bytes.as_slice().into(), executable });
        }
    }

    /// The bytes of a regular file; `None` when there is none.
    #[must_use]
    pub fn file(&self, path: &str) -> Option<&[u8]> {
        self.files().find(|it| it.0.as_str() == path).map(|it| it.1)
    }

    /// What lies below a folder, under its path there. `prefix` ends in `/`.
    #[must_use]
    pub fn below(&self, prefix: &str) -> Self {
        let inside = self.0.iter().filter_map(|(path, node)| {
            let rest = path.as_str().strip_prefix(prefix)?;
            Some((RelPath::parse(rest).ok()?, node.clone()))
        });
        Self(inside.collect())
    }

    /// The regular files alone, copied.
    #[must_use]
    pub fn to_files(&self) -> FileTree {
        self.files().map(|(path, bytes)| (path.clone(), bytes.to_vec())).collect()
    }

    /// The same as a work tree.
    #[must_use]
    pub fn to_work_tree(&self) -> WorkTree {
        Snapshot(self.0.iter().map(|(path, node)| (path.into(), node.clone())).collect())
    }
}

impl WorkTree {
    /// The paths below a folder.
    pub fn below_folder(&self, folder: &TreePath) -> impl Iterator<Item = &TreePath> {
        let prefix = TreePath([folder.as_bytes(), b"/"].concat());
        let inside = self.0.range(prefix.clone()..).map(|it| it.0);
        inside.take_while(move |it| it.as_bytes().starts_with(prefix.as_bytes()))
    }
}

impl<P: Ord> FromIterator<(P, Node)> for Snapshot<P> {
    fn from_iter<T: IntoIterator<Item = (P, Node)>>(nodes: T) -> Self {
        Self(nodes.into_iter().collect())
    }
}

impl From<FileTree> for Snapshot {
    fn from(files: FileTree) -> Self {
        files.into_iter().collect()
    }
}

impl FromIterator<(RelPath, Vec<u8>)> for Snapshot {
    /// Plain files that may not be run.
    fn from_iter<T: IntoIterator<Item = (RelPath, Vec<u8>)>>(files: T) -> Self {
        let node = |(path, bytes): (RelPath, Vec<u8>)| {
            (path, Node::File { bytes: bytes.into(), executable: false })
        };
        Self(files.into_iter().map(node).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ordinary_paths_are_taken() {
        for path in ["a.py", "src/lib.rs", "./x/y.z", "a b/c", "...", ".hidden"] {
            assert!(RelPath::parse(path).is_ok(), "{path}");
        }
        let path = RelPath::parse("./src/tide.gap.py").unwrap();
        assert_eq!((path.stem(), path.extension()), ("tide.gap", "py"));
    }

    #[test]
    fn a_snapshot_keeps_modes_and_links_and_shares_contents() {
        let path = |text: &str| RelPath::parse(text).unwrap();
        let mut tree = Snapshot::new();
        tree.put(
            path("given/run.sh"),
            Node::File { bytes: b"a".as_slice().into(), executable: true },
        );
        tree.put(path("given/.hidden"), Node::Link { to: b"run.sh".to_vec() });
        let mut given = tree.below("given/");
        given.put_files(&FileTree::from([(path("run.sh"), b"b".to_vec()), (path("new"), vec![])]));
        let is_runnable = |name: &str| {
            let node = given.iter().find(|it| it.0.as_str() == name).unwrap().1;
            matches!(node, Node::File { executable: true, .. })
        };
        assert!(is_runnable("run.sh") && !is_runnable("new"), "what is replaced keeps its mode");
        assert_eq!(
            (given.len(), given.files().count(), given.file("run.sh")),
            (3, 2, Some(&b"b"[..]))
        );
        assert_eq!(given.file(".hidden"), None, "a link is no file");
    }

    #[test]
    fn paths_of_work_trees_are_any_bytes_that_stay_inside() {
        for path in [&b"a/b"[..], b"caf\xe9", b"a\\b\n", b".git", b"..."] {
            assert_eq!(TreePath::parse(path).unwrap().as_bytes(), path);
        }
        for path in [&b""[..], b"/etc", b"..", b"a/../b", b"a//b", b"a/", b"./a", b"a\0b"] {
            assert!(TreePath::parse(path).is_err(), "{path:?}");
        }
        let odd = TreePath::parse(b"caf\xe9\x1b[2J").unwrap();
        assert_eq!((odd.to_string().as_str(), odd.to_rel()), ("caf\\xe9\\u{1b}[2J", None));
    }

    #[test]
    fn paths_that_lead_elsewhere_are_refused() {
        for path in ["", "/etc/passwd", "../x", "a/../../x", "a//b", "a/.", "a\\b", "a\0b", "a\n"] {
            assert!(RelPath::parse(path).is_err(), "{path:?}");
        }
        assert!(RelPath::parse(&"x/".repeat(200)).is_err());
    }
}
