//! How far a run is, in a file of its record, for those who watch it from elsewhere.

use std::fs::{self, File};
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};

use fairtrial_runner::{CandidateState, Observer, Progress, RunNews};
use serde::{Deserialize, Serialize};

/// The version of the file's format.
const FORMAT_VERSION: u32 = 1;

/// The file.
const FILE: &str = "progress.json";

/// Longest file that is read, in bytes.
const LENGTH_MAX: u64 = 4 << 20;

/// Shortest time between two writings.
const PAUSE: Duration = Duration::from_millis(900);

/// How far a run is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RunStatus {
    /// The version of the format.
    pub format_version: u32,
    /// When it was so, in UTC, RFC 3339.
    pub at: String,
    /// The process that runs.
    pub process: u32,
    /// Whether the session is over.
    pub over: bool,
    /// Trials that the plan asks for.
    pub trials: usize,
    /// Trials that are over.
    pub trials_over: usize,
    /// Trials under way.
    pub under_way: usize,
    /// Answers being judged.
    pub judging: usize,
    /// Answers that wait to be judged.
    pub to_judge: usize,
    /// Money spent, earlier sessions too.
    pub cost: f64,
    /// The currency.
    pub currency: String,
    /// Seconds since the session began.
    pub seconds: f64,
    /// The candidates, in the plan's order.
    pub candidates: Vec<CandidateStatus>,
}

/// How far one candidate is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CandidateStatus {
    /// Its name.
    pub name: String,
    /// Trials that the plan asks of it.
    pub trials: usize,
    /// Trials that count.
    pub counted: usize,
    /// Of these, solved.
    pub solved: usize,
    /// Void trials.
    pub void: usize,
    /// Money spent, earlier sessions too.
    pub cost: f64,
    /// Tokens written a second; `None` before the first answer.
    pub tokens_per_second: Option<f64>,
    /// `asking`, `resting`, `done` or `stopped`.
    pub state: String,
    /// Seconds that it rests still.
    pub rests_seconds: Option<f64>,
    /// Why it is no longer asked.
    pub why: Option<String>,
}

impl RunStatus {
    /// What a run says of itself.
    pub fn of(progress: &Progress, currency: &str, over: bool) -> Self {
        let now = SystemTime::now().max(SystemTime::UNIX_EPOCH);
        let candidate = |it: &fairtrial_runner::CandidateProgress| {
            let (state, rests_seconds, why) = match &it.state {
                CandidateState::Asking => ("asking", None, None),
                CandidateState::Done => ("done", None, None),
                CandidateState::Resting(until) => {
                    let left = until.saturating_sub(progress.elapsed).as_secs_f64();
                    ("resting", Some(left), None)
                }
                CandidateState::Stopped(why) => ("stopped", None, Some(why.clone())),
            };
            CandidateStatus {
                name: it.name.clone(),
                trials: it.total,
                counted: it.counted,
                solved: it.passed,
                void: it.void,
                cost: it.cost,
                tokens_per_second: it.tokens_per_second(),
                state: state.to_owned(),
                rests_seconds,
                why,
            }
        };
        Self {
            format_version: FORMAT_VERSION,
            at: humantime::format_rfc3339_millis(now).to_string(),
            process: std::process::id(),
            over,
            trials: progress.total,
            trials_over: progress.over,
            under_way: progress.under_way,
            judging: progress.judging,
            to_judge: progress.to_judge,
            cost: progress.cost,
            currency: currency.to_owned(),
            seconds: progress.elapsed.as_secs_f64(),
            candidates: progress.candidates.iter().map(candidate).collect(),
        }
    }

    /// Reads what the last run of a record said of itself; `None`: none did.
    ///
    /// # Errors
    /// When the file cannot be read, or is none of ours.
    pub fn read(record: &Path) -> io::Result<Option<Self>> {
        let path = record.join(FILE);
        // A record may come from a stranger: no link is followed, no pipe is waited for.
        match fs::symlink_metadata(&path) {
            Ok(meta) if meta.is_file() => {}
            Ok(_) => return Err(io::Error::other("it is no regular file")),
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        }
        let file = File::open(&path)?;
        let mut text = String::new();
        file.take(LENGTH_MAX).read_to_string(&mut text)?;
        serde_json::from_str(&text).map(Some).map_err(io::Error::other)
    }
}

/// Keeps the file of a record up to date.
pub struct StatusFile {
    folder: PathBuf,
    currency: String,
    last: Option<(Progress, Instant)>,
}

impl StatusFile {
    /// The file of this record.
    pub fn new(record: &Path, currency: &str) -> Self {
        Self { folder: record.to_owned(), currency: currency.to_owned(), last: None }
    }

    /// Writes it; whatever hinders that hinders no run.
    fn write(&self, status: &RunStatus) {
        let Ok(text) = serde_json::to_string(status) else { return };
        let temporary = self.folder.join(format!("{FILE}.new"));
        let _ = fs::remove_file(&temporary);
        let written = File::create_new(&temporary)
            .and_then(|mut file| io::Write::write_all(&mut file, text.as_bytes()));
        let _ = written.and_then(|()| fs::rename(&temporary, self.folder.join(FILE)));
    }
}

impl Observer for StatusFile {
    fn progress(&mut self, progress: &Progress) {
        let at = match &self.last {
            Some((_, at)) if at.elapsed() < PAUSE => *at,
            _ => {
                self.write(&RunStatus::of(progress, &self.currency, false));
                Instant::now()
            }
        };
        self.last = Some((progress.clone(), at));
    }

    fn happened(&mut self, what: &RunNews<'_>) {
        if let (RunNews::Over { .. }, Some((progress, _))) = (what, &self.last) {
            self.write(&RunStatus::of(progress, &self.currency, true));
        }
    }
}
