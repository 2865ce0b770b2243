//! What lies around the sandbox while attacks run: secrets, sockets, a process to be hurt.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::net::{TcpListener, UdpSocket};
use std::os::linux::net::SocketAddrExt as _;
use std::os::unix::net::{SocketAddr, UnixListener};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_sandbox::{Archive, Caps, Collect, Demand, Job, Reach, Sandbox, SandboxError, Tier};
use tempfile::TempDir;

use crate::neighbours::{HOG_LIVES, HOGS, HONEST};
use crate::set::{ATTACKS, Attack, C_HEAD, PYTHON_HEAD, With};
use crate::{control, needs};

/// What must not be found.
pub const SECRET: &str = "neap-tide-7731";

/// What a sealed file holds.
const SEAL: &[u8] = b"under seal";

/// Set where an ordinary user has subordinate users, so that each run is a user of its own.
pub const OWN_USERS: &str = "ATTACKS_OWN_USERS";

/// Longest that an attack may keep the sandbox.
const LONGEST: Duration = Duration::from_secs(15);

/// Longest for one that makes processes without end, where no control group holds it: the kernel can be
/// busy for a while with those that it refused.
const LONGEST_FORKING: Duration = Duration::from_secs(40);

/// How many want each processor just now, this process among them: other tests, and whatever else the
/// machine has to do.
fn crowd() -> u32 {
    let load = fs::read_to_string("/proc/loadavg").unwrap();
    let wanting = load.split_whitespace().nth(3).and_then(|it| it.split('/').next()).unwrap();
    let processors = std::thread::available_parallelism().map_or(1, |it| it.get() as u32);
    wanting.parse::<u32>().unwrap().div_ceil(processors).max(1)
}

pub struct AttackEnv {
    sandbox: Sandbox,
    outside: TempDir,
    programs: TempDir,
    victim: Child,
    tcp: TcpListener,
    udp: UdpSocket,
    mark: u32,
    _listeners: [UnixListener; 2],
}

impl AttackEnv {
    pub fn set_up(helper: &Path, demand: Demand) -> Self {
        let outside = tempfile::tempdir().unwrap();
        fs::write(outside.path().join("secret"), SECRET).unwrap();
        let mark = std::process::id();
        let abstract_name = SocketAddr::from_abstract_name(format!("ft-{mark}")).unwrap();
        let udp = UdpSocket::bind(("127.0.0.1", 0)).unwrap();
        udp.set_nonblocking(true).unwrap();
        let env = Self {
            sandbox: Sandbox::open(helper, demand).unwrap(),
            victim: Command::new("sleep").arg("600").env("SECRET", SECRET).spawn().unwrap(),
            tcp: TcpListener::bind(("127.0.0.1", 0)).unwrap(),
            udp,
            mark,
            _listeners: [
                UnixListener::bind_addr(&abstract_name).unwrap(),
                UnixListener::bind(outside.path().join("socket")).unwrap(),
            ],
            programs: tempfile::tempdir().unwrap(),
            outside,
        };
        env.compile();
        env
    }

    pub fn tier(&self) -> Tier {
        self.sandbox.tier()
    }

    /// Holds every attack, one after the other, and looks at what is left.
    pub fn run_all(mut self) {
        assert!(ATTACKS.len() >= 40);
        let mut wrong = Vec::new();
        // For looking into a single one: a part of its name.
        let only = std::env::var("ATTACK").unwrap_or_default();
        let chosen = ATTACKS.iter().enumerate().filter(|it| it.1.name.contains(&only));
        let has_node = needs::there(&["node"]);
        for (number, attack) in chosen.filter(|it| has_node || it.1.with != With::JavaScript) {
            let (began, crowd) = (Instant::now(), crowd());
            let said = self.run_attack(number, attack);
            if said.contains("ESCAPED") || said.contains(SECRET) {
                wrong.push(format!("{} ({:?}): {}", attack.name, attack.with, cut(&said)));
            }
            let forks = attack.name.contains("fork") && !is_machines_root();
            if began.elapsed() > crowd * if forks { LONGEST_FORKING } else { LONGEST } {
                wrong.push(format!("{} took {:?}", attack.name, began.elapsed()));
            }
            if !matches!(self.victim.try_wait(), Ok(None)) {
                wrong.push(format!("{} ended a process outside", attack.name));
                break;
            }
        }
        wrong.extend(self.harm());
        assert!(wrong.is_empty(), "in the {} tier:\n{}", self.tier(), wrong.join("\n"));
    }

    /// Holds honest programs beside each hog.
    pub fn run_beside_hogs(&self) {
        let (program, hog) =
            (self.programs.path().join("honest"), self.programs.path().join("hog"));
        // Whose user is the user's own shares with others what only that user is counted for.
        let has_own = std::env::var_os(OWN_USERS).is_some();
        let alone = i32::from(is_machines_root() || has_own);
        let head = format!("{C_HEAD}#define PIPES {alone}\n#define FLIGHT {alone}\n");
        compile(&program, &format!("{head}{HONEST}"));
        let mut felt = BTreeSet::new();
        // In the plain tier of an ordinary user the kernel counts the rest for the user alone.
        let counted = |name: &str| ["descriptors in flight", "processes"].contains(&name);
        let coupled = self.tier() == Tier::Plain && !is_machines_root();
        for (name, code) in HOGS.iter().filter(|it| !coupled || counted(it.0)) {
            compile(&hog, &format!("{C_HEAD}{code}"));
            let hog = self.job_of(&hog, HOG_LIVES);
            let mut running = self.sandbox.start(&hog).unwrap();
            let begun = Instant::now();
            let _ = running.converse(b"", 1);
            while running.printed().is_empty() && begun.elapsed() < HOG_LIVES / 2 {
                std::thread::sleep(Duration::from_millis(20));
            }
            let has_taken = !running.printed().is_empty();
            for _ in 0..12 {
                let job = self.job_of(&program, Duration::from_secs(4));
                match self.sandbox.run(&job) {
                    Ok(outcome) if outcome.stdout.bytes == b"fine\n" => {}
                    Ok(outcome) => {
                        let said = String::from_utf8_lossy(&outcome.stdout.bytes);
                        felt.insert(format!("{name}: {:?}, {said}", outcome.ending));
                    }
                    Err(error) => drop(felt.insert(format!("{name}: {error}"))),
                }
            }
            running.stop();
            let ended = running.finish().unwrap();
            assert!(has_taken, "{name} took nothing: {ended:?}");
        }
        let tier = self.tier();
        assert!(felt.is_empty(), "in the {tier} tier:\n{}", felt.into_iter().collect::<String>());
    }

    fn job_of(&self, program: &Path, wall: Duration) -> Job<'static> {
        Job {
            command: vec![program.to_string_lossy().into_owned()],
            env: BTreeMap::new(),
            stdin: Vec::new(),
            layers: Vec::new(),
            driver: None,
            sealed: None,
            show: vec![self.programs.path().to_owned()],
            channel: false,
            links: Vec::new(),
            terminals: false,
            collect: Collect::Nothing,
            session: 0,
            network: Reach::Nothing,
            tree: None,
            home: None,
            caps: Caps {
                wall,
                cpu: wall,
                memory: 128 << 20,
                processes: 32,
                output: 64 << 10,
                disk: 1 << 20,
            },
        }
    }

    /// What was done outside.
    fn harm(&mut self) -> Vec<String> {
        let mut harm = Vec::new();
        let read = fs::read_to_string(self.outside.path().join("secret"));
        if read.ok().as_deref() != Some(SECRET) {
            harm.push("the secret file was changed".to_owned());
        }
        if self.outside.path().join("new").exists() {
            harm.push("a file was made outside".to_owned());
        }
        if self.udp.recv(&mut [0; 64]).is_ok() {
            harm.push("a datagram came out".to_owned());
        }
        let left = Command::new("pgrep").args(["-f", &format!("60.{}", self.mark)]).output();
        if !left.unwrap().stdout.is_empty() {
            harm.push("a process was left behind".to_owned());
        }
        // Work folders of the plain tier: empty between runs.
        for entry in fs::read_dir(std::env::temp_dir()).unwrap().flatten() {
            if entry.file_name().to_string_lossy().starts_with("fairtrial-") {
                let inside = fs::read_dir(entry.path()).map_or(0, Iterator::count);
                if inside > 0 && self.is_mine(&entry.path()) {
                    harm.push(format!("files were left behind in `{}`", entry.path().display()));
                }
            }
        }
        harm
    }

    /// Whether a folder belongs to a zygote of this process.
    fn is_mine(&self, folder: &Path) -> bool {
        let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let pid = name.trim_start_matches("fairtrial-");
        let stat = fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
        let parent = stat.rsplit_once(')').and_then(|it| it.1.split_whitespace().nth(1));
        parent == Some(self.mark.to_string().as_str())
    }

    /// Runs an attack where nothing stands in its way: the second process there is the one to be hurt,
    /// and what lies outside is set up again.
    pub fn unconfined(&self, number: usize, attack: &Attack) -> String {
        fs::write(self.outside.path().join("secret"), SECRET).unwrap();
        let code = attack.code.replace("{VICTIM}", "2").replace("{SHARED}", "1");
        let code = self.fill(&code.replace("{SEALED}", "True"));
        control::run(&self.command(number, attack, code))
    }

    /// Whether a datagram has come out.
    pub fn hears(&self) -> bool {
        self.udp.recv(&mut [0; 64]).is_ok()
    }

    fn command(&self, number: usize, attack: &Attack, code: String) -> Vec<String> {
        match attack.with {
            With::Shell => vec!["/bin/sh".into(), "-c".into(), code],
            With::Python => {
                vec!["/usr/bin/python3".into(), "-c".into(), format!("{PYTHON_HEAD}{code}")]
            }
            With::JavaScript => vec!["/usr/bin/node".into(), "-e".into(), code],
            With::C => vec![self.program(number).to_string_lossy().into_owned()],
        }
    }

    fn run_attack(&self, number: usize, attack: &Attack) -> String {
        let command = self.command(number, attack, self.fill(attack.code));
        let seal = RelPath::parse("sealed/deep/seal.txt").unwrap();
        let sealed = Archive::of(&FileTree::from([(seal.clone(), SEAL.to_vec())])).unwrap();
        let job = Job {
            command,
            env: BTreeMap::from([
                ("PATH".into(), "/usr/bin:/bin".into()),
                ("TMPDIR".into(), "/tmp".into()),
            ]),
            stdin: Vec::new(),
            layers: Vec::new(),
            driver: None,
            sealed: Some(&sealed),
            show: vec![self.programs.path().to_owned()],
            channel: false,
            links: Vec::new(),
            terminals: false,
            collect: Collect::All,
            session: 1,
            network: Reach::Nothing,
            tree: None,
            home: None,
            caps: Caps {
                wall: Duration::from_millis(1200),
                cpu: Duration::from_millis(800),
                memory: 128 << 20,
                processes: 32,
                output: 64 << 10,
                disk: 32 << 20,
            },
        };
        match self.sandbox.run(&job) {
            Ok(outcome) => {
                let left = outcome.collected.unwrap().files().unwrap();
                let whole = left.get(&seal).is_some_and(|it| it == SEAL);
                let broken = if whole || !self.holds_seals() { "" } else { "ESCAPED seal" };
                format!(
                    "{}{}{broken}",
                    String::from_utf8_lossy(&outcome.stdout.bytes),
                    String::from_utf8_lossy(&outcome.stderr.bytes)
                )
            }
            // A supervisor that was brought down by a program that used up the machine.
            Err(error @ (SandboxError::NoReport | SandboxError::Lost)) => {
                format!("ESCAPED {error}")
            }
            Err(error) => panic!("{}: {error}", attack.name),
        }
    }

    /// Whether sealed files cannot be changed, and are not just compared.
    fn holds_seals(&self) -> bool {
        self.tier() == Tier::Full || is_machines_root()
    }

    fn fill(&self, code: &str) -> String {
        let outside = self.outside.path().display().to_string();
        [
            ("{SECRET_FILE}", format!("{outside}/secret")),
            ("{SECRET}", SECRET.to_owned()),
            ("{OUTSIDE}", outside.clone()),
            ("{VICTIM}", self.victim.id().to_string()),
            ("{TCP_PORT}", self.tcp.local_addr().unwrap().port().to_string()),
            ("{UDP_PORT}", self.udp.local_addr().unwrap().port().to_string()),
            ("{ABSTRACT}", format!("ft-{}", self.mark)),
            ("{UNIX_SOCKET}", format!("{outside}/socket")),
            ("{MARK}", format!("daemon-{}", self.mark)),
            ("{MARK_NUMBER}", self.mark.to_string()),
            // Without an IPC namespace of its own, what is made by key is the machine's.
            ("{SEALED}", if self.holds_seals() { "True" } else { "False" }.to_owned()),
            ("{SHARED}", i32::from(self.tier() != Tier::Full && !is_root()).to_string()),
        ]
        .iter()
        .fold(code.to_owned(), |code, (place, value)| code.replace(place, value))
    }

    fn program(&self, number: usize) -> PathBuf {
        self.programs.path().join(format!("attack-{number}"))
    }

    fn compile(&self) {
        use std::os::unix::fs::PermissionsExt as _;
        fs::set_permissions(self.programs.path(), fs::Permissions::from_mode(0o755)).unwrap();
        for (number, attack) in ATTACKS.iter().enumerate().filter(|it| it.1.with == With::C) {
            let head = "int setgroups(size_t, const gid_t *);\n";
            compile(&self.program(number), &format!("{C_HEAD}{head}{}", attack.code));
        }
    }
}

/// Makes a program of C.
fn compile(program: &Path, code: &str) {
    let source = program.with_extension("c");
    fs::write(&source, code).unwrap();
    let status = Command::new("cc")
        .args(["-w", "-O1", "-o"])
        .args([program, &source])
        .arg("-lrt")
        .stdin(Stdio::null())
        .status();
    assert!(status.unwrap().success(), "{} does not compile", program.display());
}

impl Drop for AttackEnv {
    fn drop(&mut self) {
        let _ = self.victim.kill();
        let _ = self.victim.wait();
    }
}

fn is_root() -> bool {
    use std::os::unix::fs::MetadataExt as _;
    fs::metadata("/proc/self").unwrap().uid() == 0
}

/// Whether this is root of the whole machine, not of a user namespace with a single user.
fn is_machines_root() -> bool {
    let map = fs::read_to_string("/proc/self/uid_map").unwrap();
    is_root() && map.split_whitespace().nth(2) != Some("1")
}

/// The beginning of what was said.
fn cut(said: &str) -> String {
    said.chars().take(200).collect()
}
