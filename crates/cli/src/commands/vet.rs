//! `fairtrial vet`: proves that the tests of a docket tell right answers from wrong ones.

use std::io::Write;

use fairtrial_hearing::{VetOptions, vet};
use fairtrial_report::{safe, vet_json, vet_table};

use crate::args::VetArgs;
use crate::commands::regrade::counter;
use crate::commands::run::with_prepare_options;
use crate::errors::{DIFFERS, Failure};
use crate::surroundings::Surroundings;

/// Judges every proof, and writes what holds.
pub fn run(
    args: &VetArgs,
    surroundings: &Surroundings,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let options = VetOptions {
        docket: args.docket.clone(),
        tasks: args.task.clone(),
        recipes: args.recipes.clone(),
        judging: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let progress = counter("proofs judged", surroundings);
    let vetted = with_prepare_options(args.trust_code, surroundings, |prepare| {
        vet(&options, prepare, &progress)
    })?;
    for note in &vetted.notes {
        writeln!(err, "note: {}", safe(note))?;
    }
    if args.json {
        vet_json(out, &vetted.tasks)?;
    } else {
        vet_table(out, &vetted.tasks, surroundings.style())?;
    }
    Ok(if vetted.tasks.iter().all(|it| it.holds()) { 0 } else { DIFFERS })
}
