//! Which blocks of an answer are the file that was asked for, and what the others are.

use std::collections::{BTreeMap, HashSet};

use super::facts::{self, CodeFacts, mentions};
use super::fence::{Block, Parts};
use super::label::LabelPlace;
use super::prose::{self, Intro};
use super::sound::SoundChecks;
use super::{BlockNote, Deviation, Gaps, Role, Wanted, WantedKind, edits, elision, join};
use crate::tree::RelPath;

/// What was chosen.
pub struct Choice {
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

/// What is known of a block, and what it is taken for.
pub struct Candidate<'a> {
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

/// Blocks that are looked at closely, from the last one back. An answer with more is no honest one, and
/// must not keep the reader busy.
const CLOSELY_MAX: usize = 48;

/// Chooses among the blocks of an answer; `None` where none is what was asked for. The notes say what each
/// block was taken for.
pub fn choose(
    parts: &Parts,
    wanted: Wanted<'_>,
    checks: &SoundChecks<'_>,
) -> (Option<Choice>, Vec<BlockNote>) {
    let blocks = &parts.blocks;
    let mut roles: Vec<Option<(Role, String)>> =
        blocks.iter().map(|block| clear_role(block, wanted)).collect();
    let fitting: Vec<usize> = (0..blocks.len()).filter(|&it| roles[it].is_none()).collect();
    let looked_at = &fitting[fitting.len().saturating_sub(CLOSELY_MAX)..];
    let mut candidates: Vec<Candidate<'_>> =
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
    (Some(Choice { main, code: joined.code, further, deviations, is_whole }), notes(blocks, roles))
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
fn clear_role(block: &Block, wanted: Wanted<'_>) -> Option<(Role, String)> {
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

fn candidate<'a>(index: usize, blocks: &'a [Block], wanted: Wanted<'_>) -> Candidate<'a> {
    let facts = CodeFacts::of(&blocks[index].code, wanted);
    Candidate { index, facts, rank: Rank::Code, role: Role::Beside, why: String::new() }
}

/// Ranks the blocks: each by itself, then against the others, then by what can be found out.
fn rank(
    candidates: &mut [Candidate<'_>],
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
    let whole = |it: &&Candidate<'_>| it.rank >= Rank::Other;
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
fn by_itself(it: &Candidate<'_>, block: &Block, wanted: Wanted<'_>, alone: bool) -> Ranked {
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

fn missing(wanted: Wanted<'_>) -> String {
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
    all: &[Candidate<'_>],
    blocks: &[Block],
    wanted: Wanted<'_>,
    files: &HashSet<String>,
) -> Option<Ranked> {
    let own = &all[at];
    let number = |it: &Candidate<'_>| it.index + 1;
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
    let is_piece = |whole: &Candidate<'_>| {
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
        let earlier = |it: &&Candidate<'_>| it.rank == Rank::Whole && it.index < own.index;
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
fn uses(own: &Candidate<'_>, whole: &Candidate<'_>) -> bool {
    let is_program = whole.facts.runs;
    let is_module = own.facts.runs && !own.facts.reads_input && own.facts.defines_nothing();
    whole.rank == Rank::Whole
        && (is_program || is_module)
        && own.facts.defines.is_disjoint(&whole.facts.defines)
        && whole.facts.defines.iter().any(|name| own.facts.lacks(name))
}

/// The block that is the file: of those of the highest rank the last.
fn best(candidates: &[Candidate<'_>], blocks: &[Block]) -> Option<usize> {
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
    it: &Candidate<'_>,
    all: &[Candidate<'_>],
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
fn beside(it: &Candidate<'_>, main: &Candidate<'_>) -> (Role, String) {
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

/// Whether a text names what a block would need; used where blocks are put together.
pub fn names_any(text: &str, names: &HashSet<String>) -> bool {
    names.iter().any(|it| mentions(text, it))
}
