//! What may be spent: caps on money, tokens and time.

use std::fmt;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::limits::Span;

/// SpendingCaps on what one trial, one candidate or a whole run may spend; what is `None` has none.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SpendingCaps {
    /// Money, in the plan's currency.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub money: Option<f64>,
    /// Tokens read and written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tokens: Option<u64>,
    /// Time: of a run by the clock on the wall, of one session; of a trial or a candidate that its requests took, all
    /// sessions together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<Span>,
}

/// SpendingCaps of a plan: its own keys are those of the whole run.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Budget {
    /// Money, in the plan's currency.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub money: Option<f64>,
    /// Tokens read and written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tokens: Option<u64>,
    /// Time by the clock on the wall, of one session.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<Span>,
    /// SpendingCaps of each candidate that has none of its own.
    #[serde(default, skip_serializing_if = "SpendingCaps::is_none")]
    pub candidate: SpendingCaps,
    /// SpendingCaps of each trial.
    #[serde(default, skip_serializing_if = "SpendingCaps::is_none")]
    pub trial: SpendingCaps,
}

/// What was spent.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Spending {
    /// Money, in the plan's currency.
    pub money: f64,
    /// Tokens read and written.
    pub tokens: u64,
    /// Time.
    pub time: Duration,
}

/// A cap that was reached.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Cap {
    /// Of money.
    Money(f64),
    /// Of tokens.
    Tokens(u64),
    /// Of time.
    Time(Duration),
}

impl SpendingCaps {
    /// Whether there are none.
    #[must_use]
    pub fn is_none(&self) -> bool {
        *self == Self::default()
    }

    /// The cap that is reached, if one is.
    #[must_use]
    pub fn reached(&self, spent: &Spending) -> Option<Cap> {
        let money = self.money.filter(|it| spent.money >= *it).map(Cap::Money);
        let tokens = self.tokens.filter(|it| spent.tokens >= *it).map(Cap::Tokens);
        let time = self.time.filter(|it| spent.time >= it.0).map(|it| Cap::Time(it.0));
        money.or(tokens).or(time)
    }

    pub(super) fn check(&self, whose: &str) -> Result<(), String> {
        let nothing = [
            ("money", self.money.is_some_and(|it| !(it > 0.0 && it.is_finite()))),
            ("tokens", self.tokens == Some(0)),
            ("time", self.time.is_some_and(|it| it.0.is_zero())),
        ];
        match nothing.iter().find(|it| it.1) {
            Some((key, _)) => Err(format!("{whose}: `{key}` is not above 0")),
            None => Ok(()),
        }
    }
}

impl Budget {
    /// Whether it caps nothing.
    #[must_use]
    pub fn is_none(&self) -> bool {
        *self == Self::default()
    }

    /// The caps of the whole run.
    #[must_use]
    pub fn run(&self) -> SpendingCaps {
        SpendingCaps { money: self.money, tokens: self.tokens, time: self.time }
    }

    pub(super) fn check(&self) -> Result<(), String> {
        self.run().check("[budget]")?;
        self.candidate.check("[budget.candidate]")?;
        self.trial.check("[budget.trial]")
    }
}

impl std::ops::AddAssign for Spending {
    fn add_assign(&mut self, other: Self) {
        self.money += other.money;
        self.tokens = self.tokens.saturating_add(other.tokens);
        self.time = self.time.saturating_add(other.time);
    }
}

impl fmt::Display for Cap {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Money(most) => write!(f, "money ({most})"),
            Self::Tokens(most) => write!(f, "tokens ({most})"),
            Self::Time(most) => write!(f, "time ({} s)", most.as_secs_f64()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cap_is_reached_by_what_was_spent_and_not_before() {
        let caps = SpendingCaps { money: Some(0.5), tokens: Some(100), time: None };
        let spent = |money, tokens| Spending { money, tokens, time: Duration::from_secs(900) };
        assert_eq!(caps.reached(&spent(0.49, 99)), None);
        assert_eq!(caps.reached(&spent(0.5, 0)), Some(Cap::Money(0.5)));
        assert_eq!(caps.reached(&spent(0.0, 100)), Some(Cap::Tokens(100)));
        let nothing = SpendingCaps { money: Some(0.0), ..SpendingCaps::default() };
        assert_eq!(nothing.check("[budget]"), Err("[budget]: `money` is not above 0".to_owned()));
    }
}
