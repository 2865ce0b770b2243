//! `fairtrial standings`: the ranking.

use std::io::Write;

use fairtrial_record::Record;
use fairtrial_report::{standings, standings_json, standings_view};

use crate::args::StandingsArgs;
use crate::environment::Environment;
use crate::errors::Failure;

/// Writes the standings of a record.
pub fn run(
    args: &StandingsArgs,
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let view = standings_view(&Record::open(&args.record)?)?;
    if args.json {
        standings_json(out, &view)?;
    } else {
        standings(out, &view, environment.style())?;
    }
    Ok(0)
}
