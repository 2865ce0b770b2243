//! `fairtrial gate`: rules that a record must hold, for machines that decide by an exit code.

use std::io::Write;
use std::path::Path;

use fairtrial_core::standings::{Finding, Rule};
use fairtrial_record::{Record, RecordError};
use fairtrial_report::{
    ComparisonView, Only, Side, StandingsOptions, StandingsSource, adjust_together,
    comparison_view, gate_json, gate_text, place_of, standings_view,
};

use crate::args::GateArgs;
use crate::environment::Environment;
use crate::errors::{DIFFERS, Failure};

/// Checks every rule; the exit code says whether all hold.
pub fn run(
    args: &GateArgs,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let records: Vec<Record> =
        args.records.iter().map(|it| Record::open(it)).collect::<Result<_, RecordError>>()?;
    let source = StandingsSource::open(&records, args.grading.unwrap_or_default())?;
    let options = StandingsOptions::default();
    let scope = source.scope(&tasks_alone(&args.only), None)?;
    let mut findings: Vec<(Rule, Option<Finding>)> = Vec::new();
    let mut pairs: Vec<(usize, ComparisonView)> = Vec::new();
    for (place, rule) in args.rules.iter().enumerate() {
        let who = place_of(&source, rule.candidate())?;
        let finding = match rule {
            Rule::Bound { .. } => {
                let mut only = tasks_alone(&args.only);
                only.push(Only::Candidate(rule.candidate().to_owned()));
                let view = standings_view(&source, &StandingsOptions { only, ..options.clone() })?;
                let rows = view.rows.iter().chain(view.narrower.iter().flat_map(|it| &it.rows));
                rows.into_iter().find(|it| it.candidate == who).and_then(|it| rule.check_bound(it))
            }
            Rule::Beside { other, .. } => {
                pairs.push((place, pair(args, &source, who, other, &scope.tasks)?));
                None
            }
        };
        findings.push((rule.clone(), finding));
    }
    let (places, mut views): (Vec<usize>, Vec<ComparisonView>) = pairs.into_iter().unzip();
    adjust_together(&mut views);
    for (place, view) in places.into_iter().zip(&views) {
        let (rule, finding) = &mut findings[place];
        *finding = rule.check_pair(&view.comparison);
    }
    match args.json {
        true => gate_json(out, &findings)?,
        false => gate_text(out, &findings, environment.style())?,
    }
    let over = source.results.over();
    if over < source.wanted {
        writeln!(
            err,
            "note: the run is not complete: {over} of {} trials are over",
            source.wanted
        )?;
    }
    Ok(if findings.iter().all(|it| it.1.is_some_and(|it| it.holds)) { 0 } else { DIFFERS })
}

/// What chooses tasks: which candidates a rule is about, it says itself.
fn tasks_alone(only: &[Only]) -> Vec<Only> {
    only.iter().filter(|it| !matches!(it, Only::Candidate(_))).cloned().collect()
}

/// The rule's candidate beside another of the record, or beside the one of its name in another record.
fn pair(
    args: &GateArgs,
    source: &StandingsSource<'_>,
    who: usize,
    other: &str,
    tasks: &[usize],
) -> Result<ComparisonView, Failure> {
    let own = Side { source, candidate: who };
    let names = source.results.candidates();
    if !names.iter().any(|it| it == other) && Path::new(other).is_dir() {
        let records = [Record::open(Path::new(other))?];
        let before = StandingsSource::open(&records, args.grading.unwrap_or_default())?;
        let candidate = place_of(&before, &names[who])?;
        return Ok(comparison_view(own, Side { source: &before, candidate }, Some(tasks)));
    }
    let candidate = place_of(source, other)?;
    Ok(comparison_view(own, Side { source, candidate }, Some(tasks)))
}
