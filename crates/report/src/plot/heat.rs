//! Grids of colour: categories by candidates, and pairs of candidates.

use std::cmp::Ordering;

use super::svg::{Anchor, Drawing};
use super::{WIDTH, labels};
use crate::figures::percent;
use crate::view::StandingsView;

/// Where the first column begins.
const LEFT: f64 = 170.0;

/// The height of a row.
const ROW: f64 = 28.0;

/// Most columns that have their figures written in.
const FIGURES_MAX: usize = 14;

/// A grid with slanted heads.
struct HeatGrid {
    drawing: Drawing,
    top: f64,
    column: f64,
    has_figures: bool,
}

impl HeatGrid {
    fn new(rows: &[String], columns: &[String], label: &str) -> Self {
        let longest = columns.iter().map(|it| it.chars().count()).max().unwrap_or(0);
        let top = 16.0 + longest as f64 * 4.7;
        let column = ((WIDTH - LEFT - 60.0) / columns.len().max(1) as f64).min(84.0);
        let height = top + ROW * rows.len() as f64 + 10.0;
        let mut drawing = Drawing::new(WIDTH, height, label);
        for (place, name) in rows.iter().enumerate() {
            let y = top + ROW * (place as f64 + 0.5) + 4.0;
            drawing.text((LEFT - 10.0, y), Anchor::End, "name", name);
        }
        for (place, name) in columns.iter().enumerate() {
            let x = LEFT + column * (place as f64 + 0.5);
            drawing.slanted((x, top - 6.0), "name small", name);
        }
        Self { drawing, top, column, has_figures: columns.len() <= FIGURES_MAX }
    }

    /// A cell: `strength` from 0 to 1.
    fn cell(&mut self, at: (usize, usize), class: &str, strength: f64, text: &str, hint: &str) {
        let (row, column) = at;
        let x = LEFT + self.column * column as f64;
        let y = self.top + ROW * row as f64;
        let opacity = 0.06 + 0.84 * strength;
        let size = (self.column - 2.0, ROW - 2.0);
        self.drawing.area((x + 1.0, y + 1.0), size, class, opacity, hint);
        if self.has_figures {
            let class = if strength > 0.55 { "on small" } else { "small" };
            let at = (x + self.column / 2.0, y + ROW / 2.0 + 4.0);
            self.drawing.text(at, Anchor::Middle, class, text);
        }
    }
}

/// Shares by category, where the view is sliced so.
pub fn categories(view: &StandingsView) -> Option<String> {
    let slices: Vec<_> = view.slices.iter().filter(|it| it.by == "category").collect();
    if slices.len() < 2 || view.rows.is_empty() {
        return None;
    }
    let rows = labels(slices.iter().map(|it| it.name.as_str()));
    let columns = labels(view.rows.iter().map(|it| it.name.as_str()));
    let mut grid = HeatGrid::new(&rows, &columns, "share solved by category and candidate");
    for (row, slice) in slices.iter().enumerate() {
        for (column, candidate) in view.rows.iter().enumerate() {
            let found = slice.rows.iter().find(|it| it.name == candidate.name);
            let Some(share) = found.and_then(|it| it.solved_rate) else { continue };
            let hint = format!("{}, {}: {}", slice.name, candidate.name, percent(share));
            grid.cell((row, column), "heat", share, &format!("{:.0}", share * 100.0), &hint);
        }
    }
    Some(grid.drawing.finish())
}

/// Differences of every pair.
pub fn pairs(view: &StandingsView) -> Option<String> {
    if view.rows.len() < 2 {
        return None;
    }
    let names = labels(view.rows.iter().map(|it| it.name.as_str()));
    let mut grid = HeatGrid::new(&names, &names, "differences of all pairs of candidates");
    // Pairs come in the order of the rows: (0, 1), (0, 2) … (1, 2) …
    let mut pairs = view.comparisons.iter();
    for first in 0..names.len() {
        for second in first + 1..names.len() {
            let pair = pairs.next()?;
            if pair.tasks == 0 {
                continue;
            }
            let star = if pair.decision() == Ordering::Equal { "" } else { "*" };
            for (at, sign) in [((first, second), 1.0), ((second, first), -1.0)] {
                let difference = pair.difference * sign + 0.0;
                let class = match difference.partial_cmp(&0.0) {
                    Some(Ordering::Greater) => "better",
                    Some(Ordering::Less) => "worse",
                    _ => "none",
                };
                let text = format!("{:+.0}{star}", difference * 100.0);
                let (a, b) = (&view.rows[at.0].name, &view.rows[at.1].name);
                let hint = format!("{a} minus {b}: {text} points over {} tasks", pair.tasks);
                grid.cell(at, class, difference.abs(), &text, &hint);
            }
        }
    }
    Some(grid.drawing.finish())
}
