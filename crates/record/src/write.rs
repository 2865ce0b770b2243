//! Writing a record: one transaction for each answer, one for each judgement.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use fairtrial_core::answer::{Deviation, Submission};
use fairtrial_core::digest::Digest;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::plan::Tokens;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::tree::FileTree;
use fairtrial_core::verdict::Verdict;
use rusqlite::{Connection, Transaction, params};
use tempfile::TempDir;

use crate::files::{self, DATABASE, LOCK};
use crate::manifest::Manifest;
use crate::schema::SchemaRefusal;
use crate::steps::Steps;
use crate::{FORMAT_VERSION, RecordError, blob, schema};

/// How long a run waits for those who look at its record.
const PATIENCE: Duration = Duration::from_secs(10);

/// A record, open.
#[derive(Debug)]
pub struct Record {
    pub(crate) folder: PathBuf,
    pub(crate) connection: Connection,
    manifest: Manifest,
    /// The version of the database's layout.
    pub(crate) version: u32,
    /// How much it may do for one piece of reading.
    pub(crate) steps: Steps,
    /// Held while a run writes, or shared by those who look; the lock goes with the file.
    _lock: Option<File>,
    /// A copy of the database, where it could not be read in its place without a change to it.
    _copy: Option<TempDir>,
}

/// An answer, before it is judged.
#[derive(Debug, Clone)]
pub struct NewAnswer {
    /// What was sent.
    pub submission: Submission,
    /// Whether the host stopped it at a length limit.
    pub cut_off: bool,
    /// When it was there, in UTC, RFC 3339.
    pub at: String,
}

/// One request to a host, whatever came of it.
#[derive(Debug, Clone, PartialEq)]
pub struct NewRequest {
    /// When it was sent, in UTC, RFC 3339.
    pub sent: String,
    /// `answered`, or the reason why not.
    pub outcome: String,
    /// What the host said, without keys.
    pub detail: String,
    /// The HTTP status; `None` when there was none.
    pub status: Option<u16>,
    /// Seconds until the answer was whole.
    pub seconds: f64,
    /// Seconds until its first part; `None` when it did not come in parts.
    pub first_token: Option<f64>,
    /// Tokens.
    pub tokens: Tokens,
    /// Whether the tokens were estimated from lengths, since the host did not count them.
    pub estimated: bool,
    /// What it cost, in the plan's currency.
    pub cost: f64,
}

/// A judgement, ready to be written.
#[derive(Debug)]
pub struct NewJudgement<'a> {
    /// What judging came to.
    pub judgement: &'a Judgement,
    /// What the lenient reader forgave.
    pub deviations: &'a [Deviation],
    /// The files that were judged.
    pub code: Option<&'a FileTree>,
    /// What goes back to the candidate.
    pub feedback: Option<&'a str>,
    /// Seconds that judging took.
    pub seconds: f64,
    /// What the whole trial came to, when it is over with this attempt.
    pub trial: Option<Verdict>,
    /// When it was judged, in UTC, RFC 3339.
    pub at: &'a str,
}

impl Record {
    /// Opens a record to look at it. Nothing is written: not to the database, not beside it.
    ///
    /// # Errors
    /// When there is none, it is of a newer format, or it holds what a record does not.
    pub fn open(folder: &Path) -> Result<Self, RecordError> {
        let manifest = Manifest::read(folder)?;
        let Some(database) = files::database(folder)? else {
            return Err(RecordError::NoDatabase(folder.to_owned()));
        };
        let lock = files::open(&folder.join(LOCK), OpenOptions::new().read(true))?;
        // Nobody begins to write while it is shared. Where there is none, nobody ever wrote here.
        let is_still = lock.as_ref().is_none_or(|it| it.try_lock_shared().is_ok());
        let open = |path: &Path, flags, how: &str| {
            let name = format!("file:{}?{how}", escaped(path));
            Connection::open_with_flags(name, flags)
        };
        let (connection, copy) = if !is_still {
            (Connection::open_with_flags(&database, schema::CHANGING), None)
        } else if files::has_changes_beside(&database) {
            let copy = tempfile::tempdir().map_err(files::io("make", &std::env::temp_dir()))?;
            let path = files::copy_database(&database, copy.path())?;
            let own = fs::canonicalize(&path).map_err(files::io("find", &path))?;
            (Connection::open_with_flags(own, schema::WRITING), Some(copy))
        } else {
            (open(&database, schema::UNCHANGING, "immutable=1"), None)
        };
        let failed = refused(folder);
        let mut connection = connection.map_err(|it| failed(it.into()))?;
        schema::distrust(&connection).map_err(|it| failed(it.into()))?;
        let steps = Steps::bound(&mut connection).map_err(|it| failed(it.into()))?;
        let version = schema::check(&connection).map_err(&failed)?;
        if version == 0 {
            return Err(RecordError::NoDatabase(folder.to_owned()));
        }
        let folder = folder.to_owned();
        Ok(Self { folder, connection, manifest, version, steps, _lock: lock, _copy: copy })
    }

    /// Opens a record to write to it, or makes one with this manifest.
    ///
    /// # Errors
    /// When another run writes to it, it is of a newer format, or the disk refuses.
    pub fn open_for_run(folder: &Path, manifest: &Manifest) -> Result<Self, RecordError> {
        fs::create_dir_all(folder).map_err(files::io("make", folder))?;
        let lock = lock(folder)?;
        let known = match Manifest::read(folder) {
            Ok(known) => known,
            Err(RecordError::NotARecord(_)) => {
                manifest.write(folder)?;
                manifest.clone()
            }
            Err(error) => return Err(error),
        };
        files::database(folder)?;
        let failed = refused(folder);
        let own = fs::canonicalize(folder).map_err(files::io("find", folder))?;
        let connection = Connection::open_with_flags(own.join(DATABASE), schema::WRITING);
        let mut connection = connection.map_err(|it| failed(it.into()))?;
        schema::distrust(&connection).map_err(|it| failed(it.into()))?;
        schema::migrate(&mut connection).map_err(&failed)?;
        let steps = Steps::bound(&mut connection).map_err(|it| failed(it.into()))?;
        Ok(Self {
            folder: folder.to_owned(),
            connection,
            manifest: known,
            version: schema::NEWEST,
            steps,
            _lock: Some(lock),
            _copy: None,
        })
    }

    /// Opens a record to add to it what is not a trial.
    ///
    /// # Errors
    /// When there is none, a run writes to it, or it is of a newer format.
    pub fn open_to_add(folder: &Path) -> Result<Self, RecordError> {
        let manifest = Manifest::read(folder)?;
        Self::open_for_run(folder, &manifest)
    }

    /// The folder.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The manifest.
    #[must_use]
    pub fn manifest(&self) -> &Manifest {
        &self.manifest
    }

    /// Replaces the manifest: a plan may grow, a session be added.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn set_manifest(&mut self, manifest: Manifest) -> Result<(), RecordError> {
        let manifest = Manifest { format_version: FORMAT_VERSION, ..manifest };
        manifest.write(&self.folder)?;
        self.manifest = manifest;
        Ok(())
    }

    /// Begins a trial and gives its number.
    ///
    /// # Errors
    /// When the database refuses, or the trial was begun before.
    pub fn begin_trial(
        &mut self,
        key: &TrialKey,
        prompt: &str,
        at: &str,
    ) -> Result<i64, RecordError> {
        self.transact("begin a trial", |transaction| {
            let prompt = blob::store(transaction, prompt.as_bytes())?;
            transaction.execute(
                "INSERT INTO trials (candidate, task, sample, holding, prompt, begun)
                 VALUES (?1, ?2, ?3, 1, ?4, ?5)",
                params![key.candidate, key.task, key.sample, prompt.as_str(), at],
            )?;
            Ok(transaction.last_insert_rowid())
        })
    }

    /// Takes a void trial up again, and gives which holding of it this is. Its answers and requests
    /// stay; a void judgement, which says nothing of the answer, is taken back. `prompt` is used if
    /// nothing was answered yet.
    ///
    /// # Errors
    /// When the database refuses, or the trial is not void.
    pub fn reopen_trial(&mut self, trial: i64, prompt: &str, at: &str) -> Result<u32, RecordError> {
        self.transact("take a void trial up again", |transaction| {
            let changed = transaction.execute(
                "UPDATE trials SET holding = holding + 1, begun = ?2, verdict = NULL,
                 reason = NULL, ended = NULL WHERE id = ?1 AND verdict = 'void'",
                params![trial, at],
            )?;
            if changed != 1 {
                return Err(rusqlite::Error::StatementChangedRows(changed));
            }
            let prompt = blob::store(transaction, prompt.as_bytes())?;
            transaction.execute(
                "UPDATE trials SET prompt = ?2
                 WHERE id = ?1 AND NOT EXISTS (SELECT 1 FROM attempts WHERE trial = ?1)",
                params![trial, prompt.as_str()],
            )?;
            transaction.execute(
                "DELETE FROM outcomes WHERE attempt IN
                 (SELECT id FROM attempts WHERE trial = ?1 AND verdict = 'void')",
                [trial],
            )?;
            transaction.execute(
                "UPDATE attempts SET verdict = NULL, reason = NULL
                 WHERE trial = ?1 AND verdict = 'void'",
                [trial],
            )?;
            transaction
                .query_row("SELECT holding FROM trials WHERE id = ?1", [trial], |row| row.get(0))
        })
    }

    /// Commits requests that were made in vain for a trial that goes on later.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn commit_requests(
        &mut self,
        trial: i64,
        holding: u32,
        attempt: u32,
        requests: &[NewRequest],
    ) -> Result<(), RecordError> {
        self.transact("commit requests", |transaction| {
            insert_requests(transaction, trial, holding, attempt, requests)
        })
    }

    /// Commits an answer with the requests that led to it. Only then may it be judged. Gives the
    /// attempt's number.
    ///
    /// # Errors
    /// When the database refuses: then the answer is not recorded.
    pub fn commit_answer(
        &mut self,
        trial: i64,
        holding: u32,
        number: u32,
        answer: &NewAnswer,
        requests: &[NewRequest],
    ) -> Result<i64, RecordError> {
        self.transact("commit an answer", |transaction| {
            let body = match &answer.submission {
                Submission::Text(text) | Submission::Patch(text) => text.clone().into_bytes(),
                Submission::Files(files) => pack(files),
            };
            let body = blob::store(transaction, &body)?;
            insert_requests(transaction, trial, holding, number, requests)?;
            transaction
                .prepare_cached(
                    "INSERT INTO attempts
                     (trial, holding, number, answer_kind, answer, cut_off, answered)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                )?
                .execute(params![
                    trial,
                    holding,
                    number,
                    answer.submission.kind(),
                    body.as_str(),
                    answer.cut_off,
                    answer.at
                ])?;
            Ok(transaction.last_insert_rowid())
        })
    }

    /// Commits what judging an attempt came to, and the trial's verdict where it is over.
    ///
    /// # Errors
    /// When the database refuses: then the attempt stays unjudged, and can be judged later.
    pub fn commit_judgement(
        &mut self,
        trial: i64,
        attempt: i64,
        new: &NewJudgement<'_>,
    ) -> Result<(), RecordError> {
        self.transact("commit a judgement", |transaction| {
            let text = |text: Option<&str>| {
                text.map(|it| blob::store(transaction, it.as_bytes())).transpose()
            };
            let judgement = new.judgement;
            let code = new.code.map(|code| blob::store(transaction, &pack(code))).transpose()?;
            let message = text(judgement.message.as_deref())?;
            let feedback = text(new.feedback)?;
            let (passed, total) = judgement.counts();
            let as_text =
                |digest: &Option<Digest>| digest.as_ref().map(|it| it.as_str().to_owned());
            transaction
                .prepare_cached(
                    "UPDATE attempts SET verdict = ?2, reason = ?3, tests_passed = ?4,
                     tests_total = ?5, credit = ?6, deviations = ?7, code = ?8, message = ?9,
                     notes = ?10, feedback = ?11, judge_seconds = ?12 WHERE id = ?1",
                )?
                .execute(params![
                    attempt,
                    judgement.verdict.word(),
                    judgement.verdict.reason(),
                    passed as i64,
                    total as i64,
                    judgement.credit(),
                    json(new.deviations)?,
                    as_text(&code),
                    as_text(&message),
                    json(&judgement.notes)?,
                    as_text(&feedback),
                    new.seconds
                ])?;
            for (place, test) in judgement.tests.iter().enumerate() {
                let detail = blob::store(transaction, json(test)?.as_bytes())?;
                transaction
                    .prepare_cached(
                        "INSERT INTO outcomes (attempt, place, name, visible, failed, detail)
                         VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                    )?
                    .execute(params![
                        attempt,
                        place as i64,
                        test.name,
                        test.visible,
                        test.failed.map(|reason| reason.word()),
                        detail.as_str()
                    ])?;
            }
            match new.trial {
                Some(verdict) => end_trial(transaction, trial, verdict, new.at),
                None => Ok(()),
            }
        })
    }

    /// Ends a trial without a further answer, with the requests that were made for it in vain.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn end_trial(
        &mut self,
        trial: i64,
        holding: u32,
        attempt: u32,
        verdict: Verdict,
        requests: &[NewRequest],
        at: &str,
    ) -> Result<(), RecordError> {
        self.transact("end a trial", |transaction| {
            insert_requests(transaction, trial, holding, attempt, requests)?;
            end_trial(transaction, trial, verdict, at)
        })
    }

    pub(crate) fn transact<T>(
        &mut self,
        what: &'static str,
        work: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T>,
    ) -> Result<T, RecordError> {
        let run = |connection: &mut Connection| {
            let transaction = connection.transaction()?;
            let result = work(&transaction)?;
            transaction.commit()?;
            Ok(result)
        };
        self.steps.refill();
        run(&mut self.connection).map_err(|source| RecordError::Database {
            what,
            path: self.folder.clone(),
            source,
        })
    }
}

/// The lock of a run. Those who look have it for moments only, and are waited for.
fn lock(folder: &Path) -> Result<File, RecordError> {
    let path = folder.join(LOCK);
    let mut options = OpenOptions::new();
    let opened = files::open(&path, options.create(true).truncate(false).write(true))?;
    let Some(lock) = opened else { return Err(RecordError::NotAFile(path)) };
    let begun = Instant::now();
    loop {
        match lock.try_lock() {
            Ok(()) => return Ok(lock),
            Err(TryLockError::WouldBlock) => {
                // A run holds it alone, so it cannot be shared: there is nothing to wait for.
                match lock.try_lock_shared() {
                    Ok(()) => lock.unlock().map_err(files::io("unlock", &path))?,
                    Err(_) => return Err(RecordError::Locked(folder.to_owned())),
                }
                if begun.elapsed() > PATIENCE {
                    return Err(RecordError::LookedAt(folder.to_owned()));
                }
                thread::sleep(Duration::from_millis(20));
            }
            Err(TryLockError::Error(error)) => return Err(files::io("lock", &path)(error)),
        }
    }
}

/// A path as it stands in the address of a file (RFC 8089).
fn escaped(path: &Path) -> String {
    use std::fmt::Write as _;
    use std::os::unix::ffi::OsStrExt as _;
    let mut out = String::new();
    for &byte in path.as_os_str().as_bytes() {
        if byte.is_ascii_alphanumeric() || b"/._-".contains(&byte) {
            out.push(byte.into());
        } else {
            let _ = write!(out, "%{byte:02X}");
        }
    }
    out
}

/// What is reported of a database that cannot be used.
fn refused(folder: &Path) -> impl Fn(SchemaRefusal) -> RecordError + use<> {
    let path = folder.to_owned();
    move |refused| {
        let path = path.clone();
        match refused {
            SchemaRefusal::Sqlite(source) => {
                RecordError::Database { what: "open the database", path, source }
            }
            SchemaRefusal::Newer(found) => {
                RecordError::Newer { what: "the database", path, found, known: schema::NEWEST }
            }
            SchemaRefusal::Foreign(why) => RecordError::Damaged { path, why: why.to_owned() },
        }
    }
}

pub(crate) fn json<T: serde::Serialize + ?Sized>(value: &T) -> rusqlite::Result<String> {
    serde_json::to_string(value)
        .map_err(|error| rusqlite::Error::ToSqlConversionFailure(error.into()))
}

/// Files as one text: a JSON object of paths and contents, bytes that are not UTF-8 as numbers.
fn pack(files: &FileTree) -> Vec<u8> {
    let entries = files.iter().map(|(path, bytes)| {
        let content = std::str::from_utf8(bytes)
            .map_or_else(|_| serde_json::json!(bytes), |text| serde_json::json!(text));
        (path.as_str().to_owned(), content)
    });
    serde_json::Value::Object(entries.collect()).to_string().into_bytes()
}

fn end_trial(
    transaction: &Transaction<'_>,
    trial: i64,
    verdict: Verdict,
    at: &str,
) -> rusqlite::Result<()> {
    transaction
        .prepare_cached("UPDATE trials SET verdict = ?2, reason = ?3, ended = ?4 WHERE id = ?1")?
        .execute(params![trial, verdict.word(), verdict.reason(), at])?;
    Ok(())
}

fn insert_requests(
    transaction: &Transaction<'_>,
    trial: i64,
    holding: u32,
    attempt: u32,
    requests: &[NewRequest],
) -> rusqlite::Result<()> {
    for (number, request) in requests.iter().enumerate() {
        transaction
            .prepare_cached(
                "INSERT INTO requests (trial, holding, attempt, number, sent, outcome, detail,
                 status, seconds, first_token, tokens_input, tokens_cached, tokens_output,
                 estimated, cost)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15)",
            )?
            .execute(params![
                trial,
                holding,
                attempt,
                number as i64 + 1,
                request.sent,
                request.outcome,
                request.detail,
                request.status,
                request.seconds,
                request.first_token,
                request.tokens.input as i64,
                request.tokens.cached as i64,
                request.tokens.output as i64,
                request.estimated,
                request.cost
            ])?;
    }
    Ok(())
}
