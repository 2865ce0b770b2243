//! The ranking, for programs.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::io::{self, Write};

use fairtrial_core::standings::{Comparison, Standing, TaskOddity};
use fairtrial_core::trouble::Trouble;
use serde::Serialize;

use super::write_json;
use crate::text::standings_notes;
use crate::view::{
    AlikeRow, AlikeView, MatrixCell, MatrixRow, MatrixView, NamedStep, NarrowStandings,
    PublishedRow, ReasonsView, Slice, StandingsView, TaskRow, TasksView, TroubleRow,
};

/// The version of this output.
const FORMAT_VERSION: u32 = 1;

#[derive(Serialize)]
struct StandingsOutput<'a> {
    format_version: u32,
    title: &'a str,
    currency: &'a str,
    tasks: usize,
    samples: u32,
    attempts: u32,
    reading: &'a str,
    complete: bool,
    tiers: Vec<&'a str>,
    candidates: Vec<CandidateOutput<'a>>,
    comparisons: Vec<PairOutput<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    narrower: Vec<NarrowOutput<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    slices: Vec<SliceOutput<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    reasons: Vec<ReasonOutput<'a>>,
    frontier: FrontierOutput<'a>,
    #[serde(skip_serializing_if = "Option::is_none")]
    best_within_budget: Option<BudgetOutput<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    published: Vec<PublishedOutput<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    trouble: Vec<TroubleOutput<'a>>,
    notes: Vec<String>,
    #[serde(flatten)]
    more: MoreOutput<'a>,
}

/// What is there only where it was asked for.
#[derive(Default, Serialize)]
struct MoreOutput<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    matrix: Option<Vec<MatrixOutput<'a>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    found_tasks: Option<Vec<FoundTaskOutput<'a>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    alike: Option<Vec<AlikeOutput<'a>>>,
}

#[derive(Serialize)]
struct MatrixOutput<'a> {
    task: &'a str,
    category: &'a str,
    solved_rate: Option<f64>,
    cells: Vec<CellOutput<'a>>,
}

#[derive(Serialize)]
struct CellOutput<'a> {
    candidate: &'a str,
    solved: u32,
    trials: u32,
    void: u32,
}

#[derive(Serialize)]
struct FoundTaskOutput<'a> {
    task: &'a str,
    category: &'a str,
    candidates: usize,
    solved_by: usize,
    trials: usize,
    solved: usize,
    solved_rate: Option<f64>,
    set_difficulty: u8,
    found_difficulty: Option<u8>,
    discrimination: Option<f64>,
    unstable: usize,
    oddity: Option<&'a str>,
    never_passed: &'a [String],
}

#[derive(Serialize)]
struct AlikeOutput<'a> {
    first: &'a str,
    second: &'a str,
    tasks: usize,
    kappa: Option<f64>,
    both_wrong: usize,
    same_wrong: usize,
}

#[derive(Serialize)]
struct SliceOutput<'a> {
    by: &'a str,
    name: &'a str,
    tasks: usize,
    candidates: Vec<CandidateOutput<'a>>,
    comparisons: Vec<PairOutput<'a>>,
}

#[derive(Serialize)]
struct ReasonOutput<'a> {
    reason: &'a str,
    candidates: Vec<ReasonCountOutput<'a>>,
}

#[derive(Serialize)]
struct ReasonCountOutput<'a> {
    name: &'a str,
    failed: usize,
    trials: usize,
}

#[derive(Serialize)]
struct FrontierOutput<'a> {
    cost: Vec<StepOutput<'a>>,
    time: Vec<StepOutput<'a>>,
}

#[derive(Serialize)]
struct StepOutput<'a> {
    candidate: &'a str,
    solved_rate: f64,
    per_trial: f64,
    per_point: Option<f64>,
}

#[derive(Serialize)]
struct BudgetOutput<'a> {
    budget: f64,
    candidate: Option<&'a str>,
}

#[derive(Serialize)]
struct PublishedOutput<'a> {
    candidate: &'a str,
    measure: &'a str,
    value: f64,
    source: &'a str,
    own: Option<f64>,
}

#[derive(Serialize)]
struct TroubleOutput<'a> {
    candidate: &'a str,
    trials: u32,
    #[serde(flatten)]
    seen: Trouble,
}

#[derive(Serialize)]
struct NarrowOutput<'a> {
    tasks: &'a [String],
    candidates: Vec<CandidateOutput<'a>>,
    comparisons: Vec<PairOutput<'a>>,
}

#[derive(Serialize)]
pub(super) struct CandidateOutput<'a> {
    name: &'a str,
    rank: Option<usize>,
    /// Best and worst.
    rank_range: Option<[usize; 2]>,
    trials: usize,
    solved: usize,
    solved_rate: Option<f64>,
    interval: Option<[f64; 2]>,
    first_try: usize,
    first_try_rate: Option<f64>,
    mean_repairs: Option<f64>,
    repair_curve: &'a [f64],
    pass_at: BTreeMap<usize, f64>,
    consistency: Option<f64>,
    spread: Option<SpreadOutput>,
    points_rate: Option<f64>,
    strict: usize,
    refused: usize,
    void: usize,
    void_reasons: BTreeMap<&'a str, usize>,
    cost: f64,
    cost_per_trial: Option<f64>,
    cost_per_solved: Option<f64>,
    seconds: f64,
    seconds_per_trial: Option<f64>,
    seconds_per_solved: Option<f64>,
    tokens_input: u64,
    tokens_cached: u64,
    tokens_output: u64,
    answers: u32,
    answers_deviating: u32,
}

#[derive(Serialize)]
struct SpreadOutput {
    repeats: usize,
    mean: f64,
    deviation: Option<f64>,
}

#[derive(Serialize)]
pub(super) struct PairOutput<'a> {
    first: &'a str,
    second: &'a str,
    tasks: usize,
    wins: usize,
    ties: usize,
    losses: usize,
    difference: f64,
    interval: Option<[f64; 2]>,
    p: f64,
    p_adjusted: f64,
    exact: bool,
    unequal_samples: usize,
    established: bool,
}

/// Further views that were asked for.
#[derive(Debug, Default)]
pub struct StandingsExtras {
    /// Tasks by candidates.
    pub matrix: Option<MatrixView>,
    /// How the tasks were found.
    pub tasks: Option<TasksView>,
    /// Which candidates fail alike.
    pub alike: Option<AlikeView>,
}

/// Writes the standings as JSON.
///
/// # Errors
/// When the writer fails.
pub fn standings_json(
    out: &mut dyn Write,
    view: &StandingsView,
    extras: &StandingsExtras,
) -> io::Result<()> {
    let output = StandingsOutput {
        format_version: FORMAT_VERSION,
        title: &view.title,
        currency: &view.currency,
        tasks: view.tasks,
        samples: view.samples,
        attempts: view.attempts,
        reading: view.reading.word(),
        complete: view.complete,
        tiers: view.tiers.iter().map(String::as_str).collect(),
        candidates: view.rows.iter().map(row).collect(),
        comparisons: view.comparisons.iter().map(pair).collect(),
        narrower: view.narrower.iter().map(narrow).collect(),
        slices: view.slices.iter().map(slice).collect(),
        reasons: view.reasons.iter().flat_map(reasons).collect(),
        frontier: FrontierOutput {
            cost: view.by_cost.iter().map(step).collect(),
            time: view.by_time.iter().map(step).collect(),
        },
        best_within_budget: view.best.as_ref().map(|it| BudgetOutput {
            budget: it.budget,
            candidate: it.best.as_ref().map(|it| it.name.as_str()),
        }),
        published: view.published.iter().map(published).collect(),
        trouble: view.trouble.iter().map(trouble).collect(),
        notes: standings_notes(view),
        more: MoreOutput {
            matrix: extras.matrix.as_ref().map(matrix),
            found_tasks: extras.tasks.as_ref().map(|it| it.rows.iter().map(task).collect()),
            alike: extras.alike.as_ref().map(|it| it.rows.iter().map(alike).collect()),
        },
    };
    write_json(out, &output)
}

fn matrix(view: &MatrixView) -> Vec<MatrixOutput<'_>> {
    view.rows.iter().map(|row| matrix_row(row, &view.candidates)).collect()
}

fn matrix_row<'a>(row: &'a MatrixRow, candidates: &'a [String]) -> MatrixOutput<'a> {
    let cells = row.cells.iter().zip(candidates);
    MatrixOutput {
        task: &row.task,
        category: &row.category,
        solved_rate: row.found.solved_rate,
        cells: cells
            .map(|(&MatrixCell { solved, trials, void }, candidate)| CellOutput {
                candidate,
                solved,
                trials,
                void,
            })
            .collect(),
    }
}

fn task(row: &TaskRow) -> FoundTaskOutput<'_> {
    let found = &row.found;
    FoundTaskOutput {
        task: &row.name,
        category: &row.category,
        candidates: found.candidates,
        solved_by: found.solved_by,
        trials: found.trials,
        solved: found.solved,
        solved_rate: found.solved_rate,
        set_difficulty: row.set_difficulty,
        found_difficulty: found.found_difficulty,
        discrimination: found.discrimination,
        unstable: found.unstable,
        oddity: found.oddity.map(TaskOddity::word),
        never_passed: &row.never_passed,
    }
}

fn alike(row: &AlikeRow) -> AlikeOutput<'_> {
    AlikeOutput {
        first: &row.names.0,
        second: &row.names.1,
        tasks: row.tasks,
        kappa: row.kappa,
        both_wrong: row.wrong.both,
        same_wrong: row.wrong.same,
    }
}

fn slice(slice: &Slice) -> SliceOutput<'_> {
    SliceOutput {
        by: &slice.by,
        name: &slice.name,
        tasks: slice.tasks,
        candidates: slice.rows.iter().map(row).collect(),
        comparisons: slice.comparisons.iter().map(pair).collect(),
    }
}

fn reasons(view: &ReasonsView) -> impl Iterator<Item = ReasonOutput<'_>> {
    view.rows.iter().map(|(reason, counts)| ReasonOutput {
        reason: reason.word(),
        candidates: view
            .candidates
            .iter()
            .zip(counts)
            .map(|((name, trials), failed)| ReasonCountOutput {
                name,
                failed: *failed,
                trials: *trials,
            })
            .collect(),
    })
}

fn step(step: &NamedStep) -> StepOutput<'_> {
    StepOutput {
        candidate: &step.name,
        solved_rate: step.rate,
        per_trial: step.price,
        per_point: step.per_point,
    }
}

fn published(row: &PublishedRow) -> PublishedOutput<'_> {
    PublishedOutput {
        candidate: &row.figure.candidate,
        measure: &row.figure.measure,
        value: row.figure.value,
        source: &row.figure.source,
        own: row.own,
    }
}

fn trouble(row: &TroubleRow) -> TroubleOutput<'_> {
    TroubleOutput { candidate: &row.name, trials: row.trials, seen: row.seen }
}

fn narrow(narrow: &NarrowStandings) -> NarrowOutput<'_> {
    NarrowOutput {
        tasks: &narrow.tasks,
        candidates: narrow.rows.iter().map(row).collect(),
        comparisons: narrow.comparisons.iter().map(pair).collect(),
    }
}

pub(super) fn row(row: &Standing) -> CandidateOutput<'_> {
    CandidateOutput {
        name: &row.name,
        rank: row.rank,
        rank_range: row.rank_range.map(|(best, worst)| [best, worst]),
        trials: row.trials,
        solved: row.solved,
        solved_rate: row.solved_rate,
        interval: row.interval.map(|(low, high)| [low, high]),
        first_try: row.first_try,
        first_try_rate: row.first_try_rate,
        mean_repairs: row.mean_repairs,
        repair_curve: &row.repair_curve,
        pass_at: row.pass_at.iter().enumerate().map(|(at, rate)| (at + 1, *rate)).collect(),
        consistency: row.consistency,
        spread: row.spread.map(|it| SpreadOutput {
            repeats: it.repeats,
            mean: it.mean,
            deviation: it.deviation,
        }),
        points_rate: row.points_rate,
        strict: row.strict,
        refused: row.refused,
        void: row.void,
        void_reasons: row.void_reasons.iter().map(|it| (it.0.word(), *it.1)).collect(),
        cost: row.cost(),
        cost_per_trial: row.cost_per_trial(),
        cost_per_solved: row.cost_per_solved(),
        seconds: row.sums.seconds,
        seconds_per_trial: row.seconds_per_trial(),
        seconds_per_solved: row.seconds_per_solved(),
        tokens_input: row.sums.tokens.input,
        tokens_cached: row.sums.tokens.cached,
        tokens_output: row.sums.tokens.output,
        answers: row.sums.answers,
        answers_deviating: row.sums.deviating,
    }
}

pub(super) fn pair(pair: &Comparison) -> PairOutput<'_> {
    PairOutput {
        first: &pair.names.0,
        second: &pair.names.1,
        tasks: pair.tasks,
        wins: pair.wins,
        ties: pair.tasks - pair.wins - pair.losses,
        losses: pair.losses,
        difference: pair.difference,
        interval: pair.interval.map(|(low, high)| [low, high]),
        p: pair.p,
        p_adjusted: pair.p_adjusted,
        exact: pair.exact,
        unequal_samples: pair.unequal,
        established: pair.decision() != Ordering::Equal,
    }
}
