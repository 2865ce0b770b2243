//! Rules that standings must hold, in a few words, for machines that decide by an exit code.
//!
//! `petrel solved at least 0.8`, `petrel surely solved at least 0.7`, `petrel cost at most 0.01`,
//! `petrel not worse than puffin`, `petrel not worse than puffin by more than 0.05`, `petrel better than puffin`.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::{Comparison, Standing};
use crate::verdict::{UnknownWord, worded};

worded! {
    /// What a rule is about.
    Measure {
        /// The solved rate.
        Solved = "solved",
        /// The rate solved with the first answer.
        FirstTry = "first-try",
        /// The share of points.
        Points = "points",
        /// The share of tasks that every sample solved.
        AllOfK = "all-of-k",
        /// Money for each trial.
        Cost = "cost",
        /// Seconds for each trial.
        Time = "time",
        /// Void trials.
        Void = "void",
    }
}

/// A rule.
#[derive(Debug, Clone, PartialEq)]
pub enum Rule {
    /// A measure of a candidate has a bound.
    Bound {
        /// Whose.
        candidate: String,
        /// Of what.
        measure: Measure,
        /// Whether the whole interval must keep to it, not only the figure.
        surely: bool,
        /// Whether it is a lower bound.
        at_least: bool,
        /// The bound: shares from 0 to 1.
        bound: f64,
    },
    /// A candidate beside another.
    Beside {
        /// Who.
        candidate: String,
        /// Beside whom: a candidate, or a record with a candidate of the same name.
        other: String,
        /// What must hold.
        relation: Relation,
    },
}

/// How a candidate must stand beside another.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Relation {
    /// It is established better.
    Better,
    /// It is not established worse.
    NotWorse,
    /// The interval of the difference stays above minus so much.
    NotWorseBy(f64),
}

/// Why a text is no rule.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    /// It has none of the forms.
    #[error(
        "`{0}` is no rule; rules are `NAME MEASURE at least NUMBER`, `NAME surely MEASURE at most NUMBER`, \
         `NAME better than NAME`, `NAME not worse than NAME`, `NAME not worse than NAME by more than NUMBER`"
    )]
    Form(String),
    /// The measure is none.
    #[error("unknown measure `{found}`; allowed are: {allowed}")]
    Measure {
        /// What was found.
        found: String,
        /// What is allowed.
        allowed: String,
    },
    /// What should be a number is none.
    #[error("`{0}` is no number of at least 0")]
    Number(String),
    /// There is no interval of that measure.
    #[error("only `solved` has an interval, so only `surely solved` can be asked for")]
    Surely,
}

impl FromStr for Rule {
    type Err = RuleError;

    fn from_str(text: &str) -> Result<Self, RuleError> {
        let text = text.trim();
        let malformed = || RuleError::Form(text.to_owned());
        for (words, at_least) in [(" at least ", true), (" at most ", false)] {
            if let Some((left, number)) = text.rsplit_once(words) {
                return Self::bound(left, at_least, number).unwrap_or_else(|| Err(malformed()));
            }
        }
        for (words, relation) in
            [(" not worse than ", Relation::NotWorse), (" better than ", Relation::Better)]
        {
            let Some((candidate, other)) = text.split_once(words) else { continue };
            let (other, relation) = match (relation, other.rsplit_once(" by more than ")) {
                (Relation::NotWorse, Some((other, by))) => {
                    (other, Relation::NotWorseBy(number(by)?))
                }
                _ => (other, relation),
            };
            if candidate.trim().is_empty() || other.trim().is_empty() {
                return Err(malformed());
            }
            let (candidate, other) = (candidate.trim().to_owned(), other.trim().to_owned());
            return Ok(Self::Beside { candidate, other, relation });
        }
        Err(malformed())
    }
}

impl Rule {
    /// `left` is a name and a measure; `None` where it is not.
    fn bound(left: &str, at_least: bool, bound: &str) -> Option<Result<Self, RuleError>> {
        let (left, measure) = left.trim().rsplit_once(' ')?;
        let measure = match measure.parse::<Measure>() {
            Ok(measure) => measure,
            Err(UnknownWord { found, allowed }) => {
                return Some(Err(RuleError::Measure { found, allowed }));
            }
        };
        let (candidate, surely) = match left.trim().strip_suffix(" surely") {
            Some(candidate) => (candidate.trim(), true),
            None => (left.trim(), false),
        };
        if surely && measure != Measure::Solved {
            return Some(Err(RuleError::Surely));
        }
        let candidate = (!candidate.is_empty()).then(|| candidate.to_owned())?;
        let rule = |bound| Self::Bound { candidate, measure, surely, at_least, bound };
        Some(number(bound).map(rule))
    }

    /// The candidate that it is about.
    #[must_use]
    pub fn candidate(&self) -> &str {
        match self {
            Self::Bound { candidate, .. } | Self::Beside { candidate, .. } => candidate,
        }
    }

    /// Checks a bound. `None` for a rule that needs a pair, or where the candidate has no such figure.
    #[must_use]
    pub fn check_bound(&self, row: &Standing) -> Option<Finding> {
        let Self::Bound { measure, surely, at_least, bound, .. } = self else { return None };
        let value = match measure {
            Measure::Solved => row.solved_rate,
            Measure::FirstTry => row.first_try_rate,
            Measure::Points => row.points_rate,
            Measure::AllOfK => row.consistency,
            Measure::Cost => row.cost_per_trial(),
            Measure::Time => row.seconds_per_trial(),
            Measure::Void => Some(row.void as f64),
        }?;
        let interval = row.interval.filter(|_| *measure == Measure::Solved);
        let judged = match (surely, at_least, interval) {
            (true, true, Some((low, _))) => low,
            (true, false, Some((_, high))) => high,
            _ => value,
        };
        let holds = if *at_least { judged >= *bound } else { judged <= *bound };
        Some(Finding { holds, value, interval, p: None })
    }

    /// Checks a relation on a pair whose first is the rule's candidate. `None` for a rule that needs none, or
    /// where the two did no task both.
    #[must_use]
    pub fn check_pair(&self, pair: &Comparison) -> Option<Finding> {
        let Self::Beside { relation, .. } = self else { return None };
        let interval = pair.interval?;
        let holds = match relation {
            Relation::Better => pair.decision() == Ordering::Greater,
            Relation::NotWorse => pair.decision() != Ordering::Less,
            Relation::NotWorseBy(by) => interval.0 >= -by,
        };
        let p = Some(pair.p_adjusted);
        Some(Finding { holds, value: pair.difference, interval: Some(interval), p })
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Bound { candidate, measure, surely, at_least, bound } => {
                let surely = if *surely { "surely " } else { "" };
                let at = if *at_least { "least" } else { "most" };
                write!(f, "{candidate} {surely}{measure} at {at} {bound}")
            }
            Self::Beside { candidate, other, relation } => match relation {
                Relation::Better => write!(f, "{candidate} better than {other}"),
                Relation::NotWorse => write!(f, "{candidate} not worse than {other}"),
                Relation::NotWorseBy(by) => {
                    write!(f, "{candidate} not worse than {other} by more than {by}")
                }
            },
        }
    }
}

/// What a rule came to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Finding {
    /// Whether it holds.
    pub holds: bool,
    /// The figure; of a pair, the difference of the rates.
    pub value: f64,
    /// Its 95 % interval, where it has one.
    pub interval: Option<(f64, f64)>,
    /// The p value of a pair, adjusted for all pairs that were looked at.
    pub p: Option<f64>,
}

fn number(text: &str) -> Result<f64, RuleError> {
    let found = text.trim().parse::<f64>().ok().filter(|it| it.is_finite() && *it >= 0.0);
    found.ok_or_else(|| RuleError::Number(text.trim().to_owned()))
}

#[cfg(test)]
mod tests {
    use super::super::tests::results;
    use super::super::{Scope, Standings};
    use super::*;

    #[test]
    fn rules_are_read_and_written_the_same() {
        for text in [
            "petrel solved at least 0.8",
            "storm petrel surely solved at most 0.75",
            "petrel cost at most 0.01",
            "petrel better than puffin",
            "petrel not worse than old/record",
            "petrel not worse than puffin by more than 0.05",
        ] {
            assert_eq!(text.parse::<Rule>().unwrap().to_string(), text);
        }
        for (text, part) in [
            ("petrel", "is no rule"),
            ("solved at least 0.8", "is no rule"),
            (
                "petrel solve at least 0.8",
                "unknown measure `solve`; allowed are: solved, first-try",
            ),
            ("petrel solved at least much", "`much` is no number"),
            ("petrel solved at least NaN", "is no number"),
            ("petrel surely cost at most 1", "only `solved` has an interval"),
            ("petrel better than ", "is no rule"),
        ] {
            let error = text.parse::<Rule>().unwrap_err().to_string();
            assert!(error.contains(part), "{text}: {error}");
        }
    }

    #[test]
    fn a_rule_holds_or_does_not() {
        let results = results(&[("tern", &"p".repeat(20)), ("auk", &"f".repeat(20))]);
        let found = Standings::compute(&results, &Scope::all(&results), 1);
        let bound = |text: &str| {
            text.parse::<Rule>().unwrap().check_bound(&found.candidates[0]).unwrap().holds
        };
        assert!(bound("tern solved at least 1") && !bound("tern surely solved at least 0.9"));
        assert!(bound("tern surely solved at least 0.8") && !bound("tern cost at most 0.4"));
        let pair = |text: &str| {
            text.parse::<Rule>().unwrap().check_pair(&found.comparisons[0]).unwrap().holds
        };
        assert!(pair("tern better than auk") && pair("tern not worse than auk"));
        assert!(pair("tern not worse than auk by more than 0"));
    }
}
