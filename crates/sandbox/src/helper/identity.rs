//! Who a process in the sandbox is: namespaces, user and group, capabilities.
//!
//! Started by an ordinary user, everything happens inside a user namespace whose only user is that
//! user. Started by root, the namespaces are made by root and owned by the machine's own user
//! namespace, then the processes become a user that nothing on the machine belongs to. Either
//! way the program under trial is put into one more user namespace, in which it has no
//! capabilities. Without namespaces, root's programs still become a user of their own.

use std::fs;

use nix::sched::{CloneFlags, unshare};
use nix::sys::prctl;
use nix::sys::signal::{Signal, kill};
use nix::unistd::{Gid, Uid, getegid, geteuid, getpid, setgroups, setresgid, setresuid};

use super::subordinate::{self, Mapper};
use super::wait;
use crate::tier::{Layer, LayerState, Tier};

/// The first user and group that a sandbox started by root runs as. Nothing on a machine belongs to
/// these.
const FIRST_ID: u32 = 0x7a00_0000;

/// How many users a zygote has, for runs that follow each other: what the kernel still counts for
/// the last run is not counted for the next.
const IDS_OF_KEEPER: u32 = 16;

/// The user and group of the trees in a store of root's, and of runs that have views of them: a file is
/// its user's own only where the two are the same.
const TREE_ID: u32 = FIRST_ID + PID_LIMIT * IDS_OF_KEEPER;

/// Numbers of processes are below this (proc_sys_kernel(5), `pid_max`), so zygotes never share.
const PID_LIMIT: u32 = 1 << 22;

/// The user and group that a program finds itself to be.
pub const INSIDE_ID: u32 = 1000;

/// Who a program is to become.
#[derive(Debug, Clone, Copy)]
pub struct Identity {
    /// The user and group in the zygote's user namespace. Where they are changed to, they are the
    /// run's alone: much of what the kernel counts, it counts for each user.
    pub id: u32,
    /// Whether they have to be changed to: the helper was started by root of the whole machine, or by a
    /// user with subordinate ones.
    pub changes: bool,
    /// Whether the zygote made itself a user namespace.
    pub own_users: bool,
}

/// What a zygote makes for itself: mounts that no other process sees, and a host name.
const KEEPER_NAMESPACES: CloneFlags = CloneFlags::CLONE_NEWNS.union(CloneFlags::CLONE_NEWUTS);

/// What each run gets new, but for the network.
pub const RUN_NAMESPACES: i32 = libc::CLONE_NEWNS
    | libc::CLONE_NEWPID
    | libc::CLONE_NEWIPC
    | libc::CLONE_NEWUTS
    | libc::CLONE_NEWCGROUP;

/// Asks the kernel to end this process when its parent ends.
pub fn die_with_parent() {
    let _ = prctl::set_pdeathsig(Signal::SIGKILL);
}

/// Makes orphans among the descendants of this process its children.
pub fn become_subreaper() {
    let _ = prctl::set_child_subreaper(true);
}

/// Makes the zygote's namespaces.
pub fn enter_namespaces() -> Result<Identity, String> {
    if is_machine_root() {
        unshare(KEEPER_NAMESPACES).map_err(|error| {
            format!("namespaces: {error}; root in a container may lack CAP_SYS_ADMIN")
        })?;
        return Ok(Identity::of_root());
    }
    let (uid, gid) = (geteuid(), getegid());
    let mapper = Mapper::ready(INSIDE_ID, uid.as_raw(), gid.as_raw());
    unshare(CloneFlags::CLONE_NEWUSER | KEEPER_NAMESPACES).map_err(|error| {
        format!(
            "namespaces: {error}; this machine does not let ordinary users make them (see \
             `sysctl user.max_user_namespaces` and, on some systems, the restriction of \
             unprivileged user namespaces)"
        )
    })?;
    hold_shared_counts();
    if let Some(count) = mapper.and_then(Mapper::map) {
        let blocks = count / IDS_OF_KEEPER;
        let block = getpid().as_raw().unsigned_abs() % blocks;
        let id = subordinate::FIRST + block * IDS_OF_KEEPER;
        return Ok(Identity { id, changes: true, own_users: true });
    }
    map_ids(uid.as_raw(), gid.as_raw())?;
    Ok(Identity { id: INSIDE_ID, changes: false, own_users: true })
}

impl Identity {
    /// The first of the users that a zygote of root's has.
    fn of_root() -> Self {
        let zygote = getpid().as_raw().unsigned_abs() % PID_LIMIT;
        Self { id: FIRST_ID + zygote * IDS_OF_KEEPER, changes: true, own_users: false }
    }

    /// Who a run is that has a view of a tree or makes one.
    #[must_use]
    pub fn of_trees(self) -> Self {
        match (self.changes, self.own_users) {
            (true, false) => Self { id: TREE_ID, ..self },
            (true, true) => Self { id: INSIDE_ID, changes: false, ..self },
            (false, _) => self,
        }
    }

    /// Who the next run is, after this one.
    #[must_use]
    pub fn next(self) -> Self {
        if !self.changes {
            return self;
        }
        let (block, place) = (self.id / IDS_OF_KEEPER, self.id % IDS_OF_KEEPER);
        Self { id: block * IDS_OF_KEEPER + (place + 1) % IDS_OF_KEEPER, ..self }
    }
}

/// Who programs are where there are no namespaces: for root a user that no other zygote uses, for
/// anybody else that same user.
pub fn without_namespaces() -> Identity {
    if is_machine_root() {
        return Identity::of_root();
    }
    Identity { id: geteuid().as_raw(), changes: false, own_users: false }
}

fn is_machine_root() -> bool {
    geteuid().is_root() && is_mapped(FIRST_ID) && is_mapped(TREE_ID)
}

/// Who owns the trees that this process has runs keep, where that is not the user of this process.
pub fn tree_owner() -> Option<u32> {
    is_machine_root().then_some(TREE_ID)
}

/// The layers of this module, as they are found.
pub fn layers(tier: Tier, identity: Identity) -> Vec<Layer> {
    let who = match (tier, identity.changes) {
        (Tier::Full, true) => {
            "a user for each run, in a user namespace of its own, no capabilities"
        }
        (Tier::Full, false) => "a user namespace of its own, no capabilities",
        (_, true) => "a user for each run, no capabilities",
        (_, false) => "your own user, no capabilities",
    };
    let state = if tier == Tier::Full || identity.changes {
        LayerState::Active
    } else {
        LayerState::Partly
    };
    let (space, advice) = match tier {
        Tier::Full => ("user, mount, process, network, IPC, host name, control group", ""),
        _ => ("none", "let processes make namespaces: no container around, or one that may"),
    };
    let spaces = if tier == Tier::Full { LayerState::Active } else { LayerState::Missing };
    let root = match tier {
        Tier::Full => "own root: system folders read-only, sized work folder, own /proc and /dev",
        _ => "none: the machine's files stay in place, Landlock keeps them shut",
    };
    vec![
        Layer::new("namespaces", spaces, space, advice),
        Layer::new("file system", spaces, root, if advice.is_empty() { "" } else { "as above" }),
        Layer::new("user and rights", state, who, ""),
    ]
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

/// Whether this kernel counts processes, signals and the like in each user namespace on its own.
pub fn counts_in_namespaces() -> bool {
    let release = fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
    let mut numbers = release.split(|c: char| !c.is_ascii_digit()).map(str::parse::<u32>);
    matches!((numbers.next(), numbers.next()), (Some(Ok(major)), Some(Ok(minor))) if (major, minor) >= (5, 14))
}

/// Watches on files that the programs of one zygote may have. The kernel counts them for the user who
/// started the tool, so without a bound of its own one run could take what all others need.
const WATCHES: &[(&str, u32)] = &[("max_inotify_instances", 16), ("max_inotify_watches", 8192)];

/// Sets bounds of the zygote's user namespace, where the kernel has them.
fn hold_shared_counts() {
    for (name, most) in WATCHES {
        let _ = fs::write(format!("/proc/sys/user/{name}"), most.to_string());
    }
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

/// Drops the rights of the supervisor of a run. What it may still do is to look after its
/// children.
pub fn drop_privileges(identity: Identity) -> Result<(), String> {
    if identity.changes {
        change_user(identity.id)?;
    }
    drop_capabilities()?;
    // A change of user or of capabilities clears this.
    die_with_parent();
    // No process of the same user may look into this one or stop it by tracing.
    set_dumpable(false);
    Ok(())
}

/// How ready the kernel is to end a process when memory runs out, from -1000, never, to 1000.
const SPARED: &str = "-1000";
const EXPENDABLE: &str = "500";

/// How far a program steps back behind the supervisor, where it could delay that one.
const STEPS_BACK: i32 = 10;

/// Asks the kernel never to end this process for want of memory. Only root may.
pub fn lower_oom_score() {
    let _ = fs::write("/proc/self/oom_score_adj", SPARED);
}

/// Makes the calling process what the supervisor is, but for being spared: the program must not be able
/// to take its limits along to the end of the machine. For root, this cannot be taken back.
pub fn drop_admin_rights(tier: Tier, identity: Identity) -> Result<(), String> {
    fs::write("/proc/self/oom_score_adj", EXPENDABLE)
        .map_err(|error| format!("readiness to be ended for want of memory: {error}"))?;
    if tier == Tier::Full {
        return drop_privileges(identity);
    }
    if !identity.changes {
        // The supervisor has to find every process by itself, and must not starve among them.
        // SAFETY: a plain call with plain numbers.
        unsafe { libc::setpriority(libc::PRIO_PROCESS, 0, STEPS_BACK) };
    }
    Ok(())
}

fn change_user(id: u32) -> Result<(), String> {
    let (uid, gid) = (Uid::from_raw(id), Gid::from_raw(id));
    // It takes a right that is gone afterwards.
    drop_bounding_set();
    setgroups(&[]).map_err(|error| format!("setgroups: {error}"))?;
    setresgid(gid, gid, gid).map_err(|error| format!("setresgid: {error}"))?;
    setresuid(uid, uid, uid).map_err(|error| format!("setresuid: {error}"))
}

/// Puts the calling process into a user namespace of its own, without capabilities, for good.
/// Where there are no namespaces, it becomes the run's user.
pub fn confine_user(tier: Tier, identity: Identity) -> Result<(), String> {
    // The maps are files that belong to this user only while the process may be looked at.
    set_dumpable(true);
    match tier {
        Tier::Full => {
            unshare(CloneFlags::CLONE_NEWUSER)
                .map_err(|error| format!("helper user namespace: {error}"))?;
            map_ids(identity.id, identity.id)?;
        }
        Tier::Plain | Tier::Trusted if identity.changes => change_user(identity.id)?,
        Tier::Plain | Tier::Trusted => {}
    }
    drop_capabilities()
}

/// Ends every process of a run's own user. For root without namespaces: nobody else is that user.
pub fn end_all_of(identity: Identity) {
    // SAFETY: this process has one thread.
    match unsafe { nix::unistd::fork() } {
        Ok(nix::unistd::ForkResult::Child) => {
            if change_user(identity.id).is_ok() {
                let _ = kill(nix::unistd::Pid::from_raw(-1), Signal::SIGKILL);
            }
            // SAFETY: ends the process; nothing of the supervisor's is to be run again here.
            unsafe { libc::_exit(0) }
        }
        Ok(nix::unistd::ForkResult::Parent { child }) => {
            let _ = wait::for_child(child);
        }
        Err(_) => {}
    }
}

fn set_dumpable(yes: bool) {
    let _ = prctl::set_dumpable(yes);
}

/// `struct __user_cap_header_struct` and two of `struct __user_cap_data_struct`, capget(2).
#[repr(C)]
struct CapHeader {
    version: u32,
    pid: i32,
}

/// `_LINUX_CAPABILITY_VERSION_3`.
const CAP_VERSION: u32 = 0x2008_0522;

/// Forbids getting any capability by `exec`, as far as this process may.
fn drop_bounding_set() {
    for capability in 0..64 {
        // SAFETY: a plain call with plain numbers; it fails behind the last capability.
        if unsafe { libc::prctl(libc::PR_CAPBSET_DROP, capability, 0, 0, 0) } != 0 {
            break;
        }
    }
}

/// Empties every capability set, and forbids getting any by `exec`.
fn drop_capabilities() -> Result<(), String> {
    drop_bounding_set();
    let header = CapHeader { version: CAP_VERSION, pid: 0 };
    let data = [0_u32; 6];
    // SAFETY: both point to structures of the layout that the kernel's ABI states.
    let done = unsafe { libc::syscall(libc::SYS_capset, &raw const header, data.as_ptr()) };
    if done != 0 {
        return Err(format!("capset: {}", std::io::Error::last_os_error()));
    }
    prctl::set_no_new_privs().map_err(|error| format!("no_new_privs: {error}"))
}
