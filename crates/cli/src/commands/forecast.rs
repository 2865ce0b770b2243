//! `fairtrial forecast`: what a plan will take, and how small a difference it can show.

use std::io::Write;

use fairtrial_report::{forecast_json, forecast_text, safe};
use fairtrial_runner::forecast;

use crate::args::ForecastArgs;
use crate::commands::run::{Readiness, prepared, record_beside};
use crate::environment::Environment;
use crate::errors::Failure;

/// Says what the trials that are still to be run will take. Nobody is asked, nothing is written.
pub fn run(
    args: &ForecastArgs,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let record = args.record.clone().unwrap_or_else(|| record_beside(&args.plan));
    let readiness = Readiness { trust_code: args.trust_code, fresh: false };
    let preparation = prepared(&args.plan, readiness, environment)?;
    for note in &preparation.notes {
        writeln!(err, "note: {}", safe(note))?;
    }
    let found = forecast(&preparation, &record, args.from.as_deref())?;
    match args.json {
        true => forecast_json(out, &found)?,
        false => forecast_text(out, &found, environment.style())?,
    }
    Ok(0)
}
