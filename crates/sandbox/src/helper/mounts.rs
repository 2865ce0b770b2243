//! What a run finds that is its own: mounts of its own, and the files of its job.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fs::{self, OpenOptions, Permissions};
use std::io::{self, Write as _};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{PermissionsExt as _, lchown, symlink};
use std::path::{Path, PathBuf};

use nix::fcntl::AT_FDCWD;
use nix::mount::{MntFlags, MsFlags, mount, umount2};
use nix::sys::stat::{UtimensatFlags, utimensat};
use nix::sys::time::TimeSpec;
use nix::unistd::{Gid, Uid, chown, fchown};

use super::RunFds;
use super::failure::SetUpFailure;
use super::root::{OLD_PROC, QUIET, QUIET_DIR, STORE, SharedFolder, failed_at, tmpfs};
use super::scratch::Scratch;
use super::state::SandboxState;
use super::store::{self, ViewFolders};
use fairtrial_core::tree::Node;

use crate::archive::Archive;
use crate::job::{DRIVER, HOME, WORK};
use crate::wire::Spec;

/// Largest file count of a work folder or `/tmp`.
const FILES_MAX: u32 = 100_000;

/// When every file was changed last, as programs see it: 2020-01-01, in seconds since 1970.
const WRITTEN_AT: TimeSpec = TimeSpec::new(1_577_836_800, 0);

/// Bytes that a driver's files may have.
const DRIVER_MAX: u64 = 64 << 20;

/// Where the folders of a run are.
pub struct Places {
    pub work: PathBuf,
    pub driver: PathBuf,
    /// What the work folder is a view of.
    pub view: Option<ViewFolders>,
}

/// Sets up a run's own part of what its program sees.
pub fn mounts(sandbox: &SandboxState, spec: &Spec, fds: &RunFds) -> Result<Places, SetUpFailure> {
    let mut places = match &sandbox.scratch {
        None => mount_own(sandbox, spec)?,
        Some(scratch) => {
            scratch.fresh(sandbox.identity)?;
            Places { work: scratch.work(), driver: scratch.driver(), view: None }
        }
    };
    if let Some(driver) = &fds.driver {
        unpack(driver, &places.driver, None, WRITTEN_AT)?;
        if sandbox.scratch.is_none() {
            freeze(Path::new(DRIVER))?;
        }
    }
    give_streams(sandbox, fds)?;
    let owner =
        (sandbox.scratch.is_none() || sandbox.identity.changes).then_some(sandbox.identity.id);
    let full = |failure| match failure {
        // A disk of the machine's that is full is nobody's limit.
        SetUpFailure::Full if sandbox.scratch.is_some() => {
            SetUpFailure::Failed("no space is left on the machine's disk".to_owned())
        }
        other => other,
    };
    open_view(sandbox, spec, &mut places, owner).map_err(full)?;
    // What was made of a tree's files is older than what is put over them now.
    let written = if places.view.is_some() { TimeSpec::UTIME_NOW } else { WRITTEN_AT };
    for layer in &fds.layers {
        unpack(layer, &places.work, owner, written).map_err(full).map_err(
            |failure| match failure {
                SetUpFailure::Failed(why) if sandbox.scratch.is_none() => {
                    SetUpFailure::BadFiles(why)
                }
                other => other,
            },
        )?;
    }
    if let Some(sealed) = &fds.sealed {
        unpack(sealed, &places.work, owner, written).map_err(full)?;
        seal(sandbox, sealed, &places.work)?;
    }
    if let Some(home) = &fds.home {
        let tmp = sandbox.scratch.as_ref().map_or_else(|| PathBuf::from("/tmp"), Scratch::tmp);
        let folder = tmp.join(Path::new(HOME).file_name().unwrap_or_default());
        fs::create_dir(&folder).map_err(|error| not_written("folder", &folder, &error))?;
        own(&folder, owner)?;
        unpack(home, &folder, owner, WRITTEN_AT).map_err(full)?;
    }
    Ok(places)
}

/// Makes the work folder a view of a tree where the job asks for one, and takes the store away.
fn open_view(
    sandbox: &SandboxState,
    spec: &Spec,
    places: &mut Places,
    owner: Option<u32>,
) -> Result<(), SetUpFailure> {
    let Some(store) = &sandbox.store else { return Ok(()) };
    let (store, own) = match sandbox.scratch {
        None => (Path::new(STORE), Some(sandbox.identity.id)),
        Some(_) => (store.as_path(), None),
    };
    if let Some(tree) = &spec.tree {
        let view = store::open_view(&store.join(tree), &places.work, own.or(owner), own.is_some())?;
        places.view = Some(view);
    }
    if sandbox.scratch.is_none() {
        store::hide()?;
    }
    Ok(())
}

/// Gives the streams to the program's user, who may then open them again by name (`/dev/stdin`).
fn give_streams(sandbox: &SandboxState, fds: &RunFds) -> Result<(), String> {
    if !sandbox.identity.changes {
        return Ok(());
    }
    let id = sandbox.identity.id;
    for stream in [&fds.stdin, &fds.stdout, &fds.stderr] {
        fchown(stream, Some(Uid::from_raw(id)), Some(Gid::from_raw(id)))
            .map_err(|error| format!("owner of a stream: {error}"))?;
    }
    Ok(())
}

/// Puts files of the work folder out of the program's hands.
fn seal(sandbox: &SandboxState, sealed: &Archive, work: &Path) -> Result<(), String> {
    let entries = sealed.entries().map_err(|error| error.to_string())?;
    let files: BTreeSet<PathBuf> =
        entries.iter().map(|it| work.join(OsStr::from_bytes(it.path.as_bytes()))).collect();
    let mut folders = BTreeSet::new();
    for file in &files {
        folders.extend(file.ancestors().skip(1).take_while(|it| *it != work).map(Path::to_owned));
    }
    match sandbox.scratch {
        // What is mounted upon can be neither moved nor removed, and so its folders cannot.
        // Folders come in the order of their paths, those that hold others first.
        None => {
            folders.iter().try_for_each(|folder| pin(folder))?;
            files.iter().try_for_each(|file| pin(file).and_then(|()| freeze(file)))
        }
        // Files of root's in folders where each may move only its own.
        Some(_) if sandbox.identity.changes => {
            folders.insert(work.to_owned());
            for path in folders.iter().chain(&files) {
                chown(path, Some(Uid::from_raw(0)), None)
                    .map_err(|error| failed_at("owner of", path, &error))?;
            }
            folders.iter().try_for_each(|folder| {
                fs::set_permissions(folder, Permissions::from_mode(0o1770))
                    .map_err(|error| failed_at("mode of", folder, &error))
            })
        }
        Some(_) => Ok(()),
    }
}

/// Mounts a file or a folder upon itself.
fn pin(path: &Path) -> Result<(), String> {
    mount(Some(path), path, None::<&str>, MsFlags::MS_BIND, None::<&str>)
        .map_err(|error| failed_at("sealing", path, &error))
}

/// Makes a mount read-only.
fn freeze(path: &Path) -> Result<(), String> {
    let flags = MsFlags::MS_REMOUNT | MsFlags::MS_BIND | MsFlags::MS_RDONLY | QUIET_DIR;
    mount(None::<&str>, path, None::<&str>, flags, None::<&str>)
        .map_err(|error| failed_at("making read-only", path, &error))
}

/// Mounts what does not depend on the run.
pub fn mount_ahead(sandbox: &SandboxState) -> Result<(), String> {
    mount(Some("proc"), "/proc", Some("proc"), QUIET, None::<&str>)
        .map_err(|error| format!("/proc: {error}"))?;
    if sandbox.identity.own_users {
        umount2(OLD_PROC, MntFlags::MNT_DETACH).map_err(|error| format!("old /proc: {error}"))?;
    }
    Ok(())
}

fn mount_own(sandbox: &SandboxState, spec: &Spec) -> Result<Places, String> {
    let (id, disk) = (sandbox.identity.id, spec.caps.disk);
    let own = format!("mode=0700,uid={id},gid={id},size={disk},nr_inodes={FILES_MAX}");
    tmpfs(WORK, &own, MsFlags::empty())?;
    tmpfs("/tmp", &own, MsFlags::empty())?;
    for SharedFolder { from, at } in &sandbox.shared {
        fs::create_dir_all(at).map_err(|error| failed_at("folder", at, &error))?;
        let flags = MsFlags::MS_BIND | MsFlags::MS_REC;
        mount(Some(from), at, None::<&str>, flags, None::<&str>)
            .map_err(|error| failed_at("showing", at, &error))?;
    }
    if spec.terminals {
        let quiet = MsFlags::MS_NOSUID | MsFlags::MS_NOEXEC;
        let options = Some("newinstance,ptmxmode=0666,mode=0600,max=64");
        match mount(Some("devpts"), "/dev/pts", Some("devpts"), quiet, options) {
            // A kernel without pseudo-terminals has none for anybody.
            Ok(()) | Err(nix::Error::ENODEV) => {}
            Err(error) => return Err(format!("/dev/pts: {error}")),
        }
    }
    if spec.driver {
        tmpfs(DRIVER, &format!("mode=0755,size={DRIVER_MAX}"), MsFlags::empty())?;
    }
    Ok(Places { work: WORK.into(), driver: DRIVER.into(), view: None })
}

/// Writes what is in an archive below `folder`, owned by `owner`. Nothing that earlier archives put there is
/// followed: a link gives way, as a file does.
fn unpack(
    archive: &Archive,
    folder: &Path,
    owner: Option<u32>,
    written: TimeSpec,
) -> Result<(), SetUpFailure> {
    for entry in archive.reader().map_err(|error| error.to_string())? {
        let entry = entry.map_err(|error| error.to_string())?;
        let path = folder.join(OsStr::from_bytes(entry.path.as_bytes()));
        let Some(node) = entry.node else {
            clear_place(&path)?;
            continue;
        };
        make_parents(&path, folder, owner)?;
        clear_place(&path)?;
        match node {
            Node::Link { to } => symlink(OsStr::from_bytes(&to), &path)
                .map_err(|error| not_written("link", &path, &error))?,
            Node::File { bytes, executable } => {
                let mut file = OpenOptions::new()
                    .write(true)
                    .create_new(true)
                    .open(&path)
                    .map_err(|error| not_written("writing", &path, &error))?;
                file.write_all(&bytes).map_err(|error| not_written("writing", &path, &error))?;
                let mode = if executable { 0o755 } else { 0o644 };
                file.set_permissions(Permissions::from_mode(mode))
                    .map_err(|error| failed_at("mode of", &path, &error))?;
            }
        }
        own(&path, owner)?;
        // Files that are written again are no newer than what was made of them before.
        utimensat(AT_FDCWD, &path, &written, &written, UtimensatFlags::NoFollowSymlink)
            .map_err(|error| failed_at("time of", &path, &error))?;
    }
    Ok(())
}

/// Makes the folders between `folder` and a path.
fn make_parents(path: &Path, folder: &Path, owner: Option<u32>) -> Result<(), SetUpFailure> {
    let mut parents: Vec<&Path> = path.ancestors().skip(1).take_while(|it| *it != folder).collect();
    parents.reverse();
    for parent in parents {
        let is_folder = fs::symlink_metadata(parent).is_ok_and(|it| it.is_dir());
        if !is_folder {
            let _ = fs::remove_file(parent);
            fs::create_dir(parent).map_err(|error| not_written("folder", parent, &error))?;
            own(parent, owner)?;
        }
    }
    Ok(())
}

/// Removes what stands under a path, itself and not where it leads.
fn clear_place(path: &Path) -> Result<(), SetUpFailure> {
    let removed = match fs::symlink_metadata(path) {
        Ok(it) if it.is_dir() => fs::remove_dir_all(path),
        Ok(_) => fs::remove_file(path),
        Err(_) => Ok(()),
    };
    Ok(removed.map_err(|error| failed_at("replacing", path, &error))?)
}

fn own(path: &Path, owner: Option<u32>) -> Result<(), SetUpFailure> {
    match owner {
        Some(id) => lchown(path, Some(id), Some(id))
            .map_err(|error| SetUpFailure::Failed(failed_at("owner of", path, &error))),
        None => Ok(()),
    }
}

fn not_written(what: &str, path: &Path, error: &io::Error) -> SetUpFailure {
    match error.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => SetUpFailure::Full,
        _ => SetUpFailure::Failed(failed_at(what, path, error)),
    }
}
