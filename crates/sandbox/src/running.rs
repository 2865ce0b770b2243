//! The tool's side of a run: feeds and drains the program's streams, and waits.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Write};
use std::net::TcpListener;
use std::os::fd::{AsFd, AsRawFd as _, OwnedFd};
use std::sync::Arc;
use std::time::{Duration, Instant};

use nix::fcntl::{FcntlArg, OFlag, fcntl};
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::socket::{Shutdown, SockType, shutdown};
use nix::unistd::pipe2;

use crate::archive::Archive;
use crate::job::{
    Accounting, Captured, Collect, Ending, Job, Lap, LimitHit, Outcome, SandboxError, Still,
};
use crate::pool::{Zygote, ZygotePool, socket_pair};
use crate::wire::{self, Control, RunEnd, Spec, SupervisorEvent};

/// How much longer than its wall limit a run may take before the tool itself ends it: a program that
/// keeps the whole machine busy can delay the supervisor for long.
const GRACE: Duration = Duration::from_secs(60);

/// Most bytes that are kept of what a program sent last.
const CHANNEL_MAX: usize = 64 << 20;

/// Most bytes read from a stream in one go.
const CHUNK: usize = 64 << 10;

/// How long a program may take for one exchange.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Allowed {
    /// By the clock on the wall.
    pub wall: Duration,
    /// Processor time.
    pub cpu: Duration,
}

/// One message on the channel of a run.
#[derive(Debug, PartialEq, Eq)]
pub enum Frame {
    /// A line, without its end.
    Line(Vec<u8>),
    /// The line was longer than allowed.
    TooLong,
    /// The program closed its end, or is over.
    Closed,
}

/// A program under way.
#[derive(Debug)]
pub struct Running {
    pool: Arc<ZygotePool>,
    /// Taken when it is given back.
    zygote: Option<Zygote>,
    control: OwnedFd,
    stdin: Option<(File, Vec<u8>, usize)>,
    stdout: Stream,
    stderr: Stream,
    channel: Option<File>,
    /// What is still to be sent on the channel, and what came on it and was not asked for yet.
    unsent: Vec<u8>,
    inbox: Vec<u8>,
    collected: Option<Archive>,
    output_cap: u64,
    /// Whether the supervisor was informed that the output limit is reached.
    ended_for_output: bool,
    /// Bytes that were written in earlier laps.
    earlier_out: u64,
    /// Laps that are over, and how many were begun.
    laps: Vec<Lap>,
    begun: usize,
    deadline: Instant,
    /// How long after an order the program must be over.
    patience: Duration,
    /// What listens in the run's own network, until it is taken.
    listener: Option<TcpListener>,
    /// Whether the program was let go.
    started: bool,
    begun_at: Instant,
    memory_cap: u64,
    /// Processes that the kernel ended for want of memory before the run.
    memory_kills: u64,
    /// Whether it was told to stand still.
    is_still: bool,
    /// What the supervisor said when it was to stand still.
    paused: Option<SupervisorEvent>,
    report: Option<SupervisorEvent>,
}

#[derive(Debug)]
struct Stream {
    pipe: Option<File>,
    captured: Captured,
}

/// Starts a program in a zygote's sandbox. `kept` is the folder that the job's is to be kept in.
pub(crate) fn start(
    pool: &Arc<ZygotePool>,
    zygote: Zygote,
    job: &Job<'_>,
    kept: Option<&OwnedFd>,
) -> Result<Running, SandboxError> {
    let (control, supervisor_control) = socket_pair(SockType::SeqPacket)?;
    let (stdin_read, stdin_write) = pipe()?;
    let (stdout_read, stdout_write) = pipe()?;
    let (stderr_read, stderr_write) = pipe()?;
    let channel = job.channel.then(|| socket_pair(SockType::Stream)).transpose()?;
    let collected = match job.collect {
        Collect::Nothing | Collect::Keep(_) => None,
        _ => Some(Archive::empty()?),
    };
    let spec = Spec {
        command: job.command.clone(),
        env: job.env.clone().into_iter().collect(),
        channel: job.channel,
        links: job.links.len(),
        driver: job.driver.is_some(),
        sealed: job.sealed.is_some(),
        home: job.home.is_some(),
        tree: job.tree.clone(),
        terminals: job.terminals,
        collect: job.collect.clone(),
        session: job.session,
        network: job.network,
        caps: job.caps,
    };
    let mut fds = vec![supervisor_control.as_fd(), stdin_read.as_fd()];
    fds.extend([stdout_write.as_fd(), stderr_write.as_fd()]);
    fds.extend(channel.iter().map(|(_, theirs)| theirs.as_fd()));
    fds.extend(&job.links);
    fds.extend(collected.iter().map(Archive::as_fd).chain(kept.map(OwnedFd::as_fd)));
    fds.extend(job.driver.iter().map(|it| it.as_fd()));
    fds.extend(job.sealed.iter().map(|it| it.as_fd()));
    fds.extend(job.home.iter().map(|it| it.as_fd()));
    fds.extend(job.layers.iter().map(|it| it.as_fd()));
    let memory_kills = zygote.memory_kills();
    zygote.order(&spec, &fds)?;
    drop(fds);
    Ok(Running {
        pool: Arc::clone(pool),
        zygote: Some(zygote),
        control,
        stdin: Some((writable(stdin_write)?, job.stdin.clone(), 0)),
        stdout: Stream::new(stdout_read)?,
        stderr: Stream::new(stderr_read)?,
        channel: channel.map(|(ours, _)| writable(ours)).transpose()?,
        unsent: Vec::new(),
        inbox: Vec::new(),
        collected,
        output_cap: job.caps.output,
        ended_for_output: false,
        earlier_out: 0,
        laps: Vec::new(),
        begun: 0,
        deadline: Instant::now() + job.caps.wall + GRACE,
        patience: job.caps.wall + GRACE,
        listener: None,
        started: false,
        begun_at: Instant::now(),
        memory_cap: job.caps.memory,
        memory_kills,
        is_still: false,
        paused: None,
        report: None,
    })
}

/// Ends a program from another thread.
#[derive(Debug)]
pub struct Stopper(OwnedFd);

impl Stopper {
    /// Ends it, whatever it does. One that is over is left alone.
    pub fn stop(&self) {
        let _ = wire::send(self.0.as_fd(), &Control::Kill(LimitHit::Stopped), &[]);
    }
}

impl Running {
    /// Sends one line on the channel, starts a new lap with limits of its own, and waits for one
    /// line of at most `most` bytes to come back. The limit on output is that of a lap, too, and
    /// what was written in earlier ones is dropped.
    ///
    /// # Errors
    /// When the helper cannot be talked to.
    pub fn exchange(
        &mut self,
        line: &[u8],
        most: usize,
        allowed: Allowed,
    ) -> Result<Frame, SandboxError> {
        self.send(line, allowed);
        self.receive(most)
    }

    /// Sends one line on the channel and starts a new lap, as [`Running::exchange`] does; a run that stands
    /// still goes on. What comes back is for [`Running::receive`].
    pub fn send(&mut self, line: &[u8], allowed: Allowed) {
        // A helper that is gone is noticed later, as the end of the channel.
        let Allowed { wall, cpu } = allowed;
        self.is_still = false;
        self.begin_lap(wall, cpu);
        self.wait_for(wall + GRACE);
        for stream in [&mut self.stdout, &mut self.stderr] {
            stream.drain(self.output_cap);
            self.earlier_out += std::mem::take(&mut stream.captured).total;
        }
        self.unsent = [line, b"\n"].concat();
    }

    /// Waits for the next line on the channel, of at most `most` bytes.
    ///
    /// # Errors
    /// When the helper cannot be talked to.
    pub fn receive(&mut self, most: usize) -> Result<Frame, SandboxError> {
        let mut scanned = 0;
        loop {
            let new = self.inbox[scanned..].iter().position(|&byte| byte == b'\n');
            // The supervisor may be one lap behind, not more: what a lap used must not be counted for
            // others far from it.
            let is_known = self.laps.len() + 1 >= self.begun || self.report.is_some();
            if let Some(end) = new.map(|it| it + scanned)
                && is_known
            {
                let rest = self.inbox.split_off(end + 1);
                let mut line = std::mem::replace(&mut self.inbox, rest);
                line.pop();
                return Ok(if line.len() > most { Frame::TooLong } else { Frame::Line(line) });
            }
            if self.inbox.len() > most {
                return Ok(Frame::TooLong);
            }
            scanned = new.map_or(self.inbox.len(), |it| it + scanned);
            let is_over = self.channel.is_none() || self.report.is_some();
            if is_over && new.is_none() {
                return Ok(Frame::Closed);
            }
            self.pump()?;
        }
    }

    /// Lets every process of the run stand still until the next line is sent, and gives what
    /// [`Job::collect`] wants of its files as they are now. `None`: the program is over.
    ///
    /// # Errors
    /// When the files cannot be packed, or the helper cannot be talked to.
    pub fn pause(&mut self) -> Result<Option<Still>, SandboxError> {
        let collected = Archive::empty()?;
        (self.paused, self.is_still) = (None, true);
        // A helper that is gone is noticed below.
        let _ = wire::send(self.control.as_fd(), &Control::Pause, &[collected.as_fd()]);
        self.wait_for(GRACE);
        while self.paused.is_none() && self.report.is_none() {
            self.pump()?;
        }
        match self.paused.take() {
            Some(SupervisorEvent::Paused { failed: Some(why), .. }) => {
                Err(SandboxError::Collect(why))
            }
            Some(SupervisorEvent::Paused { cpu, peak_memory, view, .. }) => {
                Ok(Some(Still { collected, cpu, peak_memory, view }))
            }
            _ => Ok(None),
        }
    }

    /// The socket that listens in the run's own network, at [`Reach::tool_port`](crate::Reach::tool_port). `None` when nothing does, it
    /// was taken before, or the run did not come that far.
    ///
    /// # Errors
    /// When the helper cannot be talked to.
    pub fn listener(&mut self) -> Result<Option<TcpListener>, SandboxError> {
        while self.listener.is_none() && !self.started && self.report.is_none() {
            self.pump()?;
        }
        Ok(self.listener.take())
    }

    fn begin_lap(&mut self, wall: Duration, cpu: Duration) {
        if wire::send(self.control.as_fd(), &Control::Lap { wall, cpu }, &[]).is_ok() {
            self.begun += 1;
        }
    }

    /// Ends the last lap, and gives what was used in each: first what came before the first
    /// exchange, then one for each. Fewer when the program is over.
    ///
    /// # Errors
    /// When the helper cannot be talked to.
    pub fn laps(&mut self) -> Result<Vec<Lap>, SandboxError> {
        let short = Duration::from_secs(1);
        self.begin_lap(short, short);
        self.wait_for(GRACE);
        while self.report.is_none() && self.laps.len() < self.begun {
            self.pump()?;
        }
        Ok(self.laps.clone())
    }

    /// Sends one line on the channel, and gives all that comes back until it closes, up to `most`
    /// bytes and one more. The limits are those of the job.
    ///
    /// # Errors
    /// When the helper cannot be talked to.
    pub fn converse(&mut self, line: &[u8], most: usize) -> Result<Vec<u8>, SandboxError> {
        self.unsent = [line, b"\n"].concat();
        while self.channel.is_some() && self.report.is_none() && self.inbox.len() <= most {
            self.pump()?;
        }
        let mut sent = std::mem::take(&mut self.inbox);
        sent.truncate(most + 1);
        if sent.len() > most {
            self.stop();
        }
        Ok(sent)
    }

    /// What was written to standard output since the last line was sent, as far as it was kept.
    pub fn printed(&mut self) -> &[u8] {
        self.stdout.drain(self.output_cap);
        &self.stdout.captured.bytes
    }

    /// What was written to standard error since then, likewise.
    pub fn complained(&mut self) -> &[u8] {
        self.stderr.drain(self.output_cap);
        &self.stderr.captured.bytes
    }

    /// Bytes on both streams since the last line was sent.
    #[must_use]
    pub fn lap_out(&self) -> u64 {
        self.stdout.captured.total + self.stderr.captured.total
    }

    /// Something by which another thread can end the program.
    ///
    /// # Errors
    /// When there are no descriptors left.
    pub fn stopper(&self) -> Result<Stopper, SandboxError> {
        self.control.try_clone().map(Stopper).map_err(SandboxError::Talk)
    }

    /// Ends the program, whatever it does.
    pub fn stop(&mut self) {
        let _ = wire::send(self.control.as_fd(), &Control::Kill(LimitHit::Stopped), &[]);
    }

    /// Closes the channel and waits for the program to end. One that stands still is ended.
    ///
    /// # Errors
    /// When the sandbox could not be set up, or the program not be started.
    pub fn finish(mut self) -> Result<Outcome, SandboxError> {
        self.channel = None;
        if self.is_still {
            self.stop();
        }
        while self.report.is_none() {
            self.pump()?;
        }
        // Whatever wrote to the streams is dead: what is in the pipes is all there will be.
        self.stdout.drain(self.output_cap);
        self.stderr.drain(self.output_cap);
        match self.report.take() {
            Some(SupervisorEvent::Ended(ended)) => Ok(self.outcome(ended)),
            Some(SupervisorEvent::SetUpFailed(why)) => Err(SandboxError::SetUp(why)),
            Some(SupervisorEvent::FilesFailed(why)) => Err(SandboxError::Files(why)),
            Some(SupervisorEvent::ExecFailed { program, why }) => {
                Err(SandboxError::Exec { program, why })
            }
            Some(SupervisorEvent::CollectFailed(why)) => Err(SandboxError::Collect(why)),
            Some(
                SupervisorEvent::Listening
                | SupervisorEvent::Started
                | SupervisorEvent::Starved
                | SupervisorEvent::Paused { .. }
                | SupervisorEvent::Lap(_),
            )
            | None => Err(self.lost()),
        }
    }

    fn wait_for(&mut self, patience: Duration) {
        self.patience = patience;
        self.deadline = Instant::now() + patience;
    }

    /// The supervisor is gone, or does not do its part.
    fn lost(&self) -> SandboxError {
        if self.started { SandboxError::Lost } else { SandboxError::NoReport }
    }

    /// Whether the supervisor was ended with the program for want of memory. Where it may not be spared the
    /// kernel can choose it: the memory of a program that has just ended may not be free yet.
    fn memory_ran_out(&self) -> bool {
        let kills = self.zygote.as_ref().map_or(0, Zygote::memory_kills);
        self.started && kills > self.memory_kills
    }

    /// What is known of a run whose supervisor was ended with it: the processor time is not.
    fn end_for_memory(&self) -> SupervisorEvent {
        SupervisorEvent::Ended(RunEnd {
            ending: Ending::Signalled(libc::SIGKILL),
            limit: Some(LimitHit::Memory),
            wall: self.begun_at.elapsed(),
            cpu: Duration::ZERO,
            peak_memory: self.memory_cap,
            peak_processes: 1,
            started: None,
            denied: BTreeMap::new(),
            accounting: Accounting::Group,
            view: None,
        })
    }

    fn outcome(&mut self, ended: RunEnd) -> Outcome {
        let over = (self.lap_out() > self.output_cap).then_some(LimitHit::Output);
        Outcome {
            ending: ended.ending,
            limit: ended.limit.or(over),
            wall: ended.wall,
            cpu: ended.cpu,
            peak_memory: ended.peak_memory,
            peak_processes: ended.peak_processes,
            started: ended.started,
            denied: ended.denied,
            accounting: ended.accounting,
            view: ended.view,
            earlier_out: self.earlier_out,
            laps: std::mem::take(&mut self.laps),
            stdout: std::mem::take(&mut self.stdout.captured),
            stderr: std::mem::take(&mut self.stderr.captured),
            collected: self.collected.take(),
        }
    }

    /// Waits until something can be moved, and moves it.
    fn pump(&mut self) -> Result<(), SandboxError> {
        let left = self.deadline.saturating_duration_since(Instant::now());
        if left.is_zero() {
            // The supervisor did not keep the time: the zygote is asked to end, and sees to it that the
            // supervisor does.
            let _ = shutdown(self.control.as_raw_fd(), Shutdown::Both);
            self.zygote = None;
            return Err(self.lost());
        }
        let ready = self.poll(left, !self.unsent.is_empty()).map_err(SandboxError::Talk)?;
        if ready.stdin {
            self.feed_stdin();
        }
        if ready.stdout {
            self.stdout.read_once(self.output_cap);
        }
        if ready.stderr {
            self.stderr.read_once(self.output_cap);
        }
        if ready.channel_out {
            self.send_on_channel();
        }
        if ready.channel_in {
            self.read_channel();
        }
        if self.lap_out() > self.output_cap && self.report.is_none() && !self.ended_for_output {
            self.ended_for_output = true;
            let _ = wire::send(self.control.as_fd(), &Control::Kill(LimitHit::Output), &[]);
        }
        if ready.control {
            match wire::receive::<SupervisorEvent>(self.control.as_fd())
                .map_err(SandboxError::Talk)?
            {
                Some((SupervisorEvent::Listening, fds)) => {
                    self.listener = fds.into_iter().next().map(TcpListener::from);
                }
                Some((SupervisorEvent::Started, _)) => self.started = true,
                Some((SupervisorEvent::Starved, _)) => self.wait_for(self.patience),
                Some((SupervisorEvent::Lap(lap), _)) => self.laps.push(lap),
                Some((paused @ SupervisorEvent::Paused { .. }, _)) => self.paused = Some(paused),
                Some((report, _)) => {
                    self.report = Some(report);
                    // What the program sent before it ended is there by now.
                    self.drain_channel();
                }
                None if self.memory_ran_out() => self.report = Some(self.end_for_memory()),
                None => return Err(self.lost()),
            }
        }
        Ok(())
    }

    fn poll(&self, left: Duration, sending: bool) -> io::Result<StreamsReady> {
        let out = if sending { PollFlags::POLLOUT } else { PollFlags::empty() };
        let sources = [
            (self.stdin.as_ref().map(|it| it.0.as_fd()), PollFlags::POLLOUT),
            (self.stdout.pipe.as_ref().map(File::as_fd), PollFlags::POLLIN),
            (self.stderr.pipe.as_ref().map(File::as_fd), PollFlags::POLLIN),
            (self.channel.as_ref().map(File::as_fd), PollFlags::POLLIN | out),
        ];
        let mut fds = vec![PollFd::new(self.control.as_fd(), PollFlags::POLLIN)];
        // The place of each source among those that are there.
        let places = sources.map(|(source, flags)| {
            source.map(|fd| {
                fds.push(PollFd::new(fd, flags));
                fds.len() - 1
            })
        });
        let timeout = PollTimeout::try_from(left).unwrap_or(PollTimeout::MAX);
        match poll(&mut fds, timeout) {
            Ok(_) | Err(nix::Error::EINTR) => {}
            Err(error) => return Err(error.into()),
        }
        let seen = |index: Option<usize>| {
            index.and_then(|it| fds[it].revents()).unwrap_or(PollFlags::empty())
        };
        let any = |index| !seen(index).is_empty();
        Ok(StreamsReady {
            control: any(Some(0)),
            stdin: any(places[0]),
            stdout: any(places[1]),
            stderr: any(places[2]),
            channel_out: sending
                && seen(places[3]).intersects(PollFlags::POLLOUT | PollFlags::POLLERR),
            channel_in: seen(places[3])
                .intersects(PollFlags::POLLIN | PollFlags::POLLHUP | PollFlags::POLLERR),
        })
    }

    fn feed_stdin(&mut self) {
        let Some((pipe, bytes, sent)) = &mut self.stdin else {
            return;
        };
        if *sent < bytes.len() {
            match pipe.write(&bytes[*sent..]) {
                Ok(count) => *sent += count,
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return,
                // The program does not want it.
                Err(_) => *sent = bytes.len(),
            }
        }
        if *sent >= bytes.len() {
            self.stdin = None;
        }
    }

    fn send_on_channel(&mut self) {
        let Some(channel) = &mut self.channel else {
            return;
        };
        match channel.write(&self.unsent) {
            Ok(count) => drop(self.unsent.drain(..count)),
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            Err(_) => self.unsent.clear(),
        }
    }

    fn drain_channel(&mut self) {
        let mut before = None;
        while self.channel.is_some()
            && before != Some(self.inbox.len())
            && self.inbox.len() <= CHANNEL_MAX
        {
            before = Some(self.inbox.len());
            self.read_channel();
        }
    }

    fn read_channel(&mut self) {
        let Some(channel) = &mut self.channel else {
            return;
        };
        let mut chunk = [0; CHUNK];
        match channel.read(&mut chunk) {
            Ok(0) => self.channel = None,
            Ok(count) => self.inbox.extend(&chunk[..count]),
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            Err(_) => self.channel = None,
        }
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        // Without a report the supervisor finds its socket closed and ends the run; the zygote takes no
        // further order before it has.
        if let Some(zygote) = self.zygote.take() {
            self.pool.give_back(zygote);
        }
    }
}

/// What can be moved.
struct StreamsReady {
    control: bool,
    stdin: bool,
    stdout: bool,
    stderr: bool,
    channel_out: bool,
    channel_in: bool,
}

impl Stream {
    fn new(pipe: OwnedFd) -> Result<Self, SandboxError> {
        Ok(Self { pipe: Some(writable(pipe)?), captured: Captured::default() })
    }

    /// Reads what is there, once. `false` when nothing was.
    fn read_once(&mut self, cap: u64) -> bool {
        let Some(pipe) = &mut self.pipe else {
            return false;
        };
        let mut chunk = [0; CHUNK];
        match pipe.read(&mut chunk) {
            Ok(0) => self.pipe = None,
            Ok(count) => {
                let room = (cap as usize).saturating_sub(self.captured.bytes.len());
                self.captured.bytes.extend(&chunk[..count.min(room)]);
                self.captured.total += count as u64;
                return true;
            }
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            Err(_) => self.pipe = None,
        }
        false
    }

    fn drain(&mut self, cap: u64) {
        while self.captured.total <= cap && self.read_once(cap) {}
    }
}

fn pipe() -> Result<(OwnedFd, OwnedFd), SandboxError> {
    pipe2(OFlag::O_CLOEXEC).map_err(|error| SandboxError::Start(error.into()))
}

/// Our end of a stream: it never blocks.
fn writable(fd: OwnedFd) -> Result<File, SandboxError> {
    fcntl(fd.as_fd(), FcntlArg::F_SETFL(OFlag::O_NONBLOCK))
        .map_err(|error| SandboxError::Start(error.into()))?;
    Ok(File::from(fd))
}
