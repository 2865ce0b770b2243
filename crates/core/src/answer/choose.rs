//! Which blocks of an answer are the file that was asked for, and what the others are.

use std::collections::BTreeMap;

use super::fence::{Block, Parts};
use super::fit::clear_role;
use super::label::LabelPlace;
use super::rank::{BlockCandidate, Rank, missing, rank};
use super::sound::SoundChecks;
use super::{BlockNote, CodeFacts, Deviation, Role, Wanted, join};
use crate::tree::RelPath;

/// What was chosen.
pub struct ChosenFile {
    /// The block that is the file.
    pub main: usize,
    /// The file's code.
    pub code: String,
    /// Files beside it.
    pub further: BTreeMap<RelPath, String>,
    /// What had to be forgiven.
    pub deviations: Vec<Deviation>,
    /// Whether it is what was asked for, if perhaps broken.
    pub is_whole: bool,
}

/// Blocks that are looked at closely, from the last one back. An answer with more is no honest one, and
/// must not keep the reader busy.
const CLOSELY_MAX: usize = 48;

/// Chooses among the blocks of an answer; `None` where none is what was asked for. The notes say what each
/// block was taken for.
pub fn choose(
    parts: &Parts,
    wanted: Wanted<'_>,
    checks: &SoundChecks<'_>,
) -> (Option<ChosenFile>, Vec<BlockNote>) {
    let blocks = &parts.blocks;
    let mut roles: Vec<Option<(Role, String)>> =
        blocks.iter().map(|block| clear_role(block, wanted)).collect();
    let fitting: Vec<usize> = (0..blocks.len()).filter(|&it| roles[it].is_none()).collect();
    let looked_at = &fitting[fitting.len().saturating_sub(CLOSELY_MAX)..];
    let mut candidates: Vec<BlockCandidate<'_>> =
        looked_at.iter().map(|&index| candidate(index, blocks, wanted)).collect();
    rank(&mut candidates, blocks, wanted, checks);
    let Some(best) = best(&candidates, blocks) else {
        for it in &candidates {
            roles[it.index] = Some((it.role, it.why.clone()));
        }
        return (None, notes(blocks, roles));
    };
    let joined = join::join(&candidates, best, blocks, wanted, checks);
    let mut deviations = forgiven(&blocks[candidates[best].index], blocks, wanted);
    if !joined.parts.is_empty() {
        deviations.push(Deviation::BlocksJoined);
    }
    for (at, it) in candidates.iter().enumerate() {
        roles[it.index] = Some(if at == best {
            (Role::Answer, why_answer(it, &candidates, &blocks[it.index], wanted))
        } else if let Some(why) = joined.parts.get(&it.index) {
            (Role::Part, why.clone())
        } else {
            beside(it, &candidates[best])
        });
    }
    let main = candidates[best].index;
    let prefix = prefix(&blocks[main], wanted);
    let mut further = BTreeMap::new();
    for (index, block) in blocks.iter().enumerate() {
        let Some(label) = &block.label else { continue };
        let is_further = index != main
            && !block.is_thought
            && label.path.file_name() != wanted.file.file_name()
            && matches!(
                roles[index],
                None | Some((
                    Role::FurtherFile | Role::Data | Role::Beside | Role::OtherLanguage,
                    _
                ))
            )
            && !block.code.trim().is_empty();
        if !is_further {
            continue;
        }
        let path = label.path.as_str();
        let path = path.strip_prefix(&prefix).unwrap_or(path);
        if let Ok(path) = RelPath::parse(path) {
            roles[index] = Some((Role::FurtherFile, format!("it is called `{path}`")));
            further.insert(path, block.code.clone());
            deviations.push(Deviation::ExtraFile);
        }
    }
    let is_whole = candidates[best].rank >= Rank::Elided;
    (
        Some(ChosenFile { main, code: joined.code, further, deviations, is_whole }),
        notes(blocks, roles),
    )
}

/// What is above the wanted file's folder in the name that a block gives it: `src/` in `src/main.rs`.
fn prefix(block: &Block, wanted: Wanted<'_>) -> String {
    let label = block.label.as_ref().map_or("", |it| it.path.as_str());
    label.strip_suffix(wanted.file.as_str()).filter(|it| it.ends_with('/')).unwrap_or("").to_owned()
}

fn notes(blocks: &[Block], roles: Vec<Option<(Role, String)>>) -> Vec<BlockNote> {
    let note = |(block, role): (&Block, Option<(Role, String)>)| {
        let (role, why) =
            role.unwrap_or((Role::Beside, "there are too many blocks to look at each".to_owned()));
        BlockNote {
            lines: block.lines,
            tag: block.tag.clone(),
            file: block.label.as_ref().map_or_else(String::new, |it| it.path.to_string()),
            role,
            why,
        }
    };
    blocks.iter().zip(roles).map(note).collect()
}

fn candidate<'a>(index: usize, blocks: &'a [Block], wanted: Wanted<'_>) -> BlockCandidate<'a> {
    let facts = CodeFacts::of(&blocks[index].code, wanted);
    BlockCandidate { index, facts, rank: Rank::Code, role: Role::Beside, why: String::new() }
}

/// The block that is the file: of those of the highest rank the last.
fn best(candidates: &[BlockCandidate<'_>], blocks: &[Block]) -> Option<usize> {
    let highest = candidates.iter().map(|it| it.rank).max().filter(|it| *it > Rank::Never)?;
    let among: Vec<usize> =
        (0..candidates.len()).filter(|&it| candidates[it].rank == highest).collect();
    if highest == Rank::Code {
        // Nothing is whole: one that is named, else the longest; it is what will be told to be wrong.
        let named = among.iter().copied().rfind(|&it| {
            blocks[candidates[it].index]
                .label
                .as_ref()
                .is_some_and(|it| it.place != LabelPlace::Above)
        });
        return named
            .or_else(|| among.iter().copied().max_by_key(|&it| candidates[it].facts.code.len()));
    }
    among.last().copied()
}

/// Why the chosen block was.
fn why_answer(
    it: &BlockCandidate<'_>,
    all: &[BlockCandidate<'_>],
    block: &Block,
    wanted: Wanted<'_>,
) -> String {
    let file = wanted.file.file_name();
    let is_named = block.label.as_ref().is_some_and(|it| it.path.file_name() == file);
    let whole = all.iter().filter(|it| it.rank >= Rank::Broken).count();
    let what = match (wanted.name(), is_named) {
        _ if it.rank < Rank::Elided => format!("nothing fits better, but {}", missing(wanted)),
        _ if it.rank == Rank::Elided => "it leaves parts out, but nothing else is whole".to_owned(),
        (Some(name), true) => format!("it is called `{file}` and defines `{name}`"),
        (Some(name), false) => format!("it defines `{name}`"),
        (None, true) => format!("it is called `{file}`"),
        (None, false) => "it is a whole file".to_owned(),
    };
    if whole > 1 && it.rank == Rank::Whole {
        format!("{what}, the last one that is meant")
    } else {
        what
    }
}

/// What a block is that was not chosen.
fn beside(it: &BlockCandidate<'_>, main: &BlockCandidate<'_>) -> (Role, String) {
    if it.role == Role::Draft && it.index > main.index && it.rank == Rank::Whole {
        return (Role::Draft, "another is taken".to_owned());
    }
    let used = main.facts.defines.iter().find(|name| it.facts.lacks(name));
    match used {
        Some(name) if it.role == Role::Beside => (Role::Usage, format!("it uses `{name}`")),
        _ => (it.role, it.why.clone()),
    }
}

/// What is odd about the block chosen and its surroundings.
pub fn forgiven(block: &Block, blocks: &[Block], wanted: Wanted<'_>) -> Vec<Deviation> {
    let wrong_tag = !block.tag.is_empty() && block.language.as_deref() != Some(wanted.language);
    // A comment is code; a name that is told beside it is not.
    let wrong_name = block
        .label
        .as_ref()
        .is_some_and(|it| it.place != LabelPlace::Comment && it.path != *wanted.file);
    let said = blocks.iter().filter(|it| !it.is_thought).count();
    let checks = [
        (said > 1, Deviation::SeveralBlocks),
        (!block.closed, Deviation::UnclosedFence),
        (block.fence_inside, Deviation::FenceInside),
        (block.found_in.is_some(), Deviation::Wrapped),
        (wrong_tag, Deviation::OtherTag),
        (wrong_name, Deviation::OtherFileName),
    ];
    checks.into_iter().filter(|it| it.0).map(|it| it.1).collect()
}
