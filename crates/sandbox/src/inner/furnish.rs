//! What a run finds that is its own: mounts of its own, and the files of its job.

use std::fs::{self, OpenOptions, Permissions};
use std::io::Write as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

use nix::mount::{MntFlags, MsFlags, mount, umount2};
use nix::unistd::{Gid, Uid, chown};

use super::Handed;
use super::house::House;
use super::root::{Again, OLD_PROC, QUIET, QUIET_DIR, tmpfs, told};
use crate::archive::Archive;
use crate::job::{DRIVER, WORK};
use crate::wire::Spec;

/// Largest file count of a work folder or `/tmp`.
const FILES_MAX: u32 = 100_000;

/// Bytes that a driver's files may have.
const DRIVER_MAX: u64 = 64 << 20;

/// Where the folders of a run are.
pub struct Places {
    pub work: PathBuf,
    pub driver: PathBuf,
}

/// Lays out a run's own part of what its program sees.
pub fn furnish(house: &House, spec: &Spec, handed: &Handed) -> Result<Places, String> {
    let places = match &house.scratch {
        None => mount_own(house, spec)?,
        Some(scratch) => {
            scratch.fresh()?;
            Places { work: scratch.work(), driver: scratch.driver() }
        }
    };
    if let Some(driver) = &handed.driver {
        unpack(driver, &places.driver, None)?;
        if house.scratch.is_none() {
            let read_only = MsFlags::MS_REMOUNT | MsFlags::MS_BIND | MsFlags::MS_RDONLY | QUIET_DIR;
            mount(None::<&str>, DRIVER, None::<&str>, read_only, None::<&str>)
                .map_err(|error| format!("making the driver read-only: {error}"))?;
        }
    }
    let owner = (house.scratch.is_none() || house.identity.root).then_some(house.identity.id);
    for layer in &handed.layers {
        unpack(layer, &places.work, owner)?;
    }
    Ok(places)
}

/// Mounts what does not depend on the run.
pub fn mount_ahead(house: &House) -> Result<(), String> {
    mount(Some("proc"), "/proc", Some("proc"), QUIET, None::<&str>)
        .map_err(|error| format!("/proc: {error}"))?;
    if house.identity.own_users {
        umount2(OLD_PROC, MntFlags::MNT_DETACH).map_err(|error| format!("old /proc: {error}"))?;
    }
    Ok(())
}

fn mount_own(house: &House, spec: &Spec) -> Result<Places, String> {
    let (id, disk) = (house.identity.id, spec.caps.disk);
    let own = format!("mode=0700,uid={id},gid={id},size={disk},nr_inodes={FILES_MAX}");
    tmpfs(WORK, &own, MsFlags::empty())?;
    tmpfs("/tmp", &own, MsFlags::empty())?;
    for Again { from, at } in &house.again {
        fs::create_dir_all(at).map_err(|error| told("folder", at, &error))?;
        let flags = MsFlags::MS_BIND | MsFlags::MS_REC;
        mount(Some(from), at, None::<&str>, flags, None::<&str>)
            .map_err(|error| told("showing", at, &error))?;
    }
    if spec.driver {
        tmpfs(DRIVER, &format!("mode=0755,size={DRIVER_MAX}"), MsFlags::empty())?;
    }
    Ok(Places { work: WORK.into(), driver: DRIVER.into() })
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
