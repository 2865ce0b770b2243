//! Files that are taken out of repositories before anybody sees them.

use fairtrial_core::tree::WorkTree;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};

/// Patterns of files, where `*` stays within a folder and `**` does not.
#[derive(Debug, Clone, Default)]
pub struct LeftOut {
    set: GlobSet,
    patterns: Vec<String>,
}

impl LeftOut {
    /// Reads patterns.
    ///
    /// # Errors
    /// Says which one is none.
    pub fn parse(patterns: &[String]) -> Result<Self, String> {
        let mut set = GlobSetBuilder::new();
        for pattern in patterns {
            let glob = GlobBuilder::new(pattern).literal_separator(true).build();
            set.add(glob.map_err(|error| error.to_string())?);
        }
        let set = set.build().map_err(|error| error.to_string())?;
        Ok(Self { set, patterns: patterns.to_vec() })
    }

    /// What is left of a repository.
    pub(crate) fn without(&self, mut files: WorkTree) -> WorkTree {
        let out = files.iter().map(|it| it.0).filter(|it| self.set.is_match(it.to_string()));
        for path in out.cloned().collect::<Vec<_>>() {
            files.remove(&path);
        }
        files
    }

    /// What is the same only for equal patterns; empty where there are none.
    pub(crate) fn text(&self) -> String {
        self.patterns.iter().map(|it| format!("\0l{it}")).collect()
    }
}
