//! The lenient reader: which blocks are the answer.

use std::collections::{BTreeMap, HashSet};

use super::fence::{Block, Parts};
use super::{Deviation, Wanted, bare, elision, mentions, usage};
use crate::tree::RelPath;
use crate::verdict::FailReason;

/// What was chosen.
pub struct Chosen {
    /// The code by file, or why there is none.
    pub files: Result<BTreeMap<RelPath, String>, FailReason>,
    /// What had to be forgiven.
    pub deviations: Vec<Deviation>,
}

/// Tags of blocks that show something else than the code.
const NOT_CODE: &[&str] = &[
    "text",
    "txt",
    "plain",
    "plaintext",
    "output",
    "console",
    "terminal",
    "shell-session",
    "json",
    "yaml",
    "toml",
    "csv",
    "markdown",
    "md",
    "diff",
    "ini",
    "log",
    "mermaid",
    "xml",
];

/// Blocks before the chosen one that are looked at, and names in each. An answer with more is no
/// honest one, and must not keep the reader busy.
const JOINED_MAX: usize = 20;
const NAMES_MAX: usize = 200;

/// Chooses among the parts of an answer.
pub fn choose(text: &str, parts: &Parts, wanted: Wanted<'_>) -> Chosen {
    if parts.blocks.is_empty() {
        return without_blocks(text, wanted);
    }
    let mut deviations = Vec::new();
    let Some(main) = main_block(&parts.blocks, wanted) else {
        return nothing_fits(text, parts, wanted);
    };
    let block = &parts.blocks[main];
    let mut code = block.code.clone();
    for earlier in needed_before(&parts.blocks, main, wanted) {
        code = format!("{}\n{code}", parts.blocks[earlier].code);
        deviations.push(Deviation::BlocksJoined);
    }
    let mut files = BTreeMap::from([(wanted.file.clone(), code)]);
    for (index, other) in parts.blocks.iter().enumerate() {
        let Some(label) = &other.label else { continue };
        if index != main && label.file_name() != wanted.file.file_name() {
            files.insert(label.clone(), other.code.clone());
            deviations.push(Deviation::ExtraFile);
        }
    }
    deviations.extend(forgiven(parts, block, wanted));
    Chosen { files: Ok(files), deviations }
}

/// What is odd about the block chosen and its surroundings.
fn forgiven(parts: &Parts, block: &Block, wanted: Wanted<'_>) -> Vec<Deviation> {
    let wrong_tag = !block.tag.is_empty() && block.language.as_deref() != Some(wanted.language);
    let wrong_name = block.label.as_ref().is_some_and(|label| label != wanted.file);
    let checks = [
        (!parts.prose.trim().is_empty(), Deviation::TextAround),
        (parts.blocks.len() > 1, Deviation::SeveralBlocks),
        (!block.closed, Deviation::UnclosedFence),
        (wrong_tag, Deviation::OtherTag),
        (wrong_name, Deviation::OtherFileName),
    ];
    checks.into_iter().filter(|it| it.0).map(|it| it.1).collect()
}

/// The block that is the wanted file: the last one that carries its name; else the last that
/// defines the wanted name; else the last of the right language that could be run, is no piece of
/// another, and neither tests nor uses what another defines. Blocks that leave parts out come after
/// all that do not.
fn main_block(blocks: &[Block], wanted: Wanted<'_>) -> Option<usize> {
    let named = |block: &Block| {
        block.label.as_ref().is_some_and(|it| it.file_name() == wanted.file.file_name())
    };
    let whole =
        |index: &usize| !elision::leaves_out(&blocks[*index].code, wanted.syntax(), wanted.name);
    let by_name: Vec<usize> = (0..blocks.len()).filter(|&i| named(&blocks[i])).collect();
    if let Some(index) = by_name.iter().copied().rfind(whole).or(by_name.last().copied()) {
        return Some(index);
    }
    let fitting: Vec<usize> = (0..blocks.len()).filter(|&i| fits(&blocks[i], wanted)).collect();
    let defining: Vec<usize> = match wanted.name {
        Some(name) => {
            let defines = |i: &usize| wanted.syntax().defines(&blocks[*i].code, name);
            fitting.iter().copied().filter(defines).collect()
        }
        None => Vec::new(),
    };
    if let Some(index) = defining.iter().copied().rfind(whole).or(defining.last().copied()) {
        return Some(index);
    }
    let own = usage::without_usage(blocks, &fitting, wanted);
    let rank = |i: usize| (whole(&i), wanted.syntax().has_entry(&blocks[i].code));
    let best = own.iter().map(|&i| rank(i)).max()?;
    let among = || own.iter().copied().filter(|&i| rank(i) == best);
    let longest = among().map(|i| blocks[i].code.len()).max()?;
    // A later version is about as long; what is far shorter is a piece of one.
    among().rfind(|&i| blocks[i].code.len() * PIECE >= longest)
}

/// How many times shorter a piece is than the whole.
const PIECE: usize = 3;

/// Whether a block could be in the wanted language.
fn fits(block: &Block, wanted: Wanted<'_>) -> bool {
    if block.code.trim().is_empty() {
        return false;
    }
    match &block.language {
        Some(found) if found == wanted.language => true,
        Some(found) if is_kin(found, wanted) => {
            wanted.languages.guess(&block.code) == Some(wanted.language)
                || wanted.name.is_some_and(|it| wanted.syntax().defines(&block.code, it))
        }
        Some(_) => false,
        None if NOT_CODE.contains(&block.tag.as_str()) => {
            wanted.name.is_some_and(|it| wanted.syntax().defines(&block.code, it))
        }
        // A tag that no definition knows, such as `pascal`, is another language.
        None if !block.tag.is_empty() => false,
        None => wanted.languages.guess(&block.code).is_none_or(|it| {
            it == wanted.language || is_kin(it, wanted) || !wanted.syntax().is_known()
        }),
    }
}

/// Whether code in the wanted language is easily tagged as `other`.
fn is_kin(other: &str, wanted: Wanted<'_>) -> bool {
    wanted.syntax().kin.iter().any(|it| it == other)
}

/// Earlier blocks of the same language that define what the chosen one uses but lacks, nearest
/// first. Blocks with a file name of their own are files of their own.
fn needed_before(blocks: &[Block], main: usize, wanted: Wanted<'_>) -> Vec<usize> {
    if main == 0 {
        return Vec::new();
    }
    let code = &blocks[main].code;
    let own: HashSet<String> = wanted.syntax().definitions(code).into_iter().collect();
    let bound: HashSet<&str> = wanted.syntax().bound_names(code).collect();
    let needed = |block: &Block| {
        let mut names = wanted.syntax().definitions(&block.code);
        names.truncate(NAMES_MAX);
        let lacks = |name: &String| {
            !own.contains(name) && mentions(code, name) && !bound.contains(name.as_str())
        };
        // A block that defines again what the chosen one defines is an older version of it.
        names.iter().any(lacks) && !names.iter().any(|name| own.contains(name))
    };
    let joins = |&index: &usize| {
        let block = &blocks[index];
        block.label.is_none() && fits(block, wanted) && needed(block)
    };
    (main.saturating_sub(JOINED_MAX)..main).rev().filter(joins).collect()
}

/// Blocks there are, but none of them is the answer.
fn nothing_fits(text: &str, parts: &Parts, wanted: Wanted<'_>) -> Chosen {
    let is_other = |block: &Block| match &block.language {
        Some(found) => found != wanted.language,
        None if block.tag.is_empty() => wanted.languages.guess(&block.code).is_some(),
        None => !NOT_CODE.contains(&block.tag.as_str()),
    };
    let other = parts.blocks.iter().any(is_other);
    // The code may stand outside, with only its output or its usage in a block.
    let mut outside = without_blocks(&parts.prose, wanted);
    if outside.files.is_ok() && !text.is_empty() {
        outside.deviations.push(Deviation::SeveralBlocks);
        return outside;
    }
    let reason = if other { FailReason::WrongLanguage } else { FailReason::NoCodeFound };
    Chosen { files: Err(reason), deviations: Vec::new() }
}

fn without_blocks(text: &str, wanted: Wanted<'_>) -> Chosen {
    match bare::find(text, wanted) {
        Ok(found) => {
            let mut deviations = vec![Deviation::NoFence];
            if found.text_around {
                deviations.push(Deviation::TextAround);
            }
            let files = Ok(BTreeMap::from([(wanted.file.clone(), found.code)]));
            Chosen { files, deviations }
        }
        Err(reason) => Chosen { files: Err(reason), deviations: Vec::new() },
    }
}
