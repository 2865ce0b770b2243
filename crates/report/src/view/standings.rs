//! The ranking, and what a reader must know to read it rightly.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use fairtrial_core::plan::{PublishedFigure, ReadingMode};
use fairtrial_core::standings::{
    Comparison, Dimension, FrontierStep, Offer, Results, Scope, Standing, Standings, best_within,
    failures, frontier,
};
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::{FailReason, VoidReason};

use super::source::{JoinNote, Only, StandingsError, StandingsSource};

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

/// Something that a reader must know.
#[derive(Debug, Clone, PartialEq)]
pub enum Note {
    /// Of so many pairs so many are told apart.
    ToldApart {
        /// Pairs.
        pairs: usize,
        /// Of these, those of which one is established better.
        established: usize,
    },
    /// Pairs that were compared over tasks with more trials of one than of the other.
    Unequal(usize),
    /// Pairs whose p values are not exact, since differences were rounded to a common step.
    Rounded(usize),
    /// Answers that were not in the form asked for.
    Deviating {
        /// How they were read.
        reading: ReadingMode,
        /// Whose.
        candidates: Vec<Deviations>,
    },
    /// Candidates were shown sealed tests.
    OpenFeedback,
    /// Void trials, by reason.
    Void(Vec<(VoidReason, usize)>),
    /// Trials that a person helped with.
    Helped(Vec<Helped>),
    /// Not all trials are over.
    Incomplete {
        /// Trials that are.
        over: usize,
        /// Trials that should be.
        wanted: usize,
    },
    /// Some token counts are estimates.
    EstimatedTokens,
    /// Some code ran in the plain tier.
    PlainTier,
    /// Some code was not confined.
    TrustedTier,
    /// The run was made in so many different environments.
    Environments(usize),
    /// Candidates have system texts that are not the same.
    OtherPrompts(Vec<String>),
    /// Only trials solved within so many attempts count as solved.
    Within(u32),
    /// Verdicts are those of the grading begun then; so many trials keep their first one.
    Regraded {
        /// When it was begun.
        begun: String,
        /// Trials that it did not judge.
        not_regraded: usize,
    },
    /// Something does not fit where records were put together.
    Join(JoinNote),
}

/// How often a candidate was helped.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Helped {
    /// Its name.
    pub name: String,
    /// Trials in which it was helped.
    pub trials: usize,
    /// Of these, those that passed.
    pub passed: usize,
}

/// How often a candidate did not answer in the form asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deviations {
    /// Its name.
    pub name: String,
    /// Answers with a deviation.
    pub deviating: usize,
    /// Answers.
    pub answers: usize,
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
        notes: notes(source, options, &everybody, &comparisons),
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
        let is_in_scope = |task: &&usize| scope.tasks.contains(task);
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

/// How many pairs are told apart; `None` where there is no pair.
fn told_apart(comparisons: &[Comparison]) -> Option<Note> {
    let established = comparisons.iter().filter(|it| it.decision() != Ordering::Equal).count();
    let pairs = comparisons.len();
    (pairs > 0).then_some(Note::ToldApart { pairs, established })
}

/// The tiers in which code was confined, each once.
fn tiers(source: &StandingsSource<'_>) -> Vec<String> {
    let mut tiers: Vec<String> = Vec::new();
    for tier in source.records.iter().flat_map(|it| it.manifest().tiers()) {
        if !tiers.iter().any(|it| it == tier) {
            tiers.push(tier.to_owned());
        }
    }
    tiers
}

fn notes(
    source: &StandingsSource<'_>,
    options: &StandingsOptions,
    rows: &[Standing],
    comparisons: &[Comparison],
) -> Vec<Note> {
    let count = |of: fn(&Comparison) -> bool| comparisons.iter().filter(|it| of(it)).count();
    let some = |count: usize, note: fn(usize) -> Note| (count > 0).then(|| note(count));
    let mut notes: Vec<Note> = told_apart(comparisons).into_iter().collect();
    notes.extend(options.within.map(Note::Within));
    let not_regraded = source.not_regraded;
    notes.extend(source.grading.clone().map(|begun| Note::Regraded { begun, not_regraded }));
    notes.extend(source.notes.iter().cloned().map(Note::Join));
    notes.extend(void(rows));
    let (over, wanted) = (source.results.over(), source.wanted);
    notes.extend((over < wanted).then_some(Note::Incomplete { over, wanted }));
    notes.extend(deviating(source.reading(), rows));
    notes.extend(helped(rows));
    notes.extend(other_prompts(source));
    notes.extend(source.has_open_feedback().then_some(Note::OpenFeedback));
    notes.extend(some(count(|it| it.unequal > 0), Note::Unequal));
    notes.extend(some(count(|it| !it.exact), Note::Rounded));
    notes.extend(rows.iter().any(|it| it.sums.estimated > 0).then_some(Note::EstimatedTokens));
    notes.extend(tiers(source).iter().filter_map(|it| match it.as_str() {
        "full" => None,
        "plain" => Some(Note::PlainTier),
        _ => Some(Note::TrustedTier),
    }));
    let machines = source.records.iter().map(|it| it.manifest().machines.len());
    notes.extend(machines.max().filter(|it| *it > 1).map(Note::Environments));
    notes
}

fn void(rows: &[Standing]) -> Option<Note> {
    let mut reasons = BTreeMap::<VoidReason, usize>::new();
    for (reason, count) in rows.iter().flat_map(|it| &it.void_reasons) {
        *reasons.entry(*reason).or_default() += count;
    }
    (!reasons.is_empty()).then(|| Note::Void(reasons.into_iter().collect()))
}

fn deviating(reading: ReadingMode, rows: &[Standing]) -> Option<Note> {
    let some = rows.iter().filter(|row| row.sums.deviating > 0);
    let candidates: Vec<Deviations> = some
        .map(|row| Deviations {
            name: row.name.clone(),
            deviating: row.sums.deviating as usize,
            answers: row.sums.answers as usize,
        })
        .collect();
    (!candidates.is_empty()).then_some(Note::Deviating { reading, candidates })
}

fn helped(rows: &[Standing]) -> Option<Note> {
    let some = rows.iter().filter(|it| it.sums.helped > 0);
    let helped: Vec<Helped> = some
        .map(|row| Helped {
            name: row.name.clone(),
            trials: row.sums.helped as usize,
            passed: row.sums.helped_passed as usize,
        })
        .collect();
    (!helped.is_empty()).then_some(Note::Helped(helped))
}

/// Candidates that have a system text which is not that of the first candidate.
fn other_prompts(source: &StandingsSource<'_>) -> Option<Note> {
    let of = |results: &Results, place: usize| results.candidates()[place].clone();
    let first = source.candidates.first()?.system();
    let others = source.candidates.iter().enumerate().filter(|it| it.1.system() != first);
    let names: Vec<String> = others.map(|it| of(&source.results, it.0)).collect();
    (!names.is_empty()).then_some(Note::OtherPrompts(names))
}
