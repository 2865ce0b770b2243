//! How far a run is: bars on a terminal, plain lines otherwise.

use std::io::Write;
use std::time::{Duration, Instant};

use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::Verdict;
use fairtrial_report::{count, duration, money, safe};
use fairtrial_runner::{CandidateProgress, Observer, Progress};
use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};

/// Longest silence between two plain lines.
const QUIET: Duration = Duration::from_secs(5);

/// Longest name shown before a bar, in characters.
const NAME_MAX: usize = 24;

/// Bars, one for the run and one for each candidate.
pub struct Bars {
    all: MultiProgress,
    run: ProgressBar,
    candidates: Vec<ProgressBar>,
    began: Instant,
    currency: String,
}

impl Bars {
    /// Bars on standard error.
    pub fn new(names: &[&str], currency: &str, colour: bool) -> Self {
        let longest = names.iter().map(|it| it.chars().count()).max().unwrap_or(0);
        let width = longest.clamp("trials".len(), NAME_MAX);
        let all = MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(10));
        let bar = if colour { "{bar:32.cyan/black.bright}" } else { "{bar:32}" };
        let style = ProgressStyle::with_template(&format!("{{prefix:<{width}}} {bar} {{msg}}"));
        let style = style.unwrap_or_else(|_| ProgressStyle::default_bar());
        let run = all.add(ProgressBar::new(0).with_style(style.progress_chars("━━─")));
        run.set_prefix("trials");
        let currency = currency.to_owned();
        Self { all, run, candidates: Vec::new(), began: Instant::now(), currency }
    }

    /// Takes the bars away.
    pub fn clear(&self) {
        let _ = self.all.clear();
    }
}

/// Trials over, time left and money spent, in one line.
fn overall(progress: &Progress, began: Instant, currency: &str) -> String {
    let spent = format!("{} {}", money(progress.cost), safe(currency));
    let left = time_left(progress, began).map_or(String::new(), |it| format!(" · {it} left"));
    format!("{} of {}{left} · {spent} spent", progress.over, progress.total)
}

fn time_left(progress: &Progress, began: Instant) -> Option<String> {
    let remaining = progress.total.saturating_sub(progress.over);
    if progress.over_now < 5 || remaining == 0 {
        return None;
    }
    let each = began.elapsed().as_secs_f64() / progress.over_now as f64;
    Some(duration(each * remaining as f64))
}

fn candidate_line(progress: &CandidateProgress) -> String {
    let CandidateProgress { counted, passed, void, .. } = progress;
    let share = match counted {
        0 => "–".to_owned(),
        n => format!("{:.0} %", *passed as f64 / *n as f64 * 100.0),
    };
    let void = if *void == 0 { String::new() } else { format!(", {void} void") };
    format!("{share:>5} of {counted} passed{void}")
}

impl Observer for Bars {
    fn progress(&mut self, progress: &Progress) {
        self.run.set_length(progress.total as u64);
        self.run.set_position(progress.over as u64);
        self.run.set_message(overall(progress, self.began, &self.currency));
        for (index, row) in progress.candidates.iter().enumerate() {
            if self.candidates.len() <= index {
                let bar = self.all.add(ProgressBar::new(0).with_style(self.run.style()));
                let name: String = safe(&row.name).chars().take(NAME_MAX).collect();
                bar.set_prefix(name);
                self.candidates.push(bar);
            }
            let bar = &self.candidates[index];
            bar.set_length(row.total as u64);
            bar.set_position((row.counted + row.void) as u64);
            bar.set_message(candidate_line(row));
        }
    }

    fn trial_over(&mut self, _key: &TrialKey, _verdict: Verdict, _attempts: u32) {}

    fn stopping(&mut self, under_way: usize) {
        let _ = self.all.println(stopping_line(under_way));
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
    currency: String,
}

impl<'a> Lines<'a> {
    /// Lines on `err`.
    pub fn new(err: &'a mut dyn Write, currency: &str) -> Self {
        Self { err, began: Instant::now(), last: None, currency: currency.to_owned() }
    }
}

impl Observer for Lines<'_> {
    fn progress(&mut self, progress: &Progress) {
        let due = self.last.is_none_or(|last| last.elapsed() >= QUIET);
        if !due && progress.over < progress.total {
            return;
        }
        self.last = Some(Instant::now());
        let rows = progress
            .candidates
            .iter()
            .map(|row| format!("{} {}", safe(&row.name), candidate_line(row).trim_start()));
        let rows = rows.collect::<Vec<_>>().join("; ");
        // A log that cannot be written must not end a run that costs money.
        let _ =
            writeln!(self.err, "trials {}; {rows}", overall(progress, self.began, &self.currency));
    }

    fn trial_over(&mut self, _key: &TrialKey, _verdict: Verdict, _attempts: u32) {}

    fn stopping(&mut self, under_way: usize) {
        let _ = writeln!(self.err, "{}", stopping_line(under_way));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn progress(over: usize, over_now: usize) -> Progress {
        Progress {
            total: 40,
            over,
            over_now,
            candidates: vec![
                CandidateProgress { name: "auk".into(), total: 5, counted: 3, passed: 2, void: 1 },
                CandidateProgress { name: "te\u{1b}[2Jrn".into(), ..Default::default() },
            ],
            cost: 0.5,
        }
    }

    #[test]
    fn a_plain_line_says_how_far_everybody_is_and_not_too_often() {
        let mut out = Vec::new();
        let mut lines = Lines::new(&mut out, "EUR");
        lines.progress(&progress(4, 0));
        lines.progress(&progress(5, 1));
        lines.progress(&progress(40, 36));
        let text = String::from_utf8(out).unwrap();
        let expected = "trials 4 of 40 · 0.5000 EUR spent; auk 67 % of 3 passed, 1 void; \
                        te\\u{1b}[2Jrn – of 0 passed";
        assert_eq!(text.lines().next(), Some(expected));
        assert_eq!(text.lines().count(), 2, "the second line came too soon: {text}");
    }

    #[test]
    fn the_time_left_is_told_once_there_is_something_to_go_by() {
        let began = Instant::now().checked_sub(Duration::from_secs(60)).unwrap();
        assert_eq!(time_left(&progress(4, 4), began), None);
        assert_eq!(time_left(&progress(10, 10), began).as_deref(), Some("3 min"));
        assert_eq!(time_left(&progress(40, 20), began), None);
    }
}
