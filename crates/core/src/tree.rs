//! Files in memory, under paths that cannot leave the folder they are meant for.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Deserializer, Serialize};

/// A relative path of ordinary parts: no `..`, no leading `/`, no control characters.
///
/// Every path that comes from an answer, a patch or a docket goes through this type before it
/// touches a file system.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(transparent)]
pub struct RelPath(String);

/// Why a text is no [`RelPath`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{path}` is not a usable file path: {why}")]
pub struct PathError {
    /// The text, with control characters escaped.
    pub path: String,
    /// What is wrong with it.
    pub why: &'static str,
}

impl RelPath {
    /// Longest path taken, in bytes.
    pub const MAX: usize = 255;

    /// Checks a path. A leading `./` is dropped.
    ///
    /// # Errors
    /// When it is empty, absolute, too long, or has a part that is empty, `.` or `..`, a
    /// backslash, or a control character.
    pub fn parse(text: &str) -> Result<Self, PathError> {
        let fail = |why| Err(PathError { path: text.escape_debug().to_string(), why });
        let path = text.strip_prefix("./").unwrap_or(text);
        if path.is_empty() {
            return fail("it is empty");
        }
        if path.len() > Self::MAX {
            return fail("it is longer than 255 bytes");
        }
        if path.chars().any(|c| c.is_control() || c == '\\') {
            return fail("it has a control character or a backslash");
        }
        if path.starts_with('/') {
            return fail("it is absolute");
        }
        if path.split('/').any(|part| matches!(part, "" | "." | "..")) {
            return fail("it has an empty part, `.` or `..`");
        }
        Ok(Self(path.to_owned()))
    }

    /// The path as text, parts separated by `/`.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The last part.
    #[must_use]
    pub fn file_name(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or(&self.0)
    }

    /// What follows the last dot of the last part; empty without one.
    #[must_use]
    pub fn extension(&self) -> &str {
        self.file_name().rsplit_once('.').map_or("", |(_, ext)| ext)
    }

    /// The last part without its extension.
    #[must_use]
    pub fn stem(&self) -> &str {
        let name = self.file_name();
        name.rsplit_once('.').map_or(name, |(stem, _)| stem)
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl<'de> Deserialize<'de> for RelPath {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        Self::parse(&text).map_err(serde::de::Error::custom)
    }
}

/// Files by path, in path order.
pub type FileTree = BTreeMap<RelPath, Vec<u8>>;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ordinary_paths_are_taken() {
        for path in ["a.py", "src/lib.rs", "./x/y.z", "a b/c", "...", ".hidden"] {
            assert!(RelPath::parse(path).is_ok(), "{path}");
        }
        let path = RelPath::parse("./src/tide.gap.py").unwrap();
        assert_eq!((path.stem(), path.extension()), ("tide.gap", "py"));
    }

    #[test]
    fn paths_that_lead_elsewhere_are_refused() {
        for path in ["", "/etc/passwd", "../x", "a/../../x", "a//b", "a/.", "a\\b", "a\0b", "a\n"] {
            assert!(RelPath::parse(path).is_err(), "{path:?}");
        }
        assert!(RelPath::parse(&"x/".repeat(200)).is_err());
    }
}
