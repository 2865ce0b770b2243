//! A task, as far as it does not depend on its form, and the settings of its docket.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::answer::Submission;
use crate::digest::Digest;
use crate::image::Image;
use crate::limits::{Bytes, LimitSettings};
use crate::tree::Snapshot;

/// `docket.toml`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DocketSettings {
    /// What people call the docket.
    pub title: String,
    /// Which issue of it this is.
    #[serde(default = "first_version")]
    pub version: String,
    /// How much each category weighs in the share of points; 1 where nothing is said of it.
    #[serde(default)]
    pub weights: BTreeMap<String, f64>,
    /// Most that the folder may hold, in bytes.
    #[serde(default = "docket_size")]
    pub size: Bytes,
    /// Limits for tasks that set none.
    #[serde(default)]
    pub limits: LimitSettings,
}

const fn docket_size() -> Bytes {
    Bytes::mib(256)
}

fn first_version() -> String {
    "1".to_owned()
}

/// One task, without what its form knows.
#[derive(Debug, Clone, PartialEq)]
pub struct Task {
    /// The name of its folder, which is its name everywhere.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// The language of the answer.
    pub language: String,
    /// Such as `algorithms`.
    pub category: String,
    /// From 1, trivial, to 5, expert.
    pub difficulty: u8,
    /// What it is worth.
    pub points: f64,
    /// Free words.
    pub tags: Vec<String>,
    /// Limits of the task, over those of the docket.
    pub limits: LimitSettings,
    /// How often a failed attempt's tests are run again, to see whether they always fail.
    pub rerun_failures: u32,
    /// Whether a candidate learns after a failure how many of the sealed tests passed.
    pub tell_passed: bool,
    /// Packages that answers may import besides the language's standard library, by name.
    pub packages: Vec<String>,
    /// What candidates read, in Markdown.
    pub statement: String,
    /// Files that candidates get.
    pub given: Snapshot,
    /// Those of them that are shown as images with the first message.
    pub images: Vec<Image>,
    /// Answers known to be right or wrong.
    pub proofs: Vec<Proof>,
    /// The digest of everything in the task's folder but its proofs, which no candidate and no test sees.
    pub digest: Digest,
    /// The digest of everything in the task's folder, by which records of older versions know it.
    pub whole_digest: Digest,
}

impl Task {
    /// Whether a record means this task by a digest.
    #[must_use]
    pub fn is_of(&self, digest: &Digest) -> bool {
        self.digest == *digest || self.whole_digest == *digest
    }
}

/// One answer in `proofs/`. Its file or folder is called `right…` or `wrong…`.
#[derive(Debug, Clone, PartialEq)]
pub struct Proof {
    /// The name without extension, such as `wrong-off-by-one`.
    pub name: String,
    /// Whether it must pass.
    pub right: bool,
    /// The answer: files, or a patch.
    pub answer: Submission,
}
