//! `fairtrial standings`: the ranking.

use std::io::Write;

use fairtrial_record::Record;
use fairtrial_report::{load, standings, standings_json};

use crate::args::StandingsArgs;
use crate::errors::Failure;
use crate::surroundings::Surroundings;

/// Writes the standings of a record.
pub fn run(
    args: &StandingsArgs,
    surroundings: &Surroundings,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let loaded = load(&Record::open(&args.record)?)?;
    if args.json {
        standings_json(out, &loaded)?;
    } else {
        standings(out, &loaded, surroundings.style())?;
    }
    Ok(0)
}
