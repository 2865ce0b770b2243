//! Trials in full, for people.

use std::io::{self, Write};

use fairtrial_core::answer::Submission;
use fairtrial_core::judgement::TestOutcome;
use fairtrial_core::verdict::Verdict;
use fairtrial_record::{
    AttemptRow, Record, RecordError, RegradeRow, Selection, TrialRow, TrialSummary,
};

use crate::figures::{count, duration, money};
use crate::safe::safe;
use crate::standings::wrap;
use crate::style::Style;
use crate::table::layout;

/// How trials are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ShowOptions {
    /// Whether what is sealed is shown: inputs, expectations, results.
    pub unseal: bool,
    /// How it looks.
    pub style: Style,
}

/// Whether a selection is narrow enough for trials to be shown in full rather than listed.
fn is_narrow(selection: &Selection, count: usize) -> bool {
    let is_one_pair = selection.task.is_some() && selection.candidate.is_some();
    count <= 1 || selection.number.is_some() || is_one_pair
}

/// Why something could not be shown.
#[derive(Debug, thiserror::Error)]
pub enum ShowError {
    /// The record.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// The writer.
    #[error(transparent)]
    Write(#[from] io::Error),
}

/// Writes trials: in full when the selection is narrow, else a list. Gives their number.
///
/// # Errors
/// When the record cannot be read, or the writer fails.
pub fn show(
    out: &mut dyn Write,
    record: &Record,
    selection: &Selection,
    options: ShowOptions,
) -> Result<usize, ShowError> {
    let mut listed = record.summaries(selection)?;
    listed.sort_by(|a, b| {
        let key =
            |it: &TrialSummary| (it.key.task.clone(), it.key.candidate.clone(), it.key.sample);
        key(a).cmp(&key(b))
    });
    if !is_narrow(selection, listed.len()) {
        list(out, &listed, options.style)?;
        let record = record.folder().display();
        let hint = format!("one in full: fairtrial show {record} --trial N");
        writeln!(out, "\n{}", options.style.dim(&safe(&hint)))?;
        return Ok(listed.len());
    }
    for summary in &listed {
        if let Some(trial) = record.trial(&summary.key)? {
            show_trial(out, record, &trial, options)?;
        }
    }
    Ok(listed.len())
}

fn list(out: &mut dyn Write, trials: &[TrialSummary], style: Style) -> io::Result<()> {
    let header = ["trial", "task", "candidate", "sample", "attempts", "tests", "verdict"];
    let row = |trial: &TrialSummary| {
        let (passed, total) = trial.tests;
        vec![
            trial.number.to_string(),
            safe(&trial.key.task).into_owned(),
            safe(&trial.key.candidate).into_owned(),
            trial.key.sample.to_string(),
            trial.attempts.to_string(),
            if trial.attempts == 0 { "–".to_owned() } else { format!("{passed}/{total}") },
            trial.verdict.map_or("under way".to_owned(), |it| it.to_string()),
        ]
    };
    let rows: Vec<_> = trials.iter().map(row).collect();
    for (index, line) in layout(&header, &rows, &[1, 2, 6]).iter().enumerate() {
        let verdict = index.checked_sub(1).and_then(|it| trials.get(it)).and_then(|it| it.verdict);
        let line = match (index, verdict) {
            (0, _) => style.dim(line),
            (_, Some(verdict)) => {
                let word = verdict.to_string();
                let head = line.strip_suffix(&word).unwrap_or(line.as_str());
                format!("{head}{}", style.verdict(verdict, &word))
            }
            _ => line.clone(),
        };
        writeln!(out, "{line}")?;
    }
    Ok(())
}

fn tests_of(attempt: &AttemptRow) -> String {
    format!("{}/{}", attempt.tests_passed, attempt.tests_total)
}

fn show_trial(
    out: &mut dyn Write,
    record: &Record,
    trial: &TrialRow,
    options: ShowOptions,
) -> Result<(), ShowError> {
    let style = options.style;
    let key = &trial.key;
    writeln!(
        out,
        "{}",
        style.heading(&safe(&format!(
            "trial {}: {}, {}, sample {}",
            trial.number, key.task, key.candidate, key.sample
        )))
    )?;
    let verdict = match trial.verdict {
        Some(verdict) => style.verdict(verdict, &verdict.to_string()),
        None => "under way".to_owned(),
    };
    let note = record.manifest().tasks.iter().find(|it| it.name == key.task);
    if let Some(note) = note {
        writeln!(
            out,
            "{} · {}, {}, difficulty {}",
            safe(&note.title),
            safe(&note.language),
            safe(&note.category),
            note.difficulty
        )?;
    }
    let tokens = trial.tokens();
    writeln!(
        out,
        "{verdict} after {} · answered in {} · {} tokens in, {} out · {} {}",
        count(trial.attempts.len(), "attempt"),
        duration(trial.seconds()),
        tokens.input,
        tokens.output,
        money(trial.cost()),
        safe(&record.manifest().plan.currency),
    )?;
    part(out, "prompt", &record.text(&trial.prompt)?, style)?;
    for request in trial.requests.iter().filter(|it| it.outcome != "answered") {
        let status = request.status.map_or(String::new(), |it| format!(", status {it}"));
        writeln!(
            out,
            "request {} of attempt {} was not answered: {}{status}: {}",
            request.number,
            request.attempt,
            safe(&request.outcome),
            safe(&request.detail)
        )?;
    }
    let gradings = record.gradings(&Selection::of(key))?;
    let again: Vec<(&RegradeRow, &str)> = gradings
        .iter()
        .flat_map(|it| it.answers.iter().map(|row| (row, it.begun.as_str())))
        .collect();
    for attempt in &trial.attempts {
        show_attempt(out, record, attempt, &again, options)?;
    }
    writeln!(out)?;
    Ok(())
}

fn show_attempt(
    out: &mut dyn Write,
    record: &Record,
    attempt: &AttemptRow,
    again: &[(&RegradeRow, &str)],
    options: ShowOptions,
) -> Result<(), ShowError> {
    let style = options.style;
    writeln!(out, "\n{}", style.heading(&format!("attempt {}", attempt.number)))?;
    match attempt.verdict {
        Some(verdict) => {
            let tests = tests_of(attempt);
            let word = style.verdict(verdict, &verdict.to_string());
            writeln!(out, "{word}, {tests} tests, judged in {}", duration(attempt.judge_seconds))?;
        }
        None => writeln!(out, "not judged yet")?,
    }
    for row in again.iter().filter(|it| it.0.attempt == attempt.number) {
        let (row, at) = row;
        let cause = row.cause.as_ref().map_or(String::new(), |it| format!(": {}", safe(it)));
        let tests = format!("{}/{} tests", row.passed, row.total);
        writeln!(out, "judged again: {}, {tests}, at {}{cause}", row.again, safe(at))?;
    }
    if !attempt.deviations.is_empty() {
        let deviations = attempt.deviations.join(", ");
        writeln!(out, "not in the form asked for: {deviations}")?;
    }
    if attempt.cut_off {
        writeln!(out, "the host cut the answer off")?;
    }
    for note in &attempt.notes {
        writeln!(out, "note: {}", safe(note))?;
    }
    let answer = match record.answer(attempt)? {
        Submission::Text(text) | Submission::Patch(text) => text,
        Submission::Files(_) => String::new(),
    };
    if attempt.answer_kind == "text" && attempt.deviations.is_empty() && attempt.code.is_some() {
        writeln!(out, "\n{}: one code block and nothing around it", style.bold("answer"))?;
    } else if !answer.is_empty() {
        part(out, "answer", &answer, style)?;
    }
    if let Some(digest) = &attempt.code {
        for (path, bytes) in record.files(digest)? {
            let code = String::from_utf8_lossy(&bytes).into_owned();
            writeln!(out, "\n{}", style.bold(&safe(&format!("code as found: {path}"))))?;
            for (index, line) in safe(&code).trim_end().lines().enumerate() {
                let number = style.dim(&format!("{:>4} │", index + 1));
                writeln!(out, "{}", format!("{number} {line}").trim_end())?;
            }
        }
    }
    show_tests(out, &record.tests(attempt)?, options)?;
    if let Some(digest) = &attempt.message {
        part(out, "reported", &record.text(digest)?, style)?;
    }
    if let Some(digest) = &attempt.feedback {
        part(out, "feedback", &record.text(digest)?, style)?;
    }
    Ok(())
}

fn show_tests(
    out: &mut dyn Write,
    tests: &[TestOutcome],
    options: ShowOptions,
) -> Result<(), ShowError> {
    if tests.is_empty() {
        return Ok(());
    }
    let style = options.style;
    writeln!(out, "\n{}", style.bold("tests"))?;
    if tests.iter().all(|test| test.failed.is_some() && test.summary == "not run") {
        writeln!(out, "  none of {} was run", tests.len())?;
        return Ok(());
    }
    for test in tests {
        let verdict = test.failed.map_or(Verdict::Pass, Verdict::Fail);
        let word = style.verdict(verdict, &format!("{:<4}", verdict.word()));
        let usage = test.usage.as_ref().map_or(String::new(), |usage| {
            let mut text = format!(" · {}", duration(usage.cpu_seconds));
            // A single call can be over before anybody looked at its memory.
            if usage.peak_memory > 0 {
                text = format!("{text}, {} MiB", usage.peak_memory >> 20);
            }
            if !usage.denied.is_empty() {
                let calls = usage.denied.iter().map(|(name, count)| format!("{name} {count} ×"));
                text = format!("{text}, refused: {}", calls.collect::<Vec<_>>().join(", "));
            }
            text
        });
        let why = match (test.failed, test.summary.is_empty()) {
            (Some(reason), false) => format!(" · {reason}: {}", safe(&test.summary)),
            (Some(reason), true) => format!(" · {reason}"),
            (None, _) => String::new(),
        };
        let visible = if test.visible { " (visible)" } else { "" };
        let unstable = test.unstable.map_or(String::new(), |it| {
            format!(" · unstable: failed in {} of {} runs", it.failed, it.runs)
        });
        let name = safe(&test.name);
        writeln!(out, "  {word} {name}{visible}{why}{unstable}{}", style.dim(&usage))?;
        if options.unseal || test.visible {
            for (title, text) in
                [("input", &test.input), ("expected", &test.expected), ("found", &test.found)]
            {
                if !text.is_empty() && (title != "input" || test.failed.is_some() || options.unseal)
                {
                    indented(out, title, text, style)?;
                }
            }
        }
    }
    Ok(())
}

/// Lines, and characters of one, of a test's input or value that are shown.
const LINES_MAX: usize = 12;
const LINE_MAX: usize = 200;

fn indented(out: &mut dyn Write, title: &str, text: &str, style: Style) -> io::Result<()> {
    let text = safe(text);
    let lines: Vec<&str> = text.trim_end().lines().collect();
    let title = style.dim(&format!("{title:<8}"));
    let mut is_cut = lines.len() > LINES_MAX;
    for (index, line) in lines.iter().take(LINES_MAX).enumerate() {
        let head = if index == 0 { title.as_str() } else { "        " };
        match line.char_indices().nth(LINE_MAX) {
            None => writeln!(out, "       {head} {line}")?,
            Some((end, _)) => {
                is_cut = true;
                writeln!(out, "       {head} {} …", &line[..end])?;
            }
        }
    }
    if lines.is_empty() {
        writeln!(out, "       {title}")?;
    }
    if is_cut {
        let all =
            format!("[{} lines, {} bytes: `--json` has all that is kept]", lines.len(), text.len());
        writeln!(out, "                {}", style.dim(&all))?;
    }
    Ok(())
}

/// Breaks a long line at spaces; what follows keeps its indentation.
fn wrap_indented(line: &str, width: usize) -> Vec<String> {
    let text = line.trim_start();
    let indent = &line[..line.len() - text.len()];
    let room = width.saturating_sub(indent.len()).max(20);
    let pieces = wrap(text, room).into_iter().filter(|piece| !piece.is_empty());
    pieces.map(|piece| format!("{indent}{piece}")).collect()
}

/// A titled text, set off by a bar.
fn part(out: &mut dyn Write, title: &str, text: &str, style: Style) -> io::Result<()> {
    writeln!(out, "\n{}", style.bold(&safe(title)))?;
    let bar = style.dim("│");
    for line in safe(text).trim_end().lines() {
        if line.is_empty() {
            writeln!(out, "  {bar}")?;
        }
        for piece in wrap_indented(line, style.width.saturating_sub(4)) {
            writeln!(out, "  {bar} {piece}")?;
        }
    }
    Ok(())
}
