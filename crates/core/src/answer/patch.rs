//! Unified diffs over files in memory.

use std::collections::BTreeMap;

use crate::tree::{FileTree, RelPath};

/// Why a patch cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatchError {
    /// No file header was found in it.
    #[error("it holds no `--- ` and `+++ ` lines")]
    Empty,
    /// A file in it lies outside of the folder.
    #[error(transparent)]
    Path(#[from] crate::tree::PathError),
    /// It changes a file that is not there.
    #[error("`{0}` is not among the files")]
    NoSuchFile(RelPath),
    /// A part of it is malformed or does not fit.
    #[error("`{file}`: {why}")]
    DoesNotFit {
        /// The file.
        file: RelPath,
        /// What is wrong.
        why: String,
    },
}

/// Puts a unified diff on `files`. Either all of it applies or nothing is changed.
///
/// # Errors
/// When a part does not fit, a file is missing, or a path leads elsewhere.
pub fn apply_patch(files: &FileTree, patch: &str) -> Result<FileTree, PatchError> {
    let mut out = files.clone();
    let parts = by_file(patch)?;
    if parts.is_empty() {
        return Err(PatchError::Empty);
    }
    for (old, new, text) in parts {
        let base = match &old {
            Some(path) => {
                let bytes = out.get(path).ok_or_else(|| PatchError::NoSuchFile(path.clone()))?;
                String::from_utf8_lossy(bytes).into_owned()
            }
            None => String::new(),
        };
        let Some(file) = new.clone().or_else(|| old.clone()) else {
            continue;
        };
        let unfit = |why: String| PatchError::DoesNotFit { file: file.clone(), why };
        let parsed = diffy::Patch::from_str(&text).map_err(|error| unfit(error.to_string()))?;
        let changed = diffy::apply(&base, &parsed).map_err(|error| unfit(error.to_string()))?;
        if let Some(old) = old {
            out.remove(&old);
        }
        if let Some(new) = new {
            out.insert(new, changed.into_bytes());
        }
    }
    Ok(out)
}

/// Old path, new path (`None` for `/dev/null`) and the diff of one file.
type FilePatch = (Option<RelPath>, Option<RelPath>, String);

fn by_file(patch: &str) -> Result<Vec<FilePatch>, PatchError> {
    let lines: Vec<&str> = patch.lines().collect();
    let is_header = |at: usize| {
        lines[at].starts_with("--- ") && lines.get(at + 1).is_some_and(|it| it.starts_with("+++ "))
    };
    let starts: Vec<usize> = (0..lines.len()).filter(|&at| is_header(at)).collect();
    let mut seen = BTreeMap::new();
    let mut out = Vec::new();
    for (index, &start) in starts.iter().enumerate() {
        let end = starts.get(index + 1).copied().unwrap_or(lines.len());
        let old = path_in(&lines[start][4..], "a/")?;
        let new = path_in(&lines[start + 1][4..], "b/")?;
        if let Some(path) = new.as_ref().or(old.as_ref())
            && seen.insert(path.clone(), ()).is_some()
        {
            let why = "it is changed twice".to_owned();
            return Err(PatchError::DoesNotFit { file: path.clone(), why });
        }
        let body = hunks(&lines[start + 2..end]).join("\n");
        out.push((old, new, format!("--- a\n+++ b\n{body}\n")));
    }
    Ok(out)
}

/// The lines of the hunks of one file: as many behind each head as it says, since a blank line at the
/// end of a hunk belongs to it, and one behind the patch does not.
fn hunks<'a>(lines: &[&'a str]) -> Vec<&'a str> {
    let (mut out, mut left) = (Vec::new(), (0_usize, 0_usize));
    for line in lines {
        if let Some(counts) = head(line) {
            left = counts;
        } else if line.starts_with('\\') && !out.is_empty() {
            // It speaks of the line before.
        } else if left == (0, 0) {
            break;
        } else {
            let (old, new) = match line.as_bytes().first() {
                Some(b'+') => (0, 1),
                Some(b'-') => (1, 0),
                // A context line that lost its only space is an empty line.
                None | Some(b' ') => (1, 1),
                Some(_) => break,
            };
            left = (left.0.saturating_sub(old), left.1.saturating_sub(new));
        }
        out.push(if line.is_empty() { " " } else { line });
    }
    out
}

/// The lines that a hunk has in the old file and in the new one, by its head: `@@ -3,4 +3,5 @@`.
fn head(line: &str) -> Option<(usize, usize)> {
    let ranges = line.strip_prefix("@@ -")?.split(" @@").next()?;
    let (old, new) = ranges.split_once(" +")?;
    let count = |range: &str| range.split_once(',').map_or(Some(1), |it| it.1.parse().ok());
    Some((count(old)?, count(new)?))
}

fn path_in(text: &str, prefix: &str) -> Result<Option<RelPath>, PatchError> {
    let path = text.split('\t').next().unwrap_or(text).trim_end();
    if path == "/dev/null" {
        return Ok(None);
    }
    Ok(Some(RelPath::parse(path.strip_prefix(prefix).unwrap_or(path))?))
}
