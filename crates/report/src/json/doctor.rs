//! What a machine can confine and run, for programs.

use std::io::{self, Write};
use std::time::Duration;

use serde::Serialize;

use super::write_json;
use crate::view::{DoctorView, LayerView};

/// The version of this output.
const FORMAT_VERSION: u32 = 1;

#[derive(Serialize)]
struct DoctorOutput<'a> {
    format_version: u32,
    tier: Option<&'a str>,
    why_not_full: &'a str,
    layers: Vec<LayerOutput<'a>>,
    languages: Vec<Language<'a>>,
}

#[derive(Serialize)]
struct LayerOutput<'a> {
    layer: &'a str,
    state: &'a str,
    found: &'a str,
    advice: &'a str,
}

fn layer(view: &LayerView) -> LayerOutput<'_> {
    let LayerView { layer, state, found, advice } = view;
    LayerOutput { layer, state, found, advice }
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
pub fn doctor_json(out: &mut dyn Write, doctor: &DoctorView) -> io::Result<()> {
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
        layers: doctor.layers.iter().map(layer).collect(),
        languages: languages.collect(),
    };
    write_json(out, &output)
}
