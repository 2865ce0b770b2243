//! Views of a record made on the spot, as text and as JSON.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::collections::BTreeMap;
use std::path::Path;

use fairtrial_core::answer::Code;
use fairtrial_core::answer::{AnswerEnd, Deviation, ReadingNotes, Submission};
use fairtrial_core::digest::Digest;
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::plan::{Plan, Tokens};
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_record::{
    FORMAT_VERSION, Machine, Manifest, NewAnswer, NewJudgement, NewRegrade, Record, RequestResult,
    SandboxNote, Selection, TaskNote,
};
use fairtrial_report::{
    Note, RankingLayout, StandingsExtras, StandingsOptions, StandingsSource, Style, VerdictSource,
    is_narrow, regrade_json, regrade_table, show_json, show_list, show_trials, standings,
    standings_json, standings_view, trial_list, trial_view,
};
use tempfile::TempDir;

const AT: &str = "2031-05-01T06:00:00.000Z";

const PLAN: &str = "title = \"Tides\"\ndocket = \"d\"\nsamples = 2\nattempts = 2\ncurrency = \"EUR\"\n\
    feedback = \"open\"\n[[candidate]]\nname = \"auk\"\nkind = \"recorded\"\npath = \"a\"\n\
    [[candidate]]\nname = \"tern\"\nkind = \"recorded\"\npath = \"b\"\n";

fn machine(tier: &str) -> Machine {
    let sandbox = Some(SandboxNote { tier: tier.into(), layers: BTreeMap::new() });
    Machine { fairtrial: "1".into(), kernel: "k".into(), tools: vec![], sandbox, since: AT.into() }
}

fn manifest() -> Manifest {
    let task = |name: &str| TaskNote {
        name: name.into(),
        title: format!("The {name}"),
        docket: "Tides".into(),
        docket_version: "1".into(),
        category: "basics".into(),
        difficulty: 2,
        language: "python".into(),
        form: "call".into(),
        tags: vec![],
        points: 1.0,
        weight: None,
        digest: Digest::of(name.as_bytes()),
    };
    Manifest {
        format_version: FORMAT_VERSION,
        created: AT.into(),
        plan: Plan::parse("plan.toml", PLAN).unwrap(),
        tasks: vec![task("berth"), task("gap")],
        languages: BTreeMap::new(),
        machines: vec![machine("full"), machine("plain")],
        changes: Vec::new(),
        dropped_candidates: Vec::new(),
        dropped_tasks: Vec::new(),
    }
}

fn key(candidate: &str, task: &str, sample: u32) -> TrialKey {
    TrialKey { candidate: candidate.into(), task: task.into(), sample }
}

fn test(name: &str, failed: Option<FailReason>, visible: bool) -> TestOutcome {
    TestOutcome {
        failed,
        summary: failed.map_or(String::new(), |_| "returned another value".into()),
        input: format!("secret input of {name}"),
        expected: failed.map_or(String::new(), |_| "41".into()),
        found: failed.map_or(String::new(), |_| "14".into()),
        ..TestOutcome::passed(name, visible, 1.0)
    }
}

fn judge(record: &mut Record, key: &TrialKey, attempt: u32, verdict: Verdict, last: bool) {
    let submission = Submission::Text(format!("Here:\n```python\nx = {attempt}\n```\n"));
    let answer = NewAnswer {
        submission,
        end: AnswerEnd::Complete,
        ended_as: None,
        seconds: None,
        at: AT.into(),
        reused: None,
    };
    let number = record.begin_request(key, 1, attempt, AT).unwrap();
    let request = RequestResult {
        outcome: "answered".into(),
        detail: String::new(),
        status: Some(200),
        seconds: 1.5,
        first_token: None,
        tokens: Tokens { input: 100, output: 20, ..Tokens::default() },
        estimated: attempt == 2,
        cost: 0.25,
        thought: String::new(),
    };
    record.commit_answer(key, 1, attempt, &answer, Some((number, &request))).unwrap();
    let failed = matches!(verdict, Verdict::Fail(_)).then_some(FailReason::WrongResult);
    let tests = vec![test("call 1", failed, false), test("example 1", failed, true)];
    let judgement =
        Judgement { tests, notes: vec!["a \u{1b}[2J note".into()], ..Judgement::bare(verdict) };
    let file = (RelPath::parse("a.py").unwrap(), format!("x = {attempt}\n").into());
    let code = Code::Files(FileTree::from([file]));
    let new = NewJudgement {
        judgement: &judgement,
        deviations: &[Deviation::TextAround],
        reading: &ReadingNotes::default(),
        code: Some(&code),
        feedback: (!last).then_some("Try again."),
        seconds: 0.25,
        trouble: Trouble { same_failure: u32::from(attempt == 2), ..Trouble::default() },
        trial: last.then_some(verdict),
        at: AT,
    };
    record.commit_judgement(key, attempt, &new).unwrap();
}

const FAIL: Verdict = Verdict::Fail(FailReason::WrongResult);

/// Seven trials of eight: passed, repaired, failed, void.
fn record() -> (TempDir, Record) {
    let folder = tempfile::tempdir().unwrap();
    let mut record = Record::open_for_run(folder.path(), &manifest()).unwrap();
    let tern = "tern";
    for (candidate, task, sample, verdicts) in [
        ("auk", "gap", 1, &[Verdict::Pass][..]),
        ("auk", "gap", 2, &[FAIL, Verdict::Pass]),
        ("auk", "berth", 1, &[FAIL, FAIL]),
        (tern, "gap", 1, &[Verdict::Pass]),
        (tern, "gap", 2, &[FAIL, FAIL]),
        (tern, "berth", 1, &[Verdict::Pass]),
    ] {
        let key = key(candidate, task, sample);
        record.begin_trial(&key, "Say how far.", AT).unwrap();
        for (index, verdict) in verdicts.iter().enumerate() {
            let attempt = index as u32 + 1;
            judge(&mut record, &key, attempt, *verdict, index + 1 == verdicts.len());
        }
    }
    let void = key(tern, "berth", 2);
    record.begin_trial(&void, "Say how far.", AT).unwrap();
    record.end_trial(&void, Verdict::Void(VoidReason::RateLimit), AT).unwrap();
    (folder, record)
}

fn text(write: impl FnOnce(&mut Vec<u8>) -> std::io::Result<()>) -> String {
    let mut out = Vec::new();
    write(&mut out).unwrap();
    String::from_utf8(out).unwrap()
}

fn reopened(folder: &Path) -> Record {
    Record::open(folder).unwrap()
}

#[test]
fn the_standings_say_the_same_to_people_and_to_programs() {
    let (folder, record) = record();
    drop(record);
    let records = [reopened(folder.path())];
    let source = StandingsSource::open(&records, VerdictSource::First).unwrap();
    let view = standings_view(&source, &StandingsOptions::default()).unwrap();
    assert!(view.notes.contains(&Note::Incomplete { over: 7, wanted: 8 }) && !view.complete);
    let layout = RankingLayout::default();
    insta::assert_snapshot!(text(|out| standings(out, &view, &layout, Style::plain())));
    let json: serde_json::Value =
        serde_json::from_str(&text(|out| standings_json(out, &view, &StandingsExtras::default())))
            .unwrap();
    for (row, candidate) in view.rows.iter().zip(json["candidates"].as_array().unwrap()) {
        assert_eq!(candidate["name"], row.name.as_str());
        assert_eq!(candidate["solved"], row.solved);
        assert_eq!(candidate["cost"], row.cost());
    }
    assert_eq!((&json["complete"], &json["tiers"][1]), (&false.into(), &"plain".into()));
}

#[test]
fn what_is_sealed_of_a_trial_is_in_no_view_that_did_not_ask_for_it() {
    let (_folder, record) = record();
    let selection = Selection::of(&key("auk", "gap", 2));
    let listed = trial_list(&record, &selection).unwrap();
    assert!(is_narrow(&selection, &listed));
    for unseal in [false, true] {
        let row = record.trial(&listed[0].key).unwrap().unwrap();
        let view = trial_view(&record, row, unseal).unwrap();
        let shown =
            text(|out| show_trials(out, std::slice::from_ref(&view), unseal, Style::plain()));
        let json = text(|out| show_json(out, vec![view]));
        for (what, text) in [("text", &shown), ("JSON", &json)] {
            assert_eq!(text.contains("secret input of call 1"), unseal, "{what}: {text}");
            assert!(text.contains("secret input of example 1"), "{what}: {text}");
        }
        if !unseal {
            insta::assert_snapshot!(shown);
        }
    }
}

#[test]
fn many_trials_are_listed_by_task_and_candidate() {
    let (folder, record) = record();
    drop(record);
    let trials = trial_list(&reopened(folder.path()), &Selection::default()).unwrap();
    assert!(!is_narrow(&Selection::default(), &trials));
    let shown = text(|out| show_list(out, &trials, "record", Style::plain()));
    insta::assert_snapshot!(shown);
}

#[test]
fn a_grading_says_which_verdicts_differ_and_why() {
    let (_folder, mut record) = record();
    let grading = record.begin_grading(AT, &machine("full"), 1).unwrap();
    let key = key("auk", "gap", 1);
    for (attempt, key) in [(1, key.clone()), (2, TrialKey { sample: 2, ..key })] {
        let tests = vec![test("call 1", Some(FailReason::WrongResult), false)];
        let judgement = Judgement { tests, ..Judgement::bare(FAIL) };
        let cause = Some("task changed".to_owned());
        record.commit_regrade(grading, &NewRegrade { key, attempt, judgement, cause }).unwrap();
    }
    let gradings = record.gradings(&Selection::default()).unwrap();
    insta::assert_snapshot!(text(|out| regrade_table(out, &gradings[0], Style::plain())));
    let json: serde_json::Value =
        serde_json::from_str(&text(|out| regrade_json(out, &gradings[0]))).unwrap();
    assert_eq!((&json["differing"], &json["left_out"]), (&2.into(), &1.into()));
    assert_eq!(json["rows"][0]["cause"], "task changed");
}
