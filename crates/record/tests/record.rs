//! A record, written and read again.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::collections::BTreeMap;
use std::path::Path;

use fairtrial_core::answer::Code;
use fairtrial_core::answer::{AnswerEnd, BlockNote, Deviation, ReadingNotes, Role, Submission};
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::plan::{Plan, Tokens};
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::standings::TrialFigures;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_record::{
    FORMAT_VERSION, Manifest, NewAnswer, NewJudgement, Record, RecordError, RequestResult,
    Selection,
};
use rusqlite::Connection;
use ruzstd::encoding::{CompressionLevel, compress_to_vec};

const AT: &str = "2031-05-01T06:00:00.000Z";

const ALL: Selection = Selection {
    candidate: None,
    task: None,
    sample: None,
    number: None,
    verdict: None,
    reason: None,
};

fn manifest() -> Manifest {
    let plan = "docket = \"d\"\n[[candidate]]\nname = \"auk\"\nkind = \"recorded\"\npath = \"a\"\n";
    Manifest {
        format_version: FORMAT_VERSION,
        created: AT.into(),
        plan: Plan::parse("plan.toml", plan).unwrap(),
        tasks: Vec::new(),
        languages: BTreeMap::new(),
        machines: Vec::new(),
        changes: Vec::new(),
        dropped_candidates: Vec::new(),
        dropped_tasks: Vec::new(),
    }
}

fn key(sample: u32) -> TrialKey {
    TrialKey { candidate: "auk".into(), task: "gap".into(), sample }
}

fn answer(submission: Submission) -> NewAnswer {
    NewAnswer {
        submission,
        end: AnswerEnd::CutOff,
        ended_as: None,
        seconds: None,
        at: AT.into(),
        reused: None,
    }
}

fn result(outcome: &str, cost: f64) -> RequestResult {
    RequestResult {
        outcome: outcome.into(),
        detail: "said".into(),
        status: Some(429),
        seconds: 1.5,
        first_token: None,
        tokens: Tokens { input: 7, cached: 2, output: 3, reasoning: 1 },
        estimated: false,
        cost,
        thought: "let me see".into(),
    }
}

fn judgement(verdict: Verdict) -> Judgement {
    let test = TestOutcome {
        name: "call 1".into(),
        visible: false,
        role: "turn green".into(),
        failed: Some(FailReason::WrongResult),
        summary: "another value".into(),
        input: "3, 1".into(),
        expected: "2".into(),
        found: "4".into(),
        points: 2.0,
        share: None,
        unstable: None,
        usage: None,
    };
    let passed = TestOutcome { failed: None, points: 1.0, ..test.clone() };
    Judgement {
        verdict,
        tests: vec![test, passed],
        message: Some("m".into()),
        notes: vec!["n".into()],
        change: None,
    }
}

fn open(folder: &Path) -> Record {
    Record::open_for_run(folder, &manifest()).unwrap()
}

fn reading() -> ReadingNotes {
    let why = "it stands without a fence".to_owned();
    let (tag, file) = ("python".to_owned(), String::new());
    let block = BlockNote { lines: (1, 3), tag, file, role: Role::Answer, why };
    ReadingNotes::new(vec![block], vec!["took off prompts".to_owned()])
}

#[test]
fn a_trial_comes_back_as_it_was_written() {
    let folder = tempfile::tempdir().unwrap();
    let mut record = open(folder.path());
    let key = key(1);
    record.begin_trial(&key, "solve it", AT).unwrap();
    let files = FileTree::from([
        (RelPath::parse("a.py").unwrap(), b"x = 1\n".to_vec()),
        (RelPath::parse("b.bin").unwrap(), vec![0xff, 0]),
    ]);
    let submission = Submission::Files(files.clone());
    let first = record.begin_request(&key, 1, 1, AT).unwrap();
    record.end_request(&key, 1, 1, first, &result("rate limit", 0.0)).unwrap();
    let second = record.begin_request(&key, 1, 1, AT).unwrap();
    let answered = result("answered", 0.25);
    let new = answer(submission.clone());
    record.commit_answer(&key, 1, 1, &new, Some((second, &answered))).unwrap();
    assert_eq!((first, second), (1, 2));
    let unjudged = Record::open(folder.path()).unwrap().trials(&ALL).unwrap();
    assert_eq!((unjudged[0].verdict, unjudged[0].attempts[0].verdict), (None, None));
    let verdict = Verdict::Fail(FailReason::WrongResult);
    let judged = judgement(verdict);
    let new = NewJudgement {
        judgement: &judged,
        deviations: &[Deviation::NoFence],
        reading: &reading(),
        code: Some(&Code::Files(files.clone())),
        feedback: Some("no"),
        seconds: 0.5,
        trouble: Trouble::default(),
        trial: Some(verdict),
        at: AT,
    };
    record.commit_judgement(&key, 1, &new).unwrap();
    drop(record);

    let record = Record::open(folder.path()).unwrap();
    let row = record.trial(&key).unwrap().unwrap();
    assert_eq!((row.key.clone(), row.verdict, row.round), (key, Some(verdict), 1));
    assert_eq!((row.cost(), row.seconds(), row.tokens().input), (0.25, 1.5, 14));
    let attempt = &row.attempts[0];
    assert_eq!((attempt.tests_passed, attempt.tests_total, attempt.end), (1, 2, AnswerEnd::CutOff));
    assert!((attempt.credit - 1.0 / 3.0).abs() < 1e-12);
    assert_eq!(attempt.deviations, ["no code fence"]);
    assert_eq!(attempt.reading, reading());
    assert_eq!(record.answer(attempt).unwrap(), submission);
    assert_eq!(record.files(attempt.code.as_ref().unwrap()).unwrap(), files);
    assert_eq!(record.text(attempt.feedback.as_ref().unwrap()).unwrap(), "no");
    assert_eq!(record.tests(attempt).unwrap(), judged.tests);
    let summary = record.summaries(&Selection::of(&row.key)).unwrap().remove(0);
    assert_eq!((summary.cost, summary.seconds, summary.tests), (0.25, 1.5, (1, 2)));
    let figures = figures(&record);
    let result = figures[0].1;
    assert_eq!((figures.len(), result.answers, result.deviating, result.strict), (1, 1, 1, false));
    assert_eq!((result.tokens.input, result.cost, result.seconds), (14, 0.25, 1.5));
    assert!((result.credit - 1.0 / 3.0).abs() < 1e-12);
}

fn figures(record: &Record) -> Vec<(TrialKey, TrialFigures)> {
    let mut all = Vec::new();
    let mut take = |candidate: &str, task: &str, sample, figures: &TrialFigures| {
        let key = TrialKey { candidate: candidate.into(), task: task.into(), sample };
        all.push((key, *figures));
    };
    record.each_figures(&[], &mut take).unwrap();
    all
}

/// Figures follow whatever is written after a trial's end, and what somebody writes by hand is found out.
#[test]
fn figures_are_what_the_rows_about_a_trial_give() {
    let folder = tempfile::tempdir().unwrap();
    let mut record = open(folder.path());
    let key = key(1);
    record.begin_trial(&key, "p", AT).unwrap();
    assert!(figures(&record).is_empty());
    let void = Verdict::Void(VoidReason::ProviderError);
    record.end_trial(&key, void, AT).unwrap();
    assert_eq!(figures(&record)[0].1.verdict, void);
    // A request that was still under way is over after the trial is.
    let number = record.begin_request(&key, 1, 1, AT).unwrap();
    record.end_request(&key, 1, 1, number, &result("answered", 0.25)).unwrap();
    record.set_helped(&key, Some("a word")).unwrap();
    let found = figures(&record)[0].1;
    assert_eq!((found.cost, found.helped, found.trouble), (0.25, true, None));
    assert!(record.check_figures().unwrap().is_empty());
    record.reopen_trial(&key, "p", AT).unwrap();
    assert!(figures(&record).is_empty());
    record.end_trial(&key, void, AT).unwrap();
    drop(record);
    for change in [
        "UPDATE figures SET verdict = 'pass', reason = NULL",
        "UPDATE figures SET cost = 0.0",
        "DELETE FROM figures",
    ] {
        let database = Connection::open(folder.path().join("trials.sqlite")).unwrap();
        database.execute_batch(change).unwrap();
        drop(database);
        assert_eq!(
            open(folder.path()).check_figures().unwrap(),
            std::slice::from_ref(&key),
            "{change}"
        );
    }
}

#[test]
fn what_is_asked_for_is_what_comes() {
    let folder = tempfile::tempdir().unwrap();
    let mut record = open(folder.path());
    for (candidate, task, sample) in
        [("auk", "gap", 1), ("tern", "gap", 1), ("auk", "berth", 1), ("auk", "gap", 2)]
    {
        let key = TrialKey { candidate: candidate.into(), task: task.into(), sample };
        record.begin_trial(&key, "p", AT).unwrap();
        record.commit_answer(&key, 1, 1, &answer(Submission::Text("x".into())), None).unwrap();
    }
    let tern = TrialKey { candidate: "tern".into(), task: "gap".into(), sample: 1 };
    record.end_trial(&tern, Verdict::Void(VoidReason::RateLimit), AT).unwrap();
    let name = |text: &str| Some(text.to_owned());
    for (selection, numbers) in [
        (ALL, vec![1, 2, 3, 4]),
        (Selection { candidate: name("auk"), ..ALL }, vec![1, 3, 4]),
        (Selection { task: name("gap"), ..ALL }, vec![1, 2, 4]),
        (Selection { candidate: name("auk"), task: name("gap"), ..ALL }, vec![1, 4]),
        (Selection { sample: Some(2), ..ALL }, vec![4]),
        (Selection { number: Some(3), ..ALL }, vec![3]),
        (Selection { number: Some(3), task: name("gap"), ..ALL }, vec![]),
        (Selection { number: Some(99), ..ALL }, vec![]),
        (Selection { verdict: name("void"), ..ALL }, vec![2]),
        (Selection { reason: name("rate limit"), candidate: name("tern"), ..ALL }, vec![2]),
        (Selection { verdict: name("pass"), ..ALL }, vec![]),
    ] {
        let trials = record.trials(&selection).unwrap();
        assert!(trials.iter().all(|it| it.attempts.len() == 1), "{selection:?}");
        let found: Vec<i64> = trials.iter().map(|it| it.number).collect();
        assert_eq!(found, numbers, "{selection:?}");
        let summaries = record.summaries(&selection).unwrap();
        let found: Vec<i64> = summaries.iter().map(|it| it.number).collect();
        assert_eq!((found, summaries.iter().all(|it| it.attempts == 1)), (numbers, true));
    }
}

#[test]
fn a_request_under_way_when_a_run_is_killed_is_lost_and_not_forgotten() {
    let folder = tempfile::tempdir().unwrap();
    let mut record = open(folder.path());
    record.begin_trial(&key(1), "p", AT).unwrap();
    record.begin_request(&key(1), 1, 1, AT).unwrap();
    let outcome = |record: &Record| {
        record.trial(&key(1)).unwrap().unwrap().requests.into_iter().map(|it| it.outcome)
    };
    let looking = Record::open(folder.path()).unwrap();
    assert_eq!(outcome(&looking).collect::<Vec<_>>(), ["under way"]);
    drop((looking, record));
    let mut record = open(folder.path());
    let again = record.begin_request(&key(1), 1, 1, AT).unwrap();
    record.end_request(&key(1), 1, 1, again, &result("answered", 0.5)).unwrap();
    assert_eq!(outcome(&record).collect::<Vec<_>>(), ["lost", "answered"]);
}

#[test]
fn only_a_void_trial_is_taken_up_again_and_its_answers_and_requests_stay() {
    let folder = tempfile::tempdir().unwrap();
    let mut record = open(folder.path());
    let key = key(1);
    record.begin_trial(&key, "p", AT).unwrap();
    assert!(record.begin_trial(&key, "p", AT).is_err(), "it was begun before");
    assert!(record.reopen_trial(&key, "p", AT).is_err(), "it is under way");
    let request = record.begin_request(&key, 1, 1, AT).unwrap();
    record.end_request(&key, 1, 1, request, &result("rate limit", 0.5)).unwrap();
    record.end_trial(&key, Verdict::Void(VoidReason::RateLimit), AT).unwrap();
    assert_eq!(record.reopen_trial(&key, "q", AT).unwrap(), 2);
    let row = record.trial(&key).unwrap().unwrap();
    assert_eq!((row.verdict, row.requests.len(), row.cost()), (None, 1, 0.5));
    assert_eq!(record.text(&row.prompt).unwrap(), "q", "nothing was answered to the first");

    // An answer that could not be judged is judged again, not asked for again.
    record.commit_answer(&key, 2, 1, &answer(Submission::Text("x".into())), None).unwrap();
    let unjudged = judgement(Verdict::Void(VoidReason::SandboxError));
    let new = NewJudgement {
        judgement: &unjudged,
        deviations: &[],
        reading: &ReadingNotes::default(),
        code: None,
        feedback: None,
        seconds: 0.5,
        trouble: Trouble::default(),
        trial: Some(unjudged.verdict),
        at: AT,
    };
    record.commit_judgement(&key, 1, &new).unwrap();
    assert_eq!(record.reopen_trial(&key, "r", AT).unwrap(), 3);
    let row = record.trial(&key).unwrap().unwrap();
    assert_eq!((row.attempts.len(), row.attempts[0].verdict), (1, None));
    assert_eq!(record.tests(&row.attempts[0]).unwrap(), []);
    assert_eq!(record.text(&row.prompt).unwrap(), "q", "this is what was answered");
    record.end_trial(&key, Verdict::Pass, AT).unwrap();
    assert!(record.reopen_trial(&key, "p", AT).is_err(), "it is decided");
}

#[test]
fn equal_texts_are_stored_once_and_damage_is_noticed() {
    let folder = tempfile::tempdir().unwrap();
    let mut record = open(folder.path());
    let prompt = "the same long prompt ".repeat(500);
    for sample in 1..=20 {
        record.begin_trial(&key(sample), &prompt, AT).unwrap();
    }
    drop(record);
    let database = rusqlite::Connection::open(folder.path().join("trials.sqlite")).unwrap();
    let one = |sql: &str| database.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(one("SELECT count(*) FROM blobs"), 1);
    assert!(one("SELECT length(content) FROM blobs") < 200);
    assert_eq!(one("PRAGMA application_id"), 0x4654_726C);
    let other = compress_to_vec(&b"another prompt"[..], CompressionLevel::Fastest);
    database.execute("UPDATE blobs SET content = ?1", [other]).unwrap();
    let record = Record::open(folder.path()).unwrap();
    let row = record.trials(&ALL).unwrap().remove(0);
    assert!(record.text(&row.prompt).is_err());
}

#[test]
fn what_is_no_record_or_another_ones_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    assert!(matches!(Record::open(folder.path()), Err(RecordError::NotARecord(_))));
    let first = open(folder.path());
    let second = Record::open_for_run(folder.path(), &manifest());
    assert!(matches!(second, Err(RecordError::Locked { .. })));
    assert!(Record::open(folder.path()).is_ok(), "reading needs no lock");
    drop(first);
    let database = rusqlite::Connection::open(folder.path().join("trials.sqlite")).unwrap();
    database.pragma_update(None, "user_version", 9).unwrap();
    drop(database);
    assert!(matches!(Record::open(folder.path()), Err(RecordError::Newer { found: 9, .. })));
    std::fs::write(folder.path().join("manifest.json"), "{\"format_version\": 1").unwrap();
    assert!(matches!(Record::open(folder.path()), Err(RecordError::Manifest { .. })));
}
