//! Who belongs to a run, and what they use: looked up in `/proc` (proc_pid_stat(5)).

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::time::Duration;

use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::{Pid, SysconfVar, getpgrp, getpid, sysconf};

use super::identity::{Identity, end_all_of};
use super::state::SandboxState;
use super::wait::{self, Waited};

/// How long those that were ended are given to be gone.
const BETWEEN_KILLS: Duration = Duration::from_micros(200);

/// Processes of a run that are looked at, or waited for, before any is ended.
const SOME: usize = 64;

/// How the processes of a run are told apart from others.
#[derive(Debug, Clone, Copy)]
pub enum Members {
    /// All of the process namespace, but process 1.
    Namespace,
    /// All of a user that is the run's alone.
    User(Identity),
    /// All that descend from the supervisor.
    Descendants,
}

/// What all processes use at one moment.
#[derive(Debug, Default)]
pub struct ProcessStats {
    /// Processor time, of those that were waited for by others in the run, too.
    pub cpu: Duration,
    /// Memory, in bytes.
    pub memory: u64,
    /// Processes and threads.
    pub processes: u32,
    /// Whether one of them has a processor, or wants one.
    pub wants_cpu: bool,
}

/// Looks at processes.
#[derive(Debug)]
pub struct ProcessTable {
    members: Members,
    /// Whether the kernel lists the children of a process.
    lists_children: bool,
    page: u64,
    tick: u64,
}

/// What one process uses.
struct Stat {
    wants_cpu: bool,
    parent: i32,
    group: i32,
    cpu: Duration,
    threads: u32,
    resident: u64,
}

/// Whether any thread of a process has a processor or wants one. The process itself is described by its
/// first thread alone.
fn wants_cpu_in_a_thread(pid: i32) -> bool {
    let threads = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    let mut states = threads.filter_map(|it| fs::read(it.path().join("stat")).ok());
    states.any(|text| {
        String::from_utf8_lossy(&text).rsplit_once(')').is_some_and(|it| it.1.starts_with(" R"))
    })
}

/// Every process that `/proc` shows.
fn all_processes() -> impl Iterator<Item = (i32, fs::DirEntry)> {
    fs::read_dir("/proc").into_iter().flatten().flatten().filter_map(|entry| {
        let pid = entry.file_name().to_str()?.parse::<i32>().ok()?;
        Some((pid, entry))
    })
}

impl ProcessTable {
    pub fn new(sandbox: &SandboxState) -> Self {
        let conf = |var, otherwise: u64| {
            sysconf(var).ok().flatten().and_then(|it| u64::try_from(it).ok()).unwrap_or(otherwise)
        };
        let members = match (&sandbox.scratch, sandbox.identity.changes) {
            (None, _) => Members::Namespace,
            (Some(_), true) => Members::User(sandbox.identity),
            (Some(_), false) => Members::Descendants,
        };
        Self {
            members,
            lists_children: fs::exists("/proc/thread-self/children").unwrap_or(false),
            page: conf(SysconfVar::PAGE_SIZE, 4096),
            tick: conf(SysconfVar::CLK_TCK, 100),
        }
    }

    /// Adds up all processes of the run, or so many that it is clear that they are more than `crowd`.
    /// `most` is the memory at which an exact figure is wanted.
    pub fn stats(&self, most: u64, crowd: u32) -> ProcessStats {
        let mut stats = ProcessStats::default();
        let pids = self.pids_up_to(2 * crowd as usize + 1);
        for &pid in &pids {
            let Some(stat) = self.stat(pid) else { continue };
            stats.cpu += stat.cpu;
            stats.memory += stat.resident;
            stats.processes += stat.threads;
            stats.wants_cpu |= stat.wants_cpu || (stat.threads > 1 && wants_cpu_in_a_thread(pid));
        }
        // Pages that processes share were counted for each of them: only then is the exact and
        // slower figure asked for.
        if stats.memory > most && pids.len() > 1 {
            stats.memory = pids.iter().map(|&pid| self.proportional(pid)).sum();
        }
        stats
    }

    /// Bytes of open files that have no name any longer; adding up ends past `most`. A file that
    /// several have open counts for each.
    pub fn nameless(&self, most: u64) -> u64 {
        const BLOCK: u64 = 512;
        let mut sum = 0;
        for pid in self.pids() {
            for entry in fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten() {
                // Followed to the file itself, by whatever name it had.
                let Ok(meta) = fs::metadata(entry.path()) else { continue };
                if meta.is_file() && meta.nlink() == 0 {
                    sum += meta.blocks() * BLOCK;
                }
                if sum > most {
                    return sum;
                }
            }
        }
        sum
    }

    /// Ends every process of the run.
    pub fn end_all(&self) {
        match self.members {
            Members::Namespace => {
                let _ = kill(Pid::from_raw(-1), Signal::SIGKILL);
            }
            Members::User(identity) => end_all_of(identity),
            Members::Descendants => self.end_descendants(),
        }
    }

    /// Ends every process of the run and waits until the last is gone. Every orphan has become a child
    /// of this process, so without children there is nobody left.
    pub fn end_all_children(&self) {
        let mut ended = 0_usize;
        loop {
            match wait::ended_child() {
                // Asked again and again: one that was just being born may have been missed.
                Waited::Alive => {
                    self.end_all();
                    std::thread::sleep(BETWEEN_KILLS);
                }
                // Who makes processes that end at once can make them as fast as they are waited for.
                Waited::Ended(..) => {
                    ended += 1;
                    if ended.is_multiple_of(SOME) {
                        self.end_all();
                    }
                }
                Waited::NoChild => return,
            }
        }
    }

    /// Ends whole process groups at once, in which none can be born meanwhile. Of those that made groups
    /// of their own, stops all before any is ended.
    fn end_descendants(&self) {
        let own = getpgrp().as_raw();
        let some = self.pids_up_to(SOME);
        let groups: BTreeSet<i32> =
            some.into_iter().filter_map(|pid| Some(self.stat(pid)?.group)).collect();
        // The program made a session of its own, so no group of its descendants is anybody else's.
        for group in groups.into_iter().filter(|&it| it > 1 && it != own) {
            let _ = killpg(Pid::from_raw(group), Signal::SIGKILL);
        }
        self.stop_all();
        for pid in self.pids() {
            let _ = kill(Pid::from_raw(pid), Signal::SIGKILL);
        }
    }

    /// Lets every process of the run stand still.
    pub fn stop_all(&self) {
        if let Members::Namespace = self.members {
            let _ = kill(Pid::from_raw(-1), Signal::SIGSTOP);
            return;
        }
        // Looked for until there are no new ones: who stands still makes none.
        let mut stopped = BTreeSet::new();
        loop {
            let pids = self.pids();
            let new: Vec<i32> = pids.into_iter().filter(|pid| !stopped.contains(pid)).collect();
            if new.is_empty() {
                return;
            }
            for pid in new {
                let _ = kill(Pid::from_raw(pid), Signal::SIGSTOP);
                stopped.insert(pid);
            }
        }
    }

    /// Lets every process of the run go on that stands still.
    pub fn let_all_go_on(&self) {
        for pid in self.pids() {
            let _ = kill(Pid::from_raw(pid), Signal::SIGCONT);
        }
    }

    fn pids(&self) -> Vec<i32> {
        self.pids_up_to(usize::MAX)
    }

    /// Processes of the run: all, or `most` of them and a few. Where they are looked for by their
    /// parents, they can become more faster than they are found.
    fn pids_up_to(&self, most: usize) -> Vec<i32> {
        match self.members {
            Members::Namespace => all_processes().map(|it| it.0).filter(|&pid| pid != 1).collect(),
            Members::User(identity) => all_processes()
                .filter(|(_, entry)| entry.metadata().is_ok_and(|it| it.uid() == identity.id))
                .map(|it| it.0)
                .collect(),
            Members::Descendants => {
                let own = getpid().as_raw();
                let mut found = BTreeSet::from([own]);
                let mut left = vec![own];
                while found.len() <= most
                    && let Some(pid) = left.pop()
                {
                    left.extend(self.children(pid).into_iter().filter(|it| found.insert(*it)));
                }
                found.remove(&own);
                found.into_iter().collect()
            }
        }
    }

    /// The children of a process: its threads each have theirs. A kernel that does not list them
    /// is asked for the parent of everybody.
    fn children(&self, pid: i32) -> Vec<i32> {
        if !self.lists_children {
            let of_pid = |other: &i32| self.stat(*other).is_some_and(|it| it.parent == pid);
            return all_processes().map(|it| it.0).filter(of_pid).collect();
        }
        let threads = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
        let lists = threads.filter_map(|it| fs::read_to_string(it.path().join("children")).ok());
        let numbers = |list: String| -> Vec<i32> {
            list.split_whitespace().filter_map(|it| it.parse().ok()).collect()
        };
        lists.flat_map(numbers).collect()
    }

    /// Reads `/proc/PID/stat`. The name, in parentheses, may hold anything.
    fn stat(&self, pid: i32) -> Option<Stat> {
        let text = fs::read(format!("/proc/{pid}/stat")).ok()?;
        let text = String::from_utf8_lossy(&text);
        let fields: Vec<&str> = text.rsplit_once(')')?.1.split_whitespace().collect();
        // Field 3, the state, is the first one behind the name.
        let field = |number: usize| fields.get(number - 3)?.parse::<u64>().ok();
        let ticks = field(14)? + field(15)? + field(16)? + field(17)?;
        Some(Stat {
            wants_cpu: fields.first() == Some(&"R"),
            parent: i32::try_from(field(4)?).ok()?,
            group: i32::try_from(field(5)?).ok()?,
            cpu: Duration::from_millis(ticks * 1000 / self.tick),
            threads: u32::try_from(field(20)?).ok()?,
            resident: field(24)? * self.page,
        })
    }

    /// Memory of a process, what it shares being divided among those that share it.
    fn proportional(&self, pid: i32) -> u64 {
        let exact = fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).ok().and_then(|text| {
            let line = text.lines().find_map(|line| line.strip_prefix("Pss:"))?;
            line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()
        });
        exact.map_or_else(|| self.stat(pid).map_or(0, |it| it.resident), |kib| kib << 10)
    }
}
