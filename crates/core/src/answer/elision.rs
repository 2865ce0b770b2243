//! Does code leave parts out?

use std::sync::LazyLock;

use regex::Regex;

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
/// `# rest as before`, or three dots alone on a line.
pub fn leaves_out(code: &str) -> bool {
    code.lines().map(str::trim).any(|line| {
        let comment =
            ["#", "//", "--", "/*", "<!--", "*"].iter().find_map(|it| line.strip_prefix(it));
        match comment {
            Some(text) => {
                let text = text.trim_end_matches("*/").trim_end_matches("-->");
                STANDS_FOR.is_match(
                    text.trim_matches(|c: char| c.is_whitespace() || c == '#' || c == '/'),
                )
            }
            None => matches!(line, "..." | "…"),
        }
    })
}
