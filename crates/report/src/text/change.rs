//! Changes to repositories, for people.

use std::io::{self, Write};

use fairtrial_core::change::{ChangeFacts, FileFacts};
use fairtrial_core::verdict::{FailReason, Verdict};

use crate::figures::count;
use crate::safe::safe;
use crate::style::Style;

/// Lines of a patch that are shown; `--diff` and `--json` have all.
const LINES_MAX: usize = 120;

/// Writes what a reviewer looks at first.
pub fn show_facts(out: &mut dyn Write, facts: &ChangeFacts, style: Style) -> io::Result<()> {
    let files = count(facts.files.len(), "file");
    let (added, removed) = (facts.added, facts.removed);
    let added = count(added, "line");
    let lines = format!("{files}, {added} more, {removed} less, {} bytes", facts.patch_bytes);
    writeln!(out, "\n{}: {lines}", style.bold("change"))?;
    let width = facts.files.iter().map(|it| it.path.chars().count()).max().unwrap_or(0).min(48);
    for file in &facts.files {
        let marks = marks(file, facts);
        let marks =
            if marks.is_empty() { String::new() } else { format!("  {}", style.dim(&marks)) };
        let counts = format!("+{:<4} −{:<4}", file.added, file.removed);
        let path = safe(&file.path).into_owned();
        let line = format!("  {:<7} {path:<width$}  {counts}{marks}", file.what);
        writeln!(out, "{}", line.trim_end())?;
    }
    let list = |paths: &[String]| paths.iter().map(|it| safe(it).into_owned()).collect::<Vec<_>>();
    if !facts.missed.is_empty() {
        writeln!(out, "  expected, and untouched: {}", list(&facts.missed).join(", "))?;
    }
    if let Some((both, all)) = facts.like_right {
        let all = count(all, "file");
        writeln!(out, "  of {all} that it or the right answer touches, both touch {both}")?;
    }
    Ok(())
}

/// What is to be known of a file besides its lines.
fn marks(file: &FileFacts, facts: &ChangeFacts) -> String {
    let mut marks = Vec::new();
    if !file.role.is_empty() {
        marks.push(file.role.as_str());
    }
    if file.only_space {
        marks.push("only white space");
    }
    if facts.put_back.contains(&file.path) {
        marks.push("put back");
    } else if facts.beyond.contains(&file.path) {
        marks.push("not expected");
    }
    marks.join(", ")
}

/// Writes a patch: all of it, or its beginning.
pub fn show_patch(out: &mut dyn Write, patch: &[u8], whole: bool, style: Style) -> io::Result<()> {
    let text = String::from_utf8_lossy(patch).into_owned();
    let lines: Vec<&str> = text.lines().collect();
    let most = if whole { usize::MAX } else { LINES_MAX };
    for line in lines.iter().take(most) {
        let shown = safe(line);
        let painted = match line.as_bytes().first() {
            _ if line.starts_with("diff --git ") => style.bold(&shown),
            _ if line.starts_with("--- ") || line.starts_with("+++ ") => style.dim(&shown),
            Some(b'+') => style.verdict(Verdict::Pass, &shown),
            Some(b'-') => style.verdict(Verdict::Fail(FailReason::WrongResult), &shown),
            Some(b'@') => style.dim(&shown),
            _ => shown.into_owned(),
        };
        writeln!(out, "  {painted}")?;
    }
    if lines.len() > most {
        let more = format!("[{} lines more: `--diff` has all]", lines.len() - most);
        writeln!(out, "  {}", style.dim(&more))?;
    }
    Ok(())
}
