//! The file system that a program sees.
//!
//! A new root on tmpfs: the system's folders and those of the interpreter read-only, a minimal
//! `/dev`, a `/proc` of the new process namespace, `/tmp` and the work folder on tmpfs of limited
//! size. The old root is gone when this is done.

use std::ffi::CString;
use std::fs::{self, File, OpenOptions, Permissions};
use std::io::Write as _;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use nix::fcntl::{OFlag, open};
use nix::mount::{MntFlags, MsFlags, mount, umount2};
use nix::sys::stat::Mode;
use nix::unistd::{Gid, Uid, chown, pivot_root, sethostname};

use super::identity::Identity;
use crate::archive::Archive;
use crate::job::{Collect, WORK};
use crate::wire::Spec;

/// Where the new root is put together, while the old one is still there.
const NEW_ROOT: &str = "/tmp";

/// System folders that are shown, read-only, where they are there.
const SYSTEM: &[&str] = &["/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32"];

/// Whether a path lies in a folder of the system that every sandbox shows.
#[must_use]
pub fn is_system(path: &Path) -> bool {
    SYSTEM.iter().any(|it| path.starts_with(it))
}

/// What is shown of `/etc`: what the loader and the interpreters need, and nothing that tells of
/// people or hosts. Folders whose name begins with `java-` are added.
const ETC: &[&str] = &[
    "alternatives",
    "ld.so.cache",
    "ld.so.conf",
    "ld.so.conf.d",
    "localtime",
    "mime.types",
    "ssl/openssl.cnf",
];

/// Devices that are shown.
const DEVICES: &[&str] = &["null", "zero", "full", "random", "urandom"];

/// Where the driver's files are.
const DRIVER: &str = "/opt/driver";

/// Largest file count of a work folder or `/tmp`.
const FILES_MAX: u32 = 100_000;

/// Something of the old root that is to be seen in the new one, held open so that covering the
/// old one does not hide it.
struct Shown {
    at: PathBuf,
    from: OwnedFd,
    is_dir: bool,
}

/// Lays out the new root and makes it the root.
pub fn build(
    spec: &Spec,
    driver: Option<&Archive>,
    layers: &[Archive],
    identity: Identity,
) -> Result<(), String> {
    sethostname("trial").map_err(|error| format!("host name: {error}"))?;
    let private = MsFlags::MS_REC | MsFlags::MS_PRIVATE;
    mount(None::<&str>, "/", None::<&str>, private, None::<&str>)
        .map_err(|error| format!("making mounts private: {error}"))?;
    let (shown, links) = find_shown(&spec.show);
    tmpfs(NEW_ROOT, "mode=0755,size=4m,nr_inodes=4096", MsFlags::empty())?;
    for link in &links {
        symlink(&link.1, inside(&link.0)).map_err(|error| told("link", &link.0, &error))?;
    }
    devices()?;
    etc_files()?;
    for folder in ["proc", "tmp", "work", "opt/driver"] {
        make_dir(&inside(Path::new(folder)))?;
    }
    mount(Some("proc"), &inside(Path::new("proc")), Some("proc"), QUIET, None::<&str>)
        .map_err(|error| format!("/proc: {error}"))?;
    let (id, disk) = (identity.id, spec.caps.disk);
    let own = format!("mode=0700,uid={id},gid={id},size={disk},nr_inodes={FILES_MAX}");
    tmpfs(&format!("{NEW_ROOT}{WORK}"), &own, MsFlags::empty())?;
    tmpfs(&format!("{NEW_ROOT}/tmp"), &own, MsFlags::empty())?;
    // Only now, since an interpreter may live below `/tmp`.
    for it in &shown {
        bind(it)?;
    }
    switch_root()?;
    if let Some(driver) = driver {
        unpack(driver, Path::new(DRIVER), None)?;
    }
    for layer in layers {
        unpack(layer, Path::new(WORK), Some(id))?;
    }
    let read_only = MsFlags::MS_REMOUNT | MsFlags::MS_BIND | MsFlags::MS_RDONLY | QUIET_DIR;
    mount(None::<&str>, "/", None::<&str>, read_only, None::<&str>)
        .map_err(|error| format!("making the root read-only: {error}"))
}

/// Nothing set-uid, no devices, nothing to run.
const QUIET: MsFlags = MsFlags::MS_NOSUID.union(MsFlags::MS_NODEV).union(MsFlags::MS_NOEXEC);
/// Nothing set-uid, no devices.
const QUIET_DIR: MsFlags = MsFlags::MS_NOSUID.union(MsFlags::MS_NODEV);

fn told(what: &str, path: &Path, error: &dyn std::fmt::Display) -> String {
    format!("{what} `{}`: {error}", path.display())
}

fn inside(path: &Path) -> PathBuf {
    Path::new(NEW_ROOT).join(path.strip_prefix("/").unwrap_or(path))
}

fn tmpfs(at: &str, options: &str, more: MsFlags) -> Result<(), String> {
    mount(Some("tmpfs"), at, Some("tmpfs"), QUIET_DIR | more, Some(options))
        .map_err(|error| format!("tmpfs on `{at}`: {error}"))
}

/// Everything that is to be shown, and the links among the system folders.
fn find_shown(more: &[PathBuf]) -> (Vec<Shown>, Vec<(PathBuf, PathBuf)>) {
    let (mut shown, mut links) = (Vec::new(), Vec::new());
    for path in SYSTEM.iter().map(Path::new) {
        match fs::read_link(path) {
            Ok(target) => links.push((path.to_owned(), target)),
            Err(_) => shown.extend(hold(path)),
        }
    }
    shown.extend(ETC.iter().filter_map(|name| hold(&Path::new("/etc").join(name))));
    let etc = fs::read_dir("/etc").into_iter().flatten().flatten();
    let java = etc.filter(|entry| entry.file_name().to_string_lossy().starts_with("java-"));
    shown.extend(java.filter_map(|entry| hold(&entry.path())));
    shown.extend(more.iter().filter(|path| !is_system(path)).filter_map(|path| hold(path)));
    (shown, links)
}

fn hold(path: &Path) -> Option<Shown> {
    let from = open(path, OFlag::O_PATH | OFlag::O_CLOEXEC, Mode::empty()).ok()?;
    let is_dir = fs::metadata(path).ok()?.is_dir();
    Some(Shown { at: path.to_owned(), from, is_dir })
}

/// Shows a file or a folder, with all that is mounted below it, read-only.
fn bind(shown: &Shown) -> Result<(), String> {
    let at = inside(&shown.at);
    place_for(&at, shown.is_dir)?;
    let from = format!("/proc/self/fd/{}", shown.from.as_raw_fd());
    let flags = MsFlags::MS_BIND | MsFlags::MS_REC;
    mount(Some(from.as_str()), &at, None::<&str>, flags, None::<&str>)
        .map_err(|error| told("showing", &shown.at, &error))?;
    read_only(&at)
}

/// Makes an empty file or folder to mount on.
fn place_for(at: &Path, is_dir: bool) -> Result<(), String> {
    if is_dir {
        return make_dir(at);
    }
    if let Some(parent) = at.parent() {
        make_dir(parent)?;
    }
    File::create(at).map(drop).map_err(|error| told("place for", at, &error))
}

fn make_dir(at: &Path) -> Result<(), String> {
    fs::create_dir_all(at).map_err(|error| told("folder", at, &error))
}

/// `struct mount_attr`, mount_setattr(2).
#[repr(C)]
struct MountAttr {
    set: u64,
    clear: u64,
    propagation: u64,
    userns_fd: u64,
}

/// `MOUNT_ATTR_RDONLY | MOUNT_ATTR_NOSUID | MOUNT_ATTR_NODEV`.
const ATTR_QUIET: u64 = 0x1 | 0x2 | 0x4;

/// Makes a mount and all below it read-only, without set-uid programs or devices.
fn read_only(at: &Path) -> Result<(), String> {
    let attr = MountAttr { set: ATTR_QUIET, clear: 0, propagation: 0, userns_fd: 0 };
    let path = c_path(at)?;
    // SAFETY: the path ends with NUL, the structure has the layout and the size that are stated.
    let done = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            libc::AT_FDCWD,
            path.as_ptr(),
            libc::AT_RECURSIVE,
            &raw const attr,
            size_of::<MountAttr>(),
        )
    };
    if done == 0 {
        return Ok(());
    }
    Err(told("making read-only", at, &std::io::Error::last_os_error()))
}

fn c_path(path: &Path) -> Result<CString, String> {
    use std::os::unix::ffi::OsStrExt as _;
    CString::new(path.as_os_str().as_bytes()).map_err(|error| told("path", path, &error))
}

fn devices() -> Result<(), String> {
    let dev = inside(Path::new("dev"));
    make_dir(&dev)?;
    for name in DEVICES {
        let at = dev.join(name);
        File::create(&at).map_err(|error| told("place for", &at, &error))?;
        let from = Path::new("/dev").join(name);
        mount(Some(&from), &at, None::<&str>, MsFlags::MS_BIND, None::<&str>)
            .map_err(|error| told("device", &from, &error))?;
    }
    for (name, target) in [
        ("fd", "/proc/self/fd"),
        ("stdin", "/proc/self/fd/0"),
        ("stdout", "/proc/self/fd/1"),
        ("stderr", "/proc/self/fd/2"),
    ] {
        symlink(target, dev.join(name)).map_err(|error| told("link", &dev.join(name), &error))?;
    }
    let shm = dev.join("shm");
    make_dir(&shm)?;
    let at = shm.to_string_lossy();
    tmpfs(&at, "mode=1777,size=64m,nr_inodes=1024", MsFlags::MS_NOEXEC)
}

/// The few files of `/etc` that are the sandbox's own.
fn etc_files() -> Result<(), String> {
    let id = super::identity::INSIDE_ID;
    for (name, text) in [
        (
            "passwd",
            format!("trial:x:{id}:{id}:trial:{WORK}:/bin/sh\nnobody:x:65534:65534::/:/bin/false\n"),
        ),
        ("group", format!("trial:x:{id}:\nnogroup:x:65534:\n")),
        ("hosts", "127.0.0.1 localhost trial\n".to_owned()),
        ("nsswitch.conf", "passwd: files\ngroup: files\nhosts: files\n".to_owned()),
    ] {
        let at = inside(&Path::new("etc").join(name));
        place_for(&at, false)?;
        fs::write(&at, text).map_err(|error| told("writing", &at, &error))?;
    }
    Ok(())
}

fn switch_root() -> Result<(), String> {
    std::env::set_current_dir(NEW_ROOT).map_err(|error| format!("new root: {error}"))?;
    // The old root ends up under the new one, in the same place, and is taken off from there.
    pivot_root(".", ".").map_err(|error| format!("pivot_root: {error}"))?;
    umount2(".", MntFlags::MNT_DETACH).map_err(|error| format!("old root: {error}"))?;
    std::env::set_current_dir("/").map_err(|error| format!("new root: {error}"))
}

/// Writes the files of an archive below `folder`, owned by `owner`. The folder holds nothing but
/// what earlier archives put there: no links.
fn unpack(archive: &Archive, folder: &Path, owner: Option<u32>) -> Result<(), String> {
    let entries = archive.entries().map_err(|error| error.to_string())?;
    let own = |path: &Path| match owner {
        Some(id) => chown(path, Some(Uid::from_raw(id)), Some(Gid::from_raw(id)))
            .map_err(|error| told("owner of", path, &error)),
        None => Ok(()),
    };
    for entry in entries {
        let path = folder.join(entry.path.as_str());
        let mut parents: Vec<&Path> =
            path.ancestors().skip(1).take_while(|it| *it != folder).collect();
        parents.reverse();
        for parent in parents {
            if !parent.is_dir() {
                fs::create_dir(parent).map_err(|error| told("folder", parent, &error))?;
                own(parent)?;
            }
        }
        let mut file = OpenOptions::new();
        let mut file = file
            .write(true)
            .create(true)
            .truncate(true)
            .open(&path)
            .map_err(|error| told("writing", &path, &error))?;
        file.write_all(&entry.bytes).map_err(|error| told("writing", &path, &error))?;
        let mode = if entry.executable { 0o755 } else { 0o644 };
        file.set_permissions(Permissions::from_mode(mode))
            .map_err(|error| told("mode of", &path, &error))?;
        own(&path)?;
    }
    Ok(())
}

/// Packs what is wanted of the work folder. Only regular files are taken; links are not followed.
/// Everything that could change them is dead by now.
pub fn collect(wanted: &Collect, into: &mut Archive, most: u64) -> Result<(), String> {
    let mut left = most;
    match wanted {
        Collect::Nothing => Ok(()),
        Collect::Files(paths) => {
            for path in paths {
                let full = Path::new(WORK).join(path.as_str());
                let on_the_way = full.ancestors().take_while(|it| *it != Path::new(WORK));
                let is_link = |it: &Path| fs::symlink_metadata(it).is_ok_and(|it| it.is_symlink());
                if !on_the_way.into_iter().any(is_link) {
                    pack(&full, path.as_str(), into, &mut left)?;
                }
            }
            Ok(())
        }
        Collect::All => pack_folder(Path::new(WORK), "", into, &mut left, 0),
    }
}

fn pack(full: &Path, name: &str, into: &mut Archive, left: &mut u64) -> Result<(), String> {
    let Ok(meta) = fs::symlink_metadata(full) else {
        return Ok(());
    };
    if !meta.is_file() || meta.len() > *left {
        return Ok(());
    }
    // A file without a mode that lets its owner read is read by nobody.
    let Ok(bytes) = fs::read(full) else {
        return Ok(());
    };
    *left -= bytes.len() as u64;
    let executable = meta.permissions().mode() & 0o100 != 0;
    into.write_entry(name, executable, &bytes).map_err(|error| error.to_string())
}

/// Deepest folder that is packed.
const DEPTH_MAX: usize = 32;

fn pack_folder(
    folder: &Path,
    prefix: &str,
    into: &mut Archive,
    left: &mut u64,
    depth: usize,
) -> Result<(), String> {
    let Ok(entries) = fs::read_dir(folder) else {
        return Ok(());
    };
    for entry in entries.flatten() {
        let Ok(name) = entry.file_name().into_string() else {
            continue;
        };
        let name = format!("{prefix}{name}");
        if fairtrial_core::tree::RelPath::parse(&name).is_err() {
            continue;
        }
        let Ok(kind) = entry.file_type() else {
            continue;
        };
        if kind.is_dir() && depth < DEPTH_MAX {
            pack_folder(&entry.path(), &format!("{name}/"), into, left, depth + 1)?;
        } else if kind.is_file() {
            pack(&entry.path(), &name, into, left)?;
        }
    }
    Ok(())
}
