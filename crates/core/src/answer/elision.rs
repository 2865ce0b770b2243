//! Does code leave parts out?

use std::sync::LazyLock;

use regex::Regex;

use super::facts::CodeFacts;
use super::scan::{self, SpanKind};
use super::{Gaps, Wanted};
use crate::language::{Dots, Syntax};

/// A comment that could stand for code which is not there.
static HINTS: LazyLock<Regex> = LazyLock::new(|| {
    let phrases = [
        r"\b(?:rest|remainder) (?:of|as|is|stays|remains|unchanged|goes|here|same)\b",
        r"\bremaining (?:code|methods?|functions?|parts?|logic|implementation|cases)\b",
        r"\b(?:existing|previous|original|other|your) (?:code|implementation|logic|methods?|functions?|imports?|classes)\b",
        r"\b(?:stays?|remains?) (?:the same|as (?:it )?(?:is|was|before)|unchanged)\b",
        r"\b(?:same|as) (?:as )?(?:before|above|earlier|previously|in the (?:previous|first|earlier|original|last))\b",
        r"^\W*(?:unchanged|omitted(?: for brevity)?|no changes?(?: here)?|etc\.?)\W*$",
        r"\b(?:code|implementation|logic|details|solution) (?:goes |comes )?(?:here|omitted|left out)\b",
        r"\b(?:omitted|left out|skipped|shortened) (?:for|here)\b",
        r"\bto be implemented\b",
        r"\b(?:todo|fixme):? (?:implement|write|add|finish|fill)\b",
        r"\b(?:implement|fill in|add) (?:this|the rest|here|your)\b",
    ];
    Regex::new(&format!("(?i){}", phrases.join("|"))).expect("fixed")
});

/// A comment whose form says that it stands for something: dots, brackets, a cut.
static MARKS: LazyLock<Regex> = LazyLock::new(|| {
    let dots = r"(?:\.{3}|…)";
    let what = r"(?:rest|remaining|remainder|existing|previous|original|other|same|more|omitted|unchanged|snip\w*|code|implementation|methods?|functions?|imports?|before|above|continue|etc|as)";
    let phrases = [
        format!(r"^{dots}$"),
        format!(r"{dots}\W*(?:and |the |all |your |with )*{what}\b"),
        format!(r"\b{what}\b[\w\s,()'-]*{dots}\W*$"),
        format!(r"^[<\[({{].*\b{what}\b.*[>\])}}]$"),
        r"^\W*snip(?:ped)?\W*$".to_owned(),
        r"\bas in (?:the|my|your) (?:previous|earlier|last|first) (?:answer|version|reply|response|message|code)\b".to_owned(),
    ];
    Regex::new(&format!("(?i){}", phrases.join("|"))).expect("fixed")
});

/// Whether code leaves parts out. A comment that says so is one thing; what counts is whether anything is
/// missing: a body that is empty, a function that nobody defines, a definition of the given file, an end.
/// `is_sound` says whether the code parses.
pub fn gaps(code: &str, wanted: Wanted<'_>, is_sound: Option<bool>) -> Gaps {
    let syntax = wanted.syntax();
    let found = said(code, syntax, wanted.name());
    if found == Gaps::None || found == Gaps::Shown {
        return found;
    }
    let is_missing = || {
        let facts = CodeFacts::of(code, wanted);
        let given = wanted.given_text().map(|it| syntax.definitions(it)).unwrap_or_default();
        is_sound == Some(false)
            || facts.is_outline
            || given.iter().any(|it| !facts.defines.contains(it))
            || !facts.unknown_calls(syntax).is_empty()
    };
    if is_missing() { Gaps::Shown } else { found }
}

/// What the comments of `code` say, and its dots; `Shown` where one stands in place of a whole body.
fn said(code: &str, syntax: &Syntax, name: Option<&str>) -> Gaps {
    let lines: Vec<&str> = code.lines().collect();
    // Nearly all code says nothing of the kind; only then does it matter what is a string.
    let says = |line: &&str| line_says(line.trim()) != Gaps::None || line.trim() == "...";
    if !lines.iter().any(says) {
        return Gaps::None;
    }
    let spans = scan::spans(code, syntax);
    let mut texts = spans.iter().filter(|it| it.kind == SpanKind::Text).peekable();
    let (mut begin, mut found) = (0, Gaps::None);
    for at in 0..lines.len() {
        let first = begin + lines[at].len() - lines[at].trim_start().len();
        begin += lines[at].len() + 1;
        while texts.next_if(|it| it.range.end <= first).is_some() {}
        if texts.peek().is_some_and(|it| it.range.start < first && first < it.range.end) {
            continue;
        }
        let line = lines[at].trim();
        let here = match line {
            "..." if !is_accepted(&lines, at, syntax.dots, name) => Gaps::Marked,
            _ => line_says(line),
        };
        if here != Gaps::None && is_whole_body(&lines, at) {
            return Gaps::Shown;
        }
        found = found.max(here);
    }
    found
}

/// What a line says that is a comment, or three dots in one character.
fn line_says(line: &str) -> Gaps {
    let comment = ["#", "//", "--", "/*", "<!--", "*"].iter().find_map(|it| line.strip_prefix(it));
    match comment {
        Some(text) => of_comment(text),
        None if line == "…" || line == "<existing code>" => Gaps::Marked,
        None => Gaps::None,
    }
}

fn of_comment(text: &str) -> Gaps {
    let text = text.trim_end_matches("*/").trim_end_matches("-->");
    let text = text.trim_matches(|c: char| c.is_whitespace() || matches!(c, '#' | '/' | '*' | '-'));
    if MARKS.is_match(text) {
        Gaps::Marked
    } else if HINTS.is_match(text) {
        Gaps::Hinted
    } else {
        Gaps::None
    }
}

/// Whether a line is all that stands between the head of a block and its end.
fn is_whole_body(lines: &[&str], at: usize) -> bool {
    let depth = |line: &str| line.len() - line.trim_start().len();
    let is_comment =
        |line: &str| ["#", "//", "/*", "*"].iter().any(|it| line.trim().starts_with(it));
    let is_there = |line: &&&str| !line.trim().is_empty() && !is_comment(line);
    let before = lines[..at].iter().rev().find(is_there);
    let behind =
        lines[at + 1..].iter().find(|it| is_there(it) && it.trim() != "pass" && it.trim() != "...");
    before.is_some_and(|it| it.trim_end().ends_with([':', '{']) && depth(it) < depth(lines[at]))
        && behind.is_none_or(|it| depth(it) < depth(lines[at]) || it.trim_start().starts_with('}'))
}

/// Whether three dots alone on a line are code.
fn is_accepted(lines: &[&str], at: usize, dots: Dots, name: Option<&str>) -> bool {
    let before = || lines[..at].iter().rev().map(|it| it.trim()).find(|it| !it.is_empty());
    match dots {
        // The body of a protocol or an overload; but not of what is wanted, and not among statements
        // of the file itself.
        Dots::Bodies => {
            let is_inside = lines[at].starts_with([' ', '\t']);
            let of_wanted = |name: &str| {
                let name = name.rsplit('.').next().unwrap_or(name);
                before().is_some_and(|it| {
                    let it = it.strip_prefix("async ").unwrap_or(it);
                    it.strip_prefix("def ").is_some_and(|it| it.starts_with(&format!("{name}(")))
                })
            };
            is_inside && !name.is_some_and(of_wanted)
        }
        // Further parameters.
        Dots::Parameters => before().is_some_and(|it| it.ends_with([',', '('])),
        Dots::Nowhere => false,
    }
}
