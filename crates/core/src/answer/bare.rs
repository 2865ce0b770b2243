//! Code that stands in an answer without a fence.

use super::sound::SoundChecks;
use super::{Wanted, WantedKind, prose, unwrap};
use crate::verdict::FailReason;

/// Code found in running text.
pub struct Bare {
    /// The code.
    pub code: String,
    /// Its first and last line, from 1.
    pub lines: (usize, usize),
    /// Whether something was cut off before or after it.
    pub text_around: bool,
}

/// Finds the code that is wanted in a text without fences: from the first line that begins code to
/// where it is sound and running text follows, or else to the last line that is not running text.
///
/// # Errors
/// `no code found`, or `wrong language` when there is code of another one.
pub fn find(text: &str, wanted: Wanted<'_>, checks: &SoundChecks<'_>) -> Result<Bare, FailReason> {
    // A fence that nothing opened, or a mark, ends it.
    let text = text.trim_end_matches(['`', '~', '\n', ' ']);
    let quoted = unwrap::out_of_quotes(text).filter(|it| {
        checks.of(it).unwrap_or_else(|| text.chars().next().is_none_or(|quote| !it.contains(quote)))
    });
    let text = quoted.as_deref().unwrap_or(text);
    let found = find_flush(text, wanted, checks);
    match indented(text) {
        // A block set off by indentation alone, as Markdown allows.
        Some(block) if found.is_err() => {
            let bare = find_flush(&block, wanted, checks)?;
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

fn find_flush(
    text: &str,
    wanted: Wanted<'_>,
    checks: &SoundChecks<'_>,
) -> Result<Bare, FailReason> {
    let lines: Vec<&str> = text.lines().collect();
    let (languages, syntax) = (wanted.languages, wanted.syntax());
    let is_other = |it: &str| it != wanted.language && !wanted.is_kin(it);
    let is_start = |line: &&str| syntax.begins(line) && !prose::is_sentence(line);
    let Some(mut start) = lines.iter().position(is_start) else {
        return Err(match languages.guess(text) {
            Some(found) if is_other(found) => FailReason::WrongLanguage,
            _ => FailReason::NoCodeFound,
        });
    };
    // Comments just above belong to the code, and constants.
    let is_constant = |line: &str| {
        syntax.defines.as_ref().is_some_and(|it| it.regex().is_match(line))
            && !prose::is_sentence(line)
    };
    let is_blank = |at: usize| lines[at].trim().is_empty();
    // A heading of Markdown looks like some languages' comment; not like that of others.
    let is_clear =
        |line: &str| is_constant(line) || line.starts_with("//") || line.starts_with("/*");
    while start > 0
        && (is_comment(lines[start - 1])
            || is_clear(lines[start - 1])
            || (is_blank(start - 1) && start > 1 && is_clear(lines[start - 2])))
    {
        start -= 1;
    }
    let last = lines[start..].iter().rposition(|line| {
        let is_heading = line.starts_with("## ") || line.starts_with("### ");
        !line.trim().is_empty()
            && !prose::is_sentence(line)
            && !unwrap::is_end_mark(line)
            && !is_heading
    });
    let mut end = start + last.map_or(0, |it| it + 1);
    let whole = lines[start..end].join("\n") + "\n";
    let mut code = whole.clone();
    if checks.of(&whole) == Some(false) {
        let does_it = |code: &str| match wanted.kind {
            WantedKind::Definition(name) => syntax.defines(code, name),
            WantedKind::Program | WantedKind::Module => true,
        };
        let cuts = prose::without_tail(&whole, CUTS_MAX);
        if let Some(cut) = cuts.into_iter().find(|it| does_it(it) && checks.of(it) == Some(true)) {
            end = start + cut.lines().count();
            code = cut;
        }
    }
    let guess = languages.guess(&code);
    let likeness = syntax.likeness(&code);
    let better =
        |it: &str| languages.find(it).is_some_and(|it| it.syntax.likeness(&code) > likeness + 0.2);
    if syntax.is_known() {
        if guess.is_some_and(|it| is_other(it) && better(it)) {
            return Err(FailReason::WrongLanguage);
        }
        if guess.is_none() && likeness < 0.1 && checks.of(&code) != Some(true) {
            return Err(FailReason::NoCodeFound);
        }
    }
    let rest = lines[..start].iter().chain(&lines[end..]);
    let text_around = rest.into_iter().any(|line| !line.trim().is_empty());
    Ok(Bare { code, lines: (start + 1, end), text_around })
}

/// Places at which code is tried to end.
const CUTS_MAX: usize = 6;

fn is_comment(line: &str) -> bool {
    let line = line.trim_start();
    line.starts_with("//")
        || line.starts_with("/*")
        || (line.starts_with('#') && !line.starts_with("##"))
}
