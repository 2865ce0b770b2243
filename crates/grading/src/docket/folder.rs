//! Dockets and answers from the disk into memory.

use std::fs::{self, OpenOptions};
use std::io::{self, Read as _};
use std::os::unix::ffi::OsStringExt as _;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use fairtrial_core::language::Languages;
use fairtrial_core::limits::Bytes;
use fairtrial_core::source::{SourceError, parse_toml};
use fairtrial_core::tree::{Node, PathError, RelPath, Snapshot};

use serde::Deserialize;

use super::Docket;

/// Most bytes that a folder of tasks may hold where its settings do not say.
const BYTES_MAX: u64 = 256 << 20;

/// Most bytes that the settings of a docket may have.
const SETTINGS_MAX: u64 = 1 << 20;

/// Why a folder could not be read.
#[derive(Debug, thiserror::Error)]
pub enum FolderError {
    /// The disk, or the lack of something on it.
    #[error("failed to read `{path}`")]
    Io {
        /// What was to be read.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: io::Error,
    },
    /// A file name that cannot be used.
    #[error("in `{folder}`")]
    Path {
        /// The folder.
        folder: PathBuf,
        /// What is wrong with the name.
        #[source]
        source: PathError,
    },
    /// Too much to be a folder of tasks, or a file that somebody wrote.
    #[error("`{path}` holds more than {most_mib} MiB")]
    TooLarge {
        /// The folder or file.
        path: PathBuf,
        /// Most that is read.
        most_mib: u64,
    },
    /// More than a docket may hold.
    #[error("`{path}` holds more than {most_mib} MiB; `size` in its `docket.toml` allows more")]
    DocketTooLarge {
        /// The folder.
        path: PathBuf,
        /// Most that it may hold.
        most_mib: u64,
    },
    /// A pipe, a device or the like.
    #[error("`{0}` is no regular file")]
    NotAFile(PathBuf),
    /// What is in it is malformed.
    #[error(transparent)]
    Source(#[from] SourceError),
}

/// Reads a file that may come from anywhere: a regular one, of at most `most` bytes.
///
/// # Errors
/// When it is something else, is longer, or cannot be read.
pub fn read_file(path: &Path, most: u64) -> Result<Vec<u8>, FolderError> {
    let io = |source| FolderError::Io { path: path.to_owned(), source };
    // A pipe without a writer must not be waited for.
    let opened = OpenOptions::new().read(true).custom_flags(O_NONBLOCK).open(path);
    let file = opened.map_err(io)?;
    if !file.metadata().map_err(io)?.is_file() {
        return Err(FolderError::NotAFile(path.to_owned()));
    }
    let mut bytes = Vec::new();
    file.take(most + 1).read_to_end(&mut bytes).map_err(io)?;
    if bytes.len() as u64 > most {
        return Err(FolderError::TooLarge { path: path.to_owned(), most_mib: most >> 20 });
    }
    Ok(bytes)
}

/// `O_NONBLOCK`, open(2).
const O_NONBLOCK: i32 = 0o4000;

/// Reads everything below a folder: regular files with their modes, and symbolic links, which are not
/// followed. In the folder itself and in its folders, names that begin with a dot are left out; further
/// below they belong to it.
///
/// # Errors
/// When something cannot be read, or there is more than `most` bytes.
pub fn read_folder(folder: &Path, most: u64) -> Result<Snapshot, FolderError> {
    let mut reading = FolderReading { top: folder, tree: Snapshot::new(), most, left: most };
    reading.read(folder, 0)?;
    Ok(reading.tree)
}

/// How deep names that begin with a dot are somebody's own, such as `.git`.
const OWN_DOTS: usize = 2;

/// A folder, as far as it is read.
struct FolderReading<'a> {
    top: &'a Path,
    tree: Snapshot,
    most: u64,
    left: u64,
}

impl FolderReading<'_> {
    fn read(&mut self, folder: &Path, depth: usize) -> Result<(), FolderError> {
        let io = |path: &Path| {
            let path = path.to_owned();
            move |source| FolderError::Io { path, source }
        };
        for entry in fs::read_dir(folder).map_err(io(folder))? {
            let entry = entry.map_err(io(folder))?;
            let path = entry.path();
            let kind = entry.file_type().map_err(io(&path))?;
            if depth < OWN_DOTS && entry.file_name().to_string_lossy().starts_with('.') {
                continue;
            }
            if kind.is_dir() {
                self.read(&path, depth + 1)?;
            } else if kind.is_file() {
                let mode = entry.metadata().map_err(io(&path))?.permissions().mode();
                let bytes = self.bytes(&path)?.into();
                self.put(&path, Node::File { bytes, executable: mode & 0o100 != 0 })?;
            } else if kind.is_symlink() && depth >= OWN_DOTS {
                let to = fs::read_link(&path).map_err(io(&path))?;
                self.put(&path, Node::Link { to: to.into_os_string().into_vec() })?;
            }
        }
        Ok(())
    }

    fn bytes(&mut self, path: &Path) -> Result<Vec<u8>, FolderError> {
        let bytes = read_file(path, self.left).map_err(|error| match error {
            FolderError::TooLarge { .. } => {
                FolderError::DocketTooLarge { path: self.top.to_owned(), most_mib: self.most >> 20 }
            }
            other => other,
        })?;
        self.left -= bytes.len() as u64;
        Ok(bytes)
    }

    fn put(&mut self, path: &Path, node: Node) -> Result<(), FolderError> {
        let name = path.strip_prefix(self.top).unwrap_or(path).to_string_lossy();
        let name = RelPath::parse(&name)
            .map_err(|source| FolderError::Path { folder: self.top.to_owned(), source })?;
        self.tree.put(name, node);
        Ok(())
    }
}

/// What a docket may hold, as its settings say. Whatever is wrong with them is reported when it is read.
fn size_of(folder: &Path) -> u64 {
    #[derive(Deserialize)]
    struct Size {
        size: Option<Bytes>,
    }
    let settings = read_file(&folder.join(super::SETTINGS), SETTINGS_MAX).ok();
    let text = settings.and_then(|it| String::from_utf8(it).ok()).unwrap_or_default();
    let size = parse_toml::<Size>(super::SETTINGS, &text).ok().and_then(|it| it.size);
    size.map_or(BYTES_MAX, |it| it.0)
}

/// Reads a docket.
///
/// # Errors
/// When its folder cannot be read, or anything in it is malformed.
pub fn read_docket(folder: &Path, languages: &Languages) -> Result<Docket, FolderError> {
    let files = read_folder(folder, size_of(folder))?;
    Ok(Docket::parse(&folder.display().to_string(), &files, languages)?)
}
