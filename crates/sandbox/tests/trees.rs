//! Trees of the store, seen by runs: what they change is theirs, and comes out as they left it.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::collections::BTreeMap;
use std::fs;
use std::io::{Read as _, Write as _};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;
use std::time::Duration;

use fairtrial_core::change::Change;
use fairtrial_core::tree::{Node, TreePath, WorkTree};
use fairtrial_sandbox::{
    Allowed, Archive, ArchiveEntry, Caps, Collect, Demand, Ending, Frame, Job, LimitHit, Outcome,
    Reach, Sandbox, SandboxError, Still, Tier, TreeView,
};
use tempfile::TempDir;

/// A sandbox with a store of its own.
struct Env {
    sandbox: Sandbox,
    store: TempDir,
}

impl Env {
    fn open(tier: Tier) -> Self {
        let store = TempDir::new().unwrap();
        let helper = Path::new(env!("CARGO_BIN_EXE_fairtrial-helper"));
        let sandbox = Sandbox::open(helper, Demand::Only(tier)).unwrap();
        let sandbox = sandbox.with_store(store.path().join("trees")).unwrap();
        Self { sandbox, store }
    }

    fn job(script: &str) -> Job<'static> {
        Job {
            command: ["/bin/sh", "-ec", script].map(str::to_owned).to_vec(),
            env: BTreeMap::from([("PATH".into(), "/usr/bin:/bin".into())]),
            stdin: Vec::new(),
            tree: None,
            layers: Vec::new(),
            home: None,
            driver: None,
            sealed: None,
            show: Vec::new(),
            channel: false,
            links: Vec::new(),
            terminals: false,
            collect: Collect::Nothing,
            session: 0,
            network: Reach::Nothing,
            caps: Caps {
                wall: Duration::from_secs(20),
                cpu: Duration::from_secs(20),
                memory: 256 << 20,
                processes: 64,
                output: 1 << 20,
                disk: 16 << 20,
            },
        }
    }

    /// Puts a tree into the store by a run, as the tool does.
    fn keep(&self, name: &str, script: &str, layers: Vec<&Archive>) {
        let kept = Job { layers, collect: Collect::Keep(name.to_owned()), ..Self::job(script) };
        let outcome = self.sandbox.run(&kept).unwrap();
        assert_eq!(outcome.ending, Ending::Exited(0), "{}", said(&outcome));
    }

    /// What a script changes of the tree `base`.
    fn change(&self, script: &str) -> (Outcome, Vec<ArchiveEntry>) {
        let collect = Collect::Changes { skip: vec![".git".to_owned()] };
        let job = Job { tree: Some("base".to_owned()), collect, ..Self::job(script) };
        let mut outcome = self.sandbox.run(&job).unwrap();
        assert_eq!(outcome.ending, Ending::Exited(0), "{}", said(&outcome));
        let entries = outcome.collected.take().unwrap().entries().unwrap();
        (outcome, entries)
    }
}

fn said(outcome: &Outcome) -> String {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    text(&outcome.stdout.bytes) + &text(&outcome.stderr.bytes)
}

fn path(text: &str) -> TreePath {
    TreePath::parse(text.as_bytes()).unwrap()
}

fn file(text: &str) -> Node {
    Node::File { bytes: text.as_bytes().into(), executable: false }
}

const BASE: &str = "mkdir -p src/deep node .git; echo tide > src/a.txt; echo old > src/deep/b.txt; \
    echo same > src/same.txt; ln -s src/a.txt way; echo x > node/x; echo '#!/bin/sh' > run.sh; \
    chmod 755 run.sh; echo ours > .git/config; chmod 500 node";

#[test]
fn a_run_that_stands_still_shows_its_files_and_goes_on_later() {
    for tier in [Tier::Full, Tier::Plain] {
        let env = Env::open(tier);
        env.keep("base", "echo tide > a.txt", Vec::new());
        let script = "(while :; do echo tick >> count; sleep 0.001; done) & \
            while read line <&3; do echo \"$line\" >> a.txt; sleep 0.1; echo done >&3; done";
        let collect = Collect::Changes { skip: Vec::new() };
        let job = Job { tree: Some("base".to_owned()), channel: true, collect, ..Env::job(script) };
        let mut running = env.sandbox.start(&job).unwrap();
        let allowed = Allowed { wall: Duration::from_secs(20), cpu: Duration::from_millis(10_000) };
        let files = |still: Option<Still>| {
            let entries = still.unwrap().collected.entries().unwrap();
            let text = |it: ArchiveEntry| match it.node {
                Some(Node::File { bytes, .. }) => String::from_utf8_lossy(&bytes).into_owned(),
                other => panic!("{other:?}"),
            };
            let named = entries.into_iter().map(|it| (it.path.to_string(), text(it)));
            named.collect::<BTreeMap<_, _>>()
        };
        assert_eq!(
            running.exchange(b"ebb", 100, allowed).unwrap(),
            Frame::Line(b"done".to_vec()),
            "{tier:?}"
        );
        let first = files(running.pause().unwrap());
        assert_eq!(first["a.txt"], "tide\nebb\n");
        std::thread::sleep(Duration::from_millis(100));
        assert_eq!(files(running.pause().unwrap()), first, "{tier:?}: it stands still");
        running.send(b"flood", allowed);
        assert_eq!(running.receive(100).unwrap(), Frame::Line(b"done".to_vec()));
        let second = files(running.pause().unwrap());
        assert_eq!(second["a.txt"], "tide\nebb\nflood\n");
        assert!(second["count"].len() > first["count"].len(), "{tier:?}: it went on");
        running.send(b"over", Allowed { wall: Duration::from_secs(1), ..allowed });
        assert_eq!(running.receive(100).unwrap(), Frame::Line(b"done".to_vec()));
        // The limits are those of what came last: by then the loop is at its limit.
        assert_eq!(running.receive(100).unwrap(), Frame::Closed);
        assert!(running.pause().unwrap().is_none());
        assert_eq!(running.finish().unwrap().limit, Some(LimitHit::Wall), "{tier:?}");
    }
}

#[test]
fn a_run_that_has_itself_woken_is_ended() {
    let Some(python) = fs::canonicalize("/usr/bin/python3").ok() else { return };
    for tier in [Tier::Full, Tier::Plain] {
        let env = Env::open(tier);
        env.keep("base", "echo tide > a.txt", Vec::new());
        // A timer of POSIX whose signal is SIGCONT, and which does not tire (timer_create(2)).
        let script = "import ctypes, os, signal, struct\n\
            signal.signal(signal.SIGCONT, lambda *it: None)\nlibc = ctypes.CDLL(None)\n\
            event = struct.pack('qii48x', 0, signal.SIGCONT, 0)\ntimer = ctypes.c_void_p()\n\
            assert libc.timer_create(0, event, ctypes.byref(timer)) == 0\n\
            often = struct.pack('qqqq', 0, 10_000_000, 0, 10_000_000)\n\
            assert libc.timer_settime(timer, 0, often, None) == 0\n\
            os.write(3, b'set\\n')\nwhile True: pass";
        let job = Job {
            command: [python.to_str().unwrap(), "-I", "-c", script].map(str::to_owned).to_vec(),
            tree: Some("base".to_owned()),
            channel: true,
            links: Vec::new(),
            collect: Collect::Changes { skip: Vec::new() },
            ..Env::job("")
        };
        let mut running = env.sandbox.start(&job).unwrap();
        let allowed = Allowed { wall: Duration::from_secs(60), cpu: Duration::from_secs(60) };
        assert_eq!(running.exchange(b"go", 100, allowed).unwrap(), Frame::Line(b"set".to_vec()));
        assert!(running.pause().unwrap().is_some());
        assert_eq!(running.receive(100).unwrap(), Frame::Closed);
        let outcome = running.finish().unwrap();
        assert_eq!(outcome.limit, Some(LimitHit::Cpu), "{tier:?}: {}", said(&outcome));
        assert!(outcome.cpu < Duration::from_secs(5), "{tier:?}: {:?}", outcome.cpu);
    }
}

#[test]
fn what_a_run_changes_comes_out_and_the_tree_stays() {
    for tier in [Tier::Full, Tier::Plain] {
        let env = Env::open(tier);
        // Without namespaces, an ordinary user's programs change no modes and no times.
        let has_modes = tier == Tier::Full || fs::metadata("/proc/self").unwrap().uid() == 0;
        let scripted = |script: &str| {
            let parts = script
                .split("; ")
                .filter(|it| has_modes || !(it.starts_with("chmod") || it.starts_with("touch")));
            parts.collect::<Vec<_>>().join("; ")
        };
        env.keep("base", &scripted(BASE), Vec::new());
        let before = listing(&env.store.path().join("trees/base"));
        let script = "printf new > \"new $(printf '\\351\\n').txt\"; echo more >> src/a.txt; \
            rm -r src/deep; cp src/same.txt s; rm src/same.txt; mv s src/same.txt; rm way; \
            ln -s src way; chmod 644 run.sh; mkdir -p .git/hooks; echo evil > .git/hooks/x; \
            mkfifo pipe; rm -rf node; echo now a file > node; touch src/a.txt; \
            mkdir q; echo secret > q/r; chmod 000 q/r; chmod 000 q";
        let (outcome, mut entries) = env.change(&scripted(script));
        let expected_view = if tier == Tier::Full { TreeView::Overlay } else { TreeView::Copies };
        assert!(
            outcome.view == Some(expected_view)
                || (tier == Tier::Plain && outcome.view == Some(TreeView::Reflinks)),
            "{:?}",
            outcome.view
        );
        entries.sort_by(|a, b| a.path.cmp(&b.path));
        let odd = TreePath::parse(b"new \xe9.txt").unwrap();
        let mut expected: Vec<(TreePath, Option<Node>)> = vec![
            (odd, Some(file("new"))),
            (path("node"), Some(file("now a file\n"))),
            (path("q/r"), Some(file("secret\n"))),
            (path("run.sh"), Some(file("#!/bin/sh\n"))),
            (path("src/a.txt"), Some(file("tide\nmore\n"))),
            (path("src/deep"), None),
            (path("way"), Some(Node::Link { to: b"src".to_vec() })),
        ];
        expected.retain(|it| has_modes || it.0 != path("run.sh"));
        let found: Vec<_> = entries.into_iter().map(|it| (it.path, it.node)).collect();
        assert_eq!(found, expected, "{tier:?}");
        assert_eq!(listing(&env.store.path().join("trees/base")), before, "the tree was changed");
        let (_, again) =
            env.change(&scripted("cat src/deep/b.txt way > /dev/null; touch src/a.txt"));
        assert_eq!(again, [], "{tier:?}: nothing of the last run is left");
    }
}

/// Every file below a folder, with its mode, its time and what is in it.
fn listing(folder: &Path) -> BTreeMap<String, (u32, std::time::SystemTime, Vec<u8>)> {
    let mut out = BTreeMap::new();
    let mut left = vec![folder.to_owned()];
    while let Some(folder) = left.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let meta = fs::symlink_metadata(&path).unwrap();
            if meta.is_dir() {
                left.push(path.clone());
            }
            let bytes = if meta.is_file() { fs::read(&path).unwrap() } else { Vec::new() };
            let facts = (meta.permissions().mode(), meta.modified().unwrap(), bytes);
            out.insert(path.display().to_string(), facts);
        }
    }
    out
}

#[test]
fn layers_lie_over_a_tree_and_are_newer_than_it() {
    let env = Env::open(Tier::Full);
    let base: WorkTree = [(path("a"), file("1")), (path("b/c"), file("2"))].into_iter().collect();
    let base = Archive::of_snapshot(&base).unwrap();
    env.keep("base", "touch made; test made -nt a", vec![&base]);
    let change =
        [(path("a"), Some(file("new"))), (path("b"), None), (path("d/e"), Some(file("3")))];
    let change = Archive::of_change(&Change::from_iter(change)).unwrap();
    let script = "test a -nt made; test \"$(cat a d/e)\" = new3; test ! -e b; echo x >> a; echo y >> d/e; \
        test \"$(stat -c %u .)\" = \"$(id -u)\"; test \"$(stat -c %u made)\" = \"$(id -u)\"; chmod 600 made; \
        mv d f; ! grep -q ' /opt/store ' /proc/mounts; test ! -e /opt/store/base";
    let job = Job { tree: Some("base".to_owned()), layers: vec![&change], ..Env::job(script) };
    let outcome = env.sandbox.run(&job).unwrap();
    assert_eq!(outcome.ending, Ending::Exited(0), "{}", said(&outcome));
}

#[test]
fn a_view_is_bounded_and_a_tree_that_is_not_there_is_our_error() {
    let env = Env::open(Tier::Full);
    env.keep("base", "head -c 12000000 /dev/zero > large", Vec::new());
    let tree = || Some("base".to_owned());
    let fill =
        Job { tree: tree(), ..Env::job("head -c 40000000 /dev/zero > more || true; wc -c < more") };
    let written: u64 =
        said(&env.sandbox.run(&fill).unwrap()).lines().next().unwrap().parse().unwrap();
    assert!(written > 1 << 20 && written <= 16 << 20, "{written}");
    let gone = Job { tree: Some("gone".to_owned()), ..Env::job("true") };
    assert!(matches!(env.sandbox.run(&gone), Err(SandboxError::SetUp(_))));
    let collect = Collect::Changes { skip: Vec::new() };
    let many = "i=0; while [ $i -lt 900 ]; do echo > $(printf %0200d $i); i=$((i+1)); done";
    let caps = Caps { disk: 100_000, ..Env::job("").caps };
    let many = env.sandbox.run(&Job { tree: tree(), collect, caps, ..Env::job(many) });
    assert!(
        matches!(&many, Err(SandboxError::Collect(_)))
            || matches!(&many, Ok(it) if it.limit == Some(LimitHit::Disk)
                || it.ending != Ending::Exited(0)),
        "{many:?}"
    );
}

#[test]
fn a_home_and_temporary_files_are_apart_from_the_work_folder() {
    let env = Env::open(Tier::Full);
    let home: WorkTree = [(path(".config/x"), file("mine"))].into_iter().collect();
    let home = Archive::of_snapshot(&home).unwrap();
    let script = "test \"$(cat /tmp/home/.config/x)\" = mine; echo y > /tmp/home/y; echo report > /tmp/r; \
        test -z \"$(ls)\"";
    let wanted = ["r", "none"].map(|it| fairtrial_core::tree::RelPath::parse(it).unwrap());
    let collect = Collect::Temporary(wanted.to_vec());
    let job = Job { home: Some(&home), collect, ..Env::job(script) };
    let outcome = env.sandbox.run(&job).unwrap();
    assert_eq!(outcome.ending, Ending::Exited(0), "{}", said(&outcome));
    let files = outcome.collected.unwrap().files().unwrap();
    assert_eq!(files.into_values().collect::<Vec<_>>(), [b"report\n"]);
}

/// A server and a client on the loopback device, and what must not be reached.
const LOOPBACK: &str = "import socket, sys, threading\n\
    s = socket.create_server(('127.0.0.1', 0))\n\
    threading.Thread(target=lambda: s.accept()[0].sendall(b'tide'), daemon=True).start()\n\
    c = socket.create_connection(s.getsockname(), 5)\n\
    print(c.recv(9).decode())\n\
    for at in ['10.0.0.1', '192.0.2.1', '8.8.8.8']:\n\
    \x20   try: socket.create_connection((at, 80), 2)\n\
    \x20   except OSError as error: print(error.errno)\n\
    if len(sys.argv) > 1:\n\
    \x20   c = socket.create_connection(('127.0.0.1', 7071), 5)\n\
    \x20   c.sendall(b'ask'); print(c.recv(9).decode())\n";

#[test]
fn the_loopback_device_is_the_run_s_own_and_all_there_is() {
    let env = Env::open(Tier::Full);
    let python = ["/usr/bin/python3", "-S", "-E", "-c", LOOPBACK].map(str::to_owned).to_vec();
    let alone =
        Job { command: python.clone(), network: Reach::Loopback { tool: None }, ..Env::job("") };
    assert_eq!(said(&env.sandbox.run(&alone).unwrap()), "tide\n101\n101\n101\n");
    let command = [python, vec!["tool".to_owned()]].concat();
    let with_tool = Job { command, network: Reach::Loopback { tool: Some(7071) }, ..Env::job("") };
    let mut running = env.sandbox.start(&with_tool).unwrap();
    let listener = running.listener().unwrap().unwrap();
    let served = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut bytes = [0; 3];
        stream.read_exact(&mut bytes).unwrap();
        stream.write_all(b"answer").unwrap();
        bytes
    });
    assert_eq!(said(&running.finish().unwrap()), "tide\n101\n101\n101\nanswer\n");
    assert_eq!(&served.join().unwrap(), b"ask");
}
