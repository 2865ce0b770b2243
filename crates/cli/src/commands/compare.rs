//! `fairtrial compare`: two candidates of a record, or the candidates of two records.

use std::io::Write;
use std::path::Path;

use fairtrial_core::schedule::TrialKey;
use fairtrial_record::Record;
use fairtrial_report::{
    ComparisonView, Side, StandingsSource, adjust_together, compared_tasks_grid, comparison_text,
    comparison_view, comparisons_json, comparisons_text, grid_csv, grid_markdown, place_of,
    side_by_side, trial_view,
};

use crate::args::CompareArgs;
use crate::environment::Environment;
use crate::errors::Failure;

/// Writes the comparison that was asked for.
pub fn run(
    args: &CompareArgs,
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    match args.second.as_deref() {
        Some(second) => candidates(args, second, environment, out),
        None => records(args, environment, out),
    }
}

/// Two candidates of one record.
fn candidates(
    args: &CompareArgs,
    second: &str,
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let records = [Record::open(&args.record)?];
    if let Some(task) = &args.task {
        return one_task(args, &records[0], task, [&args.first, second], environment, out);
    }
    let names = [args.first.clone(), second.to_owned()];
    let verdicts = args.grading.unwrap_or_default();
    let source = StandingsSource::open_some(&records, verdicts, &names)?;
    let side =
        |name: &str| place_of(&source, name).map(|candidate| Side { source: &source, candidate });
    let view = comparison_view(side(&args.first)?, side(second)?, None);
    write(args, &[view], environment, out)
}

/// The candidates that two records share; or the only one of each.
fn records(
    args: &CompareArgs,
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let (old, new) = ([Record::open(&args.record)?], [Record::open(Path::new(&args.first))?]);
    let verdicts = args.grading.unwrap_or_default();
    let old = StandingsSource::open(&old, verdicts)?;
    let new = StandingsSource::open(&new, verdicts)?;
    let names = |source: &StandingsSource<'_>| source.results.candidates().to_vec();
    let mut pairs: Vec<(usize, usize)> = names(&new)
        .iter()
        .enumerate()
        .filter_map(|(place, name)| Some((place, names(&old).iter().position(|it| it == name)?)))
        .collect();
    if pairs.is_empty() && (names(&old).len(), names(&new).len()) == (1, 1) {
        pairs.push((0, 0));
    }
    if pairs.is_empty() {
        return Err(Failure::NoCommonCandidate { old: names(&old), new: names(&new) });
    }
    // What is better is better in the new record: that one comes first.
    let mut views: Vec<ComparisonView> = pairs
        .into_iter()
        .map(|(at, before)| {
            let mut view = comparison_view(
                Side { source: &new, candidate: at },
                Side { source: &old, candidate: before },
                None,
            );
            view.call(&format!("{} (new)", view.names.0), &format!("{} (old)", view.names.1));
            view
        })
        .collect();
    adjust_together(&mut views);
    write(args, &views, environment, out)
}

fn write(
    args: &CompareArgs,
    views: &[ComparisonView],
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let style = environment.style();
    match (&args.format, views) {
        (format, _) if format.json => comparisons_json(out, views)?,
        (format, _) if format.csv => {
            views.iter().try_for_each(|it| grid_csv(out, &compared_tasks_grid(it)))?;
        }
        (format, _) if format.markdown => {
            views.iter().try_for_each(|it| grid_markdown(out, &compared_tasks_grid(it)))?;
        }
        (_, [view]) => comparison_text(out, view, style)?,
        (_, views) => comparisons_text(out, views, style)?,
    }
    Ok(0)
}

/// One trial of each at one task, side by side.
fn one_task(
    args: &CompareArgs,
    record: &Record,
    task: &str,
    names: [&str; 2],
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let mut views = Vec::new();
    for name in names {
        let key =
            TrialKey { candidate: name.to_owned(), task: task.to_owned(), sample: args.sample };
        let Some(row) = record.trial(&key)? else {
            return Err(Failure::NothingSelected {
                record: args.record.clone(),
                wanted: format!("of `{name}` at `{task}`, sample {}", args.sample),
                there: format!("see which there are: fairtrial show {}", args.record.display()),
            });
        };
        views.push(trial_view(record, row, false)?);
    }
    side_by_side(out, &views, environment.style())?;
    Ok(0)
}
