//! What fits where records are put together, and what does not.

use std::collections::{BTreeSet, HashMap};

use fairtrial_core::standings::TaskFacts;
use fairtrial_record::{Manifest, TaskNote};

/// What does not fit where records are put together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum JoinNote {
    /// Tasks of the same name that are not the same: they are left out.
    OtherTasks(Vec<String>),
    /// A candidate of the same name with another configuration: it has a row of its own.
    OtherCandidate {
        /// What it is called here.
        name: String,
    },
    /// A setting that is not the same in all of them.
    OtherSetting(String),
}

/// Every task once; what is called alike and is not the same is left out.
pub(super) fn joint_tasks<'a>(
    manifests: &[&'a Manifest],
    notes: &mut Vec<JoinNote>,
) -> Vec<&'a TaskNote> {
    let mut tasks: Vec<&TaskNote> = Vec::new();
    let mut places = HashMap::<&str, usize>::new();
    let mut others = BTreeSet::<String>::new();
    for task in manifests.iter().flat_map(|it| &it.tasks) {
        match places.get(task.name.as_str()).map(|&it| tasks[it]) {
            None => {
                places.insert(&task.name, tasks.len());
                tasks.push(task);
            }
            Some(known) if known.digest != task.digest => {
                others.insert(task.name.clone());
            }
            Some(_) => {}
        }
    }
    tasks.retain(|it| !others.contains(&it.name));
    if !others.is_empty() {
        notes.push(JoinNote::OtherTasks(others.into_iter().collect()));
    }
    tasks
}

/// Settings that make trials of different records incomparable.
pub(super) fn other_settings(manifests: &[&Manifest]) -> Vec<JoinNote> {
    let differ = |what: &str, of: fn(&Manifest) -> String| {
        let first = of(manifests[0]);
        let other = manifests.iter().map(|it| of(it)).find(|it| *it != first)?;
        Some(JoinNote::OtherSetting(format!("{what}: {first} and {other}")))
    };
    [
        differ("attempts", |it| it.plan.attempts.to_string()),
        differ("feedback", |it| it.plan.feedback.to_string()),
        differ("reading", |it| it.plan.reading.to_string()),
        differ("version of the tool", |it| {
            it.machines.last().map_or_else(String::new, |machine| machine.fairtrial.clone())
        }),
    ]
    .into_iter()
    .flatten()
    .collect()
}

/// What standings know of a task.
pub(super) fn facts(note: &TaskNote) -> TaskFacts {
    TaskFacts {
        name: note.name.clone(),
        docket: note.docket.clone(),
        category: note.category.clone(),
        difficulty: note.difficulty,
        language: note.language.clone(),
        form: note.form.clone(),
        tags: note.tags.clone(),
        points: note.points,
        weight: note.weight,
    }
}
