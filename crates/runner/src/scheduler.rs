//! When what is done: a state machine without threads, clocks or processes.
//!
//! Trials wait in one queue for each candidate; requests in one for each host. Asking and judging have
//! limits of their own. A trial whose request failed waits for its next try without keeping anybody from
//! anything. The time is an argument: how long since the session began.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

use fairtrial_core::digest::unit;
use fairtrial_core::schedule::TrialKey;

/// Trials of a candidate that may be spoiled by its host one after the other before it is no
/// longer asked.
const SPOILED_MAX: u32 = 5;

/// The wait before a second request; it doubles with each further one.
const FIRST_WAIT: Duration = Duration::from_millis(500);

/// Longest wait between two requests, whatever the host asks for.
const WAIT_MAX: Duration = Duration::from_secs(60);

/// How much a wait varies, as a share of it: those who failed together are not to come back together.
const JITTER: f64 = 0.25;

/// What may be done at the same time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Concurrency {
    /// Requests under way, at least 1.
    pub asking: usize,
    /// Answers being judged, at least 1.
    pub judging: usize,
}

/// What is to be done now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ScheduledAction {
    /// Begin a trial.
    Begin(TrialKey),
    /// Ask for the next attempt of a trial.
    Ask(TrialKey),
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
    /// Not yet: the run was stopped while it was under way.
    Interrupted,
    /// Not at all: asking this candidate is no use for now; the text says why.
    Halted(String),
}

/// The requests to one host.
#[derive(Debug, Default)]
struct HostQueue {
    waiting: VecDeque<TrialKey>,
    /// The host asked to be left alone until then.
    paused_until: Duration,
}

/// Which trials are waiting, under way, and over.
#[derive(Debug)]
pub struct Scheduler {
    limits: Concurrency,
    /// Trials that were not begun, by candidate, each with its place in the order of all.
    waiting: BTreeMap<String, VecDeque<(usize, TrialKey)>>,
    under_way: BTreeSet<TrialKey>,
    hosts: BTreeMap<String, HostQueue>,
    /// The host of each candidate that was asked.
    host_of: BTreeMap<String, String>,
    /// Trials that wait for another try, by when it is due.
    retrying: BTreeSet<(Duration, TrialKey, String)>,
    to_judge: VecDeque<TrialKey>,
    asking: usize,
    judging: usize,
    stopped: bool,
    spoiled: BTreeMap<String, u32>,
    halted: BTreeMap<String, String>,
    not_run: usize,
}

impl Scheduler {
    /// A run of `trials` in this order.
    #[must_use]
    pub fn new(trials: Vec<TrialKey>, limits: Concurrency) -> Self {
        let mut waiting = BTreeMap::<String, VecDeque<_>>::new();
        for (place, key) in trials.into_iter().enumerate() {
            waiting.entry(key.candidate.clone()).or_default().push_back((place, key));
        }
        Self {
            limits: Concurrency { asking: limits.asking.max(1), judging: limits.judging.max(1) },
            waiting,
            under_way: BTreeSet::new(),
            hosts: BTreeMap::new(),
            host_of: BTreeMap::new(),
            retrying: BTreeSet::new(),
            to_judge: VecDeque::new(),
            asking: 0,
            judging: 0,
            stopped: false,
            spoiled: BTreeMap::new(),
            halted: BTreeMap::new(),
            not_run: 0,
        }
    }

    /// What is to be done next at the time `now`; `None` when there is nothing, or enough under way.
    pub fn next(&mut self, now: Duration) -> Option<ScheduledAction> {
        while let Some(due) = self.retrying.first().filter(|it| it.0 <= now).cloned() {
            self.retrying.remove(&due);
            let (_, key, host) = due;
            self.hosts.entry(host).or_default().waiting.push_back(key);
        }
        if self.judging < self.limits.judging
            && let Some(key) = self.to_judge.pop_front()
        {
            self.judging += 1;
            return Some(ScheduledAction::Judge(key));
        }
        if self.asking >= self.limits.asking {
            return None;
        }
        let free = self.hosts.values_mut().filter(|it| it.paused_until <= now);
        if let Some(key) = free.filter_map(|it| it.waiting.pop_front()).next() {
            self.asking += 1;
            return Some(ScheduledAction::Ask(key));
        }
        // What is answered and not judged must not grow without bound.
        let is_behind = self.to_judge.len() >= self.limits.judging + self.limits.asking;
        let paused = self.hosts.values().filter(|it| it.paused_until > now);
        let kept_waiting = self.retrying.len() + paused.map(|it| it.waiting.len()).sum::<usize>();
        let elsewhere = self.to_judge.len() + self.judging + kept_waiting;
        let to_be_asked = self.under_way.len().saturating_sub(elsewhere);
        if self.stopped || is_behind || to_be_asked >= self.limits.asking {
            return None;
        }
        self.begin(now).map(ScheduledAction::Begin)
    }

    /// The next trial in the order of all whose candidate is still asked, and whose host may be.
    fn begin(&mut self, now: Duration) -> Option<TrialKey> {
        let halted = &self.halted;
        for (_, queue) in self.waiting.iter_mut().filter(|it| halted.contains_key(it.0)) {
            self.not_run += queue.len();
            queue.clear();
        }
        let (hosts, host_of) = (&self.hosts, &self.host_of);
        let is_free = |candidate: &String| {
            let host = host_of.get(candidate).and_then(|it| hosts.get(it));
            host.is_none_or(|it| it.paused_until <= now)
        };
        let queues = self.waiting.iter_mut().filter(|it| !it.1.is_empty() && is_free(it.0));
        let first = queues.map(|it| it.1).min_by_key(|it| it.front().map(|it| it.0))?;
        let (_, key) = first.pop_front()?;
        self.under_way.insert(key.clone());
        Some(key)
    }

    /// Takes note that a trial wants to be asked for, of this host.
    pub fn want_asking(&mut self, key: TrialKey, host: &str) {
        if !self.host_of.contains_key(&key.candidate) {
            self.host_of.insert(key.candidate.clone(), host.to_owned());
        }
        self.hosts.entry(host.to_owned()).or_default().waiting.push_back(key);
    }

    /// Takes note that a trial wants to be asked for again, after `tries` requests failed. `after` is how
    /// long the host asked to be left alone.
    pub fn want_retrying(
        &mut self,
        key: TrialKey,
        host: &str,
        tries: u32,
        after: Option<Duration>,
        now: Duration,
    ) {
        let doubled = FIRST_WAIT.saturating_mul(1 << tries.saturating_sub(1).min(16));
        let (sample, tries) = (key.sample.to_string(), tries.to_string());
        let chance = unit(&["wait", &key.candidate, &key.task, &sample, &tries]);
        let wait = match after {
            Some(after) => {
                let queue = self.hosts.entry(host.to_owned()).or_default();
                queue.paused_until = queue.paused_until.max(now + after.min(WAIT_MAX));
                after
            }
            None => doubled.mul_f64(1.0 + JITTER * (2.0 * chance - 1.0)),
        };
        self.retrying.insert((now + wait.min(WAIT_MAX), key, host.to_owned()));
    }

    /// Takes note that a trial has an answer to be judged.
    pub fn want_judging(&mut self, key: TrialKey) {
        self.to_judge.push_back(key);
    }

    /// Takes note that a request is over, whatever came of it.
    pub fn asked(&mut self) {
        self.asking = self.asking.saturating_sub(1);
    }

    /// Takes note that an answer is judged.
    pub fn judged(&mut self) {
        self.judging = self.judging.saturating_sub(1);
    }

    /// Takes note that a trial is no longer under way.
    pub fn end(&mut self, key: &TrialKey, end: TrialEnd) {
        self.under_way.remove(key);
        let candidate = &key.candidate;
        match end {
            TrialEnd::Decided => {
                self.spoiled.remove(candidate);
            }
            TrialEnd::Spoiled(why) => {
                let count = self.spoiled.entry(candidate.clone()).or_default();
                *count += 1;
                if *count >= SPOILED_MAX {
                    self.halt(candidate, why);
                }
            }
            TrialEnd::Interrupted => self.not_run += 1,
            TrialEnd::Halted(why) => {
                self.not_run += 1;
                self.halt(candidate, why);
            }
        }
    }

    fn halt(&mut self, candidate: &str, why: String) {
        self.halted.entry(candidate.to_owned()).or_insert(why);
    }

    /// Begins nothing more, and gives the trials that wait to be asked for: they are left as they are.
    pub fn stop(&mut self) -> Vec<TrialKey> {
        self.stopped = true;
        self.not_run += self.waiting.values().map(VecDeque::len).sum::<usize>();
        self.waiting.clear();
        let queued = self.hosts.values_mut().flat_map(|it| it.waiting.drain(..));
        let retrying = std::mem::take(&mut self.retrying).into_iter().map(|it| it.1);
        queued.chain(retrying).collect()
    }

    /// When, after `now`, there is something to be done although nothing has happened; `None`: never.
    #[must_use]
    pub fn wakes_at(&self, now: Duration) -> Option<Duration> {
        let retry = self.retrying.first().map(|it| it.0);
        let waiting = self.hosts.values().filter(|it| !it.waiting.is_empty());
        let not_begun = self.waiting.iter().filter(|it| !it.1.is_empty());
        let hosts = not_begun.filter_map(|it| self.hosts.get(self.host_of.get(it.0)?));
        let times = retry.into_iter().chain(waiting.chain(hosts).map(|it| it.paused_until));
        times.filter(|it| *it > now).min()
    }

    /// Whether everything is over.
    #[must_use]
    pub fn is_over(&self) -> bool {
        let is_left = |queue: &VecDeque<_>| !queue.is_empty();
        self.under_way.is_empty() && (self.stopped || !self.waiting.values().any(is_left))
    }

    /// Trials under way.
    #[must_use]
    pub fn under_way(&self) -> usize {
        self.under_way.len()
    }

    /// Candidates that are no longer asked, and why.
    #[must_use]
    pub fn halted(&self) -> &BTreeMap<String, String> {
        &self.halted
    }

    /// Trials that were given up: not run, and not void.
    #[must_use]
    pub fn not_run(&self) -> usize {
        self.not_run
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LIMITS: Concurrency = Concurrency { asking: 2, judging: 1 };
    const START: Duration = Duration::ZERO;

    fn key(candidate: &str, sample: u32) -> TrialKey {
        TrialKey { candidate: candidate.to_owned(), task: "gap".to_owned(), sample }
    }

    fn trials(candidates: &[&str], count: u32) -> Vec<TrialKey> {
        (1..=count).flat_map(|sample| candidates.iter().map(move |it| key(it, sample))).collect()
    }

    fn begun(scheduler: &mut Scheduler, now: Duration) -> TrialKey {
        match scheduler.next(now) {
            Some(ScheduledAction::Begin(key)) => key,
            other => panic!("{other:?} instead of a beginning"),
        }
    }

    #[test]
    fn no_more_than_allowed_are_asked_for_and_judged() {
        let mut scheduler = Scheduler::new(trials(&["auk"], 4), LIMITS);
        let (first, second) = (begun(&mut scheduler, START), begun(&mut scheduler, START));
        scheduler.want_asking(first.clone(), "a");
        scheduler.want_asking(second.clone(), "a");
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(first.clone())));
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(second.clone())));
        assert_eq!(scheduler.next(START), None);
        scheduler.asked();
        scheduler.asked();
        scheduler.want_judging(first.clone());
        scheduler.want_judging(second.clone());
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Judge(first.clone())));
        // Judging keeps nobody from asking.
        assert_eq!(begun(&mut scheduler, START), key("auk", 3));
        assert_eq!(begun(&mut scheduler, START), key("auk", 4));
        assert_eq!(scheduler.next(START), None, "one is judged at a time");
        scheduler.judged();
        scheduler.end(&first, TrialEnd::Decided);
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Judge(second.clone())));
        assert!(!scheduler.is_over());
    }

    #[test]
    fn what_waits_to_be_judged_does_not_grow_without_bound() {
        let mut scheduler = Scheduler::new(trials(&["auk"], 100), LIMITS);
        let mut answered = 0;
        while let Some(action) = scheduler.next(START) {
            match action {
                ScheduledAction::Begin(key) => scheduler.want_asking(key, "a"),
                ScheduledAction::Ask(key) => {
                    scheduler.asked();
                    scheduler.want_judging(key);
                    answered += 1;
                }
                ScheduledAction::Judge(_) => {}
            }
        }
        assert!((3..8).contains(&answered), "{answered} were asked for while one is judged");
    }

    #[test]
    fn a_host_that_wants_to_be_left_alone_delays_nobody_else() {
        let limits = Concurrency { asking: 1, judging: 1 };
        let mut scheduler = Scheduler::new(trials(&["auk", "tern"], 2), limits);
        let busy = begun(&mut scheduler, START);
        scheduler.want_asking(busy.clone(), "a");
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(busy.clone())));
        scheduler.asked();
        scheduler.want_retrying(busy.clone(), "a", 1, Some(Duration::from_secs(9)), START);
        let other = begun(&mut scheduler, START);
        assert_eq!(other.candidate, "tern");
        scheduler.want_asking(other.clone(), "b");
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(other.clone())));
        scheduler.asked();
        scheduler.end(&other, TrialEnd::Decided);
        let last = begun(&mut scheduler, START);
        assert_eq!(last.candidate, "tern", "the same host is left alone for other trials, too");
        scheduler.end(&last, TrialEnd::Decided);
        assert_eq!(scheduler.next(Duration::from_secs(8)), None);
        assert_eq!(scheduler.wakes_at(Duration::from_secs(8)), Some(Duration::from_secs(9)));
        assert_eq!(scheduler.next(Duration::from_secs(9)), Some(ScheduledAction::Ask(busy)));
        // The next one waits for this one, not for a time.
        assert_eq!(scheduler.next(Duration::from_secs(9)), None);
        assert_eq!(scheduler.wakes_at(Duration::from_secs(9)), None);
    }

    #[test]
    fn trials_that_a_paused_host_keeps_waiting_take_nobodys_place() {
        let limits = Concurrency { asking: 1, judging: 1 };
        let order = [trials(&["auk"], 2), trials(&["tern"], 1)].concat();
        let mut scheduler = Scheduler::new(order, limits);
        let repaired = begun(&mut scheduler, START);
        scheduler.want_asking(repaired.clone(), "a");
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(repaired.clone())));
        scheduler.asked();
        scheduler.want_judging(repaired.clone());
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Judge(repaired.clone())));
        let refused = begun(&mut scheduler, START);
        scheduler.want_asking(refused.clone(), "a");
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(refused.clone())));
        scheduler.asked();
        scheduler.want_retrying(refused, "a", 1, Some(Duration::from_secs(60)), START);
        scheduler.judged();
        scheduler.want_asking(repaired, "a");
        assert_eq!(begun(&mut scheduler, START).candidate, "tern");
    }

    #[test]
    fn waits_double_up_to_a_bound_and_differ_a_little() {
        let mut scheduler = Scheduler::new(Vec::new(), LIMITS);
        let mut wait = |sample: u32, tries: u32| {
            scheduler.want_retrying(key("auk", sample), "a", tries, None, START);
            let due = scheduler.retrying.pop_first().map(|it| it.0);
            due.unwrap_or_default().as_secs_f64()
        };
        for (tries, base) in [(1, 0.5), (2, 1.0), (5, 8.0)] {
            let waits: Vec<f64> = (1..50).map(|sample| wait(sample, tries)).collect();
            assert!(waits.iter().all(|it| (0.75 * base..=1.25 * base).contains(it)), "{waits:?}");
            assert!(waits.iter().any(|it| *it < base) && waits.iter().any(|it| *it > base));
        }
        assert_eq!((wait(1, 50), wait(1, u32::MAX)), (60.0, 60.0));
    }

    #[test]
    fn a_halted_candidate_does_not_stop_the_others() {
        let limits = Concurrency { asking: 1, judging: 1 };
        let mut scheduler = Scheduler::new(trials(&["auk", "tern"], 3), limits);
        let mut run = Vec::new();
        while let Some(ScheduledAction::Begin(key)) = scheduler.next(START) {
            let end = match key.candidate.as_str() {
                "auk" => TrialEnd::Halted("wrong key".to_owned()),
                _ => TrialEnd::Decided,
            };
            scheduler.end(&key, end);
            run.push(key.candidate);
        }
        assert_eq!(run, ["auk", "tern", "tern", "tern"]);
        assert_eq!((scheduler.not_run(), scheduler.halted()["auk"].as_str()), (3, "wrong key"));
        assert!(scheduler.is_over());
    }

    #[test]
    fn a_host_that_comes_back_in_time_is_asked_on() {
        let mut scheduler = Scheduler::new(trials(&["auk"], 20), LIMITS);
        let spoiled = || TrialEnd::Spoiled("503".into());
        for round in 0..10 {
            let key = begun(&mut scheduler, START);
            let end = if round % 5 == 4 { TrialEnd::Decided } else { spoiled() };
            scheduler.end(&key, end);
        }
        assert!(scheduler.halted().is_empty());
        for _ in 0..5 {
            let key = begun(&mut scheduler, START);
            scheduler.end(&key, spoiled());
        }
        assert_eq!(scheduler.next(START), None);
        assert_eq!(scheduler.not_run(), 5);
    }

    #[test]
    fn a_stop_lets_what_is_under_way_end_and_asks_for_nothing_more() {
        let mut scheduler = Scheduler::new(trials(&["auk"], 5), LIMITS);
        let (asked, queued) = (begun(&mut scheduler, START), begun(&mut scheduler, START));
        scheduler.want_asking(asked.clone(), "a");
        assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(asked.clone())));
        scheduler.want_retrying(queued.clone(), "a", 1, None, START);
        assert_eq!(scheduler.stop(), std::slice::from_ref(&queued));
        scheduler.end(&queued, TrialEnd::Interrupted);
        assert_eq!((scheduler.next(START), scheduler.is_over()), (None, false));
        scheduler.asked();
        scheduler.want_judging(asked.clone());
        assert_eq!(
            scheduler.next(START),
            Some(ScheduledAction::Judge(asked.clone())),
            "it was paid for"
        );
        scheduler.judged();
        scheduler.end(&asked, TrialEnd::Decided);
        assert!(scheduler.is_over());
        assert_eq!(scheduler.not_run(), 4);
    }
}
