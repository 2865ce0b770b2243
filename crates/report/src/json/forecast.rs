//! What a run will take, as JSON.

use std::io::{self, Write};

use fairtrial_core::forecast::{CandidateForecast, Forecast};
use serde::Serialize;

use super::write_json;

/// The version of the format.
const FORMAT_VERSION: u32 = 1;

#[derive(Serialize)]
struct ForecastOutput<'a> {
    format_version: u32,
    currency: &'a str,
    tasks: usize,
    samples: u32,
    attempts: u32,
    candidates: &'a [CandidateForecast],
    shows: Option<f64>,
}

/// Writes a forecast as JSON.
///
/// # Errors
/// When the writer fails.
pub fn forecast_json(out: &mut dyn Write, forecast: &Forecast) -> io::Result<()> {
    let Forecast { candidates, currency, tasks, samples, attempts, shows, .. } = forecast;
    write_json(
        out,
        &ForecastOutput {
            format_version: FORMAT_VERSION,
            currency,
            tasks: *tasks,
            samples: *samples,
            attempts: *attempts,
            candidates,
            shows: *shows,
        },
    )
}
