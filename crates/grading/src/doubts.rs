//! What makes a failure doubtful: signs that the machine's load decided.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use fairtrial_sandbox::{LimitHit, Outcome};

/// What makes a failure doubtful: signs that the machine's load decided.
#[derive(Debug, Default)]
pub struct Doubts(AtomicBool);

impl Doubts {
    /// Forgets all.
    pub fn clear(&self) {
        self.0.store(false, Ordering::Relaxed);
    }

    /// Whether there are any.
    pub fn any(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    /// Takes note of a run that took too long by the clock on the wall although it used little of the
    /// processor `time` that it had.
    pub fn note(&self, outcome: &Outcome, time: Duration) {
        let before: Duration = outcome.laps.iter().map(|lap| lap.cpu).sum();
        let is_idle = outcome.cpu.saturating_sub(before) < time / 2;
        if outcome.limit == Some(LimitHit::Wall) && is_idle {
            self.0.store(true, Ordering::Relaxed);
        }
    }
}
