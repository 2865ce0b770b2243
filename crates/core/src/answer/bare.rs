//! Code that stands in an answer without a fence.

use std::sync::LazyLock;

use regex::Regex;

use super::Wanted;
use crate::verdict::FailReason;

/// Code found in running text.
pub struct Bare {
    /// The code.
    pub code: String,
    /// Whether something was cut off before or after it.
    pub text_around: bool,
}

/// Finds the code that is wanted in a text without fences: from the first line that begins code to
/// the last one that is not prose.
///
/// # Errors
/// `no code found`, or `wrong language` when there is code of another one.
pub fn find(text: &str, wanted: Wanted<'_>) -> Result<Bare, FailReason> {
    let text = unquoted(text);
    let found = find_flush(&text, wanted);
    match indented(&text) {
        // A block set off by indentation alone, as Markdown allows.
        Some(block) if found.is_err() => {
            let bare = find_flush(&block, wanted)?;
            Ok(Bare { text_around: true, ..bare })
        }
        _ => found,
    }
}

/// The lines that are set off by indentation, without it.
fn indented(text: &str) -> Option<String> {
    let is_set_off =
        |line: &&str| line.starts_with("    ") || line.starts_with('\t') || line.is_empty();
    let lines: Vec<&str> = text.lines().filter(is_set_off).collect();
    let depth = |line: &&str| line.len() - line.trim_start().len();
    let least = lines.iter().filter(|line| !line.trim().is_empty()).map(depth).min()?;
    Some(lines.iter().map(|line| line.get(least..).unwrap_or("")).collect::<Vec<_>>().join("\n"))
}

fn find_flush(text: &str, wanted: Wanted<'_>) -> Result<Bare, FailReason> {
    let lines: Vec<&str> = text.lines().collect();
    let (languages, syntax) = (wanted.languages, wanted.syntax());
    let is_other = |it: &str| it != wanted.language && !syntax.kin.iter().any(|kin| kin == it);
    let is_start = |line: &&str| syntax.begins(line) && !is_prose(line);
    let Some(mut start) = lines.iter().position(is_start) else {
        return Err(match languages.guess(text) {
            Some(found) if is_other(found) => FailReason::WrongLanguage,
            _ => FailReason::NoCodeFound,
        });
    };
    // Comments just above belong to the code.
    while start > 0 && is_comment(lines[start - 1]) {
        start -= 1;
    }
    let after = lines[start..].iter().rposition(|line| !line.trim().is_empty() && !is_prose(line));
    let end = start + after.map_or(0, |it| it + 1);
    let code = lines[start..end].join("\n") + "\n";
    let guess = languages.guess(&code);
    let likeness = syntax.likeness(&code);
    let better =
        |it: &str| languages.find(it).is_some_and(|it| it.syntax.likeness(&code) > likeness + 0.2);
    if syntax.is_known() {
        if guess.is_some_and(|it| is_other(it) && better(it)) {
            return Err(FailReason::WrongLanguage);
        }
        if guess.is_none() && likeness < 0.1 {
            return Err(FailReason::NoCodeFound);
        }
    }
    let rest = lines[..start].iter().chain(&lines[end..]);
    Ok(Bare { code, text_around: rest.into_iter().any(|line| !line.trim().is_empty()) })
}

/// The text without quotes around the whole of it, a language word alone on its first line, and
/// stray fence lines at its end.
fn unquoted(text: &str) -> String {
    let mut text = text.trim();
    for quote in ["\"\"\"", "'''", "\"", "'", "“", "`"] {
        let close = if quote == "“" { "”" } else { quote };
        let inner = text.strip_prefix(quote).and_then(|it| it.strip_suffix(close));
        if let Some(inner) = inner.filter(|it| it.contains('\n')) {
            text = inner;
            break;
        }
    }
    let (first, rest) = text.split_once('\n').unwrap_or((text, ""));
    let is_word = first.len() < 12 && !first.is_empty() && first.chars().all(char::is_alphanumeric);
    let text = if is_word && !rest.is_empty() { rest } else { text };
    text.trim_end_matches(['`', '\n']).to_owned()
}

fn is_comment(line: &str) -> bool {
    let line = line.trim_start();
    line.starts_with("//")
        || line.starts_with("/*")
        || (line.starts_with('#') && !line.starts_with("##"))
}

/// Whether a line reads as a sentence of running text.
fn is_prose(line: &str) -> bool {
    static SENTENCE: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"^(?:[-*] |\d+\. |#{2,} )?[\p{Lu}`*][\p{L}'’`*_(),-]*(?: \S+){2,}$")
            .expect("fixed")
    });
    static TAG: LazyLock<Regex> =
        LazyLock::new(|| Regex::new(r"^(?:\[/?[A-Za-z_]+\]|</?[A-Za-z_]+>)$").expect("fixed"));
    if TAG.is_match(line.trim()) {
        return true;
    }
    let ends_like_code = line.trim_end().ends_with([';', '{', '}', '(', '=', '\\']);
    !ends_like_code && SENTENCE.is_match(line.trim_end()) && !line.contains(" = ")
}
