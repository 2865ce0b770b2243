//! How much each block is what was asked for: by itself, against the others, and by what can be found out.

use std::collections::HashSet;

use super::fence::Block;
use super::prose::{self, Intro};
use super::sound::SoundChecks;
use super::{CodeFacts, Gaps, Role, Wanted, WantedKind, elision, facts};
use crate::tree::RelPath;

/// What is known of a block, and what it is taken for.
pub struct BlockCandidate<'a> {
    /// Which block it is.
    pub index: usize,
    /// What it is made of.
    pub facts: CodeFacts<'a>,
    /// How much it is what was asked for.
    pub rank: Rank,
    /// What it is, where it is not chosen.
    pub role: Role,
    /// Why.
    pub why: String,
}

/// How much a block is what was asked for; of equal ones the last counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rank {
    /// It is something else.
    Never,
    /// It repeats something, or is a piece or an outline.
    Outline,
    /// It is code in the language.
    Code,
    /// It leaves parts out.
    Elided,
    /// It is whole but does not end, or does not parse.
    Broken,
    /// It is whole, and said not to be what counts.
    Other,
    /// It is whole.
    Whole,
}

/// Ranks the blocks: each by itself, then against the others, then by what can be found out.
pub fn rank(
    candidates: &mut [BlockCandidate<'_>],
    blocks: &[Block],
    wanted: Wanted<'_>,
    checks: &SoundChecks<'_>,
) {
    let alone = candidates.len() == 1;
    let files: HashSet<String> = blocks
        .iter()
        .filter_map(|it| it.label.as_ref())
        .flat_map(|it| {
            [it.path.stem().to_owned(), it.path.as_str().split('/').next().unwrap_or("").to_owned()]
        })
        .collect();
    for at in 0..candidates.len() {
        let (rank, role, why) =
            by_itself(&candidates[at], &blocks[candidates[at].index], wanted, alone);
        let it = &mut candidates[at];
        (it.rank, it.role, it.why) = (rank, role, why);
    }
    for at in 0..candidates.len() {
        if let Some((rank, role, why)) = against(at, candidates, blocks, wanted, &files) {
            let it = &mut candidates[at];
            if rank < it.rank {
                (it.rank, it.role, it.why) = (rank, role, why);
            }
        }
    }
    // Only where there is a choice does it matter whether they are sound.
    let whole = |it: &&BlockCandidate<'_>| it.rank >= Rank::Other;
    if candidates.iter().filter(whole).count() < 2 {
        return;
    }
    for at in
        (0..candidates.len()).filter(|&it| candidates[it].rank >= Rank::Other).collect::<Vec<_>>()
    {
        let block = &blocks[candidates[at].index];
        let is_cut = !block.closed;
        let covers = candidates
            .iter()
            .filter(|it| it.rank >= Rank::Other && it.index < candidates[at].index)
            .all(|it| it.facts.defines.is_subset(&candidates[at].facts.defines));
        if checks.of(&block.code) == Some(false) && (is_cut || !covers) {
            let it = &mut candidates[at];
            (it.rank, it.role, it.why) =
                (Rank::Broken, Role::Piece, "it does not parse by itself".to_owned());
        }
    }
}

type Ranked = (Rank, Role, String);

/// What a block is without regard to the others.
fn by_itself(it: &BlockCandidate<'_>, block: &Block, wanted: Wanted<'_>, alone: bool) -> Ranked {
    let facts = &it.facts;
    let what = wanted.file;
    let is_wanted = match wanted.kind {
        WantedKind::Definition(_) => facts.defines_wanted,
        WantedKind::Program => facts.runs,
        WantedKind::Module => !facts.defines.is_empty() || facts.runs,
    };
    if facts.loads_own {
        return (
            Rank::Never,
            if facts.has_tests { Role::Tests } else { Role::Usage },
            format!("it loads or starts `{what}`"),
        );
    }
    let is_named = block.label.as_ref().is_some_and(|it| it.path.file_name() == what.file_name());
    if facts.has_tests
        && !facts.defines_wanted
        && !(alone && facts.runs && *wanted.kind == WantedKind::Program)
    {
        let holds_more =
            *wanted.kind != WantedKind::Program && is_named && !facts.defines.is_empty();
        if !holds_more {
            return (Rank::Never, Role::Tests, "it holds tests".to_owned());
        }
    }
    if let Some(label) = &block.label
        && !is_named
        && is_test_file(&label.path)
    {
        return (Rank::Never, Role::Tests, format!("it is called `{}`", label.path));
    }
    if facts.is_outline {
        return (
            Rank::Outline,
            Role::Stub,
            format!("of `{}` it has nothing but the outline", wanted.name().unwrap_or("")),
        );
    }
    let gaps = elision::gaps(facts.code, wanted, None);
    if gaps >= Gaps::Marked {
        return (Rank::Elided, Role::Piece, "it leaves parts out".to_owned());
    }
    let intro = prose::intro(&block.before, &block.code);
    if !is_wanted {
        let uses = wanted.name().is_some_and(|name| facts.lacks(name));
        if uses {
            return (
                Rank::Never,
                Role::Usage,
                format!("it uses `{}`", wanted.name().unwrap_or("")),
            );
        }
        if intro == Intro::Usage && !alone {
            return (Rank::Never, Role::Usage, "the text before it says so".to_owned());
        }
        return (Rank::Code, Role::Beside, missing(wanted));
    }
    match intro {
        Intro::Other => {
            (Rank::Other, Role::Draft, "the text before it says that it is not the one".to_owned())
        }
        Intro::Usage if wanted.name().is_none() && !is_named && !alone => {
            (Rank::Code, Role::Usage, "the text before it says so".to_owned())
        }
        _ => (Rank::Whole, Role::Draft, "a later one takes its place".to_owned()),
    }
}

/// What a block lacks that is not the file.
pub fn missing(wanted: Wanted<'_>) -> String {
    match wanted.name() {
        Some(name) => format!("it does not define `{name}`"),
        None => "it is no whole file".to_owned(),
    }
}

fn is_test_file(path: &RelPath) -> bool {
    let (stem, name) = (path.stem(), path.file_name());
    stem.starts_with("test_")
        || stem.ends_with("_test")
        || stem.ends_with("Test")
        || stem.ends_with("_spec")
        || name.contains(".test.")
        || name.contains(".spec.")
        || path.as_str().starts_with("tests/")
}

/// What a block is beside the others.
fn against(
    at: usize,
    all: &[BlockCandidate<'_>],
    blocks: &[Block],
    wanted: Wanted<'_>,
    files: &HashSet<String>,
) -> Option<Ranked> {
    let own = &all[at];
    let number = |it: &BlockCandidate<'_>| it.index + 1;
    let others = || all.iter().enumerate().filter(move |it| it.0 != at).map(|it| it.1);
    let (text, label) = (own.facts.code.trim(), blocks[own.index].label.as_ref());
    if let Some(given) = wanted.given.iter().find(|(_, bytes)| {
        text.lines().count() > 1 && std::str::from_utf8(bytes).is_ok_and(|it| it.contains(text))
    }) && others().any(|it| it.rank >= Rank::Code)
    {
        return Some((
            Rank::Outline,
            Role::Quotation,
            format!("it stands so in the given `{}`", given.0),
        ));
    }
    if let Some(first) = others().find(|it| it.index < own.index && it.facts.code.trim() == text) {
        return Some((
            Rank::Outline,
            Role::Quotation,
            format!("block {} is the same", number(first)),
        ))
        .filter(|_| {
            others().any(|it| {
                it.index < own.index && it.facts.code.trim() != text && it.rank == Rank::Whole
            })
        });
    }
    // A file of another name, where there is one for the file that was asked for.
    if let Some(label) = label
        && label.path.file_name() != wanted.file.file_name()
        && others().any(|it| {
            let named = blocks[it.index].label.as_ref();
            let is_for_it = named.is_none_or(|it| it.path.file_name() == wanted.file.file_name());
            it.rank >= Rank::Other && (is_for_it || own.rank < Rank::Other)
        })
    {
        return Some((Rank::Never, Role::FurtherFile, format!("it is called `{}`", label.path)));
    }
    let is_piece = |whole: &BlockCandidate<'_>| {
        let is_cleaned = own.rank == Rank::Whole
            && whole.index < own.index
            && whole.facts.defines.is_subset(&own.facts.defines)
            && (!own.facts.is_stretch_of(whole.facts.code)
                || (own.facts.only_declares && !whole.facts.only_declares));
        whole.rank >= own.rank.min(Rank::Other) && own.facts.is_within(&whole.facts) && !is_cleaned
    };
    if let Some(whole) = others().find(|it| is_piece(it)) {
        return Some((
            Rank::Outline,
            Role::Piece,
            format!("all of it stands in block {}", number(whole)),
        ));
    }
    if wanted.name().is_none() {
        if let Some(used) = others().find(|it| uses(own, it)) {
            return Some((
                Rank::Never,
                Role::Usage,
                format!("it uses what block {} defines", number(used)),
            ));
        }
        if *wanted.kind == WantedKind::Program
            && own.rank == Rank::Whole
            && !own.facts.reads_input
            && others().any(|it| it.rank == Rank::Whole && it.facts.reads_input)
        {
            return Some((
                Rank::Code,
                Role::Usage,
                "it reads nothing, and another does".to_owned(),
            ));
        }
    } else if own.rank >= Rank::Other {
        let earlier = |it: &&BlockCandidate<'_>| it.rank == Rank::Whole && it.index < own.index;
        let foreign = facts::foreign_package(&own.facts.bare, wanted, files);
        if let Some(package) = foreign
            && let Some(first) = others()
                .filter(earlier)
                .find(|it| facts::foreign_package(&it.facts.bare, wanted, files).is_none())
        {
            let why = format!("it needs `{package}`, and block {} does not", number(first));
            return Some((Rank::Other, Role::Draft, why));
        }
        if facts::is_async(own.facts.code, wanted)
            && let Some(first) =
                others().filter(earlier).find(|it| !facts::is_async(it.facts.code, wanted))
        {
            return Some((
                Rank::Other,
                Role::Draft,
                format!("it is asynchronous, and block {} is not", number(first)),
            ));
        }
    }
    None
}

/// Whether a block uses what a whole one defines, and defines nothing of it itself.
fn uses(own: &BlockCandidate<'_>, whole: &BlockCandidate<'_>) -> bool {
    let is_program = whole.facts.runs;
    let is_module = own.facts.runs && !own.facts.reads_input && own.facts.defines_nothing();
    whole.rank == Rank::Whole
        && (is_program || is_module)
        && own.facts.defines.is_disjoint(&whole.facts.defines)
        && whole.facts.defines.iter().any(|name| own.facts.lacks(name))
}
