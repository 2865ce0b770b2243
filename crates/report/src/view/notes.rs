//! What a reader must know to read standings rightly.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use fairtrial_core::plan::ReadingMode;
use fairtrial_core::standings::{Comparison, Results, Standing};
use fairtrial_core::verdict::VoidReason;

use super::join::JoinNote;
use super::source::StandingsSource;

/// Something that a reader must know.
#[derive(Debug, Clone, PartialEq)]
pub enum Note {
    /// Of so many pairs so many are told apart.
    ToldApart {
        /// Pairs.
        pairs: usize,
        /// Of these, those of which one is established better.
        established: usize,
    },
    /// Pairs that were compared over tasks with more trials of one than of the other.
    Unequal(usize),
    /// Pairs whose p values are not exact, since differences were rounded to a common step.
    Rounded(usize),
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
    Void(Vec<(VoidReason, usize)>),
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
    /// Candidates have system texts that are not the same.
    OtherPrompts(Vec<String>),
    /// Only trials solved within so many attempts count as solved.
    Within(u32),
    /// Verdicts are those of the grading begun then; so many trials keep their first one.
    Regraded {
        /// When it was begun.
        begun: String,
        /// Trials that it did not judge.
        not_regraded: usize,
    },
    /// Something does not fit where records were put together.
    Join(JoinNote),
    /// Trials that were set aside and held again although they were not void.
    HeldAgain(Vec<HeldAgainNote>),
    /// Answers that were taken over from another record.
    Reused(usize),
    /// Something was changed after the run was begun: when, and what.
    Changed {
        /// When, as a date.
        on: String,
        /// What.
        what: String,
    },
}

/// Trials of a candidate that were set aside and held again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldAgainNote {
    /// Its name.
    pub name: String,
    /// Why, such as `failed`.
    pub why: String,
    /// How many.
    pub trials: usize,
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

/// How many pairs are told apart; `None` where there is no pair.
pub(super) fn told_apart(comparisons: &[Comparison]) -> Option<Note> {
    let established = comparisons.iter().filter(|it| it.decision() != Ordering::Equal).count();
    let pairs = comparisons.len();
    (pairs > 0).then_some(Note::ToldApart { pairs, established })
}

/// The tiers in which code was confined, each once.
pub(super) fn tiers(source: &StandingsSource<'_>) -> Vec<String> {
    let mut tiers: Vec<String> = Vec::new();
    for tier in source.records.iter().flat_map(|it| it.manifest().tiers()) {
        if !tiers.iter().any(|it| it == tier) {
            tiers.push(tier.to_owned());
        }
    }
    tiers
}

/// Everything that a reader must know of a ranking.
pub(super) fn notes(
    source: &StandingsSource<'_>,
    within: Option<u32>,
    rows: &[Standing],
    comparisons: &[Comparison],
) -> Vec<Note> {
    let count = |of: fn(&Comparison) -> bool| comparisons.iter().filter(|it| of(it)).count();
    let some = |count: usize, note: fn(usize) -> Note| (count > 0).then(|| note(count));
    let mut notes: Vec<Note> = told_apart(comparisons).into_iter().collect();
    notes.extend(within.map(Note::Within));
    let not_regraded = source.not_regraded;
    notes.extend(source.grading.clone().map(|begun| Note::Regraded { begun, not_regraded }));
    notes.extend(source.notes.iter().cloned().map(Note::Join));
    notes.extend(void(rows));
    let (over, wanted) = (source.results.over(), source.wanted);
    notes.extend((over < wanted).then_some(Note::Incomplete { over, wanted }));
    notes.extend(deviating(source.reading(), rows));
    notes.extend(helped(rows));
    notes.extend(other_prompts(source));
    notes.extend(held_again(source));
    let reused = source.reused;
    notes.extend((reused > 0).then_some(Note::Reused(reused)));
    notes.extend(changes(source));
    notes.extend(source.has_open_feedback().then_some(Note::OpenFeedback));
    notes.extend(some(count(|it| it.unequal > 0), Note::Unequal));
    notes.extend(some(count(|it| !it.exact), Note::Rounded));
    notes.extend(rows.iter().any(|it| it.sums.estimated > 0).then_some(Note::EstimatedTokens));
    notes.extend(tiers(source).iter().filter_map(|it| match it.as_str() {
        "full" => None,
        "plain" => Some(Note::PlainTier),
        _ => Some(Note::TrustedTier),
    }));
    let machines = source.records.iter().map(|it| it.manifest().machines.len());
    notes.extend(machines.max().filter(|it| *it > 1).map(Note::Environments));
    notes
}

fn void(rows: &[Standing]) -> Option<Note> {
    let mut reasons = BTreeMap::<VoidReason, usize>::new();
    for (reason, count) in rows.iter().flat_map(|it| &it.void_reasons) {
        *reasons.entry(*reason).or_default() += count;
    }
    (!reasons.is_empty()).then(|| Note::Void(reasons.into_iter().collect()))
}

fn deviating(reading: ReadingMode, rows: &[Standing]) -> Option<Note> {
    let some = rows.iter().filter(|row| row.sums.deviating > 0);
    let candidates: Vec<Deviations> = some
        .map(|row| Deviations {
            name: row.name.clone(),
            deviating: row.sums.deviating as usize,
            answers: row.sums.answers as usize,
        })
        .collect();
    (!candidates.is_empty()).then_some(Note::Deviating { reading, candidates })
}

fn helped(rows: &[Standing]) -> Option<Note> {
    let some = rows.iter().filter(|it| it.sums.helped > 0);
    let helped: Vec<Helped> = some
        .map(|row| Helped {
            name: row.name.clone(),
            trials: row.sums.helped as usize,
            passed: row.sums.helped_passed as usize,
        })
        .collect();
    (!helped.is_empty()).then_some(Note::Helped(helped))
}

fn held_again(source: &StandingsSource<'_>) -> Option<Note> {
    let note = |(name, why, trials): &(String, String, usize)| HeldAgainNote {
        name: name.clone(),
        why: why.clone(),
        trials: *trials,
    };
    let some: Vec<HeldAgainNote> = source.held_again.iter().map(note).collect();
    (!some.is_empty()).then_some(Note::HeldAgain(some))
}

/// What was changed after runs were begun, of each record the last few.
fn changes(source: &StandingsSource<'_>) -> Vec<Note> {
    let last = source.records.iter().flat_map(|it| it.manifest().changes.iter().rev().take(5));
    let note = |it: &fairtrial_record::PlanChange| Note::Changed {
        on: it.at.chars().take(10).collect(),
        what: it.what.clone(),
    };
    last.map(note).collect()
}

/// Candidates that have a system text which is not that of the first candidate.
fn other_prompts(source: &StandingsSource<'_>) -> Option<Note> {
    let of = |results: &Results, place: usize| results.candidates()[place].clone();
    let wording = |it: &fairtrial_core::plan::Candidate| {
        (it.system().map(str::to_owned), it.prompt().cloned())
    };
    // Whose answers were written down was asked elsewhere.
    let is_asked = |it: &fairtrial_core::plan::Candidate| {
        !matches!(it, fairtrial_core::plan::Candidate::Recorded(_))
    };
    let first = wording(source.candidates.iter().find(|it| is_asked(it))?);
    let others = source.candidates.iter().enumerate();
    let others = others.filter(|it| is_asked(it.1) && wording(it.1) != first);
    let names: Vec<String> = others.map(|it| of(&source.results, it.0)).collect();
    (!names.is_empty()).then_some(Note::OtherPrompts(names))
}
