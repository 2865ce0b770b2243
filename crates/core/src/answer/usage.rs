//! Blocks that show how the answer is used or tested, and names that are a block's own.

use std::collections::HashSet;
use std::sync::LazyLock;

use regex::Regex;

use super::Wanted;
use super::fence::Block;
use super::language;

/// Tests that a runner would find, by language.
static TESTS: LazyLock<Vec<(&str, Regex)>> = LazyLock::new(|| {
    [
        ("python", r"(?m)^\s*(?:import (?:unittest|pytest)\b|from (?:unittest|pytest)\b|def test_\w*\(|class \w+\(unittest\.)"),
        ("javascript", r#"(?m)^\s*(?:(?:describe|it|test)\s*\(|.*(?:require\(|from )['"]node:test['"])"#),
        ("typescript", r#"(?m)^\s*(?:(?:describe|it|test)\s*\(|.*(?:require\(|from )['"]node:test['"])"#),
        ("java", r"(?m)^\s*(?:@Test\b|import (?:static )?org\.junit)"),
        ("go", r"(?m)^func Test\w*\(\w+ \*testing\.T\)"),
        // A module of tests at the end of a file is part of the file.
        ("rust", r"(?m)\A\s*(?:#\[cfg\(test\)\]|use \w+::\*;\s*#\[test\])"),
    ]
    .map(|(language, marks)| (language, Regex::new(marks).expect("fixed")))
    .into()
});

/// What is looked at of one block.
struct BlockFacts<'a> {
    index: usize,
    code: &'a str,
    lines: HashSet<&'a str>,
    defines: HashSet<String>,
    /// Words of its own that it does not define at its top level, too.
    binds: HashSet<String>,
    is_test: bool,
}

/// Of the blocks that fit, those that are no tests, do not load the answer's own file, are no piece of
/// a longer one, and do not merely use what an earlier one defines. All of them, when none is left.
/// Only the last ones are looked at: an answer with more is no honest one, and must not keep the reader
/// busy.
pub fn without_usage(blocks: &[Block], fitting: &[usize], wanted: Wanted<'_>) -> Vec<usize> {
    let language = wanted.language;
    let tests = TESTS.iter().find(|it| it.0 == language).map(|it| &it.1);
    let facts = |&index: &usize| {
        let code = blocks[index].code.as_str();
        let defines = language::definitions(language, code).into_iter().take(NAMES_MAX).collect();
        BlockFacts {
            index,
            code,
            lines: code.lines().map(str::trim).filter(|it| !it.is_empty()).collect(),
            defines,
            binds: bound_names(language, code),
            is_test: tests.is_some_and(|it| it.is_match(code)),
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
                    && !it.binds.contains(*name)
                    && language::mentions(it.code, name)
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

/// Where names are given a meaning, by language: as a parameter, a local, a loop's variable, an import.
static BINDS: LazyLock<Vec<(&str, Vec<Regex>)>> = LazyLock::new(|| {
    let python = &[
        r"(?m)^[ \t]*([\w \t,()*]+?)[ \t]*(?::[^=\n]+)?=[^=]",
        r"\bfor\s+([\w\s,()*]+?)\s+in\b",
        r"\bdef\s+\w+\s*\(([^)]*)\)",
        r"\blambda\s+([^:\n]*):",
        r"\bas\s+(\w+)",
        r"\bimport\s+([\w., \t]+)",
        r"(\w+)\s*:=",
    ][..];
    let javascript = &[
        r"\b(?:const|let|var)\s+([^=;\n]+)",
        r"\bfunction\b[^(\n]*\(([^)]*)\)",
        r"\(([^()]*)\)\s*=>",
        r"(\w+)\s*=>",
        r"\bimport\s+([^;\n]*?)\s+from\b",
    ][..];
    let rust = &[
        r"\blet\s+([^=;\n]+)",
        r"\bfn\s+\w+[^(\n]*\(([^)]*)\)",
        r"\|([^|\n]*)\|",
        r"\bfor\s+([^{\n]*?)\s+in\b",
        r"\buse\s+([^;]+);",
    ][..];
    // A type before it, or a parameter's comma behind it.
    let typed = &[r"\b[\w>\]]+[\s*&]+(\w+)\s*(?:[=;,)\[]|:=)", r"(\w+)\s*:="][..];
    let all = |marks: &[&str]| marks.iter().map(|it| Regex::new(it).expect("fixed")).collect();
    vec![
        ("python", all(python)),
        ("javascript", all(javascript)),
        ("typescript", all(javascript)),
        ("rust", all(rust)),
        ("", all(typed)),
    ]
});

/// The names to which `code` gives a meaning of its own somewhere, those of its top level among them.
pub fn bound_names(language: &str, code: &str) -> HashSet<String> {
    let of = |language: &str| BINDS.iter().find(|it| it.0 == language).map(|it| &it.1);
    let patterns = of(language).or_else(|| of("")).into_iter().flatten();
    let lists = patterns.flat_map(|it| it.captures_iter(code)).filter_map(|it| it.get(1));
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    let words = lists.flat_map(|it| it.as_str().split(move |c| !is_word(c)));
    words.filter(|it| !it.is_empty()).map(str::to_owned).collect()
}
