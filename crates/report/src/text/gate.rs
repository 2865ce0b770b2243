//! What rules came to, for people.

use std::io::{self, Write};

use fairtrial_core::standings::{Finding, Rule};

use super::wrap;
use crate::grid::p_value;
use crate::safe::safe;
use crate::style::Style;

/// Writes a line for each rule. `None` is a rule about something that was not measured: it does not hold.
///
/// # Errors
/// When the writer fails.
pub fn gate_text(
    out: &mut dyn Write,
    findings: &[(Rule, Option<Finding>)],
    style: Style,
) -> io::Result<()> {
    for (rule, finding) in findings {
        let holds = if finding.is_some_and(|it| it.holds) { "holds:" } else { "fails:" };
        let text = safe(&format!("{holds} {rule}; {}", figures(rule, *finding))).into_owned();
        for line in wrap(&text, style.width) {
            writeln!(out, "{line}")?;
        }
    }
    Ok(())
}

/// The figure with its interval.
fn figures(rule: &Rule, finding: Option<Finding>) -> String {
    let Some(Finding { value, interval, p, .. }) = finding else {
        return "nothing was measured".to_owned();
    };
    match rule {
        Rule::Bound { .. } => {
            let interval = interval.map_or(String::new(), |(low, high)| {
                format!(", 95 % interval {low:.3} to {high:.3}")
            });
            format!("it is {}{interval}", short(value))
        }
        Rule::Beside { .. } => {
            let interval = interval.map_or(String::new(), |(low, high)| {
                format!(", 95 % interval {:+.1} to {:+.1}", low * 100.0, high * 100.0)
            });
            let p = p.map_or(String::new(), |it| format!(", p {}", p_value(it)));
            format!("the difference is {:+.1} points{interval}{p}", value * 100.0)
        }
    }
}

/// A figure with as many places as it takes.
fn short(value: f64) -> String {
    match value {
        it if it.fract() == 0.0 => format!("{it:.0}"),
        it if it.abs() >= 0.01 => format!("{it:.3}"),
        it => format!("{it:.6}"),
    }
}
