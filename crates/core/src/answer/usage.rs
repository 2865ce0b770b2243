//! Blocks that show how the answer is used or tested, and names that are a block's own.

use std::collections::HashSet;

use super::fence::Block;
use super::{Wanted, mentions};

/// What is looked at of one block.
struct BlockFacts<'a> {
    index: usize,
    code: &'a str,
    lines: HashSet<&'a str>,
    defines: HashSet<String>,
    /// Words of its own that it does not define at its top level, too.
    binds: HashSet<&'a str>,
    is_test: bool,
}

/// Of the blocks that fit, those that are no tests, do not load the answer's own file, are no piece of
/// a longer one, and do not merely use what an earlier one defines. All of them, when none is left.
/// Only the last ones are looked at: an answer with more is no honest one, and must not keep the reader
/// busy.
pub fn without_usage(blocks: &[Block], fitting: &[usize], wanted: Wanted<'_>) -> Vec<usize> {
    let syntax = wanted.syntax();
    let facts = |&index: &usize| {
        let code = blocks[index].code.as_str();
        let defines = syntax.definitions(code).into_iter().take(NAMES_MAX).collect();
        BlockFacts {
            index,
            code,
            lines: code.lines().map(str::trim).filter(|it| !it.is_empty()).collect(),
            defines,
            binds: syntax.bound_names(code).collect(),
            is_test: syntax.has_tests(code),
        }
    };
    let last = fitting.len().saturating_sub(BLOCKS_MAX);
    let all_facts: Vec<BlockFacts<'_>> = fitting[last..].iter().map(facts).collect();
    let is_own = |it: &&BlockFacts<'_>| {
        let others = || all_facts.iter().filter(|other| other.index != it.index);
        let is_piece = |whole: &BlockFacts<'_>| {
            whole.code.len() > it.code.len() && it.lines.is_subset(&whole.lines)
        };
        let is_used = |earlier: &BlockFacts<'_>| {
            let lacks = |name: &&String| {
                !it.defines.contains(*name)
                    && !it.binds.contains(name.as_str())
                    && mentions(it.code, name)
            };
            earlier.index < it.index
                && !earlier.is_test
                && it.defines.is_disjoint(&earlier.defines)
                && earlier.defines.iter().any(|name| lacks(&name))
        };
        !it.is_test
            && !loads_own(it.code, wanted)
            && !others().any(is_piece)
            && !others().any(is_used)
    };
    let own: Vec<usize> = all_facts.iter().filter(is_own).map(|it| it.index).collect();
    if own.is_empty() { fitting.to_vec() } else { own }
}

/// Blocks, and names of each, that are looked at.
const BLOCKS_MAX: usize = 20;
const NAMES_MAX: usize = 200;

/// Whether code loads, includes or starts the answer's own file.
fn loads_own(code: &str, wanted: Wanted<'_>) -> bool {
    let (stem, name) = (wanted.file.stem(), wanted.file.file_name());
    let starts = |line: &str| {
        ["import ", "from ", "#include \"", "mod ", "use "].iter().any(|it| {
            line.strip_prefix(it).is_some_and(|rest| {
                rest.strip_prefix(stem).is_some_and(|rest| {
                    !rest.starts_with(|c: char| c.is_alphanumeric() || c == '_')
                })
            })
        })
    };
    let quoted = |it: &str| {
        ["'", "\""].iter().any(|q| {
            code.contains(&format!("{q}./{it}{q}")) || code.contains(&format!("{q}{it}{q}"))
        })
    };
    code.lines().any(|line| starts(line.trim_start()))
        || quoted(name)
        || code.contains(&format!("/{stem}'")) && quoted(stem)
}
