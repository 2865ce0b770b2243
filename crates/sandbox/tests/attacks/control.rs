//! What each attack does where nothing stands in its way: an attack that never could proves nothing.
//!
//! They run in a throw-away container: namespaces of its own, with made-up files where the machine's
//! would be, started by an ordinary user, so that nothing of the machine can be harmed; without the
//! sandbox's root, filter, Landlock and limits.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::env::{AttackEnv, SECRET};
use crate::set::{ATTACKS, Attack};

/// How long an attack has.
const LONGEST: Duration = Duration::from_secs(12);

/// Attacks that cannot be shown to work without harm, and those that are judged by something else than
/// what they print.
const NOT_SHOWN: &[(&str, &str)] = &[
    ("end all there are", "judged by a process outside"),
    ("stop the supervisor", "judged by whether there is a report"),
    ("type into the terminal", "the kernel refuses it to all but root of the machine"),
    ("the clock", "it is the machine's"),
    ("the x32 entry", "the kernel is built without it"),
    ("a fork bomb", "judged by the time it takes"),
    ("vfork and exec without end", "judged by the time it takes"),
    ("memory in many processes", "it takes half a minute to say so"),
    ("odd names, no rights, no files", "judged by what is left behind"),
    ("daemons", "judged by what is left behind"),
    ("a child that stays", "judged by what is left behind"),
];

/// Lays out the container, as its first process; the second is the one to be hurt, the attack follows.
const CONTAINER: &str = "\
    sleep 600 & \n\
    for d in /root /home /opt /sys/fs/cgroup; do mount -t tmpfs x $d || exit 90; done\n\
    echo x > /root/.profile; mkdir /home/clerk /sys/fs/cgroup/x; echo x > /home/clerk/notes\n\
    : > /sys/fs/cgroup/x/cgroup.procs; cp /usr/bin/env env; : > device\n\
    : > name; mount --bind name /proc/sys/kernel/hostname || exit 92\n\
    echo 'clerk:x:1:::::' > shadow; printf '127.0.0.1 localhost harbour.example\\n' > hosts\n\
    mount --bind shadow /etc/shadow && mount --bind hosts /etc/hosts && mount --bind env /usr/bin/env || exit 91\n\
    mkdir work; mount -t tmpfs x work || exit 93; mkdir -p work/sealed/deep work/tmp; printf 'under seal' > work/sealed/deep/seal.txt; cd work\n\
    exec 7</dev/null; export TMPDIR=$PWD/tmp\n\
    \"$@\"\n\
    kill -9 2 2>/dev/null; exit 0\n";

/// Runs every attack in the container; gives those that did not get what they are after.
pub fn powerless(env: &AttackEnv) -> Vec<String> {
    let shown = |attack: &&(usize, &Attack)| NOT_SHOWN.iter().all(|it| it.0 != attack.1.name);
    let all: Vec<(usize, &Attack)> = ATTACKS.iter().enumerate().collect();
    all.iter()
        .filter(shown)
        .filter(|it| it.1.name.contains(&std::env::var("ATTACK").unwrap_or_default()))
        .filter_map(|&(number, attack)| {
            let said = env.unconfined(number, attack);
            let has_won = said.contains("ESCAPED") || said.contains(SECRET) || env.hears();
            (!has_won).then(|| format!("{} ({:?}): {said}", attack.name, attack.with))
        })
        .collect()
}

/// Runs a command in a container of its own, until it has what it wants or its time is over.
pub fn run(command: &[String]) -> String {
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o777)).unwrap();
    let mut contained = Command::new("unshare");
    contained
        .args(["--user", "--map-root-user", "--mount", "--pid", "--fork", "--kill-child"])
        .args(["--ipc", "--uts", "--mount-proc", "sh", "-c", CONTAINER, "sh"])
        .args(command)
        .current_dir(folder.path())
        .env("SECRET", SECRET)
        .process_group(0)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = contained.spawn().unwrap();
    let (mut out, mut err) = (child.stdout.take().unwrap(), child.stderr.take().unwrap());
    let (to, from) = std::sync::mpsc::channel();
    let to_too = to.clone();
    std::thread::spawn(move || forward(&mut out, &to));
    std::thread::spawn(move || forward(&mut err, &to_too));
    let (mut said, began) = (String::new(), Instant::now());
    while began.elapsed() < LONGEST {
        match from.recv_timeout(LONGEST.saturating_sub(began.elapsed())) {
            Ok(text) => said.push_str(&text),
            Err(_) => break,
        }
        if said.contains("ESCAPED") || said.contains(SECRET) {
            break;
        }
        said = said.split_off(said.ceil_char_boundary(said.len().saturating_sub(2000)));
    }
    // It takes its namespace along.
    let _ = Command::new("kill").args(["-9", "--", &format!("-{}", child.id())]).status();
    let _ = child.kill();
    let _ = child.wait();
    said
}

fn forward(from: &mut dyn std::io::Read, to: &std::sync::mpsc::Sender<String>) {
    let mut bytes = vec![0; 1 << 18];
    while let Ok(count @ 1..) = from.read(&mut bytes) {
        // Of a flood, the end will do.
        let end = &bytes[count.saturating_sub(2000)..count];
        if to.send(String::from_utf8_lossy(end).into_owned()).is_err() {
            return;
        }
    }
}

/// Whether the machine lets an ordinary user make such a container.
pub fn is_possible() -> bool {
    let made =
        Command::new("unshare").args(["--user", "--map-root-user", "--mount", "true"]).output();
    made.is_ok_and(|it| it.status.success()) && Path::new("/proc/self/ns/user").exists()
}
