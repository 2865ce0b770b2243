//! How far a run is: bars on a terminal, plain lines otherwise.

use std::io::Write;
use std::time::{Duration, Instant};

use fairtrial_report::{count, duration, money, safe};
use fairtrial_runner::{Observer, Progress, RegradeProgress, RegradedCandidate, RunNews};

use crate::bars::{BarRows, NAME_MAX};
use crate::status::{CandidateStatus, RunStatus};

/// Longest silence between two plain lines.
const QUIET: Duration = Duration::from_secs(5);

/// Bars, one for the run and one for each candidate.
pub struct Bars {
    rows: BarRows,
    began: Instant,
    currency: String,
}

impl Bars {
    /// Bars on standard error, which has so many columns.
    pub fn new(names: &[&str], currency: &str, colour: bool, columns: usize) -> Self {
        let rows = BarRows::new(names.iter().copied(), colour, columns);
        Self { rows, began: Instant::now(), currency: currency.to_owned() }
    }
}

/// Trials over, time left, money spent and the load of the sandbox, in one line.
fn overall(progress: &Progress, began: Instant, currency: &str) -> String {
    let left = time_left(progress, began).map_or(String::new(), |it| format!(" · {it} left"));
    let spent = format!("{} {}", money(progress.cost), safe(currency));
    let load = load(progress.judging, progress.to_judge);
    format!("{} of {}{left} · {spent} spent{load}", progress.over, progress.total)
}

/// What the sandbox has to do.
fn load(judging: usize, to_judge: usize) -> String {
    match (judging, to_judge) {
        (0, 0) => String::new(),
        (judging, 0) => format!(" · judging {judging}"),
        (judging, more) => format!(" · judging {judging}, {more} wait"),
    }
}

fn time_left(progress: &Progress, began: Instant) -> Option<String> {
    let remaining = progress.total.saturating_sub(progress.over);
    if progress.over_now < 5 || remaining == 0 {
        return None;
    }
    let each = began.elapsed().as_secs_f64() / progress.over_now as f64;
    Some(duration(each * remaining as f64))
}

/// What is known of a candidate, the most important first: what does not fit is cut off.
fn candidate_line(row: &CandidateStatus) -> String {
    let share = match row.counted {
        0 => "–".to_owned(),
        n => format!("{:.0} %", row.solved as f64 / n as f64 * 100.0),
    };
    let void = if row.void == 0 { String::new() } else { format!(", {} void", row.void) };
    let mut line = format!("{share:>5} of {} passed{void}", row.counted);
    match (row.state.as_str(), row.rests_seconds, &row.why) {
        ("resting", Some(seconds), _) => line.push_str(&format!(" · resting {seconds:.0} s")),
        ("stopped", _, Some(why)) => line.push_str(&format!(" · stopped: {}", safe(why))),
        ("done", ..) => line.push_str(" · done"),
        _ => {}
    }
    if row.cost > 0.0 {
        line.push_str(&format!(" · {}", money(row.cost)));
    }
    if let Some(rate) = row.tokens_per_second {
        line.push_str(&format!(" · {rate:.0} tokens/s"));
    }
    line
}

/// How far a run is: a line for all of it and one for each candidate, no wider than `width` columns.
pub fn status_lines(status: &RunStatus, width: usize) -> Vec<String> {
    let RunStatus { trials, trials_over, judging, to_judge, .. } = status;
    let spent = format!("{} {}", money(status.cost), safe(&status.currency));
    let load = load(*judging, *to_judge);
    let names = status.candidates.iter().map(|it| safe(&it.name).chars().count());
    let longest = names.max().unwrap_or(0);
    let name_width = longest.clamp("trials".len(), NAME_MAX);
    let line = |name: &str, what: &str| {
        let name: String = safe(name).chars().take(name_width).collect();
        let line = format!("{name:<name_width$}  {what}");
        line.chars().take(width).collect::<String>()
    };
    let took = duration(status.seconds);
    let mut lines =
        vec![line("trials", &format!("{trials_over} of {trials} · {spent} spent{load} · {took}"))];
    lines.extend(status.candidates.iter().map(|row| {
        let over = row.counted + row.void;
        line(
            &row.name,
            &format!(
                "{over:>4} of {}{}",
                row.trials,
                format_args!(" · {}", candidate_line(row).trim_start())
            ),
        )
    }));
    lines
}

impl Observer for Bars {
    fn progress(&mut self, progress: &Progress) {
        let so_far = (progress.over, progress.total);
        self.rows.set(0, "trials", so_far, overall(progress, self.began, &self.currency));
        let status = RunStatus::of(progress, &self.currency, false);
        for (index, row) in status.candidates.iter().enumerate() {
            let so_far = (row.counted + row.void, row.trials);
            self.rows.set(index + 1, &row.name, so_far, candidate_line(row));
        }
    }

    fn happened(&mut self, what: &RunNews<'_>) {
        if let Some(line) = said(what) {
            self.rows.say(line);
        }
    }
}

/// What a person is told at once; `None`: it shows in the progress.
fn said(what: &RunNews<'_>) -> Option<String> {
    match what {
        RunNews::Stopping { under_way } => Some(stopping_line(*under_way)),
        RunNews::Changed { what } => Some(format!("note: {}", safe(what))),
        RunNews::Halted { candidate, why } => {
            Some(format!("`{}` is no longer asked: {}", safe(candidate), safe(why)))
        }
        _ => None,
    }
}

fn stopping_line(under_way: usize) -> String {
    format!(
        "stopping: waiting for {} under way; interrupt again to end at once (what is committed \
         stays)",
        count(under_way, "trial")
    )
}

/// Plain lines, for pipes and logs.
pub struct Lines<'a> {
    err: &'a mut dyn Write,
    began: Instant,
    last: Option<Instant>,
    /// Trials that were over when it was written last.
    told: usize,
    currency: String,
}

impl<'a> Lines<'a> {
    /// Lines on `err`.
    pub fn new(err: &'a mut dyn Write, currency: &str) -> Self {
        Self { err, began: Instant::now(), last: None, told: 0, currency: currency.to_owned() }
    }
}

impl Observer for Lines<'_> {
    fn progress(&mut self, progress: &Progress) {
        let due = self.last.is_none_or(|last| last.elapsed() >= QUIET);
        let is_last = progress.over >= progress.total && self.told < progress.over;
        if !due && !is_last {
            return;
        }
        (self.last, self.told) = (Some(Instant::now()), progress.over);
        let status = RunStatus::of(progress, &self.currency, false);
        let rows = status
            .candidates
            .iter()
            .map(|row| format!("{} {}", safe(&row.name), candidate_line(row).trim_start()));
        let rows = rows.collect::<Vec<_>>().join("; ");
        // A log that cannot be written must not end a run that costs money.
        let _ =
            writeln!(self.err, "trials {}; {rows}", overall(progress, self.began, &self.currency));
    }

    fn happened(&mut self, what: &RunNews<'_>) {
        if let Some(line) = said(what) {
            let _ = writeln!(self.err, "{line}");
        }
    }
}

/// How far judging again is: bars on a terminal, plain lines otherwise.
pub enum RegradeLines<'a> {
    /// One bar for all, one for each candidate.
    Bars(BarRows),
    /// A line now and then.
    Plain(&'a mut dyn Write, Option<Instant>),
}

impl RegradeLines<'_> {
    /// Shows how far it is.
    pub fn progress(&mut self, progress: &RegradeProgress) {
        let RegradeProgress { done, wanted, candidates, .. } = progress;
        let all = format!("{done} of {wanted}{}", other_verdicts(progress.differs()));
        match self {
            Self::Bars(rows) => {
                rows.set(0, "answers", (*done, *wanted), all);
                for (index, row) in candidates.iter().enumerate() {
                    let so_far = (row.done, row.wanted);
                    rows.set(index + 1, &row.name, so_far, regraded_line(row));
                }
            }
            Self::Plain(err, last) => {
                if last.is_none_or(|it| it.elapsed() >= QUIET) && done < wanted {
                    *last = Some(Instant::now());
                    let rows = candidates.iter().map(|row| {
                        format!("{} {}", safe(&row.name), regraded_line(row).trim_start())
                    });
                    let rows = rows.collect::<Vec<_>>().join("; ");
                    let _ = writeln!(err, "judged again {all}; {rows}");
                }
            }
        }
    }
}

fn regraded_line(row: &RegradedCandidate) -> String {
    let RegradedCandidate { done, wanted, passed, .. } = row;
    let share = match done {
        0 => "–".to_owned(),
        done => format!("{:.0} %", *passed as f64 / *done as f64 * 100.0),
    };
    let end = if done == wanted { " · done" } else { "" };
    format!("{share:>5} of {done} passed{}{end}", other_verdicts(row.differs))
}

fn other_verdicts(differs: usize) -> String {
    if differs == 0 { String::new() } else { format!(" · {differs} judged otherwise") }
}

#[cfg(test)]
mod tests {
    use fairtrial_runner::{CandidateProgress, CandidateState};

    use super::*;

    fn progress(over: usize, over_now: usize) -> Progress {
        let auk = CandidateProgress {
            counted: 3,
            passed: 2,
            void: 1,
            cost: 0.5,
            written: 900,
            seconds: 10.0,
            ..CandidateProgress::new("auk", 5)
        };
        let state = CandidateState::Resting(Duration::from_secs(12));
        let tern = CandidateProgress { state, ..CandidateProgress::new("te\u{1b}[2Jrn", 5) };
        Progress {
            total: 40,
            over,
            over_now,
            candidates: vec![auk, tern],
            cost: 0.5,
            reused: 0,
            under_way: 3,
            judging: 2,
            to_judge: 1,
            elapsed: Duration::from_secs(2),
        }
    }

    #[test]
    fn a_run_that_is_watched_fits_any_terminal() {
        let status = RunStatus::of(&progress(4, 0), "EUR", false);
        let lines = status_lines(&status, 100);
        assert_eq!(
            lines,
            [
                "trials         4 of 40 · 0.5000 EUR spent · judging 2, 1 wait · 2.0 s",
                "auk               4 of 5 · 67 % of 3 passed, 1 void · 0.5000 · 90 tokens/s",
                "te\\u{1b}[2Jrn     0 of 5 · – of 0 passed · resting 10 s",
            ]
        );
        assert!(status_lines(&status, 60).iter().all(|it| it.chars().count() <= 60));
    }

    #[test]
    fn a_plain_line_says_how_far_everybody_is_and_not_too_often() {
        let mut out = Vec::new();
        let mut lines = Lines::new(&mut out, "EUR");
        lines.progress(&progress(4, 0));
        lines.progress(&progress(5, 1));
        lines.progress(&progress(40, 36));
        let text = String::from_utf8(out).unwrap();
        let expected = "trials 4 of 40 · 0.5000 EUR spent · judging 2, 1 wait; auk 67 % of 3 passed, 1 void · \
                        0.5000 · 90 tokens/s; te\\u{1b}[2Jrn – of 0 passed · resting 10 s";
        assert_eq!(text.lines().next(), Some(expected));
        assert_eq!(text.lines().count(), 2, "the second line came too soon: {text}");
    }

    #[test]
    fn judging_again_says_how_far_everybody_is() {
        let mut out = Vec::new();
        let row = |name: &str, done, passed, differs| RegradedCandidate {
            name: name.to_owned(),
            wanted: 4,
            done,
            passed,
            differs,
        };
        let candidates = vec![row("auk", 4, 3, 1), row("te\u{1b}rn", 0, 0, 0)];
        let progress = RegradeProgress { done: 4, wanted: 8, candidates };
        RegradeLines::Plain(&mut out, None).progress(&progress);
        assert_eq!(
            String::from_utf8(out).unwrap(),
            "judged again 4 of 8 · 1 judged otherwise; auk 75 % of 4 passed · 1 judged otherwise · done; \
             te\\u{1b}rn – of 0 passed\n"
        );
    }

    #[test]
    fn the_time_left_is_told_once_there_is_something_to_go_by() {
        let began = Instant::now().checked_sub(Duration::from_secs(60)).unwrap();
        assert_eq!(time_left(&progress(4, 4), began), None);
        assert_eq!(time_left(&progress(10, 10), began).as_deref(), Some("3 min"));
        assert_eq!(time_left(&progress(40, 20), began), None);
    }
}
