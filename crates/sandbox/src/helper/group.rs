//! A control group (cgroups(7)) for memory, processes and processor time, where one may be made.
//!
//! Moving a process into a group can wait for milliseconds, so only the zygote moves, once; its
//! supervisors and their programs are born inside. The limit on memory is a ceiling against bursts
//! between two polls: the finer limit is the supervisor's. Version 2 is used where the controllers are
//! handed down to this process's group or one above it, else version 1.

use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, BorrowedFd, OwnedFd};
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use nix::fcntl::{OFlag, open, openat};
use nix::sys::signal::kill;
use nix::sys::stat::Mode;
use nix::unistd::{Pid, UnlinkatFlags, getpid, unlinkat};

use crate::job::Caps;
use crate::tier::{Layer, LayerState};

/// What zygote and supervisor themselves may need, in bytes.
const OWN_MEMORY: u64 = 16 << 20;

/// Processes of our own in the group: zygote, supervisor, and one that ends the others.
const OWN_PROCESSES: u32 = 3;

/// How the names of our groups begin.
const PREFIX: &str = "fairtrial-";

/// A group that this process is in, in every hierarchy that is needed.
#[derive(Debug)]
pub struct Group {
    version: CgroupVersion,
    homes: Vec<Home>,
    cpu: File,
    memory_kills: MemoryKills,
}

/// Counts the processes of a group that the kernel ended for want of memory, for whoever has it: the
/// tool, too.
#[derive(Debug)]
pub struct MemoryKills(File);

impl MemoryKills {
    /// By a descriptor that the zygote sent.
    pub fn from_fd(fd: OwnedFd) -> Self {
        Self(fd.into())
    }

    /// The descriptor, to be sent.
    pub fn as_fd(&self) -> BorrowedFd<'_> {
        self.0.as_fd()
    }

    /// How many there were; 0 when the group is gone.
    pub fn count(&self) -> u64 {
        read(&self.0).and_then(|text| value_of("oom_kill", &text)).unwrap_or(0)
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum CgroupVersion {
    One,
    Two,
}

/// One folder of the group.
#[derive(Debug)]
struct Home {
    parent: OwnedFd,
    name: String,
    folder: OwnedFd,
    /// Where this process was before. In version 2 that is never the parent, which hands
    /// controllers down and so may hold no process.
    before: OwnedFd,
}

impl Group {
    /// Makes a group and moves this process into it. `None` where that is not allowed.
    pub fn make() -> Option<Self> {
        let mounts = fs::read_to_string("/proc/self/mountinfo").ok()?;
        let own = fs::read_to_string("/proc/self/cgroup").ok()?;
        Self::make_second(&mounts, &own).or_else(|| Self::make_first(&mounts, &own))
    }

    fn make_second(mounts: &str, own: &str) -> Option<Self> {
        let place = place_of("", mounts, own)?;
        let top = place.mount.clone();
        let above = place.folder().ancestors().map(Path::to_owned).collect::<Vec<_>>();
        let above = above.into_iter().take_while(|it| it.starts_with(&top));
        let hands_down = |folder: &PathBuf| {
            let text = fs::read_to_string(folder.join("cgroup.subtree_control"));
            let given = text.unwrap_or_default();
            ["memory", "pids"].iter().all(|it| given.split_whitespace().any(|has| has == *it))
        };
        let home = above
            .filter(hands_down)
            .find_map(|folder| Home::make(&folder, &place.folder()).ok())?;
        let file = |name| File::open(home.path(name));
        match (file("cpu.stat"), file("memory.events")) {
            (Ok(cpu), Ok(oom)) => {
                let (version, memory_kills) = (CgroupVersion::Two, MemoryKills(oom));
                Some(Self { version, homes: vec![home], cpu, memory_kills })
            }
            _ => {
                home.remove();
                None
            }
        }
    }

    fn make_first(mounts: &str, own: &str) -> Option<Self> {
        let mut homes: Vec<Home> = Vec::new();
        for controller in ["memory", "pids", "cpuacct"] {
            let place = place_of(controller, mounts, own).map(|place| place.folder());
            match place.map(|place| Home::make(&place, &place)) {
                Some(Ok(home)) => homes.push(home),
                _ => {
                    homes.into_iter().for_each(Home::remove);
                    return None;
                }
            }
        }
        let cpu = File::open(homes[2].path("cpuacct.usage"));
        let oom = File::open(homes[0].path("memory.oom_control"));
        match (cpu, oom) {
            (Ok(cpu), Ok(oom)) => {
                let (version, memory_kills) = (CgroupVersion::One, MemoryKills(oom));
                Some(Self { version, homes, cpu, memory_kills })
            }
            _ => {
                homes.into_iter().for_each(Home::remove);
                None
            }
        }
    }

    /// Sets the ceilings for the next run. A kernel that takes one of them not leaves the polling to
    /// hold it.
    pub fn limit(&self, caps: &Caps) {
        // The work folder, `/tmp`, and what is collected of the first are memory, too.
        let memory = (caps.memory + 3 * caps.disk + OWN_MEMORY).to_string();
        let processes = (caps.processes + OWN_PROCESSES).to_string();
        let [first, .., last] = [&self.homes[0], &self.homes[1 % self.homes.len()]];
        match self.version {
            CgroupVersion::Two => {
                first.write("memory.max", &memory);
                first.write("memory.swap.max", "0");
                first.write("pids.max", &processes);
            }
            CgroupVersion::One => {
                // Memory with swap may never be below memory: which comes first depends on what
                // stood there.
                for name in ["limit_in_bytes", "memsw.limit_in_bytes", "limit_in_bytes"] {
                    first.write(&format!("memory.{name}"), &memory);
                }
                last.write("pids.max", &processes);
            }
        }
    }

    /// Processor time of the group since it was made.
    pub fn cpu(&self) -> Option<Duration> {
        let text = read(&self.cpu)?;
        match self.version {
            CgroupVersion::One => Some(Duration::from_nanos(text.trim().parse().ok()?)),
            CgroupVersion::Two => Some(Duration::from_micros(value_of("usage_usec", &text)?)),
        }
    }

    /// Counts the processes of the group that the kernel ended for want of memory.
    pub fn memory_kills(&self) -> &MemoryKills {
        &self.memory_kills
    }

    /// Leaves the group and removes it.
    pub fn remove(self) {
        self.homes.into_iter().for_each(Home::remove);
    }

    /// The layer, as it was found.
    pub fn layer(group: Option<&Self>) -> Layer {
        let name = "control group";
        match group.map(|it| it.version) {
            Some(CgroupVersion::One) => Layer::new(
                name,
                LayerState::Active,
                "version 1: memory, processes, processor time",
                "",
            ),
            Some(CgroupVersion::Two) => Layer::new(
                name,
                LayerState::Active,
                "version 2: memory, processes, processor time",
                "",
            ),
            None => Layer::new(
                name,
                LayerState::Missing,
                "none may be made; memory and processor time are looked at every 20 ms",
                "start it as root, or in a group that is handed down with memory and pids \
                 (systemd: `systemd-run --user --scope -p Delegate=yes …`)",
            ),
        }
    }
}

impl Home {
    /// Makes a folder for this process in a group's folder, and moves in. `before` is the folder
    /// of the group that it is in.
    fn make(at: &Path, before: &Path) -> io::Result<Self> {
        sweep(at);
        let name = format!("{PREFIX}{}", getpid());
        let flags = OFlag::O_PATH | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC;
        let folder = |path: &Path| open(path, flags, Mode::empty()).map_err(io::Error::from);
        let path = at.join(&name);
        fs::create_dir(&path)?;
        let before = folder(before)?;
        let home = Self { parent: folder(at)?, name, folder: folder(&path)?, before };
        match fs::write(home.path("cgroup.procs"), getpid().to_string()) {
            Ok(()) => Ok(home),
            Err(error) => {
                let _ = fs::remove_dir(&path);
                Err(error)
            }
        }
    }

    /// A file of the group, whatever is mounted by now.
    fn path(&self, name: &str) -> PathBuf {
        PathBuf::from(format!("/proc/self/fd/{}/{name}", self.folder.as_raw_fd()))
    }

    fn write(&self, name: &str, text: &str) {
        use std::io::Write as _;
        // Not by way of `/proc`, which the zygote's root does not have.
        let flags = OFlag::O_WRONLY | OFlag::O_CLOEXEC;
        if let Ok(file) = openat(&self.folder, name, flags, Mode::empty()) {
            let _ = File::from(file).write_all(text.as_bytes());
        }
    }

    fn remove(self) {
        use std::io::Write as _;
        let flags = OFlag::O_WRONLY | OFlag::O_CLOEXEC;
        if let Ok(procs) = openat(&self.before, "cgroup.procs", flags, Mode::empty()) {
            let _ = File::from(procs).write_all(getpid().to_string().as_bytes());
        }
        let _ = unlinkat(&self.parent, self.name.as_str(), UnlinkatFlags::RemoveDir);
    }
}

/// Removes groups of zygotes that were killed before they could do it themselves.
fn sweep(at: &Path) {
    for entry in fs::read_dir(at).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let pid = name.to_str().and_then(|it| it.strip_prefix(PREFIX));
        let Some(pid) = pid.and_then(|it| it.parse::<i32>().ok()) else { continue };
        // No signal at all only asks whether the process is there.
        if kill(Pid::from_raw(pid), None).is_err() {
            let _ = fs::remove_dir(entry.path());
        }
    }
}

fn read(file: &File) -> Option<String> {
    let mut bytes = [0; 4096];
    let count = file.read_at(&mut bytes, 0).ok()?;
    Some(String::from_utf8_lossy(&bytes[..count]).into_owned())
}

/// The number after a key in a file of lines `key number`.
fn value_of(key: &str, text: &str) -> Option<u64> {
    let mut lines = text.lines().filter_map(|line| line.split_once(' '));
    lines.find(|line| line.0 == key)?.1.trim().parse().ok()
}

/// Where a hierarchy is mounted, and where in it this process is.
#[derive(Debug, PartialEq, Eq)]
struct GroupPlace {
    mount: PathBuf,
    below: PathBuf,
}

impl GroupPlace {
    fn folder(&self) -> PathBuf {
        self.mount.join(&self.below)
    }
}

/// The place of a version 1 controller, or of version 2 when `controller` is empty.
fn place_of(controller: &str, mounts: &str, own: &str) -> Option<GroupPlace> {
    let mine = own.lines().find_map(|line| {
        let mut parts = line.splitn(3, ':');
        let (_, controllers, path) = (parts.next()?, parts.next()?, parts.next()?);
        controllers.split(',').any(|it| it == controller).then_some(path)
    })?;
    // proc_pid_mountinfo(5): ID, parent, device, root, mount point, …, `-`, type, source, options.
    let (root, mount) = mounts.lines().find_map(|line| {
        let (head, tail) = line.split_once(" - ")?;
        let mut tail = tail.split(' ');
        let (kind, options) = (tail.next()?, tail.nth(1)?);
        let fits = if controller.is_empty() {
            kind == "cgroup2"
        } else {
            kind == "cgroup" && options.split(',').any(|it| it == controller)
        };
        let mut head = head.split(' ').skip(3);
        fits.then_some((head.next()?, head.next()?))
    })?;
    let below = Path::new(mine).strip_prefix(root).ok()?;
    Some(GroupPlace { mount: PathBuf::from(mount), below: below.to_owned() })
}

#[cfg(test)]
mod tests {
    use super::*;

    const MOUNTS: &str = "30 25 0:26 / /sys/fs/cgroup/memory rw shared:9 - cgroup cgroup rw,memory\n\
        31 25 0:27 /docker/ab /cg/cpu rw - cgroup cgroup rw,cpu,cpuacct\n\
        32 25 0:28 / /sys/fs/cgroup/unified rw - cgroup2 cgroup2 rw\n";
    const OWN: &str = "4:memory:/jobs/7\n2:cpu,cpuacct:/docker/ab/x\n0::/\n";

    #[test]
    fn a_process_finds_where_it_is() {
        let at = |controller| place_of(controller, MOUNTS, OWN).map(|it| it.folder());
        assert_eq!(at("memory"), Some("/sys/fs/cgroup/memory/jobs/7".into()));
        assert_eq!(at("cpuacct"), Some("/cg/cpu/x".into()));
        assert_eq!(at(""), Some("/sys/fs/cgroup/unified".into()));
        assert_eq!(at("pids"), None);
    }

    #[test]
    fn keys_are_not_taken_for_others_that_begin_like_them() {
        let text = "oom 3\noom_kill_disable 0\noom_kill 2\n";
        assert_eq!(value_of("oom_kill", text), Some(2));
        assert_eq!(value_of("oom_group", text), None);
    }
}
