//! The ranking, and what a reader must know to read it rightly.

use std::collections::BTreeMap;

use fairtrial_core::plan::{PublishedFigure, ReadingMode};
use fairtrial_core::standings::{
    Comparison, Dimension, FrontierStep, Offer, Scope, Standing, Standings, best_within, failures,
    frontier,
};
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::FailReason;

use super::notes::{Note, notes, tiers, told_apart};
use super::source::{Only, StandingsError, StandingsSource};

/// What of the standings is wanted.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct StandingsOptions {
    /// By what it is sliced.
    pub by: Option<Dimension>,
    /// Only some candidates or tasks; empty: all.
    pub only: Vec<Only>,
    /// Attempts that a trial may take to count as solved; `None`: as many as it had.
    pub within: Option<u32>,
    /// What a trial may cost, for the best within that.
    pub budget: Option<f64>,
}

/// The ranking of a record, or of several.
#[derive(Debug, Clone, PartialEq)]
pub struct StandingsView {
    /// What the run is called; may be empty.
    pub title: String,
    /// The currency of costs.
    pub currency: String,
    /// Tasks.
    pub tasks: usize,
    /// Samples of each.
    pub samples: u32,
    /// Attempts that each trial may have.
    pub attempts: u32,
    /// Attempts that a trial may take to count as solved here; `None`: as many as it had.
    pub within: Option<u32>,
    /// How answers were read.
    pub reading: ReadingMode,
    /// Whether all trials are over.
    pub complete: bool,
    /// The tiers in which code was confined.
    pub tiers: Vec<String>,
    /// The candidates, the best first.
    pub rows: Vec<Standing>,
    /// Every pair.
    pub comparisons: Vec<Comparison>,
    /// Rankings over fewer tasks: one for each choice of tasks that some candidates stand for alone.
    /// The ranking above has only candidates that stand for all.
    pub narrower: Vec<NarrowStandings>,
    /// The ranking by slices, where it was asked for.
    pub slices: Vec<Slice>,
    /// Why trials failed, where it was asked for.
    pub reasons: Option<ReasonsView>,
    /// Candidates that nobody beats at their price, the cheapest first; empty where nothing has a price.
    pub by_cost: Vec<NamedStep>,
    /// Candidates that nobody beats in their time, the fastest first.
    pub by_time: Vec<NamedStep>,
    /// The best within the budget that was named.
    pub best: Option<BudgetBest>,
    /// Figures that others published.
    pub published: Vec<PublishedRow>,
    /// Trouble on the way, of candidates that had any.
    pub trouble: Vec<TroubleRow>,
    /// What a reader must know.
    pub notes: Vec<Note>,
}

/// A candidate on a frontier.
#[derive(Debug, Clone, PartialEq)]
pub struct NamedStep {
    /// Its name.
    pub name: String,
    /// Money or seconds for each trial.
    pub price: f64,
    /// Its solved rate.
    pub rate: f64,
    /// What each further percentage point costs over the step before; `None` at the first.
    pub per_point: Option<f64>,
}

/// Who is best within a budget.
#[derive(Debug, Clone, PartialEq)]
pub struct BudgetBest {
    /// What a trial may cost.
    pub budget: f64,
    /// Who is best; `None` when everybody costs more.
    pub best: Option<NamedStep>,
}

/// A published figure beside one's own.
#[derive(Debug, Clone, PartialEq)]
pub struct PublishedRow {
    /// What was published.
    pub figure: PublishedFigure,
    /// The same as measured here; `None` where it was not.
    pub own: Option<f64>,
}

/// The ranking over a slice.
#[derive(Debug, Clone, PartialEq)]
pub struct Slice {
    /// By what it was sliced.
    pub by: String,
    /// Which slice.
    pub name: String,
    /// Its tasks.
    pub tasks: usize,
    /// The candidates that stand for all of its tasks, the best first.
    pub rows: Vec<Standing>,
    /// Every pair.
    pub comparisons: Vec<Comparison>,
}

/// Why trials failed.
#[derive(Debug, Clone, PartialEq)]
pub struct ReasonsView {
    /// The candidates with their trials that count.
    pub candidates: Vec<(String, usize)>,
    /// For each reason that occurred, trials of each candidate.
    pub rows: Vec<(FailReason, Vec<usize>)>,
}

/// In how many trials of a candidate trouble was seen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TroubleRow {
    /// Its name.
    pub name: String,
    /// Trials in which it was looked for, void ones left out.
    pub trials: u32,
    /// Of these, those with each sort.
    pub seen: Trouble,
}

/// The ranking over some of the tasks, of all candidates that stand for them.
#[derive(Debug, Clone, PartialEq)]
pub struct NarrowStandings {
    /// The tasks.
    pub tasks: Vec<String>,
    /// The candidates, the best first.
    pub rows: Vec<Standing>,
    /// Every pair.
    pub comparisons: Vec<Comparison>,
    /// What a reader must know.
    pub notes: Vec<Note>,
}

/// Computes the standings of what records say together.
///
/// # Errors
/// When nothing is as the options ask for.
pub fn standings_view(
    source: &StandingsSource<'_>,
    options: &StandingsOptions,
) -> Result<StandingsView, StandingsError> {
    let scope = source.scope(&options.only, options.within)?;
    let results = &source.results;
    let Standings { candidates: rows, comparisons } = ranked(source, &scope);
    let slices = slices(source, &scope, options.by.as_ref())?;
    let everybody = everybody(source, &scope, &rows);
    let by_cost = match rows.iter().any(|it| it.cost() > 0.0) {
        true => steps(&rows, Standing::cost_per_trial),
        false => Vec::new(),
    };
    Ok(StandingsView {
        title: source.title(),
        currency: source.first().plan.currency.clone(),
        tasks: scope.tasks.len(),
        samples: results.samples() as u32,
        attempts: source.attempts(),
        within: options.within,
        reading: source.reading(),
        complete: results.over() == source.wanted,
        tiers: tiers(source),
        by_cost,
        by_time: steps(&rows, Standing::seconds_per_trial),
        best: options.budget.map(|budget| best(&rows, budget)),
        published: published(source, &everybody),
        trouble: trouble(&everybody),
        notes: notes(source, options.within, &everybody, &comparisons),
        narrower: narrower(source, &scope),
        reasons: (options.by == Some(Dimension::Reason))
            .then(|| reasons(source, &scope, &everybody)),
        rows,
        comparisons,
        slices,
    })
}

/// Every candidate's row over the tasks that it did: those of the ranking, and those that stand for fewer tasks.
fn everybody(source: &StandingsSource<'_>, scope: &Scope, rows: &[Standing]) -> Vec<Standing> {
    let of = |&who: &usize| {
        let ranked = rows.iter().find(|it| it.candidate == who).cloned();
        ranked.or_else(|| {
            let alone = Scope { candidates: vec![who], ..scope.clone() };
            Standings::compute(&source.results, &alone, source.attempts()).candidates.pop()
        })
    };
    scope.candidates.iter().filter_map(of).collect()
}

/// The standings of the candidates of a scope that stand for all of its tasks.
fn ranked(source: &StandingsSource<'_>, scope: &Scope) -> Standings {
    let stands = |&who: &usize| {
        let own = &source.stands[who];
        scope.tasks.iter().all(|task| own.binary_search(task).is_ok())
    };
    let candidates = scope.candidates.iter().copied().filter(stands).collect();
    let scope = Scope { candidates, ..scope.clone() };
    Standings::compute(&source.results, &scope, source.attempts())
}

/// A ranking for each choice of tasks that some candidate stands for alone.
fn narrower(source: &StandingsSource<'_>, scope: &Scope) -> Vec<NarrowStandings> {
    let mut choices: Vec<Vec<usize>> = Vec::new();
    for &who in &scope.candidates {
        let is_in_scope = |task: &&usize| scope.tasks.binary_search(task).is_ok();
        let own: Vec<usize> = source.stands[who].iter().filter(is_in_scope).copied().collect();
        if !own.is_empty() && own.len() < scope.tasks.len() && !choices.contains(&own) {
            choices.push(own);
        }
    }
    let ranking = |tasks: Vec<usize>| {
        let names = tasks.iter().map(|&it| source.results.tasks()[it].name.clone()).collect();
        let found = ranked(source, &Scope { tasks, ..scope.clone() });
        NarrowStandings {
            tasks: names,
            notes: told_apart(&found.comparisons).into_iter().collect(),
            rows: found.candidates,
            comparisons: found.comparisons,
        }
    };
    choices.into_iter().map(ranking).collect()
}

fn slices(
    source: &StandingsSource<'_>,
    scope: &Scope,
    by: Option<&Dimension>,
) -> Result<Vec<Slice>, StandingsError> {
    let Some(by) = by.filter(|it| **it != Dimension::Reason) else { return Ok(Vec::new()) };
    let slices = scope.slices(by, &source.results, &source.labels);
    if slices.is_empty() {
        let labels = source.labels.iter().flat_map(|it| it.keys());
        let mut there: Vec<String> = labels.map(|it| format!("label:{it}")).collect();
        there.sort();
        there.dedup();
        let (what, wanted) = ("slice".to_owned(), by.word());
        return Err(StandingsError::NothingSo { what, wanted, there });
    }
    let slice = |(name, scope): (String, Scope)| {
        let found = ranked(source, &scope);
        Slice {
            by: by.word(),
            name,
            tasks: scope.tasks.len(),
            rows: found.candidates,
            comparisons: found.comparisons,
        }
    };
    Ok(slices.into_iter().map(slice).collect())
}

fn reasons(source: &StandingsSource<'_>, scope: &Scope, rows: &[Standing]) -> ReasonsView {
    let mut order: Vec<&Standing> = rows.iter().filter(|it| it.trials > 0).collect();
    order.sort_by(|a, b| rate(b).total_cmp(&rate(a)));
    let mut by_reason = BTreeMap::<FailReason, Vec<usize>>::new();
    for (place, row) in order.iter().enumerate() {
        for (reason, count) in failures(&source.results, scope, row.candidate) {
            by_reason.entry(reason).or_insert_with(|| vec![0; order.len()])[place] = count;
        }
    }
    let mut rows: Vec<(FailReason, Vec<usize>)> = by_reason.into_iter().collect();
    rows.sort_by_key(|it| std::cmp::Reverse(it.1.iter().sum::<usize>()));
    ReasonsView { candidates: order.iter().map(|it| (it.name.clone(), it.trials)).collect(), rows }
}

fn rate(row: &Standing) -> f64 {
    row.solved_rate.unwrap_or(-1.0)
}

fn offers(rows: &[Standing], price: fn(&Standing) -> Option<f64>) -> Vec<Offer> {
    let offer = |(place, row): (usize, &Standing)| {
        Some(Offer { place, price: price(row)?, rate: row.solved_rate? })
    };
    rows.iter().enumerate().filter_map(offer).collect()
}

fn named(rows: &[Standing], offer: Offer, per_point: Option<f64>) -> NamedStep {
    let Offer { place, price, rate } = offer;
    NamedStep { name: rows[place].name.clone(), price, rate, per_point }
}

fn steps(rows: &[Standing], price: fn(&Standing) -> Option<f64>) -> Vec<NamedStep> {
    let step = |it: FrontierStep| named(rows, it.offer, it.per_point);
    frontier(&offers(rows, price)).into_iter().map(step).collect()
}

fn best(rows: &[Standing], budget: f64) -> BudgetBest {
    let best = best_within(&offers(rows, Standing::cost_per_trial), budget);
    BudgetBest { budget, best: best.map(|it| named(rows, it, None)) }
}

fn published(source: &StandingsSource<'_>, rows: &[Standing]) -> Vec<PublishedRow> {
    let own = |figure: &PublishedFigure| {
        let row = rows.iter().find(|it| it.name == figure.candidate)?;
        match figure.measure.as_str() {
            "solved" => row.solved_rate,
            "first try" => row.first_try_rate,
            _ => None,
        }
    };
    let all = source.published().into_iter();
    all.map(|figure| PublishedRow { own: own(&figure), figure }).collect()
}

fn trouble(rows: &[Standing]) -> Vec<TroubleRow> {
    rows.iter()
        .map(|row| {
            let (seen, trials) = row.trouble();
            TroubleRow { name: row.name.clone(), trials, seen }
        })
        .filter(|it| it.seen.most() > 0)
        .collect()
}
