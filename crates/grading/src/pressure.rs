//! How busy the machine is with other things, as the kernel measures it (PSI,
//! Documentation/accounting/psi.rst).

use std::fs;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The share of a time in which somebody had to wait, from which on a failure may come of that.
const BUSY: f64 = 0.05;

/// How old the beginning of a time may be: what is judged for long is what matters.
const FRESH: Duration = Duration::from_millis(250);

/// The beginning of a time.
#[derive(Clone, Copy)]
pub struct Pressure {
    since: Instant,
    stalled: Option<Duration>,
}

impl Pressure {
    /// Begins to watch.
    pub fn watch() -> Self {
        static LAST: Mutex<Option<Pressure>> = Mutex::new(None);
        let mut last = LAST.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(fresh) = last.filter(|it| it.since.elapsed() < FRESH) {
            return fresh;
        }
        *last.insert(Self { since: Instant::now(), stalled: stalled() })
    }

    /// Whether anybody on the machine had to wait for a processor, for memory or for a disk, more than now
    /// and then. `true` where the kernel does not tell.
    pub fn was_felt(&self) -> bool {
        let (Some(before), Some(now)) = (self.stalled, stalled()) else { return true };
        now.saturating_sub(before).as_secs_f64() > BUSY * self.since.elapsed().as_secs_f64()
    }
}

/// Time in which somebody had to wait, since the machine was started.
fn stalled() -> Option<Duration> {
    let total = |name: &str| {
        let text = fs::read_to_string(format!("/proc/pressure/{name}")).ok()?;
        let line = text.lines().find(|it| it.starts_with("some "))?;
        let micros = line.split("total=").nth(1)?.trim().parse().ok()?;
        Some(Duration::from_micros(micros))
    };
    ["cpu", "io", "memory"].into_iter().map(total).sum()
}
