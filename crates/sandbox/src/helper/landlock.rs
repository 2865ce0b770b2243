//! Landlock (landlock(7)): a second fence around files, behind the mounts, and one around TCP,
//! abstract sockets and signals. Without namespaces it is the only fence around files.
//!
//! The new root of the full tier holds nothing but what a program may see, so all of it may be read
//! and run, and only the work folder, `/tmp` and `/dev` may be written to. Without a root
//! of its own, a program may read the system's folders and those of its tool, and write to its own
//! folders only. Kernels differ in what they can restrict; each restricts what it can.

use std::path::{Path, PathBuf};

use landlock::{
    ABI, Access as _, AccessFs, AccessNet, BitFlags, CompatLevel, Compatible as _, NetPort,
    PathBeneath, PathFd, Ruleset, RulesetAttr as _, RulesetCreated, RulesetCreatedAttr as _,
    RulesetError, Scope,
};

use super::identity::Identity;
use super::root::{ETC, SYSTEM};
use super::state::SandboxState;
use crate::job::{OWN_PROGRAM, Reach, WORK};
use crate::tier::{Layer, LayerState, Tier};

/// The newest set of restrictions that is asked for.
const NEWEST: ABI = ABI::V6;

/// The version that restricts signals and abstract sockets, and so keeps a program from the user's
/// other processes.
const SCOPES: i32 = 6;

/// The version that restricts TCP.
const TCP: i32 = 4;

/// Where a program of the full tier may write. Not in `/proc`, where it could put itself behind the
/// supervisor in the order in which the kernel ends processes; its streams can be opened there all the
/// same, since a pipe lies in no folder.
const WRITABLE: &[&str] = &[WORK, "/tmp", "/dev"];

/// What a program without a root of its own may read besides the system's folders.
const READABLE: &[&str] = &[
    "/proc/self",
    "/proc/cpuinfo",
    "/proc/meminfo",
    "/proc/filesystems",
    "/proc/sys/vm/overcommit_memory",
    "/proc/sys/kernel/ngroups_max",
    "/sys/devices/system/cpu",
    "/sys/kernel/mm/transparent_hugepage",
    "/dev/zero",
    "/dev/full",
    "/dev/random",
    "/dev/urandom",
];

/// Which version of Landlock the kernel has; 0 without it.
pub fn version() -> i32 {
    const GET_VERSION: u32 = 1;
    // SAFETY: a plain call; with this flag no structure is read.
    let found =
        unsafe { libc::syscall(libc::SYS_landlock_create_ruleset, 0_usize, 0_usize, GET_VERSION) };
    i32::try_from(found).unwrap_or(0).max(0)
}

/// The layer, as it was found.
pub fn layer() -> Layer {
    let (name, version) = ("Landlock", version());
    let newer = "use Linux 6.12 or newer";
    match version {
        0 => Layer::new(
            name,
            LayerState::Missing,
            "the kernel has none, or it is switched off",
            "use a kernel with CONFIG_SECURITY_LANDLOCK and `landlock` among the `lsm=` modules",
        ),
        1..TCP => Layer::new(name, LayerState::Partly, format!("version {version}: files"), newer),
        TCP..SCOPES => {
            Layer::new(name, LayerState::Partly, format!("version {version}: files, TCP"), newer)
        }
        _ => {
            let found = format!("version {version}: files, TCP, signals, abstract sockets");
            Layer::new(name, LayerState::Active, found, "")
        }
    }
}

/// Whether Landlock is enough without namespaces.
///
/// # Errors
/// Says what is missing.
pub fn is_enough_alone(identity: Identity) -> Result<(), String> {
    match version() {
        0 => Err("the kernel has no Landlock".to_owned()),
        1..SCOPES if !identity.changes => Err(
            "Landlock of this kernel does not keep signals from your other processes; that takes \
             Linux 6.12"
                .to_owned(),
        ),
        _ => Ok(()),
    }
}

/// Puts the calling process, and all that it starts, behind the fence. `network` is what it may connect to.
pub fn install(sandbox: &SandboxState, network: Reach) -> Result<(), String> {
    let restricted = match (&sandbox.scratch, sandbox.tier) {
        (None, _) => in_own_root(network),
        (Some(scratch), Tier::Plain) => {
            let own = [scratch.work(), scratch.tmp()];
            in_place(&own, &scratch.driver(), &sandbox.show)
        }
        (Some(_), _) => Ok(()),
    };
    restricted.map_err(|error| format!("landlock: {error}"))
}

fn ruleset(level: CompatLevel, network: Reach) -> Result<RulesetCreated, RulesetError> {
    let ruleset = Ruleset::default()
        .set_compatibility(level)
        .handle_access(AccessFs::from_all(ABI::V1))?
        .set_compatibility(CompatLevel::BestEffort)
        .handle_access(AccessFs::from_all(NEWEST))?
        .scope(Scope::from_all(NEWEST))?;
    match network {
        // No port but the tool's own is named below, so no other can be bound or connected to.
        Reach::Nothing | Reach::Port(_) => {
            ruleset.handle_access(AccessNet::from_all(NEWEST))?.create()
        }
        // Its network namespace is all that there is to be reached, or everything is.
        Reach::Loopback { .. } | Reach::Machine => ruleset.create(),
    }
}

fn in_own_root(network: Reach) -> Result<(), RulesetError> {
    let mut ruleset = ruleset(CompatLevel::BestEffort, network)?;
    if let Reach::Port(port) = network {
        ruleset = ruleset.add_rule(NetPort::new(port, AccessNet::ConnectTcp))?;
    }
    ruleset = allow(ruleset, Path::new("/"), AccessFs::from_read(NEWEST))?;
    // What a run starts as its own program lies in no folder that it sees.
    ruleset = allow(ruleset, Path::new(OWN_PROGRAM), AccessFs::from_read(NEWEST))?;
    for path in WRITABLE {
        ruleset = allow(ruleset, Path::new(path), AccessFs::from_all(NEWEST))?;
    }
    ruleset.restrict_self().map(drop)
}

fn in_place(own: &[PathBuf], driver: &Path, show: &[PathBuf]) -> Result<(), RulesetError> {
    // Nothing else stands around the files: a kernel that cannot is no kernel for this.
    let mut ruleset = ruleset(CompatLevel::HardRequirement, Reach::Nothing)?;
    let read = AccessFs::from_read(NEWEST);
    let etc: Vec<PathBuf> = ETC.iter().map(|name| Path::new("/etc").join(name)).collect();
    let java = std::fs::read_dir("/etc").into_iter().flatten().flatten();
    let java = java.filter(|it| it.file_name().to_string_lossy().starts_with("java-"));
    let java: Vec<PathBuf> = java.map(|it| it.path()).collect();
    let fixed = SYSTEM.iter().chain(READABLE).map(PathBuf::from);
    let all = fixed.chain(etc).chain(java).chain(show.iter().cloned());
    for path in all.chain([driver.to_owned()]) {
        ruleset = allow(ruleset, &path, read)?;
    }
    ruleset = allow(ruleset, Path::new(OWN_PROGRAM), AccessFs::from_read(NEWEST))?;
    for path in own {
        ruleset = allow(ruleset, path, AccessFs::from_all(NEWEST))?;
    }
    ruleset = allow(ruleset, Path::new("/dev/null"), AccessFs::from_file(NEWEST))?;
    ruleset.restrict_self().map(drop)
}

fn allow(
    ruleset: RulesetCreated,
    path: &Path,
    access: BitFlags<AccessFs>,
) -> Result<RulesetCreated, RulesetError> {
    match PathFd::new(path) {
        Ok(fd) => {
            let access = if path.is_dir() { access } else { access & AccessFs::from_file(NEWEST) };
            ruleset.add_rule(PathBeneath::new(fd, access))
        }
        // What is not there needs no permission.
        Err(_) => Ok(ruleset),
    }
}
