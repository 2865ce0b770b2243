//! Putting a patch on a work tree.

use std::collections::BTreeSet;

use super::binary::{BinaryBlock, apply_delta};
use super::patch::{Body, FilePatch, lines_of, read, without_cr};
use super::place::place;
use super::slack::Slack;
use super::{Change, name};
use crate::tree::{Node, PathError, Snapshot, TreePath, WorkTree};

/// A patch, put on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Applied {
    /// What it changes.
    pub change: Change,
    /// What had to be forgiven.
    pub slack: BTreeSet<Slack>,
}

/// Why a patch cannot be put on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatchError {
    /// Nothing of a patch was found.
    #[error("it holds no `--- ` and `+++ ` lines")]
    Empty,
    /// A part of it does not say which file it is about.
    #[error("part {0} of it names no file")]
    NoName(usize),
    /// A file in it lies outside of the tree.
    #[error(transparent)]
    Path(#[from] PathError),
    /// It changes a file that is not there.
    #[error("`{0}` is not among the files")]
    NoSuchFile(TreePath),
    /// A part of it is malformed or does not fit.
    #[error("`{file}`: {why}")]
    DoesNotFit {
        /// The file.
        file: TreePath,
        /// What is wrong.
        why: String,
    },
}

/// Puts a patch on a tree: all of it, or nothing. Files that it makes have at most `most` bytes each.
///
/// # Errors
/// When a part does not fit, a file is missing, or a path leads elsewhere or into `.git`.
pub fn apply_patch(tree: &WorkTree, patch: &[u8], most: u64) -> Result<Applied, PatchError> {
    let mut lines = lines_of(patch);
    let mut slack = BTreeSet::new();
    // A patch whose heads end so, too, was changed on its way.
    let is_carried = lines.iter().any(|it| it.ends_with(b"\r"))
        && lines.iter().filter(|it| it.starts_with(b"+++ ")).all(|it| it.ends_with(b"\r"))
        && lines.iter().filter(|it| it.starts_with(b"@@ ")).all(|it| it.ends_with(b"\r"));
    if is_carried {
        lines.iter_mut().for_each(|it| *it = without_cr(it));
        slack.insert(Slack::LineEnds);
    }
    let parts = read(&lines, most);
    if parts.is_empty() {
        return Err(PatchError::Empty);
    }
    let mut applying = Applying { tree, most, change: Change::default(), slack };
    for (number, part) in parts.iter().enumerate() {
        applying.part(part, number + 1)?;
    }
    let Applying { change, slack, .. } = applying;
    check_places(tree, &change)?;
    let is_same = |path: &TreePath, node: Option<&Node>| tree.get(path) == node;
    let change = change.iter().filter(|(path, node)| !is_same(path, *node));
    let change = change.map(|(path, node)| (path.clone(), node.cloned())).collect();
    Ok(Applied { change, slack })
}

struct Applying<'a> {
    tree: &'a WorkTree,
    most: u64,
    change: Change,
    slack: BTreeSet<Slack>,
}

impl Applying<'_> {
    fn current(&self, path: &TreePath) -> Option<&Node> {
        self.change.get(path).unwrap_or_else(|| self.tree.get(path))
    }

    fn part(&mut self, part: &FilePatch<'_>, number: usize) -> Result<(), PatchError> {
        let (old, new) = self.names(part)?;
        let file = new.clone().or_else(|| old.clone()).ok_or(PatchError::NoName(number))?;
        let unfit = |why: String| PatchError::DoesNotFit { file: file.clone(), why };
        if part.mode.as_deref().is_some_and(|it| without_cr(it) == b"160000") {
            return Err(unfit("it would become a submodule".to_owned()));
        }
        let before = old.as_ref().and_then(|path| self.current(path)).cloned();
        let before = match (&old, before) {
            (Some(_), Some(before)) => Some(before),
            (None, _) if self.current(&file).is_some() && new.is_some() => {
                // It is said to be new, and there: the whole of it is replaced.
                self.slack.insert(Slack::Existence);
                None
            }
            (None, _) => None,
            (Some(_), None) if only_adds(part) => {
                self.slack.insert(Slack::Existence);
                None
            }
            (Some(path), None) => return Err(PatchError::NoSuchFile(path.clone())),
        };
        let bytes = match &before {
            Some(Node::File { bytes, .. }) => &**bytes,
            Some(Node::Link { to }) => to.as_slice(),
            None => &[],
        };
        let after = match &part.body {
            Body::Nothing => bytes.to_vec(),
            Body::Hunks(hunks) => place(bytes, hunks, &mut self.slack).map_err(unfit)?,
            Body::Binary(Ok(BinaryBlock::Literal(new))) => new.clone(),
            Body::Binary(Ok(BinaryBlock::Delta(delta))) => {
                apply_delta(bytes, delta, self.most).map_err(unfit)?
            }
            Body::Binary(Err(why)) => return Err(unfit(why.clone())),
        };
        if after.len() as u64 > self.most {
            return Err(unfit(format!("it would have more than {} bytes", self.most)));
        }
        if let Some(old) = old.filter(|it| Some(it) != new.as_ref() && !part.is_copy) {
            self.change.put(old, None);
        }
        if let Some(new) = new {
            let node = node(part, before.as_ref(), after).map_err(unfit)?;
            self.change.put(new, Some(node));
        }
        Ok(())
    }

    /// The paths before and after; `None` where there is no file.
    fn names(
        &self,
        part: &FilePatch<'_>,
    ) -> Result<(Option<TreePath>, Option<TreePath>), PatchError> {
        let bare = |name: &Vec<u8>| own_path(name);
        if let (Some(from), Some(to)) = (&part.from, &part.to) {
            return Ok((Some(bare(from)?), Some(bare(to)?)));
        }
        let (old, new) = match (&part.old, &part.new) {
            (Some(old), Some(new)) => (
                old.as_ref().map(|it| self.resolve(it)).transpose()?,
                new.as_ref().map(|it| self.resolve(it)).transpose()?,
            ),
            _ => {
                let name = part.git_name.as_ref().map(bare).transpose()?;
                (name.clone(), name)
            }
        };
        let old = old.filter(|_| !part.is_new);
        let new = new.filter(|_| !part.is_gone);
        // Two names without a move that git would name: the first with a suffix, such as `.orig`.
        match (old, new) {
            (Some(old), Some(new)) if old != new && self.current(&new).is_some() => {
                Ok((Some(new.clone()), Some(new)))
            }
            pair => Ok(pair),
        }
    }

    /// The path that a name with or without a prefix means.
    fn resolve(&self, name: &[u8]) -> Result<TreePath, PatchError> {
        let Some(stripped) = name::without_prefix(name) else { return own_path(name) };
        // A folder of that name may be there, with the file in it.
        match own_path(name) {
            Ok(whole) if self.current(&whole).is_some() => match own_path(stripped) {
                Ok(short) if self.current(&short).is_some() => Ok(short),
                _ => Ok(whole),
            },
            _ => own_path(stripped),
        }
    }
}

/// A path in which nothing is git's own.
fn own_path(name: &[u8]) -> Result<TreePath, PatchError> {
    let path = name::path(name)?;
    if is_gits(&path) {
        let why = "it lies in a folder of git's own";
        return Err(PathError { path: path.to_string(), why }.into());
    }
    Ok(path)
}

/// Whether a path lies in a repository's own folder.
pub fn is_gits(path: &TreePath) -> bool {
    path.parts().any(|part| part.eq_ignore_ascii_case(b".git"))
}

/// Whether a part could as well make a new file.
fn only_adds(part: &FilePatch<'_>) -> bool {
    matches!(&part.body, Body::Hunks(hunks) if hunks.iter().all(|it| it.old().next().is_none()))
}

/// What a part makes of a file.
fn node(part: &FilePatch<'_>, before: Option<&Node>, after: Vec<u8>) -> Result<Node, String> {
    let mode = part.mode.as_deref().map(without_cr);
    let is_link = match mode {
        Some(mode) => mode == b"120000",
        None => matches!(before, Some(Node::Link { .. })),
    };
    if is_link {
        if after.is_empty() || after.len() > Snapshot::LINK_MAX || after.contains(&0) {
            return Err("it would be a link that leads nowhere".to_owned());
        }
        return Ok(Node::Link { to: after });
    }
    let executable = match mode {
        Some(mode) => mode == b"100755",
        None => matches!(before, Some(Node::File { executable: true, .. })),
    };
    Ok(Node::File { bytes: after.into(), executable })
}

/// Checks that nothing is put below a file or a link, and no file where a folder is.
fn check_places(tree: &WorkTree, change: &Change) -> Result<(), PatchError> {
    let is_there = |path: &TreePath| match change.get(path) {
        Some(node) => node.is_some(),
        None => tree.get(path).is_some(),
    };
    let mut folders = BTreeSet::new();
    for (path, _) in change.iter().filter(|it| it.1.is_some()) {
        let bytes = path.as_bytes();
        let cuts = bytes.iter().enumerate().filter(|it| *it.1 == b'/').map(|it| it.0);
        for folder in cuts.filter_map(|at| TreePath::parse(&bytes[..at]).ok()) {
            if is_there(&folder) {
                let why = format!("`{folder}` is no folder");
                return Err(PatchError::DoesNotFit { file: path.clone(), why });
            }
            folders.insert(folder);
        }
    }
    for (path, _) in change.iter().filter(|it| it.1.is_some()) {
        if folders.contains(path) || tree.below_folder(path).any(is_there) {
            let why = "a folder stands there".to_owned();
            return Err(PatchError::DoesNotFit { file: path.clone(), why });
        }
    }
    Ok(())
}
