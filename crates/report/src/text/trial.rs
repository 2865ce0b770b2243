//! Trials in full, for people.

use std::io::{self, Write};

use fairtrial_core::answer::{AnswerEnd, Code};
use fairtrial_core::text::head_and_tail;
use fairtrial_core::verdict::Verdict;
use fairtrial_record::{AttemptRow, RequestRow, TrialSummary};

use super::change::{show_facts, show_patch};
use super::code::show_files;
use super::reading::show_reading;
use super::table::layout;
use super::{first_few, wrap};
use crate::figures::{count, duration, money, thousands};
use crate::safe::safe;
use crate::style::Style;
use crate::view::{ActorEndView, AttemptView, ColourChanges, StepView, TestView, TrialView};

/// Writes a row for each trial. `record` is its folder, for the hint below.
///
/// # Errors
/// When the writer fails.
pub fn show_list(
    out: &mut dyn Write,
    trials: &[TrialSummary],
    record: &str,
    style: Style,
) -> io::Result<()> {
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
    let hint = format!("one in full: fairtrial show {record} --trial N");
    writeln!(out, "\n{}", style.dim(&safe(&hint)))
}

/// Writes trials in full.
///
/// # Errors
/// When the writer fails.
pub fn show_trials(
    out: &mut dyn Write,
    trials: &[TrialView],
    unseal: bool,
    style: Style,
) -> io::Result<()> {
    trials.iter().try_for_each(|trial| show_trial(out, trial, unseal, style))
}

fn tests_of(attempt: &AttemptRow) -> String {
    format!("{}/{}", attempt.tests_passed, attempt.tests_total)
}

fn show_trial(out: &mut dyn Write, view: &TrialView, unseal: bool, style: Style) -> io::Result<()> {
    let trial = &view.row;
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
    if let Some(note) = &view.task {
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
    let thought = match tokens.reasoning {
        0 => String::new(),
        some => format!(" ({some} reasoning)"),
    };
    writeln!(
        out,
        "{verdict} after {} · answered in {} · {} tokens in, {} out{thought} · {} {}",
        count(view.attempts.last().map_or(0, |it| it.row.number as usize), "attempt"),
        duration(view.seconds),
        tokens.input,
        tokens.output,
        money(trial.cost()),
        safe(&view.currency),
    )?;
    if let Some(how) = &trial.helped {
        writeln!(out, "a person helped: {}", safe(how))?;
    }
    if let Some(system) = &view.system {
        part(out, "system text", system, style)?;
    }
    part(out, "prompt", &view.prompt, style)?;
    for request in view.remarks() {
        let (number, attempt) = (request.number, request.attempt);
        writeln!(out, "request {number} of attempt {attempt}: {}", safe(&request.detail))?;
    }
    for request in view.unanswered() {
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
    for attempt in &view.attempts {
        show_attempt(out, attempt, unseal, style)?;
    }
    writeln!(out)
}

fn show_attempt(
    out: &mut dyn Write,
    view: &AttemptView,
    unseal: bool,
    style: Style,
) -> io::Result<()> {
    let attempt = &view.row;
    writeln!(out, "\n{}", style.heading(&format!("attempt {}", attempt.number)))?;
    match attempt.verdict {
        Some(verdict) => {
            let tests = tests_of(attempt);
            let word = style.verdict(verdict, &verdict.to_string());
            writeln!(out, "{word}, {tests} tests, judged in {}", duration(attempt.judge_seconds))?;
        }
        None => writeln!(out, "not judged yet")?,
    }
    for (row, at) in &view.again {
        let cause = row.cause.as_ref().map_or(String::new(), |it| format!(": {}", safe(it)));
        let tests = format!("{}/{} tests", row.passed, row.total);
        writeln!(out, "judged again: {}, {tests}, at {}{cause}", row.again, safe(at))?;
    }
    if !attempt.deviations.is_empty() {
        let deviations = attempt.deviations.join(", ");
        writeln!(out, "not in the form asked for: {deviations}")?;
    }
    match attempt.end {
        AnswerEnd::Complete => {}
        AnswerEnd::CutOff => writeln!(out, "the host cut the answer off")?,
        AnswerEnd::Refused => writeln!(out, "the host says that the model declined")?,
    }
    for note in &attempt.notes {
        writeln!(out, "note: {}", safe(note))?;
    }
    // A patch is shown below, as it was taken.
    let is_shown =
        attempt.answer_kind == "files" || (attempt.answer_kind == "patch" && view.change.is_some());
    let answer = if is_shown { "" } else { view.answer.as_str() };
    if !view.thought.trim().is_empty() {
        part(out, "thought aloud", &head_and_tail(&view.thought, THOUGHT_MAX), style)?;
    }
    if attempt.answer_kind == "text" && attempt.deviations.is_empty() && attempt.code.is_some() {
        writeln!(out, "\n{}: one code block and nothing around it", style.bold("answer"))?;
    } else if !answer.is_empty() {
        part(out, "answer", answer, style)?;
    }
    // Where there was nothing to decide, nothing is said of it.
    let is_plain = attempt.reading.blocks.len() < 2 && attempt.reading.mends.is_empty();
    if !is_plain {
        show_reading(out, &attempt.reading, style)?;
    }
    show_steps(out, view, style)?;
    if let Some(end) = &view.ended {
        show_end(out, end, style)?;
    }
    if let Some(facts) = &view.change {
        show_facts(out, facts, style)?;
    }
    match &view.code {
        Some(Code::Patch(patch)) if !patch.is_empty() => {
            writeln!(out)?;
            show_patch(out, patch, false, style)?;
        }
        Some(Code::Files(files)) => show_files(out, files, style)?,
        Some(Code::Patch(_)) | None => {}
    }
    show_tests(out, &view.tests, unseal, style)?;
    show_colours(out, &view.colours, style)?;
    if let Some(trouble) = attempt.trouble.filter(|it| it.most() > 0) {
        let seen = trouble.sorts().into_iter().filter(|it| it.1 > 0);
        let seen = seen.map(|(sort, count)| format!("{sort} {count} ×")).collect::<Vec<_>>();
        writeln!(out, "\n{}: {}", style.bold("trouble"), seen.join(", "))?;
    }
    if let Some(message) = &view.message {
        part(out, "reported", message, style)?;
    }
    if let Some(feedback) = &view.feedback {
        part(out, "feedback", feedback, style)?;
    }
    Ok(())
}

/// What a candidate did on the way, a line each, and the requests that it made meanwhile.
fn show_steps(out: &mut dyn Write, view: &AttemptView, style: Style) -> io::Result<()> {
    if view.steps.is_empty() {
        return Ok(());
    }
    let kinds = view.steps.iter().map(|it| it.kind.chars().count());
    let width = kinds.max().unwrap_or(0).clamp(8, KIND_MAX);
    let steps = view.steps.iter().map(|it| (it.at.as_str(), 1, step_line(it, width, style)));
    let sent = view.requests.iter().map(|it| (it.sent.as_str(), 0, request_line(it, width, style)));
    let mut lines: Vec<_> = steps.chain(sent).collect();
    lines.sort_by(|a, b| (a.0, a.1).cmp(&(b.0, b.1)));
    writeln!(out, "\n{}", style.bold("steps"))?;
    lines.iter().try_for_each(|it| writeln!(out, "{}", it.2))
}

/// Longest text of what was thought aloud that is shown, in bytes; the JSON has it in full.
const THOUGHT_MAX: usize = 1500;

/// Longest kind of step that lines are made wider for, in characters.
const KIND_MAX: usize = 14;

fn step_line(step: &StepView, width: usize, style: Style) -> String {
    let number = style.dim(&format!("{:>4}", step.number));
    let first = |text: &str| safe(text.lines().next().unwrap_or_default()).into_owned();
    let (subject, why) = (first(&step.subject), first(&step.detail));
    let room = style.width.saturating_sub(width + NUMBER);
    let head = format!("{number} {:<width$}", safe(&step.kind));
    match step.outcome.as_str() {
        // What takes no time, such as a plan, is said.
        "done" if step.seconds == 0.0 => format!("{head} {}", clipped(&subject, room)),
        "done" => {
            let took = format!("· {}", duration(step.seconds));
            let subject = clipped(&subject, room.saturating_sub(took.chars().count() + 1));
            format!("{head} {subject} {}", style.dim(&took))
        }
        // What it asked for stands in the subject.
        "asked for" => format!("{head} {}", clipped(&subject, room)),
        outcome => {
            let outcome = safe(outcome);
            let says = if why.starts_with(&*outcome) || why.is_empty() { "" } else { ": " };
            let what = match says {
                "" if !why.is_empty() => why,
                says => format!("{outcome}{says}{why}"),
            };
            format!("{head} {}", clipped(&format!("{subject} · {what}"), room))
        }
    }
}

/// What stands before the kind of a step: its number, and a space on either side of the kind.
const NUMBER: usize = 6;

/// A text that fits into a width, in characters.
fn clipped(text: &str, width: usize) -> String {
    match text.chars().count() > width.max(1) {
        true => text.chars().take(width.max(1) - 1).chain(['…']).collect(),
        false => text.to_owned(),
    }
}

fn request_line(request: &RequestRow, width: usize, style: Style) -> String {
    let (read, written) = (thousands(request.tokens.input), thousands(request.tokens.output));
    let outcome = match request.outcome.as_str() {
        "answered" => format!("{read} tokens in, {written} out"),
        other => safe(other).into_owned(),
    };
    let took = duration(request.seconds);
    style.dim(&format!(
        "{:>4} {:<width$} {outcome} · {took}",
        "",
        format!("asked {}", request.number)
    ))
}

/// Tests that changed their colour.
fn show_colours(out: &mut dyn Write, colours: &ColourChanges, style: Style) -> io::Result<()> {
    for (title, tests) in
        [("turned green", &colours.turned_green), ("turned red", &colours.turned_red)]
    {
        if !tests.is_empty() {
            let names = first_few(tests.iter().map(|it| safe(it).into_owned()).collect());
            for line in wrap(&format!("{title}: {names}"), style.width.saturating_sub(2)) {
                writeln!(out, "  {line}")?;
            }
        }
    }
    Ok(())
}

/// How a candidate that acts ended, and what it said.
fn show_end(out: &mut dyn Write, end: &ActorEndView, style: Style) -> io::Result<()> {
    let (wall, cpu) = (duration(end.wall_seconds), duration(end.cpu_seconds));
    let memory = end.peak_memory >> 20;
    let ended = safe(&end.ended);
    let title = style.bold("agent");
    writeln!(out, "\n{title}: {ended} after {wall}; {cpu} of processor time, {memory} MiB")?;
    if !end.limit.is_empty() {
        writeln!(
            out,
            "  at its limit of {}: the trial is over with this attempt",
            safe(&end.limit)
        )?;
    }
    for (what, count) in &end.refused {
        writeln!(out, "  refused, {count} ×: {}", safe(what))?;
    }
    if end.left_out > 0 {
        let files = count(end.left_out, "file");
        writeln!(out, "  left behind, and no part of the change: {files}")?;
    }
    for (title, text) in [("it said", &end.stdout), ("its errors", &end.stderr)] {
        if !text.trim().is_empty() {
            part(out, title, text, style)?;
        }
    }
    Ok(())
}

fn show_tests(
    out: &mut dyn Write,
    tests: &[TestView],
    unseal: bool,
    style: Style,
) -> io::Result<()> {
    if tests.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", style.bold("tests"))?;
    if tests.iter().all(|it| !it.outcome.was_run()) {
        writeln!(out, "  none of {} was run", tests.len())?;
        return Ok(());
    }
    for TestView { outcome: test, is_open } in tests {
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
        let role = match test.role.as_str() {
            "" => String::new(),
            role => style.dim(&format!(" · must {role}")),
        };
        let unstable = test.unstable.map_or(String::new(), |it| {
            format!(" · unstable: failed in {} of {} runs", it.failed, it.runs)
        });
        let name = safe(&test.name);
        writeln!(out, "  {word} {name}{visible}{role}{why}{unstable}{}", style.dim(&usage))?;
        if *is_open {
            for (title, text) in
                [("input", &test.input), ("expected", &test.expected), ("found", &test.found)]
            {
                if !text.is_empty() && (title != "input" || test.failed.is_some() || unseal) {
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
