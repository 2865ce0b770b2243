//! Process 1 of the sandbox: starts the program, watches it, ends what is left of it, reports.

use std::fs::{self, File};
use std::io::Read as _;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::time::{Duration, Instant};

use nix::fcntl::OFlag;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::signal::{SigSet, Signal, kill};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use nix::sys::time::TimeValLike as _;
use nix::sys::wait::{WaitPidFlag, WaitStatus, waitpid};
use nix::unistd::{ForkResult, Pid, SysconfVar, fork, pipe2, sysconf};

use super::identity::{Identity, become_nobody, die_with_parent};
use super::{Handed, program, root};
use crate::job::{Caps, Ending, LimitHit};
use crate::wire::{self, Ended, Order, Report, Spec};

/// How long the first look at the processes waits: most runs are over by then.
const FIRST_LOOK: Duration = Duration::from_millis(10);

/// Longest time between two looks.
const LOOK_MAX: Duration = Duration::from_millis(20);

/// Runs the program and says what came of it.
pub fn serve(
    control: BorrowedFd<'_>,
    spec: &Spec,
    mut handed: Handed,
    identity: Identity,
) -> Result<Report, String> {
    die_with_parent();
    root::build(spec, handed.driver.as_ref(), &handed.layers, identity)?;
    become_nobody(identity)?;
    let (failed_read, failed_write) = pipe2(OFlag::O_CLOEXEC).map_err(|it| it.to_string())?;
    let mut signals = SigSet::empty();
    signals.add(Signal::SIGCHLD);
    signals.thread_block().map_err(|it| it.to_string())?;
    let children = SignalFd::with_flags(&signals, SfdFlags::SFD_CLOEXEC | SfdFlags::SFD_NONBLOCK)
        .map_err(|it| it.to_string())?;
    let started = Instant::now();
    // SAFETY: this process has one thread.
    let pid = match unsafe { fork() }.map_err(|error| format!("fork: {error}"))? {
        ForkResult::Parent { child } => child,
        ForkResult::Child => {
            let failed = program::become_program(spec, &handed, identity);
            tell_failure(&failed_write, failed);
            // SAFETY: ends the process; nothing of the warden's is to be run again here.
            unsafe { libc::_exit(127) }
        }
    };
    drop(failed_write);
    let collected = handed.collected.take();
    drop(handed);
    let ended = Watch::new(pid, spec.caps, started).run(control, &children);
    if let Some(report) = failure(failed_read, spec) {
        return Ok(report);
    }
    if let Some(mut archive) = collected {
        root::collect(&spec.collect, &mut archive, spec.caps.disk)?;
    }
    Ok(Report::Ended(ended))
}

fn tell_failure(to: &OwnedFd, failed: program::Failed) {
    let text = match failed {
        program::Failed::SetUp(why) => format!("s{why}"),
        program::Failed::Exec(why) => format!("e{why}"),
    };
    let _ = nix::unistd::write(to, text.as_bytes());
}

fn failure(from: OwnedFd, spec: &Spec) -> Option<Report> {
    let mut text = String::new();
    File::from(from).read_to_string(&mut text).ok()?;
    let why = text.get(1..).unwrap_or_default().to_owned();
    match text.chars().next()? {
        'e' => {
            let program = spec.command.first().cloned().unwrap_or_default();
            Some(Report::ExecFailed { program, why })
        }
        _ => Some(Report::SetUpFailed(why)),
    }
}

/// One program being watched.
struct Watch {
    pid: Pid,
    caps: Caps,
    started: Instant,
    lap_started: Instant,
    lap_cpu: Duration,
    ending: Option<Ending>,
    limit: Option<LimitHit>,
    peak_memory: u64,
    peak_processes: u32,
    page: u64,
    tick: u64,
}

/// What all processes use at one moment.
#[derive(Default)]
struct Look {
    cpu: Duration,
    memory: u64,
    processes: u32,
}

impl Watch {
    fn new(pid: Pid, caps: Caps, started: Instant) -> Self {
        let conf = |var, otherwise: u64| {
            sysconf(var).ok().flatten().and_then(|it| u64::try_from(it).ok()).unwrap_or(otherwise)
        };
        Self {
            pid,
            caps,
            started,
            lap_started: started,
            lap_cpu: Duration::ZERO,
            ending: None,
            limit: None,
            peak_memory: 0,
            peak_processes: 1,
            page: conf(SysconfVar::PAGE_SIZE, 4096),
            tick: conf(SysconfVar::CLK_TCK, 100),
        }
    }

    /// Watches until the program has ended, then ends whatever it left behind.
    fn run(mut self, control: BorrowedFd<'_>, children: &SignalFd) -> Ended {
        let mut pause = FIRST_LOOK;
        let mut heard = true;
        while self.ending.is_none() {
            let left = self.caps.wall.saturating_sub(self.lap_started.elapsed());
            let timeout = pause.min(left).max(Duration::from_millis(1));
            let mut fds = vec![PollFd::new(children.as_fd(), PollFlags::POLLIN)];
            if heard {
                fds.push(PollFd::new(control, PollFlags::POLLIN));
            }
            let timeout = PollTimeout::try_from(timeout).unwrap_or(PollTimeout::ZERO);
            let ready = poll(&mut fds, timeout).unwrap_or(0);
            let told = fds.get(1).and_then(PollFd::revents).is_some_and(|it| !it.is_empty());
            if told {
                heard = self.obey(control);
            }
            let _ = children.read_signal();
            self.reap();
            if ready == 0 && self.ending.is_none() {
                let look = self.look();
                self.hold_against(&look);
                pause = (pause * 2).min(LOOK_MAX);
            }
            if self.limit.is_some() {
                let _ = kill(Pid::from_raw(-1), Signal::SIGKILL);
            }
        }
        let wall = self.started.elapsed();
        self.end_all();
        let cpu = reaped_cpu();
        if self.limit.is_none() && self.ending == Some(Ending::Signalled(libc::SIGXCPU)) {
            self.limit = Some(LimitHit::Cpu);
        }
        let largest = getrusage(UsageWho::RUSAGE_CHILDREN).map_or(0, |it| it.max_rss());
        let largest = u64::try_from(largest).unwrap_or(0) << 10;
        // A peak between two looks counts, too.
        if self.limit.is_none() && largest > self.caps.memory {
            self.limit = Some(LimitHit::Memory);
        }
        Ended {
            ending: self.ending.unwrap_or(Ending::Exited(0)),
            limit: self.limit,
            wall,
            cpu,
            peak_memory: self.peak_memory.max(largest),
            peak_processes: self.peak_processes,
        }
    }

    /// Follows what the tool says. `false` when the tool is gone.
    fn obey(&mut self, control: BorrowedFd<'_>) -> bool {
        match wire::receive::<Order>(control) {
            Ok(Some((Order::Lap, _))) => {
                self.lap_started = Instant::now();
                self.lap_cpu = self.look().cpu;
                true
            }
            Ok(Some((Order::Kill(limit), _))) => {
                self.limit = self.limit.or(Some(limit));
                true
            }
            Ok(None) | Err(_) => {
                self.limit = self.limit.or(Some(LimitHit::Stopped));
                false
            }
        }
    }

    /// Takes note of every process that has ended.
    fn reap(&mut self) {
        loop {
            let (pid, ending) = match waitpid(None, Some(WaitPidFlag::WNOHANG)) {
                Ok(WaitStatus::Exited(pid, status)) => (pid, Ending::Exited(status)),
                Ok(WaitStatus::Signaled(pid, signal, _)) => (pid, Ending::Signalled(signal as i32)),
                Ok(WaitStatus::StillAlive) | Err(_) => return,
                Ok(_) => continue,
            };
            if pid == self.pid {
                self.ending = Some(ending);
            }
        }
    }

    /// Ends every process of the namespace and waits until the last is gone.
    fn end_all(&mut self) {
        loop {
            let _ = kill(Pid::from_raw(-1), Signal::SIGKILL);
            match waitpid(None, None) {
                Err(nix::Error::EINTR) | Ok(_) => {}
                Err(_) => return,
            }
        }
    }

    fn hold_against(&mut self, look: &Look) {
        self.peak_memory = self.peak_memory.max(look.memory);
        self.peak_processes = self.peak_processes.max(look.processes);
        let checks = [
            (look.memory > self.caps.memory, LimitHit::Memory),
            (look.cpu.saturating_sub(self.lap_cpu) > self.caps.cpu, LimitHit::Cpu),
            (self.lap_started.elapsed() >= self.caps.wall, LimitHit::Wall),
        ];
        let hit = checks.into_iter().find(|it| it.0).map(|it| it.1);
        self.limit = self.limit.or(hit);
    }

    /// Adds up all processes but this one.
    fn look(&self) -> Look {
        let mut look = Look { cpu: reaped_cpu(), ..Look::default() };
        let mut pids = Vec::new();
        for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
            let pid = entry.file_name().to_str().and_then(|it| it.parse::<u32>().ok());
            pids.extend(pid.filter(|&pid| pid != 1));
        }
        for &pid in &pids {
            let Some(stat) = self.stat(pid) else { continue };
            look.cpu += stat.cpu;
            look.memory += stat.resident;
            look.processes += stat.threads;
        }
        // Pages that processes share were counted for each of them: only then is the exact and
        // slower figure asked for.
        if look.memory > self.caps.memory && pids.len() > 1 {
            look.memory = pids.iter().map(|&pid| self.proportional(pid)).sum();
        }
        look
    }

    /// Reads `/proc/PID/stat`, proc_pid_stat(5). The name, in parentheses, may hold anything.
    fn stat(&self, pid: u32) -> Option<Stat> {
        let text = fs::read(format!("/proc/{pid}/stat")).ok()?;
        let text = String::from_utf8_lossy(&text);
        let fields: Vec<&str> = text.rsplit_once(')')?.1.split_whitespace().collect();
        // Field 3, the state, is the first one behind the name.
        let field = |number: usize| fields.get(number - 3)?.parse::<u64>().ok();
        let ticks = field(14)? + field(15)? + field(16)? + field(17)?;
        Some(Stat {
            cpu: Duration::from_millis(ticks * 1000 / self.tick),
            threads: u32::try_from(field(20)?).ok()?,
            resident: field(24)? * self.page,
        })
    }

    /// Memory of a process, what it shares being divided among those that share it.
    fn proportional(&self, pid: u32) -> u64 {
        let exact = fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).ok().and_then(|text| {
            let line = text.lines().find_map(|line| line.strip_prefix("Pss:"))?;
            line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()
        });
        exact.map_or_else(|| self.stat(pid).map_or(0, |it| it.resident), |kib| kib << 10)
    }
}

/// What one process uses.
struct Stat {
    cpu: Duration,
    threads: u32,
    resident: u64,
}

/// Processor time of the processes that have ended and were waited for.
fn reaped_cpu() -> Duration {
    getrusage(UsageWho::RUSAGE_CHILDREN).map_or(Duration::ZERO, |usage| {
        let micros = usage.user_time().num_microseconds() + usage.system_time().num_microseconds();
        Duration::from_micros(u64::try_from(micros).unwrap_or(0))
    })
}
