//! What tokens cost.

use serde::{Deserialize, Serialize};

/// Prices per million tokens, in the plan's currency.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Price {
    /// Tokens read.
    #[serde(default)]
    pub input: f64,
    /// Tokens read from the host's cache; `None`: as `input`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cached_input: Option<f64>,
    /// Tokens written.
    #[serde(default)]
    pub output: f64,
}

/// Tokens of one request or of many.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tokens {
    /// Read, those from the cache included.
    pub input: u64,
    /// Read from the cache.
    pub cached: u64,
    /// Written, those of what was thought aloud included.
    pub output: u64,
    /// Of those written, thought aloud, where the host counts them.
    #[serde(default)]
    pub reasoning: u64,
}

impl std::ops::Add for Tokens {
    type Output = Self;

    fn add(self, other: Self) -> Self {
        Self {
            input: self.input.saturating_add(other.input),
            cached: self.cached.saturating_add(other.cached),
            output: self.output.saturating_add(other.output),
            reasoning: self.reasoning.saturating_add(other.reasoning),
        }
    }
}

impl Price {
    /// What `tokens` cost, in the plan's currency.
    #[must_use]
    pub fn of(&self, tokens: Tokens) -> f64 {
        let cached = tokens.cached.min(tokens.input);
        let fresh = tokens.input - cached;
        let cached_price = self.cached_input.unwrap_or(self.input);
        (fresh as f64 * self.input
            + cached as f64 * cached_price
            + tokens.output as f64 * self.output)
            / 1e6
    }
}

impl Price {
    pub(super) fn check(&self, candidate: &str) -> Result<(), String> {
        let prices = [self.input, self.output, self.cached_input.unwrap_or(0.0)];
        if prices.iter().any(|it| !(*it >= 0.0 && it.is_finite())) {
            return Err(format!("candidate `{candidate}`: a price is a number of at least 0"));
        }
        Ok(())
    }
}
