//! The ranking with its intervals, and the repair curves.

use super::scale::{Scale, apart};
use super::svg::{Anchor, Drawing};
use super::{WIDTH, labels};
use crate::figures::percent;
use crate::view::StandingsView;

/// The height of a row.
const ROW: f64 = 26.0;

/// Candidates that a plot of lines names; others are not drawn.
const LINES_MAX: usize = 8;

/// Each candidate's rate with its interval, and beside it the ranks that are possible.
pub fn ranking(view: &StandingsView) -> Option<String> {
    let rows: Vec<_> = view.rows.iter().filter(|it| it.solved_rate.is_some()).collect();
    if rows.is_empty() {
        return None;
    }
    let names = labels(rows.iter().map(|it| it.name.as_str()));
    let (top, bottom) = (26.0, 26.0 + ROW * rows.len() as f64);
    let shares = Scale::linear((0.0, 1.0), (170.0, 500.0));
    let last = rows.len().max(2) as f64;
    let ranks = Scale::linear((1.0, last), (590.0, WIDTH - 24.0));
    let mut drawing =
        Drawing::new(WIDTH, bottom + 34.0, "share solved and possible ranks of each candidate");
    for tenth in 0..=4 {
        let share = f64::from(tenth) / 4.0;
        let x = shares.at(share);
        drawing.line((x, top - 6.0), (x, bottom), "grid");
        drawing.text(
            (x, bottom + 16.0),
            Anchor::Middle,
            "dim small",
            &format!("{:.0} %", share * 100.0),
        );
    }
    let step = (rows.len() as f64 / 8.0).ceil().max(1.0) as usize;
    for rank in (1..=rows.len()).step_by(step) {
        let x = ranks.at(rank as f64);
        drawing.line((x, top - 6.0), (x, bottom), "grid");
        drawing.text((x, bottom + 16.0), Anchor::Middle, "dim small", &rank.to_string());
    }
    drawing.text((170.0, 12.0), Anchor::Start, "dim small", "share solved, 95 % interval");
    drawing.text((590.0, 12.0), Anchor::Start, "dim small", "possible ranks");
    for (place, (row, name)) in rows.iter().zip(&names).enumerate() {
        let y = top + ROW * (place as f64 + 0.5);
        let share = row.solved_rate.unwrap_or(0.0);
        drawing.text((160.0, y + 4.0), Anchor::End, "name", name);
        if let Some((low, high)) = row.interval {
            drawing.line((shares.at(low), y), (shares.at(high), y), "interval");
        }
        let hint = format!("{}: {} of {} trials", row.name, row.solved, row.trials);
        drawing.disc((shares.at(share), y), 4.5, "dot", &hint);
        drawing.text((512.0, y + 4.0), Anchor::Start, "figure", &percent(share));
        if let Some((best, worst)) = row.rank_range {
            drawing.line((ranks.at(best as f64), y), (ranks.at(worst as f64) + 0.1, y), "range");
        }
    }
    Some(drawing.finish())
}

/// The share solved after each attempt, of the best candidates.
pub fn curves(view: &StandingsView) -> Option<String> {
    let rows: Vec<_> =
        view.rows.iter().filter(|it| it.repair_curve.len() > 1).take(LINES_MAX).collect();
    let attempts = rows.iter().map(|it| it.repair_curve.len()).max()?;
    let names = labels(rows.iter().map(|it| it.name.as_str()));
    let (top, bottom) = (18.0, 270.0);
    let lowest = rows.iter().flat_map(|it| &it.repair_curve).copied().fold(1.0, f64::min);
    let floor = (lowest * 5.0).floor() / 5.0;
    let across = Scale::linear((1.0, attempts as f64), (60.0, 560.0));
    let up = Scale::linear((floor.min(0.8), 1.0), (bottom, top));
    let mut drawing = Drawing::new(WIDTH, bottom + 44.0, "share solved after each attempt");
    for fifth in 0..=5 {
        let share = f64::from(fifth) / 5.0;
        if share >= floor.min(0.8) - 1e-9 {
            let y = up.at(share);
            drawing.line((60.0, y), (560.0, y), "grid");
            drawing.text(
                (52.0, y + 4.0),
                Anchor::End,
                "dim small",
                &format!("{:.0} %", share * 100.0),
            );
        }
    }
    for attempt in 1..=attempts {
        let x = across.at(attempt as f64);
        drawing.text((x, bottom + 18.0), Anchor::Middle, "dim small", &attempt.to_string());
    }
    drawing.text((310.0, bottom + 36.0), Anchor::Middle, "dim small", "attempts");
    let ends: Vec<f64> =
        rows.iter().map(|it| up.at(it.repair_curve.last().copied().unwrap_or(0.0))).collect();
    let places = apart(&ends, 15.0, (top, bottom));
    for (place, row) in rows.iter().enumerate() {
        let points: Vec<(f64, f64)> = row
            .repair_curve
            .iter()
            .enumerate()
            .map(|(at, &share)| (across.at(at as f64 + 1.0), up.at(share)))
            .collect();
        let class = format!("line k{place}");
        drawing.path(&points, &class);
        for (point, share) in points.iter().zip(&row.repair_curve) {
            drawing.disc(*point, 3.0, "dot", &format!("{}: {}", row.name, percent(*share)));
        }
        drawing.path(&[(564.0, ends[place]), (584.0, places[place])], &class);
        drawing.text((590.0, places[place] + 4.0), Anchor::Start, "name", &names[place]);
    }
    Some(drawing.finish())
}
