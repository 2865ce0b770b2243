//! A record, written and read again.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::collections::BTreeMap;
use std::path::Path;

use fairtrial_core::answer::{Deviation, Submission};
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::plan::{Plan, Tokens};
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_record::{
    FORMAT_VERSION, Manifest, NewAnswer, NewJudgement, NewRequest, Record, RecordError,
};
use ruzstd::encoding::{CompressionLevel, compress_to_vec};

const AT: &str = "2031-05-01T06:00:00.000Z";

fn manifest() -> Manifest {
    let plan = "docket = \"d\"\n[[candidate]]\nname = \"auk\"\nkind = \"recorded\"\npath = \"a\"\n";
    Manifest {
        format_version: FORMAT_VERSION,
        created: AT.into(),
        plan: Plan::parse("plan.toml", plan).unwrap(),
        tasks: Vec::new(),
        languages: BTreeMap::new(),
        machines: Vec::new(),
    }
}

fn key(sample: u32) -> TrialKey {
    TrialKey { candidate: "auk".into(), task: "gap".into(), sample }
}

fn answer(submission: Submission) -> NewAnswer {
    NewAnswer { submission, cut_off: true, at: AT.into() }
}

fn request(outcome: &str, cost: f64) -> NewRequest {
    NewRequest {
        sent: AT.into(),
        outcome: outcome.into(),
        detail: "said".into(),
        status: Some(429),
        seconds: 1.5,
        first_token: None,
        tokens: Tokens { input: 7, cached: 2, output: 3 },
        estimated: false,
        cost,
    }
}

fn judgement(verdict: Verdict) -> Judgement {
    let test = TestOutcome {
        name: "call 1".into(),
        visible: false,
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
    }
}

fn open(folder: &Path) -> Record {
    Record::open_for_run(folder, &manifest()).unwrap()
}

#[test]
fn a_trial_comes_back_as_it_was_written() {
    let folder = tempfile::tempdir().unwrap();
    let mut record = open(folder.path());
    let (trial, holding) = (record.begin_trial(&key(1), "solve it", AT).unwrap(), 1);
    let requests = [request("rate limit", 0.0), request("answered", 0.25)];
    let files = FileTree::from([
        (RelPath::parse("a.py").unwrap(), b"x = 1\n".to_vec()),
        (RelPath::parse("b.bin").unwrap(), vec![0xff, 0]),
    ]);
    let submission = Submission::Files(files.clone());
    let attempt =
        record.commit_answer(trial, holding, 1, &answer(submission.clone()), &requests).unwrap();
    let unjudged = Record::open(folder.path()).unwrap().trials().unwrap();
    assert_eq!((unjudged[0].verdict, unjudged[0].attempts[0].verdict), (None, None));
    let verdict = Verdict::Fail(FailReason::WrongResult);
    let judged = judgement(verdict);
    let new = NewJudgement {
        judgement: &judged,
        deviations: &[Deviation::NoFence],
        code: Some(&files),
        feedback: Some("no"),
        seconds: 0.5,
        trial: Some(verdict),
        at: AT,
    };
    record.commit_judgement(trial, attempt, &new).unwrap();
    drop(record);

    let record = Record::open(folder.path()).unwrap();
    let row = record.trials().unwrap().remove(0);
    assert_eq!((row.key.clone(), row.verdict, row.holding), (key(1), Some(verdict), 1));
    assert_eq!((row.cost(), row.seconds(), row.tokens().input), (0.25, 1.5, 14));
    let attempt = &row.attempts[0];
    assert_eq!((attempt.tests_passed, attempt.tests_total, attempt.cut_off), (1, 2, true));
    assert!((attempt.credit - 1.0 / 3.0).abs() < 1e-12);
    assert_eq!(attempt.deviations, ["no code fence"]);
    assert_eq!(record.answer(attempt).unwrap(), submission);
    assert_eq!(record.files(attempt.code.as_ref().unwrap()).unwrap(), files);
    assert_eq!(record.text(attempt.feedback.as_ref().unwrap()).unwrap(), "no");
    assert_eq!(record.tests(attempt.id).unwrap(), judged.tests);
    let result = row.result().unwrap();
    assert_eq!((result.attempts, result.deviating), (1, 1));
}

#[test]
fn only_a_void_trial_is_taken_up_again_and_its_answers_and_requests_stay() {
    let folder = tempfile::tempdir().unwrap();
    let mut record = open(folder.path());
    let trial = record.begin_trial(&key(1), "p", AT).unwrap();
    assert!(record.begin_trial(&key(1), "p", AT).is_err(), "it was begun before");
    assert!(record.reopen_trial(trial, "p", AT).is_err(), "it is under way");
    let void = Verdict::Void(VoidReason::RateLimit);
    record.end_trial(trial, 1, 1, void, &[request("rate limit", 0.5)], AT).unwrap();
    assert_eq!(record.reopen_trial(trial, "q", AT).unwrap(), 2);
    let row = record.trials().unwrap().remove(0);
    assert_eq!((row.verdict, row.requests.len(), row.cost()), (None, 1, 0.5));
    assert_eq!(record.text(&row.prompt).unwrap(), "q", "nothing was answered to the first");

    // An answer that could not be judged is judged again, not asked for again.
    let submission = Submission::Text("x".into());
    let attempt = record.commit_answer(trial, 2, 1, &answer(submission), &[]).unwrap();
    let unjudged = judgement(Verdict::Void(VoidReason::SandboxError));
    let new = NewJudgement {
        judgement: &unjudged,
        deviations: &[],
        code: None,
        feedback: None,
        seconds: 0.5,
        trial: Some(unjudged.verdict),
        at: AT,
    };
    record.commit_judgement(trial, attempt, &new).unwrap();
    assert_eq!(record.reopen_trial(trial, "r", AT).unwrap(), 3);
    let row = record.trials().unwrap().remove(0);
    assert_eq!((row.attempts.len(), row.attempts[0].verdict), (1, None));
    assert_eq!(record.tests(attempt).unwrap(), []);
    assert_eq!(record.text(&row.prompt).unwrap(), "q", "this is what was answered");
    record.end_trial(trial, 3, 1, Verdict::Pass, &[], AT).unwrap();
    assert!(record.reopen_trial(trial, "p", AT).is_err(), "it is decided");
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
    let row = record.trials().unwrap().remove(0);
    assert!(record.text(&row.prompt).is_err());
}

#[test]
fn what_is_no_record_or_another_ones_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    assert!(matches!(Record::open(folder.path()), Err(RecordError::NotARecord(_))));
    let first = open(folder.path());
    let second = Record::open_for_run(folder.path(), &manifest());
    assert!(matches!(second, Err(RecordError::Locked(_))));
    assert!(Record::open(folder.path()).is_ok(), "reading needs no lock");
    drop(first);
    let database = rusqlite::Connection::open(folder.path().join("trials.sqlite")).unwrap();
    database.pragma_update(None, "user_version", 9).unwrap();
    drop(database);
    assert!(matches!(Record::open(folder.path()), Err(RecordError::Newer { found: 9, .. })));
    std::fs::write(folder.path().join("manifest.json"), "{\"format_version\": 1").unwrap();
    assert!(matches!(Record::open(folder.path()), Err(RecordError::Manifest { .. })));
}
