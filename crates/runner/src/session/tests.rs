use fairtrial_core::answer::{AnswerEnd, ReadingNotes, Submission};
use fairtrial_core::judgement::TestOutcome;
use fairtrial_core::language::Languages;
use fairtrial_core::limits::Limits;
use fairtrial_core::plan::Tokens;
use fairtrial_core::schedule::schedule;
use fairtrial_core::tree::RelPath;
use fairtrial_core::verdict::FailReason;
use fairtrial_grading::Docket;
use fairtrial_record::{FORMAT_VERSION, Manifest, Selection};

use super::*;
use crate::scheduler;

const PLAN: &str = "docket = \"d\"\nattempts = 2\nparallel = 2\n[[candidate]]\nname = \"auk\"\n\
    kind = \"chat\"\nmodel = \"m\"\nendpoint = \"http://a\"\nretries = 1\n";

const START: Duration = Duration::ZERO;

struct Calm;

impl World for Calm {
    fn has_answer(&self, _key: &TrialKey) -> bool {
        true
    }

    fn manner(&self, _candidate: &str) -> Manner {
        Manner::Says
    }

    fn unfit(&self, task: &PlannedTask) -> Option<VoidReason> {
        (task.task.name == "unheard-of").then_some(VoidReason::ToolMissing)
    }

    fn leave(&self, _key: &TrialKey) {}

    fn now(&self) -> String {
        "2031-05-01T06:00:00.000Z".to_owned()
    }
}

#[derive(Default)]
struct Watching {
    over: Vec<(String, Verdict, u32)>,
    stopping: usize,
}

impl Observer for Watching {
    fn progress(&mut self, _progress: &Progress) {}

    fn happened(&mut self, what: &RunNews<'_>) {
        match what {
            RunNews::TrialOver { key, verdict, attempts } => {
                self.over.push((key.task.clone(), *verdict, *attempts));
            }
            RunNews::Stopping { under_way } => self.stopping = *under_way,
            _ => {}
        }
    }
}

fn tasks(names: &[&str]) -> BTreeMap<String, PlannedTask> {
    let brief = "+++\ntitle = \"T\"\nform = \"program\"\nlanguage = \"python\"\ncategory = \"c\"\n\
        difficulty = 1\n[program]\nfile = \"a.py\"\n+++\nSay it.\n";
    let mut files = vec![("docket.toml".to_owned(), "title = \"D\"")];
    for name in names {
        files.push((format!("{name}/brief.md"), brief));
        files.push((format!("{name}/sealed/cases.jsonl"), "{\"stdout\": \"x\"}"));
    }
    let file =
        |(path, text): (String, &str)| (RelPath::parse(&path).unwrap(), text.as_bytes().to_vec());
    let tree = files.into_iter().map(file).collect();
    let docket = Docket::parse("d", &tree, &Languages::shipped()).unwrap();
    let planned = |task: fairtrial_grading::PosedTask| {
        let name = task.name.clone();
        (
            name,
            PlannedTask {
                prompt: "Say it.".to_owned(),
                ..PlannedTask::new(task, Limits::default())
            },
        )
    };
    docket.tasks.into_iter().map(planned).collect()
}

/// A session over a record in `folder`, handed to `play`; gives its summary.
fn session(
    folder: &std::path::Path,
    names: &[&str],
    watching: &mut Watching,
    play: impl FnOnce(&mut Session<'_>),
) -> Summary {
    session_of(PLAN, folder, names, watching, play)
}

/// The same, of another plan.
fn session_of(
    plan: &str,
    folder: &std::path::Path,
    names: &[&str],
    watching: &mut Watching,
    play: impl FnOnce(&mut Session<'_>),
) -> Summary {
    let (plan, tasks) = (Plan::parse("plan.toml", plan).unwrap(), tasks(names));
    let manifest = Manifest {
        format_version: FORMAT_VERSION,
        created: String::new(),
        plan: plan.clone(),
        tasks: Vec::new(),
        languages: BTreeMap::new(),
        machines: Vec::new(),
        changes: Vec::new(),
        dropped_candidates: Vec::new(),
        dropped_tasks: Vec::new(),
    };
    let mut record = Record::open_for_run(folder, &manifest).unwrap();
    let summaries = record.summaries(&Selection::default()).unwrap();
    let known: HashMap<_, _> = summaries.into_iter().map(|it| (it.key.clone(), it)).collect();
    let names: Vec<&str> = tasks.keys().map(String::as_str).collect();
    let order = schedule(&["auk"], &names, 1, 1);
    let is_waiting = |key: &&TrialKey| known.get(key).is_none_or(|it| it.verdict.is_none());
    let waiting: Vec<_> = order.iter().filter(is_waiting).cloned().collect();
    let counter = Counter::new(&["auk"], &order, &known, &waiting);
    let limits = scheduler::Concurrency { asking: 2, judging: 1 };
    let templates = PromptTemplates::shipped();
    let spec = RunSpec { plan: &plan, tasks: &tasks, templates: &templates, world: &Calm };
    let host = scheduler::CandidateHost {
        candidate: "auk".to_owned(),
        host: "http://a".to_owned(),
        is_request: true,
    };
    let scheduler = Scheduler::new(waiting, limits, vec![host]);
    let start = SessionStart { scheduler, known, counter, trying: false, before: Duration::ZERO };
    let mut session = Session::new(spec, &mut record, start, watching);
    play(&mut session);
    session.summary(START)
}

fn note(outcome: &str) -> RequestNote {
    RequestNote {
        outcome: outcome.to_owned(),
        detail: String::new(),
        status: Some(200),
        took: Duration::from_secs(2),
        first_token: None,
        tokens: Tokens { input: 5, output: 7, ..Tokens::default() },
        estimated: false,
        thought: String::new(),
        wait: None,
        cost: None,
    }
}

fn answer(text: &str) -> AskReply {
    let submission = Submission::Text(text.to_owned());
    let outcome = AskOutcome::Answer { submission, end: AnswerEnd::Complete };
    AskReply { request: Some(note("answered")), ..AskReply::bare(outcome) }
}

fn in_vain(unreachable: bool) -> AskReply {
    let again = TryAgain {
        reason: VoidReason::RateLimit,
        why: "slow down".to_owned(),
        after: Some(Duration::from_secs(9)),
        unreachable,
    };
    AskReply { request: Some(note("rate limit")), ..AskReply::bare(AskOutcome::Again(again)) }
}

fn judged(verdict: Verdict) -> Box<JudgedSubmission> {
    let judgement = fairtrial_core::judgement::Judgement {
        tests: vec![TestOutcome::passed("case 1", false, 1.0)],
        ..fairtrial_core::judgement::Judgement::bare(verdict)
    };
    let took = Duration::from_millis(5);
    Box::new(JudgedSubmission {
        judgement,
        deviations: Vec::new(),
        reading: ReadingNotes::default(),
        code: None,
        took,
    })
}

fn only(orders: Vec<RunOrder>) -> RunOrder {
    assert_eq!(orders.len(), 1, "{orders:?}");
    orders.into_iter().next().unwrap()
}

fn asked_for(orders: Vec<RunOrder>) -> (TrialKey, Ask) {
    match only(orders) {
        RunOrder::Ask { key, ask } => (key, ask),
        other => panic!("{other:?} instead of a question"),
    }
}

const FAIL: Verdict = Verdict::Fail(FailReason::WrongResult);

#[test]
fn a_trial_is_asked_for_judged_repaired_and_over() {
    let (folder, mut watching) = (tempfile::tempdir().unwrap(), Watching::default());
    let summary = session(folder.path(), &["gap"], &mut watching, |session| {
        let (key, ask) = asked_for(session.orders(START).unwrap());
        assert_eq!((ask.attempt, ask.messages.len()), (1, 1));
        session.requested(&key, None).unwrap();
        session.handle(RunEvent::Asked(key.clone(), Box::new(answer("first"))), START).unwrap();
        let order = only(session.orders(START).unwrap());
        assert!(matches!(&order, RunOrder::Judge { examples: true, .. }), "{order:?}");
        session.handle(RunEvent::Judged(key.clone(), judged(FAIL)), START).unwrap();
        let (_, ask) = asked_for(session.orders(START).unwrap());
        let said: Vec<&str> = ask.messages.iter().map(|it| it.content.as_str()).collect();
        assert_eq!((ask.attempt, said[1]), (2, "first"));
        assert!(said[2].contains("a hidden test got a wrong result"), "{said:?}");
        session.requested(&key, None).unwrap();
        session.handle(RunEvent::Asked(key.clone(), Box::new(answer("second"))), START).unwrap();
        let order = only(session.orders(START).unwrap());
        assert!(matches!(&order, RunOrder::Judge { examples: false, .. }), "{order:?}");
        session.handle(RunEvent::Judged(key, judged(Verdict::Pass)), START).unwrap();
        assert!(session.is_over() && session.orders(START).unwrap().is_empty());
    });
    assert_eq!(watching.over, [("gap".to_owned(), Verdict::Pass, 2)]);
    assert_eq!((summary.progress.over, summary.not_run, summary.stopped), (1, 0, false));
    let record = Record::open(folder.path()).unwrap();
    let trial = record.trials(&Selection::default()).unwrap().remove(0);
    assert_eq!((trial.verdict, trial.attempts.len()), (Some(Verdict::Pass), 2));
    assert_eq!((trial.requests.len(), trial.tokens().output), (2, 14));
}

#[test]
fn a_request_in_vain_is_made_again_later_and_then_spoils_the_trial() {
    let (folder, mut watching) = (tempfile::tempdir().unwrap(), Watching::default());
    let summary = session(folder.path(), &["gap"], &mut watching, |session| {
        let (key, _) = asked_for(session.orders(START).unwrap());
        session.requested(&key, None).unwrap();
        session.handle(RunEvent::Asked(key.clone(), Box::new(in_vain(false))), START).unwrap();
        assert!(session.orders(Duration::from_secs(8)).unwrap().is_empty());
        let back = session.wakes_at(START).unwrap();
        assert!(back >= Duration::from_secs(9) && back < Duration::from_secs(12), "{back:?}");
        asked_for(session.orders(back).unwrap());
        session.requested(&key, None).unwrap();
        session.handle(RunEvent::Asked(key, Box::new(in_vain(true))), START).unwrap();
        assert!(session.is_over());
    });
    assert_eq!(summary.void, BTreeMap::from([(VoidReason::RateLimit, 1)]));
    assert_eq!(summary.halted["auk"], "slow down", "nobody was there at the last try");
    let record = Record::open(folder.path()).unwrap();
    let trial = record.trials(&Selection::default()).unwrap().remove(0);
    let outcomes: Vec<_> = trial.requests.iter().map(|it| it.outcome.as_str()).collect();
    assert_eq!(outcomes, ["rate limit", "rate limit"]);
}

#[test]
fn a_stop_keeps_what_was_paid_for_and_a_later_session_resumes() {
    let (folder, mut watching) = (tempfile::tempdir().unwrap(), Watching::default());
    let summary = session(folder.path(), &["berth", "gap", "toll"], &mut watching, |session| {
        let orders = session.orders(START).unwrap();
        let keys: Vec<_> = orders
            .iter()
            .map(|it| match it {
                RunOrder::Ask { key, .. } => key.clone(),
                other => panic!("{other:?}"),
            })
            .collect();
        session.requested(&keys[0], None).unwrap();
        session.handle(RunEvent::Stop, START).unwrap();
        session
            .handle(RunEvent::Asked(keys[0].clone(), Box::new(answer("paid for"))), START)
            .unwrap();
        let cancelled = AskReply::bare(AskOutcome::Cancelled);
        session.handle(RunEvent::Asked(keys[1].clone(), Box::new(cancelled)), START).unwrap();
        assert!(matches!(only(session.orders(START).unwrap()), RunOrder::Judge { .. }));
        session.handle(RunEvent::Judged(keys[0].clone(), judged(FAIL)), START).unwrap();
        assert!(session.is_over());
    });
    assert_eq!((summary.stopped, summary.not_run, watching.stopping), (true, 3, 2));
    assert!(watching.over.is_empty(), "no trial has come to its end");
    let names = ["berth", "gap", "toll"];
    session(folder.path(), &names, &mut watching, |session| {
        let orders = session.orders(START).unwrap();
        let attempts: Vec<u32> = orders
            .iter()
            .filter_map(|it| match it {
                RunOrder::Ask { ask, .. } => Some(ask.attempt),
                _ => None,
            })
            .collect();
        assert!(attempts.contains(&2) && attempts.contains(&1), "{orders:?}");
    });
}

/// One request of the two under way reaches the cap: the other is waited for and judged, what is not begun is void,
/// and a higher cap goes on with it.
#[test]
fn a_cap_ends_what_is_not_under_way_and_a_higher_one_goes_on() {
    let (folder, mut watching) = (tempfile::tempdir().unwrap(), Watching::default());
    let names = ["berth", "gap", "toll"];
    let capped = PLAN.replacen("parallel", "budget = { tokens = 10 }\nparallel", 1);
    let summary = session_of(&capped, folder.path(), &names, &mut watching, |session| {
        let orders = session.orders(START).unwrap();
        let keys: Vec<TrialKey> = orders
            .into_iter()
            .filter_map(|it| match it {
                RunOrder::Ask { key, .. } => Some(key),
                _ => None,
            })
            .collect();
        assert_eq!(keys.len(), 2);
        for key in &keys {
            session.requested(key, None).unwrap();
        }
        for key in &keys {
            let reply = Box::new(answer("paid for"));
            session.handle(RunEvent::Asked(key.clone(), reply), START).unwrap();
            assert!(matches!(only(session.orders(START).unwrap()), RunOrder::Judge { .. }));
            session.handle(RunEvent::Judged(key.clone(), judged(Verdict::Pass)), START).unwrap();
        }
        assert!(session.orders(START).unwrap().is_empty() && session.is_over());
    });
    assert_eq!(summary.void, BTreeMap::from([(VoidReason::BudgetReached, 1)]));
    let [cap] = summary.caps.as_slice() else { panic!("{:?}", summary.caps) };
    assert_eq!((&cap.owner, cap.spent.tokens), (&crate::budget::CapOwner::Run, 24));
    let record = Record::open(folder.path()).unwrap();
    assert_eq!(record.trials(&Selection::default()).unwrap().len(), 3);
    drop(record);
    let summary = session_of(PLAN, folder.path(), &names, &mut watching, |session| {
        assert!(session.orders(START).unwrap().is_empty(), "nothing is left but what is void");
    });
    assert!(summary.caps.is_empty());
}

/// A run was killed after an answer and before its judgement: it is judged, although nothing more may be spent.
#[test]
fn what_was_paid_for_is_judged_although_the_budget_is_spent() {
    let (folder, mut watching) = (tempfile::tempdir().unwrap(), Watching::default());
    session(folder.path(), &["gap"], &mut watching, |session| {
        let (key, _) = asked_for(session.orders(START).unwrap());
        session.requested(&key, None).unwrap();
        session.handle(RunEvent::Asked(key, Box::new(answer("paid for"))), START).unwrap();
    });
    let capped = PLAN.replacen("parallel", "budget = { tokens = 10 }\nparallel", 1);
    let summary = session_of(&capped, folder.path(), &["gap"], &mut watching, |session| {
        let order = only(session.orders(START).unwrap());
        let RunOrder::Judge { key, .. } = order else { panic!("{order:?}") };
        session.handle(RunEvent::Judged(key, judged(Verdict::Pass)), START).unwrap();
        assert!(session.orders(START).unwrap().is_empty() && session.is_over());
    });
    assert!(summary.void.is_empty() && summary.caps.len() == 1);
}

#[test]
fn nothing_is_asked_that_could_not_be_judged() {
    let (folder, mut watching) = (tempfile::tempdir().unwrap(), Watching::default());
    let summary = session(folder.path(), &["unheard-of"], &mut watching, |session| {
        assert!(session.orders(START).unwrap().is_empty() && session.is_over());
    });
    assert_eq!(summary.void, BTreeMap::from([(VoidReason::ToolMissing, 1)]));
}
