//! Tasks by candidates: what each solved.

use fairtrial_core::standings::{Scope, Standings, TaskStanding, task_standings};

use super::source::StandingsSource;

/// Tasks by candidates.
#[derive(Debug, Clone, PartialEq)]
pub struct MatrixView {
    /// The candidates, those that did most tasks first, and of these the best.
    pub candidates: Vec<String>,
    /// The tasks, the hardest last.
    pub rows: Vec<MatrixRow>,
}

/// One task.
#[derive(Debug, Clone, PartialEq)]
pub struct MatrixRow {
    /// Its name.
    pub task: String,
    /// Its category.
    pub category: String,
    /// How it was found.
    pub found: TaskStanding,
    /// Each candidate's trials at it.
    pub cells: Vec<MatrixCell>,
}

/// The trials of one candidate at one task.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct MatrixCell {
    /// Passed.
    pub solved: u32,
    /// Those that count.
    pub trials: u32,
    /// Those that are void.
    pub void: u32,
}

/// The matrix of a scope.
#[must_use]
pub fn matrix_view(source: &StandingsSource<'_>, scope: &Scope) -> MatrixView {
    let results = &source.results;
    let within = scope.within.unwrap_or(u32::MAX);
    let mut rows = Standings::compute(results, scope, 1).candidates;
    // Who did all tasks comes before who did some.
    rows.sort_by_key(|it| std::cmp::Reverse(it.tasks));
    let order: Vec<usize> = rows.into_iter().map(|it| it.candidate).collect();
    let cell = |task: usize, who: usize| {
        let (solved, trials) = results.counts(who, task, within);
        let void = results.outcomes(who, task).iter().filter(|it| it.void().is_some()).count();
        MatrixCell { solved, trials, void: void as u32 }
    };
    let mut rows: Vec<MatrixRow> = task_standings(results, scope)
        .into_iter()
        .map(|found| MatrixRow {
            task: results.tasks()[found.task].name.clone(),
            category: results.tasks()[found.task].category.clone(),
            cells: order.iter().map(|&who| cell(found.task, who)).collect(),
            found,
        })
        .collect();
    let rate = |row: &MatrixRow| row.found.solved_rate.unwrap_or(-1.0);
    rows.sort_by(|a, b| rate(b).total_cmp(&rate(a)).then_with(|| a.task.cmp(&b.task)));
    let candidates = order.iter().map(|&who| results.candidates()[who].clone()).collect();
    MatrixView { candidates, rows }
}
