//! Typesetters' marks in code, put back to what a compiler reads.
//!
//! Only marks outside of strings and comments are touched: inside they may be meant.

use crate::language::Syntax;

/// Where in the code a character stands.
#[derive(Clone, Copy, PartialEq)]
enum ScanState {
    Code,
    LineComment,
    BlockComment,
    /// In a string that this many of this quote end.
    Text(char, usize),
}

/// The code with typographic quotes, dashes and spaces outside of strings and comments replaced by
/// plain ones. Code without any comes back unchanged.
pub fn mend(code: &str, syntax: &Syntax) -> String {
    if !code.chars().any(|c| plain(c).is_some()) {
        return code.to_owned();
    }
    let hash_comments = syntax.line_comment == "#";
    let chars: Vec<char> = code.chars().collect();
    let (mut out, mut state, mut at) = (String::with_capacity(code.len()), ScanState::Code, 0);
    while at < chars.len() {
        let c = chars[at];
        let next = chars.get(at + 1).copied();
        match state {
            ScanState::Code => {
                if (hash_comments && c == '#') || (!hash_comments && c == '/' && next == Some('/'))
                {
                    state = ScanState::LineComment;
                } else if !hash_comments && c == '/' && next == Some('*') {
                    state = ScanState::BlockComment;
                } else if syntax.quotes.contains(&c) {
                    let run = chars[at..].iter().take_while(|&&it| it == c).count();
                    if run >= 3 && syntax.triple_quotes {
                        out.extend([c, c]);
                        at += 2;
                        state = ScanState::Text(c, 3);
                    } else {
                        state = ScanState::Text(c, 1);
                    }
                }
                out.push_str(plain(c).unwrap_or(""));
                if plain(c).is_none() {
                    out.push(c);
                }
            }
            ScanState::LineComment | ScanState::BlockComment => {
                let ends = if state == ScanState::LineComment {
                    c == '\n'
                } else {
                    c == '/' && at > 0 && chars[at - 1] == '*'
                };
                if ends {
                    state = ScanState::Code;
                }
                out.push(c);
            }
            ScanState::Text(quote, count) => {
                out.push(c);
                if c == '\\' {
                    if let Some(next) = next {
                        out.push(next);
                        at += 1;
                    }
                } else if c == quote
                    && chars[at..].iter().take(count).filter(|&&it| it == quote).count() == count
                {
                    out.extend(std::iter::repeat_n(quote, count - 1));
                    at += count - 1;
                    state = ScanState::Code;
                } else if c == '\n' && count == 1 && !syntax.long_quotes.contains(&quote) {
                    state = ScanState::Code;
                }
            }
        }
        at += 1;
    }
    out
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
