//! `fairtrial show`: trials in full.

use std::collections::BTreeSet;
use std::io::Write;

use fairtrial_record::{Record, Selection};
use fairtrial_report::{is_narrow, show_json, show_list, show_trials, trial_list, trial_view};

use crate::args::ShowArgs;
use crate::environment::Environment;
use crate::errors::Failure;

/// Writes the trials that were asked for.
pub fn run(args: &ShowArgs, environment: &Environment, out: &mut dyn Write) -> Result<u8, Failure> {
    let record = Record::open(&args.record)?;
    let selection = Selection {
        task: args.task.clone(),
        candidate: args.candidate.clone(),
        sample: None,
        number: args.trial,
    };
    let trials = trial_list(&record, &selection)?;
    if trials.is_empty() {
        return Err(nothing(args, &record));
    }
    if args.json {
        let rows = record.trials(&selection)?.into_iter();
        let views = rows.map(|it| trial_view(&record, it, args.unseal));
        show_json(out, views.collect::<Result<_, _>>()?)?;
    } else if is_narrow(&selection, &trials) {
        for summary in &trials {
            if let Some(row) = record.trial(&summary.key)? {
                let view = trial_view(&record, row, args.unseal)?;
                show_trials(out, &[view], args.unseal, environment.style())?;
            }
        }
    } else {
        show_list(out, &trials, &args.record.display().to_string(), environment.style())?;
    }
    Ok(0)
}

fn nothing(args: &ShowArgs, record: &Record) -> Failure {
    let mut wanted = Vec::new();
    wanted.extend(args.task.as_ref().map(|it| format!("of task `{it}`")));
    wanted.extend(args.candidate.as_ref().map(|it| format!("of candidate `{it}`")));
    wanted.extend(args.trial.map(|it| format!("number {it}")));
    let wanted = if wanted.is_empty() { "begun yet".to_owned() } else { wanted.join(", ") };
    let manifest = record.manifest();
    let list = |names: BTreeSet<&str>| names.into_iter().collect::<Vec<_>>().join(", ");
    let there = format!(
        "tasks: {}; candidates: {}",
        list(manifest.tasks.iter().map(|it| it.name.as_str()).collect()),
        list(manifest.plan.candidates.iter().map(|it| it.name()).collect()),
    );
    Failure::NothingSelected { record: args.record.clone(), wanted, there }
}
