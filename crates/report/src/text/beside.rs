//! Two trials at the same task, side by side.

use std::io::{self, Write};

use fairtrial_core::answer::Code;
use unicode_width::UnicodeWidthChar as _;
use unicode_width::UnicodeWidthStr as _;

use super::wrap;
use crate::figures::{count, duration, money};
use crate::safe::safe;
use crate::style::Style;
use crate::view::{AttemptView, TrialView};

/// Narrowest line that has room for two columns.
const BESIDE_MIN: usize = 80;

/// What stands between two columns.
const BETWEEN: &str = " │ ";

/// Writes trials of the same task: the prompt once, then what each made of it, in two columns where there is
/// room.
///
/// # Errors
/// When the writer fails.
pub fn side_by_side(out: &mut dyn Write, trials: &[TrialView], style: Style) -> io::Result<()> {
    let Some(first) = trials.first() else { return Ok(()) };
    let key = &first.row.key;
    writeln!(out, "{}", style.heading(&safe(&format!("{}, sample {}", key.task, key.sample))))?;
    let is_same = trials.iter().all(|it| it.prompt == first.prompt);
    for trial in if is_same { &trials[..1] } else { trials } {
        let whose = if is_same {
            "prompt".to_owned()
        } else {
            format!("prompt of {}", trial.row.key.candidate)
        };
        writeln!(out, "{}", style.dim(&safe(&whose)))?;
        for line in safe(&trial.prompt).lines().flat_map(|it| wrap(it, style.width)) {
            writeln!(out, "{line}")?;
        }
        writeln!(out)?;
    }
    let beside = trials.len() == 2 && style.width >= BESIDE_MIN;
    let width = if beside { (style.width - BETWEEN.width()) / 2 } else { style.width };
    let sides: Vec<Vec<String>> = trials.iter().map(|it| side(it, width)).collect();
    if let (true, [left, right]) = (beside, sides.as_slice()) {
        for row in 0..left.len().max(right.len()) {
            let part = |side: &[String]| side.get(row).cloned().unwrap_or_default();
            let (left, right) = (part(left), part(right));
            let gap = " ".repeat(width.saturating_sub(left.width()));
            writeln!(out, "{}", format!("{left}{gap}{BETWEEN}{right}").trim_end())?;
        }
        return Ok(());
    }
    for side in sides {
        for line in side {
            writeln!(out, "{line}")?;
        }
        writeln!(out)?;
    }
    Ok(())
}

/// One trial as lines of at most so many columns.
fn side(view: &TrialView, width: usize) -> Vec<String> {
    let trial = &view.row;
    let verdict = trial.verdict.map_or("under way".to_owned(), |it| it.to_string());
    let tokens = trial.tokens();
    let mut lines = vec![
        trial.key.candidate.clone(),
        format!("{verdict} after {}", count(view.attempts.len(), "attempt")),
        format!("trial {}", trial.number),
        format!("answered in {}", duration(view.seconds)),
        format!("{} tokens in, {} out", tokens.input, tokens.output),
        format!("{} {}", money(trial.cost()), view.currency),
    ];
    for attempt in &view.attempts {
        let verdict = attempt.row.verdict.map_or("not judged".to_owned(), |it| it.to_string());
        let (passed, total) = (attempt.row.tests_passed, attempt.row.tests_total);
        lines.push(format!("attempt {}: {verdict}, {passed}/{total} tests", attempt.row.number));
    }
    if let Some(attempt) = view.attempts.last() {
        lines.extend(last_attempt(attempt));
    }
    lines
        .iter()
        .flat_map(|it| safe(it).lines().map(str::to_owned).collect::<Vec<_>>())
        .flat_map(|it| chopped(&it, width))
        .collect()
}

/// What was judged at last, and what came of it.
fn last_attempt(attempt: &AttemptView) -> Vec<String> {
    let mut lines = vec![String::new()];
    match &attempt.code {
        Some(Code::Files(files)) => {
            for (path, bytes) in files {
                lines.push(format!("{path}:"));
                lines.extend(String::from_utf8_lossy(bytes).lines().map(str::to_owned));
                lines.push(String::new());
            }
        }
        Some(Code::Patch(patch)) => {
            lines.push("change:".to_owned());
            lines.extend(String::from_utf8_lossy(patch).lines().map(str::to_owned));
            lines.push(String::new());
        }
        None => lines.push("no code".to_owned()),
    }
    for test in attempt.tests.iter().filter(|it| it.outcome.failed.is_some()) {
        lines.push(format!("{}: {}", test.outcome.name, test.outcome.summary));
    }
    lines.extend(attempt.message.iter().cloned());
    lines
}

/// A line in pieces of at most so many columns.
fn chopped(line: &str, width: usize) -> Vec<String> {
    let line = line.replace('\t', "    ");
    let (mut pieces, mut used) = (vec![String::new()], 0);
    for c in line.chars() {
        let wide = c.width().unwrap_or(0);
        if used + wide > width {
            pieces.push(String::new());
            used = 0;
        }
        if let Some(last) = pieces.last_mut() {
            last.push(c);
        }
        used += wide;
    }
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_go_on_below() {
        assert_eq!(chopped("abcdefg", 3), ["abc", "def", "g"]);
        assert_eq!(chopped("", 3), [""]);
        assert_eq!(chopped("潮位潮", 5), ["潮位", "潮"]);
    }
}
