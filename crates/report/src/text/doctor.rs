//! What a machine can confine and run.

use std::io::{self, Write};

use super::table::layout;
use super::wrap;
use crate::figures::duration;
use crate::safe::safe;
use crate::style::Style;
use crate::view::{DoctorView, LanguageView, LayerView};

/// Writes what was found, and what to do.
///
/// # Errors
/// When the writer fails.
pub fn doctor_table(out: &mut dyn Write, doctor: &DoctorView, style: Style) -> io::Result<()> {
    let tier = doctor.tier.as_deref().unwrap_or("none");
    writeln!(out, "{}", style.heading(&format!("Sandbox: {tier}")))?;
    if !doctor.why.is_empty() {
        for line in wrap(&format!("Not full: {}.", safe(&doctor.why)), style.width) {
            writeln!(out, "{line}")?;
        }
        writeln!(out)?;
    }
    if !doctor.layers.is_empty() {
        let row = |it: &LayerView| vec![it.layer.clone(), it.state.to_owned(), it.found.clone()];
        let rows: Vec<_> = doctor.layers.iter().map(row).collect();
        table(out, &["layer", "state", "found"], &rows, style)?;
    }
    let advice: Vec<_> = doctor.layers.iter().filter(|it| !it.advice.is_empty()).collect();
    for it in &advice {
        for line in wrap(&format!("For more of `{}`: {}.", it.layer, it.advice), style.width) {
            writeln!(out, "{line}")?;
        }
    }
    if !advice.is_empty() {
        writeln!(out)?;
    }
    if doctor.languages.is_empty() {
        return Ok(());
    }
    writeln!(out, "{}", style.heading("Languages, each built and run in the sandbox"))?;
    let rows: Vec<_> = doctor.languages.iter().map(language_row).collect();
    table(out, &["language", "version", "what works"], &rows, style)?;
    let failures = doctor.languages.iter().flat_map(|it| {
        let failed = it.trials.iter().filter_map(|(name, result)| {
            Some(format!("{}, {name}: {}", it.language, result.as_ref().err()?))
        });
        failed.chain(it.tool.as_ref().err().map(|why| format!("{}: {why}", it.language)))
    });
    for failure in failures {
        for line in wrap(&format!("Not here: {}", safe(&failure)), style.width) {
            writeln!(out, "{line}")?;
        }
    }
    Ok(())
}

/// Longest version in the table, in characters.
const VERSION_MAX: usize = 31;

/// What a tool says of its version, short enough for the table: without what is in brackets, where
/// that is said of who built it and when.
fn short_version(said: &str) -> String {
    let mut depth = 0_u32;
    let outside: String = said
        .chars()
        .filter(|character| {
            let before = depth;
            match character {
                '(' => depth += 1,
                ')' => depth = depth.saturating_sub(1),
                _ => {}
            }
            before.max(depth) == 0
        })
        .collect();
    let short = outside.split_whitespace().collect::<Vec<_>>().join(" ");
    if short.chars().count() > VERSION_MAX {
        return short.chars().take(VERSION_MAX - 1).chain(['…']).collect();
    }
    short
}

fn language_row(it: &LanguageView) -> Vec<String> {
    let version = match it.tool.as_deref().map(short_version) {
        Ok(version) if version.is_empty() => "there".to_owned(),
        Ok(version) => version,
        Err(_) => "missing".to_owned(),
    };
    let works = it.trials.iter().filter_map(|(name, result)| {
        let took = result.as_ref().ok()?;
        Some(format!("{name} {}", duration(took.as_secs_f64())))
    });
    let works = works.collect::<Vec<_>>().join(", ");
    let works = if works.is_empty() { "–".to_owned() } else { works };
    vec![it.language.clone(), safe(&version).into_owned(), works]
}

fn table(
    out: &mut dyn Write,
    header: &[&str],
    rows: &[Vec<String>],
    style: Style,
) -> io::Result<()> {
    for (index, line) in layout(header, rows, &[0, 1, 2]).iter().enumerate() {
        writeln!(out, "{}", if index == 0 { style.dim(line) } else { line.clone() })?;
    }
    writeln!(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_version_keeps_its_number_in_the_table() {
        let gcc = "x86_64-linux-gnu-gcc-12 (Debian 12.2.0-14) 12.2.0";
        assert_eq!(short_version(gcc), "x86_64-linux-gnu-gcc-12 12.2.0");
        assert_eq!(short_version("rustc 1.95.0 (59807616e 2026-04-14)"), "rustc 1.95.0");
        assert_eq!(short_version("odd) 1 ((2) 3"), "odd) 1");
        assert_eq!(short_version(&"7".repeat(40)), format!("{}…", "7".repeat(30)));
    }
}
