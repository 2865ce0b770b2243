//! Plots of the standings, as SVG. Shapes have classes; [`LIGHT`] gives these colours where a plot stands alone,
//! and the report's own style does where it stands in a page.

mod heat;
mod offers;
mod png;
mod ranking;
mod scale;
mod svg;

use crate::text::shortened;
use crate::view::{NamedStep, StandingsView};

pub use self::png::{Painter, PngError};
pub use self::svg::escaped;

/// The width of every plot.
const WIDTH: f64 = 760.0;

/// Names are no longer than this on a plot, in characters.
const NAME_MAX: usize = 22;

/// A plot with a name that its file can have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Plot {
    /// Such as `ranking`.
    pub name: &'static str,
    /// What it shows.
    pub title: &'static str,
    /// The drawing.
    pub svg: String,
}

/// The colours of a plot that stands alone.
pub const LIGHT: &str = "svg{font-family:'DejaVu Sans','Liberation Sans',Helvetica,Arial,sans-serif}\
text{fill:#1d2b33;font-size:12px}text.dim{fill:#5c6b73}text.on{fill:#ffffff}text.small{font-size:10.5px}text.name{paint-order:stroke;stroke:#fbfaf7;stroke-width:4px;stroke-linejoin:round}\
line.axis{stroke:#b9c2c6;stroke-width:1}line.grid{stroke:#e3e6e4;stroke-width:1}\
line.interval{stroke:#0f6e78;stroke-width:5;stroke-opacity:.35;stroke-linecap:round}\
line.range{stroke:#b4662a;stroke-width:7;stroke-opacity:.75;stroke-linecap:round}\
circle.dot{fill:#0f6e78}circle.off{fill:#8a979d}polyline{fill:none;stroke-width:2}\
polyline.step{stroke:#b4662a;stroke-dasharray:5 4}rect.heat{fill:#0f6e78}rect.better{fill:#0f6e78}\
rect.worse{fill:#b4662a}rect.none{fill:#8a979d}\
polyline.k0{stroke:#0f6e78}polyline.k1{stroke:#b4662a}polyline.k2{stroke:#5a5fa8}polyline.k3{stroke:#8c2f4b}\
polyline.k4{stroke:#4c7a2e}polyline.k5{stroke:#8a7a1f}polyline.k6{stroke:#2d6da3}polyline.k7{stroke:#7a4b8c}";

/// Every plot that the standings have data for.
#[must_use]
pub fn plots(view: &StandingsView) -> Vec<Plot> {
    let mut plots = Vec::new();
    let mut add = |name, title, svg: Option<String>| {
        plots.extend(svg.map(|svg| Plot { name, title, svg }));
    };
    let offers = |steps: &[NamedStep]| steps.iter().map(|it| it.name.clone()).collect::<Vec<_>>();
    add(
        "ranking",
        "Share solved, with 95 % intervals and the ranks that are possible",
        ranking::ranking(view),
    );
    add(
        "cost",
        "Cost against solved: the dashed line joins those whom nobody beats",
        offers::offers(view, &offers(&view.by_cost), true),
    );
    add(
        "time",
        "Time against solved: the dashed line joins those whom nobody beats",
        offers::offers(view, &offers(&view.by_time), false),
    );
    add("repairs", "Share solved after each attempt", ranking::curves(view));
    add("categories", "Share solved, by category", heat::categories(view));
    add("pairs", "Differences in points, row minus column (* established)", heat::pairs(view));
    plots
}

/// A plot that stands alone, with its colours.
#[must_use]
pub fn standalone(plot: &Plot) -> String {
    let paper = "<rect width=\"100%\" height=\"100%\" fill=\"#fbfaf7\"/>";
    plot.svg.replacen("</title>", &format!("</title><style>{LIGHT}</style>{paper}"), 1)
}

/// Names that fit beside a plot, still apart.
fn labels<'a>(names: impl Iterator<Item = &'a str>) -> Vec<String> {
    let names: Vec<String> = names.map(str::to_owned).collect();
    shortened(&names, NAME_MAX)
}
