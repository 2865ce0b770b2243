//! The ranking as a grid, a candidate a row.

use std::fmt;
use std::str::FromStr;

use fairtrial_core::standings::Standing;
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::{UnknownWord, worded};
use serde::{Deserialize, Serialize};

use super::{Grid, GridCell, GridColumn, Overflow};
use crate::figures::{percent, thousands};
use crate::view::{NamedStep, TroubleRow};

worded! {
    /// A column of the ranking.
    RankingColumn {
        /// The ranks that are possible.
        Rank = "rank",
        /// The candidate's name.
        Candidate = "candidate",
        /// Trials solved, of those that count.
        Solved = "solved",
        /// Their share.
        Share = "share",
        /// The 95 % interval of the share.
        Interval = "interval",
        /// The share solved with the first answer.
        FirstTry = "first-try",
        /// Mean repairs of trials that were solved.
        Repairs = "repairs",
        /// The share solved after 1, 2 … attempts.
        Curve = "curve",
        /// Tasks solved by one repeat of all, with the deviation from repeat to repeat.
        Repeats = "repeats",
        /// The chance that one of two, three … samples solves a task, for as many as there are.
        PassAtMost = "any-of-k",
        /// The share of tasks that every sample solved.
        Consistent = "all-of-k",
        /// The share of points earned.
        Points = "points",
        /// Trials solved with answers in the form asked for.
        Strict = "strict",
        /// Trials in which the candidate declined to answer.
        Refused = "refused",
        /// Seconds to answer, for each trial.
        Time = "time",
        /// Seconds to answer, for each solved trial.
        SolvedTime = "time-per-solved",
        /// Tokens read and written.
        Tokens = "tokens",
        /// What all trials cost.
        Cost = "cost",
        /// What each trial cost.
        TrialCost = "cost-per-trial",
        /// What each solved trial cost.
        SolvedCost = "cost-per-solved",
        /// Trials that do not count.
        Void = "void",
    }
}

impl RankingColumn {
    /// The columns that are shown where nobody asks for others.
    pub const USUAL: &'static [Self] = &[
        Self::Rank,
        Self::Candidate,
        Self::Solved,
        Self::Share,
        Self::Interval,
        Self::FirstTry,
        Self::Repairs,
        Self::Time,
        Self::Tokens,
        Self::Cost,
        Self::Void,
    ];

    /// What the column says, for a legend.
    #[must_use]
    pub const fn meaning(self) -> &'static str {
        match self {
            Self::Rank => "the ranks that the decisions on pairs leave open",
            Self::Candidate => "who stands trial",
            Self::Solved => "trials that passed within the attempts allowed, of those that count",
            Self::Share => "their share",
            Self::Interval => "95 % interval of that share over tasks like these",
            Self::FirstTry => "share that passed with the first answer",
            Self::Repairs => "mean number of repairs in trials that were solved",
            Self::Curve => "share solved after 1, 2 … attempts",
            Self::Repeats => "tasks solved by one sample of each, mean ± standard deviation",
            Self::PassAtMost => "chance that at least one of all samples solves a task",
            Self::Consistent => "share of tasks that every sample solved",
            Self::Points => "share of points, with partial credit and the docket's weights",
            Self::Strict => "trials solved by answers in the form asked for",
            Self::Refused => "trials in which it declined to answer",
            Self::Time => "seconds to answer, for each trial that counts",
            Self::SolvedTime => "that, for each trial that was solved",
            Self::Tokens => "tokens read and written",
            Self::Cost => "what all trials cost, void ones too",
            Self::TrialCost => "that, for each trial that counts",
            Self::SolvedCost => "that, for each trial that was solved",
            Self::Void => "trials spoiled by no fault of the candidate: not counted",
        }
    }

    /// Its name for people.
    #[must_use]
    pub fn head(self) -> String {
        self.column().head
    }

    fn column(self) -> GridColumn {
        let (key, head, spare) = match self {
            Self::Rank => ("rank", "rank", 0),
            Self::Candidate => return GridColumn::name("candidate"),
            Self::Solved => ("solved", "solved", 0),
            Self::Share => ("solved_rate", "share", 1),
            Self::Interval => ("interval", "95 % interval", 2),
            Self::FirstTry => ("first_try_rate", "first try", 4),
            Self::Repairs => ("mean_repairs", "repairs", 6),
            Self::Curve => ("repair_curve", "after 1, 2 …", 3),
            Self::Repeats => ("spread", "repeats", 3),
            Self::PassAtMost => ("pass_at", "any of k", 3),
            Self::Consistent => ("consistency", "all of k", 3),
            Self::Points => ("points_rate", "points", 3),
            Self::Strict => ("strict", "strict", 3),
            Self::Refused => ("refused", "refused", 3),
            Self::Time => ("seconds_per_trial", "s/trial", 5),
            Self::SolvedTime => ("seconds_per_solved", "s/solved", 3),
            Self::Tokens => ("tokens", "tokens", 8),
            Self::Cost => ("cost", "cost", 3),
            Self::TrialCost => ("cost_per_trial", "cost/trial", 3),
            Self::SolvedCost => ("cost_per_solved", "cost/solved", 3),
            Self::Void => ("void", "void", 7),
        };
        GridColumn::figure(key, head, spare)
    }

    fn cell(self, row: &Standing, places: CostPlaces) -> GridCell {
        let rate = |it| GridCell::figure(it, percent);
        let fixed = |it, places: usize| GridCell::figure(it, move |it| format!("{it:.places$}"));
        match self {
            Self::Rank => rank(row),
            Self::Candidate => GridCell::text(&row.name),
            Self::Solved => GridCell {
                shown: format!("{}/{}", row.solved, row.trials),
                raw: row.solved.to_string(),
            },
            Self::Share => rate(row.solved_rate),
            Self::Interval => row.interval.map_or_else(GridCell::none, |(low, high)| GridCell {
                shown: format!("{:.0} to {:.0} %", low * 100.0, high * 100.0),
                raw: format!("{low} {high}"),
            }),
            Self::FirstTry => rate(row.first_try_rate),
            Self::Repairs => fixed(row.mean_repairs, 2),
            Self::Curve => list(&row.repair_curve),
            Self::Repeats => repeats(row),
            Self::PassAtMost => rate(row.pass_at.last().copied()),
            Self::Consistent => rate(row.consistency),
            Self::Points => rate(row.points_rate),
            Self::Strict => GridCell::count(row.strict),
            Self::Refused => GridCell::count(row.refused),
            Self::Time => fixed(row.seconds_per_trial(), 2),
            Self::SolvedTime => fixed(row.seconds_per_solved(), 2),
            Self::Tokens => {
                let all = row.tokens().input + row.tokens().output;
                GridCell { shown: thousands(all), raw: all.to_string() }
            }
            Self::Cost => fixed(Some(row.cost()), places.whole),
            Self::TrialCost => fixed(row.cost_per_trial(), places.single),
            Self::SolvedCost => fixed(row.cost_per_solved(), places.single),
            Self::Void => GridCell::count(row.void),
        }
    }

    /// What rows are sorted by, the best first: a number that is lower for what is better.
    fn order(self, row: &Standing) -> f64 {
        let less = |it: Option<f64>| it.map_or(f64::INFINITY, |it| -it);
        let more = |it: Option<f64>| it.unwrap_or(f64::INFINITY);
        match self {
            Self::Rank => more(row.rank_range.map(|(best, worst)| (best + worst) as f64)),
            Self::Candidate => 0.0,
            Self::Solved => -(row.solved as f64),
            Self::Share | Self::Interval => less(row.solved_rate),
            Self::FirstTry => less(row.first_try_rate),
            Self::Curve => less(row.repair_curve.last().copied()),
            Self::Repeats => less(row.spread.map(|it| it.mean)),
            Self::PassAtMost => less(row.pass_at.last().copied()),
            Self::Consistent => less(row.consistency),
            Self::Points => less(row.points_rate),
            Self::Strict => -(row.strict as f64),
            Self::Repairs => more(row.mean_repairs),
            Self::Refused => row.refused as f64,
            Self::Time => more(row.seconds_per_trial()),
            Self::SolvedTime => more(row.seconds_per_solved()),
            Self::Tokens => (row.tokens().input + row.tokens().output) as f64,
            Self::Cost => row.cost(),
            Self::TrialCost => more(row.cost_per_trial()),
            Self::SolvedCost => more(row.cost_per_solved()),
            Self::Void => row.void as f64,
        }
    }
}

/// Decimal places of money, one number for a whole column.
#[derive(Debug, Clone, Copy)]
struct CostPlaces {
    whole: usize,
    single: usize,
}

impl CostPlaces {
    fn of(rows: &[Standing]) -> Self {
        let most = |of: &dyn Fn(&Standing) -> f64| rows.iter().map(of).fold(0.0, f64::max);
        let places = |most: f64| match most {
            it if it >= 1.0 => 2,
            it if it >= 0.01 || it == 0.0 => 4,
            _ => 6,
        };
        let single = most(&|it| it.cost_per_solved().or(it.cost_per_trial()).unwrap_or(0.0));
        Self { whole: places(most(&|it| it.cost())).min(4), single: places(single) }
    }
}

fn rank(row: &Standing) -> GridCell {
    row.rank_range.map_or_else(GridCell::none, |(best, worst)| GridCell {
        shown: if best == worst { best.to_string() } else { format!("{best}–{worst}") },
        raw: format!("{best} {worst}"),
    })
}

fn repeats(row: &Standing) -> GridCell {
    row.spread.map_or_else(GridCell::none, |it| {
        let deviation = it.deviation.map_or(String::new(), |it| format!(" ± {it:.1}"));
        let raw = it.deviation.map_or(String::new(), |it| format!(" {it}"));
        GridCell { shown: format!("{:.1}{deviation}", it.mean), raw: format!("{}{raw}", it.mean) }
    })
}

/// Rates, one after the other, without their signs.
fn list(rates: &[f64]) -> GridCell {
    if rates.is_empty() {
        return GridCell::none();
    }
    let join = |show: &dyn Fn(&f64) -> String| rates.iter().map(show).collect::<Vec<_>>().join(" ");
    let shown = format!("{} %", join(&|it| format!("{:.0}", it * 100.0)));
    GridCell { shown, raw: join(&f64::to_string) }
}

/// The ranking with these columns, sorted by one of them where that is asked for.
#[must_use]
pub fn ranking_grid(
    rows: &[Standing],
    columns: &[RankingColumn],
    sort: Option<RankingColumn>,
) -> Grid {
    let places = CostPlaces::of(rows);
    let mut sorted: Vec<&Standing> = rows.iter().collect();
    match sort {
        Some(RankingColumn::Candidate) => sorted.sort_by(|a, b| a.name.cmp(&b.name)),
        Some(sort) => sorted.sort_by(|a, b| sort.order(a).total_cmp(&sort.order(b))),
        None => {}
    }
    let cells = |row: &&Standing| columns.iter().map(|it| it.cell(row, places)).collect();
    Grid {
        title: String::new(),
        columns: columns.iter().map(|it| it.column()).collect(),
        rows: sorted.iter().map(cells).collect(),
        overflow: Overflow::Drop,
    }
}

/// Trouble on the way, as shares of trials.
#[must_use]
pub fn trouble_grid(rows: &[TroubleRow]) -> Grid {
    let sorts = Trouble::default().sorts().map(|it| it.0);
    let mut columns = vec![GridColumn::name("candidate")];
    columns.extend(sorts.iter().map(|it| GridColumn::figure(&it.replace(' ', "_"), it, 1)));
    let row = |row: &TroubleRow| {
        let cell = |(_, count): (&str, u32)| match count {
            0 => GridCell { shown: "–".to_owned(), raw: "0".to_owned() },
            count => GridCell { shown: format!("{count}/{}", row.trials), raw: count.to_string() },
        };
        let name = GridCell::text(&row.name);
        std::iter::once(name).chain(row.seen.sorts().map(cell)).collect()
    };
    Grid {
        title: "trouble on the way, in so many trials".to_owned(),
        columns,
        rows: rows.iter().map(row).collect(),
        overflow: Overflow::Blocks(1),
    }
}

/// Who is worth its price, or its time. `unit` is what a trial takes of it.
#[must_use]
pub fn frontier_grid(title: &str, unit: &str, steps: &[NamedStep]) -> Grid {
    let money = |value: f64| match value {
        it if it >= 1.0 => format!("{it:.2}"),
        it if it >= 0.01 => format!("{it:.4}"),
        it => format!("{it:.6}"),
    };
    let columns = vec![
        GridColumn::name("candidate"),
        GridColumn::figure("solved_rate", "share", 0),
        GridColumn::figure("per_trial", &format!("{unit}/trial"), 0),
        GridColumn::figure("per_point", &format!("{unit} for one more point"), 0),
    ];
    let row = |it: &NamedStep| {
        vec![
            GridCell::text(&it.name),
            GridCell::figure(Some(it.rate), percent),
            GridCell::figure(Some(it.price), money),
            GridCell::figure(it.per_point, money),
        ]
    };
    let rows = steps.iter().map(row).collect();
    Grid { title: title.to_owned(), columns, rows, overflow: Overflow::Drop }
}

/// What each column says, for a legend.
#[must_use]
pub fn legend() -> String {
    let lines = RankingColumn::ALL.iter().map(|it| format!("  {:<16} {}", it.word(), it.meaning()));
    lines.collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use fairtrial_core::standings::{Results, Scope, Standings};

    use super::*;

    #[test]
    fn a_candidate_without_a_trial_that_counts_has_dashes() {
        let results = Results::new(vec!["auk".to_owned()], Vec::new(), 1);
        let rows = Standings::compute(&results, &Scope::all(&results), 1).candidates;
        let grid = ranking_grid(&rows, RankingColumn::USUAL, None);
        let shown: Vec<&str> = grid.rows[0].iter().map(|it| it.shown.as_str()).collect();
        assert_eq!(shown[..8], ["–", "auk", "0/0", "–", "–", "–", "–", "–"]);
        assert!(grid.rows[0][3].raw.is_empty());
    }
}
