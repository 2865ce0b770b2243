//! What a run would do.

use std::io::{self, Write};

use fairtrial_core::dry_run::DryRun;

use super::table::layout;
use crate::figures::count;
use crate::safe::safe;
use crate::style::Style;

/// Writes the trials by candidate, then every first prompt, to the letter.
///
/// # Errors
/// When the writer fails.
pub fn dry_run_text(out: &mut dyn Write, dry: &DryRun, style: Style) -> io::Result<()> {
    let header = ["candidate", "tasks", "samples", "trials", "to run"];
    let rows: Vec<Vec<String>> = dry
        .candidates
        .iter()
        .map(|it| {
            let figures = [it.tasks, dry.samples as usize, it.trials, it.waiting];
            let name = safe(&it.name).into_owned();
            [name].into_iter().chain(figures.iter().map(ToString::to_string)).collect()
        })
        .collect();
    for (index, line) in layout(&header, &rows, &[0]).iter().enumerate() {
        writeln!(out, "{}", if index == 0 { style.dim(line) } else { line.clone() })?;
    }
    for note in &dry.notes {
        writeln!(out, "note: {}", safe(note))?;
    }
    let total: usize = dry.candidates.iter().map(|it| it.waiting).sum();
    let each = match dry.attempts {
        1 => String::new(),
        attempts => format!(", of up to {attempts} attempts each"),
    };
    writeln!(out, "\n{} would be run{each}; nobody was asked.", count(total, "trial"))?;
    for candidate in &dry.candidates {
        if let Some(system) = &candidate.system {
            let head = format!("system message of {}", safe(&candidate.name));
            block(out, &head, system, style)?;
        }
    }
    for prompt in &dry.prompts {
        let to = match (&prompt.candidate, prompt.acts) {
            (Some(candidate), _) => format!("first prompt of {}", safe(candidate)),
            (None, true) => "first prompt of those that act".to_owned(),
            (None, false) => "first prompt".to_owned(),
        };
        let void = prompt.unfit.as_ref().map(|why| format!("; void here: {}", safe(why)));
        let head = format!("{}: {to}{}", safe(&prompt.task), void.unwrap_or_default());
        block(out, &head, &prompt.text, style)?;
    }
    Ok(())
}

fn block(out: &mut dyn Write, head: &str, text: &str, style: Style) -> io::Result<()> {
    writeln!(out, "\n{}\n{}", style.dim(&format!("--- {head} ---")), safe(text).trim_end())
}
