//! An answer that changes a repository: a patch, or whole files, wherever they stand in what was sent.

use super::{Deviation, Reading, elision, fence, without_thoughts};
use crate::change::{Applied, Change, PatchError, apply_patch, is_patch};
use crate::language::Languages;
use crate::tree::{FileTree, Node, TreePath, WorkTree};
use crate::verdict::FailReason;

/// What a change is read against.
#[derive(Debug, Clone, Copy)]
pub struct WantedChange<'a> {
    /// The repository as it is.
    pub base: &'a WorkTree,
    /// All languages, to tell what files are.
    pub languages: &'a Languages,
    /// Most bytes of a file that it makes.
    pub most: u64,
}

/// Reads a change from what a model sent. `cut_off` says that the host stopped the answer at a length
/// limit.
///
/// # Errors
/// When there is a patch, and it does not fit.
pub fn read_change(
    text: &str,
    wanted: WantedChange<'_>,
    cut_off: bool,
) -> Result<Reading<Change>, PatchError> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let (thoughts, said) = without_thoughts(text);
    let parts = fence::split(said, wanted.languages);
    let patches: Vec<&fence::Block> =
        parts.blocks.iter().filter(|it| is_patch(it.code.as_bytes())).collect();
    let is_file = |it: &&fence::Block| it.label.is_some() && !is_patch(it.code.as_bytes());
    let whole: Vec<&fence::Block> = parts.blocks.iter().filter(is_file).collect();
    let is_bare = patches.is_empty() && whole.is_empty() && is_patch(said.as_bytes());
    let mut deviations = Vec::new();
    let has_prose = !parts.prose.trim().is_empty() || !thoughts.trim().is_empty();
    if is_bare {
        deviations.push(Deviation::NoFence);
    } else if has_prose {
        deviations.push(Deviation::TextAround);
    }
    if patches.len() > 1 {
        deviations.push(Deviation::SeveralBlocks);
    }
    if patches.iter().chain(&whole).any(|it| !it.closed) {
        deviations.push(Deviation::UnclosedFence);
    }
    if patches.iter().any(|it| !matches!(it.tag.as_str(), "" | "diff" | "patch" | "udiff")) {
        deviations.push(Deviation::OtherTag);
    }
    let mut change = Change::default();
    let text = if is_bare { said.to_owned() } else { joined(&patches) };
    if !text.is_empty() {
        match apply_patch(wanted.base, text.as_bytes(), wanted.most) {
            Ok(Applied { change: found, slack }) => {
                change = found;
                deviations.extend(slack.into_iter().map(Deviation::from));
            }
            Err(_) if cut_off => return Ok(nothing(FailReason::Incomplete, deviations)),
            Err(error) => return Err(error),
        }
    }
    let mut leaves_out = false;
    for block in whole {
        let Some(label) = &block.label else { continue };
        let definition = block.language.as_deref().and_then(|it| wanted.languages.find(it));
        leaves_out |=
            definition.is_some_and(|it| elision::leaves_out(&block.code, &it.syntax, None));
        put_file(&mut change, wanted.base, label.into(), block.code.clone().into_bytes());
    }
    if text.is_empty() && change.is_empty() && !parts.blocks.iter().any(|it| it.label.is_some()) {
        let reason = if cut_off { FailReason::Incomplete } else { FailReason::NoCodeFound };
        return Ok(nothing(reason, deviations));
    }
    deviations.sort_unstable();
    deviations.dedup();
    Ok(Reading {
        strict: deviations.is_empty().then(|| change.clone()),
        lenient: Ok(change),
        mended: None,
        deviations,
        incomplete: cut_off || leaves_out,
    })
}

/// Reads a change that came as a patch, not as text.
///
/// # Errors
/// When it does not fit.
pub fn read_patch(patch: &[u8], wanted: WantedChange<'_>) -> Result<Reading<Change>, PatchError> {
    if patch.trim_ascii().is_empty() {
        return Ok(plain(Change::default()));
    }
    let Applied { change, slack } = apply_patch(wanted.base, patch, wanted.most)?;
    let deviations: Vec<Deviation> = slack.into_iter().map(Deviation::from).collect();
    let strict = deviations.is_empty().then(|| change.clone());
    Ok(Reading { strict, deviations, ..plain(change) })
}

/// Reads whole files that came as such.
#[must_use]
pub fn read_whole_files(files: &FileTree, wanted: WantedChange<'_>) -> Reading<Change> {
    let mut change = Change::default();
    for (path, bytes) in files {
        put_file(&mut change, wanted.base, path.into(), bytes.clone());
    }
    plain(change)
}

/// Puts a whole file, which keeps the mode that it had. One that is as it was is no change.
fn put_file(change: &mut Change, base: &WorkTree, path: TreePath, bytes: Vec<u8>) {
    let executable = matches!(base.get(&path), Some(Node::File { executable: true, .. }));
    let node = Node::File { bytes: bytes.into(), executable };
    if base.get(&path) != Some(&node) {
        change.put(path, Some(node));
    }
}

fn joined(blocks: &[&fence::Block]) -> String {
    let codes: Vec<&str> = blocks.iter().map(|it| it.code.as_str()).collect();
    codes.join("\n")
}

fn plain(change: Change) -> Reading<Change> {
    Reading {
        strict: Some(change.clone()),
        lenient: Ok(change),
        mended: None,
        deviations: Vec::new(),
        incomplete: false,
    }
}

fn nothing(reason: FailReason, deviations: Vec<Deviation>) -> Reading<Change> {
    Reading { strict: None, lenient: Err(reason), mended: None, deviations, incomplete: false }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PATCH: &str = "--- a/src/toll.py\n+++ b/src/toll.py\n@@ -1,2 +1,2 @@\n def toll():\n-    return 1\n+    return 2\n";

    fn read(text: &str) -> Result<Reading<Change>, PatchError> {
        let path = TreePath::parse(b"src/toll.py").unwrap();
        let bytes = b"def toll():\n    return 1\n"[..].into();
        let base = [(path, Node::File { bytes, executable: true })].into_iter().collect();
        let languages = Languages::shipped();
        read_change(text, WantedChange { base: &base, languages: &languages, most: 1 << 20 }, false)
    }

    fn code(reading: &Reading<Change>) -> String {
        let change = reading.lenient.as_ref().unwrap();
        let (_, node) = change.iter().next().unwrap();
        let Some(Node::File { bytes, executable: true }) = node else { panic!("{node:?}") };
        String::from_utf8(bytes.to_vec()).unwrap()
    }

    #[test]
    fn a_patch_and_whole_files_are_found_whatever_surrounds_them() {
        let after = "def toll():\n    return 2\n";
        for (text, deviations) in [
            (format!("```diff\n{PATCH}```\n"), vec![]),
            (format!("```\n{PATCH}```"), vec![]),
            (format!("Here:\n```patch\n{PATCH}```\nDone."), vec![Deviation::TextAround]),
            (PATCH.to_owned(), vec![Deviation::NoFence]),
            (format!("```python\n{PATCH}```"), vec![Deviation::OtherTag]),
            (format!("```diff\n{PATCH}"), vec![Deviation::UnclosedFence]),
            (format!("<think>hm</think>```diff\n{PATCH}```"), vec![Deviation::TextAround]),
            (format!("```diff\n{}```", PATCH.replace("-1,2", "-9,2")), vec![Deviation::PatchLines]),
            (format!("`src/toll.py`\n```python\n{after}```"), vec![]),
        ] {
            let reading = read(&text).unwrap();
            assert_eq!(code(&reading), after, "{text}");
            assert_eq!(reading.deviations, deviations, "{text}");
            assert_eq!(reading.strict.is_some(), deviations.is_empty(), "{text}");
        }
    }

    #[test]
    fn what_is_no_change_is_told_apart() {
        let nothing = read("I cannot do that.").unwrap();
        assert_eq!(nothing.lenient, Err(FailReason::NoCodeFound));
        let same = read("`src/toll.py`\n```python\ndef toll():\n    return 1\n```").unwrap();
        assert_eq!(same.lenient, Ok(Change::default()), "an empty change is an answer");
        assert!(read(&format!("```diff\n{}```", PATCH.replace("return 1", "return 7"))).is_err());
        let half =
            read("`src/toll.py`\n```python\n# ... rest of the file stays the same\n```").unwrap();
        assert!(half.incomplete);
    }
}
