//! Two candidates, task by task; or one candidate in two records.

use std::collections::HashMap;

use fairtrial_core::standings::{
    CellSums, Comparison, Pair, Scope, SignFlipTest, Standing, Standings, TaskFacts, holm,
};

use super::source::{StandingsError, StandingsSource};

/// One side of a comparison.
#[derive(Debug, Clone, Copy)]
pub struct Side<'a> {
    /// The records that it is from.
    pub source: &'a StandingsSource<'a>,
    /// Its place among their candidates.
    pub candidate: usize,
}

/// Which tasks are compared, by their places on the first side; `None` is all.
type ChosenTasks<'a> = Option<&'a [usize]>;

/// Two sides, on the tasks that both did.
#[derive(Debug, Clone, PartialEq)]
pub struct ComparisonView {
    /// What they are called.
    pub names: (String, String),
    /// The currency of costs.
    pub currency: String,
    /// The figures of each, over the tasks that both did.
    pub rows: (Standing, Standing),
    /// The pair; `p_adjusted` is adjusted for all pairs that are shown with it.
    pub comparison: Comparison,
    /// The tasks that both did, those where they differ most first.
    pub tasks: Vec<ComparedTask>,
    /// Tasks that only the first did.
    pub only_first: Vec<String>,
    /// Tasks that only the second did.
    pub only_second: Vec<String>,
    /// Tasks that have the same name and are not the same: not compared.
    pub changed: Vec<ChangedTask>,
}

/// A task that both did.
#[derive(Debug, Clone, PartialEq)]
pub struct ComparedTask {
    /// Its name.
    pub name: String,
    /// Its category.
    pub category: String,
    /// Each one's trials: passed, counted.
    pub counts: Pair,
    /// Each one's sums over its trials.
    pub sums: (CellSums, CellSums),
}

/// A task that is another one in the second record.
#[derive(Debug, Clone, PartialEq)]
pub struct ChangedTask {
    /// Its name.
    pub name: String,
    /// Each one's trials: passed, counted.
    pub counts: Pair,
}

impl ComparisonView {
    /// Gives the two other names, where both are called alike.
    pub fn call(&mut self, first: &str, second: &str) {
        self.names = (first.to_owned(), second.to_owned());
        self.comparison.names = self.names.clone();
        first.clone_into(&mut self.rows.0.name);
        second.clone_into(&mut self.rows.1.name);
    }
}

impl ComparedTask {
    /// The rate of the first minus that of the second.
    #[must_use]
    pub fn difference(&self) -> f64 {
        let (first, second) = self.counts.rates();
        first - second
    }
}

/// The place of a candidate by its name.
///
/// # Errors
/// When there is none of that name.
pub fn place_of(source: &StandingsSource<'_>, name: &str) -> Result<usize, StandingsError> {
    let names = source.results.candidates();
    names.iter().position(|it| it == name).ok_or_else(|| StandingsError::NothingSo {
        what: "candidate".to_owned(),
        wanted: name.to_owned(),
        there: names.to_vec(),
    })
}

/// Compares two sides: over all tasks that both did, or over some of them, by their places on the first side.
#[must_use]
pub fn comparison_view(
    first: Side<'_>,
    second: Side<'_>,
    tasks: ChosenTasks<'_>,
) -> ComparisonView {
    let name = |side: Side<'_>| side.source.results.candidates()[side.candidate].clone();
    let names = (name(first), name(second));
    let matched = Matched::of(first, second, tasks);
    let pairs: Vec<Pair> = matched.tasks.iter().map(|it| it.counts).collect();
    let comparison = Comparison::of(names.clone(), &pairs, &mut SignFlipTest::default());
    let row = |side: Side<'_>, tasks: &[usize]| {
        let scope = Scope { candidates: vec![side.candidate], tasks: tasks.to_vec(), within: None };
        Standings::compute(&side.source.results, &scope, side.source.attempts())
            .candidates
            .remove(0)
    };
    let mut tasks = matched.tasks;
    tasks.sort_by(|a, b| {
        let order = b.difference().abs().total_cmp(&a.difference().abs());
        order.then(b.difference().total_cmp(&a.difference())).then_with(|| a.name.cmp(&b.name))
    });
    ComparisonView {
        names,
        currency: first.source.first().plan.currency.clone(),
        rows: (row(first, &matched.places.0), row(second, &matched.places.1)),
        comparison,
        tasks,
        only_first: matched.only_first,
        only_second: matched.only_second,
        changed: matched.changed,
    }
}

/// Adjusts the p values of comparisons that are looked at together (Holm).
pub fn adjust_together(views: &mut [ComparisonView]) {
    let p: Vec<f64> = views.iter().map(|it| it.comparison.p).collect();
    for (view, p) in views.iter_mut().zip(holm(&p)) {
        view.comparison.p_adjusted = p;
    }
}

/// The tasks of two sides, matched by name and digest.
#[derive(Default)]
struct Matched {
    tasks: Vec<ComparedTask>,
    /// Where the tasks are among those of each side.
    places: (Vec<usize>, Vec<usize>),
    only_first: Vec<String>,
    only_second: Vec<String>,
    changed: Vec<ChangedTask>,
}

impl Matched {
    fn of(first: Side<'_>, second: Side<'_>, tasks: ChosenTasks<'_>) -> Self {
        let mut matched = Self::default();
        let counts =
            |side: Side<'_>, task| side.source.results.counts(side.candidate, task, u32::MAX);
        let others = second.source.results.tasks();
        let places = |tasks: &[TaskFacts]| -> HashMap<String, usize> {
            tasks.iter().enumerate().map(|(place, it)| (it.name.clone(), place)).collect()
        };
        let (here, there) = (places(first.source.results.tasks()), places(others));
        for (place, facts) in first.source.results.tasks().iter().enumerate() {
            if tasks.is_some_and(|it| it.binary_search(&place).is_err()) {
                continue;
            }
            let a = counts(first, place);
            let other = there.get(&facts.name).copied();
            let b = other.map_or((0, 0), |it| counts(second, it));
            let pair = Pair { a, b };
            match (other, a.1, b.1) {
                (Some(other), 1.., 1..)
                    if first.source.digests[place] == second.source.digests[other] =>
                {
                    let sums =
                        |side: Side<'_>, task| *side.source.results.sums(side.candidate, task);
                    matched.tasks.push(ComparedTask {
                        name: facts.name.clone(),
                        category: facts.category.clone(),
                        counts: pair,
                        sums: (sums(first, place), sums(second, other)),
                    });
                    matched.places.0.push(place);
                    matched.places.1.push(other);
                }
                (Some(_), 1.., 1..) => {
                    matched.changed.push(ChangedTask { name: facts.name.clone(), counts: pair });
                }
                (_, 1.., _) => matched.only_first.push(facts.name.clone()),
                (_, 0, _) => {}
            }
        }
        for (place, facts) in others.iter().enumerate() {
            let did = here.get(&facts.name).is_some_and(|&it| counts(first, it).1 > 0);
            if counts(second, place).1 > 0 && !did {
                matched.only_second.push(facts.name.clone());
            }
        }
        matched
    }
}
