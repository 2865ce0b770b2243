//! Programs that try to leave, to look around and to use up the machine, in the real sandbox.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use fairtrial_core::tree::{FileTree, Node, RelPath, Snapshot};
use fairtrial_sandbox::{
    Accounting, Allowed, Archive, Caps, Collect, Demand, Ending, Frame, Job, LimitHit, Outcome,
    Reach, Running, Sandbox, SandboxError, Tier,
};

/// The full tier, shared by all tests.
fn sandbox() -> &'static Sandbox {
    static SANDBOX: OnceLock<Sandbox> = OnceLock::new();
    SANDBOX.get_or_init(|| {
        let helper = Path::new(env!("CARGO_BIN_EXE_fairtrial-helper"));
        Sandbox::open(helper, Demand::Only(Tier::Full)).unwrap()
    })
}

fn run(job: &Job<'_>) -> Result<Outcome, SandboxError> {
    sandbox().run(job)
}

fn start(job: &Job<'_>) -> Result<Running, SandboxError> {
    sandbox().start(job)
}

/// How many times longer everything may take, on an emulated machine.
fn slower() -> u32 {
    std::env::var("CONFINEMENT_SLOWER").map_or(1, |it| it.parse().unwrap())
}

/// What [`caps`] allow, for one exchange.
fn allowed() -> Allowed {
    Allowed { wall: caps().wall, cpu: caps().cpu }
}

fn caps() -> Caps {
    Caps {
        wall: Duration::from_secs(4) * slower(),
        cpu: Duration::from_secs(2) * slower(),
        memory: 128 << 20,
        processes: 32,
        output: 256 << 10,
        disk: 16 << 20,
    }
}

/// Where the real Python is: the first on the search path may be a version manager's.
fn python() -> (String, PathBuf) {
    let say = "import os, sys; print(os.path.realpath(sys.executable)); print(sys.base_prefix)";
    let out = Command::new("python3").args(["-I", "-c", say]).output().unwrap();
    let text = String::from_utf8(out.stdout).unwrap();
    let (program, folder) = text.trim().split_once('\n').unwrap();
    (program.to_owned(), PathBuf::from(folder))
}

fn job(command: &[&str]) -> Job<'static> {
    Job {
        command: command.iter().map(|&it| it.to_owned()).collect(),
        env: BTreeMap::from([("PATH".into(), "/usr/bin:/bin".into())]),
        stdin: Vec::new(),
        layers: Vec::new(),
        driver: None,
        sealed: None,
        show: Vec::new(),
        channel: false,
        links: Vec::new(),
        terminals: false,
        collect: Collect::Nothing,
        session: 1,
        network: Reach::Nothing,
        tree: None,
        home: None,
        caps: caps(),
    }
}

fn shell(script: &str) -> Outcome {
    run(&job(&["/bin/sh", "-c", script])).unwrap()
}

fn python_job(script: &str) -> Job<'static> {
    let (program, folder) = python();
    Job { show: vec![folder], ..job(&[&program, "-S", "-E", "-c", script]) }
}

fn py(script: &str) -> Outcome {
    run(&python_job(script)).unwrap()
}

fn text(outcome: &Outcome) -> String {
    String::from_utf8_lossy(&outcome.stdout.bytes).into_owned()
}

#[test]
fn an_ordinary_program_gets_its_streams_and_status() {
    let job = Job {
        stdin: b"low tide\n".to_vec(),
        ..job(&["/bin/sh", "-c", "cat; echo no >&2; exit 3"])
    };
    let outcome = run(&job).unwrap();
    assert_eq!(outcome.ending, Ending::Exited(3));
    assert_eq!(
        (outcome.stdout.bytes.as_slice(), outcome.stderr.bytes.as_slice()),
        (&b"low tide\n"[..], &b"no\n"[..])
    );
    assert_eq!(outcome.limit, None);
    assert!(outcome.peak_memory > 0 && outcome.wall > Duration::ZERO);
}

#[test]
fn a_signal_is_told_from_a_status() {
    assert_eq!(shell("kill -SEGV $$").ending, Ending::Signalled(11));
}

#[test]
fn no_signal_is_ignored_whoever_started_the_tool() {
    let outcome = shell("grep SigIgn /proc/self/status; yes | head -n 1; echo $?");
    assert_eq!(
        (text(&outcome).as_str(), outcome.stderr.total),
        ("SigIgn:\t0000000000000000\ny\n0\n", 0)
    );
}

#[test]
fn a_program_that_is_not_there_is_our_error() {
    let error = run(&job(&["/usr/bin/no-such-tool"])).unwrap_err();
    assert!(matches!(error, SandboxError::Exec { .. }), "{error}");
}

#[test]
fn each_limit_ends_a_run_with_its_own_reason() {
    let cases = [
        ("while True: pass", LimitHit::Cpu),
        ("import time; time.sleep(60)", LimitHit::Wall),
        ("x = []\nwhile True: x.append(bytes(1 << 20).replace(b'\\0', b'x'))", LimitHit::Memory),
        ("import sys\nwhile True: sys.stdout.write('x' * 65536)", LimitHit::Output),
    ];
    for (script, limit) in cases {
        assert_eq!(py(script).limit, Some(limit), "{script}");
    }
}

/// Programs that keep every processor busy while they live.
struct Busy(Vec<std::process::Child>);

impl Busy {
    fn with(count: usize) -> Self {
        // Each in a session of its own: the kernel shares a processor out among sessions.
        let spin = ["sh", "-c", "while :; do :; done"];
        let one = |_| Command::new("setsid").args(spin).spawn().unwrap();
        Self((0..count).map(one).collect())
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

#[test]
fn a_busy_machine_takes_no_time_from_a_run() {
    let cores = std::thread::available_parallelism().map_or(2, usize::from);
    let _busy = Busy::with(cores * 8);
    let wall = Duration::from_millis(900) * slower();
    let caps = Caps { wall, cpu: Duration::from_secs(5) * slower(), ..caps() };
    // Half a second of work, at a ninth of a processor.
    let work = "import time\nwhile time.process_time() < 0.5: pass\nprint('done')";
    let outcome = run(&Job { caps, ..python_job(work) }).unwrap();
    assert_eq!((outcome.limit, text(&outcome).as_str()), (None, "done\n"), "{outcome:?}");
    assert!(outcome.wall > wall, "it was not busy: {outcome:?}");
    // Who sleeps wants no processor.
    let outcome = run(&Job { caps, ..python_job("import time; time.sleep(60)") }).unwrap();
    assert_eq!(outcome.limit, Some(LimitHit::Wall));
    // Many small processes want one by turns.
    let script =
        "i=0; while [ $i -lt 40 ]; do echo $i | cat | cat >/dev/null; i=$((i+1)); done; echo done";
    let outcome = run(&Job { caps, ..job(&["/bin/sh", "-c", script]) }).unwrap();
    assert_eq!((outcome.limit, text(&outcome).as_str()), (None, "done\n"), "{outcome:?}");
}

#[test]
fn a_gigabyte_at_once_does_not_hurt_the_machine() {
    let outcome = py("x = b'x' * (1 << 30)\nprint(len(x))");
    assert_eq!(outcome.limit, Some(LimitHit::Memory));
}

#[test]
fn memory_that_processes_share_is_counted_once() {
    let script = "import os, time\nx = b'x' * (60 << 20)\n\
                  pids = [os.fork() or (time.sleep(0.4), os._exit(0)) for _ in range(6)]\n\
                  [os.wait() for _ in pids]\nprint('done')";
    let outcome = py(script);
    assert_eq!((outcome.limit, text(&outcome).as_str()), (None, "done\n"));
}

/// Processes whose command line has this, by pid.
fn pids_of(marker: &str) -> Vec<u32> {
    let out = Command::new("pgrep").args(["-f", marker]).output().unwrap().stdout;
    String::from_utf8(out).unwrap().lines().map(|it| it.parse().unwrap()).collect()
}

/// A line of `/proc/PID/status`.
fn status_of(pid: u32, key: &str) -> String {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let line = status.lines().find_map(|it| it.strip_prefix(key)?.strip_prefix(':'));
    line.unwrap_or_default().trim().to_owned()
}

fn signal(name: &str, pid: u32) {
    assert!(Command::new("kill").args([name, &pid.to_string()]).status().unwrap().success());
}

#[test]
fn a_supervisor_that_the_kernel_ends_for_want_of_memory_says_so() {
    let marker = "for_want_of_memory";
    let has_group = shell("true").accounting == Accounting::Group;
    let (program, folder) = python();
    let script = "import os, signal\nos.kill(os.getpid(), signal.SIGSTOP)\n\
                  x = []\nwhile True: x.append(b'x' * (1 << 24))";
    let job = Job { show: vec![folder], ..job(&[&program, "-S", "-E", "-c", script, marker]) };
    for with_zygote in [false, true] {
        let running = start(&job).unwrap();
        let until = |seen: &dyn Fn() -> bool| {
            let began = Instant::now();
            while !seen() {
                assert!(began.elapsed() < Duration::from_secs(3) * slower(), "it does not come");
                std::thread::sleep(Duration::from_millis(5));
            }
        };
        let is_stopped = || {
            let pid = pids_of(marker).first().copied();
            pid.is_some_and(|pid| status_of(pid, "State").starts_with('T'))
        };
        until(&is_stopped);
        let trial = pids_of(marker)[0];
        let parent = |pid| status_of(pid, "PPid").parse::<u32>().unwrap();
        let (supervisor, zygote) = (parent(trial), parent(parent(trial)));
        // What polls is out of the way: the kernel has to end the program.
        signal("-STOP", supervisor);
        if has_group {
            signal("-CONT", trial);
            until(&|| status_of(trial, "State").starts_with('Z'));
        }
        if with_zygote {
            signal("-KILL", zygote);
        }
        signal("-KILL", supervisor);
        match running.finish() {
            Ok(it) => assert!(has_group && it.limit == Some(LimitHit::Memory), "{it:?}"),
            Err(it) => assert!(!has_group && matches!(it, SandboxError::Lost), "{it:?}"),
        }
        assert_eq!(shell("echo on").stdout.bytes, b"on\n", "runs go on");
    }
}

#[test]
fn a_fork_loop_is_held_to_the_process_limit() {
    let script = "import os\nwhile True:\n    try: os.fork()\n    except OSError: pass";
    let outcome = py(script);
    assert!(outcome.limit.is_some(), "{outcome:?}");
    assert!(outcome.peak_processes <= 33, "{}", outcome.peak_processes);
    let count = py(
        "import os, time\nn = 0\ntry:\n    while n < 999:\n        if os.fork() == 0: time.sleep(9)\n        n += 1\nexcept OSError: pass\nprint(n)",
    );
    assert!(text(&count).trim().parse::<u32>().unwrap() <= 32, "{}", text(&count));
}

#[test]
fn what_a_program_leaves_behind_is_ended() {
    let began = Instant::now();
    let outcome = shell("(trap '' TERM HUP INT; setsid sleep 50 & sleep 50 &) ; echo gone");
    assert_eq!(text(&outcome), "gone\n");
    assert!(began.elapsed() < Duration::from_secs(45), "it was waited for");
    let left = Command::new("pgrep").args(["-fx", "sleep 50"]).output().unwrap();
    assert_eq!(left.stdout, b"", "a process outlived its sandbox");
}

#[test]
fn nothing_of_the_machine_can_be_seen_or_changed() {
    let home = std::env::var("HOME").unwrap_or_else(|_| "/root".into());
    let here = env!("CARGO_MANIFEST_DIR");
    for path in [
        home.as_str(),
        here,
        "/etc/shadow",
        "/var",
        "/sys",
        "/run",
        "/root",
        "/boot",
        "/proc/1/environ",
    ] {
        let outcome = shell(&format!("cat {path} || ls -a {path}/*"));
        assert_ne!(outcome.ending, Ending::Exited(0), "{path}: {}", text(&outcome));
    }
    for path in [
        "/usr/x",
        "/etc/x",
        "/x",
        "/dev/x",
        "/opt/driver/x",
        "/usr/bin/sh",
        "/proc/sys/kernel/core_pattern",
    ] {
        let outcome = shell(&format!("echo x > {path}"));
        assert_ne!(outcome.ending, Ending::Exited(0), "{path}");
    }
    assert!(!text(&shell("ls /")).contains("root"));
    assert_eq!(
        text(&shell("env | sort | grep -v -e ^_= -e ^PWD= -e ^OLDPWD=")),
        "PATH=/usr/bin:/bin\n"
    );
    assert_eq!(text(&shell("ls /proc/self/fd | tr '\\n' ' '")), "0 1 2 3 ");
    assert_eq!(text(&shell("hostname; id -u; pwd")), "trial\n1000\n/work\n");
}

#[test]
fn there_is_no_network() {
    let script = "import socket\nfor a in [('127.0.0.1', 22), ('10.0.0.1', 80), ('192.0.2.1', 80)]:\n    \
                  s = socket.socket(); s.settimeout(1)\n    \
                  try: s.connect(a); print('connected', a)\n    except OSError as e: print('no')";
    assert_eq!(text(&py(script)), "no\nno\nno\n");
}

#[test]
fn the_tool_can_listen_in_a_network_of_the_run_s_own() {
    let outside = std::net::TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let script = format!(
        "import socket\n\
         def say(port, text):\n\
         \x20   try:\n\
         \x20       with socket.create_connection(('127.0.0.1', port), 3) as s:\n\
         \x20           s.sendall(text)\n\
         \x20           return s.recv(9)\n\
         \x20   except OSError as error: return error.errno\n\
         print(say(7070, b'ahoy'), say(7071, b'x'), say({}, b'x'))\n\
         try: socket.socket().bind(('127.0.0.1', 7072)); print('bound')\n\
         except OSError as error: print(error.errno)",
        outside.local_addr().unwrap().port()
    );
    let job = Job { network: Reach::Port(7070), ..python_job(&script) };
    let mut running = start(&job).unwrap();
    let listener = running.listener().unwrap().unwrap();
    let (mut stream, _) = listener.accept().unwrap();
    let mut said = [0; 4];
    stream.read_exact(&mut said).unwrap();
    stream.write_all(b"hello").unwrap();
    drop(stream);
    let outcome = running.finish().unwrap();
    // Landlock refuses other ports where it can (EACCES); else nobody is there (ECONNREFUSED).
    let (refused, bound) = if landlock_abi() >= 4 { (13, "13") } else { (111, "bound") };
    assert_eq!(&said, b"ahoy");
    assert_eq!(text(&outcome), format!("b'hello' {refused} {refused}\n{bound}\n"));
}

#[test]
fn there_are_no_rights_to_gain() {
    let outcome = shell("grep -E 'Cap(Inh|Prm|Eff|Bnd|Amb)|NoNewPrivs' /proc/self/status");
    let status = text(&outcome);
    assert_eq!(status.matches("0000000000000000").count(), 5, "{status}");
    assert!(status.contains("NoNewPrivs:\t1"), "{status}");
    for script in [
        "mount -t tmpfs x /tmp",
        "kill -9 1",
        "chroot / true",
        "echo 1 > /proc/1/oom_score_adj",
        "cat /proc/1/mem",
    ] {
        let outcome = shell(&format!("{script} && sleep 0.1 && echo done"));
        assert!(
            script.starts_with("kill") || text(&outcome).is_empty(),
            "{script}: {}",
            text(&outcome)
        );
    }
    assert_eq!(shell("kill -9 1; kill -STOP 1; exit 7").ending, Ending::Exited(7));
}

/// Calls by number, from a library that adds nothing of its own.
const CALLS: &str = "import ctypes, errno\nc = ctypes.CDLL(None, use_errno=True)\n\
    def call(*a):\n    ctypes.set_errno(0)\n    r = c.syscall(*a)\n    \
    return errno.errorcode.get(ctypes.get_errno(), '?') if r < 0 else 'done'\n";

#[test]
fn system_calls_that_are_never_needed_are_refused() {
    // ptrace, keyctl, bpf, perf_event_open, userfaultfd, io_uring_setup, unshare, setns, mount,
    // process_vm_readv, open_by_handle_at, reboot, clock_settime.
    let numbers = "[101, 250, 321, 298, 323, 425, 272, 308, 165, 310, 304, 169, 227]";
    let script = format!("{CALLS}print({{call(n, 0, 0, 0, 0, 0) for n in {numbers}}})\n");
    assert_eq!(text(&py(&script)), "{'EPERM'}\n");
    let script = format!(
        "{CALLS}print(call(56, 0x10000000 | 17, 0, 0, 0, 0), call(435, 0, 0))\n\
         print([call(41, f, t, 0) for f, t in [(40, 1), (16, 3), (17, 3), (2, 3), (38, 5)]])\n\
         print([call(41, f, 1, 0) for f in (1, 2, 10)])\n\
         print(call(16, 0, 0x5412, 0))\n"
    );
    let expected = "EPERM ENOSYS\n['EAFNOSUPPORT', 'EAFNOSUPPORT', 'EAFNOSUPPORT', 'EPERM', \
                    'EAFNOSUPPORT']\n['done', 'done', 'done']\nEPERM\n";
    assert_eq!(text(&py(&script)), expected);
    let status = text(&shell("grep Seccomp: /proc/self/status"));
    assert_eq!(status, "Seccomp:\t2\n");
}

/// What Landlock of this kernel can restrict; 0 without it.
fn landlock_abi() -> i32 {
    let script = "import ctypes\nprint(ctypes.CDLL(None).syscall(444, None, 0, 1))";
    let out = Command::new(python().0).args(["-c", script]).output().unwrap();
    String::from_utf8(out.stdout).unwrap().trim().parse::<i32>().unwrap().max(0)
}

#[test]
fn landlock_stands_behind_the_mounts_as_far_as_the_kernel_goes() {
    let abi = landlock_abi();
    // TCP since version 4: a port on loopback, which the network namespace alone would give.
    let script = "import socket\ns = socket.socket()\ntry:\n    s.bind(('127.0.0.1', 5000))\n    \
                  print('bound')\nexcept OSError as e: print(e.errno)";
    let expected = if abi >= 4 { "13\n" } else { "bound\n" };
    assert_eq!(text(&py(script)), expected, "Landlock {abi}");
    // Files: what the program itself owns it may change, and that is all.
    let script = "import os\nos.makedirs('/work/a/b'); os.makedirs('/tmp/c')\n\
                  open('/work/a/x', 'w').close(); os.rename('/work/a/x', '/work/a/b/y')\n\
                  os.symlink('/etc', '/tmp/l'); open('/dev/null', 'w').write('x')\n\
                  open('/dev/shm/z', 'w').close(); print(sorted(os.listdir('/work/a/b')))";
    assert_eq!(text(&py(script)), "['y']\n");
}

#[test]
fn the_32_bit_entry_ends_the_process() {
    let code = "int main(void) { int r; __asm__ volatile(\"int $0x80\" : \"=a\"(r) : \"a\"(20)); return 0; }";
    let script = format!(
        "cd /tmp && printf '%s' '{code}' > a.c && cc a.c -o a && echo built && ./a; echo $?"
    );
    let caps = Caps { processes: 64, disk: 64 << 20, ..caps() };
    let outcome = run(&Job { caps, ..job(&["/bin/sh", "-c", &script]) }).unwrap();
    // 128 and SIGSYS.
    assert_eq!(text(&outcome), "built\n159\n", "{outcome:?}");
}

#[test]
fn files_go_in_and_come_out_and_links_do_not_lead_anywhere() {
    let path = |text: &str| RelPath::parse(text).unwrap();
    let files = FileTree::from([(path("in/a.txt"), b"alpha".to_vec())]);
    let layer = Archive::of(&files).unwrap();
    let script = "mkdir -p out/deep; cat in/a.txt > out/deep/b.txt; ln -s /etc/passwd out/link; \
                  mkfifo out/pipe; printf x > 'out/odd name'; chmod 000 'out/odd name'; \
                  printf '#!/bin/sh' > run.sh; chmod 755 run.sh; ln -s out/deep way";
    let base = job(&["/bin/sh", "-c", script]);
    let all = run(&Job { layers: vec![&layer], collect: Collect::All, ..base }).unwrap();
    let entries = all.collected.unwrap().entries().unwrap();
    let is_runnable =
        |node: &Option<Node>| matches!(node, Some(Node::File { executable, .. }) if *executable);
    let mut names: Vec<_> =
        entries.iter().map(|it| (it.path.as_bytes(), is_runnable(&it.node))).collect();
    names.sort_unstable();
    let expected = [(&b"in/a.txt"[..], false), (b"out/deep/b.txt", false), (b"run.sh", true)];
    assert_eq!(names, expected);
    let wanted = ["out/link", "out/deep/b.txt", "way/b.txt", "no"].map(path).to_vec();
    let base = job(&["/bin/sh", "-c", script]);
    let some = run(&Job { layers: vec![&layer], collect: Collect::Files(wanted), ..base }).unwrap();
    let files = some.collected.unwrap().files().unwrap();
    assert_eq!(files.into_values().collect::<Vec<_>>(), [b"alpha"]);
}

#[test]
fn the_disk_is_bounded() {
    let outcome = shell("dd if=/dev/zero of=big bs=1M count=64 2>/dev/null; wc -c < big");
    assert!(text(&outcome).trim().parse::<u64>().unwrap() <= 16 << 20);
    let outcome = shell(
        "i=0; while [ $i -lt 64 ]; do head -c 1000000 /dev/zero > /tmp/$i || exit 9; i=$((i+1)); done",
    );
    assert_eq!(outcome.ending, Ending::Exited(9));
}

#[test]
fn pseudo_terminals_are_a_run_s_own_and_there_for_who_asks() {
    let script = "import os, pty\npid, fd = pty.fork()\nif pid == 0:\n    os.execv('/bin/sh', ['sh', '-c', 'tty; test -t 0 && echo yes'])\n\
                  text = b''\nwhile True:\n    try: part = os.read(fd, 1000)\n    except OSError: break\n    if not part: break\n    text += part\n\
                  print(text.decode().split(), sorted(os.listdir('/dev/pts')))\nn = 0\ntry:\n    while n < 100: os.openpty(); n += 1\nexcept OSError: pass\nprint(n < 70)";
    let outcome = run(&Job { terminals: true, ..python_job(script) }).unwrap();
    let said = String::from_utf8_lossy(&outcome.stdout.bytes).into_owned();
    assert_eq!(said, "['/dev/pts/0', 'yes'] ['0', 'ptmx']\nTrue\n", "{outcome:?}");
    assert_ne!(py("import os\nos.openpty()").ending, Ending::Exited(0));
}

#[test]
fn the_channel_carries_lines_and_each_gets_its_own_time() {
    let (program, folder) = python();
    let script = "import os, time\nf = os.fdopen(3, 'rb+', buffering=0)\n\
                  for line in iter(f.readline, b''):\n    \
                  if line == b'spin\\n':\n        while True: pass\n    \
                  if line == b'long\\n': f.write(b'x' * 5000 + b'\\n')\n    \
                  t = time.process_time()\n    \
                  while time.process_time() - t < 0.9: pass\n    \
                  f.write(b'<' + line)";
    let job = Job { channel: true, show: vec![folder], ..job(&[&program, "-c", script]) };
    let mut running = start(&job).unwrap();
    for _ in 0..4 {
        assert_eq!(
            running.exchange(b"tide", 100, allowed()).unwrap(),
            Frame::Line(b"<tide".to_vec())
        );
    }
    assert_eq!(running.exchange(b"spin", 100, allowed()).unwrap(), Frame::Closed);
    let outcome = running.finish().unwrap();
    assert_eq!(outcome.limit, Some(LimitHit::Cpu));
    assert!(outcome.cpu > Duration::from_secs(5));
    let mut running = start(&job).unwrap();
    assert_eq!(running.exchange(b"long", 100, allowed()).unwrap(), Frame::TooLong);
}

#[test]
fn when_the_tool_is_killed_the_program_goes_too() {
    let marker = "sleep 47.25";
    let running = start(&job(&["/bin/sh", "-c", marker])).unwrap();
    let seen = || !Command::new("pgrep").args(["-f", marker]).output().unwrap().stdout.is_empty();
    let wait_for = |wanted: bool| {
        let began = Instant::now();
        while seen() != wanted && began.elapsed() < Duration::from_secs(5) * slower() {
            std::thread::sleep(Duration::from_millis(10));
        }
        assert_eq!(seen(), wanted);
    };
    wait_for(true);
    drop(running);
    wait_for(false);
}

#[test]
fn only_runs_of_one_session_follow_each_other_in_one_network() {
    let helper = Path::new(env!("CARGO_BIN_EXE_fairtrial-helper"));
    let sandbox = Sandbox::open(helper, Demand::Only(Tier::Full)).unwrap();
    let network = |session: u64| {
        let script = "readlink /proc/self/ns/net; cat /proc/net/dev | tail -n +3 | wc -l; \
                      cat /proc/net/unix | wc -l";
        let job = Job { session, ..job(&["/bin/sh", "-c", script]) };
        let outcome = sandbox.run(&job).unwrap();
        let said = text(&outcome);
        let (name, rest) = said.split_once('\n').unwrap();
        // The head of the list, and the pair of sockets that the supervisor has.
        assert_eq!(rest, "1\n2\n", "an interface that is down, and no socket");
        name.to_owned()
    };
    let (a, again, b) = (network(7), network(7), network(8));
    assert_eq!(a, again);
    assert_ne!(a, b);
    // A session that comes back gets a new one, and so does every run without.
    let own = std::fs::read_link("/proc/self/ns/net").unwrap().display().to_string();
    let others = [network(7), network(0), network(0), own];
    let different: std::collections::BTreeSet<&String> = others.iter().chain([&b]).collect();
    assert!(different.len() >= 4, "{others:?} {b}");
    assert!(!others[..3].contains(&others[3]));
}

#[test]
fn later_layers_take_the_place_of_what_stands_in_their_way() {
    let tree = |files: &[(&str, &str)]| -> Archive {
        let files = files.iter().map(|it| (RelPath::parse(it.0).unwrap(), it.1.into()));
        Archive::of(&files.collect::<FileTree>()).unwrap()
    };
    let first = tree(&[("tide", "a file"), ("quay/a/b", "a deep file")]);
    let second = tree(&[("tide/low", "low"), ("quay", "flat")]);
    let look = "cat tide/low quay; find . -type f | sort";
    let job = Job { layers: vec![&first, &second], ..job(&["/bin/sh", "-c", look]) };
    assert_eq!(text(&run(&job).unwrap()), "lowflat./quay\n./tide/low\n");
}

#[test]
fn modes_and_links_go_in_and_no_layer_writes_through_a_link() {
    let path = |text: &str| RelPath::parse(text).unwrap();
    let mut tree = Snapshot::new();
    let script = b"#!/bin/sh\necho ahoy\n".as_slice();
    tree.put(path("bin/hail"), Node::File { bytes: script.into(), executable: true });
    tree.put(path("hail"), Node::Link { to: b"bin/hail".to_vec() });
    tree.put(path("way"), Node::Link { to: b"/tmp".to_vec() });
    tree.put(path("mark"), Node::Link { to: b"/tmp/mark".to_vec() });
    let first = Archive::of_snapshot(&tree).unwrap();
    let files = [("way/out", "x"), ("mark", "y")].map(|it| (path(it.0), it.1.as_bytes().to_vec()));
    let second = Archive::of(&FileTree::from(files)).unwrap();
    let look = "./hail; readlink hail way mark; find /tmp -type f; cat way/out mark";
    let job = Job { layers: vec![&first, &second], ..job(&["/bin/sh", "-c", look]) };
    assert_eq!(text(&run(&job).unwrap()), "ahoy\nbin/hail\nxy");
}

#[test]
fn files_that_do_not_fit_are_the_limit_of_the_run() {
    let large = FileTree::from([(RelPath::parse("large").unwrap(), vec![1; 10 << 20])]);
    let large = Archive::of(&large).unwrap();
    let other = FileTree::from([(RelPath::parse("other").unwrap(), vec![1; 10 << 20])]);
    let other = Archive::of(&other).unwrap();
    let job = Job { layers: vec![&large, &other], ..job(&["/bin/true"]) };
    let outcome = run(&job).unwrap();
    assert_eq!((outcome.limit, outcome.started), (Some(LimitHit::Disk), Some(0)));
}
