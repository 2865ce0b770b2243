//! Code taken apart as far as strings and comments go: enough to leave them alone, and to see which words
//! are code. It is an approximation, and nothing is decided by it alone.

use std::collections::HashSet;
use std::ops::Range;

use crate::language::Syntax;

/// What a stretch of code is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SpanKind {
    /// Code.
    Code,
    /// A comment, with its marks.
    Comment,
    /// A string, a character, a here-document, with its marks.
    Text,
}

/// A stretch of code, by its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CodeSpan {
    /// Where it is.
    pub range: Range<usize>,
    /// What it is.
    pub kind: SpanKind,
}

/// The stretches of `code`, one behind the other without a gap.
pub fn spans(code: &str, syntax: &Syntax) -> Vec<CodeSpan> {
    let mut spans: Vec<CodeSpan> = Vec::new();
    let (bytes, mut at, mut begun) = (code.as_bytes(), 0, 0);
    while at < bytes.len() {
        let Some((kind, end)) = special(code, at, syntax) else {
            at += 1;
            continue;
        };
        if begun < at {
            spans.push(CodeSpan { range: begun..at, kind: SpanKind::Code });
        }
        spans.push(CodeSpan { range: at..end, kind });
        (at, begun) = (end, end);
    }
    if begun < code.len() {
        spans.push(CodeSpan { range: begun..code.len(), kind: SpanKind::Code });
    }
    spans
}

/// The comment or string that begins at `at`, and its end.
fn special(code: &str, at: usize, syntax: &Syntax) -> Option<(SpanKind, usize)> {
    let bytes = code.as_bytes();
    let rest = bytes.get(at..)?;
    let first = *rest.first()?;
    let is_word = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_';
    let before = at.checked_sub(1).map(|it| bytes[it]);
    if !first.is_ascii() {
        return None;
    }
    let hashes = syntax.line_comment == "#";
    if hashes && first == b'#' {
        // In shell `#` within a word is no comment, nor is `$#`.
        let begins = !syntax.here_documents || before.is_none_or(|it| it.is_ascii_whitespace());
        return begins.then(|| (SpanKind::Comment, line_end(bytes, at)));
    }
    if !hashes && rest.starts_with(syntax.line_comment.as_bytes()) {
        return Some((SpanKind::Comment, line_end(bytes, at)));
    }
    if !hashes && rest.starts_with(b"/*") {
        return Some((SpanKind::Comment, behind(bytes, at + 2, b"*/")));
    }
    if syntax.here_documents && rest.starts_with(b"<<") && !rest.starts_with(b"<<<") {
        return here_document(code, at);
    }
    if first == b'r' && !before.is_some_and(is_word) {
        return raw_string(bytes, at);
    }
    if syntax.quotes.contains(&char::from(first)) {
        let triple = [first; 3];
        if syntax.triple_quotes && rest.starts_with(&triple) {
            return Some((SpanKind::Text, closed(bytes, at + 3, &triple, true)));
        }
        let is_long = syntax.long_quotes.contains(&char::from(first));
        return Some((SpanKind::Text, closed(bytes, at + 1, &[first], is_long)));
    }
    if first == b'\'' {
        return character(code, at);
    }
    None
}

fn line_end(bytes: &[u8], at: usize) -> usize {
    bytes[at..].iter().position(|&it| it == b'\n').map_or(bytes.len(), |it| at + it)
}

fn behind(bytes: &[u8], from: usize, mark: &[u8]) -> usize {
    let Some(rest) = bytes.get(from..) else { return bytes.len() };
    let found = rest.windows(mark.len()).position(|it| it == mark);
    found.map_or(bytes.len(), |it| from + it + mark.len())
}

/// The end of a string that begins before `from` and that `mark` ends. One of one line ends with it.
fn closed(bytes: &[u8], from: usize, mark: &[u8], is_long: bool) -> usize {
    let mut at = from;
    while at < bytes.len() {
        if bytes[at] == b'\\' {
            at += 2;
        } else if bytes[at..].starts_with(mark) {
            return at + mark.len();
        } else if bytes[at] == b'\n' && !is_long {
            return at;
        } else {
            at += 1;
        }
    }
    bytes.len()
}

/// `r"…"` and `r#"…"#`, where a quote follows.
fn raw_string(bytes: &[u8], at: usize) -> Option<(SpanKind, usize)> {
    let hashes = bytes[at + 1..].iter().take_while(|&&it| it == b'#').count();
    if hashes == 0 || bytes.get(at + 1 + hashes) != Some(&b'"') {
        return None;
    }
    let mark: Vec<u8> = std::iter::once(b'"').chain(std::iter::repeat_n(b'#', hashes)).collect();
    Some((SpanKind::Text, behind(bytes, at + 2 + hashes, &mark)))
}

/// A character in single quotes, in languages where these are no quotes of strings.
fn character(code: &str, at: usize) -> Option<(SpanKind, usize)> {
    let mut inside = code[at + 1..].char_indices();
    let (_, first) = inside.next()?;
    let close = if first == '\\' {
        let close = code[at + 3..].char_indices().take(10).find(|it| it.1 == '\'')?.0;
        at + 3 + close
    } else {
        let (close, quote) = inside.next()?;
        (quote == '\'').then_some(at + 1 + close)?
    };
    Some((SpanKind::Text, close + 1))
}

/// A here-document: from behind the line that begins it to the line that ends it.
fn here_document(code: &str, at: usize) -> Option<(SpanKind, usize)> {
    let (word, _) = here_word(&code[at..])?;
    let mut from = line_end(code.as_bytes(), at);
    for line in code[from..].split_inclusive('\n') {
        from += line.len();
        if line.trim_matches(['\t', '\n', ' ']) == word {
            break;
        }
    }
    Some((SpanKind::Text, from))
}

/// The word that ends a here-document which `text` begins with, and how long its beginning is.
pub fn here_word(text: &str) -> Option<(&str, usize)> {
    let rest = text.strip_prefix("<<")?;
    let rest = rest.strip_prefix('-').unwrap_or(rest).trim_start_matches([' ', '\\']);
    let (rest, quote) = match rest.chars().next()? {
        quote @ ('\'' | '"') => (&rest[1..], Some(quote)),
        _ => (rest, None),
    };
    let end = rest.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(rest.len());
    let word = &rest[..end];
    let behind = text.len() - rest.len() + end + usize::from(quote.is_some());
    (!word.is_empty()).then_some((word, behind))
}

/// The words of code, outside of strings and comments, that are not behind a dot.
pub fn words<'c>(code: &'c str, spans: &[CodeSpan]) -> HashSet<&'c str> {
    let mut words = HashSet::new();
    for text in spans.iter().flat_map(|span| code_of(code, span)) {
        let is_word = |c: char| c.is_alphanumeric() || c == '_';
        let mut at = 0;
        while let Some(begin) = text[at..].find(is_word).map(|it| at + it) {
            let end = text[begin..].find(|c| !is_word(c)).map_or(text.len(), |it| begin + it);
            if !text[..begin].ends_with('.') || text[..begin].ends_with("..") {
                words.insert(&text[begin..end]);
            }
            at = end;
        }
    }
    words
}

/// What of a stretch is code: all of it, or the places that a string has for code.
fn code_of<'c>(code: &'c str, span: &CodeSpan) -> Vec<&'c str> {
    let text = &code[span.range.clone()];
    match span.kind {
        SpanKind::Code => return vec![text],
        SpanKind::Comment => return Vec::new(),
        SpanKind::Text => {}
    }
    let before = code[..span.range.start].chars().next_back();
    let open = if text.starts_with('`') {
        "${"
    } else if before.is_some_and(|it| matches!(it, 'f' | 'F' | 'r' | 'R')) {
        "{"
    } else if text.contains("$(") {
        return vec![text];
    } else {
        return Vec::new();
    };
    let behind = text.split(open).skip(1);
    behind.map(|it| it.split('}').next().unwrap_or("")).collect()
}

/// Whether code ends within a here-document.
pub fn ends_in_here_document(code: &str, syntax: &Syntax) -> bool {
    let last = spans(code, syntax).pop().map(|it| &code[it.range]);
    last.filter(|it| syntax.here_documents && it.starts_with("<<")).is_some_and(|text| {
        let word = here_word(text).map(|it| it.0);
        let end = text.trim_end_matches('\n').lines().skip(1).last().map(str::trim);
        word.is_some() && end != word
    })
}

/// The code alone: strings are left as their first character twice, comments are gone.
pub fn bare_code(code: &str, spans: &[CodeSpan]) -> String {
    let mut out = String::with_capacity(code.len());
    for span in spans {
        let text = &code[span.range.clone()];
        match span.kind {
            SpanKind::Code => out.push_str(text),
            SpanKind::Comment => {}
            SpanKind::Text => {
                out.push_str("\"\"");
                out.extend(text.chars().filter(|&it| it == '\n'));
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::language::Languages;

    fn kinds(language: &str, code: &str, kind: SpanKind) -> Vec<String> {
        let languages = Languages::shipped();
        let syntax = &languages.find(language).unwrap().syntax;
        let spans = spans(code, syntax);
        assert_eq!(spans.iter().map(|it| it.range.len()).sum::<usize>(), code.len());
        spans.into_iter().filter(|it| it.kind == kind).map(|it| code[it.range].to_owned()).collect()
    }

    #[test]
    fn strings_and_comments_are_told_from_code() {
        use SpanKind::{Comment, Text};
        assert_eq!(kinds("python", "a = '''x\n#y''' # z", Text), ["'''x\n#y'''"]);
        assert_eq!(kinds("python", "a = 'x\\'' # z", Comment), ["# z"]);
        assert_eq!(kinds("c", "char a = '\"'; /* b\n */ x", Text), ["'\"'"]);
        assert_eq!(kinds("rust", "fn f<'a>(x: &'a str) { '\\n' }", Text), ["'\\n'"]);
        assert_eq!(kinds("rust", "let a = r#\"x\"y\"#;", Text), ["r#\"x\"y\"#"]);
        assert_eq!(
            kinds("shell", "cat <<'E' | x # y\na#b\nE\necho $#", Text),
            ["<<'E' | x # y\na#b\nE\n"]
        );
        assert_eq!(kinds("javascript", "`a\n// b` // c", Comment), ["// c"]);
    }
}
