//! Trials that are made up.

use fairtrial_core::plan::Tokens;
use fairtrial_core::standings::TrialFigures;
use fairtrial_core::verdict::Verdict;

/// A trial of one answer that came to this, and cost nothing.
#[must_use]
pub fn trial(verdict: Verdict) -> TrialFigures {
    TrialFigures {
        verdict,
        answers: 1,
        deviating: 0,
        strict: verdict.is_pass(),
        credit: f64::from(u8::from(verdict.is_pass())),
        seconds: 0.0,
        tokens: Tokens::default(),
        cost: 0.0,
        estimated: false,
        trouble: None,
        helped: false,
    }
}
