//! Text from candidates and hosts, made harmless for a terminal.

use std::borrow::Cow;
use std::fmt::Write as _;

/// The text with every control character but line ends and tabs written out, so that nothing in
/// it can move the cursor, change colours, or turn the direction of what follows.
#[must_use]
pub fn safe(text: &str) -> Cow<'_, str> {
    let is_harmless = |c: char| c == '\n' || c == '\t' || !(c.is_control() || turns(c));
    if text.chars().all(is_harmless) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        if is_harmless(c) {
            out.push(c);
        } else if c == '\r' {
            out.push_str("\\r");
        } else {
            let _ = write!(out, "\\u{{{:x}}}", c as u32);
        }
    }
    Cow::Owned(out)
}

/// Characters that change the direction of text, or are not seen at all.
fn turns(c: char) -> bool {
    matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_a_terminal_obeys_gets_through() {
        let hostile = "a\u{1b}[2J\u{1b}]0;x\u{7}b\r\u{9b}31m\u{202e}c\td\n";
        let text = safe(hostile);
        assert_eq!(text, "a\\u{1b}[2J\\u{1b}]0;x\\u{7}b\\r\\u{9b}31m\\u{202e}c\td\n");
        assert_eq!(safe("Prüfung – ok\n"), "Prüfung – ok\n");
    }
}
