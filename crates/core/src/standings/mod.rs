//! The ranking, and how sure it is.
//!
//! Everything is computed from [`Results`]: one outcome for each trial, and sums for each candidate and task.
//! Void trials count for nothing. Candidates are ordered by the share of trials solved, then by
//! fewer repairs, then by cost. Ranks come from decisions on every pair: a paired test over the tasks
//! that both did, at the 5 % level, adjusted for all pairs, and the sign of the difference.

mod agreement;
mod facts;
mod frontier;
mod gate;
mod interval;
mod paired;
mod points;
mod ranks;
mod repeats;
mod results;
mod tasks;

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::thread;

pub use agreement::{WrongValues, kappa};
pub use facts::{Dimension, Scope, TaskFacts, failures};
pub use frontier::{FrontierStep, Offer, best_within, frontier};
pub use gate::{Finding, Measure, Relation, Rule, RuleError};
pub use interval::{effective_size, paired_interval, wilson};
pub use paired::{Pair, SignFlipOutcome, SignFlipTest, holm};
pub use points::points_rate;
pub use repeats::{Spread, consistency, pass_at, repair_curve, spread};
pub use results::{CellSums, OutcomeCode, Results, TrialFigures};
pub use tasks::{TaskOddity, TaskStanding, correlation, task_standings};

use crate::plan::Tokens;
use crate::trouble::Trouble;
use crate::verdict::VoidReason;

/// A difference is established below this adjusted p value.
pub const LEVEL: f64 = 0.05;

/// One candidate's row.
#[derive(Debug, Clone, PartialEq)]
pub struct Standing {
    /// The candidate's place in [`Results`].
    pub candidate: usize,
    /// The candidate's name.
    pub name: String,
    /// From 1; a new one begins only where all candidates above are established better than all below.
    /// `None` when no trial counts.
    pub rank: Option<usize>,
    /// The best and the worst rank that the decisions on pairs leave open; `None` when no trial counts.
    pub rank_range: Option<(usize, usize)>,
    /// Trials that count.
    pub trials: usize,
    /// Of these, passed within the attempts allowed.
    pub solved: usize,
    /// `solved / trials`; `None` when no trial counts.
    pub solved_rate: Option<f64>,
    /// Its 95 % interval.
    pub interval: Option<(f64, f64)>,
    /// Passed with the first answer.
    pub first_try: usize,
    /// `first_try / trials`.
    pub first_try_rate: Option<f64>,
    /// Mean repairs of the trials that were solved.
    pub mean_repairs: Option<f64>,
    /// The solved rate after 1, 2 … attempts, as many as the plan allows; empty when no trial counts.
    pub repair_curve: Vec<f64>,
    /// For each number of samples from 1 on, how likely it is that at least one of so many solves a task
    /// (see [`pass_at`]).
    pub pass_at: Vec<f64>,
    /// The share of tasks that every sample solved; `None` when no trial counts.
    pub consistency: Option<f64>,
    /// Tasks solved by one repeat of all; `None` when no trial counts.
    pub spread: Option<Spread>,
    /// The share of points earned (see [`points_rate`]); `None` when no trial counts.
    pub points_rate: Option<f64>,
    /// Passed, with an answer in the form asked for.
    pub strict: usize,
    /// Failed since the candidate declined to answer.
    pub refused: usize,
    /// Trials that do not count, by reason.
    pub void_reasons: BTreeMap<VoidReason, usize>,
    /// Trials that do not count.
    pub void: usize,
    /// Tasks with a trial that counts.
    pub tasks: usize,
    /// What is summed over its trials.
    pub sums: CellSums,
}

impl Standing {
    /// Tokens over all trials, void ones too.
    #[must_use]
    pub fn tokens(&self) -> Tokens {
        self.sums.tokens
    }

    /// Cost over all trials, void ones too.
    #[must_use]
    pub fn cost(&self) -> f64 {
        self.sums.cost
    }

    /// Cost for each trial that counts, that of void ones included; `None` when no trial counts.
    #[must_use]
    pub fn cost_per_trial(&self) -> Option<f64> {
        (self.trials > 0).then(|| self.sums.cost / self.trials as f64)
    }

    /// Cost for each trial that was solved; `None` when none was.
    #[must_use]
    pub fn cost_per_solved(&self) -> Option<f64> {
        (self.solved > 0).then(|| self.sums.cost / self.solved as f64)
    }

    /// Seconds to answer for each trial that counts; `None` when none does.
    #[must_use]
    pub fn seconds_per_trial(&self) -> Option<f64> {
        (self.trials > 0).then(|| self.sums.seconds / self.trials as f64)
    }

    /// Seconds to answer for each trial that was solved; `None` when none was.
    #[must_use]
    pub fn seconds_per_solved(&self) -> Option<f64> {
        (self.solved > 0).then(|| self.sums.seconds / self.solved as f64)
    }

    /// Trials with each sort of trouble, of those in which it was looked for.
    #[must_use]
    pub fn trouble(&self) -> (Trouble, u32) {
        (self.sums.trouble, self.sums.looked_for)
    }
}

/// Two candidates on the tasks that both did.
#[derive(Debug, Clone, PartialEq)]
pub struct Comparison {
    /// The candidates' names.
    pub names: (String, String),
    /// Tasks that both did.
    pub tasks: usize,
    /// Of these, those at which the first has the higher pass rate.
    pub wins: usize,
    /// Those at which the second has.
    pub losses: usize,
    /// Mean difference of their pass rates on these, first minus second.
    pub difference: f64,
    /// Its 95 % interval; `None` where they did no task both.
    pub interval: Option<(f64, f64)>,
    /// The paired test's p value, of this pair alone.
    pub p: f64,
    /// Whether it is exact (see [`SignFlipTest::p`]).
    pub exact: bool,
    /// The same, adjusted for all pairs.
    pub p_adjusted: f64,
    /// Tasks with more trials of one than of the other: then the assumption of the test holds less well.
    pub unequal: usize,
}

impl Comparison {
    /// Whether one of the two is established better, and then which: `Greater` is the first.
    #[must_use]
    pub fn decision(&self) -> Ordering {
        match self.p_adjusted < LEVEL {
            true => self.difference.total_cmp(&0.0),
            false => Ordering::Equal,
        }
    }

    /// Compares two on pairs of counts, before any adjusting.
    #[must_use]
    pub fn of(names: (String, String), pairs: &[Pair], test: &mut SignFlipTest) -> Self {
        let differences = || pairs.iter().map(|pair| pair.rates().0 - pair.rates().1);
        let found = test.p(pairs);
        Self {
            names,
            tasks: pairs.len(),
            wins: differences().filter(|it| *it > 0.0).count(),
            losses: differences().filter(|it| *it < 0.0).count(),
            difference: if pairs.is_empty() {
                0.0
            } else {
                differences().sum::<f64>() / pairs.len() as f64
            },
            interval: paired_interval(pairs),
            p: found.p,
            exact: found.exact,
            p_adjusted: found.p,
            unequal: pairs.iter().filter(|it| it.a.1 != it.b.1).count(),
        }
    }
}

/// Everything about who stands where.
#[derive(Debug, Clone, PartialEq)]
pub struct Standings {
    /// The candidates, best first.
    pub candidates: Vec<Standing>,
    /// Every pair of candidates, in the order of `candidates`.
    pub comparisons: Vec<Comparison>,
}

/// Passed and counted trials of one candidate at each task of a scope.
type Counts = Vec<(u32, u32)>;

impl Standings {
    /// Computes the standings of a scope; a repair curve has as many points as a trial may have `attempts`.
    #[must_use]
    pub fn compute(results: &Results, scope: &Scope, attempts: u32) -> Self {
        let mut rows: Vec<(Standing, Counts)> =
            scope.candidates.iter().map(|&who| standing(results, scope, who, attempts)).collect();
        rows.sort_by(|a, b| order(&a.0, &b.0));
        let comparisons = compare_all(&rows);
        let mut candidates: Vec<Standing> = rows.into_iter().map(|row| row.0).collect();
        ranks::set(&mut candidates, &comparisons);
        Self { candidates, comparisons }
    }
}

fn standing(results: &Results, scope: &Scope, who: usize, attempts: u32) -> (Standing, Counts) {
    let within = scope.within.unwrap_or(u32::MAX);
    let counts: Counts = scope.tasks.iter().map(|&it| results.counts(who, it, within)).collect();
    let clusters: Counts = counts.iter().filter(|it| it.1 > 0).copied().collect();
    let mut sums = CellSums::default();
    let (mut first_try, mut repairs, mut refused) = (0, 0, 0);
    let mut void_reasons = BTreeMap::<VoidReason, usize>::new();
    for &task in &scope.tasks {
        sums.merge(results.sums(who, task));
        for outcome in results.outcomes(who, task) {
            if let Some(at) = outcome.passed_at().filter(|at| *at <= within) {
                first_try += usize::from(at == 1);
                repairs += at as usize - 1;
            }
            refused += usize::from(outcome.failed() == Some(crate::verdict::FailReason::Refused));
            if let Some(reason) = outcome.void() {
                *void_reasons.entry(reason).or_default() += 1;
            }
        }
    }
    let sum = |of: fn(&(u32, u32)) -> u32| clusters.iter().map(|it| of(it) as usize).sum::<usize>();
    let (solved, trials) = (sum(|it| it.0), sum(|it| it.1));
    let rate = |count: usize| (trials > 0).then(|| count as f64 / trials as f64);
    let row = Standing {
        candidate: who,
        name: results.candidates()[who].clone(),
        rank: None,
        rank_range: None,
        trials,
        solved,
        solved_rate: rate(solved),
        interval: rate(solved).map(|share| wilson(share, effective_size(&clusters))),
        first_try,
        first_try_rate: rate(first_try),
        mean_repairs: (solved > 0).then(|| repairs as f64 / solved as f64),
        repair_curve: repair_curve(results, scope, who, attempts),
        pass_at: pass_at(&clusters),
        consistency: consistency(&clusters),
        spread: spread(results, scope, who),
        points_rate: points_rate(results, scope, who),
        strict: sums.strict as usize,
        refused,
        void: void_reasons.values().sum(),
        void_reasons,
        tasks: clusters.len(),
        sums,
    };
    (row, counts)
}

fn order(a: &Standing, b: &Standing) -> Ordering {
    let rate = |row: &Standing| row.solved_rate.unwrap_or(-1.0);
    let repairs = |row: &Standing| row.mean_repairs.unwrap_or(f64::INFINITY);
    rate(b)
        .total_cmp(&rate(a))
        .then(repairs(a).total_cmp(&repairs(b)))
        .then(a.sums.cost.total_cmp(&b.sums.cost))
        .then_with(|| a.name.cmp(&b.name))
}

/// The tasks that both did.
fn pairs<'a>(a: &'a Counts, b: &'a Counts) -> impl Iterator<Item = Pair> + use<'a> {
    let both = a.iter().zip(b).filter(|(a, b)| a.1 > 0 && b.1 > 0);
    both.map(|(&a, &b)| Pair { a, b })
}

/// Fewest candidates for which pairs are worth a second thread.
const MANY: usize = 16;

/// Every pair, in the order of the rows.
fn compare_all(rows: &[(Standing, Counts)]) -> Vec<Comparison> {
    // Who is compared with all that come after it: (0, 1), (0, 2) … The first half of the rows has three
    // quarters of the pairs, so that threads take rows by turns.
    let with_rest = |index: usize, test: &mut SignFlipTest| -> Vec<Comparison> {
        let (a, counts_a) = &rows[index];
        let compare = |(b, counts_b): &(Standing, Counts)| {
            let pairs: Vec<Pair> = pairs(counts_a, counts_b).collect();
            Comparison::of((a.name.clone(), b.name.clone()), &pairs, test)
        };
        rows[index + 1..].iter().map(compare).collect()
    };
    let threads = match rows.len() {
        0..MANY => 1,
        _ => thread::available_parallelism().map_or(1, usize::from).min(8),
    };
    let by_turns = |first: usize| {
        let mut test = SignFlipTest::default();
        let own = (first..rows.len()).step_by(threads);
        own.map(|it| (it, with_rest(it, &mut test))).collect::<Vec<_>>()
    };
    let mut by_row: Vec<(usize, Vec<Comparison>)> = thread::scope(|scope| {
        let others: Vec<_> =
            (1..threads).map(|first| scope.spawn(move || by_turns(first))).collect();
        let mut all = by_turns(0);
        for (first, other) in (1..).zip(others) {
            // A thread that came to nothing is done again, here.
            all.extend(other.join().unwrap_or_else(|_| by_turns(first)));
        }
        all
    });
    by_row.sort_by_key(|it| it.0);
    let mut comparisons: Vec<Comparison> = by_row.into_iter().flat_map(|it| it.1).collect();
    let adjusted = holm(&comparisons.iter().map(|it| it.p).collect::<Vec<_>>());
    for (comparison, p) in comparisons.iter_mut().zip(adjusted) {
        comparison.p_adjusted = p;
    }
    comparisons
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::verdict::{FailReason, Verdict};

    /// A trial that passed at once and cost half a unit.
    pub(super) fn plain() -> TrialFigures {
        TrialFigures {
            verdict: Verdict::Pass,
            answers: 1,
            deviating: 0,
            strict: true,
            credit: 1.0,
            seconds: 1.0,
            tokens: Tokens::default(),
            cost: 0.5,
            estimated: false,
            trouble: None,
            helped: false,
        }
    }

    /// What a letter stands for: p passed at once, r after one repair, R after two, f failed, v void.
    fn trial(letter: char) -> TrialFigures {
        let (verdict, answers) = match letter {
            'r' => (Verdict::Pass, 2),
            'R' => (Verdict::Pass, 3),
            'f' => (Verdict::Fail(FailReason::WrongResult), 1),
            'v' => (Verdict::Void(VoidReason::ProviderError), 0),
            _ => (Verdict::Pass, 1),
        };
        let credit = f64::from(u8::from(verdict.is_pass()));
        TrialFigures { verdict, answers, strict: verdict.is_pass(), credit, ..plain() }
    }

    fn task(number: usize) -> TaskFacts {
        let category = if number.is_multiple_of(2) { "tides" } else { "berths" };
        let (name, category) = (format!("t{number}"), category.to_owned());
        TaskFacts { name, category, difficulty: 3, points: 1.0, ..TaskFacts::default() }
    }

    /// Candidates with a letter for each task.
    pub(super) fn results(plans: &[(&str, &str)]) -> Results {
        let tasks = plans.iter().map(|it| it.1.len()).max().unwrap_or(0);
        let names = plans.iter().map(|it| it.0.to_owned()).collect();
        let mut results = Results::new(names, (0..tasks).map(task).collect(), 1);
        for (candidate, (_, letters)) in plans.iter().enumerate() {
            for (task, letter) in letters.chars().enumerate() {
                results.add(candidate, task, 1, &trial(letter));
            }
        }
        results
    }

    /// One candidate with the letters of its samples for each task.
    pub(super) fn repeats(name: &str, tasks: &[&str]) -> Results {
        let samples = tasks.iter().map(|it| it.len()).max().unwrap_or(0);
        let facts = (0..tasks.len()).map(task).collect();
        let mut results = Results::new(vec![name.to_owned()], facts, samples);
        for (task, letters) in tasks.iter().enumerate() {
            for (sample, letter) in letters.chars().enumerate() {
                results.add(0, task, sample + 1, &trial(letter));
            }
        }
        results
    }

    fn computed(plans: &[(&str, &str)]) -> Standings {
        let results = results(plans);
        Standings::compute(&results, &Scope::all(&results), 3)
    }

    fn ranks(plans: &[(&str, &str)]) -> Vec<(String, Option<usize>)> {
        computed(plans).candidates.into_iter().map(|row| (row.name, row.rank)).collect()
    }

    #[test]
    fn a_clear_difference_makes_ranks_and_a_small_one_shares_them() {
        let rows =
            ranks(&[("gull", "ffffffffffff"), ("tern", "pppppppppppp"), ("auk", "pppppppppprf")]);
        let named = |name: &str| rows.iter().find(|it| it.0 == name).unwrap().1;
        assert_eq!((named("tern"), named("auk"), named("gull")), (Some(1), Some(1), Some(3)));
    }

    /// With voids the order and the tasks that both did can say opposite things: then nothing is split.
    #[test]
    fn a_leader_that_is_worse_where_both_were_does_not_keep_others_below_it() {
        let plan = |common: &str, own: &str, others: &str| {
            common.repeat(9) + &own.repeat(30) + &others.repeat(20)
        };
        let rows =
            computed(&[("tern", &plan("f", "p", "v")), ("auk", &plan("p", "v", "f"))]).candidates;
        assert_eq!(
            (rows[0].name.as_str(), rows[0].rank, rows[0].rank_range),
            ("tern", Some(1), Some((2, 2)))
        );
        assert_eq!(
            (rows[1].name.as_str(), rows[1].rank, rows[1].rank_range),
            ("auk", Some(1), Some((1, 1)))
        );
    }

    /// A leader and three equals, ten points below, none of which is told from another.
    #[test]
    fn equals_have_equal_ranks_whatever_the_leader_is() {
        let of = |solved: usize, from: usize| -> String {
            (0..40).map(|task| if (task + from) % 40 < solved { 'p' } else { 'f' }).collect()
        };
        let plans =
            [("tern", of(40, 0)), ("auk", of(33, 0)), ("gull", of(31, 13)), ("petrel", of(30, 26))];
        let plans: Vec<_> = plans.iter().map(|it| (it.0, it.1.as_str())).collect();
        let standings = computed(&plans);
        let shown: Vec<_> = standings
            .candidates
            .iter()
            .map(|it| (it.name.as_str(), it.rank.unwrap(), it.rank_range.unwrap()))
            .collect();
        assert_eq!(
            shown,
            [("tern", 1, (1, 1)), ("auk", 2, (2, 4)), ("gull", 2, (2, 4)), ("petrel", 2, (2, 4))]
        );
        assert_eq!((standings.comparisons[0].wins, standings.comparisons[0].losses), (7, 0));
    }

    #[test]
    fn repairs_and_then_cost_order_equals() {
        let rows = ranks(&[("b", "prpp"), ("a", "pppp")]);
        assert_eq!(rows[0].0, "a");
    }

    #[test]
    fn void_trials_are_kept_apart() {
        let rows = computed(&[("auk", "ppvv"), ("tern", "vvvv")]).candidates;
        assert_eq!((rows[0].trials, rows[0].solved, rows[0].void), (2, 2, 2));
        assert_eq!((rows[1].rank, rows[1].solved_rate, rows[1].void), (None, None, 4));
        assert_eq!((rows[0].cost(), rows[0].cost_per_solved()), (2.0, Some(1.0)));
        assert_eq!(rows[1].void_reasons, BTreeMap::from([(VoidReason::ProviderError, 4)]));
    }

    #[test]
    fn nobody_is_credited_for_tasks_the_other_never_got() {
        let standings = computed(&[("auk", "ppppvvvvvv"), ("tern", "pppppppppp")]);
        assert_eq!(standings.comparisons[0].tasks, 4);
        assert_eq!(standings.comparisons[0].p, 1.0);
    }

    #[test]
    fn attempts_beyond_those_that_are_asked_for_solve_nothing() {
        let results = results(&[("auk", "prRf")]);
        let within = |within| {
            let scope = Scope { within: Some(within), ..Scope::all(&results) };
            let row = Standings::compute(&results, &scope, 3).candidates.remove(0);
            (row.solved, row.points_rate.unwrap(), row.mean_repairs.unwrap())
        };
        assert_eq!(
            [within(1), within(2), within(3)],
            [(1, 0.25, 0.0), (2, 0.5, 0.5), (3, 0.75, 1.0)]
        );
    }

    #[test]
    fn slices_have_their_tasks_and_categories_weigh_what_the_docket_says() {
        let mut results = results(&[("auk", "pfpfpp")]);
        let slices = Scope::all(&results).slices(&Dimension::Category, &results, &[]);
        let shown: Vec<_> = slices.iter().map(|it| (it.0.as_str(), it.1.tasks.clone())).collect();
        assert_eq!(shown, [("berths", vec![1, 3, 5]), ("tides", vec![0, 2, 4])]);
        assert_eq!(points_rate(&results, &Scope::all(&results), 0), Some(4.0 / 6.0));
        for task in &mut results.tasks {
            task.weight = Some(if task.category == "tides" { 3.0 } else { 1.0 });
        }
        // 3/3 of the tides, three times, and 1/3 of the berths.
        let rate = points_rate(&results, &Scope::all(&results), 0).unwrap();
        assert!((rate - (3.0 + 1.0 / 3.0) / 4.0).abs() < 1e-12, "{rate}");
    }
}
