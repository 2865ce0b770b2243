//! The ranking, and how sure it is.
//!
//! Void trials count for nothing. Candidates are ordered by the share of trials solved, then by
//! fewer repairs, then by cost. Ranks come from decisions on every pair: a paired test over the tasks
//! that both did, at the 5 % level, adjusted for all pairs, and the sign of the difference.

mod interval;
mod paired;
mod ranks;
mod repeats;

use std::cmp::Ordering;
use std::collections::BTreeMap;

pub use interval::{effective_size, wilson};
pub use paired::{Pair, holm, paired_p};
pub use repeats::{consistency, pass_at};

use crate::plan::Tokens;

/// A difference is established below this adjusted p value.
pub const LEVEL: f64 = 0.05;

/// The trials of one candidate at one task, counted. Those that are not over count nowhere.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct TaskCounts {
    /// The candidate's name.
    pub candidate: String,
    /// The task's name.
    pub task: String,
    /// Trials that count.
    pub trials: u32,
    /// Of these, passed.
    pub passed: u32,
    /// Of these, passed with the first answer.
    pub first_try: u32,
    /// Repairs of those that passed.
    pub repairs: u32,
    /// Void trials.
    pub void: u32,
    /// Answers judged in trials that count.
    pub answers: u32,
    /// Of these, those that a strict reader would not have taken as they were.
    pub deviating: u32,
    /// Seconds that the candidate took to answer, over trials that count.
    pub seconds: f64,
    /// Tokens read and written, over all trials.
    pub tokens: Tokens,
    /// What they cost, in the plan's currency.
    pub cost: f64,
}

/// One candidate's row.
#[derive(Debug, Clone, PartialEq)]
pub struct Standing {
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
    /// For each number of samples from 1 on, how likely it is that at least one of so many solves a task
    /// (see [`pass_at`]).
    pub pass_at: Vec<f64>,
    /// The share of tasks that every sample solved; `None` when no trial counts.
    pub consistency: Option<f64>,
    /// Trials that do not count.
    pub void: usize,
    /// Answers judged.
    pub answers: usize,
    /// Answers that a strict reader would not have taken as they were.
    pub deviating: usize,
    /// Seconds that the candidate took to answer, over all trials that count.
    pub seconds: f64,
    /// Tokens over all trials, void ones too.
    pub tokens: Tokens,
    /// Cost over all trials, void ones too.
    pub cost: f64,
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
    /// The paired test's p value, adjusted for all pairs.
    pub p: f64,
}

impl Comparison {
    /// Whether one of the two is established better, and then which: `Greater` is the first.
    #[must_use]
    pub fn decision(&self) -> Ordering {
        match self.p < LEVEL {
            true => self.difference.total_cmp(&0.0),
            false => Ordering::Equal,
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

/// Passed and counted trials of one candidate, by task.
type ByTask<'a> = BTreeMap<&'a str, (u32, u32)>;

impl Standings {
    /// Computes standings of `names`, from the counts of each at each task.
    #[must_use]
    pub fn compute(names: &[&str], counts: &[TaskCounts]) -> Self {
        let mut rows: Vec<(Standing, ByTask<'_>)> =
            names.iter().map(|name| standing(name, counts)).collect();
        rows.sort_by(|a, b| order(&a.0, &b.0));
        let comparisons = compare_all(&rows);
        let mut candidates: Vec<Standing> = rows.into_iter().map(|row| row.0).collect();
        ranks::set(&mut candidates, &comparisons);
        Self { candidates, comparisons }
    }
}

fn standing<'a>(name: &str, counts: &'a [TaskCounts]) -> (Standing, ByTask<'a>) {
    let own = || counts.iter().filter(|it| it.candidate == name);
    let sum = |count: fn(&TaskCounts) -> u32| own().map(|it| count(it) as usize).sum::<usize>();
    let counted = own().filter(|it| it.trials > 0);
    let by_task: ByTask<'_> =
        counted.map(|it| (it.task.as_str(), (it.passed, it.trials))).collect();
    let (trials, solved, first_try) =
        (sum(|it| it.trials), sum(|it| it.passed), sum(|it| it.first_try));
    let rate = |count: usize| (trials > 0).then(|| count as f64 / trials as f64);
    let clusters: Vec<(u32, u32)> = by_task.values().copied().collect();
    let mut tokens = Tokens::default();
    for count in own() {
        tokens.input += count.tokens.input;
        tokens.cached += count.tokens.cached;
        tokens.output += count.tokens.output;
    }
    let row = Standing {
        name: name.to_owned(),
        rank: None,
        rank_range: None,
        trials,
        solved,
        solved_rate: rate(solved),
        interval: rate(solved).map(|share| wilson(share, effective_size(&clusters))),
        first_try,
        first_try_rate: rate(first_try),
        mean_repairs: (solved > 0).then(|| sum(|it| it.repairs) as f64 / solved as f64),
        pass_at: pass_at(&clusters),
        consistency: consistency(&clusters),
        void: sum(|it| it.void),
        answers: sum(|it| it.answers),
        deviating: sum(|it| it.deviating),
        seconds: own().fold(0.0, |sum, it| sum + it.seconds),
        tokens,
        cost: own().fold(0.0, |sum, it| sum + it.cost),
    };
    (row, by_task)
}

fn order(a: &Standing, b: &Standing) -> Ordering {
    let rate = |row: &Standing| row.solved_rate.unwrap_or(-1.0);
    let repairs = |row: &Standing| row.mean_repairs.unwrap_or(f64::INFINITY);
    rate(b)
        .total_cmp(&rate(a))
        .then(repairs(a).total_cmp(&repairs(b)))
        .then(a.cost.total_cmp(&b.cost))
        .then_with(|| a.name.cmp(&b.name))
}

fn compare_all(rows: &[(Standing, ByTask<'_>)]) -> Vec<Comparison> {
    let mut comparisons = Vec::new();
    for (index, (a, tasks_a)) in rows.iter().enumerate() {
        for (b, tasks_b) in &rows[index + 1..] {
            let pairs: Vec<Pair> = tasks_a
                .iter()
                .filter_map(|(task, &a)| Some(Pair { a, b: *tasks_b.get(task)? }))
                .collect();
            let rate = |(passed, trials): (u32, u32)| f64::from(passed) / f64::from(trials);
            let differences = || pairs.iter().map(|pair| rate(pair.a) - rate(pair.b));
            let sum: f64 = differences().sum();
            comparisons.push(Comparison {
                names: (a.name.clone(), b.name.clone()),
                tasks: pairs.len(),
                wins: differences().filter(|it| *it > 0.0).count(),
                losses: differences().filter(|it| *it < 0.0).count(),
                difference: if pairs.is_empty() { 0.0 } else { sum / pairs.len() as f64 },
                p: paired_p(&pairs),
            });
        }
    }
    let adjusted = holm(&comparisons.iter().map(|it| it.p).collect::<Vec<_>>());
    for (comparison, p) in comparisons.iter_mut().zip(adjusted) {
        comparison.p = p;
    }
    comparisons
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `plan` has a letter a task: p passed at once, r after one repair, f failed, v void.
    fn counts(name: &str, plan: &str) -> Vec<TaskCounts> {
        let count = |(index, letter): (usize, char)| TaskCounts {
            candidate: name.to_owned(),
            task: format!("t{index}"),
            trials: u32::from(letter != 'v'),
            passed: u32::from(letter == 'p' || letter == 'r'),
            first_try: u32::from(letter == 'p'),
            repairs: u32::from(letter == 'r'),
            void: u32::from(letter == 'v'),
            cost: 0.5,
            ..TaskCounts::default()
        };
        plan.chars().enumerate().map(count).collect()
    }

    fn ranks(plans: &[(&str, &str)]) -> Vec<(String, Option<usize>)> {
        let all: Vec<_> = plans.iter().flat_map(|(name, plan)| counts(name, plan)).collect();
        let names: Vec<_> = plans.iter().map(|it| it.0).collect();
        let standings = Standings::compute(&names, &all);
        standings.candidates.into_iter().map(|row| (row.name, row.rank)).collect()
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
        let all =
            [counts("tern", &plan("f", "p", "v")), counts("auk", &plan("p", "v", "f"))].concat();
        let rows = Standings::compute(&["tern", "auk"], &all).candidates;
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
        let all: Vec<_> = plans.iter().flat_map(|(name, plan)| counts(name, plan)).collect();
        let standings = Standings::compute(&["tern", "auk", "gull", "petrel"], &all);
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
        let all = [counts("auk", "ppvv"), counts("tern", "vvvv")].concat();
        let rows = Standings::compute(&["auk", "tern"], &all).candidates;
        assert_eq!((rows[0].trials, rows[0].solved, rows[0].void), (2, 2, 2));
        assert_eq!((rows[1].rank, rows[1].solved_rate, rows[1].void), (None, None, 4));
        assert_eq!(rows[0].cost, 2.0);
    }

    #[test]
    fn nobody_is_credited_for_tasks_the_other_never_got() {
        let all = [counts("auk", "ppppvvvvvv"), counts("tern", "pppppppppp")].concat();
        let standings = Standings::compute(&["auk", "tern"], &all);
        assert_eq!(standings.comparisons[0].tasks, 4);
        assert_eq!(standings.comparisons[0].p, 1.0);
    }
}
