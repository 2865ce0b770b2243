//! The ranking, and what a reader must know to read it rightly.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use fairtrial_core::plan::{Candidate, Feedback, ReadingMode};
use fairtrial_core::standings::{Comparison, Standing, Standings, TaskCounts};
use fairtrial_core::trouble::Trouble;
use fairtrial_record::{CountsRow, Record, RecordError};

/// How many shared ranks are named; the rest is counted.
const RANKS_NAMED: usize = 4;

/// The ranking of a record.
#[derive(Debug, Clone, PartialEq)]
pub struct StandingsView {
    /// What the run is called; may be empty.
    pub title: String,
    /// The currency of costs.
    pub currency: String,
    /// Tasks.
    pub tasks: usize,
    /// Samples of each.
    pub samples: u32,
    /// Attempts that each trial may have.
    pub attempts: u32,
    /// How answers were read.
    pub reading: ReadingMode,
    /// Whether all trials are over.
    pub complete: bool,
    /// The tiers in which code was confined.
    pub tiers: Vec<String>,
    /// The candidates, the best first.
    pub rows: Vec<Standing>,
    /// Every pair.
    pub comparisons: Vec<Comparison>,
    /// Rankings over fewer tasks: one for each choice of tasks that some candidates stand for alone.
    /// The ranking above has only candidates that stand for all.
    pub narrower: Vec<NarrowStandings>,
    /// Trouble on the way, of candidates that had any.
    pub trouble: Vec<TroubleRow>,
    /// What a reader must know.
    pub notes: Vec<Note>,
}

/// In how many trials of a candidate trouble was seen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TroubleRow {
    /// Its name.
    pub name: String,
    /// Trials in which it was looked for, void ones left out.
    pub trials: u32,
    /// Of these, those with each sort.
    pub seen: Trouble,
}

/// The ranking over some of the tasks, of all candidates that stand for them.
#[derive(Debug, Clone, PartialEq)]
pub struct NarrowStandings {
    /// The tasks.
    pub tasks: Vec<String>,
    /// The candidates, the best first.
    pub rows: Vec<Standing>,
    /// Every pair.
    pub comparisons: Vec<Comparison>,
    /// Ranks that are shared.
    pub notes: Vec<Note>,
}

/// Something that a reader must know.
#[derive(Debug, Clone, PartialEq)]
pub enum Note {
    /// The lead of one candidate is not established over others.
    SharedRank {
        /// The rank.
        rank: usize,
        /// Who has it first.
        leader: String,
        /// Who else has it.
        others: Vec<Rival>,
    },
    /// So many further ranks are shared.
    MoreSharedRanks(usize),
    /// Answers that were not in the form asked for.
    Deviating {
        /// How they were read.
        reading: ReadingMode,
        /// Whose.
        candidates: Vec<Deviations>,
    },
    /// Candidates were shown sealed tests.
    OpenFeedback,
    /// Void trials, by reason.
    Void(Vec<(String, u32)>),
    /// Trials that a person helped with.
    Helped(Vec<Helped>),
    /// Not all trials are over.
    Incomplete {
        /// Trials that are.
        over: usize,
        /// Trials that should be.
        wanted: usize,
    },
    /// Some token counts are estimates.
    EstimatedTokens,
    /// Some code ran in the plain tier.
    PlainTier,
    /// Some code was not confined.
    TrustedTier,
    /// The run was made in so many different environments.
    Environments(usize),
}

/// Who shares a rank with its leader.
#[derive(Debug, Clone, PartialEq)]
pub struct Rival {
    /// Its name.
    pub name: String,
    /// Tasks that both did, and the adjusted p; `None` where they did none.
    pub compared: Option<(usize, f64)>,
    /// Whether it is established better than the leader, on the tasks that both did.
    pub is_better: bool,
}

/// How often a candidate was helped.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Helped {
    /// Its name.
    pub name: String,
    /// Trials in which it was helped.
    pub trials: usize,
    /// Of these, those that passed.
    pub passed: usize,
}

/// How often a candidate did not answer in the form asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deviations {
    /// Its name.
    pub name: String,
    /// Answers with a deviation.
    pub deviating: usize,
    /// Answers.
    pub answers: usize,
}

/// Reads a record and computes its standings.
///
/// # Errors
/// When it cannot be read.
pub fn standings_view(record: &Record) -> Result<StandingsView, RecordError> {
    let rows = record.counts()?;
    let manifest = record.manifest();
    let plan = &manifest.plan;
    let counts: Vec<TaskCounts> = rows.iter().map(|it| it.counts.clone()).collect();
    let over = counts.iter().map(|it| (it.trials + it.void) as usize).sum::<usize>();
    let all: Vec<&str> = manifest.tasks.iter().map(|it| it.name.as_str()).collect();
    let takes = |candidate: &Candidate| all.iter().filter(|task| candidate.takes(task)).count();
    let wanted = plan.candidates.iter().map(takes).sum::<usize>() * plan.samples as usize;
    let Standings { candidates, comparisons } = ranked(&plan.candidates, &all, &counts);
    let narrower: Vec<NarrowStandings> = choices(&plan.candidates, &all)
        .into_iter()
        .map(|tasks| {
            let Standings { candidates: rows, comparisons } =
                ranked(&plan.candidates, &tasks, &counts);
            let notes = shared_ranks(&rows, &comparisons);
            let tasks = tasks.into_iter().map(str::to_owned).collect();
            NarrowStandings { tasks, rows, comparisons, notes }
        })
        .collect();
    let mut notes = shared_ranks(&candidates, &comparisons);
    notes.extend(deviating(plan.reading, &candidates));
    if plan.feedback == Feedback::Open {
        notes.push(Note::OpenFeedback);
    }
    let void = record.void_reasons()?;
    notes.extend((!void.is_empty()).then_some(Note::Void(void)));
    notes.extend(helped(&rows));
    if over < wanted {
        notes.push(Note::Incomplete { over, wanted });
    }
    if rows.iter().any(|it| it.estimated) {
        notes.push(Note::EstimatedTokens);
    }
    let tiers: Vec<String> = manifest.tiers().into_iter().map(str::to_owned).collect();
    notes.extend(tiers.iter().filter_map(|it| match it.as_str() {
        "full" => None,
        "plain" => Some(Note::PlainTier),
        _ => Some(Note::TrustedTier),
    }));
    if manifest.machines.len() > 1 {
        notes.push(Note::Environments(manifest.machines.len()));
    }
    Ok(StandingsView {
        title: plan.title.clone(),
        currency: plan.currency.clone(),
        tasks: manifest.tasks.len(),
        samples: plan.samples,
        attempts: plan.attempts,
        reading: plan.reading,
        complete: over == wanted,
        tiers,
        rows: candidates,
        comparisons,
        narrower,
        trouble: trouble(&plan.candidates, &rows),
        notes,
    })
}

/// The standings over some tasks, of the candidates that stand for all of them.
fn ranked(candidates: &[Candidate], tasks: &[&str], counts: &[TaskCounts]) -> Standings {
    let stands = |it: &&Candidate| tasks.iter().all(|task| it.takes(task));
    let names: Vec<&str> = candidates.iter().filter(stands).map(Candidate::name).collect();
    let is_among = |it: &&TaskCounts| {
        tasks.contains(&it.task.as_str()) && names.contains(&it.candidate.as_str())
    };
    let counts: Vec<TaskCounts> = counts.iter().filter(is_among).cloned().collect();
    Standings::compute(&names, &counts)
}

/// Each choice of tasks that some candidate stands for alone, in the order of the candidates.
fn choices<'a>(candidates: &[Candidate], all: &[&'a str]) -> Vec<Vec<&'a str>> {
    let mut choices: Vec<Vec<&str>> = Vec::new();
    for candidate in candidates.iter().filter(|it| !it.tasks().is_empty()) {
        let own: Vec<&str> = all.iter().filter(|task| candidate.takes(task)).copied().collect();
        if own.len() < all.len() && !choices.contains(&own) {
            choices.push(own);
        }
    }
    choices
}

fn shared_ranks(rows: &[Standing], comparisons: &[Comparison]) -> Vec<Note> {
    let mut by_rank = BTreeMap::<usize, Vec<&str>>::new();
    for row in rows {
        if let Some(rank) = row.rank {
            by_rank.entry(rank).or_default().push(&row.name);
        }
    }
    let rival = |leader: &str, name: &str| {
        let pair = comparisons.iter().find(|it| it.names.0 == leader && it.names.1 == name);
        Rival {
            name: name.to_owned(),
            compared: pair.map(|it| (it.tasks, it.p)),
            is_better: pair.is_some_and(|it| it.decision() == Ordering::Less),
        }
    };
    let is_established = |leader: &str, name: &str| {
        let pair = comparisons.iter().find(|it| it.names.0 == leader && it.names.1 == name);
        pair.is_some_and(|it| it.decision() == Ordering::Greater)
    };
    let shared = by_rank.iter().filter(|it| it.1.len() > 1);
    let mut notes: Vec<Note> = shared
        .map(|(&rank, names)| Note::SharedRank {
            rank,
            leader: names[0].to_owned(),
            others: names[1..]
                .iter()
                .filter(|name| !is_established(names[0], name))
                .map(|name| rival(names[0], name))
                .collect(),
        })
        .collect();
    if notes.len() > RANKS_NAMED {
        let more = notes.len() - RANKS_NAMED;
        notes.truncate(RANKS_NAMED);
        notes.push(Note::MoreSharedRanks(more));
    }
    notes
}

fn deviating(reading: ReadingMode, rows: &[Standing]) -> Option<Note> {
    let some = rows.iter().filter(|row| row.deviating > 0);
    let candidates: Vec<Deviations> = some
        .map(|row| Deviations {
            name: row.name.clone(),
            deviating: row.deviating,
            answers: row.answers,
        })
        .collect();
    (!candidates.is_empty()).then_some(Note::Deviating { reading, candidates })
}

fn helped(rows: &[CountsRow]) -> Option<Note> {
    let mut by_name = BTreeMap::<&str, Helped>::new();
    for row in rows.iter().filter(|it| it.helped > 0) {
        let name = row.counts.candidate.as_str();
        let new = || Helped { name: name.to_owned(), trials: 0, passed: 0 };
        let helped = by_name.entry(name).or_insert_with(new);
        helped.trials += row.helped as usize;
        helped.passed += row.helped_passed as usize;
    }
    (!by_name.is_empty()).then(|| Note::Helped(by_name.into_values().collect()))
}

fn trouble(candidates: &[Candidate], rows: &[CountsRow]) -> Vec<TroubleRow> {
    let of_candidate = |candidate: &Candidate| {
        let name = candidate.name();
        let own = || rows.iter().filter(|it| it.counts.candidate == name);
        TroubleRow {
            name: name.to_owned(),
            trials: own().map(|it| it.looked_for).sum(),
            seen: own().fold(Trouble::default(), |sum, it| sum.and(it.trouble)),
        }
    };
    candidates.iter().map(of_candidate).filter(|it| it.seen.most() > 0).collect()
}
