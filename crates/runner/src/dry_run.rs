//! What a run would do: the very trials that it would begin, and the very prompts.

use std::path::Path;

use fairtrial_core::dry_run::{CandidateTrials, DryRun, FirstPrompt};
use fairtrial_record::{Record, Selection};

use crate::order::{TrialChoice, TrialOrder};
use crate::prepare::Preparation;
use crate::run::{RunError, differ};

/// The trials of what was prepared, and the first prompt of each task. `record` is looked at where it is there, and not
/// changed.
///
/// # Errors
/// When the record cannot be read, or belongs to another plan.
pub fn dry_run(
    preparation: &Preparation,
    record: &Path,
    choice: &TrialChoice,
) -> Result<DryRun, RunError> {
    choice.check(preparation)?;
    let (mut known, mut notes, mut aside) = (None, Vec::new(), Vec::new());
    if record.exists() {
        let opened = Record::open(record)?;
        let (manifest, wanted) = (opened.manifest(), &preparation.manifest);
        let difference = differ(preparation, manifest, wanted, choice, record)?;
        let summaries = opened.summaries(&Selection::default())?;
        aside.extend(choice.set_aside(&summaries)?.into_iter().map(|it| it.0));
        let changed = &difference.changed_tasks;
        let of_changed = summaries.into_iter().filter(|it| changed.contains(&it.key.task));
        aside.extend(of_changed.map(|it| it.key));
        (known, notes) = (Some(opened), difference.notes);
    }
    let trials = TrialOrder::new(preparation, known.as_ref(), choice, &aside)?;
    let plan = &preparation.plan;
    let candidates = plan.candidates.iter().map(|candidate| {
        let name = candidate.name();
        CandidateTrials {
            name: name.to_owned(),
            tasks: preparation.tasks.keys().filter(|it| candidate.takes(it)).count(),
            trials: trials.order.iter().filter(|it| it.candidate == name).count(),
            waiting: trials.waiting.iter().filter(|it| it.candidate == name).count(),
            system: candidate.system().map(str::to_owned),
        }
    });
    let candidates = candidates.collect();
    let mut prompts = Vec::new();
    let is_chosen = |task: &String| choice.tasks.is_empty() || choice.tasks.contains(task);
    for (task, entry) in preparation.tasks.iter().filter(|it| is_chosen(it.0)) {
        let takers = plan.candidates.iter().filter(|it| it.takes(task));
        let takers = takers.filter(|it| !entry.own_prompts.contains_key(it.name()));
        let acting: Vec<bool> =
            takers.filter_map(|it| preparation.askers.get(it.name())).map(|it| it.acts()).collect();
        for acts in [false, true].into_iter().filter(|it| acting.contains(it)) {
            let text = if acts { &entry.acting_prompt } else { &entry.prompt };
            prompts.push(FirstPrompt {
                task: task.clone(),
                acts,
                candidate: None,
                text: text.clone(),
                unfit: entry.unfit.clone(),
            });
        }
        for (candidate, own) in &entry.own_prompts {
            prompts.push(FirstPrompt {
                task: task.clone(),
                acts: false,
                candidate: Some(candidate.clone()),
                text: own.prompt.clone(),
                unfit: entry.unfit.clone(),
            });
        }
    }
    let (samples, attempts) = (plan.samples, plan.attempts);
    Ok(DryRun { candidates, prompts, samples, attempts, notes })
}
