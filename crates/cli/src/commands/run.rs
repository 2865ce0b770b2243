//! `fairtrial run`: runs the trials that have not been run.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use fairtrial_core::plan::Cap;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_record::Record;
use fairtrial_report::{
    RankingLayout, StandingsOptions, StandingsSource, VerdictSource, count, dry_run_text, duration,
    money, safe, standings, standings_view, thousands,
};
use fairtrial_runner::{
    CapOwner, CapReached, Preparation, PrepareOptions, RunOptions, Summary, TrialChoice, dry_run,
    prepare, run_trials,
};
use fairtrial_sandbox::Demand;
use tracing_subscriber::Layer as _;
use tracing_subscriber::filter::filter_fn;
use tracing_subscriber::layer::SubscriberExt as _;

use crate::args::RunArgs;
use crate::environment::Environment;
use crate::errors::{Failure, OUTSIDE};
use crate::event_log::EventLog;
use crate::progress::{Bars, Lines};
use crate::signals::StopSignal;
use crate::status::StatusFile;
use crate::watchers::Watchers;

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
    let choice = TrialChoice {
        tasks: args.tasks.clone(),
        candidates: args.candidates.clone(),
        samples: args.samples,
        again: args.again.clone(),
    };
    if args.dry_run {
        for note in &preparation.notes {
            writeln!(err, "note: {}", safe(note))?;
        }
        dry_run_text(out, &dry_run(&preparation, &record, &choice)?, environment.style())?;
        return Ok(0);
    }
    if args.verbose {
        verbose(environment);
    }
    let how = RunManner {
        choice,
        trying: args.trying,
        reuse: args.reuse.clone(),
        events: args.events.clone(),
    };
    run_all(&preparation, &record, how, environment, out, err)
}

/// What the command line says of how trials are run.
#[derive(Debug, Default)]
pub struct RunManner {
    /// Which ones.
    pub choice: TrialChoice,
    /// Only a first look at each candidate.
    pub trying: bool,
    /// A record to take answers over from.
    pub reuse: Option<PathBuf>,
    /// A file for what happens.
    pub events: Option<PathBuf>,
}

/// Says on standard error what is done, from now on.
fn verbose(environment: &Environment) {
    let own = filter_fn(|it| it.target().starts_with("fairtrial"));
    let layer = tracing_subscriber::fmt::layer()
        .with_writer(std::io::stderr)
        .with_ansi(environment.err_colour())
        .with_target(false)
        .with_filter(own);
    // One that is set already does as well.
    let _ = tracing::subscriber::set_global_default(tracing_subscriber::registry().with(layer));
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
pub fn record_beside(plan: &Path) -> PathBuf {
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
    how: RunManner,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    for note in &preparation.notes {
        writeln!(err, "note: {}", safe(note))?;
    }
    let plan = &preparation.plan;
    let processors = std::thread::available_parallelism().map_or(1, usize::from);
    let judging = processors.min(plan.parallel as usize);
    let options = RunOptions {
        record: record.to_owned(),
        judging: plan.judging.map_or(judging, |it| it as usize),
        choice: how.choice,
        trying: how.trying,
        reuse: how.reuse,
    };
    let stop = StopSignal::new();
    let summary = {
        let mut watchers = Watchers::default();
        watchers.add(StatusFile::new(record, &plan.currency));
        if let Some(path) = &how.events {
            let failed = |source| Failure::File { what: "open", path: path.clone(), source };
            watchers.add(EventLog::open(path).map_err(failed)?);
        }
        let is_said = tracing::enabled!(tracing::Level::DEBUG);
        if environment.err_is_terminal() && !is_said {
            let names: Vec<&str> = plan.candidates.iter().map(|it| it.name()).collect();
            let columns = environment.err_columns();
            watchers.add(Bars::new(&names, &plan.currency, environment.err_colour(), columns));
        } else {
            watchers.add(Lines::new(err, &plan.currency));
        }
        run_trials(preparation, &options, stop.flag(), &mut watchers)?
    };
    let records = [Record::open(record)?];
    let source = StandingsSource::open(&records, VerdictSource::First)?;
    let view = standings_view(&source, &StandingsOptions::default())?;
    if options.trying {
        first_looks(&summary, out)?;
    } else {
        standings(out, &view, &RankingLayout::default(), environment.style())?;
    }
    out.flush()?;
    writeln!(err, "record: {}", record.display())?;
    let code = report(&summary, preparation, record, err)?;
    Ok(stop.exit_code().filter(|_| summary.stopped).unwrap_or(code))
}

/// What the first trial of each candidate came to.
fn first_looks(summary: &Summary, out: &mut dyn Write) -> Result<(), Failure> {
    for look in &summary.looked {
        let (candidate, task) = (safe(&look.key.candidate), safe(&look.key.task));
        let what = match look.verdict {
            Verdict::Void(_) => "no answer",
            Verdict::Pass | Verdict::Fail(_) => "answered",
        };
        writeln!(out, "{candidate}: {what} on {task}: {}", look.verdict)?;
    }
    if summary.looked.is_empty() {
        writeln!(out, "nothing is left to be asked")?;
    }
    Ok(())
}

/// Says what went wrong, and what to do.
fn report(
    summary: &Summary,
    preparation: &Preparation,
    record: &Path,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    for (candidate, why) in &summary.halted {
        let candidate = safe(candidate);
        writeln!(err, "error: candidate `{candidate}` was no longer asked: {}", safe(why))?;
    }
    if summary.stopped {
        writeln!(err, "stopped: {} trials are not run yet", summary.not_run)?;
    }
    for cap in &summary.caps {
        writeln!(err, "budget: {}", cap_line(cap, &preparation.plan.currency))?;
    }
    if summary.progress.reused > 0 {
        let reused = count(summary.progress.reused, "answer");
        writeln!(err, "note: {reused} taken over from another record, and not paid for again")?;
    }
    let void = |reason: VoidReason| summary.void.get(&reason).copied().unwrap_or(0);
    let capped = void(VoidReason::BudgetReached);
    let faults = summary.void.iter().filter(|it| *it.0 != VoidReason::ToolMissing);
    let outside = faults.map(|it| it.1).sum::<usize>() > summary.unanswered + capped;
    if summary.unanswered > 0 {
        writeln!(err, "note: {} trials have no recorded answer and are void", summary.unanswered)?;
    }
    if summary.left_out > 0 {
        let left = count(summary.left_out, "trial");
        writeln!(err, "note: left for another run, since not chosen: {left}")?;
    }
    if capped > 0 {
        writeln!(err, "hint: raise the cap in the plan and run the same command again to go on")?;
    }
    let again = outside || summary.not_run > 0 || !summary.halted.is_empty();
    let is_well = summary.halted.is_empty() && !summary.stopped && !outside && capped == 0;
    if !summary.looked.is_empty() && is_well {
        // A first look leaves the rest where it is.
        return Ok(0);
    }
    if again {
        let record = record.display();
        writeln!(
            err,
            "hint: run the same command again to run what is void or missing in `{record}`"
        )?;
    }
    Ok(if again || capped > 0 { OUTSIDE } else { 0 })
}

/// Which cap was reached, what was spent, and how much more than the cap.
fn cap_line(reached: &CapReached, currency: &str) -> String {
    let whose = match &reached.owner {
        CapOwner::Run => "of the run".to_owned(),
        CapOwner::Candidate(name) => format!("of `{}`", safe(name)),
        CapOwner::Trial(key) => format!(
            "of the trial of `{}` at `{}`, sample {}",
            safe(&key.candidate),
            safe(&key.task),
            key.sample
        ),
    };
    let spent = &reached.spent;
    let (what, most, spent, over) = match reached.cap {
        Cap::Money(most) => {
            let words = |it: f64| format!("{} {}", money(it), safe(currency));
            ("money", words(most), words(spent.money), words((spent.money - most).max(0.0)))
        }
        Cap::Tokens(most) => {
            let words = |it: u64| format!("{} tokens", thousands(it));
            ("tokens", words(most), words(spent.tokens), words(spent.tokens.saturating_sub(most)))
        }
        Cap::Time(most) => {
            let words = |it: Duration| duration(it.as_secs_f64());
            ("time", words(most), words(spent.time), words(spent.time.saturating_sub(most)))
        }
    };
    format!(
        "the cap on {what} {whose}, {most}, is reached: {spent} in all, {over} of it by what was under way"
    )
}
