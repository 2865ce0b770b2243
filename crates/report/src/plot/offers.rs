//! What a trial takes against what it gives: money or time against the share solved.

use fairtrial_core::standings::Standing;

use super::scale::{Scale, apart};
use super::svg::{Anchor, Drawing};
use super::{WIDTH, labels};
use crate::figures::{duration, money, percent};
use crate::view::StandingsView;

/// Candidates that have their name beside them.
const NAMED_MAX: usize = 24;

/// Every candidate by its price, on a scale of ratios, and its share; those on the frontier are joined.
pub fn offers(view: &StandingsView, frontier: &[String], is_money: bool) -> Option<String> {
    let price =
        |row: &Standing| if is_money { row.cost_per_trial() } else { row.seconds_per_trial() };
    let rows: Vec<(&Standing, f64, f64)> = view
        .rows
        .iter()
        .filter_map(|row| Some((row, price(row).filter(|it| *it > 0.0)?, row.solved_rate?)))
        .collect();
    if rows.len() < 2 {
        return None;
    }
    let names = labels(rows.iter().map(|it| it.0.name.as_str()));
    let of = |fold: fn(f64, f64) -> f64, from: f64| rows.iter().map(|it| it.1).fold(from, fold);
    let (least, most) = (of(f64::min, f64::INFINITY), of(f64::max, 0.0));
    let (top, bottom) = (18.0, 330.0);
    let across = Scale::log((least / 1.6, most * 1.6), (64.0, WIDTH - 150.0));
    let up = Scale::linear((0.0, 1.0), (bottom, top));
    let what = if is_money { "cost" } else { "time" };
    let mut drawing =
        Drawing::new(WIDTH, bottom + 46.0, &format!("{what} for each trial against share solved"));
    for quarter in 0..=4 {
        let share = f64::from(quarter) / 4.0;
        drawing.line((64.0, up.at(share)), (WIDTH - 150.0, up.at(share)), "grid");
        drawing.text(
            (56.0, up.at(share) + 4.0),
            Anchor::End,
            "dim small",
            &format!("{:.0} %", share * 100.0),
        );
    }
    let show = |it: f64| if is_money { money(it) } else { duration(it) };
    for mark in across.log_marks() {
        drawing.line((across.at(mark), top), (across.at(mark), bottom), "grid");
        drawing.text((across.at(mark), bottom + 18.0), Anchor::Middle, "dim small", &show(mark));
    }
    let unit = if is_money {
        format!("{} for each trial", view.currency)
    } else {
        "to answer a trial".to_owned()
    };
    drawing.text(((WIDTH - 86.0) / 2.0, bottom + 38.0), Anchor::Middle, "dim small", &unit);
    let mut steps: Vec<(f64, f64)> = rows
        .iter()
        .filter(|it| frontier.contains(&it.0.name))
        .map(|it| (across.at(it.1), up.at(it.2)))
        .collect();
    steps.sort_by(|a, b| a.0.total_cmp(&b.0));
    drawing.path(&steps, "step");
    let places: Vec<f64> = rows.iter().map(|it| up.at(it.2)).collect();
    let apart =
        spread(&rows.iter().map(|it| across.at(it.1)).collect::<Vec<_>>(), &places, (top, bottom));
    for (place, (row, price, share)) in rows.iter().enumerate() {
        let at = (across.at(*price), up.at(*share));
        let class = if frontier.contains(&row.name) { "dot" } else { "off" };
        let hint = format!("{}: {} at {}", row.name, percent(*share), show(*price));
        drawing.disc(at, 5.0, class, &hint);
        if rows.len() <= NAMED_MAX {
            drawing.text((at.0 + 9.0, apart[place] + 4.0), Anchor::Start, "name", &names[place]);
        }
    }
    Some(drawing.finish())
}

/// Heights of labels: those whose dots are beside each other are moved apart.
fn spread(across: &[f64], places: &[f64], bounds: (f64, f64)) -> Vec<f64> {
    let mut found = places.to_vec();
    let mut order: Vec<usize> = (0..across.len()).collect();
    order.sort_by(|&a, &b| across[a].total_cmp(&across[b]));
    let mut from = 0;
    while from < order.len() {
        let near = |it: &&usize| across[**it] - across[order[from]] < 120.0;
        let group: Vec<usize> = order[from..].iter().take_while(near).copied().collect();
        let own: Vec<f64> = group.iter().map(|&it| places[it]).collect();
        for (&it, place) in group.iter().zip(apart(&own, 15.0, bounds)) {
            found[it] = place;
        }
        from += group.len();
    }
    found
}
