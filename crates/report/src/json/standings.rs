//! The ranking, for programs.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::io::{self, Write};

use fairtrial_core::standings::{Comparison, Standing};
use fairtrial_core::trouble::Trouble;
use serde::Serialize;

use super::write_json;
use crate::view::{NarrowStandings, StandingsView, TroubleRow};

/// The version of this output.
const FORMAT_VERSION: u32 = 1;

#[derive(Serialize)]
struct StandingsOutput<'a> {
    format_version: u32,
    title: &'a str,
    currency: &'a str,
    tasks: usize,
    samples: u32,
    attempts: u32,
    reading: &'a str,
    complete: bool,
    tiers: Vec<&'a str>,
    candidates: Vec<CandidateOutput<'a>>,
    comparisons: Vec<PairOutput<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    narrower: Vec<NarrowOutput<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    trouble: Vec<TroubleOutput<'a>>,
}

#[derive(Serialize)]
struct TroubleOutput<'a> {
    candidate: &'a str,
    trials: u32,
    #[serde(flatten)]
    seen: Trouble,
}

#[derive(Serialize)]
struct NarrowOutput<'a> {
    tasks: &'a [String],
    candidates: Vec<CandidateOutput<'a>>,
    comparisons: Vec<PairOutput<'a>>,
}

#[derive(Serialize)]
struct CandidateOutput<'a> {
    name: &'a str,
    rank: Option<usize>,
    /// Best and worst.
    rank_range: Option<[usize; 2]>,
    trials: usize,
    solved: usize,
    solved_rate: Option<f64>,
    interval: Option<[f64; 2]>,
    first_try: usize,
    first_try_rate: Option<f64>,
    mean_repairs: Option<f64>,
    pass_at: BTreeMap<usize, f64>,
    consistency: Option<f64>,
    void: usize,
    cost: f64,
    seconds: f64,
    tokens_input: u64,
    tokens_cached: u64,
    tokens_output: u64,
    answers: usize,
    answers_deviating: usize,
}

#[derive(Serialize)]
struct PairOutput<'a> {
    first: &'a str,
    second: &'a str,
    tasks: usize,
    wins: usize,
    ties: usize,
    losses: usize,
    difference: f64,
    p_adjusted: f64,
    established: bool,
}

/// Writes the standings as JSON.
///
/// # Errors
/// When the writer fails.
pub fn standings_json(out: &mut dyn Write, view: &StandingsView) -> io::Result<()> {
    let output = StandingsOutput {
        format_version: FORMAT_VERSION,
        title: &view.title,
        currency: &view.currency,
        tasks: view.tasks,
        samples: view.samples,
        attempts: view.attempts,
        reading: view.reading.word(),
        complete: view.complete,
        tiers: view.tiers.iter().map(String::as_str).collect(),
        candidates: view.rows.iter().map(row).collect(),
        comparisons: view.comparisons.iter().map(pair).collect(),
        narrower: view.narrower.iter().map(narrow).collect(),
        trouble: view.trouble.iter().map(trouble).collect(),
    };
    write_json(out, &output)
}

fn trouble(row: &TroubleRow) -> TroubleOutput<'_> {
    TroubleOutput { candidate: &row.name, trials: row.trials, seen: row.seen }
}

fn narrow(narrow: &NarrowStandings) -> NarrowOutput<'_> {
    NarrowOutput {
        tasks: &narrow.tasks,
        candidates: narrow.rows.iter().map(row).collect(),
        comparisons: narrow.comparisons.iter().map(pair).collect(),
    }
}

fn row(row: &Standing) -> CandidateOutput<'_> {
    CandidateOutput {
        name: &row.name,
        rank: row.rank,
        rank_range: row.rank_range.map(|(best, worst)| [best, worst]),
        trials: row.trials,
        solved: row.solved,
        solved_rate: row.solved_rate,
        interval: row.interval.map(|(low, high)| [low, high]),
        first_try: row.first_try,
        first_try_rate: row.first_try_rate,
        mean_repairs: row.mean_repairs,
        pass_at: row.pass_at.iter().enumerate().map(|(at, rate)| (at + 1, *rate)).collect(),
        consistency: row.consistency,
        void: row.void,
        cost: row.cost,
        seconds: row.seconds,
        tokens_input: row.tokens.input,
        tokens_cached: row.tokens.cached,
        tokens_output: row.tokens.output,
        answers: row.answers,
        answers_deviating: row.deviating,
    }
}

fn pair(pair: &Comparison) -> PairOutput<'_> {
    PairOutput {
        first: &pair.names.0,
        second: &pair.names.1,
        tasks: pair.tasks,
        wins: pair.wins,
        ties: pair.tasks - pair.wins - pair.losses,
        losses: pair.losses,
        difference: pair.difference,
        p_adjusted: pair.p,
        established: pair.decision() != Ordering::Equal,
    }
}
