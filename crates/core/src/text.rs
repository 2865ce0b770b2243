//! Texts: comparing them, setting them off in Markdown, and cutting long ones for people.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::value::close;
use crate::verdict::{UnknownWord, worded};

worded! {
    /// How two texts are compared.
    #[derive(Default)]
    Compare {
        /// Byte by byte.
        Exact = "exact",
        /// Line by line; white space at the ends of lines and blank lines at the end do not count.
        #[default]
        Lines = "lines",
        /// Word by word; any white space separates.
        Tokens = "tokens",
        /// Word by word; two numbers are the same within the tolerance.
        Number = "number",
    }
}

/// Where two texts differ first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextMismatch {
    /// Such as `line 3`, `word 7`, `byte 20`.
    pub place: String,
    /// What was expected there; empty where nothing was.
    pub expected: String,
    /// What was found there; empty where nothing was.
    pub found: String,
}

/// `text` if it is at most `most` bytes long, else its beginning and its end with a mark between.
#[must_use]
pub fn head_and_tail(text: &str, most: usize) -> String {
    if text.len() <= most {
        return text.to_owned();
    }
    let head = text.floor_char_boundary(most / 2);
    let tail = text.ceil_char_boundary(text.len() - most / 2);
    format!("{}\n[… {} bytes left out …]\n{}", &text[..head], tail - head, &text[tail..])
}

/// A fence longer than any run of backticks in the text.
#[must_use]
pub fn fence_for(text: &str) -> String {
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or(0);
    "`".repeat(longest.max(2) + 1)
}

/// Compares texts. `tolerance` is that of [`Compare::Number`].
///
/// # Errors
/// Where they differ first.
pub fn compare_texts(
    compare: Compare,
    tolerance: f64,
    expected: &[u8],
    found: &[u8],
) -> Result<(), TextMismatch> {
    let texts = (String::from_utf8_lossy(expected), String::from_utf8_lossy(found));
    match compare {
        Compare::Exact => same_bytes(expected, found),
        Compare::Lines => {
            let lines = |text| trimmed_lines(text).collect::<Vec<_>>();
            same_parts("line", &lines(&texts.0), &lines(&texts.1), |a, b| a == b)
        }
        Compare::Tokens => same_parts("word", &words(&texts.0), &words(&texts.1), |a, b| a == b),
        Compare::Number => {
            let near = |a: &str, b: &str| a == b || near(a, b, tolerance);
            same_parts("word", &words(&texts.0), &words(&texts.1), near)
        }
    }
}

fn words(text: &str) -> Vec<&str> {
    text.split_whitespace().collect()
}

/// Lines without the white space at their ends, and without blank lines at the end of the text.
fn trimmed_lines(text: &str) -> impl Iterator<Item = &str> {
    text.trim_end().lines().map(str::trim_end)
}

fn same_bytes(expected: &[u8], found: &[u8]) -> Result<(), TextMismatch> {
    if expected == found {
        return Ok(());
    }
    let at = expected.iter().zip(found).take_while(|(a, b)| a == b).count();
    let near = |bytes: &[u8]| {
        String::from_utf8_lossy(&bytes[at.min(bytes.len())..bytes.len().min(at + 40)]).into_owned()
    };
    Err(TextMismatch {
        place: format!("byte {}", at + 1),
        expected: near(expected),
        found: near(found),
    })
}

fn same_parts(
    what: &str,
    expected: &[&str],
    found: &[&str],
    same: impl Fn(&str, &str) -> bool,
) -> Result<(), TextMismatch> {
    let longest = expected.len().max(found.len());
    for index in 0..longest {
        let (a, b) = (expected.get(index).copied(), found.get(index).copied());
        if !matches!((a, b), (Some(a), Some(b)) if same(a, b)) {
            return Err(TextMismatch {
                place: format!("{what} {}", index + 1),
                expected: a.unwrap_or("").to_owned(),
                found: b.unwrap_or("").to_owned(),
            });
        }
    }
    Ok(())
}

fn near(a: &str, b: &str, tolerance: f64) -> bool {
    match (a.parse::<f64>(), b.parse::<f64>()) {
        (Ok(a), Ok(b)) => close(a, b, Some(tolerance)),
        _ => false,
    }
}

/// Longest name, in characters.
const NAME_MAX: usize = 80;

/// Why a text can be no name of a candidate, a task or a label: one must be seen, told from others in a table, and given as an
/// argument. `None`: it can.
#[must_use]
pub fn name_fault(name: &str) -> Option<&'static str> {
    // By the Unicode standard's general category Cf, as far as these can hide or reorder what stands beside them.
    let is_hidden = |c| {
        matches!(c, '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{e0000}'..='\u{e007f}')
    };
    if name.trim().is_empty() {
        Some("is empty")
    } else if name.chars().any(char::is_control) {
        Some("has control characters")
    } else if name.chars().any(is_hidden) {
        Some("has characters that cannot be seen")
    } else if name.trim() != name {
        Some("begins or ends with a space")
    } else if name.starts_with('-') {
        Some("begins with `-`, as options do")
    } else if name.chars().count() > NAME_MAX {
        Some("has more than 80 characters")
    } else {
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_messages_keep_both_ends() {
        let text = format!("{}é{}", "a".repeat(50), "z".repeat(50));
        let short = head_and_tail(&text, 20);
        assert!(short.starts_with("aaaaaaaaaa\n[… ") && short.ends_with("zzzzzzzzzz"));
    }
}
