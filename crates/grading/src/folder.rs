//! Dockets and answers from the disk into memory.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use fairtrial_core::docket::Docket;
use fairtrial_core::recipe::Recipes;
use fairtrial_core::source::SourceError;
use fairtrial_core::tree::{FileTree, PathError, RelPath};

/// Most bytes that a folder of tasks or an answer may hold.
const BYTES_MAX: u64 = 256 << 20;

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
    /// Too much to be a folder of tasks.
    #[error("`{0}` holds more than 256 MiB")]
    TooLarge(PathBuf),
    /// What is in it is malformed.
    #[error(transparent)]
    Source(#[from] SourceError),
}

/// Reads every regular file below a folder. Names that begin with a dot are left out; symbolic
/// links are not followed.
///
/// # Errors
/// When something cannot be read, or there is more than 256 MiB.
pub fn read_folder(folder: &Path) -> Result<FileTree, FolderError> {
    let mut files = FileTree::new();
    let mut left = BYTES_MAX;
    read_into(folder, folder, &mut files, &mut left)?;
    Ok(files)
}

fn read_into(
    top: &Path,
    folder: &Path,
    files: &mut FileTree,
    left: &mut u64,
) -> Result<(), FolderError> {
    let io = |path: &Path| {
        let path = path.to_owned();
        move |source| FolderError::Io { path, source }
    };
    for entry in fs::read_dir(folder).map_err(io(folder))? {
        let entry = entry.map_err(io(folder))?;
        let path = entry.path();
        let kind = entry.file_type().map_err(io(&path))?;
        if entry.file_name().to_string_lossy().starts_with('.') {
            continue;
        }
        if kind.is_dir() {
            read_into(top, &path, files, left)?;
        } else if kind.is_file() {
            let size = entry.metadata().map_err(io(&path))?.len();
            *left = left.checked_sub(size).ok_or_else(|| FolderError::TooLarge(top.to_owned()))?;
            let name = path.strip_prefix(top).unwrap_or(&path).to_string_lossy();
            let name = RelPath::parse(&name)
                .map_err(|source| FolderError::Path { folder: top.to_owned(), source })?;
            files.insert(name, fs::read(&path).map_err(io(&path))?);
        }
    }
    Ok(())
}

/// Reads a docket.
///
/// # Errors
/// When its folder cannot be read, or anything in it is malformed.
pub fn read_docket(folder: &Path, recipes: &Recipes) -> Result<Docket, FolderError> {
    let files = read_folder(folder)?;
    Ok(Docket::parse(&folder.display().to_string(), &files, recipes)?)
}
