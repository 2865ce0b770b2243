//! What the results say of the tasks, and of candidates that fail alike.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use fairtrial_core::standings::{Scope, TaskStanding, WrongValues, kappa, task_standings, wilson};
use fairtrial_record::RecordError;

use super::source::StandingsSource;

/// The tasks, as they were found.
#[derive(Debug, Clone, PartialEq)]
pub struct TasksView {
    /// One row each, in the order of the record.
    pub rows: Vec<TaskRow>,
}

/// A task, as it was found.
#[derive(Debug, Clone, PartialEq)]
pub struct TaskRow {
    /// Its name.
    pub name: String,
    /// Its category.
    pub category: String,
    /// Its difficulty as it was set.
    pub set_difficulty: u8,
    /// How it was found.
    pub found: TaskStanding,
    /// Sealed tests that were run and that nobody ever passed, although somebody passed another one.
    pub never_passed: Vec<String>,
}

/// Pairs of candidates, those that fail most alike first.
#[derive(Debug, Clone, PartialEq)]
pub struct AlikeView {
    /// One row a pair.
    pub rows: Vec<AlikeRow>,
}

/// How alike two candidates fail.
#[derive(Debug, Clone, PartialEq)]
pub struct AlikeRow {
    /// Their names.
    pub names: (String, String),
    /// Tasks that both did.
    pub tasks: usize,
    /// Agreement beyond chance in which tasks they solve (see [`kappa`]).
    pub kappa: Option<f64>,
    /// Tests that both failed with a wrong value, at the first attempt.
    pub wrong: WrongValues,
}

/// How the tasks of a scope were found. Reads every distinct outcome of tests in the records.
///
/// # Errors
/// When a record cannot be read.
pub fn tasks_view(source: &StandingsSource<'_>, scope: &Scope) -> Result<TasksView, RecordError> {
    let results = &source.results;
    let mut never = BTreeMap::<String, Vec<String>>::new();
    for record in &source.records {
        for (task, tests) in record.tests_never_passed()? {
            never.entry(task).or_default().extend(tests);
        }
    }
    let row = |found: TaskStanding| {
        let facts = &results.tasks()[found.task];
        TaskRow {
            name: facts.name.clone(),
            category: facts.category.clone(),
            set_difficulty: facts.difficulty,
            found,
            never_passed: never.remove(&facts.name).unwrap_or_default(),
        }
    };
    Ok(TasksView { rows: task_standings(results, scope).into_iter().map(row).collect() })
}

/// How alike the candidates of a scope fail, pair by pair. Reads the outcomes of every first attempt that
/// failed.
///
/// # Errors
/// When a record cannot be read.
pub fn alike_view(source: &StandingsSource<'_>, scope: &Scope) -> Result<AlikeView, RecordError> {
    let results = &source.results;
    // Wrong values of each candidate, by task and test.
    let mut wrong = HashMap::<String, HashMap<(String, String), BTreeSet<String>>>::new();
    let tasks: BTreeSet<&str> =
        scope.tasks.iter().map(|&it| results.tasks()[it].name.as_str()).collect();
    for (record, names) in source.named_records() {
        record.each_wrong_value(|candidate, task, test, value| {
            let Some(&candidate) = names.get(candidate) else { return };
            if tasks.contains(task) {
                let own = wrong.entry(candidate.to_owned()).or_default();
                let at = own.entry((task.to_owned(), test.to_owned())).or_default();
                at.insert(value.to_owned());
            }
        })?;
    }
    let none = HashMap::new();
    let mut rows = Vec::new();
    for (at, &a) in scope.candidates.iter().enumerate() {
        for &b in &scope.candidates[at + 1..] {
            let names = (results.candidates()[a].clone(), results.candidates()[b].clone());
            let pairs = solved_shares(source, scope, a, b);
            let of = |name: &str| wrong.get(name).unwrap_or(&none);
            let wrong = same_values(of(&names.0), of(&names.1));
            rows.push(AlikeRow { names, tasks: pairs.len(), kappa: kappa(&pairs), wrong });
        }
    }
    // By what the share of equal values is at least, so that a few chance ones do not come first.
    let share = |it: &AlikeRow| match it.wrong {
        WrongValues { both: 0, .. } => 0.0,
        WrongValues { both, same } => wilson(same as f64 / both as f64, both as f64).0,
    };
    let beyond = |it: &AlikeRow| it.kappa.unwrap_or(-2.0);
    rows.sort_by(|a, b| share(b).total_cmp(&share(a)).then(beyond(b).total_cmp(&beyond(a))));
    Ok(AlikeView { rows })
}

/// The shares of samples that two candidates solved, at the tasks that both did.
fn solved_shares(
    source: &StandingsSource<'_>,
    scope: &Scope,
    a: usize,
    b: usize,
) -> Vec<(f64, f64)> {
    let within = scope.within.unwrap_or(u32::MAX);
    let share = |who: usize, task: usize| {
        let (passed, trials) = source.results.counts(who, task, within);
        (trials > 0).then(|| f64::from(passed) / f64::from(trials))
    };
    scope.tasks.iter().filter_map(|&task| share(a, task).zip(share(b, task))).collect()
}

fn same_values(
    a: &HashMap<(String, String), BTreeSet<String>>,
    b: &HashMap<(String, String), BTreeSet<String>>,
) -> WrongValues {
    let both = a.iter().filter_map(|(test, own)| Some((own, b.get(test)?)));
    both.fold(WrongValues::default(), |sum, (own, other)| WrongValues {
        both: sum.both + 1,
        same: sum.same + usize::from(!own.is_disjoint(other)),
    })
}
