//! Putting blocks together: only where the chosen one lacks what another gives.

use std::collections::{BTreeMap, HashSet};

use super::fence::Block;
use super::prose::{self, Intro};
use super::rank::{BlockCandidate, Rank};
use super::sound::SoundChecks;
use super::{Role, Wanted, WantedKind, facts};

/// Code, and the blocks that were put to it, each with why.
pub struct Joined {
    /// The code.
    pub code: String,
    /// The blocks, by their index.
    pub parts: BTreeMap<usize, String>,
}

/// Blocks that are put together at most, and rounds in which more are found.
const PARTS_MAX: usize = 12;
const ROUNDS_MAX: usize = 4;

/// The chosen block, with those that it needs before or behind it.
pub fn join(
    all: &[BlockCandidate<'_>],
    best: usize,
    blocks: &[Block],
    wanted: Wanted<'_>,
    checks: &SoundChecks<'_>,
) -> Joined {
    let main = &all[best];
    let alone = Joined { code: main.facts.code.to_owned(), parts: BTreeMap::new() };
    if all.len() == 1 || main.rank == Rank::Never {
        return alone;
    }
    let (mut codes, parts) = by_names(all, best, blocks, wanted);
    if let Some(code) = codes.pop_if(|_| !parts.is_empty()) {
        // Languages differ in what must come first.
        let others = codes.into_iter().rev();
        let mut orders = std::iter::once(code).chain(others);
        if let Some(code) = orders.find(|it| checks.of(it) != Some(false)) {
            return Joined { code, parts };
        }
    }
    if let Some(continued) = by_indentation(all, best, wanted, checks) {
        return continued;
    }
    if checks.of(main.facts.code) == Some(false)
        && let Some(pieces) = by_pieces(all, best, blocks, checks)
    {
        return pieces;
    }
    alone
}

/// Blocks that only load, define or set constants, and give a name that is free in what there is.
/// Ways to put them together, the best last.
fn by_names(
    all: &[BlockCandidate<'_>],
    best: usize,
    blocks: &[Block],
    wanted: Wanted<'_>,
) -> (Vec<String>, BTreeMap<usize, String>) {
    let (main, syntax) = (&all[best], wanted.syntax());
    let could = |it: &&BlockCandidate<'_>| {
        let block = &blocks[it.index];
        let is_own =
            block.label.as_ref().is_none_or(|it| it.path.file_name() == wanted.file.file_name());
        it.index != main.index
            && is_own
            && (it.facts.only_declares || it.facts.only_imports)
            && !it.facts.loads_own
            && !it.facts.has_tests
            && !matches!(it.role, Role::Quotation | Role::Piece | Role::Stub | Role::FurtherFile)
            && prose::intro(&block.before, &block.code) != Intro::Other
            // What defines again what the chosen one does is another version of it.
            && it.facts.defines.is_disjoint(&main.facts.defines)
    };
    let could: Vec<&BlockCandidate<'_>> = all.iter().filter(could).collect();
    let gives: Vec<HashSet<String>> = could.iter().map(|it| it.facts.gives(syntax)).collect();
    let mut taken: BTreeMap<usize, String> = BTreeMap::new();
    let mut within = vec![main];
    for _ in 0..ROUNDS_MAX {
        let before = taken.len();
        for (it, gives) in could.iter().zip(&gives) {
            if taken.contains_key(&it.index) || taken.len() >= PARTS_MAX {
                continue;
            }
            let free = gives.iter().find(|name| {
                let is_given = within.iter().any(|it| it.facts.defines.contains(*name));
                !is_given && within.iter().any(|it| it.facts.lacks(name))
            });
            let why = match free {
                Some(name) => format!("it gives `{name}`, which block {} lacks", main.index + 1),
                None if loads_more(it, main) => "it loads what the code needs".to_owned(),
                None if is_other_part(it, main, wanted) => {
                    format!("it defines what block {} does not", main.index + 1)
                }
                None => continue,
            };
            taken.insert(it.index, why);
            within.push(it);
        }
        if taken.len() == before {
            break;
        }
    }
    let is_behind = |it: &BlockCandidate<'_>| {
        it.index > main.index && !it.facts.only_imports && needs_first(it, &main.facts.defines)
    };
    fn text<'c>(it: &&BlockCandidate<'c>) -> &'c str {
        it.facts.code
    }
    let own = main.facts.code;
    let parts = || could.iter().copied().filter(|it| taken.contains_key(&it.index));
    let (imports, others): (Vec<_>, Vec<_>) = parts().partition(|it| it.facts.only_imports);
    let (behind, before): (Vec<_>, Vec<_>) = others.into_iter().partition(|it| is_behind(it));
    let order = imports.iter().chain(&before).map(text);
    let order: Vec<&str> = order.chain([own]).chain(behind.iter().map(text)).collect();
    let main_first =
        imports.iter().map(text).chain([own]).chain(before.iter().chain(&behind).map(text));
    let main_first: Vec<&str> = main_first.collect();
    (vec![main_first.join("\n"), order.join("\n")], taken)
}

/// Whether a block loads everything of something, and the chosen one loads nothing.
fn loads_more(it: &BlockCandidate<'_>, main: &BlockCandidate<'_>) -> bool {
    let lines: HashSet<&str> = main.facts.bare.lines().map(str::trim).collect();
    it.facts.loads_all()
        && it
            .facts
            .bare
            .lines()
            .map(str::trim)
            .filter(|it| !it.is_empty())
            .all(|it| !lines.contains(it))
        && !main
            .facts
            .bare
            .lines()
            .any(|it| it.starts_with("#include") || it.starts_with("import java"))
}

/// Whether two blocks are parts of one module: each whole, with names of its own.
fn is_other_part(it: &BlockCandidate<'_>, main: &BlockCandidate<'_>, wanted: Wanted<'_>) -> bool {
    let exports = |it: &BlockCandidate<'_>| {
        it.facts.bare.contains("module.exports") || it.facts.bare.contains("export default")
    };
    *wanted.kind == WantedKind::Module
        && it.rank == Rank::Whole
        && it.role != Role::Usage
        && it.facts.only_declares
        && !it.facts.defines.is_empty()
        && !(exports(it) && exports(main))
}

/// Whether a block needs names while it is loaded: as a base, a decorator, or in a constant.
fn needs_first(it: &BlockCandidate<'_>, names: &HashSet<String>) -> bool {
    let top = it.facts.bare.lines().filter(|it| !it.starts_with([' ', '\t']));
    top.filter(|line| line.starts_with("class ") || line.starts_with('@') || line.contains('='))
        .any(|line| names.iter().any(|it| facts::mentions(line, it)))
}

/// Methods that follow the chosen block's class in blocks of their own, indented or not.
fn by_indentation(
    all: &[BlockCandidate<'_>],
    best: usize,
    wanted: Wanted<'_>,
    checks: &SoundChecks<'_>,
) -> Option<Joined> {
    let main = &all[best];
    if !wanted.syntax().indented {
        return None;
    }
    let is_inside = |line: &str| line.trim().is_empty() || line.starts_with([' ', '\t']);
    let last = main.facts.bare.lines().rfind(|it| !is_inside(it))?;
    if !last.starts_with("class ") {
        return None;
    }
    let mut joined =
        Joined { code: main.facts.code.trim_end().to_owned() + "\n", parts: BTreeMap::new() };
    for it in &all[best + 1..] {
        let is_method = |line: &str| {
            line.trim_start().starts_with("def ")
                && (line.contains("(self") || line.contains("(cls"))
        };
        let code = it.facts.code;
        let text = if code.lines().all(is_inside) {
            code.to_owned()
        } else if code
            .lines()
            .filter(|it| !is_inside(it))
            .all(|it| is_method(it) || it.starts_with('@'))
        {
            let indented =
                |line: &str| if line.is_empty() { String::new() } else { format!("    {line}") };
            code.lines().map(indented).collect::<Vec<_>>().join("\n") + "\n"
        } else {
            continue;
        };
        if it.facts.loads_own
            || it.rank == Rank::Never
            || main.facts.bare.contains(it.facts.bare.trim())
        {
            continue;
        }
        let code = format!("{}\n{text}", joined.code);
        if checks.of(&code) == Some(true) {
            joined.code = code;
            joined.parts.insert(it.index, "it goes on with the class".to_owned());
        }
    }
    (!joined.parts.is_empty()).then_some(joined)
}

/// Blocks in a row that are not sound by themselves, and are so together: a class in pieces.
fn by_pieces(
    all: &[BlockCandidate<'_>],
    best: usize,
    blocks: &[Block],
    checks: &SoundChecks<'_>,
) -> Option<Joined> {
    let is_piece = |at: usize| {
        let it = &all[at];
        !it.facts.loads_own
            && !it.facts.has_tests
            && !blocks[it.index].is_thought
            && (it.rank != Rank::Never || checks.of(it.facts.code) == Some(false))
    };
    // With what follows first, since a piece goes on; then with what precedes.
    let rows = (best + 1..all.len())
        .map(|to| best..to + 1)
        .chain((0..best).rev().map(|from| from..best + 1))
        .chain(std::iter::once(0..all.len()));
    for row in rows.take(ROWS_MAX) {
        if !row.clone().all(is_piece) {
            continue;
        }
        let texts: Vec<&str> = row.clone().map(|it| all[it].facts.code).collect();
        let code = texts.join("\n");
        if checks.of(&code) == Some(true) {
            let why = || "together they parse, and not each by itself".to_owned();
            let parts = row.filter(|&it| it != best).map(|it| (all[it].index, why())).collect();
            return Some(Joined { code, parts });
        }
    }
    None
}

/// Rows of blocks that are tried.
const ROWS_MAX: usize = 6;
