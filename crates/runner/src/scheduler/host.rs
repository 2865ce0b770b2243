//! The queue of one host: how much it is asked at once, a minute and a day, and when it wants to be left alone.

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use fairtrial_core::plan::HostSettings;
use fairtrial_core::schedule::TrialKey;

/// A minute.
const MINUTE: Duration = Duration::from_secs(60);

/// A day. Times inside are counted from a day before the session, so that what was sent before it has one, too.
const DAY: Duration = Duration::from_secs(24 * 3600);

/// A request that waits for its turn.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum QueuedRequest {
    /// The request of a trial that is asked by one.
    Attempt(TrialKey),
    /// A request that a candidate makes while it acts: the trial, and a number by which it is told apart.
    Within(TrialKey, u64),
}

impl QueuedRequest {
    /// Whose it is.
    pub fn key(&self) -> &TrialKey {
        match self {
            Self::Attempt(key) | Self::Within(key, _) => key,
        }
    }
}

/// A request that was sent before the session.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PastRequest {
    /// How long before the session began.
    pub ago: Duration,
    /// Tokens read and written.
    pub tokens: u64,
}

/// A request that was sent, as far as limits go by it.
#[derive(Debug)]
struct SentRequest {
    at: Duration,
    tokens: u64,
}

/// When the next request may be sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HostTurn {
    /// Now.
    Now,
    /// Not before then.
    At(Duration),
    /// When one that is under way is over.
    Later,
}

/// The queue of one host.
#[derive(Debug, Default)]
pub struct HostQueue {
    settings: HostSettings,
    /// Requests that wait, with an estimate of their tokens.
    waiting: VecDeque<(QueuedRequest, u64)>,
    /// Requests that may be under way at once: fewer after the host said that they are too many. `None`: any number.
    window: Option<usize>,
    in_flight: usize,
    /// The host asked to be left alone until then.
    paused_until: Duration,
    /// Those of the last day, by number, the oldest first.
    sent: BTreeMap<u64, SentRequest>,
    next: u64,
}

impl HostQueue {
    /// A queue that nobody waits in.
    pub fn new(settings: HostSettings, past: &[PastRequest]) -> Self {
        let mut queue = Self { settings, ..Self::default() };
        let mut past: Vec<_> = past.iter().filter(|it| it.ago < DAY).collect();
        past.sort_by_key(|it| std::cmp::Reverse(it.ago));
        for request in past {
            let at = DAY - request.ago;
            queue.sent.insert(queue.next, SentRequest { at, tokens: request.tokens });
            queue.next += 1;
        }
        queue
    }

    /// Adds a request behind those that wait.
    pub fn push(&mut self, request: QueuedRequest, tokens: u64) {
        self.waiting.push_back((request, tokens));
    }

    /// Whether anything waits.
    pub fn is_waiting(&self) -> bool {
        !self.waiting.is_empty()
    }

    /// Trials whose only request waits here.
    pub fn attempts_waiting(&self) -> usize {
        self.waiting.iter().filter(|it| matches!(it.0, QueuedRequest::Attempt(_))).count()
    }

    /// Until when the host wants to be left alone.
    pub fn paused_until(&self) -> Duration {
        self.paused_until
    }

    /// Leaves the host alone until then.
    pub fn pause_until(&mut self, until: Duration) {
        self.paused_until = self.paused_until.max(until);
    }

    /// Takes out what waits and fits.
    pub fn withdraw(&mut self, mut fits: impl FnMut(&TrialKey) -> bool) -> Vec<QueuedRequest> {
        let (out, stay) = self.waiting.drain(..).partition(|it| fits(it.0.key()));
        self.waiting = stay;
        let out: VecDeque<(QueuedRequest, u64)> = out;
        out.into_iter().map(|it| it.0).collect()
    }

    /// When a request of so many tokens may be sent.
    pub fn turn(&self, tokens: u64, now: Duration) -> HostTurn {
        if self.paused_until > now {
            return HostTurn::At(self.paused_until);
        }
        let most = [self.settings.at_once.map(|it| it as usize), self.window];
        if most.into_iter().flatten().any(|it| self.in_flight >= it.max(1)) {
            return HostTurn::Later;
        }
        let HostSettings { requests_per_minute, requests_per_day, .. } = self.settings;
        let HostSettings { tokens_per_minute, tokens_per_day, .. } = self.settings;
        let free = [
            requests_per_minute.and_then(|it| self.requests_free(it, MINUTE, now)),
            requests_per_day.and_then(|it| self.requests_free(it, DAY, now)),
            tokens_per_minute.and_then(|it| self.tokens_free(it, tokens, MINUTE, now)),
            tokens_per_day.and_then(|it| self.tokens_free(it, tokens, DAY, now)),
        ];
        free.into_iter().flatten().max().map_or(HostTurn::Now, HostTurn::At)
    }

    /// When the next of those that wait may be sent.
    pub fn next_turn(&self, now: Duration) -> HostTurn {
        self.turn(self.waiting.front().map_or(0, |it| it.1), now)
    }

    /// Sends the next of those that wait, if it may be sent; without `attempts`, of those that candidates make while
    /// they act: nobody may wait there for somebody who waits for him.
    pub fn pop(&mut self, now: Duration, attempts: bool) -> Option<(QueuedRequest, u64)> {
        let fits =
            |it: &(QueuedRequest, u64)| attempts || matches!(it.0, QueuedRequest::Within(..));
        let place = self.waiting.iter().position(fits)?;
        if self.turn(self.waiting[place].1, now) != HostTurn::Now {
            return None;
        }
        let (request, tokens) = self.waiting.remove(place)?;
        let number = self.next;
        self.next += 1;
        self.in_flight += 1;
        if self.is_counted() {
            let at = now + DAY;
            while self.sent.first_key_value().is_some_and(|it| it.1.at + DAY <= at) {
                self.sent.pop_first();
            }
            self.sent.insert(number, SentRequest { at, tokens });
        }
        Some((request, number))
    }

    /// Whether what was sent is kept in mind.
    fn is_counted(&self) -> bool {
        let HostSettings { requests_per_minute, requests_per_day, .. } = self.settings;
        let HostSettings { tokens_per_minute, tokens_per_day, .. } = self.settings;
        requests_per_minute.or(requests_per_day).is_some()
            || tokens_per_minute.or(tokens_per_day).is_some()
    }

    /// Takes back that a request was sent.
    pub fn forget(&mut self, number: u64) {
        self.sent.remove(&number);
        self.in_flight = self.in_flight.saturating_sub(1);
    }

    /// Takes note that a request is over. `refused`: the host said that they are too many.
    pub fn over(&mut self, number: u64, tokens: u64, refused: bool, answered: bool) {
        if refused {
            self.window = Some((self.in_flight / 2).max(1));
        } else if answered {
            self.window = self.window.map(|it| it + 1);
        }
        self.in_flight = self.in_flight.saturating_sub(1);
        if let Some(sent) = self.sent.get_mut(&number) {
            sent.tokens = tokens;
        }
    }

    /// When fewer than `most` requests are as young as `span`; `None`: they are now.
    fn requests_free(&self, most: u32, span: Duration, now: Duration) -> Option<Duration> {
        let now = now + DAY;
        let young = self.sent.values().filter(|it| it.at + span > now);
        let young: Vec<Duration> = young.map(|it| it.at).collect();
        let first = young.len().checked_sub(most as usize)?;
        Some((young[first] + span).saturating_sub(DAY))
    }

    /// When `tokens` fit beside those of requests as young as `span`; `None`: they do now. A request that alone is more
    /// than `most` is sent when nothing else is young.
    fn tokens_free(
        &self,
        most: u64,
        tokens: u64,
        span: Duration,
        now: Duration,
    ) -> Option<Duration> {
        let now = now + DAY;
        let young: Vec<_> = self.sent.values().filter(|it| it.at + span > now).collect();
        let mut sum: u64 = young.iter().map(|it| it.tokens).sum();
        let mut free = None;
        for request in young {
            if sum == 0 || sum.saturating_add(tokens) <= most {
                break;
            }
            sum -= request.tokens;
            free = Some((request.at + span).saturating_sub(DAY));
        }
        free
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key() -> TrialKey {
        TrialKey { candidate: "auk".into(), task: "gap".into(), sample: 1 }
    }

    fn seconds(count: u64) -> Duration {
        Duration::from_secs(count)
    }

    fn sent(queue: &mut HostQueue, tokens: u64, now: u64) -> Option<u64> {
        if !queue.is_waiting() {
            queue.push(QueuedRequest::Attempt(key()), tokens);
        }
        queue.pop(seconds(now), true).map(|it| it.1)
    }

    #[test]
    fn no_more_are_sent_within_a_minute_and_a_day_than_allowed() {
        let settings = HostSettings {
            requests_per_minute: Some(2),
            requests_per_day: Some(4),
            ..HostSettings::default()
        };
        let past = [PastRequest { ago: seconds(3600), tokens: 0 }];
        let mut queue = HostQueue::new(settings, &past);
        assert!(sent(&mut queue, 0, 0).is_some() && sent(&mut queue, 0, 10).is_some());
        assert_eq!(sent(&mut queue, 0, 59), None);
        assert_eq!(queue.next_turn(seconds(59)), HostTurn::At(seconds(60)));
        assert!(sent(&mut queue, 0, 60).is_some());
        // Three of this session and one an hour before it: the next is due a day after that one.
        assert_eq!(sent(&mut queue, 0, 200), None);
        assert_eq!(queue.next_turn(seconds(200)), HostTurn::At(DAY - seconds(3600)));
        assert!(sent(&mut queue, 0, 24 * 3600 - 3600).is_some());
    }

    #[test]
    fn tokens_are_counted_as_estimated_until_they_are_known() {
        let settings = HostSettings { tokens_per_minute: Some(100), ..HostSettings::default() };
        let mut queue = HostQueue::new(settings, &[]);
        let first = sent(&mut queue, 60, 0).unwrap();
        assert_eq!(sent(&mut queue, 60, 1), None, "both would be too many");
        queue.over(first, 30, false, true);
        assert!(sent(&mut queue, 60, 2).is_some(), "it took fewer than was thought");
        assert_eq!(sent(&mut queue, 500, 3), None);
        assert_eq!(queue.next_turn(seconds(3)), HostTurn::At(seconds(62)));
        assert!(sent(&mut queue, 500, 62).is_some(), "alone it may be more");
    }

    #[test]
    fn a_host_that_has_too_much_is_asked_less_at_once_and_then_more_again() {
        let settings = HostSettings { at_once: Some(4), ..HostSettings::default() };
        let mut queue = HostQueue::new(settings, &[]);
        let numbers: Vec<u64> = (0..4).map(|_| sent(&mut queue, 0, 0).unwrap()).collect();
        assert_eq!(sent(&mut queue, 0, 0), None);
        assert_eq!(queue.next_turn(seconds(0)), HostTurn::Later);
        queue.over(numbers[0], 0, true, false);
        queue.over(numbers[1], 0, true, false);
        queue.over(numbers[2], 0, false, false);
        queue.over(numbers[3], 0, false, false);
        let one = sent(&mut queue, 0, 1).unwrap();
        assert_eq!(sent(&mut queue, 0, 1), None, "one at a time");
        queue.over(one, 0, false, true);
        assert!(sent(&mut queue, 0, 2).is_some() && sent(&mut queue, 0, 2).is_some());
        assert_eq!(sent(&mut queue, 0, 2), None);
    }
}
