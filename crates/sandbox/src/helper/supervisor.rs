//! The supervisor: starts the program, watches it, ends what is left of it, reports. In the full tier
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
use nix::unistd::{ForkResult, Pid, fork, pipe2};

use super::failure::SetUpFailure;
use super::group::Group;
use super::identity::{become_subreaper, die_with_parent, drop_privileges};
use super::listener::Listener;
use super::mounts::{Places, mount_ahead, mounts};
use super::processes::{ProcessStats, ProcessTable};
use super::scratch::Scratch;
use super::state::SandboxState;
use super::wait::{self, Waited};
use super::{RunFds, collect, network, program, store};
use crate::archive::Archive;
use crate::job::{Accounting, Caps, Collect, Ending, Lap, LimitHit, Reach, TreeView};
use crate::tier::Tier;
use crate::wire::{self, Control, RunEnd, Spec, SupervisorEvent};

/// How long the first poll of the processes waits: most runs are over by then.
const FIRST_POLL: Duration = Duration::from_millis(10);

/// Longest time between two polls.
const POLL_MAX: Duration = Duration::from_millis(20);

/// Processes that are waited for in one go.
const REAPED_AT_ONCE: usize = 256;

/// Polls in a row that must find too many processes.
const CROWDED: u32 = 2;

/// How much longer a run must have been kept from running before that is reported to the tool.
const REPORT_STARVED: Duration = Duration::from_secs(10);

/// Time between two looks at a run that stands still.
const STILL: Duration = Duration::from_millis(100);

/// Processor time that a run may use while it should stand still: some has itself woken, as by a timer whose
/// signal is `SIGCONT` (timer_create(2)).
const STIRRED: Duration = Duration::from_millis(200);

/// How often files are added up that no file system bounds.
const DISK_POLL: Duration = Duration::from_millis(250);

/// Does what can be done before there is an order.
pub fn prepare(sandbox: &SandboxState) -> Result<(), String> {
    match sandbox.tier {
        Tier::Full => {
            die_with_parent();
            mount_ahead(sandbox)
        }
        // It has folders to remove, whoever dies; and orphans of the run must come to it.
        Tier::Plain | Tier::Trusted => {
            become_subreaper();
            Ok(())
        }
    }
}

/// Runs the program and says what came of it.
pub fn serve(
    sandbox: &SandboxState,
    spec: &Spec,
    mut fds: RunFds,
) -> Result<SupervisorEvent, String> {
    if let Some(network) = &sandbox.network {
        // One in which the tool listens is nobody else's.
        network.enter(if spec.network == Reach::Nothing { spec.session } else { 0 })?;
    }
    open_network(sandbox, spec, &fds)?;
    let places = match mounts(sandbox, spec, &fds) {
        Ok(places) => places,
        Err(SetUpFailure::Full) => return Ok(SupervisorEvent::Ended(never_started(sandbox))),
        Err(SetUpFailure::BadFiles(why)) => return Ok(SupervisorEvent::FilesFailed(why)),
        Err(SetUpFailure::Failed(why)) => return Err(why),
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
    let group_cpu = sandbox.group.as_ref().and_then(Group::cpu);
    // SAFETY: this process has one thread.
    let pid = match unsafe { fork() }.map_err(|error| format!("fork: {error}"))? {
        ForkResult::Parent { child } => child,
        ForkResult::Child => {
            let failed = program::become_program(sandbox, spec, &fds, &places.work, &theirs);
            report_failure(&failed_write, failed);
            // SAFETY: ends the process; nothing of the supervisor's is to be run again here.
            unsafe { libc::_exit(127) }
        }
    };
    drop((failed_write, theirs));
    if sandbox.tier == Tier::Full {
        drop_privileges(sandbox.identity)?;
    }
    // The program waits until nobody above it has rights that are worth having.
    wire::send(ours.as_fd(), &(), &[]).map_err(|error| format!("the program: {error}"))?;
    // A tool that is gone is noticed below.
    let _ = wire::send(fds.control.as_fd(), &SupervisorEvent::Started, &[]);
    let collected = fds.collected.take();
    let RunFds { control, .. } = fds;
    let watch = Watch {
        pid,
        caps: spec.caps,
        started,
        lap_started: started,
        lap_cpu: Duration::ZERO,
        starved: Duration::ZERO,
        starved_reported: Duration::ZERO,
        seen_cpu: Duration::ZERO,
        wanted_cpu: true,
        ending: None,
        limit: None,
        lap: Lap::default(),
        denied: BTreeMap::new(),
        peak_memory: 0,
        peak_processes: 1,
        polled: started,
        processes: ProcessTable::new(sandbox),
        crowded: 0,
        group: sandbox.group.as_ref(),
        group_cpu: group_cpu.unwrap_or_default(),
        memory_kills: sandbox.group.as_ref().map_or(0, |it| it.memory_kills().count()),
        listener: None,
        scratch: sandbox.scratch.as_ref().map(|it| (it, started)),
        copied: places.view.as_ref().map_or(0, |it| it.copied),
        paused: None,
        view: places.view.as_ref().map(|it| it.view),
        pack: &|into| take_files(sandbox, spec, &places, into),
    };
    let mut ended = watch.run(&control, &children, &ours);
    if sandbox.tier == Tier::Full {
        ended.started = started_in_all();
    }
    if let Some(report) = failure(failed_read, spec) {
        return Ok(report);
    }
    if let Some(into) = collected
        && let Err(why) = take_files(sandbox, spec, &places, into)
    {
        return Ok(SupervisorEvent::CollectFailed(why));
    }
    if let Some(scratch) = &sandbox.scratch {
        scratch.clear();
    }
    let view = places.view.map(|it| it.view);
    Ok(SupervisorEvent::Ended(RunEnd { view, ..ended }))
}

/// Makes ready what the program may reach by the network.
fn open_network(sandbox: &SandboxState, spec: &Spec, fds: &RunFds) -> Result<(), String> {
    if spec.network == Reach::Nothing || spec.network == Reach::Machine {
        return Ok(());
    }
    if sandbox.network.is_none() {
        return Err("a network of the run's own takes the full tier".to_owned());
    }
    network::take_loopback_up()?;
    if let Some(port) = spec.network.tool_port() {
        let listener = network::listen(port)?;
        wire::send(fds.control.as_fd(), &SupervisorEvent::Listening, &[listener.as_fd()])
            .map_err(|error| format!("the listening socket: {error}"))?;
    }
    Ok(())
}

/// Takes what is wanted of the run's files.
fn take_files(
    sandbox: &SandboxState,
    spec: &Spec,
    places: &Places,
    into: OwnedFd,
) -> Result<(), String> {
    let most = spec.caps.disk;
    match &spec.collect {
        Collect::Keep(_) => store::keep(&places.work, into.as_fd()),
        Collect::Changes { skip } => {
            let view = places.view.as_ref().ok_or("there is no tree to compare with")?;
            store::collect_changes(view, skip, &mut Archive::from_fd(into), most)
        }
        Collect::Temporary(_) => {
            let tmp = sandbox.scratch.as_ref().map_or_else(|| "/tmp".into(), Scratch::tmp);
            collect::collect(&spec.collect, &tmp, &mut Archive::from_fd(into), most)
        }
        wanted => collect::collect(wanted, &places.work, &mut Archive::from_fd(into), most),
    }
}

/// A run whose own files were more than it may have.
fn never_started(sandbox: &SandboxState) -> RunEnd {
    RunEnd {
        ending: Ending::Signalled(libc::SIGKILL),
        limit: Some(LimitHit::Disk),
        wall: Duration::ZERO,
        cpu: Duration::ZERO,
        peak_memory: 0,
        peak_processes: 0,
        started: Some(0),
        denied: BTreeMap::new(),
        accounting: accounting(sandbox.group.as_ref()),
        view: None,
    }
}

fn accounting(group: Option<&Group>) -> Accounting {
    if group.is_some() { Accounting::Group } else { Accounting::Polling }
}

/// Processes and threads that the process namespace has seen, without the supervisor.
fn started_in_all() -> Option<u32> {
    let last = fs::read_to_string("/proc/sys/kernel/ns_last_pid").ok()?;
    last.trim().parse::<u32>().ok()?.checked_sub(1)
}

fn report_failure(to: &OwnedFd, failed: program::Failed) {
    let text = match failed {
        program::Failed::SetUp(why) => format!("s{why}"),
        program::Failed::Exec(why) => format!("e{why}"),
    };
    let _ = nix::unistd::write(to, text.as_bytes());
}

fn failure(from: OwnedFd, spec: &Spec) -> Option<SupervisorEvent> {
    let mut text = String::new();
    File::from(from).read_to_string(&mut text).ok()?;
    let why = text.get(1..).unwrap_or_default().to_owned();
    match text.chars().next()? {
        'e' => {
            let program = spec.command.first().cloned().unwrap_or_default();
            Some(SupervisorEvent::ExecFailed { program, why })
        }
        _ => Some(SupervisorEvent::SetUpFailed(why)),
    }
}

/// One program being watched.
struct Watch<'a> {
    pid: Pid,
    caps: Caps,
    started: Instant,
    lap_started: Instant,
    lap_cpu: Duration,
    /// Time of the lap in which the run wanted a processor and had none: others had them.
    starved: Duration,
    /// How much of that was reported to the tool.
    starved_reported: Duration,
    /// Processor time at the last poll, and whether more was wanted then.
    seen_cpu: Duration,
    wanted_cpu: bool,
    /// What was seen of the current lap.
    lap: Lap,
    /// What was refused in earlier laps.
    denied: BTreeMap<String, u64>,
    ending: Option<Ending>,
    limit: Option<LimitHit>,
    peak_memory: u64,
    peak_processes: u32,
    /// When processes were polled last.
    polled: Instant,
    processes: ProcessTable,
    /// How many polls in a row found too many processes.
    crowded: u32,
    group: Option<&'a Group>,
    /// Processor time of the group before the run.
    group_cpu: Duration,
    /// Processes of the group that were ended for want of memory before the run.
    memory_kills: u64,
    listener: Option<Listener>,
    /// The folders where no file system bounds them, and when they were last added up.
    scratch: Option<(&'a Scratch, Instant)>,
    /// Bytes of a tree in them, which are not the run's doing.
    copied: u64,
    /// Processor time when it was to stand still; `None`: it goes on.
    paused: Option<Duration>,
    view: Option<TreeView>,
    /// Packs what is wanted of its files.
    pack: &'a dyn Fn(OwnedFd) -> Result<(), String>,
}

/// What there is to do.
struct PollResult {
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
    fn run(mut self, control: &OwnedFd, children: &SignalFd, listener: &OwnedFd) -> RunEnd {
        let mut pause = FIRST_POLL;
        let (mut heard, mut listener_due) = (true, true);
        while self.ending.is_none() {
            let left = self.caps.wall.saturating_sub(self.lap_wall());
            let timeout = match self.paused {
                Some(_) => STILL,
                None => pause.min(left).max(Duration::from_millis(1)),
            };
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
                self.answer_filter();
            } else if ready.silence {
                // The kernel says so until the last process is gone for good, and without a pause.
                self.end_listening();
            }
            let _ = children.read_signal();
            self.reap();
            // A program that keeps the supervisor busy is looked at all the same.
            let due = ready.nothing || self.polled.elapsed() > POLL_MAX;
            if due && self.ending.is_none() && self.paused.is_some() {
                self.keep_still();
            } else if due && self.ending.is_none() {
                let stats = self.stats();
                self.check_limits(&stats);
                self.tell_unserved(control.as_fd());
                pause = (pause * 2).min(POLL_MAX);
            }
            if self.limit.is_some() {
                self.processes.end_all();
            }
        }
        self.over()
    }

    /// Answers for the system-call filter.
    fn answer_filter(&mut self) {
        if let Some(listener) = &mut self.listener {
            listener.answer();
        }
    }

    /// Time of the lap by the clock on the wall, without that in which the run wanted a processor and
    /// had none: how busy the machine is with other things must not decide.
    fn lap_wall(&self) -> Duration {
        self.lap_started.elapsed().saturating_sub(self.starved)
    }

    /// Lets the tool wait longer for a run that others keep from running.
    fn tell_unserved(&mut self, control: BorrowedFd<'_>) {
        if self.starved.saturating_sub(self.starved_reported) > REPORT_STARVED {
            self.starved_reported = self.starved;
            let _ = wire::send(control, &SupervisorEvent::Starved, &[]);
        }
    }

    /// Waits for something to do.
    fn wait(
        &self,
        timeout: Duration,
        control: Option<&OwnedFd>,
        children: &SignalFd,
        listener: Option<&OwnedFd>,
    ) -> PollResult {
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
        PollResult {
            nothing,
            orders: seen(1, any),
            listener_comes: seen(2, any),
            refusals: seen(3, PollFlags::POLLIN),
            silence: seen(3, PollFlags::POLLHUP),
        }
    }

    /// Ends whatever is left, and adds up.
    fn over(mut self) -> RunEnd {
        let wall = self.started.elapsed();
        self.processes.end_all_children();
        let cpu = reaped_cpu();
        let killed = self.group.is_some_and(|it| it.memory_kills().count() > self.memory_kills);
        if self.limit.is_none() && killed {
            self.limit = Some(LimitHit::Memory);
        }
        if self.limit.is_none() && self.ending == Some(Ending::Signalled(libc::SIGXCPU)) {
            self.limit = Some(LimitHit::Cpu);
        }
        let largest = getrusage(UsageWho::RUSAGE_CHILDREN).map_or(0, |it| it.max_rss());
        let largest = u64::try_from(largest).unwrap_or(0) << 10;
        self.end_lap();
        // A peak between two polls counts, too.
        if self.limit.is_none() && largest > self.caps.memory {
            self.limit = Some(LimitHit::Memory);
        }
        RunEnd {
            ending: self.ending.unwrap_or(Ending::Exited(0)),
            limit: self.limit,
            wall,
            cpu,
            peak_memory: self.peak_memory.max(largest),
            peak_processes: self.peak_processes,
            started: None,
            denied: self.denied,
            accounting: accounting(self.group),
            view: None,
        }
    }

    /// Follows what the tool says. `false` when the tool is gone.
    fn obey(&mut self, control: BorrowedFd<'_>) -> bool {
        match wire::receive::<Control>(control) {
            Ok(Some((Control::Lap { wall, cpu }, _))) => {
                let lap = self.end_lap();
                if self.paused.take().is_some() {
                    self.processes.let_all_go_on();
                }
                (self.caps.wall, self.caps.cpu) = (wall, cpu);
                self.lap_started = Instant::now();
                (self.starved, self.starved_reported) = (Duration::ZERO, Duration::ZERO);
                wire::send(control, &SupervisorEvent::Lap(lap), &[]).is_ok()
            }
            Ok(Some((Control::Pause, fds))) => {
                self.processes.stop_all();
                self.paused = Some(self.cpu());
                let archive = fds.into_iter().next().ok_or("there is no archive".to_owned());
                let failed = archive.and_then(self.pack).err();
                let cpu = self.cpu().saturating_sub(self.lap_cpu);
                let (peak_memory, view) = (self.lap.peak_memory, self.view);
                let paused = SupervisorEvent::Paused { failed, cpu, peak_memory, view };
                wire::send(control, &paused, &[]).is_ok()
            }
            Ok(Some((Control::Kill(limit), _))) => {
                self.limit = self.limit.or(Some(limit));
                true
            }
            Ok(None) | Err(_) => {
                self.limit = self.limit.or(Some(LimitHit::Stopped));
                false
            }
        }
    }

    /// Lets a run stand still that should and does not, and ends it when that happens again and again.
    fn keep_still(&mut self) {
        let Some(before) = self.paused else { return };
        self.polled = Instant::now();
        let stirred = self.cpu().saturating_sub(before);
        if stirred > Duration::ZERO {
            self.processes.stop_all();
        }
        if stirred > STIRRED {
            self.limit = self.limit.or(Some(LimitHit::Cpu));
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

    /// Takes note of processes that have ended: of so many at once that there is time for the limits, whoever
    /// makes them.
    fn reap(&mut self) {
        for _ in 0..REAPED_AT_ONCE {
            match wait::ended_child() {
                Waited::Ended(pid, ending) if pid == self.pid => self.ending = Some(ending),
                Waited::Ended(..) => {}
                Waited::Alive => return,
                // Nobody is left who could end.
                Waited::NoChild => {
                    self.ending = self.ending.or(Some(Ending::Signalled(libc::SIGKILL)));
                    return;
                }
            }
        }
    }

    fn check_limits(&mut self, stats: &ProcessStats) {
        self.note_starved(stats);
        self.peak_memory = self.peak_memory.max(stats.memory);
        self.lap.peak_memory = self.lap.peak_memory.max(stats.memory);
        self.peak_processes = self.peak_processes.max(stats.processes);
        let crowded = self.group.is_none() && stats.processes > self.caps.processes;
        self.crowded = match crowded {
            // One poll takes its time, and may count both a process and its successor.
            true if stats.processes < 2 * self.caps.processes => self.crowded + 1,
            true => CROWDED,
            false => 0,
        };
        let checks = [
            (stats.memory > self.caps.memory, LimitHit::Memory),
            (stats.cpu.saturating_sub(self.lap_cpu) > self.caps.cpu, LimitHit::Cpu),
            (self.crowded >= CROWDED, LimitHit::Processes),
            (self.lap_wall() >= self.caps.wall, LimitHit::Wall),
            (self.are_files_too_large(), LimitHit::Disk),
        ];
        let hit = checks.into_iter().find(|it| it.0).map(|it| it.1);
        self.limit = self.limit.or(hit);
    }

    /// Adds up the time in which the run wanted a processor and had none, as far as polls show: since
    /// the last one, if it wanted one then or does now, all that it did not run.
    fn note_starved(&mut self, stats: &ProcessStats) {
        let now = Instant::now();
        let since = now.saturating_duration_since(self.polled.max(self.lap_started));
        let ran = stats.cpu.saturating_sub(self.seen_cpu);
        if self.wanted_cpu || stats.wants_cpu {
            self.starved += since.saturating_sub(ran);
        }
        (self.polled, self.seen_cpu, self.wanted_cpu) = (now, stats.cpu, stats.wants_cpu);
    }

    fn stats(&self) -> ProcessStats {
        let mut stats = self.processes.stats(self.caps.memory, self.caps.processes);
        stats.cpu = self.group_cpu_used().unwrap_or(stats.cpu + reaped_cpu());
        stats
    }

    /// Processor time of the run, so far.
    fn cpu(&self) -> Duration {
        self.group_cpu_used().unwrap_or_else(|| self.stats().cpu)
    }

    fn group_cpu_used(&self) -> Option<Duration> {
        self.group.and_then(Group::cpu).map(|it| it.saturating_sub(self.group_cpu))
    }

    /// Whether files that no file system bounds have grown too large, those that no longer have a
    /// name among them.
    fn are_files_too_large(&mut self) -> bool {
        let Some((scratch, polled)) = &mut self.scratch else { return false };
        if polled.elapsed() < DISK_POLL {
            return false;
        }
        *polled = Instant::now();
        let most = self.caps.disk;
        scratch.is_over(most + self.copied) || self.processes.nameless(most) > most
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
