//! Writing a record: one transaction for each answer, one for each judgement.

use std::fs::{self, File, OpenOptions};
use std::path::{Path, PathBuf};

use fairtrial_core::answer::{AnswerEnd, Code, Submission};
use fairtrial_core::digest::Digest;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::tree::FileTree;
use fairtrial_core::verdict::{Verdict, VoidReason};
use rusqlite::{Connection, Transaction, params};
use tempfile::TempDir;

use crate::entries::{NewAnswer, NewJudgement, NewStep, RequestResult};
use crate::files::{self, DATABASE, LOCK};
use crate::lock::{lock, locked};
use crate::manifest::Manifest;
use crate::schema::SchemaRefusal;
use crate::workload::Workload;
use crate::{FORMAT_VERSION, RecordError, blob, refresh, schema};

/// A record, open.
#[derive(Debug)]
pub struct Record {
    pub(crate) folder: PathBuf,
    pub(crate) connection: Connection,
    manifest: Manifest,
    /// How much it may do for one piece of reading.
    pub(crate) workload: Workload,
    /// Held while a run writes, or shared by those who look; the lock goes with the file.
    _lock: Option<File>,
    /// A copy of the database, where it could not be read in its place without a change to it.
    _copy: Option<TempDir>,
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
        let failed = refused(folder);
        let changes = files::has_changes_beside(&database);
        let (connection, copy) = match (is_still, changes) {
            (false, _) => (Connection::open_with_flags(&database, schema::CHANGING), None),
            (true, true) => copied(&database)?,
            (true, false) => {
                let name = format!("file:{}?immutable=1", escaped(&database));
                (Connection::open_with_flags(name, schema::UNCHANGING), None)
            }
        };
        let (mut connection, mut copy) = (connection.map_err(|it| failed(it.into()))?, copy);
        let mut workload = doubted(&mut connection).map_err(&failed)?;
        match schema::check(&connection).map_err(&failed)? {
            0 => return Err(RecordError::NoDatabase(folder.to_owned())),
            schema::NEWEST => {}
            // One of an older layout stays as it is: a copy of it is brought up to date.
            _ if !is_still => return Err(locked(folder)),
            _ => {
                let (updated, own) = copied(&database)?;
                (connection, copy) = (updated.map_err(|it| failed(it.into()))?, own);
                workload = doubted(&mut connection).map_err(&failed)?;
                schema::migrate(&mut connection).map_err(&failed)?;
            }
        }
        let folder = folder.to_owned();
        Ok(Self { folder, connection, manifest, workload, _lock: lock, _copy: copy })
    }

    /// Opens a record to write to it, or makes one with this manifest.
    ///
    /// # Errors
    /// When another run writes to it, it is of a newer format, or the disk refuses.
    pub fn open_for_run(folder: &Path, manifest: &Manifest) -> Result<Self, RecordError> {
        fs::create_dir_all(folder).map_err(files::io("make", folder))?;
        let lock = lock(folder)?;
        let database = files::database(folder)?;
        let known = match Manifest::read(folder) {
            Ok(_) if database.is_none() => {
                return Err(RecordError::NoDatabase(folder.to_owned()));
            }
            Ok(known) => Some(known),
            Err(RecordError::NotARecord(_)) => None,
            Err(error) => return Err(error),
        };
        let failed = refused(folder);
        let own = fs::canonicalize(folder).map_err(files::io("find", folder))?;
        let connection = Connection::open_with_flags(own.join(DATABASE), schema::WRITING);
        let mut connection = connection.map_err(|it| failed(it.into()))?;
        let workload = doubted(&mut connection).map_err(&failed)?;
        schema::migrate(&mut connection).map_err(&failed)?;
        // The database comes first: a run that is killed between the two leaves one without a trial.
        let manifest = match known {
            Some(known) => known,
            None if has_trials(&connection).map_err(|it| failed(it.into()))? => {
                return Err(RecordError::NoManifest(folder.to_owned()));
            }
            None => {
                manifest.write(folder)?;
                manifest.clone()
            }
        };
        let folder = folder.to_owned();
        let mut record =
            Self { folder, connection, manifest, workload, _lock: Some(lock), _copy: None };
        record.note_lost_requests()?;
        Ok(record)
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

    /// Begins a trial.
    ///
    /// # Errors
    /// When the database refuses, or the trial was begun before.
    pub fn begin_trial(
        &mut self,
        key: &TrialKey,
        prompt: &str,
        at: &str,
    ) -> Result<(), RecordError> {
        self.transact("begin a trial", |transaction| begin_trial(transaction, key, prompt, at))
    }

    /// Begins a void trial again, and gives its round. Its answers and requests stay; a void judgement,
    /// which says nothing of the answer, is taken back. `prompt` is used if nothing was answered yet.
    ///
    /// # Errors
    /// When the database refuses, or the trial is not void.
    pub fn reopen_trial(
        &mut self,
        key: &TrialKey,
        prompt: &str,
        at: &str,
    ) -> Result<u32, RecordError> {
        let TrialKey { candidate, task, sample } = key;
        self.transact("begin a void trial again", |transaction| {
            let changed = transaction.execute(
                "UPDATE trials SET round = round + 1, begun = ?4, verdict = NULL, reason = NULL,
                 ended = NULL
                 WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND verdict = 'void'",
                params![candidate, task, sample, at],
            )?;
            if changed != 1 {
                return Err(rusqlite::Error::StatementChangedRows(changed));
            }
            let prompt = blob::store(transaction, prompt.as_bytes())?;
            transaction.execute(
                "UPDATE trials SET prompt = ?4
                 WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND NOT EXISTS
                 (SELECT 1 FROM attempts WHERE candidate = ?1 AND task = ?2 AND sample = ?3)",
                params![candidate, task, sample, prompt.as_str()],
            )?;
            transaction.execute(
                "UPDATE attempts SET verdict = NULL, reason = NULL, tests = NULL
                 WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND verdict = 'void'",
                params![candidate, task, sample],
            )?;
            refresh::refresh(transaction, key)?;
            transaction.query_row(
                "SELECT round FROM trials WHERE candidate = ?1 AND task = ?2 AND sample = ?3",
                params![candidate, task, sample],
                |row| row.get(0),
            )
        })
    }

    /// Commits that a request is sent, before anything of it can be paid for. Gives its number among those
    /// of the attempt.
    ///
    /// # Errors
    /// When the database refuses: then it must not be sent.
    pub fn begin_request(
        &mut self,
        key: &TrialKey,
        round: u32,
        attempt: u32,
        sent: &str,
    ) -> Result<u32, RecordError> {
        self.transact("commit a request", |transaction| {
            let number: u32 = transaction
                .prepare_cached(
                    "SELECT coalesce(max(number), 0) + 1 FROM requests WHERE candidate = ?1
                     AND task = ?2 AND sample = ?3 AND round = ?4 AND attempt = ?5",
                )?
                .query_row(params![key.candidate, key.task, key.sample, round, attempt], |row| {
                    row.get(0)
                })?;
            transaction
                .prepare_cached(
                    "INSERT INTO requests (candidate, task, sample, round, attempt, number, sent,
                     outcome, detail, seconds, tokens_input, tokens_cached, tokens_output,
                     estimated, cost)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 'under way', '', 0, 0, 0, 0, 0, 0)",
                )?
                .execute(params![
                    key.candidate,
                    key.task,
                    key.sample,
                    round,
                    attempt,
                    number,
                    sent
                ])?;
            Ok(number)
        })
    }

    /// Commits what became of a request.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn end_request(
        &mut self,
        key: &TrialKey,
        round: u32,
        attempt: u32,
        number: u32,
        request: &RequestResult,
    ) -> Result<(), RecordError> {
        self.transact("commit a request", |transaction| {
            end_request(transaction, key, round, attempt, number, request)
        })
    }

    /// Says that a person helped with a trial, and how; `None` takes it back.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn set_helped(&mut self, key: &TrialKey, how: Option<&str>) -> Result<(), RecordError> {
        self.transact("commit a note", |transaction| {
            let set =
                "UPDATE trials SET helped = ?4 WHERE candidate = ?1 AND task = ?2 AND sample = ?3";
            transaction.execute(set, params![key.candidate, key.task, key.sample, how])?;
            refresh::refresh(transaction, key)
        })
    }

    /// Commits one thing that a candidate did, after those before it.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn add_step(
        &mut self,
        key: &TrialKey,
        round: u32,
        attempt: u32,
        step: &NewStep,
    ) -> Result<(), RecordError> {
        self.transact("commit a step", |transaction| {
            let detail = match step.detail.as_str() {
                "" => None,
                detail => Some(blob::store(transaction, detail.as_bytes())?.to_string()),
            };
            transaction
                .prepare_cached(
                    "INSERT INTO steps (candidate, task, sample, round, attempt, number, at, kind,
                     subject, outcome, detail, seconds, files_before, files_after)
                     SELECT ?1, ?2, ?3, ?4, ?5, coalesce(max(number), 0) + 1, ?6, ?7, ?8, ?9, ?10, ?11,
                     ?12, ?13
                     FROM steps WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND round = ?4
                     AND attempt = ?5",
                )?
                .execute(params![
                    key.candidate,
                    key.task,
                    key.sample,
                    round,
                    attempt,
                    step.at,
                    step.kind,
                    step.subject,
                    step.outcome,
                    detail,
                    step.seconds,
                    step.files.as_ref().map(|it| &it.0),
                    step.files.as_ref().map(|it| &it.1)
                ])?;
            Ok(())
        })
    }

    /// Commits an answer, and with it what became of the request that brought it. Only then may it be
    /// judged.
    ///
    /// # Errors
    /// When the database refuses: then the answer is not recorded.
    pub fn commit_answer(
        &mut self,
        key: &TrialKey,
        round: u32,
        attempt: u32,
        answer: &NewAnswer,
        request: Option<(u32, &RequestResult)>,
    ) -> Result<(), RecordError> {
        self.transact("commit an answer", |transaction| {
            let body = match &answer.submission {
                Submission::Text(text) => text.clone().into_bytes(),
                Submission::Patch(patch) => patch.clone(),
                Submission::Files(files) => pack(files),
            };
            let body = blob::store(transaction, &body)?;
            let ended_as = answer.ended_as.as_deref();
            let ended_as =
                ended_as.map(|it| blob::store(transaction, it.as_bytes())).transpose()?;
            if let Some((number, request)) = request {
                end_request(transaction, key, round, attempt, number, request)?;
            }
            transaction
                .prepare_cached(
                    "INSERT INTO attempts (candidate, task, sample, attempt, round, answer_kind,
                     answer, cut_off, answered, ended_as, answer_seconds, refused, reused)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
                )?
                .execute(params![
                    key.candidate,
                    key.task,
                    key.sample,
                    attempt,
                    round,
                    answer.submission.kind(),
                    body.as_str(),
                    answer.end == AnswerEnd::CutOff,
                    answer.at,
                    ended_as.as_ref().map(|it| it.as_str().to_owned()),
                    answer.seconds,
                    answer.end == AnswerEnd::Refused,
                    answer.reused
                ])?;
            Ok(())
        })
    }

    /// Commits what judging an attempt came to, and the trial's verdict where it is over.
    ///
    /// # Errors
    /// When the database refuses: then the attempt stays unjudged, and can be judged later.
    pub fn commit_judgement(
        &mut self,
        key: &TrialKey,
        attempt: u32,
        new: &NewJudgement<'_>,
    ) -> Result<(), RecordError> {
        self.transact("commit a judgement", |transaction| {
            let text = |text: Option<&str>| {
                text.map(|it| blob::store(transaction, it.as_bytes())).transpose()
            };
            let judgement = new.judgement;
            let code = match new.code {
                Some(Code::Files(files)) => Some(blob::store(transaction, &pack(files))?),
                Some(Code::Patch(patch)) => Some(blob::store(transaction, patch)?),
                None => None,
            };
            let change = judgement.change.as_ref().map(json).transpose()?;
            let change = text(change.as_deref())?;
            let message = text(judgement.message.as_deref())?;
            let feedback = text(new.feedback)?;
            let tests = blob::store(transaction, json(&judgement.tests)?.as_bytes())?;
            let (passed, total) = judgement.counts();
            let as_text =
                |digest: &Option<Digest>| digest.as_ref().map(|it| it.as_str().to_owned());
            transaction
                .prepare_cached(
                    "UPDATE attempts SET verdict = ?5, reason = ?6, tests_passed = ?7,
                     tests_total = ?8, credit = ?9, deviations = ?10, code = ?11, message = ?12,
                     notes = ?13, feedback = ?14, judge_seconds = ?15, tests = ?16, change = ?17,
                     same_failure = ?18, undone = ?19, repeated = ?20, turned_red = ?21,
                     false_claims = ?22, reading = ?23
                     WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND attempt = ?4",
                )?
                .execute(params![
                    key.candidate,
                    key.task,
                    key.sample,
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
                    new.seconds,
                    tests.as_str(),
                    as_text(&change),
                    new.trouble.same_failure,
                    new.trouble.undone,
                    new.trouble.repeated,
                    new.trouble.turned_red,
                    new.trouble.false_claims,
                    json(new.reading)?
                ])?;
            match new.trial {
                Some(verdict) => end_trial(transaction, key, verdict, new.at),
                None => Ok(()),
            }
        })
    }

    /// Ends a trial without a further answer.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn end_trial(
        &mut self,
        key: &TrialKey,
        verdict: Verdict,
        at: &str,
    ) -> Result<(), RecordError> {
        self.transact("end a trial", |transaction| end_trial(transaction, key, verdict, at))
    }

    /// Ends trials that were not begun, all in one transaction. `trials` has each with its first prompt.
    ///
    /// # Errors
    /// When the database refuses, or one was begun before.
    pub fn void_trials(
        &mut self,
        trials: &[(&TrialKey, &str)],
        reason: VoidReason,
        at: &str,
    ) -> Result<(), RecordError> {
        if trials.is_empty() {
            return Ok(());
        }
        self.transact("end trials", |transaction| {
            for (key, prompt) in trials {
                begin_trial(transaction, key, prompt, at)?;
                end_trial(transaction, key, Verdict::Void(reason), at)?;
            }
            Ok(())
        })
    }

    /// Requests that were under way when a run was killed: whatever they cost, nothing came of them.
    fn note_lost_requests(&mut self) -> Result<(), RecordError> {
        self.transact("commit a request", |transaction| {
            transaction.execute(
                "UPDATE requests SET outcome = 'lost', detail = 'the run ended before it was answered'
                 WHERE outcome = 'under way'",
                [],
            )?;
            Ok(())
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
        self.workload.refill();
        run(&mut self.connection).map_err(|source| RecordError::Database {
            what,
            path: self.folder.clone(),
            source,
        })
    }
}

fn has_trials(connection: &Connection) -> rusqlite::Result<bool> {
    connection.query_row("SELECT EXISTS (SELECT 1 FROM trials)", [], |row| row.get(0))
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

/// A connection to a copy of a database, and the folder of the copy.
type CopiedDatabase = (rusqlite::Result<Connection>, Option<TempDir>);

fn copied(database: &Path) -> Result<CopiedDatabase, RecordError> {
    let copy = tempfile::tempdir().map_err(files::io("make", &std::env::temp_dir()))?;
    let path = files::copy_database(database, copy.path())?;
    let own = fs::canonicalize(&path).map_err(files::io("find", &path))?;
    Ok((Connection::open_with_flags(own, schema::WRITING), Some(copy)))
}

/// Takes from a connection what a database from a stranger could do with it, and bounds the rest.
fn doubted(connection: &mut Connection) -> Result<Workload, SchemaRefusal> {
    schema::distrust(connection)?;
    Ok(Workload::bound(connection)?)
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
            SchemaRefusal::Foreign => RecordError::NotOurs { path, what: "another program's" },
            SchemaRefusal::OtherTables => {
                RecordError::NotOurs { path, what: "not made of a record's tables alone" }
            }
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

fn begin_trial(
    transaction: &Transaction<'_>,
    key: &TrialKey,
    prompt: &str,
    at: &str,
) -> rusqlite::Result<()> {
    let prompt = blob::store(transaction, prompt.as_bytes())?;
    transaction
        .prepare_cached(
            "INSERT INTO trials (candidate, task, sample, number, round, prompt, begun)
             VALUES (?1, ?2, ?3, (SELECT coalesce(max(number), 0) + 1 FROM trials), 1, ?4, ?5)",
        )?
        .execute(params![key.candidate, key.task, key.sample, prompt.as_str(), at])?;
    Ok(())
}

fn end_trial(
    transaction: &Transaction<'_>,
    key: &TrialKey,
    verdict: Verdict,
    at: &str,
) -> rusqlite::Result<()> {
    transaction
        .prepare_cached(
            "UPDATE trials SET verdict = ?4, reason = ?5, ended = ?6
             WHERE candidate = ?1 AND task = ?2 AND sample = ?3",
        )?
        .execute(params![
            key.candidate,
            key.task,
            key.sample,
            verdict.word(),
            verdict.reason(),
            at
        ])?;
    refresh::refresh(transaction, key)
}

fn end_request(
    transaction: &Transaction<'_>,
    key: &TrialKey,
    round: u32,
    attempt: u32,
    number: u32,
    request: &RequestResult,
) -> rusqlite::Result<()> {
    let thought = match request.thought.as_str() {
        "" => None,
        text => Some(blob::store(transaction, text.as_bytes())?.to_string()),
    };
    transaction
        .prepare_cached(
            "UPDATE requests SET outcome = ?7, detail = ?8, status = ?9, seconds = ?10,
             first_token = ?11, tokens_input = ?12, tokens_cached = ?13, tokens_output = ?14,
             estimated = ?15, cost = ?16, tokens_reasoning = ?17, thought = ?18
             WHERE candidate = ?1 AND task = ?2 AND sample = ?3 AND round = ?4 AND attempt = ?5
             AND number = ?6",
        )?
        .execute(params![
            key.candidate,
            key.task,
            key.sample,
            round,
            attempt,
            number,
            request.outcome,
            request.detail,
            request.status,
            request.seconds,
            request.first_token,
            request.tokens.input as i64,
            request.tokens.cached as i64,
            request.tokens.output as i64,
            request.estimated,
            request.cost,
            request.tokens.reasoning as i64,
            thought
        ])?;
    // What was still under way when its trial ended is paid for, too.
    refresh::refresh(transaction, key)
}
