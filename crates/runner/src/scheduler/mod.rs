//! When what is done: a state machine without threads, clocks or processes.
//!
//! Trials wait in one queue for each candidate; requests in one for each host, which has limits of its own. Asking and
//! judging have limits of their own, too. A trial whose request failed waits for its next try without keeping anybody
//! from anything. The time is an argument: how long since the session began.

mod host;
#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

use fairtrial_core::digest::unit;
use fairtrial_core::plan::HostSettings;
use fairtrial_core::schedule::TrialKey;

pub use host::{HostTurn, PastRequest, QueuedRequest};

use host::HostQueue;

/// Trials of a candidate that may be spoiled by its host one after the other before it rests.
const SPOILED_MAX: u32 = 5;

/// How long a candidate rests whose host spoils its trials: once, and once more. Then one trial is tried; if that is
/// spoiled, too, and it has rested twice, it is no longer asked.
const RESTS: [Duration; 2] = [Duration::from_secs(3), Duration::from_secs(10)];

/// The wait before a second request; it doubles with each further one.
const FIRST_WAIT: Duration = Duration::from_millis(500);

/// Longest wait between two requests where the host does not ask for one.
const WAIT_MAX: Duration = Duration::from_secs(60);

/// Longest time that a host is waited for, whether it asks for it or a limit of the plan does.
pub const PATIENCE: Duration = Duration::from_secs(600);

/// How much a wait varies, as a share of it: those who failed together are not to come back together.
const JITTER: f64 = 0.25;

/// By how much at most the wait varies that a host asked for; it is never shorter.
const JITTER_MAX: Duration = Duration::from_secs(5);

/// What may be done at the same time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Concurrency {
    /// Trials being asked for, at least 1.
    pub asking: usize,
    /// Answers being judged, at least 1.
    pub judging: usize,
}

/// Where a candidate is asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CandidateHost {
    /// The candidate.
    pub candidate: String,
    /// Its host; empty for one that makes no requests.
    pub host: String,
    /// Whether an attempt is one request; otherwise it makes any number meanwhile.
    pub is_request: bool,
}

/// What is to be done now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ScheduledAction {
    /// Begin a trial.
    Begin(TrialKey),
    /// Ask for the next attempt of a trial.
    Ask(TrialKey),
    /// Let a request of that number be sent, which a candidate makes while it acts.
    Send(TrialKey, u64),
    /// Judge the last answer of a trial.
    Judge(TrialKey),
}

/// How a trial ended, as far as the run is concerned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TrialEnd {
    /// With a verdict about the candidate, or about this machine.
    Decided,
    /// Spoiled by the candidate's host; the text says how.
    Spoiled(String),
    /// Spoiled since the candidate's host is not to be found; the text says how.
    Unreachable(String),
    /// Not yet: the run was stopped while it was under way.
    Interrupted,
    /// Not at all: asking this candidate is no use for now; the text says why.
    Halted(String),
}

/// How a request ended, as far as its host is concerned.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct RequestEnd {
    /// Tokens read and written.
    pub tokens: u64,
    /// Whether it was answered.
    pub answered: bool,
    /// Whether the host said that there are too many.
    pub too_many: bool,
}

/// What is no longer to be done.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Withdrawn {
    /// Trials that were not begun.
    pub not_begun: Vec<TrialKey>,
    /// Trials that were begun and wait to be asked for.
    pub waiting: Vec<TrialKey>,
    /// Requests that wait, of candidates that act.
    pub requests: Vec<u64>,
}

/// What a candidate is doing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CandidateState {
    /// Trials of it are under way, or will be as soon as there is room.
    Asking,
    /// Its host is left alone until then.
    Resting(Duration),
    /// All its trials are over.
    Done,
    /// It is no longer asked; the text says why.
    Stopped(String),
}

/// A trial that waits for another try.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Retry {
    due: Duration,
    key: TrialKey,
    host: String,
    tokens: u64,
    /// Whether the host asked for the wait: then no new trial goes before it.
    is_asked_for: bool,
}

/// How a candidate's host has behaved.
#[derive(Debug, Default)]
struct Health {
    /// Trials spoiled one after the other.
    spoiled: u32,
    /// How often it has rested since.
    rests: usize,
    resting_until: Duration,
}

/// Which trials are waiting, under way, and over.
#[derive(Debug, Default)]
pub struct Scheduler {
    limits: Option<Concurrency>,
    /// Trials that were not begun, by candidate, each with its place in the order of all.
    waiting: BTreeMap<String, VecDeque<(usize, TrialKey)>>,
    under_way: BTreeSet<TrialKey>,
    hosts: BTreeMap<String, HostQueue>,
    /// Where each candidate is asked.
    candidates: BTreeMap<String, CandidateHost>,
    /// Candidates whose hosts have answered once.
    answered: BTreeSet<String>,
    retrying: BTreeSet<Retry>,
    to_judge: VecDeque<TrialKey>,
    /// Trials that are being asked for, each with the number of its request at its host.
    asking: BTreeMap<TrialKey, Option<u64>>,
    /// Requests that candidates make while they act: the host, and the number there.
    sending: BTreeMap<u64, (String, u64)>,
    judging: usize,
    stopped: bool,
    /// Candidates that have not been looked at yet: all others wait for these.
    unseen: BTreeSet<String>,
    health: BTreeMap<String, Health>,
    halted: BTreeMap<String, String>,
    not_run: usize,
}

impl Scheduler {
    /// A run of `trials` in this order, of candidates that are asked there.
    #[must_use]
    pub fn new(trials: Vec<TrialKey>, limits: Concurrency, candidates: Vec<CandidateHost>) -> Self {
        let mut waiting = BTreeMap::<String, VecDeque<_>>::new();
        for (place, key) in trials.into_iter().enumerate() {
            waiting.entry(key.candidate.clone()).or_default().push_back((place, key));
        }
        let limits = Concurrency { asking: limits.asking.max(1), judging: limits.judging.max(1) };
        let mut hosts = BTreeMap::new();
        for candidate in &candidates {
            hosts.entry(candidate.host.clone()).or_insert_with(HostQueue::default);
        }
        let candidates = candidates.into_iter().map(|it| (it.candidate.clone(), it)).collect();
        Self { limits: Some(limits), waiting, hosts, candidates, ..Self::default() }
    }

    /// With limits of a host, and what it was asked before the session.
    #[must_use]
    pub fn with_host(mut self, host: &str, settings: HostSettings, past: &[PastRequest]) -> Self {
        self.hosts.insert(host.to_owned(), HostQueue::new(settings, past));
        self
    }

    /// With a first look: the first trial of each candidate that makes requests is begun before any other, and no other
    /// before each of these was answered once, or not.
    #[must_use]
    pub fn with_first_look(mut self) -> Self {
        let is_asked = |it: &&String| {
            let is_waiting = self.waiting.get(*it).is_some_and(|it| !it.is_empty());
            is_waiting && self.candidates.get(*it).is_some_and(|it| !it.host.is_empty())
        };
        self.unseen = self.candidates.keys().filter(is_asked).cloned().collect();
        self
    }

    fn limits(&self) -> Concurrency {
        self.limits.unwrap_or(Concurrency { asking: 1, judging: 1 })
    }

    /// What is to be done next at the time `now`; `None` when there is nothing, or enough under way.
    pub fn next(&mut self, now: Duration) -> Option<ScheduledAction> {
        while self.retrying.first().is_some_and(|it| it.due <= now) {
            let Some(retry) = self.retrying.pop_first() else { break };
            let queue = self.hosts.entry(retry.host).or_default();
            queue.push(QueuedRequest::Attempt(retry.key), retry.tokens);
        }
        let limits = self.limits();
        if self.judging < limits.judging
            && let Some(key) = self.to_judge.pop_front()
        {
            self.judging += 1;
            return Some(ScheduledAction::Judge(key));
        }
        if let Some(action) = self.send(now) {
            return Some(action);
        }
        if self.asking.len() >= limits.asking {
            return None;
        }
        // What is answered and not judged must not grow without bound.
        let is_behind = self.to_judge.len() >= limits.judging + limits.asking;
        let kept = self.hosts.values().filter(|it| it.next_turn(now) != HostTurn::Now);
        let kept_waiting =
            self.retrying.len() + kept.map(HostQueue::attempts_waiting).sum::<usize>();
        let elsewhere = self.to_judge.len() + self.judging + kept_waiting;
        let to_be_asked = self.under_way.len().saturating_sub(elsewhere);
        if self.stopped || is_behind || to_be_asked >= limits.asking {
            return None;
        }
        self.begin(now).map(ScheduledAction::Begin)
    }

    /// The next request whose host may be asked now.
    fn send(&mut self, now: Duration) -> Option<ScheduledAction> {
        let has_room = self.asking.len() < self.limits().asking;
        for (host, queue) in &mut self.hosts {
            let Some((request, number)) = queue.pop(now, has_room) else { continue };
            return Some(match request {
                QueuedRequest::Attempt(key) => {
                    let known = self.candidates.get(&key.candidate);
                    let number = match known.is_none_or(|it| it.is_request) {
                        true => Some(number),
                        // An attempt that is no request takes no place at its host; its requests do.
                        false => {
                            queue.forget(number);
                            None
                        }
                    };
                    self.asking.insert(key.clone(), number);
                    ScheduledAction::Ask(key)
                }
                QueuedRequest::Within(key, id) => {
                    self.sending.insert(id, (host.clone(), number));
                    ScheduledAction::Send(key, id)
                }
            });
        }
        None
    }

    /// The next trial in the order of all whose candidate is still asked, and whose host may be.
    fn begin(&mut self, now: Duration) -> Option<TrialKey> {
        let halted = &self.halted;
        for (_, queue) in self.waiting.iter_mut().filter(|it| halted.contains_key(it.0)) {
            self.not_run += queue.len();
            queue.clear();
        }
        let waiting = &self.waiting;
        self.unseen.retain(|it| {
            let is_left = waiting.get(it).is_some_and(|queue| !queue.is_empty());
            !halted.contains_key(it)
                && (is_left || self.under_way.iter().any(|key| key.candidate == *it))
        });
        let candidates: Vec<&String> = self.waiting.keys().collect();
        let free: BTreeSet<String> =
            candidates.into_iter().filter(|it| self.may_begin(it, now)).cloned().collect();
        let queues = self.waiting.iter_mut().filter(|it| !it.1.is_empty() && free.contains(it.0));
        let first = queues.map(|it| it.1).min_by_key(|it| it.front().map(|it| it.0))?;
        let (_, key) = first.pop_front()?;
        self.under_way.insert(key.clone());
        Some(key)
    }

    /// Whether a new trial of a candidate may be begun.
    fn may_begin(&self, candidate: &str, now: Duration) -> bool {
        let is_under_way = || self.under_way.iter().any(|it| it.candidate == candidate);
        if !self.unseen.is_empty() && (!self.unseen.contains(candidate) || is_under_way()) {
            return false;
        }
        if let Some(health) = self.health.get(candidate).filter(|it| it.rests > 0)
            && (health.resting_until > now || is_under_way())
        {
            return false;
        }
        let host = self.host_of(candidate);
        let waits_first = self.retrying.iter().any(|it| it.is_asked_for && it.host == host);
        let turn = self.hosts.get(host).map_or(HostTurn::Now, |it| it.turn(0, now));
        !waits_first && !matches!(turn, HostTurn::At(_))
    }

    fn host_of(&self, candidate: &str) -> &str {
        self.candidates.get(candidate).map_or("", |it| it.host.as_str())
    }

    /// Takes note that a trial wants to be asked for, which takes about so many tokens.
    pub fn want_asking(&mut self, key: TrialKey, tokens: u64) {
        let host = self.host_of(&key.candidate).to_owned();
        self.hosts.entry(host).or_default().push(QueuedRequest::Attempt(key), tokens);
    }

    /// Takes note that a candidate that acts wants to send a request. `id` tells it apart from all others.
    pub fn want_sending(&mut self, key: TrialKey, id: u64) {
        let host = self.host_of(&key.candidate).to_owned();
        self.hosts.entry(host).or_default().push(QueuedRequest::Within(key, id), 0);
    }

    /// Takes note that a trial wants to be asked for again, after `tries` requests failed. `after` is how
    /// long the host asked to be left alone.
    pub fn want_retrying(
        &mut self,
        key: TrialKey,
        tokens: u64,
        tries: u32,
        after: Option<Duration>,
        now: Duration,
    ) {
        let host = self.host_of(&key.candidate).to_owned();
        let doubled = FIRST_WAIT.saturating_mul(1 << tries.saturating_sub(1).min(16));
        let (sample, tries) = (key.sample.to_string(), tries.to_string());
        let chance = unit(&["wait", &key.candidate, &key.task, &sample, &tries]);
        let wait = match after {
            Some(after) => {
                let after = after.min(PATIENCE);
                self.hosts.entry(host.clone()).or_default().pause_until(now + after);
                after + after.mul_f64(JITTER * chance).min(JITTER_MAX)
            }
            None => doubled.mul_f64(1.0 + JITTER * (2.0 * chance - 1.0)).min(WAIT_MAX),
        };
        let is_asked_for = after.is_some();
        self.retrying.insert(Retry { due: now + wait, key, host, tokens, is_asked_for });
    }

    /// Leaves a host alone that asked for it.
    pub fn pause(&mut self, candidate: &str, after: Duration, now: Duration) {
        let host = self.host_of(candidate).to_owned();
        self.hosts.entry(host).or_default().pause_until(now + after.min(PATIENCE));
    }

    /// Takes note that a trial has an answer to be judged.
    pub fn want_judging(&mut self, key: TrialKey) {
        self.to_judge.push_back(key);
    }

    /// Takes note that asking for a trial is over, whatever came of it.
    pub fn asked(&mut self, key: &TrialKey, end: RequestEnd) {
        self.unseen.remove(&key.candidate);
        self.heard_of(&key.candidate, end);
        if let Some(Some(number)) = self.asking.remove(key) {
            let host = self.host_of(&key.candidate).to_owned();
            let queue = self.hosts.entry(host).or_default();
            queue.over(number, end.tokens, end.too_many, end.answered);
        }
    }

    /// Takes note that a request of a candidate that acts is over.
    pub fn sent(&mut self, candidate: &str, id: u64, end: RequestEnd) {
        self.unseen.remove(candidate);
        self.heard_of(candidate, end);
        if let Some((host, number)) = self.sending.remove(&id) {
            let queue = self.hosts.entry(host).or_default();
            queue.over(number, end.tokens, end.too_many, end.answered);
        }
    }

    /// One whose host answers is well.
    fn heard_of(&mut self, candidate: &str, end: RequestEnd) {
        if end.answered {
            self.health.remove(candidate);
            if !self.answered.contains(candidate) {
                self.answered.insert(candidate.to_owned());
            }
        }
    }

    /// Takes note that an answer is judged.
    pub fn judged(&mut self) {
        self.judging = self.judging.saturating_sub(1);
    }

    /// Takes note that a trial is no longer under way, at the time `now`.
    pub fn end(&mut self, key: &TrialKey, end: TrialEnd, now: Duration) {
        self.under_way.remove(key);
        let candidate = &key.candidate;
        match end {
            // While its host rests, what is decided was answered before.
            TrialEnd::Decided => {
                let is_over = |it: &Health| it.resting_until <= now;
                if self.health.get(candidate).is_some_and(is_over) {
                    self.health.remove(candidate);
                }
            }
            TrialEnd::Spoiled(why) => self.spoiled(candidate, why, 1, now),
            // One that was there before may come back.
            TrialEnd::Unreachable(why) if self.answered.contains(candidate) => {
                self.spoiled(candidate, why, SPOILED_MAX, now);
            }
            TrialEnd::Unreachable(why) => self.halt(candidate, why),
            TrialEnd::Interrupted => self.not_run += 1,
            TrialEnd::Halted(why) => {
                self.not_run += 1;
                self.halt(candidate, why);
            }
        }
    }

    /// Takes note that a host spoiled a trial, which says as much as `weight` trials.
    fn spoiled(&mut self, candidate: &str, why: String, weight: u32, now: Duration) {
        let health = self.health.entry(candidate.to_owned()).or_default();
        if health.resting_until > now {
            // It was under way when the rest began.
            return;
        }
        health.spoiled += weight;
        if health.spoiled >= SPOILED_MAX {
            match RESTS.get(health.rests) {
                Some(rest) => {
                    health.rests += 1;
                    health.resting_until = now + *rest;
                    // One more is enough to tell.
                    health.spoiled = SPOILED_MAX - 1;
                }
                None => self.halt(candidate, why),
            }
        }
    }

    /// Takes note that so many trials that were taken back are not run.
    pub fn leave_out(&mut self, trials: usize) {
        self.not_run += trials;
    }

    /// No longer asks a candidate.
    pub fn halt(&mut self, candidate: &str, why: String) {
        self.halted.entry(candidate.to_owned()).or_insert(why);
    }

    /// Candidates whose host can be asked again only after longer than anybody waits, by a limit of the plan, with how
    /// long that is.
    #[must_use]
    pub fn beyond_patience(&self, now: Duration) -> Vec<(String, Duration)> {
        let is_left = |it: &str| {
            self.waiting.get(it).is_some_and(|queue| !queue.is_empty())
                || self.under_way.iter().any(|key| key.candidate == it)
        };
        let candidates = self.candidates.values();
        let asked = candidates.filter(|it| !self.halted.contains_key(&it.candidate));
        let asked = asked.filter(|it| is_left(&it.candidate));
        let turns = asked.filter_map(|it| match self.hosts.get(&it.host)?.next_turn(now) {
            HostTurn::At(at) if at > now + PATIENCE => Some((it.candidate.clone(), at - now)),
            _ => None,
        });
        turns.collect()
    }

    /// Takes back what fits and was not begun or waits to be asked for: it is no longer done.
    pub fn withdraw(&mut self, mut fits: impl FnMut(&TrialKey) -> bool) -> Withdrawn {
        let mut withdrawn = Withdrawn::default();
        for queue in self.waiting.values_mut() {
            let (out, stay): (VecDeque<_>, VecDeque<_>) =
                queue.drain(..).partition(|it| fits(&it.1));
            *queue = stay;
            withdrawn.not_begun.extend(out.into_iter().map(|it| it.1));
        }
        for queue in self.hosts.values_mut() {
            for request in queue.withdraw(&mut fits) {
                match request {
                    QueuedRequest::Attempt(key) => withdrawn.waiting.push(key),
                    QueuedRequest::Within(_, id) => withdrawn.requests.push(id),
                }
            }
        }
        let (out, stay): (BTreeSet<_>, BTreeSet<_>) =
            std::mem::take(&mut self.retrying).into_iter().partition(|it| fits(&it.key));
        self.retrying = stay;
        withdrawn.waiting.extend(out.into_iter().map(|it| it.key));
        withdrawn
    }

    /// Begins nothing more, and gives what waits: trials are left as they are, requests are not sent.
    pub fn stop(&mut self) -> Withdrawn {
        self.stopped = true;
        let withdrawn = self.withdraw(|_| true);
        self.not_run += withdrawn.not_begun.len();
        withdrawn
    }

    /// When, after `now`, there is something to be done although nothing has happened; `None`: never.
    #[must_use]
    pub fn wakes_at(&self, now: Duration) -> Option<Duration> {
        let retry = self.retrying.first().map(|it| it.due);
        let at = |turn: HostTurn| match turn {
            HostTurn::At(at) => Some(at),
            HostTurn::Now | HostTurn::Later => None,
        };
        let waiting = self.hosts.values().filter(|it| it.is_waiting());
        let waiting = waiting.filter_map(|it| at(it.next_turn(now)));
        let not_begun = self.waiting.iter().filter(|it| !it.1.is_empty());
        let turns = not_begun.clone();
        let turns = turns.filter_map(|it| at(self.hosts.get(self.host_of(it.0))?.turn(0, now)));
        let rests = not_begun.filter_map(|it| Some(self.health.get(it.0)?.resting_until));
        let times = retry.into_iter().chain(waiting).chain(turns).chain(rests);
        times.filter(|it| *it > now).min()
    }

    /// Whether everything is over.
    #[must_use]
    pub fn is_over(&self) -> bool {
        let is_left =
            |it: (&String, &VecDeque<_>)| !it.1.is_empty() && !self.halted.contains_key(it.0);
        self.under_way.is_empty() && (self.stopped || !self.waiting.iter().any(is_left))
    }

    /// Trials under way.
    #[must_use]
    pub fn under_way(&self) -> usize {
        self.under_way.len()
    }

    /// Answers that are judged, and that wait to be.
    #[must_use]
    pub fn judging(&self) -> (usize, usize) {
        (self.judging, self.to_judge.len())
    }

    /// What a candidate is doing at the time `now`.
    #[must_use]
    pub fn state_of(&self, candidate: &str, now: Duration) -> CandidateState {
        if let Some(why) = self.halted.get(candidate) {
            return CandidateState::Stopped(why.clone());
        }
        let is_left = self.waiting.get(candidate).is_some_and(|it| !it.is_empty());
        let is_own = |it: &&TrialKey| it.candidate == candidate;
        if !is_left && !self.under_way.iter().any(|it| is_own(&it)) {
            return CandidateState::Done;
        }
        if self.asking.keys().any(|it| is_own(&it)) {
            return CandidateState::Asking;
        }
        let host = self.hosts.get(self.host_of(candidate));
        let rest = self.health.get(candidate).map(|it| it.resting_until);
        let due = self.retrying.iter().filter(|it| is_own(&&it.key)).map(|it| it.due).min();
        let until = host.map(HostQueue::paused_until).into_iter().chain(rest).chain(due).max();
        match until.filter(|it| *it > now) {
            Some(until) => CandidateState::Resting(until),
            None => CandidateState::Asking,
        }
    }

    /// Candidates that are no longer asked, and why.
    #[must_use]
    pub fn halted(&self) -> &BTreeMap<String, String> {
        &self.halted
    }

    /// Trials that were given up: not run, and not void.
    #[must_use]
    pub fn not_run(&self) -> usize {
        let halted = self.waiting.iter().filter(|it| self.halted.contains_key(it.0));
        self.not_run + halted.map(|it| it.1.len()).sum::<usize>()
    }
}
