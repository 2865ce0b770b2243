//! Files in a memory file, to be handed into and out of a sandbox by descriptor.
//!
//! The layout is a row of entries: path length, a byte of flags, and content length, each
//! little-endian, then path and content. What comes out of a sandbox was packed by the supervisor, but
//! is read as if it were not: paths are checked, lengths are checked against what is there.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::FileExt as _;

use fairtrial_core::tree::{FileTree, Node, RelPath, Snapshot};
use nix::sys::memfd::{MFdFlags, memfd_create};

/// Files in memory, ready to be handed over.
#[derive(Debug)]
pub struct Archive(File);

/// One file or link of an archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArchiveEntry {
    /// Where it belongs.
    pub path: RelPath,
    /// Whether it may be run.
    pub executable: bool,
    /// Whether it is a symbolic link; then its content is where it leads.
    pub is_link: bool,
    /// Its content.
    pub bytes: Vec<u8>,
}

/// Flags of an entry.
const EXECUTABLE: u8 = 1;
const LINK: u8 = 2;

/// Why files could not be packed or unpacked.
#[derive(Debug, thiserror::Error)]
pub enum ArchiveError {
    /// Memory could not be had, or the kernel refused.
    #[error("failed to keep files in memory")]
    Io(#[from] io::Error),
    /// What was read is not an archive.
    #[error("the archive of a sandbox's files is malformed: {0}")]
    Malformed(&'static str),
}

impl Archive {
    /// An empty archive.
    ///
    /// # Errors
    /// When the kernel gives no memory file.
    pub fn empty() -> Result<Self, ArchiveError> {
        let fd = memfd_create("fairtrial-files", MFdFlags::MFD_CLOEXEC).map_err(io::Error::from)?;
        Ok(Self(File::from(fd)))
    }

    /// An archive of these files, none of them executable.
    ///
    /// # Errors
    /// When memory runs out.
    pub fn of(files: &FileTree) -> Result<Self, ArchiveError> {
        let mut archive = Self::empty()?;
        for (path, bytes) in files {
            archive.write_entry(path.as_str(), 0, bytes)?;
        }
        Ok(archive)
    }

    /// An archive of these files and links.
    ///
    /// # Errors
    /// When memory runs out.
    pub fn of_snapshot(snapshot: &Snapshot) -> Result<Self, ArchiveError> {
        let mut archive = Self::empty()?;
        for (path, node) in snapshot.iter() {
            match node {
                Node::File { bytes, executable } => {
                    let flags = if *executable { EXECUTABLE } else { 0 };
                    archive.write_entry(path.as_str(), flags, bytes)?;
                }
                Node::Link { to } => archive.write_entry(path.as_str(), LINK, to.as_bytes())?,
            }
        }
        Ok(archive)
    }

    /// An archive behind a descriptor that was handed over.
    pub(crate) fn from_fd(fd: OwnedFd) -> Self {
        Self(File::from(fd))
    }

    /// Puts a file at the end.
    ///
    /// # Errors
    /// When memory runs out.
    fn write_entry(&mut self, path: &str, flags: u8, bytes: &[u8]) -> Result<(), ArchiveError> {
        self.write_head(path, flags, bytes.len() as u64)?;
        Ok(self.0.write_all(bytes)?)
    }

    /// Puts a file of `len` bytes at the end, as it is read: it never is in memory as a whole.
    ///
    /// # Errors
    /// When memory runs out, or the file is shorter than that.
    pub(crate) fn write_file(
        &mut self,
        path: &str,
        executable: bool,
        file: &mut File,
        len: u64,
    ) -> Result<(), ArchiveError> {
        let flags = if executable { EXECUTABLE } else { 0 };
        self.write_head(path, flags, len)?;
        match io::copy(&mut file.take(len), &mut self.0)? {
            copied if copied == len => Ok(()),
            _ => Err(ArchiveError::Malformed("a file became shorter while it was read")),
        }
    }

    fn write_head(&mut self, path: &str, flags: u8, len: u64) -> io::Result<()> {
        let mut head = Vec::with_capacity(16 + path.len());
        head.extend((path.len() as u32).to_le_bytes());
        head.push(flags);
        head.extend(len.to_le_bytes());
        head.extend(path.as_bytes());
        self.0.write_all(&head)
    }

    /// Reads all files.
    ///
    /// # Errors
    /// When it is malformed.
    pub fn entries(&self) -> Result<Vec<ArchiveEntry>, ArchiveError> {
        // The offset is shared with every process that has the descriptor, so it is left alone.
        let bytes = self.bytes()?;
        let (mut rest, mut entries) = (bytes.as_slice(), Vec::new());
        while !rest.is_empty() {
            let head = take(&mut rest, 13)?;
            let (path_len, flags, len) = (&head[..4], head[4], &head[5..]);
            let path_len = u32::from_le_bytes(path_len.try_into().unwrap_or_default()) as usize;
            let len = u64::from_le_bytes(len.try_into().unwrap_or_default()) as usize;
            let path = std::str::from_utf8(take(&mut rest, path_len)?)
                .map_err(|_| ArchiveError::Malformed("a path is not UTF-8"))?;
            let path = RelPath::parse(path)
                .map_err(|_| ArchiveError::Malformed("a path leads elsewhere"))?;
            let bytes = take(&mut rest, len)?.to_vec();
            let (executable, is_link) = (flags & EXECUTABLE != 0, flags & LINK != 0);
            if is_link && (bytes.is_empty() || bytes.len() > Snapshot::LINK_MAX) {
                return Err(ArchiveError::Malformed("a link leads nowhere"));
            }
            entries.push(ArchiveEntry { path, executable, is_link, bytes });
        }
        Ok(entries)
    }

    fn bytes(&self) -> Result<Vec<u8>, ArchiveError> {
        let len = usize::try_from(self.0.metadata()?.len());
        let mut bytes = vec![0; len.map_err(|_| ArchiveError::Malformed("it is too long"))?];
        self.0.read_exact_at(&mut bytes, 0)?;
        Ok(bytes)
    }
}

impl AsFd for Archive {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.0.as_fd()
    }
}

fn take<'a>(rest: &mut &'a [u8], count: usize) -> Result<&'a [u8], ArchiveError> {
    let (taken, left) = rest
        .split_at_checked(count)
        .ok_or(ArchiveError::Malformed("it ends in the middle of a file"))?;
    *rest = left;
    Ok(taken)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn files_survive_and_can_be_read_twice() {
        let path = RelPath::parse("a/b.txt").unwrap();
        let archive = Archive::of(&FileTree::from([(path.clone(), vec![1, 2, 3])])).unwrap();
        for _ in 0..2 {
            let entries = archive.entries().unwrap();
            assert_eq!(
                entries,
                [ArchiveEntry {
                    path: path.clone(),
                    executable: false,
                    is_link: false,
                    bytes: vec![1, 2, 3]
                }]
            );
        }
    }

    #[test]
    fn what_is_malformed_is_refused() {
        let mut archive = Archive::empty().unwrap();
        archive.write_entry("../x", 0, b"").unwrap();
        assert!(matches!(archive.entries(), Err(ArchiveError::Malformed(_))));
        let mut archive = Archive::empty().unwrap();
        archive.write_entry("x", 0, b"1234").unwrap();
        archive.0.set_len(15).unwrap();
        assert!(matches!(archive.entries(), Err(ArchiveError::Malformed(_))));
    }

    /// An archive of these bytes.
    fn raw(bytes: &[u8]) -> Archive {
        let mut archive = Archive::empty().unwrap();
        archive.0.write_all(bytes).unwrap();
        archive
    }

    #[test]
    fn lengths_that_are_not_there_are_refused() {
        for len in [5_u64, u64::MAX, u64::MAX - 12, 1 << 40] {
            let head = [&1_u32.to_le_bytes()[..], &[0], &len.to_le_bytes(), b"x", b"1234"].concat();
            assert!(matches!(raw(&head).entries(), Err(ArchiveError::Malformed(_))), "{len}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]

        #[test]
        fn no_bytes_make_the_reader_panic_or_leave_the_folder(
            bytes in proptest::collection::vec(any::<u8>(), 0..200),
            paths in proptest::collection::vec("[a./\\\\\u{0}]{0,8}", 0..4),
        ) {
            let mut all = Vec::new();
            for path in &paths {
                all.extend((path.len() as u32).to_le_bytes());
                all.extend([1, 2, 0, 0, 0, 0, 0, 0, 0]);
                all.extend(path.as_bytes());
                all.extend(b"ab");
            }
            for bytes in [&all[..], &bytes[..], &[&all[..], &bytes[..]].concat()] {
                for entry in raw(bytes).entries().unwrap_or_default() {
                    let path = std::path::Path::new(entry.path.as_str());
                    prop_assert!(path.components().all(|it| matches!(it, std::path::Component::Normal(_))));
                }
            }
        }
    }
}
