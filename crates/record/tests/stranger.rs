//! Records from strangers: whatever is in the folder, looking at it ends, and changes nothing.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;

use fairtrial_core::answer::{AnswerEnd, ReadingNotes, Submission};
use fairtrial_core::digest::Digest;
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::plan::Plan;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::{FailReason, Verdict};
use fairtrial_record::{
    FORMAT_VERSION, Manifest, NewAnswer, NewJudgement, NewStep, Record, RecordError, Selection,
};
use rusqlite::Connection;
use ruzstd::encoding::{CompressionLevel, compress_to_vec};
use tempfile::TempDir;

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
        changes: Vec::new(),
        dropped_candidates: Vec::new(),
        dropped_tasks: Vec::new(),
    }
}

/// A record of twenty judged trials.
fn record() -> (TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("record");
    let mut record = Record::open_for_run(&path, &manifest()).unwrap();
    for sample in 1..=20 {
        let key = TrialKey { candidate: "auk".into(), task: "gap".into(), sample };
        record.begin_trial(&key, "solve it", AT).unwrap();
        let submission = Submission::Text(format!("answer {sample} {}", "x".repeat(500)));
        let answer = NewAnswer {
            submission,
            end: AnswerEnd::Complete,
            ended_as: None,
            seconds: None,
            at: AT.into(),
            reused: None,
        };
        record.commit_answer(&key, 1, 1, &answer, None).unwrap();
        let step = NewStep {
            kind: "read".into(),
            subject: "a.py".into(),
            outcome: "done".into(),
            detail: format!("line {sample}"),
            seconds: 0.1,
            at: AT.into(),
            files: Some(("b".into(), "a".into())),
        };
        record.add_step(&key, 1, 1, &step).unwrap();
        let verdict = Verdict::Fail(FailReason::WrongResult);
        let tests = vec![TestOutcome::passed("call 1", false, 1.0)];
        let judgement = Judgement { tests, ..Judgement::bare(verdict) };
        let new = NewJudgement {
            judgement: &judgement,
            deviations: &[],
            reading: &ReadingNotes::default(),
            code: None,
            feedback: None,
            seconds: 0.1,
            trouble: Trouble::default(),
            trial: Some(verdict),
            at: AT,
        };
        record.commit_judgement(&key, 1, &new).unwrap();
    }
    drop(record);
    (folder, path)
}

/// Reads all that there is.
fn read_all(path: &Path) -> Result<usize, RecordError> {
    let record = Record::open(path)?;
    let trials = record.trials(&Selection::default())?;
    for trial in &trials {
        record.text(&trial.prompt)?;
        for detail in trial.steps.iter().filter_map(|it| it.detail.as_deref()) {
            record.text(detail)?;
        }
        for attempt in &trial.attempts {
            record.answer(attempt)?;
            record.tests(attempt)?;
        }
    }
    record.gradings(&Selection::default())?;
    record.each_figures(&[], |_, _, _, _| {})?;
    record.tests_never_passed()?;
    record.each_wrong_value(|_, _, _, _| {})?;
    for grading in record.grading_notes()? {
        record.regraded(grading.id)?;
    }
    Ok(trials.len())
}

/// Everything in a folder: names, bytes and times.
fn state(path: &Path) -> BTreeMap<String, (Vec<u8>, std::time::SystemTime)> {
    let entry = |it: fs::DirEntry| {
        let name = it.file_name().to_string_lossy().into_owned();
        (name, (fs::read(it.path()).unwrap(), it.metadata().unwrap().modified().unwrap()))
    };
    fs::read_dir(path).unwrap().map(|it| entry(it.unwrap())).collect()
}

fn change(path: &Path, sql: &str) {
    let database = Connection::open(path.join("trials.sqlite")).unwrap();
    database.execute_batch(sql).unwrap();
}

#[test]
fn looking_at_a_record_changes_nothing_and_needs_no_right_to() {
    let (_folder, path) = record();
    let before = state(&path);
    assert_eq!(read_all(&path).unwrap(), 20);
    assert_eq!(state(&path), before);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o555)).unwrap();
    assert_eq!(read_all(&path).unwrap(), 20);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    // One whose run was killed: what it committed last stands beside the database.
    let killed = path.with_file_name("killed");
    let mut run = Record::open_for_run(&path, &manifest()).unwrap();
    let key = TrialKey { candidate: "auk".into(), task: "gap".into(), sample: 21 };
    run.begin_trial(&key, "solve it", AT).unwrap();
    assert_eq!(read_all(&path).unwrap(), 21, "beside a run");
    fs::create_dir(&killed).unwrap();
    for name in ["manifest.json", "trials.sqlite", "trials.sqlite-wal", "lock"] {
        fs::copy(path.join(name), killed.join(name)).unwrap();
    }
    let before = state(&killed);
    assert_eq!(read_all(&killed).unwrap(), 21);
    assert_eq!(state(&killed), before);
}

/// A database as older versions wrote it: two attempts of one trial, three tests, a request, and, from
/// version 2 on, a grading.
fn old_record(version: u32) -> (TempDir, PathBuf) {
    let (folder, path) = record();
    let file = path.join("trials.sqlite");
    fs::remove_file(&file).unwrap();
    let database = Connection::open(&file).unwrap();
    database.execute_batch(include_str!("../src/migrations/1-trials.sql")).unwrap();
    let store = |text: &str| {
        let digest = Digest::of(text.as_bytes()).as_str().to_owned();
        let packed = compress_to_vec(text.as_bytes(), CompressionLevel::Uncompressed);
        let row = (digest.clone(), text.len() as i64, packed);
        database.execute("INSERT OR IGNORE INTO blobs VALUES (?1, ?2, ?3)", row).unwrap();
        digest
    };
    let (prompt, answer) = (store("solve it"), store("x = 1"));
    let test = |name: &str| {
        let test = TestOutcome::passed(name, false, 1.0);
        store(&serde_json::to_string(&test).unwrap())
    };
    let (one, two) = (test("call 1"), test("call 2"));
    database
        .execute_batch(&format!(
            "INSERT INTO trials VALUES (7, 'auk', 'gap', 1, 2, '{prompt}', 'pass', NULL, '{AT}', '{AT}');
             INSERT INTO attempts (id, trial, holding, number, answer_kind, answer, cut_off, answered,
                verdict, reason, tests_passed, tests_total, credit, deviations, notes, judge_seconds)
             VALUES (11, 7, 2, 1, 'text', '{answer}', 0, '{AT}', 'fail', 'crashed', 1, 2, 0.5, '[]', '[]', 0.1),
                (12, 7, 2, 2, 'text', '{answer}', 0, '{AT}', 'pass', NULL, 1, 1, 1.0, '[]', '[]', 0.1);
             INSERT INTO requests VALUES
                (3, 7, 1, 1, 1, '{AT}', 'rate limit', '', 429, 0.5, NULL, 0, 0, 0, 0, 0.0),
                (4, 7, 2, 1, 1, '{AT}', 'answered', '', 200, 1.5, NULL, 5, 0, 6, 0, 0.25);
             INSERT INTO outcomes VALUES (11, 0, 'call 1', 0, NULL, '{one}'),
                (11, 1, 'call 2', 0, 'crashed', '{two}'), (12, 0, 'call 1', 0, NULL, '{one}');
             PRAGMA application_id = 1179939436; PRAGMA user_version = 1;"
        ))
        .unwrap();
    if version == 2 {
        let machine = r#"{"fairtrial": "0", "kernel": "k", "tools": [], "since": ""}"#;
        let tests = store("[]");
        database.execute_batch(include_str!("../src/migrations/2-gradings.sql")).unwrap();
        database
            .execute_batch(&format!(
                "INSERT INTO gradings VALUES (1, '{AT}', '{machine}', 0);
                 INSERT INTO regrades VALUES (1, 12, 'fail', 'crashed', 0, 1, 0.0, 'why', '[]', '{tests}');
                 PRAGMA user_version = 2;"
            ))
            .unwrap();
    }
    (folder, path)
}

#[test]
fn a_record_of_an_older_layout_is_read_as_it_is_and_changed_by_a_run_only() {
    let version = |path: &Path| -> u32 {
        let database = Connection::open(path.join("trials.sqlite")).unwrap();
        database.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap()
    };
    for old in [1, 2] {
        let (_folder, path) = old_record(old);
        let before = state(&path);
        for is_migrated in [false, true] {
            let record = if is_migrated {
                Record::open_to_add(&path).unwrap()
            } else {
                Record::open(&path).unwrap()
            };
            let trial = record.trials(&Selection::default()).unwrap().remove(0);
            assert_eq!((trial.number, trial.round, trial.cost()), (7, 2, 0.25));
            assert_eq!(record.text(&trial.prompt).unwrap(), "solve it");
            let tests = |attempt: usize| -> Vec<String> {
                let tests = record.tests(&trial.attempts[attempt]).unwrap();
                tests.into_iter().map(|it| it.name).collect()
            };
            assert_eq!(
                (tests(0), tests(1)),
                (vec!["call 1".into(), "call 2".into()], vec!["call 1".into()])
            );
            let requests: Vec<_> = trial.requests.iter().map(|it| (it.round, it.number)).collect();
            assert_eq!(requests, [(1, 1), (2, 1)]);
            let gradings = record.gradings(&Selection::of(&trial.key)).unwrap();
            let again: Vec<_> = gradings.iter().flat_map(|it| &it.answers).collect();
            assert_eq!(again.len(), usize::from(old == 2));
            assert!(again.iter().all(|it| (it.trial, it.attempt, it.passed) == (7, 2, 0)));
            drop(record);
            assert_eq!(version(&path), if is_migrated { FORMAT_VERSION } else { old });
            assert!(is_migrated || state(&path) == before);
        }
        let database = Connection::open(path.join("trials.sqlite")).unwrap();
        let count = |sql: &str| database.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap();
        let details = "SELECT count(*) FROM blobs WHERE size > 100";
        assert_eq!(
            count(details),
            2,
            "each attempt's tests are one text, and the old ones are gone"
        );
    }
    let (_folder, path) = record();
    change(&path, "PRAGMA user_version = 9;");
    let newer = read_all(&path).unwrap_err().to_string();
    assert!(newer.contains("the database") && newer.contains("format 9"), "{newer}");
    assert!(newer.contains(&format!("up to {FORMAT_VERSION}")), "{newer}");
}

#[test]
fn an_older_record_that_unpacks_to_too_much_is_refused() {
    let (_folder, path) = old_record(2);
    let bomb = compress_to_vec(std::io::repeat(b' ').take_(8 << 20), CompressionLevel::Fastest);
    let digest = Digest::of(&vec![b' '; 8 << 20]).as_str().to_owned();
    let database = Connection::open(path.join("trials.sqlite")).unwrap();
    let row = (&digest, 8_i64 << 20, bomb);
    database.execute("INSERT INTO blobs VALUES (?1, ?2, ?3)", row).unwrap();
    for place in 10..400 {
        let row = (place, &digest);
        let outcome = "INSERT INTO outcomes VALUES (11, ?1, 'call', 0, NULL, ?2)";
        database.execute(outcome, row).unwrap();
    }
    drop(database);
    let error = read_all(&path).unwrap_err();
    assert!(format!("{error:?}").contains("unpack to more"), "{error:?}");
}

#[test]
fn links_pipes_and_what_is_another_program_s_are_refused() {
    for name in ["manifest.json", "trials.sqlite", "lock", "trials.sqlite-wal"] {
        let (folder, path) = record();
        let precious = folder.path().join("precious");
        fs::write(&precious, "precious").unwrap();
        let _ = fs::remove_file(path.join(name));
        symlink(&precious, path.join(name)).unwrap();
        assert!(matches!(read_all(&path), Err(RecordError::NotAFile(_))), "{name}");
        assert!(matches!(Record::open_to_add(&path), Err(RecordError::NotAFile(_))), "{name}");
        fs::remove_file(path.join(name)).unwrap();
        assert!(Command::new("mkfifo").arg(path.join(name)).status().unwrap().success());
        assert!(matches!(read_all(&path), Err(RecordError::NotAFile(_))), "{name}");
        assert!(Record::open_to_add(&path).is_err(), "{name}");
        assert_eq!(fs::read_to_string(&precious).unwrap(), "precious", "{name}");
    }
    // A name that the manifest is written to before it is renamed.
    let (folder, path) = record();
    let precious = folder.path().join("precious");
    fs::write(&precious, "precious").unwrap();
    symlink(&precious, path.join("manifest.json.new")).unwrap();
    let mut run = Record::open_to_add(&path).unwrap();
    run.set_manifest(manifest()).unwrap();
    drop(run);
    assert_eq!(fs::read_to_string(&precious).unwrap(), "precious");
    assert!(fs::symlink_metadata(path.join("manifest.json")).unwrap().is_file());
    for sql in [
        "PRAGMA application_id = 7;",
        "PRAGMA application_id = 0;",
        "CREATE TABLE more (a);",
        "CREATE TRIGGER t AFTER INSERT ON trials BEGIN DELETE FROM blobs; END;",
        "ALTER TABLE trials RENAME TO t; CREATE VIEW trials AS WITH RECURSIVE n(id) AS (SELECT 1 UNION ALL \
         SELECT id + 1 FROM n) SELECT 'auk' candidate, 'gap' task, id sample, id number, 1 round, '' prompt, \
         NULL verdict, NULL reason, '' begun, NULL ended FROM n;",
        "ALTER TABLE trials ADD COLUMN endless INTEGER GENERATED ALWAYS AS (1);",
    ] {
        let (_folder, path) = record();
        change(&path, sql);
        assert!(matches!(read_all(&path), Err(RecordError::NotOurs { .. })), "{sql}");
        assert!(matches!(Record::open_to_add(&path), Err(RecordError::NotOurs { .. })), "{sql}");
    }
    // One that would fill the disk by being copied.
    let (_folder, path) = record();
    fs::write(path.join("trials.sqlite-wal"), "x").unwrap();
    let database = fs::OpenOptions::new().write(true).open(path.join("trials.sqlite")).unwrap();
    database.set_len(1 << 40).unwrap();
    assert!(matches!(read_all(&path), Err(RecordError::Damaged { .. })));
    let (_folder, path) = record();
    fs::remove_file(path.join("trials.sqlite")).unwrap();
    assert!(matches!(read_all(&path), Err(RecordError::NoDatabase(_))));
}

#[test]
fn a_text_unpacks_to_its_stated_length_and_no_further() {
    let (_folder, path) = record();
    let bomb = compress_to_vec(std::io::repeat(0).take_(600 << 20), CompressionLevel::Fastest);
    assert!(bomb.len() < 1 << 20);
    let database = Connection::open(path.join("trials.sqlite")).unwrap();
    for size in [500_i64, 1 << 40, -1] {
        let set =
            "UPDATE blobs SET content = ?1, size = ?2 WHERE digest IN (SELECT prompt FROM trials)";
        database.execute(set, (&bomb, size)).unwrap();
        let shown = read_all(&path).unwrap_err();
        assert!(matches!(shown, RecordError::Database { .. }), "{shown:?}");
    }
}

/// The beginning of something endless.
trait Take: std::io::Read + Sized {
    fn take_(self, most: u64) -> std::io::Take<Self> {
        std::io::Read::take(self, most)
    }
}

impl<T: std::io::Read> Take for T {}

#[test]
fn a_record_that_was_changed_anywhere_is_read_or_refused_in_time() {
    let (_folder, path) = record();
    let good: Vec<(PathBuf, Vec<u8>)> = ["manifest.json", "trials.sqlite"]
        .iter()
        .map(|it| (path.join(it), fs::read(path.join(it)).unwrap()))
        .collect();
    // An own source of chance, so that what goes wrong can be tried again.
    let mut state = 0x9e37_79b9_7f4a_7c15_u64;
    let mut chance = |below: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state % below as u64) as usize
    };
    let (mut read, mut refused) = (0, 0);
    for round in 0..400 {
        let (file, bytes) = &good[usize::from(round % 5 != 0)];
        let mut bytes = bytes.clone();
        for _ in 0..=chance(6) {
            let at = chance(bytes.len());
            match chance(4) {
                0 => bytes[at] = chance(256) as u8,
                1 => bytes[at] ^= 1 << chance(8),
                2 => bytes.truncate(at.max(1)),
                _ => {
                    let (from, length) = (chance(bytes.len()), chance(600));
                    let part: Vec<u8> = bytes[from..].iter().take(length).copied().collect();
                    let end = (at + part.len()).min(bytes.len());
                    bytes[at..end].copy_from_slice(&part[..end - at]);
                }
            }
        }
        fs::write(file, &bytes).unwrap();
        match read_all(&path) {
            Ok(_) => read += 1,
            Err(_) => refused += 1,
        }
        for (file, bytes) in &good {
            fs::write(file, bytes).unwrap();
        }
    }
    assert!(read > 0 && refused > 50, "{read} read, {refused} refused");
    assert_eq!(read_all(&path).unwrap(), 20);
}
