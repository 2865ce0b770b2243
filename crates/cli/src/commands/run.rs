//! `fairtrial run`: runs the trials that have not been run.

use std::io::Write;
use std::path::{Path, PathBuf};

use fairtrial_core::verdict::VoidReason;
use fairtrial_record::Record;
use fairtrial_report::{
    RankingLayout, StandingsOptions, StandingsSource, VerdictSource, dry_run_text, safe, standings,
    standings_view,
};
use fairtrial_runner::{
    Preparation, PrepareOptions, RunOptions, Summary, dry_run, prepare, run_trials,
};
use fairtrial_sandbox::Demand;

use crate::args::RunArgs;
use crate::environment::Environment;
use crate::errors::{Failure, OUTSIDE};
use crate::progress::{Bars, Lines};
use crate::signals::StopSignal;

/// Holds the trials of a plan, then writes the standings.
pub fn run(
    args: &RunArgs,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let record = args.record.clone().unwrap_or_else(|| record_beside(&args.plan));
    let readiness = Readiness { trust_code: args.trust_code, fresh: args.fresh };
    let preparation = prepared(&args.plan, readiness, environment)?;
    if args.dry_run {
        for note in &preparation.notes {
            writeln!(err, "note: {}", safe(note))?;
        }
        dry_run_text(out, &dry_run(&preparation, &record)?, environment.style())?;
        return Ok(0);
    }
    let code = run_all(&preparation, &record, environment, out, err)?;
    Ok(code)
}

/// Reads a plan, with what the environment say.
pub fn prepared(
    plan: &Path,
    readiness: Readiness,
    environment: &Environment,
) -> Result<Preparation, Failure> {
    Ok(with_prepare_options(readiness, environment, |options| prepare(plan, options))?)
}

/// What the command line says of how a run is made ready.
#[derive(Debug, Clone, Copy)]
pub struct Readiness {
    /// Go on where code cannot be confined.
    pub trust_code: bool,
    /// Make repositories ready anew.
    pub fresh: bool,
}

/// Does what takes the environment of this process, and the tiers of the sandbox that will do.
pub fn with_prepare_options<T>(
    readiness: Readiness,
    environment: &Environment,
    work: impl FnOnce(&PrepareOptions<'_>) -> T,
) -> T {
    let is_watched = environment.err_is_terminal();
    let terminal = console::Term::stderr();
    work(&PrepareOptions {
        env: &|name| environment.variable(name),
        version: env!("CARGO_PKG_VERSION"),
        demand: if readiness.trust_code { Demand::Anything } else { Demand::Confined },
        fresh: readiness.fresh,
        progress: &|text| {
            if is_watched {
                // A terminal that is gone is no reason to stop.
                let _ = terminal.write_line(&safe(text));
            }
        },
    })
}

/// Where the record of a plan is by default: `record` for `plan.toml`, else `NAME.record`.
fn record_beside(plan: &Path) -> PathBuf {
    match plan.file_stem() {
        Some(stem) if stem != "plan" => plan.with_extension("record"),
        _ => plan.with_file_name("record"),
    }
}

/// Holds the trials of what was prepared, writes the standings and what went wrong; gives the
/// exit code.
pub fn run_all(
    preparation: &Preparation,
    record: &Path,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    for note in &preparation.notes {
        writeln!(err, "note: {}", safe(note))?;
    }
    let judging = std::thread::available_parallelism().map_or(1, usize::from);
    let judging = judging.min(preparation.plan.parallel as usize);
    let options = RunOptions { record: record.to_owned(), judging };
    let stop = StopSignal::new();
    let currency = &preparation.plan.currency;
    let summary = if environment.err_is_terminal() {
        let names: Vec<&str> = preparation.plan.candidates.iter().map(|it| it.name()).collect();
        let mut bars = Bars::new(&names, currency, environment.err_colour());
        let summary = run_trials(preparation, &options, stop.flag(), &mut bars);
        bars.clear();
        summary?
    } else {
        run_trials(preparation, &options, stop.flag(), &mut Lines::new(err, currency))?
    };
    let records = [Record::open(record)?];
    let source = StandingsSource::open(&records, VerdictSource::First)?;
    let view = standings_view(&source, &StandingsOptions::default())?;
    standings(out, &view, &RankingLayout::default(), environment.style())?;
    out.flush()?;
    writeln!(err, "record: {}", record.display())?;
    let code = report(&summary, record, err)?;
    Ok(stop.exit_code().filter(|_| summary.stopped).unwrap_or(code))
}

/// Says what went wrong, and what to do.
fn report(summary: &Summary, record: &Path, err: &mut dyn Write) -> Result<u8, Failure> {
    for (candidate, why) in &summary.halted {
        let candidate = safe(candidate);
        writeln!(err, "error: candidate `{candidate}` was no longer asked: {}", safe(why))?;
    }
    if summary.stopped {
        writeln!(err, "stopped: {} trials are not run yet", summary.not_run)?;
    }
    let faults = summary.void.iter().filter(|it| *it.0 != VoidReason::ToolMissing);
    let outside = faults.map(|it| it.1).sum::<usize>() > summary.unanswered;
    if summary.unanswered > 0 {
        writeln!(err, "note: {} trials have no recorded answer and are void", summary.unanswered)?;
    }
    let again = outside || summary.not_run > 0 || !summary.halted.is_empty();
    if again {
        let record = record.display();
        writeln!(
            err,
            "hint: run the same command again to run what is void or missing in `{record}`"
        )?;
    }
    Ok(if again { OUTSIDE } else { 0 })
}
