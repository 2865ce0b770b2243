//! What the blocks of an answer were taken for.

use std::io::{self, Write};

use fairtrial_core::answer::{BlockNote, Code, Gaps, ReadingNotes, Role};

use super::code::show_files;
use super::wrap;
use crate::safe::safe;
use crate::style::Style;
use crate::view::ReadingView;

/// Writes how a text was read.
///
/// # Errors
/// When the writer fails.
pub fn reading_text(out: &mut dyn Write, view: &ReadingView, style: Style) -> io::Result<()> {
    let (reading, source) = (&view.reading, safe(&view.source));
    let head =
        format!("{source} as an answer to {}, in {}", safe(&view.task), safe(&view.language));
    writeln!(out, "{}", style.heading(&head))?;
    match (&reading.lenient, reading.strict()) {
        (Ok(_), Some(_)) => writeln!(out, "both readers take it, to the letter")?,
        (Ok(_), None) => {
            writeln!(out, "lenient: found")?;
            let minded: Vec<&str> = reading.deviations.iter().map(|it| it.word()).collect();
            let minded = format!("strict:  not in the form asked for: {}", minded.join(", "));
            for (number, line) in wrap(&minded, style.width.saturating_sub(9)).iter().enumerate() {
                writeln!(out, "{:indent$}{line}", "", indent = if number == 0 { 0 } else { 9 })?;
            }
        }
        (Err(reason), _) => writeln!(out, "neither reader takes it: {reason}")?,
    }
    match reading.gaps {
        Gaps::None => {}
        Gaps::Hinted => writeln!(out, "a comment could stand for something left out")?,
        Gaps::Marked => writeln!(out, "a comment says that something is left out")?,
        Gaps::Shown => writeln!(out, "parts of it are left out")?,
    }
    if let Some(fault) = &reading.fault {
        writeln!(out, "{}", safe(fault))?;
    }
    show_reading(out, &reading.notes, style)?;
    match &reading.lenient {
        Ok(Code::Files(files)) => show_files(out, files, style),
        Ok(Code::Patch(patch)) => {
            writeln!(out, "\n{}", style.bold("the change as a patch"))?;
            writeln!(out, "{}", safe(&String::from_utf8_lossy(patch)))
        }
        Err(_) => Ok(()),
    }
}

/// Writes what the blocks of an answer were taken for, and what was done to the code.
pub fn show_reading(out: &mut dyn Write, notes: &ReadingNotes, style: Style) -> io::Result<()> {
    if notes.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", style.bold("how it was read"))?;
    let place = |it: &BlockNote| match it.lines {
        (0, _) => String::new(),
        (from, to) if from == to => format!("line {from}"),
        (from, to) => format!("lines {from}-{to}"),
    };
    let widest = notes.blocks.iter().map(|it| place(it).len()).max().unwrap_or(0);
    for it in &notes.blocks {
        let role = it.role.word();
        let shown = if matches!(it.role, Role::Answer | Role::Part) {
            style.bold(role)
        } else {
            role.to_owned()
        };
        let gap = " ".repeat(ROLE_WIDTH.saturating_sub(role.len()));
        let indent = 2 + widest + 2 + ROLE_WIDTH + 2;
        let mut lines =
            wrap(&safe(&it.why), style.width.saturating_sub(indent).max(20)).into_iter();
        let first = lines.next().unwrap_or_default();
        writeln!(out, "  {:<widest$}  {shown}{gap}  {first}", place(it))?;
        for line in lines {
            writeln!(out, "{:indent$}{line}", "")?;
        }
    }
    for mend in &notes.mends {
        writeln!(out, "  mended: {}", safe(mend))?;
    }
    Ok(())
}

/// Columns of the longest role.
const ROLE_WIDTH: usize = 18;
