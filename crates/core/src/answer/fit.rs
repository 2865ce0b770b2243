//! What a block is at a glance, by its tag, its name and its looks.

use super::fence::Block;
use super::{Role, Wanted, WantedKind, edits};
use crate::tree::RelPath;

/// Tags of blocks that show something else than the code.
const NOT_CODE: &[&str] = &[
    "text",
    "txt",
    "plain",
    "plaintext",
    "output",
    "out",
    "console",
    "terminal",
    "shell-session",
    "session",
    "stdout",
    "stdin",
    "input",
    "json",
    "jsonc",
    "yaml",
    "yml",
    "toml",
    "csv",
    "tsv",
    "markdown",
    "md",
    "ini",
    "log",
    "mermaid",
    "xml",
    "html",
    "css",
    "sql",
    "result",
    "none",
    "nohighlight",
    "math",
    "latex",
    "make",
    "makefile",
    "dockerfile",
    "cmake",
    "env",
    "properties",
    "http",
];

/// Tags that say nothing of the language.
const NEUTRAL: &[&str] =
    &["code", "solution", "answer", "program", "source", "file", "final", "snippet"];

/// Tags of shells, where these are not asked for.
const SHELLS: &[&str] = &[
    "bash",
    "sh",
    "shell",
    "zsh",
    "console",
    "terminal",
    "powershell",
    "ps1",
    "cmd",
    "bat",
    "fish",
    "shell-session",
    "shellsession",
];

/// What a block is at a glance; `None` for one that could be the answer.
pub fn clear_role(block: &Block, wanted: Wanted<'_>) -> Option<(Role, String)> {
    if block.is_thought {
        return Some((Role::Thought, "it stands where the model thinks".to_owned()));
    }
    if block.code.trim().is_empty() {
        return Some((Role::Data, "it is empty".to_owned()));
    }
    if block.writes_files {
        return Some((Role::Commands, "it writes the files that stand in it".to_owned()));
    }
    if edits::is_edit_block(block) {
        return Some((Role::Patch, "it changes files by their lines".to_owned()));
    }
    let is_file = |it: &RelPath| it.file_name() == wanted.file.file_name();
    if let Some(label) = &block.label
        && !is_file(&label.path)
    {
        let language = wanted.languages.by_extension(label.path.extension());
        let is_other = language.is_none_or(|it| it != wanted.language && !wanted.is_kin(it));
        if is_other && block.language.as_deref() != Some(wanted.language) {
            return Some((Role::FurtherFile, format!("it is called `{}`", label.path)));
        }
    }
    fits(block, wanted).err()
}

/// Whether a block could be in the wanted language, or what it is instead.
fn fits(block: &Block, wanted: Wanted<'_>) -> Result<(), (Role, String)> {
    let syntax = wanted.syntax();
    let tag = block.tag.as_str();
    let defines = || wanted.name().is_some_and(|it| syntax.defines(&block.code, it));
    let guess = || wanted.languages.guess(&block.code);
    let looks_right = || {
        guess() == Some(wanted.language)
            && match wanted.kind {
                WantedKind::Definition(_) => defines(),
                WantedKind::Program => syntax.has_entry(&block.code),
                WantedKind::Module => !syntax.definitions(&block.code).is_empty(),
            }
    };
    let is_named =
        block.label.as_ref().is_some_and(|it| it.path.file_name() == wanted.file.file_name());
    let is_right = match &block.language {
        Some(found) if found == wanted.language => true,
        Some(found) if wanted.is_kin(found) => {
            guess().is_none_or(|it| it == wanted.language || it == found)
                && (defines() || wanted.name().is_none())
                || looks_right()
        }
        Some(_) => looks_right() || (is_named && defines()),
        None if NEUTRAL.contains(&tag) || tag.is_empty() => {
            let could_be = || {
                syntax.likeness(&block.code) > 0.0 || block.code.lines().any(|it| syntax.begins(it))
            };
            is_named
                || defines()
                || !syntax.is_known()
                || guess().map_or_else(could_be, |it| it == wanted.language || wanted.is_kin(it))
        }
        None if NOT_CODE.contains(&tag) => looks_right() || defines(),
        // A tag that no definition knows, such as `pascal`, is another language.
        None => looks_right(),
    };
    if is_right {
        return Ok(());
    }
    let is_shell = SHELLS.contains(&tag) || block.language.as_deref() == Some("shell");
    Err(match &block.language {
        _ if is_shell => (Role::Commands, format!("it is tagged `{tag}`")),
        Some(found) if tag.is_empty() => (Role::OtherLanguage, format!("it looks like {found}")),
        Some(_) => (Role::OtherLanguage, format!("it is tagged `{tag}`")),
        None if NOT_CODE.contains(&tag) => (Role::Data, format!("it is tagged `{tag}`")),
        None if tag.is_empty() => match guess() {
            Some("shell") => (Role::Commands, "it looks like shell".to_owned()),
            Some(found) => (Role::OtherLanguage, format!("it looks like {found}")),
            None => (Role::Data, "it does not look like code".to_owned()),
        },
        None => (Role::OtherLanguage, format!("it is tagged `{tag}`")),
    })
}
