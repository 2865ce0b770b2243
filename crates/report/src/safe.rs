//! Text from candidates and hosts, made harmless for a terminal.

use std::borrow::Cow;
use std::fmt::Write as _;

/// The text with every control character but line ends and tabs written out, so that nothing in
/// it can move the cursor, change colours, or turn the direction of what follows.
#[must_use]
pub fn safe(text: &str) -> Cow<'_, str> {
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

/// Whether a terminal prints a character as it is: no control character but line ends and tabs, none
/// that changes the direction of text, and none that is not seen at all.
pub(crate) fn is_harmless(c: char) -> bool {
    let is_hidden = matches!(
        c,
        '\u{200b}'..='\u{200f}'
            | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}'
            | '\u{feff}'
            | '\u{fff9}'..='\u{fffb}'
            | '\u{e0000}'..='\u{e007f}'
    );
    matches!(c, '\n' | '\t') || !(c.is_control() || is_hidden)
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
