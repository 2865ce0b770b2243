//! The file system that a program sees.
//!
//! A new root on tmpfs: the system's folders and those of the interpreter read-only, a minimal
//! `/dev`, and places where each run mounts a `/proc` of its own process namespace, `/tmp` and the
//! work folder. The old root is gone when this is done.

use std::ffi::CString;
use std::fs::{self, File};
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use nix::fcntl::{OFlag, open};
use nix::mount::{MntFlags, MsFlags, mount, umount2};
use nix::sys::stat::Mode;
use nix::unistd::{pivot_root, sethostname};

use super::identity::Identity;
use crate::job::WORK;
use crate::wire::ZygoteConfig;

/// Where the new root is put together, while the old one is still there.
const NEW_ROOT: &str = "/tmp";

/// System folders that are shown, read-only, where they are there.
pub const SYSTEM: &[&str] = &["/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32"];

/// Whether a path lies in a folder of the system that every sandbox shows.
#[must_use]
pub fn is_system(path: &Path) -> bool {
    SYSTEM.iter().any(|it| path.starts_with(it))
}

/// What is shown of `/etc`: what the loader and the interpreters need, and nothing that tells of
/// people or hosts. Folders whose name begins with `java-` are added.
pub const ETC: &[&str] = &[
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

/// Something of the old root that is to be seen in the new one, held open so that covering the
/// old one does not hide it.
struct Shown {
    at: PathBuf,
    from: OwnedFd,
    is_dir: bool,
}

/// A folder that lies where every run mounts something of its own, and so is shown again by each.
#[derive(Debug)]
pub struct SharedFolder {
    /// Where the zygote's root has it.
    pub from: PathBuf,
    /// Where programs look for it.
    pub at: PathBuf,
}

/// Where the zygote keeps what is shown again.
const ASIDE: &str = "/opt/aside";

/// Where the zygote has the store. Each run takes it away.
pub const STORE: &str = "/opt/store";

/// Where a zygote in a user namespace of its own keeps the machine's `/proc`: the kernel lets it
/// mount a new one only while it sees the old. Each run takes it away.
pub const OLD_PROC: &str = "/opt/old-proc";

/// Lays out the new root and makes it the root of the zygote, for good.
pub fn build_root(config: &ZygoteConfig, identity: Identity) -> Result<Vec<SharedFolder>, String> {
    sethostname("trial").map_err(|error| format!("host name: {error}"))?;
    let private = MsFlags::MS_REC | MsFlags::MS_PRIVATE;
    mount(None::<&str>, "/", None::<&str>, private, None::<&str>)
        .map_err(|error| format!("making mounts private: {error}"))?;
    let (mut shown, links) = find_shown(&config.show);
    let mut shared = Vec::new();
    for (number, it) in shown.iter_mut().enumerate() {
        if [WORK, "/tmp"].iter().any(|own| it.at.starts_with(own)) {
            let from = Path::new(ASIDE).join(number.to_string());
            shared.push(SharedFolder { at: std::mem::replace(&mut it.at, from.clone()), from });
        }
    }
    if let Some(store) = &config.store {
        let from = open(store, OFlag::O_PATH | OFlag::O_CLOEXEC, Mode::empty())
            .map_err(|error| failed_at("the store of trees", store, &error))?;
        shown.push(Shown { at: STORE.into(), from, is_dir: true });
    }
    tmpfs(NEW_ROOT, "mode=0755,size=4m,nr_inodes=8192", MsFlags::empty())?;
    for link in &links {
        symlink(&link.1, inside(&link.0)).map_err(|error| failed_at("link", &link.0, &error))?;
    }
    devices()?;
    etc(config.machine_network)?;
    for folder in ["proc", "tmp", "work", "opt/driver"] {
        make_dir(&inside(Path::new(folder)))?;
    }
    if identity.own_users {
        let at = inside(Path::new(OLD_PROC));
        make_dir(&at)?;
        let flags = MsFlags::MS_BIND | MsFlags::MS_REC;
        mount(Some("/proc"), &at, None::<&str>, flags, None::<&str>)
            .map_err(|error| format!("keeping /proc: {error}"))?;
    }
    for it in &shown {
        bind(it)?;
    }
    switch_root()?;
    let read_only = MsFlags::MS_REMOUNT | MsFlags::MS_BIND | MsFlags::MS_RDONLY | QUIET_DIR;
    mount(None::<&str>, "/", None::<&str>, read_only, None::<&str>)
        .map_err(|error| format!("making the root read-only: {error}"))?;
    Ok(shared)
}

/// Nothing set-uid, no devices, nothing to run.
pub const QUIET: MsFlags = MsFlags::MS_NOSUID.union(MsFlags::MS_NODEV).union(MsFlags::MS_NOEXEC);
/// Nothing set-uid, no devices.
pub const QUIET_DIR: MsFlags = MsFlags::MS_NOSUID.union(MsFlags::MS_NODEV);

pub fn failed_at(what: &str, path: &Path, error: &dyn std::fmt::Display) -> String {
    format!("{what} `{}`: {error}", path.display())
}

fn inside(path: &Path) -> PathBuf {
    Path::new(NEW_ROOT).join(path.strip_prefix("/").unwrap_or(path))
}

pub fn tmpfs(at: &str, options: &str, more: MsFlags) -> Result<(), String> {
    mount(Some("tmpfs"), at, Some("tmpfs"), QUIET_DIR | more, Some(options))
        .map_err(|error| format!("tmpfs on `{at}`: {error}"))
}

/// Everything that is to be shown, and the links among the system folders.
fn find_shown(more: &[PathBuf]) -> (Vec<Shown>, Vec<(PathBuf, PathBuf)>) {
    let (mut shown, mut links) = (Vec::new(), Vec::new());
    for path in SYSTEM.iter().map(Path::new) {
        match fs::read_link(path) {
            Ok(target) => links.push((path.to_owned(), target)),
            Err(_) => shown.extend(open_shown(path)),
        }
    }
    shown.extend(more.iter().filter(|path| !is_system(path)).filter_map(|path| open_shown(path)));
    (shown, links)
}

fn open_shown(path: &Path) -> Option<Shown> {
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
        .map_err(|error| failed_at("showing", &shown.at, &error))?;
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
    File::create(at).map(drop).map_err(|error| failed_at("place for", at, &error))
}

fn make_dir(at: &Path) -> Result<(), String> {
    fs::create_dir_all(at).map_err(|error| failed_at("folder", at, &error))
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
    Err(failed_at("making read-only", at, &std::io::Error::last_os_error()))
}

fn c_path(path: &Path) -> Result<CString, String> {
    use std::os::unix::ffi::OsStrExt as _;
    CString::new(path.as_os_str().as_bytes()).map_err(|error| failed_at("path", path, &error))
}

fn devices() -> Result<(), String> {
    let dev = inside(Path::new("dev"));
    make_dir(&dev)?;
    for name in DEVICES {
        let at = dev.join(name);
        File::create(&at).map_err(|error| failed_at("place for", &at, &error))?;
        let from = Path::new("/dev").join(name);
        mount(Some(&from), &at, None::<&str>, MsFlags::MS_BIND, None::<&str>)
            .map_err(|error| failed_at("device", &from, &error))?;
    }
    for (name, target) in [
        ("fd", "/proc/self/fd"),
        ("stdin", "/proc/self/fd/0"),
        ("stdout", "/proc/self/fd/1"),
        ("stderr", "/proc/self/fd/2"),
    ] {
        symlink(target, dev.join(name))
            .map_err(|error| failed_at("link", &dev.join(name), &error))?;
    }
    // Where a run has terminals of its own they are mounted there; else these lead nowhere.
    make_dir(&dev.join("pts"))?;
    symlink("pts/ptmx", dev.join("ptmx")).map_err(|error| format!("/dev/ptmx: {error}"))?;
    symlink("/tmp", dev.join("shm")).map_err(|error| format!("/dev/shm: {error}"))
}

/// The part of `/etc` that programs see: copies of the machine's files, and a few of our own.
fn etc(with_network: bool) -> Result<(), String> {
    if with_network {
        for name in NETWORK_ETC {
            follow(&Path::new("/etc").join(name))?;
        }
    }
    for name in ETC {
        copy(&Path::new("/etc").join(name), 0)?;
    }
    let folder = fs::read_dir("/etc").into_iter().flatten().flatten();
    let java = folder.filter(|entry| entry.file_name().to_string_lossy().starts_with("java-"));
    for entry in java {
        copy(&entry.path(), 0)?;
    }
    own_etc(with_network)
}

/// What of `/etc` says how the machine's network is used.
const NETWORK_ETC: &[&str] = &["resolv.conf", "gai.conf", "ssl/certs/ca-certificates.crt"];

/// Copies a file to the same place below the new root, from wherever a link leads.
fn follow(from: &Path) -> Result<(), String> {
    let at = inside(from);
    let Ok(bytes) = fs::read(from) else { return Ok(()) };
    if let Some(parent) = at.parent() {
        make_dir(parent)?;
    }
    fs::write(&at, bytes).map_err(|error| failed_at("writing", &at, &error))
}

/// Deepest folder of `/etc` that is copied.
const COPY_DEPTH: usize = 6;

/// Copies a file, a link or a folder to the same place below the new root. What cannot be read, or
/// is not there, is left out.
fn copy(from: &Path, depth: usize) -> Result<(), String> {
    let at = inside(from);
    let Ok(meta) = fs::symlink_metadata(from) else { return Ok(()) };
    if let Some(parent) = at.parent() {
        make_dir(parent)?;
    }
    if meta.is_symlink() {
        if let Ok(target) = fs::read_link(from) {
            symlink(target, &at).map_err(|error| failed_at("link", &at, &error))?;
        }
    } else if meta.is_dir() && depth < COPY_DEPTH {
        make_dir(&at)?;
        for entry in fs::read_dir(from).into_iter().flatten().flatten() {
            copy(&entry.path(), depth + 1)?;
        }
    } else if meta.is_file()
        && let Ok(bytes) = fs::read(from)
    {
        fs::write(&at, bytes).map_err(|error| failed_at("writing", &at, &error))?;
    }
    Ok(())
}

/// The few files of `/etc` that are the sandbox's own.
fn own_etc(with_network: bool) -> Result<(), String> {
    let id = super::identity::INSIDE_ID;
    let names = if with_network { "files dns" } else { "files" };
    for (name, text) in [
        (
            "passwd",
            format!("trial:x:{id}:{id}:trial:{WORK}:/bin/sh\nnobody:x:65534:65534::/:/bin/false\n"),
        ),
        ("group", format!("trial:x:{id}:\nnogroup:x:65534:\n")),
        ("hosts", "127.0.0.1 localhost trial\n".to_owned()),
        ("nsswitch.conf", format!("passwd: files\ngroup: files\nhosts: {names}\n")),
    ] {
        let at = inside(&Path::new("etc").join(name));
        place_for(&at, false)?;
        fs::write(&at, text).map_err(|error| failed_at("writing", &at, &error))?;
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
