//! Reading trees of the store: without following links, and only what is asked for.

use std::fs::{self, File};
use std::io::{self, Read as _};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _};
use std::path::Path;

use fairtrial_core::tree::{Node, TreePath, WorkTree};
use nix::fcntl::{OFlag, OpenHow, ResolveFlag, openat2, readlinkat};

/// Reads every file and link below a folder, but for folders of git's own.
///
/// # Errors
/// When it cannot be read.
pub fn read_tree(folder: &Path) -> io::Result<WorkTree> {
    TreeFolder::open(folder)?.all()
}

/// Deepest folder that is gone through.
const DEPTH_MAX: usize = 256;

/// A tree of the store.
pub struct TreeFolder(OwnedFd);

impl TreeFolder {
    /// Opens one.
    pub fn open(path: &Path) -> io::Result<Self> {
        let flags = OFlag::O_DIRECTORY | OFlag::O_NOFOLLOW;
        let file = fs::OpenOptions::new().read(true).custom_flags(flags.bits()).open(path)?;
        Ok(Self(file.into()))
    }

    /// What stands under a path; `None` when it is neither a file nor a link, or only a link leads there.
    pub fn node(&self, path: &TreePath) -> io::Result<Option<Node>> {
        let Some(at) = self.open_within(path, OFlag::O_PATH)? else { return Ok(None) };
        let meta = File::from(at.try_clone()?).metadata()?;
        if meta.is_symlink() {
            // An empty name is the link itself that was opened.
            let to = readlinkat(&at, "")?;
            return Ok(Some(Node::Link { to: to.as_bytes().to_vec() }));
        }
        if !meta.is_file() {
            return Ok(None);
        }
        let Some(file) = self.open_within(path, OFlag::O_RDONLY | OFlag::O_NONBLOCK)? else {
            return Ok(None);
        };
        let mut bytes = Vec::new();
        File::from(file).read_to_end(&mut bytes)?;
        Ok(Some(Node::File { bytes: bytes.into(), executable: meta.mode() & 0o100 != 0 }))
    }

    /// Whether something stands under a path.
    pub fn has(&self, path: &TreePath) -> io::Result<bool> {
        Ok(self.open_within(path, OFlag::O_PATH)?.is_some())
    }

    fn open_within(&self, path: &TreePath, flags: OFlag) -> io::Result<Option<OwnedFd>> {
        let name = std::ffi::OsStr::from_bytes(path.as_bytes());
        match open_beneath(self.0.as_fd(), name, flags) {
            Ok(fd) => Ok(Some(fd)),
            Err(nix::Error::ENOENT | nix::Error::ENOTDIR | nix::Error::ELOOP) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// Everything in it but folders of git's own.
    pub fn all(&self) -> io::Result<WorkTree> {
        let mut tree = WorkTree::new();
        let mut left = vec![(Vec::new(), 0)];
        while let Some((prefix, depth)) = left.pop() {
            for name in self.names(&prefix)? {
                if name.eq_ignore_ascii_case(b".git") {
                    continue;
                }
                let path = [&prefix[..], &name[..]].concat();
                let Ok(path) = TreePath::parse(&path) else { continue };
                match self.node(&path)? {
                    Some(node) => tree.put(path, node),
                    None if depth < DEPTH_MAX => {
                        left.push(([path.as_bytes(), b"/"].concat(), depth + 1));
                    }
                    None => {}
                }
            }
        }
        Ok(tree)
    }

    /// The names in a folder; none where it is no folder.
    fn names(&self, prefix: &[u8]) -> io::Result<Vec<Vec<u8>>> {
        let folder = match prefix.strip_suffix(b"/") {
            None => Some(self.0.try_clone()?),
            Some(path) => {
                let path = TreePath::parse(path).map_err(io::Error::other)?;
                self.open_within(&path, OFlag::O_RDONLY | OFlag::O_DIRECTORY)?
            }
        };
        let Some(folder) = folder else { return Ok(Vec::new()) };
        let flags = OFlag::O_RDONLY | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC;
        let mut folder = nix::dir::Dir::openat(&folder, ".", flags, nix::sys::stat::Mode::empty())?;
        let mut names = Vec::new();
        for entry in folder.iter() {
            let name = entry?.file_name().to_bytes().to_vec();
            if !matches!(&name[..], b"." | b"..") {
                names.push(name);
            }
        }
        Ok(names)
    }
}

fn open_beneath(
    folder: BorrowedFd<'_>,
    name: &std::ffi::OsStr,
    flags: OFlag,
) -> nix::Result<OwnedFd> {
    let how = OpenHow::new()
        .flags(flags | OFlag::O_NOFOLLOW | OFlag::O_CLOEXEC)
        .resolve(ResolveFlag::RESOLVE_BENEATH | ResolveFlag::RESOLVE_NO_SYMLINKS);
    openat2(folder, name, how)
}
