//! Holds the trials that are not yet held.

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::thread;
use std::time::{Duration, SystemTime};

use fairtrial_candidates::{Ask, Asked, Reply, RequestNote};
use fairtrial_core::digest::hash64;
use fairtrial_core::plan::{Candidate, Feedback};
use fairtrial_core::prompt::feedback;
use fairtrial_core::schedule::{TrialKey, schedule};
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_record::{Answer, Manifest, NewJudgement, NewRequest, Record, RecordError, TrialRow};

use crate::board::{Board, Ended};
use crate::course::{Course, Next};
use crate::footing::conflict;
use crate::pool::{Event, Judged, Order, Pool};
use crate::prepare::Preparation;
use crate::tally::{Progress, Tally};

/// How often a quiet run looks whether it was stopped.
const LOOK: Duration = Duration::from_millis(100);

/// Where and how to run.
#[derive(Debug, Clone)]
pub struct HoldOptions {
    /// The folder of the record.
    pub record: PathBuf,
    /// Answers that are judged at the same time.
    pub judging: usize,
}

/// Somebody who watches a run.
pub trait Observer {
    /// The run is about to begin, or a trial is over.
    fn progress(&mut self, progress: &Progress);
    /// A trial is over.
    fn trial_over(&mut self, key: &TrialKey, verdict: Verdict, attempts: u32);
    /// The run was stopped and waits for what is under way.
    fn stopping(&mut self, under_way: usize);
}

/// What a session came to.
#[derive(Debug, Clone, PartialEq)]
pub struct Summary {
    /// How far the run is.
    pub progress: Progress,
    /// Candidates that were no longer asked, and why.
    pub halted: BTreeMap<String, String>,
    /// Trials that are neither over nor void.
    pub not_held: usize,
    /// Void trials, by reason.
    pub void: BTreeMap<VoidReason, usize>,
    /// Of these, trials that no answer was written down for.
    pub unanswered: usize,
    /// Whether a person stopped it.
    pub stopped: bool,
}

/// Why a run had to stop. What was committed is safe.
#[derive(Debug, thiserror::Error)]
pub enum HoldError {
    /// The record.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// The record would lie where it could be read by those it is kept from.
    #[error("the record `{0}` lies in a folder that code under trial can read")]
    Exposed(PathBuf),
    /// The plan is not the one that the record was begun with.
    #[error("the plan does not fit the record `{record}`: {what}")]
    OtherPlan {
        /// The record.
        record: PathBuf,
        /// What differs.
        what: String,
    },
}

/// Holds every trial of a plan that the record does not have. `stop` ends it early: what is under
/// way is still waited for.
///
/// # Errors
/// When the record cannot be written, or belongs to another plan.
pub fn hold(
    preparation: &Preparation,
    options: &HoldOptions,
    stop: &AtomicBool,
    observer: &mut dyn Observer,
) -> Result<Summary, HoldError> {
    let mut record = open(preparation, options)?;
    let plan = &preparation.plan;
    let names: Vec<&str> = plan.candidates.iter().map(Candidate::name).collect();
    let tasks: Vec<&str> = preparation.tasks.keys().map(String::as_str).collect();
    let order = schedule(&names, &tasks, plan.samples, plan.seed);
    let rows = record.trials()?;
    let known: HashMap<TrialKey, TrialRow> =
        rows.into_iter().map(|row| (row.key.clone(), row)).collect();
    let waiting: Vec<TrialKey> =
        order.iter().filter(|key| is_to_be_held(preparation, known.get(key))).cloned().collect();
    let mut tally = Tally::new(&names, &order, &known, &waiting);
    tally.unanswered = order
        .iter()
        .filter(|key| {
            let void = known.get(key).and_then(|row| row.verdict).is_some_and(Verdict::is_void);
            void && !has_answer(preparation, key)
        })
        .count();
    observer.progress(&tally.progress);
    let board = Board::new(waiting, plan.parallel as usize);
    let (events_in, events) = channel();
    thread::scope(|scope| {
        let pool = Pool::start(
            scope,
            preparation,
            stop,
            plan.parallel as usize,
            options.judging.max(1),
            &events_in,
        );
        let mut session = Session {
            preparation,
            record: &mut record,
            pool,
            board,
            slots: BTreeMap::new(),
            known,
            tally: &mut tally,
            observer,
            stopping: false,
        };
        let result = session.run(stop, &events);
        if result.is_err() {
            // Nothing more can be recorded, so nothing more is to be asked.
            stop.store(true, Ordering::Relaxed);
        }
        let (halted, not_held) = (session.board.halted().clone(), session.board.not_held());
        result.map(|stopped| (halted, not_held, stopped))
    })
    .map(|(halted, not_held, stopped)| Summary {
        progress: tally.progress,
        halted,
        not_held,
        unanswered: tally.unanswered,
        void: tally.void,
        stopped,
    })
}

fn open(preparation: &Preparation, options: &HoldOptions) -> Result<Record, HoldError> {
    let mut wanted = preparation.manifest.clone();
    wanted.created = now();
    for machine in &mut wanted.machines {
        machine.since = now();
    }
    if preparation.judge.tools().shows(&options.record) {
        return Err(HoldError::Exposed(options.record.clone()));
    }
    let mut record = Record::open_for_run(&options.record, &wanted)?;
    let known = record.manifest().clone();
    if let Some(what) = conflict(&known, &wanted) {
        return Err(HoldError::OtherPlan { record: options.record.clone(), what });
    }
    let mut merged = Manifest { created: known.created.clone(), ..wanted.clone() };
    merged.machines.clone_from(&known.machines);
    for machine in wanted.machines {
        if !merged.machines.last().is_some_and(|last| last.is_like(&machine)) {
            merged.machines.push(machine);
        }
    }
    if merged != known {
        record.set_manifest(merged)?;
    }
    Ok(record)
}

fn is_to_be_held(preparation: &Preparation, known: Option<&TrialRow>) -> bool {
    match known.map(|row| (row, row.verdict)) {
        Some((row, Some(Verdict::Void(VoidReason::ToolMissing)))) => preparation
            .tasks
            .get(&row.key.task)
            .is_some_and(|entry| preparation.judge.tools().of_task(&entry.task).is_ok()),
        Some((row, Some(verdict))) => verdict.is_void() && has_answer(preparation, &row.key),
        Some((_, None)) | None => true,
    }
}

fn has_answer(preparation: &Preparation, key: &TrialKey) -> bool {
    preparation.askers.get(&key.candidate).is_some_and(|it| it.has(&key.task, key.sample))
}

/// One session of a run.
struct Session<'a> {
    preparation: &'a Preparation,
    record: &'a mut Record,
    pool: Pool,
    board: Board,
    slots: BTreeMap<usize, Course>,
    known: HashMap<TrialKey, TrialRow>,
    tally: &'a mut Tally,
    observer: &'a mut dyn Observer,
    /// Whether a person stopped the run: what is under way is judged, nothing more is asked.
    stopping: bool,
}

impl Session<'_> {
    /// Runs until everything is over. `true` when a person stopped it.
    fn run(
        &mut self,
        stop: &AtomicBool,
        events: &std::sync::mpsc::Receiver<Event>,
    ) -> Result<bool, HoldError> {
        loop {
            if stop.load(Ordering::Relaxed) && !self.stopping {
                self.stopping = true;
                self.board.stop();
                self.observer.stopping(self.board.under_way());
            }
            while let Some(key) = self.board.begin() {
                self.begin(key)?;
            }
            if self.board.is_over() {
                return Ok(self.stopping);
            }
            match events.recv_timeout(LOOK) {
                Ok(Event::Asked { slot, reply }) => self.asked(slot, reply)?,
                Ok(Event::Judged { slot, judged }) => self.judged(slot, &judged)?,
                Err(RecvTimeoutError::Timeout) => {}
                // The session holds a sender through the pool's threads.
                Err(RecvTimeoutError::Disconnected) => return Ok(self.stopping),
            }
        }
    }

    fn candidate(&self, name: &str) -> Option<&Candidate> {
        self.preparation.plan.candidates.iter().find(|it| it.name() == name)
    }

    fn begin(&mut self, key: TrialKey) -> Result<(), HoldError> {
        let attempts = self.preparation.plan.attempts;
        let system = self.candidate(&key.candidate).and_then(Candidate::system).map(str::to_owned);
        let prompt = self.preparation.tasks[&key.task].prompt.as_str();
        let system = system.as_deref();
        let (course, next) = match self.known.remove(&key) {
            Some(mut row) => {
                if row.verdict.is_some() {
                    row.holding = self.record.reopen_trial(row.id, prompt, &now())?;
                }
                Course::resume(&row, self.record, attempts, system)?
            }
            None => {
                let trial = self.record.begin_trial(&key, prompt, &now())?;
                (Course::new(key, trial, 1, attempts, system, prompt), Next::Ask)
            }
        };
        let slot = (0..).find(|slot| !self.slots.contains_key(slot)).unwrap_or(0);
        self.slots.insert(slot, course);
        self.go_on(slot, next)
    }

    fn go_on(&mut self, slot: usize, next: Next) -> Result<(), HoldError> {
        let course = &self.slots[&slot];
        let key = course.key.clone();
        match next {
            Next::Ask if self.stopping || self.board.halted().contains_key(&key.candidate) => {
                self.leave_off(slot);
                Ok(())
            }
            Next::Ask => {
                let task = &self.preparation.tasks[&key.task].task;
                if self.preparation.judge.tools().of_task(task).is_err() {
                    // Nothing that comes back could be judged: nothing is asked.
                    let void = Verdict::Void(VoidReason::ToolMissing);
                    return self.end(slot, void, &[], Ended::Decided);
                }
                if !self.is_answered(&key, course.number) {
                    self.tally.unanswered += 1;
                    let void = Verdict::Void(VoidReason::ProviderError);
                    return self.end(slot, void, &[], Ended::Decided);
                }
                let seed = self.preparation.plan.seed.to_string();
                let ask = Ask {
                    task: key.task.clone(),
                    sample: key.sample,
                    attempt: course.number,
                    messages: course.messages.clone(),
                    seed: hash64(&[&seed, &key.task, &key.sample.to_string()]),
                };
                self.pool.submit(Order::Ask { slot, candidate: key.candidate, ask });
                Ok(())
            }
            Next::Judge { sent, cut_off } => {
                let last = course.number >= self.preparation.plan.attempts;
                let examples = !last && self.preparation.plan.feedback != Feedback::Verdict;
                self.pool.submit(Order::Judge { slot, task: key.task, sent, cut_off, examples });
                Ok(())
            }
            Next::Over(verdict) => self.end(slot, verdict, &[], Ended::Decided),
        }
    }

    /// Whether an answer can be expected: written-down answers may lack one for a trial.
    fn is_answered(&self, key: &TrialKey, attempt: u32) -> bool {
        attempt > 1 || has_answer(self.preparation, key)
    }

    fn asked(&mut self, slot: usize, reply: Reply) -> Result<(), HoldError> {
        let Some(course) = self.slots.get_mut(&slot) else {
            return Ok(());
        };
        let candidate = self.preparation.plan.candidates.iter();
        let candidate = candidate.into_iter().find(|it| it.name() == course.key.candidate);
        let price = candidate.map(Candidate::price).unwrap_or_default();
        let requests: Vec<NewRequest> =
            reply.requests.into_iter().map(|note| request(note, price)).collect();
        self.tally.progress.cost += requests.iter().map(|it| it.cost).sum::<f64>();
        match reply.asked {
            Asked::Answer { sent, cut_off } => {
                let answer = Answer { sent: sent.clone(), cut_off, at: now() };
                let attempt = self.record.commit_answer(
                    course.trial,
                    course.holding,
                    course.number,
                    &answer,
                    &requests,
                )?;
                let next = course.answered(attempt, sent, cut_off);
                self.go_on(slot, next)
            }
            Asked::NothingMore => {
                let verdict = course.last().unwrap_or(Verdict::Void(VoidReason::ProviderError));
                self.end(slot, verdict, &requests, Ended::Decided)
            }
            Asked::Void(VoidReason::Cancelled, _) => {
                // The trial stays as far as it is, and is gone on with in a later session.
                let (trial, holding) = (course.trial, course.holding);
                self.record.commit_requests(trial, holding, course.number, &requests)?;
                self.leave_off(slot);
                Ok(())
            }
            Asked::Void(reason, why) => {
                self.end(slot, Verdict::Void(reason), &requests, Ended::Spoiled(why))
            }
            Asked::Halt(why) => {
                let void = Verdict::Void(VoidReason::ProviderError);
                self.end(slot, void, &requests, Ended::Halted(why))
            }
        }
    }

    fn judged(&mut self, slot: usize, judged: &Judged) -> Result<(), HoldError> {
        let Some(course) = self.slots.get_mut(&slot) else {
            return Ok(());
        };
        let Some(attempt) = course.attempt else {
            return Ok(());
        };
        let verdict = judged.judgement.verdict;
        let ends = course.would_end(verdict);
        let text = (!ends).then(|| {
            let task = &self.preparation.tasks[&course.key.task].task;
            feedback(self.preparation.plan.feedback, &judged.judgement, task)
        });
        let at = now();
        self.record.commit_judgement(
            course.trial,
            attempt,
            &NewJudgement {
                judgement: &judged.judgement,
                deviations: &judged.deviations,
                code: judged.code.as_ref(),
                feedback: text.as_deref(),
                seconds: judged.took.as_secs_f64(),
                trial: ends.then_some(verdict),
                at: &at,
            },
        )?;
        match course.judged(verdict, text.as_deref()) {
            // The judgement has just ended it in the record.
            Next::Over(verdict) => {
                self.over(slot, verdict, Ended::Decided);
                Ok(())
            }
            next => self.go_on(slot, next),
        }
    }

    /// Ends a trial in the record.
    fn end(
        &mut self,
        slot: usize,
        verdict: Verdict,
        requests: &[NewRequest],
        ended: Ended,
    ) -> Result<(), HoldError> {
        let course = &self.slots[&slot];
        let (trial, holding, number) = (course.trial, course.holding, course.number);
        self.record.end_trial(trial, holding, number, verdict, requests, &now())?;
        self.over(slot, verdict, ended);
        Ok(())
    }

    /// Leaves a trial as far as it is; a later session goes on with it.
    fn leave_off(&mut self, slot: usize) {
        if let Some(course) = self.slots.remove(&slot) {
            self.board.end(&course.key.candidate, Ended::LeftOff);
        }
    }

    fn over(&mut self, slot: usize, verdict: Verdict, ended: Ended) {
        let Some(course) = self.slots.remove(&slot) else {
            return;
        };
        self.board.end(&course.key.candidate, ended);
        self.tally.count(&course.key.candidate, verdict);
        self.observer.trial_over(&course.key, verdict, course.number);
        self.observer.progress(&self.tally.progress);
    }
}

fn request(note: RequestNote, price: fairtrial_core::plan::Price) -> NewRequest {
    NewRequest {
        sent: at(note.sent),
        outcome: note.outcome,
        detail: note.detail,
        status: note.status,
        seconds: note.took.as_secs_f64(),
        first_token: note.first_token.map(|it| it.as_secs_f64()),
        tokens: note.tokens,
        estimated: note.estimated,
        cost: price.of(note.tokens),
    }
}

pub(crate) fn now() -> String {
    at(SystemTime::now())
}

/// A time in UTC, RFC 3339, to the millisecond.
fn at(time: SystemTime) -> String {
    humantime::format_rfc3339_millis(time.max(SystemTime::UNIX_EPOCH)).to_string()
}
