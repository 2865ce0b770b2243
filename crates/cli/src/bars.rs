//! Bars on a terminal: one for all of a thing, and below it one for each of its parts.

use std::fmt;

use fairtrial_report::safe;
use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};

/// Longest name shown before a bar, in characters.
pub const NAME_MAX: usize = 24;

/// Columns from which on bars are long.
const WIDE: usize = 100;

/// Bars, one below the other. They are gone when this is dropped.
pub struct BarRows {
    all: MultiProgress,
    style: ProgressStyle,
    rows: Vec<ProgressBar>,
    /// Columns of a name.
    width: usize,
}

impl BarRows {
    /// Bars on standard error, which has so many columns, for parts of these names.
    pub fn new<'a>(names: impl IntoIterator<Item = &'a str>, colour: bool, columns: usize) -> Self {
        let longest = names.into_iter().map(|it| it.chars().count()).max().unwrap_or(0);
        let name = if columns < WIDE { NAME_MAX / 2 } else { NAME_MAX };
        let width = longest.clamp("trials".len(), name);
        let length = if columns < WIDE { 10 } else { 24 };
        let bar = match colour {
            true => format!("{{bar:{length}.cyan/black.bright}}"),
            false => format!("{{bar:{length}}}"),
        };
        // What does not fit is cut off at the end of the line, never wrapped.
        let style = format!("{{prefix:<{width}}} {bar} {{wide_msg}}");
        let style = ProgressStyle::with_template(&style);
        let style = style.unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars("━━─");
        let all = MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(10));
        Self { all, style, rows: Vec::new(), width }
    }

    /// Shows how far something is; rows come below each other in the order in which they are first set.
    pub fn set(&mut self, row: usize, name: &str, (done, wanted): (usize, usize), what: String) {
        while self.rows.len() <= row {
            self.rows.push(self.all.add(ProgressBar::new(0).with_style(self.style.clone())));
        }
        let bar = &self.rows[row];
        bar.set_prefix(safe(name).chars().take(self.width).collect::<String>());
        bar.set_length(wanted as u64);
        bar.set_position(done as u64);
        bar.set_message(what);
    }

    /// Writes a line above the bars.
    pub fn say(&self, line: impl fmt::Display) {
        // A terminal that is gone must not end what costs money.
        let _ = self.all.println(line.to_string());
    }
}

impl Drop for BarRows {
    fn drop(&mut self) {
        let _ = self.all.clear();
    }
}
