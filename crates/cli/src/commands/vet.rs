//! `fairtrial vet`: proves that the tests of a docket tell right answers from wrong ones.

use std::io::{IsTerminal as _, Write};

use fairtrial_report::{safe, vet_json, vet_table};
use fairtrial_runner::{VetError, VetOptions, vet};

use crate::args::VetArgs;
use crate::commands::run::{Readiness, with_prepare_options};
use crate::environment::Environment;
use crate::errors::{DIFFERS, Failure};
use crate::signals::StopSignal;

/// Says on a terminal how many proofs are done.
fn counter(environment: &Environment) -> impl Fn(usize, usize) {
    let on_terminal = environment.err_is_terminal();
    move |done, all| {
        let stderr = std::io::stderr();
        if on_terminal && stderr.is_terminal() && (done.is_multiple_of(8) || done == all) {
            let end = if done == all { "\n" } else { "" };
            let _ = write!(stderr.lock(), "\rproofs judged: {done} of {all}{end}");
        }
    }
}

/// Judges every proof, and writes what holds.
pub fn run(
    args: &VetArgs,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let options = VetOptions {
        docket: args.docket.clone(),
        tasks: args.task.clone(),
        languages: args.languages.clone(),
        judging: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let progress = counter(environment);
    let stop = StopSignal::new();
    let readiness = Readiness { trust_code: args.trust_code, fresh: false };
    let vetted = with_prepare_options(readiness, environment, |prepare| {
        vet(&options, prepare, stop.flag(), &progress)
    });
    let vetted = match (vetted, stop.exit_code()) {
        (Err(error @ VetError::Stopped), Some(code)) => {
            writeln!(err, "{error}")?;
            return Ok(code);
        }
        (vetted, _) => vetted?,
    };
    for note in &vetted.notes {
        writeln!(err, "note: {}", safe(note))?;
    }
    if args.json {
        vet_json(out, &vetted.tasks)?;
    } else {
        vet_table(out, &vetted.tasks, environment.style())?;
    }
    Ok(if vetted.tasks.iter().all(|it| it.holds()) { 0 } else { DIFFERS })
}
