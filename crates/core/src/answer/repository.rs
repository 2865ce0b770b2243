//! An answer that changes a repository: a patch, or whole files, wherever they stand in what was sent.

use super::edits::{self, EditError};
use super::{
    AnswerEnd, BlockNote, Deviation, Gaps, Reading, ReadingNotes, Role, Wanted, WantedKind,
    elision, fence,
};
use crate::change::{Applied, Change, PatchError, apply_patch, is_patch};
use crate::language::Languages;
use crate::tree::{FileTree, Node, RelPath, TreePath, WorkTree};
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

/// Reads a change from what a model sent, which ended as `end` says.
///
/// # Errors
/// When there is a patch, and it does not fit.
pub fn read_change(
    text: &str,
    wanted: WantedChange<'_>,
    end: AnswerEnd,
) -> Result<Reading<Change>, EditError> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let parts = fence::split(text, wanted.languages, &|_, _| None);
    let said = || parts.blocks.iter().filter(|it| !it.is_thought);
    let patches: Vec<&fence::Block> = said().filter(|it| edits::is_edit_block(it)).collect();
    let is_file = |it: &&fence::Block| it.label.is_some() && !edits::is_edit_block(it);
    let whole: Vec<&fence::Block> = said().filter(is_file).collect();
    let is_bare = patches.is_empty() && whole.is_empty() && edits::is_edit(&parts.prose);
    let mut deviations = Vec::new();
    if is_bare {
        deviations.push(Deviation::NoFence);
    } else if parts.has_thought || has_text(&parts, &whole, wanted.languages) {
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
    let bare = fence::Block { code: parts.prose.clone(), ..fence::Block::default() };
    let patches = if is_bare { vec![&bare] } else { patches };
    if !patches.is_empty() {
        match put_on(&patches, wanted) {
            Ok(Applied { change: found, slack }) => {
                change = found;
                deviations.extend(slack.into_iter().map(Deviation::from));
            }
            Err(_) if end == AnswerEnd::CutOff => {
                return Ok(Reading::nothing(FailReason::Incomplete).with(deviations));
            }
            Err(error) => return Err(error),
        }
    }
    let mut gaps = if end == AnswerEnd::CutOff { Gaps::Shown } else { Gaps::None };
    for block in &whole {
        let Some(label) = &block.label else { continue };
        gaps = gaps.max(gaps_of(block, &label.path, wanted));
        put_file(&mut change, wanted.base, (&label.path).into(), block.code.clone().into_bytes());
    }
    let notes = ReadingNotes::new(parts.blocks.iter().map(note).collect(), Vec::new());
    if patches.is_empty() && whole.is_empty() {
        let reason = match end {
            AnswerEnd::CutOff => FailReason::Incomplete,
            AnswerEnd::Refused => FailReason::Refused,
            AnswerEnd::Complete
                if parts.blocks.is_empty() && super::prose::is_refusal(&parts.prose) =>
            {
                FailReason::Refused
            }
            AnswerEnd::Complete => FailReason::NoCodeFound,
        };
        return Ok(Reading { notes, ..Reading::nothing(reason) }.with(deviations));
    }
    Ok(Reading { gaps, notes, ..Reading::plain(change) }.with(deviations))
}

/// What a block of a change was taken for.
fn note(block: &fence::Block) -> BlockNote {
    let (role, why) = match &block.label {
        _ if block.is_thought => (Role::Thought, "it stands where the model thinks".to_owned()),
        _ if edits::is_edit_block(block) => {
            (Role::Patch, "it was put on the repository".to_owned())
        }
        Some(label) => (Role::Answer, format!("it is the whole of `{}`", label.path)),
        None => (Role::Beside, "it is no patch and names no file".to_owned()),
    };
    let file = block.label.as_ref().map_or_else(String::new, |it| it.path.to_string());
    BlockNote { lines: block.lines, tag: block.tag.clone(), file, role, why }
}

/// Whether there is more around the blocks than the names of files.
fn has_text(parts: &fence::Parts, whole: &[&fence::Block], languages: &Languages) -> bool {
    let is_name = |line: &str| {
        let named = super::label::in_line(line.trim(), languages);
        line.split_whitespace().count() < 3
            && named.is_some_and(|path| {
                whole.iter().any(|it| it.label.as_ref().is_some_and(|it| it.path == path))
            })
    };
    parts.prose.lines().any(|line| !line.trim().is_empty() && !is_name(line))
}

fn gaps_of(block: &fence::Block, path: &RelPath, wanted: WantedChange<'_>) -> Gaps {
    let Some(language) = block.language.as_deref() else { return Gaps::None };
    let before = match wanted.base.get(&path.into()) {
        Some(Node::File { bytes, .. }) => bytes.to_vec(),
        _ => Vec::new(),
    };
    let given = FileTree::from([(path.clone(), before)]);
    let of_file = Wanted {
        file: path,
        language,
        kind: &WantedKind::Module,
        languages: wanted.languages,
        given: &given,
        packages: &[],
    };
    elision::gaps(&block.code, of_file, None)
}

fn put_on(patches: &[&fence::Block], wanted: WantedChange<'_>) -> Result<Applied, EditError> {
    if patches.iter().all(|it| is_patch(it.code.as_bytes())) {
        let codes: Vec<&str> = patches.iter().map(|it| it.code.as_str()).collect();
        return Ok(apply_patch(wanted.base, codes.join("\n").as_bytes(), wanted.most)?);
    }
    edits::put_on(wanted.base, patches, None, wanted.most)
}

/// Reads a change that came as a patch, not as text.
///
/// # Errors
/// When it does not fit.
pub fn read_patch(patch: &[u8], wanted: WantedChange<'_>) -> Result<Reading<Change>, PatchError> {
    if patch.trim_ascii().is_empty() {
        return Ok(Reading::plain(Change::default()));
    }
    let Applied { change, slack } = apply_patch(wanted.base, patch, wanted.most)?;
    Ok(Reading::plain(change).with(slack.into_iter().map(Deviation::from)))
}

/// Reads whole files that came as such.
#[must_use]
pub fn read_whole_files(files: &FileTree, wanted: WantedChange<'_>) -> Reading<Change> {
    let mut change = Change::default();
    for (path, bytes) in files {
        put_file(&mut change, wanted.base, path.into(), bytes.clone());
    }
    Reading::plain(change)
}

/// Puts a whole file, which keeps the mode that it had. One that is as it was is no change.
fn put_file(change: &mut Change, base: &WorkTree, path: TreePath, bytes: Vec<u8>) {
    let executable = matches!(base.get(&path), Some(Node::File { executable: true, .. }));
    let node = Node::File { bytes: bytes.into(), executable };
    if base.get(&path) != Some(&node) {
        change.put(path, Some(node));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PATCH: &str = "--- a/src/toll.py\n+++ b/src/toll.py\n@@ -1,2 +1,2 @@\n def toll():\n-    return 1\n+    return 2\n";

    fn read(text: &str) -> Result<Reading<Change>, EditError> {
        let path = TreePath::parse(b"src/toll.py").unwrap();
        let bytes = b"def toll():\n    return 1\n"[..].into();
        let base = [(path, Node::File { bytes, executable: true })].into_iter().collect();
        let languages = Languages::shipped();
        read_change(
            text,
            WantedChange { base: &base, languages: &languages, most: 1 << 20 },
            AnswerEnd::Complete,
        )
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
            (
                "src/toll.py\n```\n<<<<<<< SEARCH\n    return 1\n=======\n    return 2\n>>>>>>> REPLACE\n```".to_owned(),
                vec![Deviation::TextAround],
            ),
            (
                "*** Begin Patch\n*** Update File: src/toll.py\n@@\n def toll():\n-    return 1\n+    return 2\n*** End Patch\n".to_owned(),
                vec![Deviation::NoFence, Deviation::PatchHead, Deviation::PatchLines],
            ),
        ] {
            let reading = read(&text).unwrap();
            assert_eq!(code(&reading), after, "{text}");
            assert_eq!(reading.deviations, deviations, "{text}");
            assert_eq!(reading.strict().is_some(), deviations.is_empty(), "{text}");
        }
    }

    #[test]
    fn what_is_no_change_is_told_apart() {
        let nothing = read("It is done by the tide.").unwrap();
        assert_eq!(nothing.lenient, Err(FailReason::NoCodeFound));
        assert_eq!(read("I cannot help with that.").unwrap().lenient, Err(FailReason::Refused));
        let same = read("`src/toll.py`\n```python\ndef toll():\n    return 1\n```").unwrap();
        assert_eq!(same.lenient, Ok(Change::default()), "an empty change is an answer");
        assert!(read(&format!("```diff\n{}```", PATCH.replace("return 1", "return 7"))).is_err());
        let half =
            read("`src/toll.py`\n```python\n# ... rest of the file stays the same\n```").unwrap();
        assert_eq!(half.gaps, Gaps::Shown);
    }
}
