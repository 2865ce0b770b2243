//! Files in a memory file, to be handed into and out of a sandbox by descriptor.
//!
//! The layout is a row of entries, each of which puts a file or a link or says that nothing is there: path length, a byte of flags, and content length, each
//! little-endian, then path and content. What comes out of a sandbox was packed by the supervisor, but
//! is read as if it were not: paths are checked, lengths are checked against what is there.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::FileExt as _;

use fairtrial_core::change::Change;
use fairtrial_core::tree::{FileTree, Node, Snapshot, TreePath};
use nix::sys::memfd::{MFdFlags, memfd_create};

/// Files in memory, ready to be handed over.
#[derive(Debug)]
pub struct Archive(File);

/// What an archive says of one path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArchiveEntry {
    /// Where it belongs.
    pub path: TreePath,
    /// What stands there; `None`: nothing does any longer.
    pub node: Option<Node>,
}

/// Flags of an entry.
const EXECUTABLE: u8 = 1;
const LINK: u8 = 2;
const GONE: u8 = 4;

/// Bytes of an entry before its path.
const HEAD: usize = 13;

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
            archive.write_entry(path.as_ref(), 0, bytes)?;
        }
        Ok(archive)
    }

    /// An archive of these files and links.
    ///
    /// # Errors
    /// When memory runs out.
    pub fn of_snapshot<P>(snapshot: &Snapshot<P>) -> Result<Self, ArchiveError>
    where
        P: Ord + AsRef<[u8]>,
    {
        let mut archive = Self::empty()?;
        for (path, node) in snapshot.iter() {
            archive.write_node(path.as_ref(), Some(node))?;
        }
        Ok(archive)
    }

    /// An archive that makes this change where it is unpacked.
    ///
    /// # Errors
    /// When memory runs out.
    pub fn of_change(change: &Change) -> Result<Self, ArchiveError> {
        let mut archive = Self::empty()?;
        // What goes makes room for what comes: a folder may take the place of a file.
        for (path, node) in change.iter().filter(|it| it.1.is_none()) {
            archive.write_node(path.as_bytes(), node)?;
        }
        for (path, node) in change.iter().filter(|it| it.1.is_some()) {
            archive.write_node(path.as_bytes(), node)?;
        }
        Ok(archive)
    }

    /// An archive behind a descriptor that was handed over.
    pub(crate) fn from_fd(fd: OwnedFd) -> Self {
        Self(File::from(fd))
    }

    fn write_node(&mut self, path: &[u8], node: Option<&Node>) -> Result<(), ArchiveError> {
        match node {
            Some(Node::File { bytes, executable: true }) => {
                self.write_entry(path, EXECUTABLE, bytes)
            }
            Some(Node::File { bytes, executable: false }) => self.write_entry(path, 0, bytes),
            Some(Node::Link { to }) => self.write_entry(path, LINK, to),
            None => self.write_entry(path, GONE, &[]),
        }
    }

    /// Says at the end that a link leads there.
    ///
    /// # Errors
    /// When memory runs out.
    pub(crate) fn write_link(&mut self, path: &[u8], to: &[u8]) -> Result<(), ArchiveError> {
        self.write_entry(path, LINK, to)
    }

    /// Says at the end that nothing stands there any longer.
    ///
    /// # Errors
    /// When memory runs out.
    pub(crate) fn write_gone(&mut self, path: &[u8]) -> Result<(), ArchiveError> {
        self.write_entry(path, GONE, &[])
    }

    fn write_entry(&mut self, path: &[u8], flags: u8, bytes: &[u8]) -> Result<(), ArchiveError> {
        self.write_head(path, flags, bytes.len() as u64)?;
        Ok(self.0.write_all(bytes)?)
    }

    /// Puts a file of `len` bytes at the end, as it is read: it never is in memory as a whole.
    ///
    /// # Errors
    /// When memory runs out, or the file is shorter than that.
    pub(crate) fn write_file(
        &mut self,
        path: &[u8],
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

    fn write_head(&mut self, path: &[u8], flags: u8, len: u64) -> io::Result<()> {
        let mut head = Vec::with_capacity(HEAD + path.len());
        head.extend((path.len() as u32).to_le_bytes());
        head.push(flags);
        head.extend(len.to_le_bytes());
        head.extend(path);
        self.0.write_all(&head)
    }

    /// Reads everything at once.
    ///
    /// # Errors
    /// When it is malformed.
    pub fn entries(&self) -> Result<Vec<ArchiveEntry>, ArchiveError> {
        self.reader()?.collect()
    }

    /// The regular files of it, under names that a person could have written.
    ///
    /// # Errors
    /// When it is malformed.
    pub fn files(&self) -> Result<FileTree, ArchiveError> {
        let mut files = FileTree::new();
        for entry in self.reader()? {
            let ArchiveEntry { path, node } = entry?;
            if let (Some(path), Some(Node::File { bytes, .. })) = (path.to_rel(), node) {
                files.insert(path, bytes.to_vec());
            }
        }
        Ok(files)
    }

    /// Reads one entry after the other.
    ///
    /// # Errors
    /// When its length cannot be had. Each entry can be malformed; none comes after one that is.
    pub fn reader(&self) -> Result<ArchiveReader<'_>, ArchiveError> {
        Ok(ArchiveReader { file: &self.0, at: 0, end: self.0.metadata()?.len() })
    }
}

/// The entries of an archive, in its order.
#[derive(Debug)]
pub struct ArchiveReader<'a> {
    file: &'a File,
    at: u64,
    end: u64,
}

impl ArchiveReader<'_> {
    fn entry(&mut self) -> Result<ArchiveEntry, ArchiveError> {
        let head = self.take(HEAD as u64)?;
        let (path_len, flags, len) = (&head[..4], head[4], &head[5..]);
        let path_len = u32::from_le_bytes(path_len.try_into().unwrap_or_default());
        let len = u64::from_le_bytes(len.try_into().unwrap_or_default());
        let path = TreePath::parse(&self.take(path_len.into())?)
            .map_err(|_| ArchiveError::Malformed("a path leads elsewhere"))?;
        let bytes = self.take(len)?;
        if flags & LINK != 0 && (bytes.is_empty() || bytes.len() > Snapshot::LINK_MAX) {
            return Err(ArchiveError::Malformed("a link leads nowhere"));
        }
        let node = match flags {
            _ if flags & GONE != 0 => None,
            _ if flags & LINK != 0 => Some(Node::Link { to: bytes }),
            _ => {
                let executable = flags & EXECUTABLE != 0;
                Some(Node::File { bytes: bytes.into(), executable })
            }
        };
        Ok(ArchiveEntry { path, node })
    }

    /// The next bytes. The offset of the file is shared with every process that has the descriptor, so
    /// it is left alone.
    fn take(&mut self, count: u64) -> Result<Vec<u8>, ArchiveError> {
        if count > self.end - self.at {
            return Err(ArchiveError::Malformed("it ends in the middle of a file"));
        }
        let mut bytes = vec![0; count as usize];
        self.file.read_exact_at(&mut bytes, self.at)?;
        self.at += count;
        Ok(bytes)
    }
}

impl Iterator for ArchiveReader<'_> {
    type Item = Result<ArchiveEntry, ArchiveError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.at >= self.end {
            return None;
        }
        let entry = self.entry();
        if entry.is_err() {
            self.at = self.end;
        }
        Some(entry)
    }
}

impl AsFd for Archive {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.0.as_fd()
    }
}

#[cfg(test)]
mod tests {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt as _;

    use proptest::prelude::*;

    use super::*;

    #[test]
    fn files_survive_and_can_be_read_twice() {
        let path = fairtrial_core::tree::RelPath::parse("a/b.txt").unwrap();
        let archive = Archive::of(&FileTree::from([(path.clone(), vec![1, 2, 3])])).unwrap();
        for _ in 0..2 {
            let entries = archive.entries().unwrap();
            let node = Node::File { bytes: [1, 2, 3].into(), executable: false };
            assert_eq!(entries, [ArchiveEntry { path: (&path).into(), node: Some(node) }]);
        }
    }

    #[test]
    fn a_change_takes_away_before_it_puts() {
        let path = |text: &str| TreePath::parse(text.as_bytes()).unwrap();
        let link = Node::Link { to: b"x".to_vec() };
        let change = Change::from_iter([(path("a/b"), Some(link.clone())), (path("z"), None)]);
        let entries = Archive::of_change(&change).unwrap().entries().unwrap();
        let expected = [(path("z"), None), (path("a/b"), Some(link))];
        assert_eq!(entries.into_iter().map(|it| (it.path, it.node)).collect::<Vec<_>>(), expected);
    }

    #[test]
    fn what_is_malformed_is_refused() {
        let mut archive = Archive::empty().unwrap();
        archive.write_entry(b"../x", 0, b"").unwrap();
        assert!(matches!(archive.entries(), Err(ArchiveError::Malformed(_))));
        let mut archive = Archive::empty().unwrap();
        archive.write_entry(b"x", 0, b"1234").unwrap();
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
                    let path = std::path::Path::new(OsStr::from_bytes(entry.path.as_bytes()));
                    prop_assert!(path.components().all(|it| matches!(it, std::path::Component::Normal(_))));
                }
            }
        }
    }
}
