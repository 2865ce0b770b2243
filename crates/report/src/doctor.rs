//! What a machine can confine and run.

use std::io::{self, Write};
use std::time::Duration;

use serde::Serialize;

use crate::figures::duration;
use crate::json::write_json;
use crate::safe::safe;
use crate::standings::wrap;
use crate::style::Style;
use crate::table::layout;

/// The version of the JSON output.
const FORMAT_VERSION: u32 = 1;

/// What was found.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Doctor {
    /// The tier of the sandbox; `None` where there is none that is good enough.
    pub tier: Option<String>,
    /// Why it is not the full one; empty when it is.
    pub why: String,
    /// The layers of the sandbox.
    pub layers: Vec<Finding>,
    /// The languages.
    pub languages: Vec<LanguageFinding>,
}

/// What was found of a layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// The layer.
    pub layer: String,
    /// `active`, `partly` or `missing`.
    pub state: &'static str,
    /// What there is.
    pub found: String,
    /// What to do for more; empty when there is nothing to do.
    pub advice: String,
}

/// What was found of a language.
#[derive(Debug, Clone, PartialEq)]
pub struct LanguageFinding {
    /// The language.
    pub language: String,
    /// Its tool's version, or why there is none.
    pub tool: Result<String, String>,
    /// What was tried, and how long it took or why it failed.
    pub trials: Vec<(String, Result<Duration, String>)>,
}

/// Writes what was found, and what to do.
///
/// # Errors
/// When the writer fails.
pub fn doctor_table(out: &mut dyn Write, doctor: &Doctor, style: Style) -> io::Result<()> {
    let tier = doctor.tier.as_deref().unwrap_or("none");
    writeln!(out, "{}", style.heading(&format!("Sandbox: {tier}")))?;
    if !doctor.why.is_empty() {
        for line in wrap(&format!("Not full: {}.", safe(&doctor.why)), style.width) {
            writeln!(out, "{line}")?;
        }
        writeln!(out)?;
    }
    if !doctor.layers.is_empty() {
        let row = |it: &Finding| vec![it.layer.clone(), it.state.to_owned(), it.found.clone()];
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
const VERSION_MAX: usize = 28;

fn language_row(it: &LanguageFinding) -> Vec<String> {
    let version = match &it.tool {
        Ok(version) if version.is_empty() => "there".to_owned(),
        Ok(version) if version.chars().count() > VERSION_MAX => {
            version.chars().take(VERSION_MAX - 1).chain(['…']).collect()
        }
        Ok(version) => version.clone(),
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

#[derive(Serialize)]
struct DoctorOutput<'a> {
    format_version: u32,
    tier: Option<&'a str>,
    why_not_full: &'a str,
    layers: &'a [Finding],
    languages: Vec<Language<'a>>,
}

#[derive(Serialize)]
struct Language<'a> {
    language: &'a str,
    version: Option<&'a str>,
    missing: Option<&'a str>,
    trials: Vec<CheckOutput<'a>>,
}

#[derive(Serialize)]
struct CheckOutput<'a> {
    what: &'a str,
    seconds: Option<f64>,
    failed: Option<&'a str>,
}

/// Writes what was found as JSON.
///
/// # Errors
/// When the writer fails.
pub fn doctor_json(out: &mut dyn Write, doctor: &Doctor) -> io::Result<()> {
    let trial = |(what, result): &'_ (String, Result<Duration, String>)| {
        (what.clone(), result.as_ref().ok().map(Duration::as_secs_f64), result.clone().err())
    };
    let tried: Vec<Vec<_>> =
        doctor.languages.iter().map(|it| it.trials.iter().map(trial).collect()).collect();
    let languages = doctor.languages.iter().zip(&tried).map(|(it, tried)| Language {
        language: &it.language,
        version: it.tool.as_ref().ok().map(String::as_str),
        missing: it.tool.as_ref().err().map(String::as_str),
        trials: tried
            .iter()
            .map(|(what, seconds, failed)| CheckOutput {
                what,
                seconds: *seconds,
                failed: failed.as_deref(),
            })
            .collect(),
    });
    let output = DoctorOutput {
        format_version: FORMAT_VERSION,
        tier: doctor.tier.as_deref(),
        why_not_full: &doctor.why,
        layers: &doctor.layers,
        languages: languages.collect(),
    };
    write_json(out, &output)
}
