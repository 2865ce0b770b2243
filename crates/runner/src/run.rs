//! Runs the trials that have not been run.

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::thread;
use std::time::{Duration, SystemTime};

use fairtrial_candidates::{Ask, AskOutcome, AskReply, RequestNote};
use fairtrial_core::digest::hash64;
use fairtrial_core::plan::{Candidate, Feedback};
use fairtrial_core::schedule::{TrialKey, schedule};
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_grading::{JudgedSubmission, feedback};
use fairtrial_record::{
    Manifest, NewAnswer, NewJudgement, NewRequest, Record, RecordError, TrialRow,
};

use crate::compatibility::incompatibility;
use crate::counter::{Counter, Progress};
use crate::pool::{Pool, Work, WorkDone};
use crate::prepare::Preparation;
use crate::scheduler::{Scheduler, TrialEnd};
use crate::trial::{Next, TrialState};

/// How often a quiet run looks whether it was stopped.
const LOOK: Duration = Duration::from_millis(100);

/// Where and how to run.
#[derive(Debug, Clone)]
pub struct RunOptions {
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
    pub not_run: usize,
    /// Void trials, by reason.
    pub void: BTreeMap<VoidReason, usize>,
    /// Of these, trials that no answer was written down for.
    pub unanswered: usize,
    /// Whether a person stopped it.
    pub stopped: bool,
}

/// Why a run had to stop. What was committed is safe.
#[derive(Debug, thiserror::Error)]
pub enum RunError {
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
pub fn run_trials(
    preparation: &Preparation,
    options: &RunOptions,
    stop: &AtomicBool,
    observer: &mut dyn Observer,
) -> Result<Summary, RunError> {
    let mut record = open(preparation, options)?;
    let plan = &preparation.plan;
    let names: Vec<&str> = plan.candidates.iter().map(Candidate::name).collect();
    let tasks: Vec<&str> = preparation.tasks.keys().map(String::as_str).collect();
    let order = schedule(&names, &tasks, plan.samples, plan.seed);
    let rows = record.trials()?;
    let known: HashMap<TrialKey, TrialRow> =
        rows.into_iter().map(|row| (row.key.clone(), row)).collect();
    let waiting: Vec<TrialKey> =
        order.iter().filter(|key| is_to_be_run(preparation, known.get(key))).cloned().collect();
    let mut counter = Counter::new(&names, &order, &known, &waiting);
    counter.unanswered = order
        .iter()
        .filter(|key| {
            let void = known.get(key).and_then(|row| row.verdict).is_some_and(Verdict::is_void);
            void && !has_answer(preparation, key)
        })
        .count();
    observer.progress(&counter.progress);
    let scheduler = Scheduler::new(waiting, plan.parallel as usize);
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
            scheduler,
            trials: BTreeMap::new(),
            known,
            counter: &mut counter,
            observer,
            stopping: false,
        };
        let result = session.run(stop, &events);
        if result.is_err() {
            // Nothing more can be recorded, so nothing more is to be asked.
            stop.store(true, Ordering::Relaxed);
        }
        let (halted, not_run) = (session.scheduler.halted().clone(), session.scheduler.not_run());
        result.map(|stopped| (halted, not_run, stopped))
    })
    .map(|(halted, not_run, stopped)| Summary {
        progress: counter.progress,
        halted,
        not_run,
        unanswered: counter.unanswered,
        void: counter.void,
        stopped,
    })
}

fn open(preparation: &Preparation, options: &RunOptions) -> Result<Record, RunError> {
    let mut wanted = preparation.manifest.clone();
    wanted.created = now();
    for machine in &mut wanted.machines {
        machine.since = now();
    }
    if preparation.judge.tools().shows(&options.record) {
        return Err(RunError::Exposed(options.record.clone()));
    }
    let mut record = Record::open_for_run(&options.record, &wanted)?;
    let known = record.manifest().clone();
    if let Some(what) = incompatibility(&known, &wanted) {
        return Err(RunError::OtherPlan { record: options.record.clone(), what });
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

fn is_to_be_run(preparation: &Preparation, known: Option<&TrialRow>) -> bool {
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
    scheduler: Scheduler,
    trials: BTreeMap<usize, TrialState>,
    known: HashMap<TrialKey, TrialRow>,
    counter: &'a mut Counter,
    observer: &'a mut dyn Observer,
    /// Whether a person stopped the run: what is under way is judged, nothing more is asked.
    stopping: bool,
}

impl Session<'_> {
    /// Runs until everything is over. `true` when a person stopped it.
    fn run(
        &mut self,
        stop: &AtomicBool,
        events: &std::sync::mpsc::Receiver<WorkDone>,
    ) -> Result<bool, RunError> {
        loop {
            if stop.load(Ordering::Relaxed) && !self.stopping {
                self.stopping = true;
                self.scheduler.stop();
                self.observer.stopping(self.scheduler.under_way());
            }
            while let Some(key) = self.scheduler.begin() {
                self.begin(key)?;
            }
            if self.scheduler.is_over() {
                return Ok(self.stopping);
            }
            match events.recv_timeout(LOOK) {
                Ok(WorkDone::AskOutcome { id, reply }) => self.outcome(id, reply)?,
                Ok(WorkDone::Judged { id, judged }) => self.judged(id, &judged)?,
                Err(RecvTimeoutError::Timeout) => {}
                // The session holds a sender through the pool's threads.
                Err(RecvTimeoutError::Disconnected) => return Ok(self.stopping),
            }
        }
    }

    fn candidate(&self, name: &str) -> Option<&Candidate> {
        self.preparation.plan.candidates.iter().find(|it| it.name() == name)
    }

    fn begin(&mut self, key: TrialKey) -> Result<(), RunError> {
        let attempts = self.preparation.plan.attempts;
        let system = self.candidate(&key.candidate).and_then(Candidate::system).map(str::to_owned);
        let prompt = self.preparation.tasks[&key.task].prompt.as_str();
        let system = system.as_deref();
        let (trial, next) = match self.known.remove(&key) {
            Some(mut row) => {
                if row.verdict.is_some() {
                    row.holding = self.record.reopen_trial(row.id, prompt, &now())?;
                }
                TrialState::resume(&row, self.record, attempts, system)?
            }
            None => {
                let trial = self.record.begin_trial(&key, prompt, &now())?;
                (TrialState::new(key, trial, 1, attempts, system, prompt), Next::Ask)
            }
        };
        let id = (0..).find(|id| !self.trials.contains_key(id)).unwrap_or(0);
        self.trials.insert(id, trial);
        self.proceed(id, next)
    }

    fn proceed(&mut self, id: usize, next: Next) -> Result<(), RunError> {
        let trial = &self.trials[&id];
        let key = trial.key.clone();
        match next {
            Next::Ask if self.stopping || self.scheduler.halted().contains_key(&key.candidate) => {
                self.interrupt(id);
                Ok(())
            }
            Next::Ask => {
                let task = &self.preparation.tasks[&key.task].task;
                if self.preparation.judge.tools().of_task(task).is_err() {
                    // Nothing that comes back could be judged: nothing is asked.
                    let void = Verdict::Void(VoidReason::ToolMissing);
                    return self.end(id, void, &[], TrialEnd::Decided);
                }
                if !self.is_answered(&key, trial.number) {
                    self.counter.unanswered += 1;
                    let void = Verdict::Void(VoidReason::ProviderError);
                    return self.end(id, void, &[], TrialEnd::Decided);
                }
                let seed = self.preparation.plan.seed.to_string();
                let ask = Ask {
                    task: key.task.clone(),
                    sample: key.sample,
                    attempt: trial.number,
                    messages: trial.messages.clone(),
                    seed: hash64(&[&seed, &key.task, &key.sample.to_string()]),
                };
                self.pool.submit(Work::Ask { id, candidate: key.candidate, ask });
                Ok(())
            }
            Next::Judge { submission, cut_off } => {
                let last = trial.number >= self.preparation.plan.attempts;
                let examples = !last && self.preparation.plan.feedback != Feedback::Verdict;
                self.pool.submit(Work::Judge { id, task: key.task, submission, cut_off, examples });
                Ok(())
            }
            Next::Over(verdict) => self.end(id, verdict, &[], TrialEnd::Decided),
        }
    }

    /// Whether an answer can be expected: written-down answers may lack one for a trial.
    fn is_answered(&self, key: &TrialKey, attempt: u32) -> bool {
        attempt > 1 || has_answer(self.preparation, key)
    }

    fn outcome(&mut self, id: usize, reply: AskReply) -> Result<(), RunError> {
        let Some(trial) = self.trials.get_mut(&id) else {
            return Ok(());
        };
        let candidate = self.preparation.plan.candidates.iter();
        let candidate = candidate.into_iter().find(|it| it.name() == trial.key.candidate);
        let price = candidate.map(Candidate::price).unwrap_or_default();
        let requests: Vec<NewRequest> =
            reply.requests.into_iter().map(|note| request(note, price)).collect();
        self.counter.progress.cost += requests.iter().map(|it| it.cost).sum::<f64>();
        match reply.outcome {
            AskOutcome::Answer { submission, cut_off } => {
                let answer = NewAnswer { submission: submission.clone(), cut_off, at: now() };
                let attempt = self.record.commit_answer(
                    trial.row,
                    trial.holding,
                    trial.number,
                    &answer,
                    &requests,
                )?;
                let next = trial.answered(attempt, submission, cut_off);
                self.proceed(id, next)
            }
            AskOutcome::NothingMore => {
                let verdict = trial.last().unwrap_or(Verdict::Void(VoidReason::ProviderError));
                self.end(id, verdict, &requests, TrialEnd::Decided)
            }
            AskOutcome::Void(VoidReason::Cancelled, _) => {
                // The trial stays as far as it is, and is resumed in a later session.
                let (row, holding) = (trial.row, trial.holding);
                self.record.commit_requests(row, holding, trial.number, &requests)?;
                self.interrupt(id);
                Ok(())
            }
            AskOutcome::Void(reason, why) => {
                self.end(id, Verdict::Void(reason), &requests, TrialEnd::Spoiled(why))
            }
            AskOutcome::Halt(why) => {
                let void = Verdict::Void(VoidReason::ProviderError);
                self.end(id, void, &requests, TrialEnd::Halted(why))
            }
        }
    }

    fn judged(&mut self, id: usize, judged: &JudgedSubmission) -> Result<(), RunError> {
        let Some(trial) = self.trials.get_mut(&id) else {
            return Ok(());
        };
        let Some(attempt) = trial.attempt else {
            return Ok(());
        };
        let verdict = judged.judgement.verdict;
        let ends = trial.would_end(verdict);
        let text = (!ends).then(|| {
            let task = &self.preparation.tasks[&trial.key.task].task;
            feedback(self.preparation.plan.feedback, &judged.judgement, task)
        });
        let at = now();
        self.record.commit_judgement(
            trial.row,
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
        match trial.judged(verdict, text.as_deref()) {
            // The judgement has just ended it in the record.
            Next::Over(verdict) => {
                self.over(id, verdict, TrialEnd::Decided);
                Ok(())
            }
            next => self.proceed(id, next),
        }
    }

    /// Ends a trial in the record.
    fn end(
        &mut self,
        id: usize,
        verdict: Verdict,
        requests: &[NewRequest],
        ended: TrialEnd,
    ) -> Result<(), RunError> {
        let trial = &self.trials[&id];
        let (trial, holding, number) = (trial.row, trial.holding, trial.number);
        self.record.end_trial(trial, holding, number, verdict, requests, &now())?;
        self.over(id, verdict, ended);
        Ok(())
    }

    /// Leaves a trial as far as it is; a later session goes on with it.
    fn interrupt(&mut self, id: usize) {
        if let Some(trial) = self.trials.remove(&id) {
            self.scheduler.end(&trial.key.candidate, TrialEnd::Interrupted);
        }
    }

    fn over(&mut self, id: usize, verdict: Verdict, ended: TrialEnd) {
        let Some(trial) = self.trials.remove(&id) else {
            return;
        };
        self.scheduler.end(&trial.key.candidate, ended);
        self.counter.count(&trial.key.candidate, verdict);
        self.observer.trial_over(&trial.key, verdict, trial.number);
        self.observer.progress(&self.counter.progress);
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
