//! A patch in place of a file: unified diffs with names or without, blocks that say what to search for and
//! what to put there, and patches between `*** Begin Patch` and `*** End Patch`.

use std::collections::BTreeSet;
use std::sync::LazyLock;

use regex::Regex;

use super::fence::Block;
use super::{Deviation, Wanted};
use crate::change::{Applied, Change, PatchError, apply_patch, is_patch};
use crate::tree::{FileTree, Node, RelPath, TreePath, WorkTree};

/// Whether a text changes files rather than being one.
pub fn is_edit(text: &str) -> bool {
    static HUNK: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(
            r"(?m)^(?:@@ -\d+(?:,\d+)? \+\d+(?:,\d+)? @@|\*\*\* Begin Patch\s*$|<{5,9} ?\w*\s*$)",
        )
        .expect("fixed")
    });
    // Cheap, and false of nearly all code.
    let could_be = text.contains("@@")
        || text.contains("*** ")
        || text.contains("<<<<<")
        || text.contains("+++ ");
    could_be && (HUNK.is_match(text) || is_patch(text.as_bytes()))
}

/// Whether a block that is tagged as a patch has lines that come and go, and no heads.
fn is_headless(block: &Block) -> bool {
    matches!(block.tag.as_str(), "diff" | "patch" | "udiff")
        && !is_edit(&block.code)
        && block.code.lines().any(|it| it.starts_with(['+', '-']))
}

/// Whether a block is a patch.
pub fn is_edit_block(block: &Block) -> bool {
    is_edit(&block.code) || is_headless(block)
}

/// Why the patches of an answer cannot be put on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// A unified diff does not fit.
    #[error(transparent)]
    Patch(#[from] PatchError),
    /// It changes a file that is not there.
    #[error("`{0}` is not among the files")]
    NoSuchFile(RelPath),
    /// What is to be replaced cannot be told.
    #[error("`{0}`: what is searched for is not in it, or more than once")]
    NotFound(RelPath),
    /// It does not say which file it is about.
    #[error("it names no file")]
    NoName,
    /// All is as it was.
    #[error("it changes nothing")]
    Nothing,
}

/// What the patches of an answer make of the files that were given.
///
/// # Errors
/// When one does not apply.
pub fn apply(
    blocks: &[&Block],
    wanted: Wanted<'_>,
) -> Result<(FileTree, Vec<Deviation>), EditError> {
    let tree: WorkTree = wanted
        .given
        .iter()
        .map(|(path, bytes)| {
            (path.into(), Node::File { bytes: bytes.clone().into(), executable: false })
        })
        .collect();
    let Applied { change, slack } = put_on(&tree, blocks, Some(wanted.file), BYTES_MAX)?;
    if change.is_empty() {
        return Err(EditError::Nothing);
    }
    let deviations = slack.into_iter().map(Deviation::from);
    Ok((change.files(), std::iter::once(Deviation::PatchInstead).chain(deviations).collect()))
}

/// Puts patches on a tree, one after the other. `file` is what those are about that name none.
///
/// # Errors
/// When one does not apply.
pub fn put_on(
    before: &WorkTree,
    blocks: &[&Block],
    file: Option<&RelPath>,
    most: u64,
) -> Result<Applied, EditError> {
    let (mut tree, mut slack) = (before.clone(), BTreeSet::new());
    for block in blocks {
        let label = block.label.as_ref().map(|it| &it.path).or(file);
        if block.code.lines().any(is_search) {
            search_and_replace(&block.code, label, &mut tree)?;
            continue;
        }
        let applied = apply_patch(&tree, as_unified(block, label)?.as_bytes(), most)?;
        slack.extend(applied.slack);
        tree = applied.change.on(&tree);
    }
    Ok(Applied { change: Change::between(before, &tree), slack })
}

/// Most bytes of a file that a patch makes.
const BYTES_MAX: u64 = 64 << 20;

/// A patch with a head for each file and each part.
fn as_unified(block: &Block, label: Option<&RelPath>) -> Result<String, EditError> {
    let text = &block.code;
    if text.contains("*** Begin Patch") {
        return Ok(begun_patch(text));
    }
    if is_patch(text.as_bytes()) {
        return Ok(text.clone());
    }
    let label = label.ok_or(EditError::NoName)?;
    let head = if is_headless(block) { "@@\n" } else { "" };
    Ok(format!("--- a/{label}\n+++ b/{label}\n{head}{text}"))
}

/// The parts of a patch between `*** Begin Patch` and `*** End Patch` as a unified diff.
fn begun_patch(text: &str) -> String {
    let mut out = String::new();
    let mut added: Option<(String, Vec<String>)> = None;
    let flush = |out: &mut String, added: &mut Option<(String, Vec<String>)>| {
        if let Some((path, lines)) = added.take() {
            out.push_str(&format!("--- /dev/null\n+++ b/{path}\n@@ -0,0 +1,{} @@\n", lines.len()));
            lines.iter().for_each(|it| out.push_str(&format!("{it}\n")));
        }
    };
    let mut has_head = true;
    for line in text.lines() {
        if let Some(path) = line.strip_prefix("*** Update File: ") {
            flush(&mut out, &mut added);
            let path = path.trim();
            out.push_str(&format!("--- a/{path}\n+++ b/{path}\n"));
            has_head = false;
        } else if let Some(path) = line.strip_prefix("*** Add File: ") {
            flush(&mut out, &mut added);
            added = Some((path.trim().to_owned(), Vec::new()));
        } else if let Some(path) = line.strip_prefix("*** Delete File: ") {
            flush(&mut out, &mut added);
            out.push_str(&format!(
                "diff --git a/{0} b/{0}\ndeleted file mode 100644\n",
                path.trim()
            ));
        } else if line.starts_with("*** ") {
            flush(&mut out, &mut added);
        } else if let Some((_, lines)) = &mut added {
            lines.push(if line.starts_with('+') { line.to_owned() } else { format!("+{line}") });
        } else if line.starts_with("@@") {
            out.push_str("@@\n");
            has_head = true;
        } else {
            if !has_head {
                out.push_str("@@\n");
                has_head = true;
            }
            out.push_str(&format!("{line}\n"));
        }
    }
    flush(&mut out, &mut added);
    out
}

fn is_search(line: &str) -> bool {
    let rest = line.trim_start_matches('<');
    (5..=9).contains(&(line.len() - rest.len()))
        && rest.trim().chars().all(|c| c.is_alphabetic() || c == '_')
}

/// Puts blocks on that say what to search for, and what to put in its place.
fn search_and_replace(
    text: &str,
    label: Option<&RelPath>,
    tree: &mut WorkTree,
) -> Result<(), EditError> {
    static PATH: LazyLock<Regex> =
        LazyLock::new(|| Regex::new(r"^[`*#\s]*([\w./+-]+\.\w+)[`*:\s]*$").expect("fixed"));
    let mut lines = text.lines();
    let mut path = label.cloned();
    while let Some(line) = lines.next() {
        if !is_search(line) {
            let named = PATH.captures(line).and_then(|it| RelPath::parse(&it[1]).ok());
            path = named.or(path);
            continue;
        }
        let path = path.as_ref().ok_or(EditError::NoName)?;
        let is_middle =
            |it: &str| it.starts_with("=====") && it.trim_matches('=').trim().is_empty();
        let old: Vec<&str> = lines.by_ref().take_while(|it| !is_middle(it)).collect();
        let new: Vec<&str> = lines.by_ref().take_while(|it| !it.starts_with(">>>>>")).collect();
        let at = TreePath::from(path);
        let (before, executable) = match tree.get(&at) {
            Some(Node::File { bytes, executable }) => {
                (String::from_utf8_lossy(bytes).into_owned(), *executable)
            }
            _ if old.is_empty() => (String::new(), false),
            _ => return Err(EditError::NoSuchFile(path.clone())),
        };
        let after =
            replaced(&before, &old, &new).ok_or_else(|| EditError::NotFound(path.clone()))?;
        tree.put(at, Node::File { bytes: after.into_bytes().into(), executable });
    }
    Ok(())
}

/// `text` with the lines `old` replaced, where they stand in it once: to the letter, or else but for
/// white space at the ends of lines.
fn replaced(text: &str, old: &[&str], new: &[&str]) -> Option<String> {
    let lines: Vec<&str> = text.lines().collect();
    if old.is_empty() {
        return text.trim().is_empty().then(|| new.join("\n") + "\n");
    }
    let find = |same: fn(&str, &str) -> bool| {
        let is_here = |at: &usize| lines[*at..].iter().zip(old).all(|(a, b)| same(a, b));
        let mut found = (0..(lines.len() + 1).saturating_sub(old.len())).filter(is_here);
        let first = found.next()?;
        found.next().is_none().then_some(first)
    };
    let at = find(|a, b| a == b).or_else(|| find(|a, b| a.trim_end() == b.trim_end()))?;
    let all: Vec<&str> =
        lines[..at].iter().chain(new).chain(&lines[at + old.len()..]).copied().collect();
    Some(all.join("\n") + "\n")
}
