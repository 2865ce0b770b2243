//! Typesetters' marks in code, put back to what a compiler reads.
//!
//! Only marks outside of strings and comments are touched: inside they may be meant.

use super::scan::{self, SpanKind};
use crate::language::Syntax;

/// Whether there are any marks of a typesetter in `code`.
pub fn has_marks(code: &str) -> bool {
    !code.is_ascii() && code.chars().any(|c| plain(c).is_some())
}

/// The code with typographic quotes, dashes and spaces outside of strings and comments replaced by
/// plain ones. Code without any comes back unchanged.
pub fn mend(code: &str, syntax: &Syntax) -> String {
    if !has_marks(code) {
        return code.to_owned();
    }
    let mut out = String::with_capacity(code.len());
    for span in scan::spans(code, syntax) {
        let text = &code[span.range];
        match span.kind {
            SpanKind::Code => {
                out.extend(text.chars().map(|c| plain(c).map_or(c.to_string(), str::to_owned)))
            }
            SpanKind::Comment | SpanKind::Text => out.push_str(text),
        }
    }
    out
}

/// The code with all such marks replaced, wherever they stand.
pub fn mend_all(code: &str) -> String {
    code.chars().map(|c| plain(c).map_or(c.to_string(), str::to_owned)).collect()
}

/// What stands for a typographic mark in code; `None` for any other character.
fn plain(c: char) -> Option<&'static str> {
    Some(match c {
        '“' | '”' | '„' | '‟' | '″' => "\"",
        '‘' | '’' | '‚' | '‛' | '′' => "'",
        '–' | '−' | '‐' | '‑' => "-",
        '\u{a0}' | '\u{2007}' | '\u{202f}' => " ",
        '\u{200b}' | '\u{200c}' | '\u{2060}' | '\u{feff}' => "",
        _ => return None,
    })
}
