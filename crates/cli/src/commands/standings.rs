//! `fairtrial standings`: the ranking.

use std::io::Write;

use fairtrial_record::Record;
use fairtrial_report::{load, standings, standings_json};

use crate::args::StandingsArgs;
use crate::environment::Environment;
use crate::errors::Failure;

/// Writes the standings of a record.
pub fn run(
    args: &StandingsArgs,
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let loaded = load(&Record::open(&args.record)?)?;
    if args.json {
        standings_json(out, &loaded)?;
    } else {
        standings(out, &loaded, environment.style())?;
    }
    Ok(0)
}
