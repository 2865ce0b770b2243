//! Records from strangers: whatever is in the folder, looking at it ends, and changes nothing.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;

use fairtrial_core::answer::Submission;
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::plan::Plan;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::{FailReason, Verdict};
use fairtrial_record::{FORMAT_VERSION, Manifest, NewAnswer, NewJudgement, Record, RecordError};
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
    }
}

/// A record of twenty judged trials.
fn record() -> (TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("record");
    let mut record = Record::open_for_run(&path, &manifest()).unwrap();
    for sample in 1..=20 {
        let key = TrialKey { candidate: "auk".into(), task: "gap".into(), sample };
        let trial = record.begin_trial(&key, "solve it", AT).unwrap();
        let submission = Submission::Text(format!("answer {sample} {}", "x".repeat(500)));
        let answer = NewAnswer { submission, cut_off: false, at: AT.into() };
        let attempt = record.commit_answer(trial, 1, 1, &answer, &[]).unwrap();
        let verdict = Verdict::Fail(FailReason::WrongResult);
        let tests = vec![TestOutcome::passed("call 1", false, 1.0)];
        let judgement = Judgement { verdict, tests, message: None, notes: Vec::new() };
        let new = NewJudgement {
            judgement: &judgement,
            deviations: &[],
            code: None,
            feedback: None,
            seconds: 0.1,
            trial: Some(verdict),
            at: AT,
        };
        record.commit_judgement(trial, attempt, &new).unwrap();
    }
    drop(record);
    (folder, path)
}

/// Reads all that there is.
fn read_all(path: &Path) -> Result<usize, RecordError> {
    let record = Record::open(path)?;
    let trials = record.trials()?;
    for trial in &trials {
        record.text(&trial.prompt)?;
        for attempt in &trial.attempts {
            record.answer(attempt)?;
            record.tests(attempt.id)?;
        }
    }
    record.gradings()?;
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

#[test]
fn a_record_of_an_older_layout_is_read_as_it_is_and_changed_by_a_run_only() {
    let (_folder, path) = record();
    let version = |path: &Path| -> u32 {
        let database = Connection::open(path.join("trials.sqlite")).unwrap();
        database.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap()
    };
    change(&path, "DROP TABLE regrades; DROP TABLE gradings; PRAGMA user_version = 1;");
    assert_eq!(read_all(&path).unwrap(), 20);
    assert_eq!(version(&path), 1);
    drop(Record::open_to_add(&path).unwrap());
    assert_eq!(version(&path), 2);
    change(&path, "PRAGMA user_version = 9;");
    let newer = read_all(&path).unwrap_err().to_string();
    assert!(newer.contains("the database") && newer.contains("format 9"), "{newer}");
    assert!(newer.contains("up to 2"), "{newer}");
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
         SELECT id + 1 FROM n) SELECT id, 'auk' candidate, 'gap' task, id sample, 1 holding, '' prompt, \
         NULL verdict, NULL reason, '' begun, NULL ended FROM n;",
        "ALTER TABLE trials ADD COLUMN endless INTEGER GENERATED ALWAYS AS (1);",
    ] {
        let (_folder, path) = record();
        change(&path, sql);
        assert!(matches!(read_all(&path), Err(RecordError::Damaged { .. })), "{sql}");
        assert!(matches!(Record::open_to_add(&path), Err(RecordError::Damaged { .. })), "{sql}");
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
