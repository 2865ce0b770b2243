//! Who a process in the sandbox is: namespaces, user and group, capabilities.
//!
//! Started by an ordinary user, everything happens inside a user namespace whose only user is that
//! user. Started by root, the namespaces are made by root and owned by the machine's own user
//! namespace, then the processes become a user that nothing on the machine belongs to. Either
//! way the program under trial is put into one more user namespace, in which it has no
//! capabilities.

use std::fs;

use nix::sched::{CloneFlags, unshare};
use nix::unistd::{Gid, Uid, getegid, geteuid, setgroups, setresgid, setresuid};

/// The user and group that a sandbox started by root runs as. Nothing on a machine belongs to it.
const NOBODYS_ID: u32 = 2_046_820_352;

/// The user and group that a program finds itself to be.
pub const INSIDE_ID: u32 = 1000;

/// Who the warden is to become.
#[derive(Debug, Clone, Copy)]
pub struct Identity {
    /// The user and group in the warden's user namespace.
    pub id: u32,
    /// Whether the stage was started by root of the whole machine.
    pub root: bool,
}

/// Every namespace but the user's own.
const NAMESPACES: CloneFlags = CloneFlags::CLONE_NEWNS
    .union(CloneFlags::CLONE_NEWPID)
    .union(CloneFlags::CLONE_NEWNET)
    .union(CloneFlags::CLONE_NEWIPC)
    .union(CloneFlags::CLONE_NEWUTS)
    .union(CloneFlags::CLONE_NEWCGROUP);

/// Asks the kernel to end this process when its parent ends.
pub fn die_with_parent() {
    // SAFETY: a plain call with plain numbers.
    unsafe { libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL, 0, 0, 0) };
}

/// Makes the namespaces. The process namespace holds whatever is forked next.
pub fn enter_namespaces() -> Result<Identity, String> {
    if geteuid().is_root() && is_mapped(NOBODYS_ID) {
        unshare(NAMESPACES).map_err(|error| {
            format!("namespaces: {error}; root in a container may lack CAP_SYS_ADMIN")
        })?;
        return Ok(Identity { id: NOBODYS_ID, root: true });
    }
    let (uid, gid) = (geteuid(), getegid());
    unshare(CloneFlags::CLONE_NEWUSER | NAMESPACES).map_err(|error| {
        format!(
            "namespaces: {error}; this machine does not let ordinary users make them (see \
             `sysctl user.max_user_namespaces` and, on some systems, the restriction of \
             unprivileged user namespaces)"
        )
    })?;
    map_ids(uid.as_raw(), gid.as_raw())?;
    Ok(Identity { id: INSIDE_ID, root: false })
}

/// Whether a user exists in this user namespace. For root of the whole machine every user does; for
/// root of a container, only those that it was given.
fn is_mapped(id: u32) -> bool {
    let covers = |line: &str| {
        let numbers: Vec<u64> = line.split_whitespace().filter_map(|it| it.parse().ok()).collect();
        matches!(numbers[..], [first, _, count] if (first..first + count).contains(&u64::from(id)))
    };
    let map = |file: &str| fs::read_to_string(format!("/proc/self/{file}")).unwrap_or_default();
    ["uid_map", "gid_map"].iter().all(|file| map(file).lines().any(covers))
}

/// Makes `uid` and `gid` of the parent namespace the only ones of this one.
fn map_ids(uid: u32, gid: u32) -> Result<(), String> {
    let write = |file: &str, text: &str| {
        let path = format!("/proc/self/{file}");
        fs::write(&path, text).map_err(|error| format!("{path}: {error}"))
    };
    write("setgroups", "deny")?;
    write("uid_map", &format!("{INSIDE_ID} {uid} 1"))?;
    write("gid_map", &format!("{INSIDE_ID} {gid} 1"))
}

/// Makes the warden somebody without rights. What it may still do is to look after its children.
pub fn become_nobody(identity: Identity) -> Result<(), String> {
    let (uid, gid) = (Uid::from_raw(identity.id), Gid::from_raw(identity.id));
    if identity.root {
        setgroups(&[]).map_err(|error| format!("setgroups: {error}"))?;
        setresgid(gid, gid, gid).map_err(|error| format!("setresgid: {error}"))?;
        setresuid(uid, uid, uid).map_err(|error| format!("setresuid: {error}"))?;
    }
    drop_capabilities()?;
    // A change of user or of capabilities clears this.
    die_with_parent();
    // No process of the same user may look into this one or stop it by tracing.
    set_dumpable(false);
    Ok(())
}

/// Puts the calling process into a user namespace of its own, without capabilities, for good.
pub fn confine_user(identity: Identity) -> Result<(), String> {
    // The maps are files that belong to this user only while the process may be looked at.
    set_dumpable(true);
    unshare(CloneFlags::CLONE_NEWUSER).map_err(|error| format!("inner user namespace: {error}"))?;
    map_ids(identity.id, identity.id)?;
    drop_capabilities()
}

fn set_dumpable(yes: bool) {
    // SAFETY: a plain call with plain numbers.
    unsafe { libc::prctl(libc::PR_SET_DUMPABLE, libc::c_ulong::from(yes), 0, 0, 0) };
}

/// `struct __user_cap_header_struct` and two of `struct __user_cap_data_struct`, capget(2).
#[repr(C)]
struct CapHeader {
    version: u32,
    pid: i32,
}

/// `_LINUX_CAPABILITY_VERSION_3`.
const CAP_VERSION: u32 = 0x2008_0522;

/// Empties every capability set, the bounding set too, and forbids getting any by `exec`.
fn drop_capabilities() -> Result<(), String> {
    for capability in 0..64 {
        // SAFETY: a plain call with plain numbers; it fails behind the last capability.
        if unsafe { libc::prctl(libc::PR_CAPBSET_DROP, capability, 0, 0, 0) } != 0 {
            break;
        }
    }
    let header = CapHeader { version: CAP_VERSION, pid: 0 };
    let data = [0_u32; 6];
    // SAFETY: both point to structures of the layout that the kernel's ABI states.
    let done = unsafe { libc::syscall(libc::SYS_capset, &raw const header, data.as_ptr()) };
    if done != 0 {
        return Err(format!("capset: {}", std::io::Error::last_os_error()));
    }
    // SAFETY: a plain call with plain numbers.
    if unsafe { libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) } != 0 {
        return Err(format!("no_new_privs: {}", std::io::Error::last_os_error()));
    }
    Ok(())
}
