//! `fairtrial show`: trials in full.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::Path;

use fairtrial_core::answer::Code;
use fairtrial_core::plan::Candidate;
use fairtrial_record::{Record, RecordError, Selection, TrialRow, TrialSummary};
use fairtrial_report::{
    TrialView, is_narrow, safe, show_json, show_list, show_trials, trial_list, trial_view,
};

use crate::args::ShowArgs;
use crate::environment::Environment;
use crate::errors::Failure;

/// Writes the trials that were asked for.
pub fn run(args: &ShowArgs, environment: &Environment, out: &mut dyn Write) -> Result<u8, Failure> {
    let record = Record::open(&args.record)?;
    let selection = Selection {
        task: args.task.clone(),
        candidate: args.candidate.clone(),
        number: args.trial,
        verdict: args.verdict.clone().or(args.failed.then(|| "fail".to_owned())),
        reason: args.reason.clone(),
        ..Selection::default()
    };
    let is_wanted = |task: &str| {
        let category = args.category.as_deref();
        let notes = &record.manifest().tasks;
        category.is_none_or(|it| notes.iter().any(|note| note.name == task && note.category == it))
    };
    let mut trials = trial_list(&record, &selection)?;
    trials.retain(|it| is_wanted(&it.key.task));
    if trials.is_empty() {
        return Err(nothing(args, &record)?);
    }
    if args.diff {
        return diff(args, environment, &record, &trials, out);
    }
    if args.json {
        let rows = record.trials(&selection)?.into_iter().filter(|it| is_wanted(&it.key.task));
        let views = rows.map(|it| view(&record, it, args));
        show_json(out, views.collect::<Result<_, _>>()?)?;
    } else if is_narrow(&selection, &trials) {
        for summary in &trials {
            if let Some(row) = record.trial(&summary.key)? {
                let view = view(&record, row, args)?;
                show_trials(out, &[view], args.unseal, environment.style())?;
            }
        }
    } else {
        show_list(out, &trials, &args.record.display().to_string(), environment.style())?;
    }
    Ok(0)
}

/// A trial as it was asked for.
fn view(record: &Record, row: TrialRow, args: &ShowArgs) -> Result<TrialView, RecordError> {
    let mut view = trial_view(record, row, args.unseal)?;
    if args.last {
        let before = view.attempts.len().saturating_sub(1);
        view.attempts.drain(..before);
    }
    Ok(view)
}

/// Writes the change of one attempt, byte for byte where nobody reads it on a terminal.
fn diff(
    args: &ShowArgs,
    environment: &Environment,
    record: &Record,
    trials: &[TrialSummary],
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let trial = trials.first().map(|it| record.trial(&it.key)).transpose()?.flatten();
    let attempts = trial.map(|it| it.attempts).unwrap_or_default();
    let found = match args.attempt {
        Some(number) => attempts.into_iter().find(|it| it.number == number),
        None => attempts.into_iter().next_back(),
    };
    let code = found.as_ref().map(|it| record.code(it)).transpose()?.flatten();
    match code {
        Some(Code::Patch(patch)) if environment.out_is_terminal() => {
            out.write_all(safe(&String::from_utf8_lossy(&patch)).as_bytes())?;
        }
        Some(Code::Patch(patch)) => out.write_all(&patch)?,
        Some(Code::Files(_)) | None => {
            return Err(Failure::NothingSelected {
                record: args.record.clone(),
                wanted: "with a change to a repository there".to_owned(),
                there: "`--diff` shows answers of the form `repository`".to_owned(),
            });
        }
    }
    Ok(0)
}

/// The error that nothing is as it was asked for, with what there is instead.
fn nothing(args: &ShowArgs, record: &Record) -> Result<Failure, RecordError> {
    let mut wanted = Vec::new();
    let mut there = Vec::new();
    let manifest = record.manifest();
    let list = |names: BTreeSet<&str>| names.into_iter().collect::<Vec<_>>().join(", ");
    if let Some(task) = &args.task {
        wanted.push(format!("of task `{task}`"));
        let names = manifest.tasks.iter().map(|it| it.name.as_str()).collect();
        there.push(format!("tasks: {}", list(names)));
    }
    if let Some(candidate) = &args.candidate {
        wanted.push(format!("of candidate `{candidate}`"));
        let names = manifest.plan.candidates.iter().map(Candidate::name).collect();
        there.push(format!("candidates: {}", list(names)));
    }
    if let Some(number) = args.trial {
        wanted.push(format!("number {number}"));
        there.push(numbers(record)?);
    }
    if args.failed {
        wanted.push("failed".to_owned());
    }
    wanted.extend(args.verdict.clone());
    wanted.extend(args.reason.as_ref().map(|it| format!("of reason `{it}`")));
    if let Some(category) = &args.category {
        wanted.push(format!("of category `{category}`"));
        let names = manifest.tasks.iter().map(|it| it.category.as_str()).collect();
        there.push(format!("categories: {}", list(names)));
    }
    if !wanted.is_empty() && there.is_empty() {
        there.push(format!("see all: fairtrial show {}", args.record.display()));
    }
    if wanted.is_empty() {
        wanted.push("begun yet".to_owned());
        there.push("`fairtrial run PLAN` begins them".to_owned());
    }
    Ok(Failure::NothingSelected {
        record: args.record.clone(),
        wanted: wanted.join(", "),
        there: there.join("; "),
    })
}

/// The error that there is no trial of that number.
pub fn no_such_trial(record: &Record, path: &Path, number: i64) -> Result<Failure, RecordError> {
    let (wanted, there) = (format!("number {number}"), numbers(record)?);
    Ok(Failure::NothingSelected { record: path.to_owned(), wanted, there })
}

/// Which numbers trials have.
fn numbers(record: &Record) -> Result<String, RecordError> {
    Ok(match record.last_number()? {
        Some(last) => format!("trials are numbered from 1 to {last}"),
        None => "no trial has begun yet".to_owned(),
    })
}
