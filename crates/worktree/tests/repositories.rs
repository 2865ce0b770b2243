//! Repositories from every source, prepared in the real sandbox with the real git, and changes of them.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::time::Duration;

use fairtrial_core::change::{Change, apply_patch, write_patch};
use fairtrial_core::tree::{Node, TreePath, WorkTree};
use fairtrial_sandbox::{
    Caps, Collect, Demand, Ending, Job, Outcome, Reach, Sandbox, Tier, TreeView,
};
use fairtrial_worktree::{
    PreparedTree, Source, Taken, TreeCache, TreeError, TreePreparation, take_change,
};
use tempfile::TempDir;

/// A sandbox with a store, and a place for repositories.
struct Env {
    sandbox: Sandbox,
    cache: TreeCache,
    folder: TempDir,
}

impl Env {
    fn new() -> Self {
        let folder = TempDir::new().unwrap();
        // Bundles and repositories are read by runs that are another user.
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let helper = Path::new(env!("CARGO_BIN_EXE_worktree-helper"));
        let sandbox = Sandbox::open(helper, Demand::Only(Tier::Full)).unwrap();
        let sandbox = sandbox.with_store(folder.path().join("trees")).unwrap();
        Self { sandbox, cache: TreeCache::new(1 << 30, false), folder }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn prepared(&self, preparation: &TreePreparation) -> Arc<PreparedTree> {
        self.cache.prepared(&self.sandbox, preparation).unwrap()
    }

    /// What a script prints, and what it leaves, in a view of a prepared tree.
    fn run(&self, prepared: &PreparedTree, script: &str) -> (String, Outcome) {
        let env = [("PATH", "/usr/bin:/bin"), ("HOME", "/tmp")];
        let job = Job {
            command: ["/bin/sh", "-ec", script].map(str::to_owned).to_vec(),
            env: env.map(|(key, value)| (key.to_owned(), value.to_owned())).into(),
            stdin: Vec::new(),
            tree: Some(prepared.name().to_owned()),
            layers: Vec::new(),
            home: None,
            driver: None,
            sealed: None,
            show: Vec::new(),
            channel: false,
            links: Vec::new(),
            terminals: false,
            collect: Collect::Changes { skip: vec![".git".to_owned()] },
            session: 0,
            network: Reach::Nothing,
            caps: caps(),
        };
        let outcome = self.sandbox.run(&job).unwrap();
        let stderr = String::from_utf8_lossy(&outcome.stderr.bytes);
        assert_eq!(outcome.ending, Ending::Exited(0), "{script}: {stderr}");
        (String::from_utf8_lossy(&outcome.stdout.bytes).into_owned(), outcome)
    }

    fn change(&self, prepared: &PreparedTree, script: &str) -> Taken {
        let (_, outcome) = self.run(prepared, script);
        take_change(prepared, &outcome.collected.unwrap()).unwrap()
    }
}

fn caps() -> Caps {
    Caps {
        wall: Duration::from_secs(60),
        cpu: Duration::from_secs(60),
        memory: 512 << 20,
        processes: 64,
        output: 1 << 20,
        disk: 64 << 20,
    }
}

fn preparation(source: Source, commands: &[&str]) -> TreePreparation {
    TreePreparation {
        source,
        given: WorkTree::new(),
        commands: commands.iter().map(|&it| it.to_owned()).collect(),
        network: false,
        show: Vec::new(),
        env: BTreeMap::from([
            ("PATH".into(), "/usr/bin:/bin".into()),
            ("HOME".into(), "/tmp".into()),
        ]),
        caps: caps(),
        tools: String::new(),
    }
}

fn path(text: &str) -> TreePath {
    TreePath::parse(text.as_bytes()).unwrap()
}

fn file(text: &str) -> Node {
    Node::File { bytes: text.as_bytes().into(), executable: false }
}

fn files(files: &[(&str, &str)]) -> WorkTree {
    files.iter().map(|(name, text)| (path(name), file(text))).collect()
}

fn git(folder: &Path, arguments: &[&str]) -> String {
    let names =
        ["-c", "user.name=h", "-c", "user.email=h@localhost", "-c", "protocol.file.allow=always"];
    let out = Command::new("git").current_dir(folder).args(names).args(arguments).output().unwrap();
    assert!(out.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).trim().to_owned()
}

/// A repository with a history: a first commit, and a fix behind it. Gives the first commit's name.
fn repository(at: &Path) -> String {
    fs::create_dir_all(at.join("src")).unwrap();
    git(at, &["init", "-q", "-b", "main"]);
    fs::write(at.join("src/tides.py"), "HIGH = 5\n").unwrap();
    fs::write(at.join(".gitignore"), "*.log\n/made/\n").unwrap();
    fs::write(at.join(".hidden"), "dot\n").unwrap();
    fs::write(at.join("run.sh"), "#!/bin/sh\n").unwrap();
    fs::set_permissions(at.join("run.sh"), fs::Permissions::from_mode(0o755)).unwrap();
    symlink("src/tides.py", at.join("way")).unwrap();
    git(at, &["add", "-A"]);
    git(at, &["commit", "-q", "-m", "first"]);
    let first = git(at, &["rev-parse", "HEAD"]);
    fs::write(at.join("src/tides.py"), "HIGH = 6 # the fix\n").unwrap();
    git(at, &["commit", "-q", "-am", "the fix"]);
    git(at, &["tag", "fixed"]);
    first
}

#[test]
fn a_checkout_is_one_commit_and_no_more_whatever_it_comes_from() {
    let env = Env::new();
    let at = env.path("harbour");
    let first = repository(&at);
    let bundle = env.path("source.bundle");
    git(&at, &["bundle", "create", "-q", bundle.to_str().unwrap(), "--all"]);
    let bytes: Arc<[u8]> = fs::read(&bundle).unwrap().into();
    let of_bundle =
        |commit: &str| Source::Bundle { bytes: Arc::clone(&bytes), commit: commit.to_owned() };
    let address = format!("file://{}", at.display());
    let expected: WorkTree = [
        (path(".gitignore"), file("*.log\n/made/\n")),
        (path(".hidden"), file("dot\n")),
        (path("run.sh"), Node::File { bytes: b"#!/bin/sh\n"[..].into(), executable: true }),
        (path("src/tides.py"), file("HIGH = 5\n")),
        (path("way"), Node::Link { to: b"src/tides.py".to_vec() }),
    ]
    .into_iter()
    .collect();
    for source in [
        of_bundle(&first),
        Source::of_address(&address, &first).unwrap(),
        Source::of_address(at.to_str().unwrap(), &first).unwrap(),
        Source::Files(expected.clone()),
    ] {
        let prepared = env.prepared(&preparation(source, &[]));
        assert_eq!(prepared.base(), &expected);
        let script = "git rev-list --all --count; git status --porcelain; git remote; git tag; git stash list; \
            git reflog; git count-objects -v | grep -E 'count|in-pack'; ls .git/objects/info; \
            git cat-file --batch-check --batch-all-objects | wc -l; ! grep -r 'the fix' . ; stat -c %U way";
        let (said, outcome) = env.run(&prepared, script);
        // One commit, two trees, four contents.
        assert_eq!(
            said,
            "1\ncount: 0\nin-pack: 8\ncommit-graph\npacks\n8\ntrial\n"
                .replace("commit-graph\n", "")
        );
        assert_eq!(outcome.view, Some(TreeView::Overlay));
    }
    for (commit, part) in
        [("0000000000000000000000000000000000000000", "no such commit"), ("none", "no such commit")]
    {
        let error =
            env.cache.prepared(&env.sandbox, &preparation(of_bundle(commit), &[])).unwrap_err();
        assert!(error.to_string().contains(part), "{error}");
    }
    let tagged = env.prepared(&preparation(of_bundle("fixed"), &[]));
    assert_eq!(tagged.base().get(&path("src/tides.py")), Some(&file("HIGH = 6 # the fix\n")));
    let torn = Source::Bundle { bytes: bytes[..bytes.len() / 2].into(), commit: first };
    let error = env.cache.prepared(&env.sandbox, &preparation(torn, &[])).unwrap_err();
    assert!(matches!(*error, TreeError::Checkout { .. }), "{error}");
    for (address, commit) in
        [("ext::sh -c x", "a"), ("-u", "b"), ("https://x", "main"), ("ssh://x", "c")]
    {
        assert!(Source::of_address(address, commit).is_err(), "{address}");
    }
}

#[test]
fn what_preparing_made_survives_and_is_no_part_of_a_change() {
    let env = Env::new();
    let source = Source::Files(files(&[
        ("src/a.py", "1\n"),
        ("old.py", "old\n"),
        ("lock", "0\n"),
        (".gitignore", "made/\n*.log\n"),
    ]));
    let commands = [
        "mkdir -p made .config && echo built > made/a && echo set > .config/x && ln -s made way",
        "echo 1 > lock; date +%s%N > made/when; echo here > $HOME/x",
        "test \"$(cat made/a)\" = built && ! cat /etc/shadow && ! ls /root",
    ];
    let prepared = env.prepared(&preparation(source.clone(), &commands));
    assert_eq!(prepared.base().get(&path("lock")), Some(&file("1\n")), "as it is found");
    assert_eq!(prepared.base().len(), 4);
    let (said, _) = env.run(&prepared, "git status --porcelain | sort; cat made/a way/a .config/x");
    assert_eq!(said, "?? .config/\n?? way\nbuilt\nbuilt\nset\n");
    let taken = env.change(
        &prepared,
        "echo 2 >> src/a.py; rm old.py; echo new > \"sp ace.py\"; printf '\\351' > \"$(printf 'x\\351\\n')\"; \
         printf '\\0\\1' > b.bin; chmod 755 b.bin; echo noise > a.log; rm -rf made; mkdir made; echo q > made/a; \
         echo other > .config/x; ln -s /etc/passwd link; mkdir -p sub/.git/hooks; echo h > sub/.git/hooks/x; \
         echo kept > sub/y; rm -rf .git; ln -s /tmp .git; printf 'extra/\\n' >> .gitignore; mkdir extra; echo 1 > extra/x",
    );
    let expected = Change::from_iter([
        (path("src/a.py"), Some(file("1\n2\n"))),
        (path("old.py"), None),
        (path("sp ace.py"), Some(file("new\n"))),
        (
            TreePath::parse(b"x\xe9").unwrap(),
            Some(Node::File { bytes: b"\xe9"[..].into(), executable: false }),
        ),
        (path("b.bin"), Some(Node::File { bytes: b"\0\x01"[..].into(), executable: true })),
        (path("link"), Some(Node::Link { to: b"/etc/passwd".to_vec() })),
        (path("sub/y"), Some(file("kept\n"))),
        (path(".gitignore"), Some(file("made/\n*.log\nextra/\n"))),
    ]);
    assert_eq!(taken.change, expected);
    assert_eq!(
        taken.left_out, 4,
        "a log, two of `made`, one of `extra`; `.config` was made before"
    );
    let patch = write_patch(prepared.base(), &taken.change);
    assert_eq!(apply_patch(prepared.base(), &patch, 1 << 20).unwrap().change, expected);
    assert_eq!(by_git(prepared.base(), &patch), expected.on(prepared.base()));
    // A second process finds it, and makes nothing again.
    let when = env.run(&prepared, "cat made/when").0;
    let cache = TreeCache::new(1 << 30, false);
    let again = cache.prepared(&env.sandbox, &preparation(source.clone(), &commands)).unwrap();
    assert_eq!((again.name(), env.run(&again, "cat made/when").0), (prepared.name(), when.clone()));
    drop((again, prepared));
    let env = Env { cache: TreeCache::new(1 << 30, true), ..env };
    let fresh = env.prepared(&preparation(source, &commands));
    assert_ne!(env.run(&fresh, "cat made/when").0, when);
}

/// What git makes of a patch.
fn by_git(base: &WorkTree, patch: &[u8]) -> WorkTree {
    let folder = TempDir::new().unwrap();
    git(folder.path(), &["init", "-q"]);
    for (name, node) in base.iter() {
        let at = folder.path().join(std::ffi::OsStr::from_bytes(name.as_bytes()));
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        if let Node::File { bytes, .. } = node {
            fs::write(&at, bytes).unwrap();
        }
    }
    let file_of_patch = TempDir::new().unwrap();
    let at = file_of_patch.path().join("patch");
    fs::write(&at, patch).unwrap();
    git(folder.path(), &["apply", "--whitespace=nowarn", at.to_str().unwrap()]);
    let mut tree = WorkTree::new();
    let mut left = vec![folder.path().to_owned()];
    while let Some(inner) = left.pop() {
        for entry in fs::read_dir(inner).unwrap().map(Result::unwrap) {
            let meta = fs::symlink_metadata(entry.path()).unwrap();
            let name =
                entry.path().strip_prefix(folder.path()).unwrap().as_os_str().as_bytes().to_vec();
            if name == b".git" {
                continue;
            } else if meta.is_dir() {
                left.push(entry.path());
            } else if meta.is_symlink() {
                let to = fs::read_link(entry.path()).unwrap().as_os_str().as_bytes().to_vec();
                tree.put(TreePath::parse(&name).unwrap(), Node::Link { to });
            } else {
                let executable = meta.permissions().mode() & 0o100 != 0;
                let bytes = fs::read(entry.path()).unwrap().into();
                tree.put(TreePath::parse(&name).unwrap(), Node::File { bytes, executable });
            }
        }
    }
    tree
}

#[test]
fn a_command_that_fails_is_named_and_leaves_nothing() {
    let env = Env::new();
    let source = || Source::Files(files(&[("a", "1\n")]));
    let commands = ["true", "echo first; echo why >&2; exit 7", "touch never"];
    let error = env.cache.prepared(&env.sandbox, &preparation(source(), &commands)).unwrap_err();
    let text = error.to_string();
    assert_eq!(
        text,
        "`prepare` command 2 (`echo first; echo why >&2; exit 7`) ended with status 7: why"
    );
    let small = TreePreparation {
        caps: Caps { disk: 1 << 20, ..caps() },
        ..preparation(source(), &["head -c 9000000 /dev/zero > x"])
    };
    let error = env.cache.prepared(&env.sandbox, &small).unwrap_err().to_string();
    assert!(error.contains("status") || error.contains("build_disk"), "{error}");
    let left: Vec<_> =
        fs::read_dir(env.path("trees")).unwrap().map(|it| it.unwrap().file_name()).collect();
    assert!(left.iter().all(|it| it.to_string_lossy().ends_with(".lock")), "{left:?}");
}

#[test]
fn what_a_command_links_elsewhere_is_not_read() {
    let env = Env::new();
    let source = Source::Files(files(&[("a/passwd", "ours\n"), ("b", "2\n")]));
    let commands = ["rm -r a b; ln -s /etc a; ln -s /etc/passwd b"];
    let prepared = env.prepared(&preparation(source, &commands));
    assert_eq!(prepared.base().get(&path("a/passwd")), None);
    assert_eq!(prepared.base().get(&path("b")), Some(&Node::Link { to: b"/etc/passwd".to_vec() }));
}

#[test]
fn the_least_used_trees_make_room() {
    let env = Env::new();
    let make = |cache: &TreeCache, number: usize| {
        let source = Source::Files(files(&[("a", &format!("{number}\n"))]));
        let commands = ["head -c 3000000 /dev/urandom > made"];
        let prepared = cache.prepared(&env.sandbox, &preparation(source, &commands)).unwrap();
        (env.path("trees").join(prepared.name()), prepared)
    };
    let one_at_a_time = || TreeCache::new(8_000_000, false);
    let (first, held) = make(&one_at_a_time(), 1);
    let (second, _) = make(&one_at_a_time(), 2);
    assert!(first.exists() && second.exists());
    let (third, _) = make(&one_at_a_time(), 3);
    assert!(first.exists(), "it is in use");
    assert!(!second.exists() && third.exists());
    drop(held);
    let (fourth, _) = make(&one_at_a_time(), 4);
    assert!(!first.exists() && third.exists() && fourth.exists());
}
