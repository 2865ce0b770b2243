use super::*;

const LIMITS: Concurrency = Concurrency { asking: 2, judging: 1 };
const START: Duration = Duration::ZERO;
const DONE: RequestEnd = RequestEnd { tokens: 0, answered: true, too_many: false };

fn key(candidate: &str, sample: u32) -> TrialKey {
    TrialKey { candidate: candidate.to_owned(), task: "gap".to_owned(), sample }
}

fn trials(candidates: &[&str], count: u32) -> Vec<TrialKey> {
    (1..=count).flat_map(|sample| candidates.iter().map(move |it| key(it, sample))).collect()
}

/// Auks are asked at one host, terns at another.
fn scheduler(trials: Vec<TrialKey>, limits: Concurrency) -> Scheduler {
    let at = |candidate: &str, host: &str| CandidateHost {
        candidate: candidate.to_owned(),
        host: host.to_owned(),
        is_request: true,
    };
    Scheduler::new(trials, limits, vec![at("auk", "a"), at("tern", "b")])
}

fn begun(scheduler: &mut Scheduler, now: Duration) -> TrialKey {
    match scheduler.next(now) {
        Some(ScheduledAction::Begin(key)) => key,
        other => panic!("{other:?} instead of a beginning"),
    }
}

#[test]
fn no_more_than_allowed_are_asked_for_and_judged() {
    let mut scheduler = scheduler(trials(&["auk"], 4), LIMITS);
    let (first, second) = (begun(&mut scheduler, START), begun(&mut scheduler, START));
    scheduler.want_asking(first.clone(), 0);
    scheduler.want_asking(second.clone(), 0);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(first.clone())));
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(second.clone())));
    assert_eq!(scheduler.next(START), None);
    scheduler.asked(&first, DONE);
    scheduler.asked(&second, DONE);
    scheduler.want_judging(first.clone());
    scheduler.want_judging(second.clone());
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Judge(first.clone())));
    // Judging keeps nobody from asking.
    assert_eq!(begun(&mut scheduler, START), key("auk", 3));
    assert_eq!(begun(&mut scheduler, START), key("auk", 4));
    assert_eq!(scheduler.next(START), None, "one is judged at a time");
    scheduler.judged();
    scheduler.end(&first, TrialEnd::Decided, START);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Judge(second.clone())));
    assert!(!scheduler.is_over());
}

#[test]
fn what_waits_to_be_judged_does_not_grow_without_bound() {
    let mut scheduler = scheduler(trials(&["auk"], 100), LIMITS);
    let mut answered = 0;
    while let Some(action) = scheduler.next(START) {
        match action {
            ScheduledAction::Begin(key) => scheduler.want_asking(key, 0),
            ScheduledAction::Ask(key) => {
                scheduler.asked(&key, DONE);
                scheduler.want_judging(key);
                answered += 1;
            }
            ScheduledAction::Judge(_) | ScheduledAction::Send(..) => {}
        }
    }
    assert!((3..8).contains(&answered), "{answered} were asked for while one is judged");
}

#[test]
fn a_host_that_wants_to_be_left_alone_delays_nobody_else() {
    let limits = Concurrency { asking: 1, judging: 1 };
    let mut scheduler = scheduler(trials(&["auk", "tern"], 2), limits);
    let busy = begun(&mut scheduler, START);
    scheduler.want_asking(busy.clone(), 0);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(busy.clone())));
    scheduler.asked(&busy, DONE);
    scheduler.want_retrying(busy.clone(), 0, 1, Some(Duration::from_secs(9)), START);
    let other = begun(&mut scheduler, START);
    assert_eq!(other.candidate, "tern");
    scheduler.want_asking(other.clone(), 0);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(other.clone())));
    scheduler.asked(&other, DONE);
    scheduler.end(&other, TrialEnd::Decided, START);
    let last = begun(&mut scheduler, START);
    assert_eq!(last.candidate, "tern", "the same host is left alone for other trials, too");
    scheduler.end(&last, TrialEnd::Decided, START);
    assert_eq!(scheduler.next(Duration::from_secs(8)), None);
    // It comes back a little later than the host asked for, and before any new trial of its candidate.
    let nine = Duration::from_secs(9);
    assert_eq!(scheduler.next(nine), None);
    let back = scheduler.wakes_at(nine).unwrap();
    assert!(back > nine && back < Duration::from_millis(11_300), "{back:?}");
    assert_eq!(scheduler.next(back), Some(ScheduledAction::Ask(busy)));
    // The next one waits for this one, not for a time.
    assert_eq!(scheduler.next(back), None);
    assert_eq!(scheduler.wakes_at(back), None);
}

#[test]
fn trials_that_a_paused_host_keeps_waiting_take_nobodys_place() {
    let limits = Concurrency { asking: 1, judging: 1 };
    let order = [trials(&["auk"], 2), trials(&["tern"], 1)].concat();
    let mut scheduler = scheduler(order, limits);
    let repaired = begun(&mut scheduler, START);
    scheduler.want_asking(repaired.clone(), 0);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(repaired.clone())));
    scheduler.asked(&repaired, DONE);
    scheduler.want_judging(repaired.clone());
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Judge(repaired.clone())));
    let refused = begun(&mut scheduler, START);
    scheduler.want_asking(refused.clone(), 0);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(refused.clone())));
    scheduler.asked(&refused, DONE);
    scheduler.want_retrying(refused, 0, 1, Some(Duration::from_secs(60)), START);
    scheduler.judged();
    scheduler.want_asking(repaired, 0);
    assert_eq!(begun(&mut scheduler, START).candidate, "tern");
}

#[test]
fn waits_double_up_to_a_bound_and_differ_a_little() {
    let mut scheduler = scheduler(Vec::new(), LIMITS);
    let mut wait = |sample: u32, tries: u32| {
        scheduler.want_retrying(key("auk", sample), 0, tries, None, START);
        let due = scheduler.retrying.pop_first().map(|it| it.due);
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
    let mut scheduler = scheduler(trials(&["auk", "tern"], 3), limits);
    let mut run = Vec::new();
    while let Some(ScheduledAction::Begin(key)) = scheduler.next(START) {
        let end = match key.candidate.as_str() {
            "auk" => TrialEnd::Halted("wrong key".to_owned()),
            _ => TrialEnd::Decided,
        };
        scheduler.end(&key, end, START);
        run.push(key.candidate);
    }
    assert_eq!(run, ["auk", "tern", "tern", "tern"]);
    assert_eq!((scheduler.not_run(), scheduler.halted()["auk"].as_str()), (3, "wrong key"));
    assert!(scheduler.is_over());
}

#[test]
fn a_host_that_comes_back_in_time_is_asked_on() {
    let mut scheduler = scheduler(trials(&["auk"], 20), LIMITS);
    let spoiled = || TrialEnd::Spoiled("503".into());
    for round in 0..10 {
        let key = begun(&mut scheduler, START);
        let end = if round % 5 == 4 { TrialEnd::Decided } else { spoiled() };
        scheduler.end(&key, end, START);
    }
    assert!(scheduler.halted().is_empty());
    for _ in 0..5 {
        let key = begun(&mut scheduler, START);
        scheduler.end(&key, spoiled(), START);
    }
    // Its host rests, is tried with one trial, rests longer, and is given up.
    let mut now = START;
    for rest in RESTS {
        assert_eq!(scheduler.next(now), None);
        assert_eq!(scheduler.wakes_at(now), Some(now + rest));
        assert_eq!(scheduler.state_of("auk", now), CandidateState::Resting(now + rest));
        now += rest;
        let key = begun(&mut scheduler, now);
        assert_eq!(scheduler.next(now), None, "one is enough to tell");
        scheduler.end(&key, spoiled(), now);
    }
    assert_eq!(scheduler.next(now), None);
    assert_eq!((scheduler.not_run(), scheduler.is_over()), (3, true));
}

#[test]
fn a_host_that_is_gone_may_come_back_where_it_was_there_before() {
    let gone = || TrialEnd::Unreachable("nobody there".into());
    let mut scheduler = scheduler(trials(&["auk"], 20), LIMITS);
    let (first, second) = (begun(&mut scheduler, START), begun(&mut scheduler, START));
    scheduler.asked(&first, RequestEnd { answered: true, ..RequestEnd::default() });
    scheduler.asked(&second, RequestEnd::default());
    scheduler.end(&second, gone(), START);
    // What was answered before and is decided now says nothing of the host.
    scheduler.end(&first, TrialEnd::Decided, START);
    assert_eq!(scheduler.next(START), None);
    assert_eq!(scheduler.state_of("auk", START), CandidateState::Resting(RESTS[0]));
    let third = begun(&mut scheduler, RESTS[0]);
    scheduler.end(&third, TrialEnd::Decided, RESTS[0]);
    begun(&mut scheduler, RESTS[0]);
    assert!(scheduler.halted().is_empty());
}

#[test]
fn a_host_that_was_never_there_is_given_up_at_once() {
    let mut scheduler = scheduler(trials(&["auk"], 20), LIMITS);
    let key = begun(&mut scheduler, START);
    scheduler.end(&key, TrialEnd::Unreachable("nobody there".into()), START);
    assert!(scheduler.halted().contains_key("auk"));
}

#[test]
fn a_rest_is_over_with_the_first_trial_that_is_not_spoiled() {
    let mut scheduler = scheduler(trials(&["auk"], 20), LIMITS);
    for _ in 0..5 {
        let key = begun(&mut scheduler, START);
        scheduler.end(&key, TrialEnd::Spoiled("503".into()), START);
    }
    let key = begun(&mut scheduler, RESTS[0]);
    scheduler.end(&key, TrialEnd::Decided, RESTS[0]);
    begun(&mut scheduler, RESTS[0]);
    begun(&mut scheduler, RESTS[0]);
}

#[test]
fn every_candidate_is_asked_once_before_the_rest_is_begun() {
    let limits = Concurrency { asking: 9, judging: 1 };
    let mut scheduler = scheduler(trials(&["auk", "tern"], 3), limits).with_first_look();
    let (auk, tern) = (begun(&mut scheduler, START), begun(&mut scheduler, START));
    assert_ne!(auk.candidate, tern.candidate);
    assert_eq!(scheduler.next(START), None);
    scheduler.want_asking(auk.clone(), 0);
    scheduler.want_asking(tern.clone(), 0);
    assert!(scheduler.next(START).is_some() && scheduler.next(START).is_some());
    scheduler.asked(&auk, DONE);
    assert_eq!(scheduler.next(START), None, "the other was not answered yet");
    scheduler.asked(&tern, DONE);
    scheduler.end(&tern, TrialEnd::Halted("wrong key".into()), START);
    assert_eq!(begun(&mut scheduler, START).candidate, "auk");
    assert_eq!(begun(&mut scheduler, START).candidate, "auk");
    assert_eq!((scheduler.next(START), scheduler.not_run()), (None, 3));
}

#[test]
fn what_waits_can_be_taken_back_candidate_by_candidate() {
    let mut scheduler = scheduler(trials(&["auk", "tern"], 3), LIMITS);
    let (auk, _tern) = (begun(&mut scheduler, START), begun(&mut scheduler, START));
    scheduler.want_asking(auk.clone(), 0);
    scheduler.want_sending(auk.clone(), 7);
    let withdrawn = scheduler.withdraw(|it| it.candidate == "auk");
    assert_eq!((withdrawn.not_begun.len(), withdrawn.requests), (2, vec![7]));
    assert_eq!(withdrawn.waiting, [auk]);
    assert!(!scheduler.is_over(), "the other goes on");
}

#[test]
fn a_candidate_that_acts_is_let_through_request_by_request() {
    let limits = Concurrency { asking: 1, judging: 1 };
    let acting =
        CandidateHost { candidate: "auk".to_owned(), host: "a".to_owned(), is_request: false };
    let settings = HostSettings { at_once: Some(1), ..HostSettings::default() };
    let mut scheduler =
        Scheduler::new(trials(&["auk"], 2), limits, vec![acting]).with_host("a", settings, &[]);
    let key = begun(&mut scheduler, START);
    scheduler.want_asking(key.clone(), 0);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(key.clone())));
    for id in [1, 2] {
        scheduler.want_sending(key.clone(), id);
    }
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Send(key.clone(), 1)));
    assert_eq!(scheduler.next(START), None);
    scheduler.sent("auk", 1, DONE);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Send(key, 2)));
}

#[test]
fn a_stop_lets_what_is_under_way_end_and_asks_for_nothing_more() {
    let mut scheduler = scheduler(trials(&["auk"], 5), LIMITS);
    let (asked, queued) = (begun(&mut scheduler, START), begun(&mut scheduler, START));
    scheduler.want_asking(asked.clone(), 0);
    assert_eq!(scheduler.next(START), Some(ScheduledAction::Ask(asked.clone())));
    scheduler.want_retrying(queued.clone(), 0, 1, None, START);
    assert_eq!(scheduler.stop().waiting, std::slice::from_ref(&queued));
    scheduler.end(&queued, TrialEnd::Interrupted, START);
    assert_eq!((scheduler.next(START), scheduler.is_over()), (None, false));
    scheduler.asked(&asked, DONE);
    scheduler.want_judging(asked.clone());
    assert_eq!(
        scheduler.next(START),
        Some(ScheduledAction::Judge(asked.clone())),
        "it was paid for"
    );
    scheduler.judged();
    scheduler.end(&asked, TrialEnd::Decided, START);
    assert!(scheduler.is_over());
    assert_eq!(scheduler.not_run(), 4);
}
