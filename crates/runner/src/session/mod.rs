//! One session of a run: what happens is recorded, and decides what is done next.
//!
//! It has no threads, processes or clock: events and the time come in, orders go out. Whatever was paid
//! for is committed before anything is done with it.

mod budget;
#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use fairtrial_candidates::{Ask, AskOutcome, AskReply, RequestNote, StepNote, TryAgain};
use fairtrial_core::digest::hash64;
use fairtrial_core::plan::{Candidate, Feedback, Plan, Price, Spending};
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::trouble::StepWatch;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_grading::{JudgedSubmission, Manner, PromptTemplates, repair_parts};
use fairtrial_record::{
    NewAnswer, NewJudgement, NewStep, Record, RecordError, RequestResult, TrialSummary,
};

use crate::budget::{BudgetWatch, CapReached};
use crate::counter::{Counter, FirstLook, Progress};
use crate::news::RunNews;
use crate::prepare::PlannedTask;
use crate::scheduler::{PATIENCE, RequestEnd, ScheduledAction, Scheduler, TrialEnd};
use crate::trial::{Next, TrialState, TrialTerms, Unjudged, step_of};

/// What trials come to that a cap ends.
const BUDGET_REACHED: Verdict = Verdict::Void(VoidReason::BudgetReached);

/// How often an attempt of an agent whose host never answered is begun anew.
const AGENT_RETRIES: u32 = 2;

/// Somebody who watches a run.
pub trait Observer {
    /// How far the run is: when it begins, when a trial is over, and every now and then.
    fn progress(&mut self, progress: &Progress);
    /// Something happened.
    fn happened(&mut self, what: &RunNews<'_>);
}

/// What a session knows of the world.
pub trait World {
    /// Whether an answer to the first attempt of a trial can be expected.
    fn has_answer(&self, key: &TrialKey) -> bool;
    /// How a candidate answers.
    fn manner(&self, candidate: &str) -> Manner;
    /// Why answers to a task cannot be judged on this machine; `None` when they can.
    fn unfit(&self, task: &PlannedTask) -> Option<VoidReason>;
    /// A trial is over or left: nothing more is asked for it.
    fn leave(&self, key: &TrialKey);
    /// The time of day, in UTC, RFC 3339.
    fn now(&self) -> String;
}

/// What is run: a plan, its tasks, and the world.
#[derive(Clone, Copy)]
pub struct RunSpec<'a> {
    /// The plan.
    pub plan: &'a Plan,
    /// The tasks, by name.
    pub tasks: &'a BTreeMap<String, PlannedTask>,
    /// How what goes back after a failure is worded.
    pub templates: &'a PromptTemplates,
    /// What else there is.
    pub world: &'a dyn World,
}

/// Where a request stands in the record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RequestSpot {
    /// The trial's round.
    pub round: u32,
    /// The attempt.
    pub attempt: u32,
    /// Its number among those of the attempt.
    pub number: u32,
    /// What tells it apart from all others, where a candidate makes it while it acts.
    pub id: Option<u64>,
}

/// Something to be done elsewhere; what comes of it is a [`RunEvent`].
#[derive(Debug, Clone, PartialEq)]
pub enum RunOrder {
    /// Ask a candidate.
    Ask {
        /// For which trial.
        key: TrialKey,
        /// What.
        ask: Ask,
    },
    /// Let a request be sent that a candidate makes while it acts.
    Send {
        /// For which trial.
        key: TrialKey,
        /// Which one.
        id: u64,
    },
    /// Do not send that request.
    Deny {
        /// Which one.
        id: u64,
    },
    /// End a candidate that acts.
    End {
        /// In which trial.
        key: TrialKey,
    },
    /// Judge an answer.
    Judge {
        /// Of which trial.
        key: TrialKey,
        /// The answer.
        answer: Unjudged,
        /// Whether visible examples are run after a failure.
        examples: bool,
    },
}

/// Something that happened.
#[derive(Debug)]
pub enum RunEvent {
    /// A candidate that acts wants to send a request, which the number tells apart from all others.
    Wanted(TrialKey, u64),
    /// A request of that number is over, while its candidate goes on.
    RequestOver(TrialKey, RequestSpot, RequestNote),
    /// A candidate that acts has done something, and goes on.
    Step(TrialKey, StepNote),
    /// A candidate was asked.
    Asked(TrialKey, Box<AskReply>),
    /// An answer was judged.
    Judged(TrialKey, Box<JudgedSubmission>),
    /// The run is to stop: what is under way is still judged, nothing more is asked.
    Stop,
}

/// One session.
pub struct Session<'a> {
    spec: RunSpec<'a>,
    record: &'a mut Record,
    scheduler: Scheduler,
    trials: BTreeMap<TrialKey, TrialState>,
    /// What earlier sessions came to.
    known: HashMap<TrialKey, TrialSummary>,
    counter: Counter,
    budget: BudgetWatch,
    observer: &'a mut dyn Observer,
    /// What is to be done that no event of the scheduler says.
    orders: Vec<RunOrder>,
    stopping: bool,
    /// Whether each trial ends with its first answer.
    trying: bool,
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
    /// The caps that were reached.
    pub caps: Vec<CapReached>,
    /// Trials that are still to be run and were not chosen.
    pub left_out: usize,
    /// What each candidate's first trial came to, where that is all that was asked for.
    pub looked: Vec<FirstLook>,
}

/// What a session starts from.
pub struct SessionStart {
    /// When what is done.
    pub scheduler: Scheduler,
    /// What earlier sessions came to.
    pub known: HashMap<TrialKey, TrialSummary>,
    /// How far the run is.
    pub counter: Counter,
    /// Whether each trial ends with its first answer.
    pub trying: bool,
    /// The time that earlier sessions took.
    pub before: Duration,
}

impl<'a> Session<'a> {
    /// A session over the trials that the scheduler has.
    pub fn new(
        spec: RunSpec<'a>,
        record: &'a mut Record,
        start: SessionStart,
        observer: &'a mut dyn Observer,
    ) -> Self {
        let SessionStart { scheduler, known, counter, trying, before } = start;
        let budget = BudgetWatch::new(spec.plan, known.values(), before);
        let mut session = Self {
            spec,
            record,
            scheduler,
            trials: BTreeMap::new(),
            known,
            counter,
            budget,
            observer,
            orders: Vec::new(),
            stopping: false,
            trying,
        };
        session.observer.happened(&RunNews::Begun { trials: session.counter.progress.total });
        session.tell(Duration::ZERO);
        session
    }

    /// Says how far the run is.
    pub fn tell(&mut self, now: Duration) {
        let progress = &mut self.counter.progress;
        for row in &mut progress.candidates {
            row.state = self.scheduler.state_of(&row.name, now);
        }
        (progress.judging, progress.to_judge) = self.scheduler.judging();
        progress.under_way = self.scheduler.under_way();
        progress.elapsed = now;
        self.observer.progress(progress);
    }

    /// What is to be done at the time `now`, counted from the session's beginning.
    ///
    /// # Errors
    /// When the record cannot be written or read.
    pub fn orders(&mut self, now: Duration) -> Result<Vec<RunOrder>, RecordError> {
        self.keep_to_budget(now)?;
        for (candidate, wait) in self.scheduler.beyond_patience(now) {
            let why = format!(
                "its host takes no more requests for {} s, by the limits in [[host]]",
                wait.as_secs()
            );
            self.stop_asking(&candidate, why, now);
        }
        while let Some(action) = self.scheduler.next(now) {
            match action {
                ScheduledAction::Begin(key) => self.begin(key, now)?,
                ScheduledAction::Ask(key) if self.is_halted(&key) => {
                    self.scheduler.asked(&key, RequestEnd::default());
                    self.interrupt(&key, now);
                }
                ScheduledAction::Ask(key) => {
                    let order = self.ask(&key);
                    self.orders.extend(order);
                }
                ScheduledAction::Send(key, id) => self.orders.push(RunOrder::Send { key, id }),
                ScheduledAction::Judge(key) => {
                    let order = self.judge(&key);
                    self.orders.extend(order);
                }
            }
        }
        Ok(std::mem::take(&mut self.orders))
    }

    /// Takes note of something that happened at the time `now`.
    ///
    /// # Errors
    /// When the record cannot be written.
    pub fn handle(&mut self, event: RunEvent, now: Duration) -> Result<(), RecordError> {
        match event {
            RunEvent::Wanted(key, id) => {
                // What is ended already gets nothing more.
                let is_bound = self.stopping || self.budget.binds(&key) || self.is_halted(&key);
                match self.trials.get_mut(&key) {
                    Some(_) if !is_bound => self.scheduler.want_sending(key, id),
                    Some(trial) => {
                        trial.denied = true;
                        self.orders.push(RunOrder::Deny { id });
                    }
                    None => self.orders.push(RunOrder::Deny { id }),
                }
                Ok(())
            }
            RunEvent::RequestOver(key, spot, note) => self.request_over(&key, spot, note, now),
            RunEvent::Step(key, step) => self.step(&key, step),
            RunEvent::Asked(key, reply) => self.asked(&key, *reply, now),
            RunEvent::Judged(key, judged) => {
                self.scheduler.judged();
                self.judged(&key, &judged, now)
            }
            RunEvent::Stop => {
                self.stop(now);
                Ok(())
            }
        }
    }

    /// When, after `now`, something is to be done although nothing happens; `None`: never.
    #[must_use]
    pub fn wakes_at(&self, now: Duration) -> Option<Duration> {
        let deadline = self.budget.deadline().filter(|it| *it > now);
        self.scheduler.wakes_at(now).into_iter().chain(deadline).min()
    }

    /// Whether everything is over.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.scheduler.is_over()
    }

    /// What it came to.
    #[must_use]
    pub fn summary(mut self, now: Duration) -> Summary {
        self.tell(now);
        self.observer.happened(&RunNews::Over { stopped: self.stopping });
        Summary {
            caps: self.budget.reached(now),
            looked: self.counter.looked,
            left_out: self.counter.left_out,
            halted: self.scheduler.halted().clone(),
            not_run: self.scheduler.not_run(),
            progress: self.counter.progress,
            unanswered: self.counter.unanswered,
            void: self.counter.void,
            stopped: self.stopping,
        }
    }

    fn stop(&mut self, now: Duration) {
        if self.stopping {
            return;
        }
        self.stopping = true;
        let withdrawn = self.scheduler.stop();
        for key in withdrawn.waiting {
            self.interrupt(&key, now);
        }
        self.deny(withdrawn.requests);
        self.end_acting(|_| true);
        self.observer.happened(&RunNews::Stopping { under_way: self.scheduler.under_way() });
    }

    /// Ends those who act, in trials that fit.
    fn end_acting(&mut self, fits: impl Fn(&TrialKey) -> bool) {
        let world = self.spec.world;
        let acts = |it: &&TrialKey| fits(it) && world.manner(&it.candidate) == Manner::Acts;
        let ends = self.trials.keys().filter(acts);
        self.orders.extend(ends.map(|key| RunOrder::End { key: key.clone() }));
    }

    fn deny(&mut self, requests: Vec<u64>) {
        self.orders.extend(requests.into_iter().map(|id| RunOrder::Deny { id }));
    }

    /// No longer asks a candidate.
    fn stop_asking(&mut self, candidate: &str, why: String, now: Duration) {
        self.observer.happened(&RunNews::Halted { candidate, why: &why });
        self.scheduler.halt(candidate, why);
        let withdrawn = self.scheduler.withdraw(|it| it.candidate == candidate);
        self.scheduler.leave_out(withdrawn.not_begun.len());
        for key in withdrawn.waiting {
            self.interrupt(&key, now);
        }
        self.deny(withdrawn.requests);
    }

    fn candidate(&self, name: &str) -> Option<&'a Candidate> {
        self.spec.plan.candidates.iter().find(|it| it.name() == name)
    }

    /// Whether asking the candidate of a trial is no use any more.
    fn is_halted(&self, key: &TrialKey) -> bool {
        self.scheduler.halted().contains_key(&key.candidate)
    }

    fn begin(&mut self, key: TrialKey, now: Duration) -> Result<(), RecordError> {
        let (plan, world) = (self.spec.plan, self.spec.world);
        let system = self.candidate(&key.candidate).and_then(Candidate::system);
        let (attempts, stuck_at) = (plan.attempts, plan.stop_when_stuck);
        let entry = &self.spec.tasks[&key.task];
        let manner = world.manner(&key.candidate);
        let images = entry.first_images(&key.candidate, manner);
        let terms = TrialTerms { attempts, stuck_at, system, images };
        let prompt = entry.first_prompt(&key.candidate, manner);
        let row = match self.known.remove(&key) {
            Some(known) => {
                if known.verdict.is_some() {
                    self.record.reopen_trial(&key, prompt, &world.now())?;
                }
                self.record.trial(&key)?
            }
            None => None,
        };
        let (trial, next) = match row {
            Some(row) => TrialState::resume(&row, self.record, terms)?,
            None => {
                self.record.begin_trial(&key, prompt, &world.now())?;
                (TrialState::new(key.clone(), 1, terms, prompt), Next::Ask)
            }
        };
        tracing::debug!(candidate = ?key.candidate, task = ?key.task, sample = key.sample, "trial begun");
        self.observer.happened(&RunNews::TrialBegun { key: &key, round: trial.round });
        self.trials.insert(key.clone(), trial);
        self.proceed(&key, next, now)
    }

    fn proceed(&mut self, key: &TrialKey, next: Next, now: Duration) -> Result<(), RecordError> {
        let spec = self.spec;
        match next {
            Next::Ask if self.stopping || self.is_halted(key) => {
                self.interrupt(key, now);
                Ok(())
            }
            Next::Ask if self.budget.binds(key) => {
                self.end(key, BUDGET_REACHED, TrialEnd::Decided, now)
            }
            // It is resumed when more than a first look is wanted.
            Next::Ask if self.trying && self.trials[key].attempt > 1 => {
                if let Some(verdict) = self.trials[key].last() {
                    self.counter.looked.push(FirstLook { key: key.clone(), verdict });
                }
                self.interrupt(key, now);
                Ok(())
            }
            Next::Ask => {
                if let Some(reason) = spec.world.unfit(&spec.tasks[&key.task]) {
                    // Nothing that comes back could be judged: nothing is asked.
                    let void = Verdict::Void(reason);
                    return self.end(key, void, TrialEnd::Decided, now);
                }
                let attempt = self.trials[key].attempt;
                // Written-down answers may lack one for a trial.
                if attempt == 1 && !spec.world.has_answer(key) {
                    self.counter.unanswered += 1;
                    let void = Verdict::Void(VoidReason::NotRecorded);
                    return self.end(key, void, TrialEnd::Decided, now);
                }
                self.scheduler.want_asking(key.clone(), self.trials[key].tokens_wanted());
                Ok(())
            }
            Next::Judge => {
                self.scheduler.want_judging(key.clone());
                Ok(())
            }
            Next::Over(verdict) => self.end(key, verdict, TrialEnd::Decided, now),
        }
    }

    fn ask(&mut self, key: &TrialKey) -> Option<RunOrder> {
        let trial = self.trials.get_mut(key)?;
        // An attempt that is begun anew has done nothing.
        trial.steps = StepWatch::default();
        let seed = self.spec.plan.seed.to_string();
        let ask = Ask {
            task: key.task.clone(),
            sample: key.sample,
            attempt: trial.attempt,
            messages: trial.messages.clone(),
            last: trial.last_submission.clone(),
            seed: hash64(&[&seed, &key.task, &key.sample.to_string()]),
        };
        Some(RunOrder::Ask { key: key.clone(), ask })
    }

    fn judge(&self, key: &TrialKey) -> Option<RunOrder> {
        let (trial, plan) = (self.trials.get(key)?, self.spec.plan);
        let is_last = trial.attempt >= plan.attempts;
        let examples = !is_last && plan.feedback != Feedback::Verdict;
        let answer = trial.unjudged.clone()?;
        Some(RunOrder::Judge { key: key.clone(), answer, examples })
    }

    /// Records that a request is about to be sent, and says where; `None`: nobody waits for it. `id` tells it apart where
    /// a candidate makes it while it acts.
    ///
    /// # Errors
    /// When the record cannot be written.
    pub fn requested(
        &mut self,
        key: &TrialKey,
        id: Option<u64>,
    ) -> Result<Option<RequestSpot>, RecordError> {
        let now = self.spec.world.now();
        let Some(trial) = self.trials.get_mut(key) else { return Ok(None) };
        let (round, attempt) = (trial.round, trial.attempt);
        let number = self.record.begin_request(key, round, attempt, &now)?;
        trial.request = Some(number);
        self.observer.happened(&RunNews::RequestSent { key, attempt, number });
        Ok(Some(RequestSpot { round, attempt, number, id }))
    }

    fn request_over(
        &mut self,
        key: &TrialKey,
        spot: RequestSpot,
        note: RequestNote,
        now: Duration,
    ) -> Result<(), RecordError> {
        if let Some(id) = spot.id {
            self.scheduler.sent(&key.candidate, id, request_end(&note));
        }
        if let Some(wait) = note.wait {
            self.scheduler.pause(&key.candidate, wait, now);
        }
        let result = self.paid(key, note);
        let RequestSpot { round, attempt, number, .. } = spot;
        self.observer.happened(&RunNews::RequestOver { key, attempt, number, result: &result });
        self.record.end_request(key, round, attempt, number, &result)
    }

    /// What is recorded of a request, whose cost is counted.
    fn paid(&mut self, key: &TrialKey, note: RequestNote) -> RequestResult {
        let price = self.candidate(&key.candidate).map(Candidate::price).unwrap_or_default();
        let took = note.took;
        let result = result(note, price);
        let tokens = result.tokens.input + result.tokens.output;
        self.budget.spend(key, Spending { money: result.cost, tokens, time: took });
        self.counter.spend(&key.candidate, &result);
        result
    }

    fn step(&mut self, key: &TrialKey, step: StepNote) -> Result<(), RecordError> {
        let at = self.spec.world.now();
        let Some(trial) = self.trials.get_mut(key) else { return Ok(()) };
        trial.steps.take(&step_of(&step));
        let StepNote { kind, subject, outcome, detail, took, files } = step;
        let seconds = took.as_secs_f64();
        let step = NewStep { kind, subject, outcome, detail, seconds, at, files };
        self.record.add_step(key, trial.round, trial.attempt, &step)
    }

    fn asked(&mut self, key: &TrialKey, reply: AskReply, now: Duration) -> Result<(), RecordError> {
        self.scheduler.asked(key, reply.request.as_ref().map(request_end).unwrap_or_default());
        let request = reply.request.map(|it| self.paid(key, it));
        let Some(trial) = self.trials.get_mut(key) else { return Ok(()) };
        let request = trial.request.take().zip(request);
        let (round, attempt) = (trial.round, trial.attempt);
        if let Some((number, result)) = &request {
            let number = *number;
            self.observer.happened(&RunNews::RequestOver { key, attempt, number, result });
        }
        // What it did without the requests that it wanted says nothing of it.
        let is_ended = trial.denied || matches!(reply.outcome, AskOutcome::Cancelled);
        if is_ended && self.budget.binds(key) {
            return self.end(key, BUDGET_REACHED, TrialEnd::Decided, now);
        }
        if let AskOutcome::Answer { submission, end } = reply.outcome {
            let at = self.spec.world.now();
            let ended = reply.ended.as_ref();
            trial.met_limit = ended.is_some_and(|it| !it.limit.is_empty());
            let ended_as = ended.and_then(|it| serde_json::to_string(it).ok());
            let seconds = ended.map(|it| it.wall_seconds);
            let last_words = ended.map(|it| it.stdout.clone());
            let reused = reply.reused;
            let answer =
                NewAnswer { submission: submission.clone(), end, ended_as, seconds, at, reused };
            let request = request.as_ref().map(|it| (it.0, &it.1));
            self.record.commit_answer(key, round, attempt, &answer, request)?;
            self.counter.progress.reused += usize::from(answer.reused.is_some());
            self.observer.happened(&RunNews::Answered { key, attempt, end });
            let next = trial.answered(submission, end, last_words);
            return self.proceed(key, next, now);
        }
        if let Some((number, request)) = &request {
            self.record.end_request(key, round, attempt, *number, request)?;
        }
        let void = Verdict::Void;
        match reply.outcome {
            AskOutcome::Answer { .. } => Ok(()),
            AskOutcome::NothingMore => {
                let verdict = trial.last().unwrap_or(void(VoidReason::NotRecorded));
                self.end(key, verdict, TrialEnd::Decided, now)
            }
            AskOutcome::Again(again) => self.asked_in_vain(key, again, now),
            AskOutcome::Void(reason, why) => {
                let end = if reason.spoils_the_host() {
                    TrialEnd::Spoiled(why)
                } else {
                    TrialEnd::Decided
                };
                self.end(key, void(reason), end, now)
            }
            AskOutcome::Halt(reason, why) => {
                self.end(key, void(reason), TrialEnd::Halted(why), now)
            }
            AskOutcome::Cancelled => {
                self.interrupt(key, now);
                Ok(())
            }
        }
    }

    /// A request failed that may be made again.
    fn asked_in_vain(
        &mut self,
        key: &TrialKey,
        again: TryAgain,
        now: Duration,
    ) -> Result<(), RecordError> {
        let retries = match self.candidate(&key.candidate) {
            Some(Candidate::Chat(chat)) => chat.retries,
            Some(Candidate::Command(command)) => command.retries,
            Some(Candidate::Agent(_) | Candidate::Acp(_)) => AGENT_RETRIES,
            _ => 0,
        };
        let Some(trial) = self.trials.get_mut(key) else { return Ok(()) };
        trial.tries += 1;
        let TryAgain { reason, why, after, unreachable } = again;
        if trial.tries > retries {
            let end = match (unreachable, reason.spoils_the_host()) {
                (true, _) => TrialEnd::Unreachable(why),
                (false, true) => TrialEnd::Spoiled(why),
                (false, false) => TrialEnd::Decided,
            };
            return self.end(key, Verdict::Void(reason), end, now);
        }
        if self.stopping {
            // The trial stays as far as it is, and is resumed in a later session.
            self.interrupt(key, now);
            return Ok(());
        }
        if let Some(asked_for) = after.filter(|it| *it > PATIENCE) {
            let wait = asked_for.as_secs();
            let why = format!("{why}; the host asks to be left alone for {wait} s");
            return self.end(key, Verdict::Void(reason), TrialEnd::Halted(why), now);
        }
        let (tokens, tries) = (trial.tokens_wanted(), trial.tries);
        if self.budget.binds(key) {
            return self.end(key, BUDGET_REACHED, TrialEnd::Decided, now);
        }
        tracing::debug!(candidate = ?key.candidate, task = ?key.task, tries, ?after, why, "asked again later");
        self.scheduler.want_retrying(key.clone(), tokens, tries, after, now);
        Ok(())
    }

    fn judged(
        &mut self,
        key: &TrialKey,
        judged: &JudgedSubmission,
        now: Duration,
    ) -> Result<(), RecordError> {
        let spec = self.spec;
        let Some(trial) = self.trials.get_mut(key) else { return Ok(()) };
        let verdict = judged.judgement.verdict;
        let trouble = trial.trouble_of(&judged.judgement, judged.code.as_ref());
        let ends = trial.would_end(verdict);
        let manner = spec.world.manner(&key.candidate);
        let task = &spec.tasks[&key.task].task;
        let text = (!ends).then(|| {
            let parts = repair_parts(spec.plan.feedback, &judged.judgement, task, manner);
            spec.templates.repair(&key.candidate, &parts)
        });
        let at = spec.world.now();
        self.record.commit_judgement(
            key,
            trial.attempt,
            &NewJudgement {
                judgement: &judged.judgement,
                deviations: &judged.deviations,
                reading: &judged.reading,
                code: judged.code.as_ref(),
                feedback: text.as_deref(),
                seconds: judged.took.as_secs_f64(),
                trouble,
                trial: ends.then_some(verdict),
                at: &at,
            },
        )?;
        let attempt = trial.attempt;
        let next = trial.judged(verdict, text.as_deref());
        let tests = judged.judgement.counts();
        tracing::debug!(candidate = ?key.candidate, task = ?key.task, attempt, %verdict, "judged");
        self.observer.happened(&RunNews::Judged { key, attempt, verdict, tests });
        match next {
            // The judgement has just ended it in the record.
            Next::Over(verdict) => {
                self.over(key, verdict, TrialEnd::Decided, now);
                Ok(())
            }
            next => self.proceed(key, next, now),
        }
    }

    /// Ends a trial in the record.
    fn end(
        &mut self,
        key: &TrialKey,
        verdict: Verdict,
        end: TrialEnd,
        now: Duration,
    ) -> Result<(), RecordError> {
        self.record.end_trial(key, verdict, &self.spec.world.now())?;
        self.over(key, verdict, end, now);
        Ok(())
    }

    /// Leaves a trial as far as it is; a later session resumes it.
    fn interrupt(&mut self, key: &TrialKey, now: Duration) {
        if self.trials.remove(key).is_some() {
            self.spec.world.leave(key);
            self.scheduler.end(key, TrialEnd::Interrupted, now);
        }
    }

    fn over(&mut self, key: &TrialKey, verdict: Verdict, end: TrialEnd, now: Duration) {
        let Some(trial) = self.trials.remove(key) else { return };
        self.spec.world.leave(key);
        if self.trying {
            self.counter.looked.push(FirstLook { key: key.clone(), verdict });
        }
        let was_halted = self.is_halted(key);
        self.scheduler.end(key, end, now);
        let why = self.scheduler.halted().get(&key.candidate);
        if let Some(why) = why.filter(|_| !was_halted) {
            self.observer.happened(&RunNews::Halted { candidate: &key.candidate, why });
        }
        self.counter.count(key, verdict);
        self.observer.happened(&RunNews::TrialOver { key, verdict, attempts: trial.attempt });
        self.tell(now);
    }
}

/// What a host's queue needs to know of a request that is over.
fn request_end(note: &RequestNote) -> RequestEnd {
    RequestEnd {
        tokens: note.tokens.input + note.tokens.output,
        answered: note.outcome == "answered",
        too_many: note.outcome == VoidReason::RateLimit.short(),
    }
}

fn result(note: RequestNote, price: Price) -> RequestResult {
    RequestResult {
        outcome: note.outcome,
        detail: note.detail,
        status: note.status,
        seconds: note.took.as_secs_f64(),
        first_token: note.first_token.map(|it| it.as_secs_f64()),
        tokens: note.tokens,
        estimated: note.estimated,
        cost: note.cost.unwrap_or_else(|| price.of(note.tokens)),
        thought: note.thought,
    }
}
