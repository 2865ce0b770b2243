//! Does code leave parts out?

use std::sync::LazyLock;

use regex::Regex;

use crate::language::{Dots, Syntax};

/// A comment that stands for code which is not there.
static STANDS_FOR: LazyLock<Regex> = LazyLock::new(|| {
    let phrases = [
        r"^(?:\.{3}|…)$",
        r"(?:\.{3}|…)\s*(?:the )?(?:rest|remaining|existing|previous|other|same|more|omitted|continue|etc)\b",
        r"\b(?:rest|remainder) (?:of|as|is|stays|remains|unchanged|goes|here|same)\b",
        r"\bremaining (?:code|methods?|functions?|parts?|logic|implementation|cases)\b",
        r"\b(?:existing|previous|original) (?:code|implementation|logic|methods?|functions?)(?: (?:here|unchanged|remains?|stays?|goes)|\s*(?:\.{3}|…)|$)",
        r"\b(?:stays?|remains?) (?:the same|as (?:it )?(?:is|was|before)|unchanged)\b",
        r"\b(?:same|as) (?:as )?(?:before|above)\s*(?:\.{3}|…|$)",
        r"^\W*(?:unchanged|omitted(?: for brevity)?|no changes?(?: here)?)\W*$",
        r"\byour (?:code|implementation|logic|solution) (?:goes )?here\b",
        r"\b(?:code|implementation|logic|details) (?:goes here|omitted|left out)\b",
        r"\bto be implemented\b",
        r"\btodo:? (?:implement|write|add|finish)\b",
    ];
    Regex::new(&format!("(?i){}", phrases.join("|"))).expect("fixed")
});

/// Whether a line of `code` stands for lines that are missing: a comment such as
/// `# rest as before`, or three dots alone on a line where the language has no such line. `name` is
/// what the code must define.
pub fn leaves_out(code: &str, syntax: &Syntax, name: Option<&str>) -> bool {
    let lines: Vec<&str> = code.lines().collect();
    (0..lines.len()).any(|at| {
        let line = lines[at].trim();
        let comment =
            ["#", "//", "--", "/*", "<!--", "*"].iter().find_map(|it| line.strip_prefix(it));
        match comment {
            Some(text) => {
                let text = text.trim_end_matches("*/").trim_end_matches("-->");
                STANDS_FOR.is_match(
                    text.trim_matches(|c: char| c.is_whitespace() || c == '#' || c == '/'),
                )
            }
            None if line == "..." => !is_accepted(&lines, at, syntax.dots, name),
            None => line == "…",
        }
    })
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
