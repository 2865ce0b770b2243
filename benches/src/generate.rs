//! Records that are made up: as large as is wanted, with what a run would have written.

use std::collections::BTreeMap;
use std::path::Path;

use fairtrial_core::digest::Digest;
use fairtrial_core::judgement::TestOutcome;
use fairtrial_core::plan::Plan;
use fairtrial_core::verdict::FailReason;
use fairtrial_record::{FORMAT_VERSION, Manifest, Record, TaskNote};
use rusqlite::{Connection, params};
use ruzstd::encoding::{CompressionLevel, compress_to_vec};

/// How large a made-up record is.
#[derive(Debug, Clone, Copy)]
pub struct RecordSize {
    /// Candidates.
    pub candidates: u32,
    /// Tasks.
    pub tasks: u32,
    /// Samples of each.
    pub samples: u32,
    /// One trial in so many is void; 0: none.
    pub void_in: u32,
    /// Whether every attempt has an answer, code and tests of its own; else all share one text.
    pub own_texts: bool,
}

/// Makes a record with trials of up to three attempts. All rows go into one transaction, since nobody needs to
/// survive a power cut here; the figures are computed by the newest migration, as those of an older record are.
///
/// # Errors
/// When the disk or the database refuses.
pub fn generate(folder: &Path, size: RecordSize) -> Result<(), Box<dyn std::error::Error>> {
    let record = Record::open_for_run(folder, &manifest(size)?)?;
    drop(record);
    let mut database = Connection::open(folder.join("trials.sqlite"))?;
    database.pragma_update(None, "synchronous", "off")?;
    let transaction = database.transaction()?;
    // A set of files, which can stand for a text, too.
    let files = r#"{"berth.py": "def berth(a, b):\n    return a - b\n"}"#;
    let content = compress_to_vec(files.as_bytes(), CompressionLevel::Fastest);
    let digest = Digest::of(files.as_bytes()).as_str().to_owned();
    store(&transaction, &digest, files, &content)?;
    insert(&transaction, size, &digest)?;
    transaction.commit()?;
    database.execute_batch(&figures())?;
    database.execute_batch("PRAGMA wal_checkpoint(TRUNCATE); PRAGMA journal_mode = delete;")?;
    Ok(())
}

/// The statement that fills the table of figures, out of the migration that made it.
fn figures() -> String {
    let sql = include_str!("../../crates/record/src/migrations/7-figures.sql");
    sql.split_once("INSERT INTO figures")
        .map_or_else(String::new, |it| format!("INSERT INTO figures{}", it.1))
}

fn store(
    transaction: &rusqlite::Transaction<'_>,
    digest: &str,
    text: &str,
    content: &[u8],
) -> rusqlite::Result<()> {
    let insert = "INSERT OR IGNORE INTO blobs (digest, size, content) VALUES (?1, ?2, ?3)";
    transaction.prepare_cached(insert)?.execute(params![digest, text.len() as i64, content])?;
    Ok(())
}

/// Stores a text, and gives its digest.
fn stored(transaction: &rusqlite::Transaction<'_>, text: &str) -> rusqlite::Result<String> {
    let digest = Digest::of(text.as_bytes()).as_str().to_owned();
    let content = compress_to_vec(text.as_bytes(), CompressionLevel::Fastest);
    store(transaction, &digest, text, &content)?;
    Ok(digest)
}

/// Words of a program that nobody wrote.
const WORDS: [&str; 24] = [
    "tide", "berth", "cargo", "pilot", "toll", "quay", "crane", "ferry", "signal", "buoy",
    "anchor", "hold", "for", "in", "if", "return", "while", "not", "len", "range", "sorted", "sum",
    "max", "append",
];

/// A program of some sixty lines, as different from another as two answers to one task are.
fn program(chance: &mut impl FnMut(u32) -> u32) -> String {
    let mut text = String::from("def berth(a, b):\n");
    for line in 0..60 {
        text.push_str(&" ".repeat(4 * (1 + (line % 3))));
        for _ in 0..3 + chance(6) {
            text.push_str(WORDS[chance(WORDS.len() as u32) as usize]);
            text.push_str([" ", " = ", "(", "[", "] + ", ")"][chance(6) as usize]);
        }
        text.push_str(&format!("{}\n", chance(1000)));
    }
    text
}

/// Nine tests, of which so many passed.
fn tests(passed: u32) -> String {
    let test = |number: u32| {
        let mut test = TestOutcome::passed(&format!("call {number}"), false, 1.0);
        if number > passed {
            test.failed = Some(FailReason::WrongResult);
            test.summary = "another value than was expected".to_owned();
            test.input = format!("[{number}, 17]");
            test.expected = number.to_string();
            test.found = (number + 1).to_string();
        }
        test
    };
    serde_json::to_string(&(1..=9).map(test).collect::<Vec<_>>()).unwrap_or_default()
}

fn manifest(size: RecordSize) -> Result<Manifest, Box<dyn std::error::Error>> {
    let candidate = |it: u32| {
        format!("[[candidate]]\nname = \"{}\"\nkind = \"recorded\"\npath = \"a\"\n", bird(it))
    };
    let candidates: String = (0..size.candidates).map(candidate).collect();
    let plan = format!(
        "title = \"Made up\"\ndocket = \"d\"\nsamples = {}\nattempts = 3\ncurrency = \"EUR\"\n{candidates}",
        size.samples
    );
    let task = |it: u32| TaskNote {
        name: task_name(it),
        title: format!("Task {it}"),
        docket: "Made up".to_owned(),
        docket_version: "1".to_owned(),
        category: format!("category {}", it % 8),
        difficulty: (it % 5) as u8 + 1,
        language: "python".to_owned(),
        form: "call".to_owned(),
        tags: Vec::new(),
        points: 1.0,
        weight: None,
        digest: Digest::of(it.to_string().as_bytes()),
    };
    Ok(Manifest {
        format_version: FORMAT_VERSION,
        created: "2031-05-01T06:00:00.000Z".to_owned(),
        plan: Plan::parse("plan.toml", &plan)?,
        tasks: (0..size.tasks).map(task).collect(),
        languages: BTreeMap::new(),
        machines: Vec::new(),
        changes: Vec::new(),
        dropped_candidates: Vec::new(),
        dropped_tasks: Vec::new(),
    })
}

fn bird(number: u32) -> String {
    format!("seabird-{number:03}")
}

fn task_name(number: u32) -> String {
    format!("task-{number:04}")
}

fn insert(
    transaction: &rusqlite::Transaction<'_>,
    size: RecordSize,
    digest: &str,
) -> rusqlite::Result<()> {
    let at = "2031-05-01T06:00:00.000Z";
    let mut trial = transaction.prepare(
        "INSERT INTO trials (candidate, task, sample, number, round, prompt, verdict, reason, begun, ended)
         VALUES (?1, ?2, ?3, ?4, 1, ?5, ?6, ?7, ?8, ?8)",
    )?;
    let mut attempt = transaction.prepare(
        "INSERT INTO attempts (candidate, task, sample, attempt, round, answer_kind, answer, cut_off, answered,
         verdict, reason, tests_passed, tests_total, credit, deviations, code, notes, judge_seconds,
         same_failure, undone, repeated, turned_red, false_claims, tests)
         VALUES (?1, ?2, ?3, ?4, 1, 'text', ?5, 0, ?6, ?7, ?8, ?9, 9, ?10, '[]', ?11, '[]', 0.1,
         0, 0, 0, 0, 0, ?12)",
    )?;
    let mut request = transaction.prepare(
        "INSERT INTO requests (candidate, task, sample, round, attempt, number, sent, outcome, detail, status,
         seconds, first_token, tokens_input, tokens_cached, tokens_output, estimated, cost)
         VALUES (?1, ?2, ?3, 1, ?4, 1, ?5, 'answered', '', 200, 1.25, 0.25, 500, 0, 200, 0, 0.001)",
    )?;
    let mut number = 0_u32;
    let mut state = 0x9E37_79B9_7F4A_7C15_u64;
    let mut chance = move |below: u32| {
        state ^= state >> 12;
        state ^= state << 25;
        state ^= state >> 27;
        ((state.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 33) % u64::from(below)) as u32
    };
    for candidate in 0..size.candidates {
        let name = bird(candidate);
        // From 30 to 90 in a hundred.
        let skill = 30 + candidate * 60 / size.candidates.max(1);
        for task in 0..size.tasks {
            let (task_name, ease) = (task_name(task), task * 7919 % 61);
            for sample in 1..=size.samples {
                number += 1;
                let is_void = size.void_in > 0 && chance(size.void_in) == 0;
                let solves = (0..3).find(|_| chance(100) < (skill + ease).saturating_sub(30));
                let (verdict, reason) = match (is_void, solves) {
                    (true, _) => ("void", Some("provider error")),
                    (false, Some(_)) => ("pass", None),
                    (false, None) => ("fail", Some("wrong result")),
                };
                trial.execute(params![
                    name, task_name, sample, number, digest, verdict, reason, at
                ])?;
                let attempts = if is_void { 0 } else { solves.map_or(3, |it| it + 1) };
                for place in 1..=attempts {
                    let passes = solves == Some(place - 1);
                    let (verdict, reason) =
                        if passes { ("pass", None) } else { ("fail", Some("wrong result")) };
                    let passed = if passes { 9 } else { 4 };
                    let credit = f64::from(passed) / 9.0;
                    let (answer, code, tests) = if size.own_texts {
                        let program = program(&mut chance);
                        let files = serde_json::json!({ "berth.py": program }).to_string();
                        let answer = format!("Here it is.\n\n```python\n{program}```\n");
                        let tests = stored(transaction, &tests(passed))?;
                        (stored(transaction, &answer)?, stored(transaction, &files)?, Some(tests))
                    } else {
                        (digest.to_owned(), digest.to_owned(), None)
                    };
                    attempt.execute(params![
                        name, task_name, sample, place, answer, at, verdict, reason, passed,
                        credit, code, tests
                    ])?;
                    request.execute(params![name, task_name, sample, place, at])?;
                }
            }
        }
    }
    Ok(())
}
