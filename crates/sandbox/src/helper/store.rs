//! Trees of the store: views of them for runs, what runs changed, and new ones.
//!
//! A view is an overlay where the kernel has that: the tree below, what the run writes above it, in its own
//! sized file system. Else it is a copy. What a run left is looked at only when its processes are dead, and
//! by descriptors, so that no link is ever followed.

use std::ffi::{CStr, CString, OsStr};
use std::fs::{self, File, Permissions};
use std::io::{self, Read as _};
use std::os::fd::{AsFd as _, AsRawFd as _, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{PermissionsExt as _, chown};
use std::path::Path;

use nix::dir::Dir;
use nix::fcntl::{AtFlags, OFlag, open, openat, readlinkat};
use nix::mount::{MntFlags, mount, umount2};
use nix::sys::stat::{
    FchmodatFlags, FileStat, Mode, SFlag, UtimensatFlags, fchmod, fchmodat, fstatat, futimens,
    mkdirat, utimensat,
};
use nix::sys::time::TimeSpec;
use nix::unistd::{Gid, Uid, fchownat, symlinkat};

use super::failure::SetUpFailure;
use super::root::{QUIET_DIR, STORE, failed_at};
use crate::archive::Archive;
use crate::job::{TreeView, WORK};

/// Deepest folder that is gone through.
const DEPTH_MAX: usize = 256;

/// Longest path that is taken along, in bytes.
const PATH_MAX: usize = 4000;

/// What a view consists of, held open.
pub struct ViewFolders {
    /// The tree itself.
    lower: OwnedFd,
    /// What the run wrote; the same as `merged` in a copy.
    upper: OwnedFd,
    /// What the run sees.
    merged: OwnedFd,
    pub view: TreeView,
    /// Bytes of the tree that count as the run's own, since they were copied.
    pub copied: u64,
}

/// Takes the store away from the run, whether it has a view or not.
pub fn hide() -> Result<(), String> {
    umount2(STORE, MntFlags::MNT_DETACH).map_err(|error| format!("hiding the store: {error}"))
}

/// Makes the work folder, empty so far, a view of a tree. `owner` is whose copies become; `on_own_mount`
/// says that the work folder is a file system of the run's own.
pub fn open_view(
    tree: &Path,
    work: &Path,
    owner: Option<u32>,
    on_own_mount: bool,
) -> Result<ViewFolders, SetUpFailure> {
    let lower = open_folder(tree)
        .map_err(|error| SetUpFailure::Failed(failed_at("the prepared tree", tree, &error)))?;
    if let Some(id) = owner.filter(|_| on_own_mount)
        && let Some((upper, merged)) = overlay(tree, id)?
    {
        return Ok(ViewFolders { lower, upper, merged, view: TreeView::Overlay, copied: 0 });
    }
    let open_work = || open_folder(work).map_err(|error| failed_at("opening", work, &error));
    let merged = open_work()?;
    let mut copying = Copying { owner, reflinked: true, bytes: 0 };
    copying.folder(lower.as_fd(), merged.as_fd(), 0).map_err(|error| match error.kind() {
        io::ErrorKind::StorageFull => SetUpFailure::Full,
        _ => SetUpFailure::Failed(format!("copying the prepared tree: {error}")),
    })?;
    let view = if copying.reflinked { TreeView::Reflinks } else { TreeView::Copies };
    Ok(ViewFolders { lower, upper: open_work()?, merged, view, copied: copying.bytes })
}

/// Mounts an overlay on the work folder. `None` where the kernel has none for us.
fn overlay(tree: &Path, id: u32) -> Result<Option<(OwnedFd, OwnedFd)>, SetUpFailure> {
    let work = Path::new(WORK);
    let (up, aside) = (work.join("up"), work.join("aside"));
    for folder in [&up, &aside] {
        fs::create_dir(folder).map_err(|error| failed_at("folder", folder, &error))?;
    }
    chown(&up, Some(id), Some(id)).map_err(|error| failed_at("owner of", &up, &error))?;
    fs::set_permissions(&up, Permissions::from_mode(0o755))
        .map_err(|error| failed_at("mode of", &up, &error))?;
    let upper = open_folder(&up).map_err(|error| failed_at("opening", &up, &error))?;
    let folders = format!(
        "lowerdir={},upperdir={},workdir={}",
        tree.display(),
        up.display(),
        aside.display()
    );
    // What is in memory is synced for nobody; marks of the user's are all that an ordinary user may set.
    let mounted = ["userxattr,volatile", "userxattr", "xino=off"].iter().any(|more| {
        let options = format!("{folders},{more}");
        mount(Some("overlay"), work, Some("overlay"), QUIET_DIR, Some(options.as_str())).is_ok()
    });
    if mounted {
        let merged = open_folder(work).map_err(|error| failed_at("opening", work, &error))?;
        return Ok(Some((upper, merged)));
    }
    drop(upper);
    for folder in [&up, &aside] {
        fs::remove_dir_all(folder).map_err(|error| failed_at("removing", folder, &error))?;
    }
    Ok(None)
}

fn open_folder(path: &Path) -> nix::Result<OwnedFd> {
    open(path, OFlag::O_RDONLY | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC, Mode::empty())
}

/// One thing in a folder.
struct Entry {
    name: CString,
    stat: FileStat,
}

impl Entry {
    fn kind(&self) -> SFlag {
        SFlag::from_bits_truncate(self.stat.st_mode) & SFlag::S_IFMT
    }

    fn is_runnable(&self) -> bool {
        self.stat.st_mode & 0o100 != 0
    }

    fn len(&self) -> u64 {
        self.stat.st_size.unsigned_abs()
    }

    fn mode(&self) -> Mode {
        Mode::from_bits_truncate(self.stat.st_mode & 0o777)
    }

    fn times(&self) -> (TimeSpec, TimeSpec) {
        let time = TimeSpec::new(self.stat.st_mtime, self.stat.st_mtime_nsec);
        (time, time)
    }
}

/// What is in a folder, by name.
fn entries(folder: BorrowedFd<'_>) -> io::Result<Vec<Entry>> {
    let flags = OFlag::O_RDONLY | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC;
    let mut out = Vec::new();
    for entry in Dir::openat(folder, ".", flags, Mode::empty())?.iter() {
        let name = entry?.file_name().to_owned();
        if matches!(name.to_bytes(), b"." | b"..") {
            continue;
        }
        out.extend(find(folder, &name)?);
    }
    out.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(out)
}

fn find(folder: BorrowedFd<'_>, name: &CStr) -> io::Result<Option<Entry>> {
    match fstatat(folder, name, AtFlags::AT_SYMLINK_NOFOLLOW) {
        Ok(stat) => Ok(Some(Entry { name: name.to_owned(), stat })),
        Err(nix::Error::ENOENT | nix::Error::ENOTDIR) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// Opens a file or a folder to be read, with that right given to its owner where it lacks.
fn open_in(folder: BorrowedFd<'_>, entry: &Entry) -> io::Result<OwnedFd> {
    let is_folder = entry.kind() == SFlag::S_IFDIR;
    let kind = if is_folder { OFlag::O_DIRECTORY } else { OFlag::O_NONBLOCK };
    let flags = OFlag::O_RDONLY | OFlag::O_NOFOLLOW | OFlag::O_CLOEXEC | kind;
    let attempt = || openat(folder, entry.name.as_c_str(), flags, Mode::empty());
    let opened = attempt().or_else(|error| {
        if error != nix::Error::EACCES {
            return Err(error);
        }
        let mode = if is_folder { Mode::S_IRWXU } else { Mode::S_IRUSR | Mode::S_IWUSR };
        // It is no link, and nobody is left who could put one in its place.
        fchmodat(folder, entry.name.as_c_str(), mode, FchmodatFlags::FollowSymlink)?;
        attempt()
    });
    Ok(opened?)
}

/// Packs what a run changed of its tree.
///
/// # Errors
/// When it is more than `most` bytes, or cannot be read.
pub fn collect_changes(
    folders: &ViewFolders,
    skip: &[String],
    into: &mut Archive,
    most: u64,
) -> Result<(), String> {
    let mut collecting = Collecting { skip, into, left: most, path: Vec::new(), depth: 0 };
    let (upper, merged) = (folders.upper.as_fd(), folders.merged.as_fd());
    collecting
        .folder(upper, Some(folders.lower.as_fd()), Some(merged))
        .map_err(|error| error.to_string())
}

struct Collecting<'a> {
    skip: &'a [String],
    into: &'a mut Archive,
    left: u64,
    path: Vec<u8>,
    depth: usize,
}

/// What an entry takes in an archive besides its name and its bytes, at most.
const ENTRY: u64 = 64;

impl Collecting<'_> {
    fn folder(
        &mut self,
        upper: BorrowedFd<'_>,
        lower: Option<BorrowedFd<'_>>,
        merged: Option<BorrowedFd<'_>>,
    ) -> io::Result<()> {
        for entry in entries(upper)? {
            self.within(&entry.name.clone(), |it| it.entry(upper, lower, merged, &entry))?;
        }
        let (Some(lower), Some(merged)) = (lower, merged) else { return Ok(()) };
        for entry in entries(lower)? {
            if find(merged, &entry.name)?.is_none() {
                self.within(&entry.name, |it| {
                    it.take_room(0)?;
                    it.into.write_gone(&it.path).map_err(io::Error::other)
                })?;
            }
        }
        Ok(())
    }

    /// Does something about a name in the current folder, unless it is left out.
    fn within(
        &mut self,
        name: &CStr,
        act: impl FnOnce(&mut Self) -> io::Result<()>,
    ) -> io::Result<()> {
        let (name, length) = (name.to_bytes(), self.path.len());
        let is_skipped = self.skip.iter().any(|it| it.as_bytes() == name);
        if is_skipped || length + name.len() >= PATH_MAX || self.depth >= DEPTH_MAX {
            return Ok(());
        }
        self.path.extend(name);
        let done = act(self);
        self.path.truncate(length);
        done
    }

    fn entry(
        &mut self,
        upper: BorrowedFd<'_>,
        lower: Option<BorrowedFd<'_>>,
        merged: Option<BorrowedFd<'_>>,
        entry: &Entry,
    ) -> io::Result<()> {
        let below = match lower {
            Some(lower) => find(lower, &entry.name)?,
            None => None,
        };
        let below = lower.zip(below.filter(|it| it.kind() == entry.kind()));
        match entry.kind() {
            SFlag::S_IFREG => {
                let mut file = File::from(open_in(upper, entry)?);
                if let Some((lower, before)) = &below
                    && before.is_runnable() == entry.is_runnable()
                    && before.len() == entry.len()
                    && is_same(&mut file, &mut File::from(open_in(*lower, before)?))?
                {
                    return Ok(());
                }
                self.take_room(entry.len())?;
                // It was read for the comparison.
                io::Seek::rewind(&mut file)?;
                let (runnable, len) = (entry.is_runnable(), entry.len());
                self.into.write_file(&self.path, runnable, &mut file, len).map_err(io::Error::other)
            }
            SFlag::S_IFLNK => {
                let to = readlinkat(upper, entry.name.as_c_str())?;
                if let Some((lower, _)) = below
                    && readlinkat(lower, entry.name.as_c_str())? == to
                {
                    return Ok(());
                }
                self.take_room(to.len() as u64)?;
                self.into.write_link(&self.path, to.as_bytes()).map_err(io::Error::other)
            }
            SFlag::S_IFDIR => {
                let inner = open_in(upper, entry)?;
                let inner_lower =
                    below.map(|(lower, before)| open_in(lower, &before)).transpose()?;
                let inner_merged = merged.map(|it| open_in(it, entry)).transpose()?;
                self.path.push(b'/');
                self.depth += 1;
                let done = self.folder(
                    inner.as_fd(),
                    inner_lower.as_ref().map(|it| it.as_fd()),
                    inner_merged.as_ref().map(|it| it.as_fd()),
                );
                self.depth -= 1;
                done
            }
            // Marks of the overlay's own, pipes, sockets.
            _ => Ok(()),
        }
    }

    fn take_room(&mut self, len: u64) -> io::Result<()> {
        let size = len + self.path.len() as u64 + ENTRY;
        self.left = self
            .left
            .checked_sub(size)
            .ok_or_else(|| io::Error::other("what was changed is more than may be written"))?;
        Ok(())
    }
}

fn is_same(one: &mut File, other: &mut File) -> io::Result<bool> {
    let (mut ours, mut theirs) = ([0; 16 << 10], [0; 16 << 10]);
    loop {
        let count = one.read(&mut ours)?;
        if count == 0 {
            return Ok(other.read(&mut theirs[..1])? == 0);
        }
        match other.read_exact(&mut theirs[..count]) {
            Ok(()) if ours[..count] == theirs[..count] => {}
            Ok(()) => return Ok(false),
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
            Err(error) => return Err(error),
        }
    }
}

/// Copies a work folder into a new folder of the store.
pub fn keep(work: &Path, into: BorrowedFd<'_>) -> Result<(), String> {
    let from = open_folder(work).map_err(|error| failed_at("opening", work, &error))?;
    let mut copying = Copying { owner: None, reflinked: true, bytes: 0 };
    copying.folder(from.as_fd(), into, 0).map_err(|error| error.to_string())
}

struct Copying {
    /// Whose the copies become, where that is not the calling process.
    owner: Option<u32>,
    /// Whether every file with something in it shares its blocks so far.
    reflinked: bool,
    bytes: u64,
}

impl Copying {
    fn folder(&mut self, from: BorrowedFd<'_>, to: BorrowedFd<'_>, depth: usize) -> io::Result<()> {
        for entry in entries(from)? {
            let name = entry.name.as_c_str();
            match entry.kind() {
                SFlag::S_IFREG => self.file(from, to, &entry)?,
                SFlag::S_IFLNK => {
                    let target = readlinkat(from, name)?;
                    symlinkat(OsStr::from_bytes(target.as_bytes()), to, name)?;
                    self.own(to, name)?;
                    let (time, _) = entry.times();
                    utimensat(to, name, &time, &time, UtimensatFlags::NoFollowSymlink)?;
                }
                SFlag::S_IFDIR if depth < DEPTH_MAX => {
                    mkdirat(to, name, Mode::S_IRWXU)?;
                    self.own(to, name)?;
                    let inner = open_in(to, &Entry { name: name.to_owned(), stat: entry.stat })?;
                    self.folder(open_in(from, &entry)?.as_fd(), inner.as_fd(), depth + 1)?;
                    fchmod(&inner, entry.mode() | Mode::S_IRWXU)?;
                    let (time, _) = entry.times();
                    futimens(&inner, &time, &time)?;
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn file(&mut self, from: BorrowedFd<'_>, to: BorrowedFd<'_>, entry: &Entry) -> io::Result<()> {
        let name = entry.name.as_c_str();
        let mut source = File::from(open_in(from, entry)?);
        let flags = OFlag::O_WRONLY | OFlag::O_CREAT | OFlag::O_EXCL | OFlag::O_NOFOLLOW;
        let copy = openat(to, name, flags | OFlag::O_CLOEXEC, Mode::S_IRUSR | Mode::S_IWUSR)?;
        let mut copy = File::from(copy);
        if entry.len() > 0 {
            // SAFETY: both descriptors are open files; the call reads nothing else.
            let cloned = self.reflinked
                && unsafe { libc::ioctl(copy.as_raw_fd(), libc::FICLONE, source.as_raw_fd()) } == 0;
            if !cloned {
                self.reflinked = false;
                io::copy(&mut source, &mut copy)?;
            }
        }
        self.own(to, name)?;
        fchmod(&copy, entry.mode())?;
        let (time, _) = entry.times();
        futimens(&copy, &time, &time)?;
        self.bytes += entry.len().max(512);
        Ok(())
    }

    fn own(&self, folder: BorrowedFd<'_>, name: &CStr) -> io::Result<()> {
        let Some(id) = self.owner else { return Ok(()) };
        let (uid, gid) = (Some(Uid::from_raw(id)), Some(Gid::from_raw(id)));
        Ok(fchownat(folder, name, uid, gid, AtFlags::AT_SYMLINK_NOFOLLOW)?)
    }
}
