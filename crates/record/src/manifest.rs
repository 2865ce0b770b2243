//! What a record says of the run as a whole.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use fairtrial_core::digest::Digest;
use fairtrial_core::language::LanguageDefinition;
use fairtrial_core::plan::Plan;
use serde::{Deserialize, Serialize};

use crate::{RecordError, files};

/// The newest format of a record, manifest and database, that this version reads and writes. Manifests
/// said 1 as long as databases had the layouts 1 and 2.
pub const FORMAT_VERSION: u32 = crate::migrations::NEWEST;

/// Longest manifest that is read, in bytes.
const LENGTH_MAX: u64 = 256 << 20;

/// The manifest's file.
pub(crate) const FILE: &str = "manifest.json";

/// What a record says of the run as a whole.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Manifest {
    /// The format of the whole record.
    pub format_version: u32,
    /// When the run was begun, in UTC, RFC 3339.
    pub created: String,
    /// The plan, as it was read.
    pub plan: Plan,
    /// The tasks, as they were.
    pub tasks: Vec<TaskNote>,
    /// Languages that the plan defined, as they were. They are shown and compared, and never used:
    /// they are commands, and a record may come from a stranger.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub languages: BTreeMap<String, LanguageDefinition>,
    /// Each session of the run: where it ran, by which version.
    pub machines: Vec<Machine>,
    /// What was changed after the run was begun that bears on the equal footing, the oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changes: Vec<PlanChange>,
    /// Candidates of earlier sessions that are no longer in the plan; their trials stay.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dropped_candidates: Vec<String>,
    /// Tasks of earlier sessions that are no longer in the dockets; their trials stay.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dropped_tasks: Vec<String>,
}

/// Something that was changed after a run was begun.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlanChange {
    /// When it was noticed, in UTC, RFC 3339.
    pub at: String,
    /// What, in words.
    pub what: String,
}

/// A task, as it was when the run was begun.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TaskNote {
    /// Its name.
    pub name: String,
    /// Its title.
    pub title: String,
    /// The docket it is from.
    pub docket: String,
    /// The docket's version.
    pub docket_version: String,
    /// Its category.
    pub category: String,
    /// Its difficulty, 1 to 5.
    pub difficulty: u8,
    /// Its language.
    pub language: String,
    /// Its form; empty in records of versions that did not say.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub form: String,
    /// Its tags.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// What it is worth.
    pub points: f64,
    /// What its docket says its category weighs; `None` where the docket weighs none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<f64>,
    /// The digest of its folder.
    pub digest: Digest,
}

/// Where a session of the run took place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Machine {
    /// The tool's version.
    pub fairtrial: String,
    /// The kernel, as `uname` has it.
    pub kernel: String,
    /// Interpreters and compilers.
    pub tools: Vec<ToolNote>,
    /// How code was confined; `None` in records of versions that did not say.
    #[serde(default)]
    pub sandbox: Option<SandboxNote>,
    /// When the session was begun, in UTC, RFC 3339.
    pub since: String,
}

/// How code under trial was confined.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SandboxNote {
    /// `full`, `plain` or `trusted`.
    pub tier: String,
    /// What was found of each layer, by its name.
    pub layers: BTreeMap<String, String>,
}

/// An interpreter or compiler.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToolNote {
    /// The language.
    pub language: String,
    /// What it said of its version, or why it is missing.
    pub version: String,
    /// Whether it is there.
    pub found: bool,
}

impl Machine {
    /// Whether two sessions ran under the same conditions.
    #[must_use]
    pub fn is_like(&self, other: &Self) -> bool {
        self.fairtrial == other.fairtrial
            && self.kernel == other.kernel
            && self.tools == other.tools
            && self.sandbox == other.sandbox
    }
}

impl Manifest {
    /// The tiers in which code was confined, each once, in the order of the sessions.
    #[must_use]
    pub fn tiers(&self) -> Vec<&str> {
        let mut tiers: Vec<&str> = Vec::new();
        for note in self.machines.iter().filter_map(|it| it.sandbox.as_ref()) {
            if !tiers.contains(&note.tier.as_str()) {
                tiers.push(&note.tier);
            }
        }
        tiers
    }
}

/// Only the version, to be read before anything else is believed.
#[derive(Deserialize)]
struct FormatVersion {
    format_version: u32,
}

impl Manifest {
    /// Reads the manifest of a record.
    ///
    /// # Errors
    /// When there is none, it is malformed, or of a newer format.
    pub fn read(record: &Path) -> Result<Self, RecordError> {
        let path = record.join(FILE);
        let Some(text) = files::read(&path, LENGTH_MAX)? else {
            return Err(RecordError::NotARecord(record.to_owned()));
        };
        let malformed = |source| RecordError::Manifest { path: path.clone(), source };
        let version: FormatVersion = serde_json::from_slice(&text).map_err(malformed)?;
        if version.format_version > FORMAT_VERSION {
            return Err(RecordError::Newer {
                what: "the manifest",
                path: record.to_owned(),
                found: version.format_version,
                known: FORMAT_VERSION,
            });
        }
        serde_json::from_slice(&text).map_err(malformed)
    }

    /// Writes the manifest: to a temporary name, synced, then renamed.
    ///
    /// # Errors
    /// When the disk refuses.
    pub(crate) fn write(&self, record: &Path) -> Result<(), RecordError> {
        let path = record.join(FILE);
        let temporary = record.join(format!("{FILE}.new"));
        let text = serde_json::to_string_pretty(self)
            .map_err(|source| RecordError::Manifest { path: path.clone(), source })?;
        // One that is left over, or a link that lies in wait there, makes room.
        match fs::remove_file(&temporary) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                return Err(files::io("remove", &temporary)(error));
            }
            _ => {}
        }
        let mut new = OpenOptions::new();
        new.write(true).create_new(true).custom_flags(libc::O_NOFOLLOW);
        let written = new.open(&temporary).and_then(|mut file| {
            file.write_all(text.as_bytes())?;
            file.write_all(b"\n")?;
            file.sync_all()
        });
        written
            .and_then(|()| fs::rename(&temporary, &path))
            .and_then(|()| File::open(record)?.sync_all())
            .map_err(|source| RecordError::Io { what: "write", path, source })
    }
}
