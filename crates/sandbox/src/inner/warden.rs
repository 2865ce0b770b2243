//! The warden: starts the program, watches it, ends what is left of it, reports. In the full tier
//! it is process 1 of the run's process namespace.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Read as _;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::time::{Duration, Instant};

use nix::fcntl::OFlag;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::signal::{SigSet, Signal};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use nix::sys::socket::{AddressFamily, SockFlag, SockType, socketpair};
use nix::sys::time::TimeValLike as _;
use nix::sys::wait::{WaitPidFlag, WaitStatus, waitpid};
use nix::unistd::{ForkResult, Pid, fork, pipe2};

use super::census::{Census, Look};
use super::furnish::{Unfurnished, furnish, mount_ahead};
use super::group::Group;
use super::house::House;
use super::identity::{become_nobody, die_with_parent};
use super::listener::Listener;
use super::scratch::Scratch;
use super::{Handed, collect, program};
use crate::job::{Accounting, Caps, Ending, Lap, LimitHit};
use crate::tier::Tier;
use crate::wire::{self, Ended, Order, Report, Spec};

/// How long the first look at the processes waits: most runs are over by then.
const FIRST_LOOK: Duration = Duration::from_millis(10);

/// Longest time between two looks.
const LOOK_MAX: Duration = Duration::from_millis(20);

/// How long those that were ended are given to be gone.
const BETWEEN_KILLS: Duration = Duration::from_micros(200);

/// How often files are added up that no file system bounds.
const DISK_LOOK: Duration = Duration::from_millis(250);

/// Does what can be done before there is an order.
pub fn prepare(house: &House) -> Result<(), String> {
    match house.tier {
        Tier::Full => {
            die_with_parent();
            mount_ahead(house)
        }
        // It has folders to remove, whoever dies; and orphans of the run must come to it.
        Tier::Plain | Tier::Trusted => {
            adopt_orphans();
            Ok(())
        }
    }
}

/// Runs the program and says what came of it.
pub fn serve(house: &House, spec: &Spec, mut handed: Handed) -> Result<Report, String> {
    if let Some(network) = &house.network {
        network.enter(spec.session)?;
    }
    let places = match furnish(house, spec, &handed) {
        Ok(places) => places,
        Err(Unfurnished::Full) => return Ok(Report::Ended(never_started(house))),
        Err(Unfurnished::Failed(why)) => return Err(why),
    };
    let (failed_read, failed_write) = pipe2(OFlag::O_CLOEXEC).map_err(|it| it.to_string())?;
    let (ours, theirs) =
        socketpair(AddressFamily::Unix, SockType::SeqPacket, None, SockFlag::SOCK_CLOEXEC)
            .map_err(|it| it.to_string())?;
    let mut signals = SigSet::empty();
    signals.add(Signal::SIGCHLD);
    signals.thread_block().map_err(|it| it.to_string())?;
    let children = SignalFd::with_flags(&signals, SfdFlags::SFD_CLOEXEC | SfdFlags::SFD_NONBLOCK)
        .map_err(|it| it.to_string())?;
    let started = Instant::now();
    let group_cpu = house.group.as_ref().and_then(Group::cpu);
    // SAFETY: this process has one thread.
    let pid = match unsafe { fork() }.map_err(|error| format!("fork: {error}"))? {
        ForkResult::Parent { child } => child,
        ForkResult::Child => {
            let failed = program::become_program(house, spec, &handed, &places.work, &theirs);
            tell_failure(&failed_write, failed);
            // SAFETY: ends the process; nothing of the warden's is to be run again here.
            unsafe { libc::_exit(127) }
        }
    };
    drop((failed_write, theirs));
    if house.tier == Tier::Full {
        become_nobody(house.identity)?;
    }
    // The program waits until nobody above it has rights that are worth having.
    wire::send(ours.as_fd(), &(), &[]).map_err(|error| format!("the program: {error}"))?;
    let collected = handed.collected.take();
    let Handed { control, .. } = handed;
    let watch = Watch {
        pid,
        caps: spec.caps,
        started,
        lap_started: started,
        lap_cpu: Duration::ZERO,
        ending: None,
        limit: None,
        lap: Lap::default(),
        denied: BTreeMap::new(),
        peak_memory: 0,
        peak_processes: 1,
        processes: 1,
        looked: started,
        census: Census::new(house),
        group: house.group.as_ref(),
        group_cpu: group_cpu.unwrap_or_default(),
        oom_kills: house.group.as_ref().map_or(0, Group::oom_kills),
        listener: None,
        scratch: house.scratch.as_ref().map(|it| (it, started)),
    };
    let mut ended = watch.run(&control, &children, &ours);
    if house.tier == Tier::Full {
        ended.started = started_in_all();
    }
    if let Some(report) = failure(failed_read, spec) {
        return Ok(report);
    }
    if let Some(mut archive) = collected {
        collect::collect(&spec.collect, &places.work, &mut archive, spec.caps.disk)?;
    }
    if let Some(scratch) = &house.scratch {
        scratch.clear();
    }
    Ok(Report::Ended(ended))
}

/// A run whose own files were more than it may have.
fn never_started(house: &House) -> Ended {
    Ended {
        ending: Ending::Signalled(libc::SIGKILL),
        limit: Some(LimitHit::Disk),
        wall: Duration::ZERO,
        cpu: Duration::ZERO,
        peak_memory: 0,
        peak_processes: 0,
        started: Some(0),
        denied: BTreeMap::new(),
        accounting: accounting(house.group.as_ref()),
    }
}

fn accounting(group: Option<&Group>) -> Accounting {
    if group.is_some() { Accounting::Group } else { Accounting::Looks }
}

/// Makes orphans among the descendants of this process its children.
fn adopt_orphans() {
    // SAFETY: a plain call with plain numbers.
    unsafe { libc::prctl(libc::PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) };
}

/// Processes and threads that the process namespace has seen, without the warden.
fn started_in_all() -> Option<u32> {
    let last = fs::read_to_string("/proc/sys/kernel/ns_last_pid").ok()?;
    last.trim().parse::<u32>().ok()?.checked_sub(1)
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
struct Watch<'a> {
    pid: Pid,
    caps: Caps,
    started: Instant,
    lap_started: Instant,
    lap_cpu: Duration,
    /// What was seen of the current lap.
    lap: Lap,
    /// What was refused in earlier laps.
    denied: BTreeMap<String, u64>,
    ending: Option<Ending>,
    limit: Option<LimitHit>,
    peak_memory: u64,
    peak_processes: u32,
    /// Processes and threads at the last look, and when that was.
    processes: u32,
    looked: Instant,
    census: Census,
    group: Option<&'a Group>,
    /// Processor time of the group before the run.
    group_cpu: Duration,
    /// Processes of the group that were ended for want of memory before the run.
    oom_kills: u64,
    listener: Option<Listener>,
    /// The folders where no file system bounds them, and when they were last added up.
    scratch: Option<(&'a Scratch, Instant)>,
}

/// What there is to do.
struct Ready {
    nothing: bool,
    orders: bool,
    listener_comes: bool,
    refusals: bool,
    /// Nobody is left whom the listener could hear.
    silence: bool,
}

impl Watch<'_> {
    /// Watches until the program has ended, then ends whatever it left behind. `listener` is where
    /// the program hands over the other end of its filter.
    fn run(mut self, control: &OwnedFd, children: &SignalFd, listener: &OwnedFd) -> Ended {
        let mut pause = FIRST_LOOK;
        let (mut heard, mut listener_due) = (true, true);
        while self.ending.is_none() {
            let left = self.caps.wall.saturating_sub(self.lap_started.elapsed());
            let timeout = pause.min(left).max(Duration::from_millis(1));
            let coming = listener_due.then_some(listener);
            let ready = self.wait(timeout, heard.then_some(control), children, coming);
            if ready.orders {
                heard = self.obey(control.as_fd());
            }
            if ready.listener_comes {
                listener_due = false;
                self.listener = take_listener(listener.as_fd());
            }
            if ready.refusals {
                self.answer();
            } else if ready.silence {
                // The kernel says so until the last process is gone for good, and without a pause.
                self.end_listening();
            }
            let _ = children.read_signal();
            self.reap();
            // A program that keeps the warden busy is looked at all the same.
            let due = ready.nothing || self.looked.elapsed() > LOOK_MAX;
            if due && self.ending.is_none() {
                let look = self.look();
                self.hold_against(&look);
                pause = (pause * 2).min(LOOK_MAX);
            }
            if self.limit.is_some() {
                self.census.end_all();
            }
        }
        self.over()
    }

    /// Answers for the system-call filter. While there is no room for more processes, it looks again
    /// from time to time.
    fn answer(&mut self) {
        let full = self.processes >= self.caps.processes;
        if full && self.looked.elapsed() > FIRST_LOOK {
            let look = self.look();
            self.hold_against(&look);
        }
        let births = self.processes < self.caps.processes;
        if let Some(listener) = &mut self.listener {
            listener.answer(births);
        }
    }

    /// Waits for something to do.
    fn wait(
        &self,
        timeout: Duration,
        control: Option<&OwnedFd>,
        children: &SignalFd,
        listener: Option<&OwnedFd>,
    ) -> Ready {
        let sources = [
            Some(children.as_fd()),
            control.map(AsFd::as_fd),
            listener.map(AsFd::as_fd),
            self.listener.as_ref().map(AsFd::as_fd),
        ];
        let there: Vec<usize> = (0..4).filter(|&index| sources[index].is_some()).collect();
        let mut fds: Vec<PollFd<'_>> =
            sources.iter().flatten().map(|&fd| PollFd::new(fd, PollFlags::POLLIN)).collect();
        let timeout = PollTimeout::try_from(timeout).unwrap_or(PollTimeout::ZERO);
        let nothing = poll(&mut fds, timeout).unwrap_or(0) == 0;
        let seen = |source: usize, wanted: PollFlags| {
            let place = there.iter().position(|&it| it == source);
            place.and_then(|it| fds[it].revents()).is_some_and(|it| it.intersects(wanted))
        };
        let any = PollFlags::POLLIN | PollFlags::POLLHUP | PollFlags::POLLERR;
        Ready {
            nothing,
            orders: seen(1, any),
            listener_comes: seen(2, any),
            refusals: seen(3, PollFlags::POLLIN),
            silence: seen(3, PollFlags::POLLHUP),
        }
    }

    /// Ends whatever is left, and adds up.
    fn over(mut self) -> Ended {
        let wall = self.started.elapsed();
        self.end_all();
        let cpu = reaped_cpu();
        let killed = self.group.is_some_and(|it| it.oom_kills() > self.oom_kills);
        if self.limit.is_none() && killed {
            self.limit = Some(LimitHit::Memory);
        }
        if self.limit.is_none() && self.ending == Some(Ending::Signalled(libc::SIGXCPU)) {
            self.limit = Some(LimitHit::Cpu);
        }
        let largest = getrusage(UsageWho::RUSAGE_CHILDREN).map_or(0, |it| it.max_rss());
        let largest = u64::try_from(largest).unwrap_or(0) << 10;
        self.end_lap();
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
            started: None,
            denied: self.denied,
            accounting: accounting(self.group),
        }
    }

    /// Follows what the tool says. `false` when the tool is gone.
    fn obey(&mut self, control: BorrowedFd<'_>) -> bool {
        match wire::receive::<Order>(control) {
            Ok(Some((Order::Lap { wall, cpu }, _))) => {
                let lap = self.end_lap();
                (self.caps.wall, self.caps.cpu) = (wall, cpu);
                self.lap_started = Instant::now();
                wire::send(control, &Report::Lap(lap), &[]).is_ok()
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

    /// Takes over what the listener counted.
    fn note_counts(&mut self) {
        let counts = self.listener.as_mut().map(Listener::take_counts).unwrap_or_default();
        for (name, count) in counts {
            *self.lap.denied.entry(name).or_default() += count;
        }
    }

    fn end_listening(&mut self) {
        self.note_counts();
        self.listener = None;
    }

    /// What the lap that ends here came to.
    fn end_lap(&mut self) -> Lap {
        let now = self.cpu();
        let before = std::mem::replace(&mut self.lap_cpu, now);
        self.note_counts();
        let denied = std::mem::take(&mut self.lap.denied);
        for (name, count) in &denied {
            *self.denied.entry(name.clone()).or_default() += count;
        }
        let accounting = accounting(self.group);
        let cpu = self.lap_cpu.saturating_sub(before);
        Lap { cpu, denied, accounting, ..std::mem::take(&mut self.lap) }
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

    /// Ends every process of the run and waits until the last is gone. Every orphan has become a
    /// child of this process, so without children there is nobody left.
    fn end_all(&self) {
        loop {
            match waitpid(None, Some(WaitPidFlag::WNOHANG)) {
                // Asked again and again: one that was just being born may have been missed.
                Ok(WaitStatus::StillAlive) => {
                    self.census.end_all();
                    std::thread::sleep(BETWEEN_KILLS);
                }
                Ok(_) | Err(nix::Error::EINTR) => {}
                Err(_) => return,
            }
        }
    }

    fn hold_against(&mut self, look: &Look) {
        (self.processes, self.looked) = (look.processes, Instant::now());
        self.peak_memory = self.peak_memory.max(look.memory);
        self.lap.peak_memory = self.lap.peak_memory.max(look.memory);
        self.peak_processes = self.peak_processes.max(look.processes);
        let checks = [
            (look.memory > self.caps.memory, LimitHit::Memory),
            (look.cpu.saturating_sub(self.lap_cpu) > self.caps.cpu, LimitHit::Cpu),
            (self.lap_started.elapsed() >= self.caps.wall, LimitHit::Wall),
            (self.are_files_too_large(), LimitHit::Disk),
        ];
        let hit = checks.into_iter().find(|it| it.0).map(|it| it.1);
        self.limit = self.limit.or(hit);
    }

    fn look(&self) -> Look {
        let mut look = self.census.look(self.caps.memory);
        look.cpu = self.group_cpu_used().unwrap_or(look.cpu + reaped_cpu());
        look
    }

    /// Processor time of the run, so far.
    fn cpu(&self) -> Duration {
        self.group_cpu_used().unwrap_or_else(|| self.look().cpu)
    }

    fn group_cpu_used(&self) -> Option<Duration> {
        self.group.and_then(Group::cpu).map(|it| it.saturating_sub(self.group_cpu))
    }

    /// Whether files that no file system bounds have grown too large, those that no longer have a
    /// name among them.
    fn are_files_too_large(&mut self) -> bool {
        let Some((scratch, looked)) = &mut self.scratch else { return false };
        if looked.elapsed() < DISK_LOOK {
            return false;
        }
        *looked = Instant::now();
        let most = self.caps.disk;
        scratch.is_over(most) || self.census.nameless(most) > most
    }
}

/// Takes what the program hands over before it becomes the program under trial.
fn take_listener(from: BorrowedFd<'_>) -> Option<Listener> {
    let (_, fds) = wire::receive::<()>(from).ok()??;
    fds.into_iter().next().map(Listener::new)
}

/// Processor time of the processes that have ended and were waited for.
fn reaped_cpu() -> Duration {
    getrusage(UsageWho::RUSAGE_CHILDREN).map_or(Duration::ZERO, |usage| {
        let micros = usage.user_time().num_microseconds() + usage.system_time().num_microseconds();
        Duration::from_micros(u64::try_from(micros).unwrap_or(0))
    })
}
