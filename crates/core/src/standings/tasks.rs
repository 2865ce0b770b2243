//! What the results say of the tasks themselves.

use super::{Results, Scope};

/// A task, as the candidates found it.
#[derive(Debug, Clone, PartialEq)]
pub struct TaskStanding {
    /// Its place among the tasks.
    pub task: usize,
    /// Candidates with a trial that counts.
    pub candidates: usize,
    /// Of these, those with a trial that passed.
    pub solved_by: usize,
    /// Trials that count.
    pub trials: usize,
    /// Of these, passed.
    pub solved: usize,
    /// `solved / trials`; `None` when no trial counts.
    pub solved_rate: Option<f64>,
    /// How hard it was found, 1 to 5, by fifths of the solved rate: 1 from 80 % on, 5 below 20 %.
    pub found_difficulty: Option<u8>,
    /// The correlation of its solved rates with those at the other tasks, over candidates: the corrected
    /// item-total correlation, point-biserial with one sample. `None` with fewer than three candidates, or
    /// where either does not vary.
    pub discrimination: Option<f64>,
    /// Candidates that solved it in some samples and not in others.
    pub unstable: usize,
    /// What of that should be looked into.
    pub oddity: Option<TaskOddity>,
}

/// Why a task should be looked into.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TaskOddity {
    /// Nobody solved it.
    NobodySolved,
    /// None of the best solved it, although others did.
    BestFail,
    /// The better a candidate is elsewhere, the less it solves this one.
    Reversed,
    /// It was found at least two steps easier or harder than it was set.
    OffDifficulty,
    /// Everybody solved it always: it tells nobody apart.
    EverybodySolved,
}

impl TaskOddity {
    /// In words.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::NobodySolved => "nobody solved it",
            Self::BestFail => "none of the best solved it",
            Self::Reversed => "solved less by the better ones",
            Self::OffDifficulty => "not as hard as was set",
            Self::EverybodySolved => "everybody solved it",
        }
    }
}

/// A correlation at or below which a task works against the others.
const REVERSED: f64 = -0.3;

/// How each task of a scope was found, in the order of the scope.
#[must_use]
pub fn task_standings(results: &Results, scope: &Scope) -> Vec<TaskStanding> {
    let within = scope.within.unwrap_or(u32::MAX);
    let counts: Vec<Vec<(u32, u32)>> = scope
        .candidates
        .iter()
        .map(|&who| scope.tasks.iter().map(|&task| results.counts(who, task, within)).collect())
        .collect();
    let totals: Vec<(f64, usize)> = counts.iter().map(|own| sum_of_rates(own)).collect();
    let of = |(column, &task): (usize, &usize)| {
        let own: Vec<(u32, u32)> = counts.iter().map(|row| row[column]).collect();
        // Each candidate's rate here and its mean rate elsewhere.
        let points: Vec<(f64, f64)> = own
            .iter()
            .zip(&totals)
            .filter(|((_, trials), total)| *trials > 0 && total.1 > 1)
            .map(|(&cell, total)| {
                let here = rate(cell);
                (here, (total.0 - here) / (total.1 - 1) as f64)
            })
            .collect();
        standing(results, task, &own, &points)
    };
    scope.tasks.iter().enumerate().map(of).collect()
}

fn rate((passed, trials): (u32, u32)) -> f64 {
    f64::from(passed) / f64::from(trials)
}

/// The sum of a candidate's rates, and over how many tasks.
fn sum_of_rates(own: &[(u32, u32)]) -> (f64, usize) {
    let counted = own.iter().filter(|it| it.1 > 0);
    counted.fold((0.0, 0), |(sum, count), &cell| (sum + rate(cell), count + 1))
}

fn standing(
    results: &Results,
    task: usize,
    own: &[(u32, u32)],
    points: &[(f64, f64)],
) -> TaskStanding {
    let counted = own.iter().filter(|it| it.1 > 0);
    let (solved, trials) =
        counted.clone().fold((0, 0), |sum, it| (sum.0 + it.0 as usize, sum.1 + it.1 as usize));
    let solved_rate = (trials > 0).then(|| solved as f64 / trials as f64);
    let found_difficulty = solved_rate.map(|rate| 5 - (rate * 5.0).floor().min(4.0) as u8);
    let discrimination = if points.len() < 3 { None } else { correlation(points) };
    let mut found = TaskStanding {
        task,
        candidates: counted.clone().count(),
        solved_by: counted.clone().filter(|it| it.0 > 0).count(),
        trials,
        solved,
        solved_rate,
        found_difficulty,
        discrimination,
        unstable: counted.filter(|it| it.0 > 0 && it.0 < it.1).count(),
        oddity: None,
    };
    found.oddity = oddity(&found, results.tasks()[task].difficulty, points);
    found
}

fn oddity(found: &TaskStanding, set: u8, points: &[(f64, f64)]) -> Option<TaskOddity> {
    let several = found.candidates >= 2;
    let off = found.found_difficulty.is_some_and(|it| it.abs_diff(set) >= 2);
    match found {
        _ if found.trials == 0 => None,
        _ if several && found.solved == 0 => Some(TaskOddity::NobodySolved),
        _ if found.candidates >= 3 && best_fail(points) => Some(TaskOddity::BestFail),
        _ if found.discrimination.is_some_and(|it| it <= REVERSED) => Some(TaskOddity::Reversed),
        _ if several && found.solved == found.trials => Some(TaskOddity::EverybodySolved),
        _ if several && off => Some(TaskOddity::OffDifficulty),
        _ => None,
    }
}

/// Whether those who solve most elsewhere, the best third and at least two, never solved a task that somebody
/// else solved. `points` are rates here and elsewhere.
fn best_fail(points: &[(f64, f64)]) -> bool {
    let mut sorted = points.to_vec();
    sorted.sort_by(|a, b| b.1.total_cmp(&a.1));
    let best = (sorted.len() / 3).max(2).min(sorted.len());
    let (best, others) = sorted.split_at(best);
    let is_good = best.iter().all(|it| it.1 >= 0.5);
    is_good && best.iter().all(|it| it.0 == 0.0) && others.iter().any(|it| it.0 > 0.0)
}

/// Pearson's correlation, which is the point-biserial one where one side has two values; `None` where either
/// does not vary.
#[must_use]
pub fn correlation(points: &[(f64, f64)]) -> Option<f64> {
    let n = points.len() as f64;
    let (x, y) = points.iter().fold((0.0, 0.0), |sum, it| (sum.0 + it.0 / n, sum.1 + it.1 / n));
    let sums = points.iter().fold((0.0, 0.0, 0.0), |sum, it| {
        let (dx, dy) = (it.0 - x, it.1 - y);
        (sum.0 + dx * dx, sum.1 + dy * dy, sum.2 + dx * dy)
    });
    let varies = |it: f64| it > 1e-12;
    (varies(sums.0) && varies(sums.1)).then(|| sums.2 / (sums.0 * sums.1).sqrt())
}

#[cfg(test)]
mod tests {
    use super::super::tests::results;
    use super::*;

    #[test]
    fn the_correlation_is_the_one_worked_out_by_hand() {
        // Scores of those who passed: 4, 5, 6; of those who failed: 1, 2, 3. Means 5 and 2, standard deviation
        // of all six (n) 1.7078, halves: (5 − 2) / 1.7078 × sqrt(1/4) = 0.8783, the point-biserial formula.
        let points = [(1.0, 4.0), (1.0, 5.0), (1.0, 6.0), (0.0, 1.0), (0.0, 2.0), (0.0, 3.0)];
        assert!((correlation(&points).unwrap() - 0.8783).abs() < 5e-5);
        assert_eq!(correlation(&[(1.0, 2.0), (1.0, 3.0)]), None);
    }

    #[test]
    fn tasks_that_tell_and_tasks_that_are_odd() {
        // Tasks: everybody, a good one, one that only the worst solves, nobody.
        let results = results(&[
            ("tern", "pppfpf"),
            ("auk", "pppfpf"),
            ("gull", "ppffff"),
            ("puffin", "pffpff"),
        ]);
        let found = task_standings(&results, &Scope::all(&results));
        let odd = |task: usize| found[task].oddity;
        assert_eq!(odd(0), Some(TaskOddity::EverybodySolved));
        assert_eq!(odd(2), None);
        assert!(found[2].discrimination.unwrap() > 0.7, "{:?}", found[2]);
        assert_eq!(odd(3), Some(TaskOddity::BestFail));
        assert_eq!(odd(5), Some(TaskOddity::NobodySolved));
        assert_eq!((found[1].found_difficulty, found[3].found_difficulty), (Some(2), Some(4)));
    }
}
