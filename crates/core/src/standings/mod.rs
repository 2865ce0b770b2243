//! The ranking, and how sure it is.
//!
//! Void trials count for nothing. Candidates are ordered by the share of trials solved, then by
//! fewer repairs, then by cost. A candidate shares the rank of the best one above it from which
//! its difference is not established: a paired test over the tasks that both did, at the 5 %
//! level, adjusted for all pairs.

mod interval;
mod paired;

use std::collections::BTreeMap;

pub use interval::{effective_size, wilson};
pub use paired::{Pair, holm, paired_p};

use crate::plan::Tokens;
use crate::verdict::Verdict;

/// A difference is established below this adjusted p value.
pub const LEVEL: f64 = 0.05;

/// One trial, as the standings need it.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialResult {
    /// The candidate's name.
    pub candidate: String,
    /// The task's name.
    pub task: String,
    /// What it came to.
    pub verdict: Verdict,
    /// Answers judged.
    pub attempts: u32,
    /// Answers that a strict reader would not have taken as they were.
    pub deviating: u32,
    /// Seconds that the candidate took to answer.
    pub seconds: f64,
    /// Tokens read and written.
    pub tokens: Tokens,
    /// What it cost, in the plan's currency.
    pub cost: f64,
}

/// One candidate's row.
#[derive(Debug, Clone, PartialEq)]
pub struct Standing {
    /// The candidate's name.
    pub name: String,
    /// From 1; shared by candidates whose difference is not established. `None` when no trial
    /// counts.
    pub rank: Option<usize>,
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
    /// Mean difference of their pass rates on these, first minus second.
    pub difference: f64,
    /// The paired test's p value, adjusted for all pairs.
    pub p: f64,
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
    /// Computes standings of `names`, from all their trials.
    #[must_use]
    pub fn compute(names: &[&str], results: &[TrialResult]) -> Self {
        let mut rows: Vec<(Standing, ByTask<'_>)> =
            names.iter().map(|name| standing(name, results)).collect();
        rows.sort_by(|a, b| order(&a.0, &b.0));
        let comparisons = compare_all(&rows);
        let mut candidates: Vec<Standing> = rows.into_iter().map(|row| row.0).collect();
        set_ranks(&mut candidates, &comparisons);
        Self { candidates, comparisons }
    }
}

fn standing<'a>(name: &str, results: &'a [TrialResult]) -> (Standing, ByTask<'a>) {
    let own = || results.iter().filter(|it| it.candidate == name);
    let counted = || own().filter(|it| !it.verdict.is_void());
    let mut by_task = ByTask::new();
    for result in counted() {
        let cell = by_task.entry(result.task.as_str()).or_default();
        cell.0 += u32::from(result.verdict.is_pass());
        cell.1 += 1;
    }
    let solved = || counted().filter(|it| it.verdict.is_pass());
    let (trials, solved_count) = (counted().count(), solved().count());
    let first_try = solved().filter(|it| it.attempts == 1).count();
    let repairs: u32 = solved().map(|it| it.attempts.saturating_sub(1)).sum();
    let rate = |count: usize| (trials > 0).then(|| count as f64 / trials as f64);
    let clusters: Vec<(u32, u32)> = by_task.values().copied().collect();
    let mut tokens = Tokens::default();
    for result in own() {
        tokens.input += result.tokens.input;
        tokens.cached += result.tokens.cached;
        tokens.output += result.tokens.output;
    }
    let row = Standing {
        name: name.to_owned(),
        rank: None,
        trials,
        solved: solved_count,
        solved_rate: rate(solved_count),
        interval: rate(solved_count).map(|share| wilson(share, effective_size(&clusters))),
        first_try,
        first_try_rate: rate(first_try),
        mean_repairs: (solved_count > 0).then(|| f64::from(repairs) / solved_count as f64),
        void: own().count() - trials,
        answers: counted().map(|it| it.attempts as usize).sum(),
        deviating: counted().map(|it| it.deviating as usize).sum(),
        seconds: counted().fold(0.0, |sum, it| sum + it.seconds),
        tokens,
        cost: own().fold(0.0, |sum, it| sum + it.cost),
    };
    (row, by_task)
}

fn order(a: &Standing, b: &Standing) -> std::cmp::Ordering {
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
            let sum: f64 = pairs.iter().map(|pair| rate(pair.a) - rate(pair.b)).sum();
            comparisons.push(Comparison {
                names: (a.name.clone(), b.name.clone()),
                tasks: pairs.len(),
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

fn set_ranks(candidates: &mut [Standing], comparisons: &[Comparison]) {
    let established = |a: &str, b: &str| {
        let pair = comparisons.iter().find(|it| it.names.0 == a && it.names.1 == b);
        pair.is_some_and(|it| it.p < LEVEL)
    };
    let mut leader: Option<(usize, String)> = None;
    for (index, row) in candidates.iter_mut().enumerate() {
        if row.trials == 0 {
            continue;
        }
        match &leader {
            Some((rank, name)) if !established(name, &row.name) => row.rank = Some(*rank),
            _ => {
                row.rank = Some(index + 1);
                leader = Some((index + 1, row.name.clone()));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::verdict::{FailReason, VoidReason};

    /// `plan` has a letter a task: p passed at once, r after one repair, f failed, v void.
    fn results(name: &str, plan: &str) -> Vec<TrialResult> {
        let trial = |(index, letter): (usize, char)| TrialResult {
            candidate: name.to_owned(),
            task: format!("t{index}"),
            verdict: match letter {
                'f' => Verdict::Fail(FailReason::Crashed),
                'v' => Verdict::Void(VoidReason::RateLimit),
                _ => Verdict::Pass,
            },
            attempts: if letter == 'r' { 2 } else { 1 },
            deviating: 0,
            seconds: 1.0,
            tokens: Tokens::default(),
            cost: 0.5,
        };
        plan.chars().enumerate().map(trial).collect()
    }

    fn ranks(plans: &[(&str, &str)]) -> Vec<(String, Option<usize>)> {
        let all: Vec<_> = plans.iter().flat_map(|(name, plan)| results(name, plan)).collect();
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

    #[test]
    fn repairs_and_then_cost_order_equals() {
        let rows = ranks(&[("b", "prpp"), ("a", "pppp")]);
        assert_eq!(rows[0].0, "a");
    }

    #[test]
    fn void_trials_are_kept_apart() {
        let all = [results("auk", "ppvv"), results("tern", "vvvv")].concat();
        let rows = Standings::compute(&["auk", "tern"], &all).candidates;
        assert_eq!((rows[0].trials, rows[0].solved, rows[0].void), (2, 2, 2));
        assert_eq!((rows[1].rank, rows[1].solved_rate, rows[1].void), (None, None, 4));
        assert_eq!(rows[0].cost, 2.0);
    }

    #[test]
    fn nobody_is_credited_for_tasks_the_other_never_got() {
        let all = [results("auk", "ppppvvvvvv"), results("tern", "pppppppppp")].concat();
        let standings = Standings::compute(&["auk", "tern"], &all);
        assert_eq!(standings.comparisons[0].tasks, 4);
        assert_eq!(standings.comparisons[0].p, 1.0);
    }
}
