//! What a run will take.

use std::io::{self, Write};

use fairtrial_core::forecast::{Forecast, Load};

use super::table::layout;
use super::wrap;
use crate::figures::{duration, money, percent, thousands};
use crate::safe::safe;
use crate::style::Style;

/// Writes a row for each candidate, the sum, and what the plan can show.
///
/// # Errors
/// When the writer fails.
pub fn forecast_text(out: &mut dyn Write, forecast: &Forecast, style: Style) -> io::Result<()> {
    let header = ["candidate", "trials", "requests", "tokens in", "tokens out", "cost", "time"];
    let mut sums = [Load::default(), Load::default()];
    let mut rows = Vec::new();
    let mut is_timed = !forecast.candidates.is_empty();
    for row in &forecast.candidates {
        rows.push(cells(&safe(&row.candidate), row.trials, &row.few, &row.many));
        is_timed &= row.few.seconds.is_some() || row.trials == 0;
        for (sum, load) in sums.iter_mut().zip([&row.few, &row.many]) {
            sum.requests += load.requests;
            sum.tokens_input += load.tokens_input;
            sum.tokens_output += load.tokens_output;
            sum.cost += load.cost;
            sum.seconds = Some(sum.seconds.unwrap_or(0.0) + load.seconds.unwrap_or(0.0));
        }
    }
    if !is_timed {
        sums.iter_mut().for_each(|it| it.seconds = None);
    }
    let trials = forecast.candidates.iter().map(|it| it.trials).sum();
    rows.push(cells("all", trials, &sums[0], &sums[1]));
    for (index, line) in layout(&header, &rows, &[0]).iter().enumerate() {
        writeln!(out, "{}", if index == 0 { style.dim(line) } else { line.clone() })?;
    }
    writeln!(out)?;
    let measured = forecast.candidates.iter().filter(|it| it.measured).count();
    let how = match measured {
        0 if forecast.attempts > 1 => format!(
            "Estimated from the texts of the docket: from every first answer right to all {} attempts wrong. What is \
             thought aloud comes on top.",
            forecast.attempts
        ),
        0 => {
            "Estimated from the texts of the docket. What is thought aloud comes on top.".to_owned()
        }
        all if all == forecast.candidates.len() => "As measured in the earlier record.".to_owned(),
        some => format!(
            "{some} of {} candidates as measured in the earlier record, the others by the texts of the docket.",
            forecast.candidates.len()
        ),
    };
    let currency = safe(&forecast.currency);
    let mut said = vec![format!("{how} Cost in {currency}.")];
    if forecast.candidates.iter().any(|it| it.acts && !it.measured) {
        said.push(
            "Who acts makes as many requests as it likes: for these it is the least; name an earlier record with --from."
                .to_owned(),
        );
    }
    if let Some(seconds) = sums[1].seconds.filter(|it| *it > 0.0) {
        let wall = seconds / f64::from(forecast.parallel.max(1));
        said.push(format!(
            "With {} asked at a time the requests take about {}; judging comes on top.",
            forecast.parallel,
            duration(wall)
        ));
    }
    let (tasks, samples) = (forecast.tasks, forecast.samples);
    let over =
        format!("{tasks} tasks with {samples} {}", if samples == 1 { "sample" } else { "samples" });
    said.push(match forecast.shows {
        Some(shows) => format!(
            "{over} show a difference in solved rate of {} four times of five, between two candidates; a smaller one \
             mostly stays hidden.",
            percent(shows)
        ),
        None => format!("{over} are too few to show any difference with some certainty."),
    });
    for text in said {
        for line in wrap(&text, style.width) {
            writeln!(out, "{line}")?;
        }
    }
    Ok(())
}

fn cells(name: &str, trials: usize, few: &Load, many: &Load) -> Vec<String> {
    let whole = |it: f64| thousands(it.round().max(0.0) as u64);
    let range =
        |few: String, many: String| if few == many { few } else { format!("{few} – {many}") };
    let time = |it: &Load| it.seconds.map_or_else(|| "?".to_owned(), duration);
    vec![
        name.to_owned(),
        trials.to_string(),
        range(whole(few.requests), whole(many.requests)),
        range(whole(few.tokens_input), whole(many.tokens_input)),
        range(whole(few.tokens_output), whole(many.tokens_output)),
        range(money(few.cost), money(many.cost)),
        range(time(few), time(many)),
    ]
}
