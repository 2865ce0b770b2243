//! One test environment: a folder of its own, a cleared environment, the built program.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value, json};

/// The built program.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_fairtrial");

/// A temporary folder and the program in it.
pub struct TestEnv {
    folder: tempfile::TempDir,
}

/// What a command came to.
pub struct Finished {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl TestEnv {
    pub fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn write(&self, name: &str, text: &str) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn command(&self, program: &Path) -> Command {
        let mut command = Command::new(program);
        command
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap())
            .env("HOME", self.folder.path())
            .env("TMPDIR", self.folder.path())
            .env("RUSTUP_HOME", rustup_home())
            .current_dir(self.folder.path())
            .stdin(Stdio::null());
        command
    }

    pub fn run(&self, args: &[&str]) -> Finished {
        self.run_with(args, &[])
    }

    pub fn run_with(&self, args: &[&str], env: &[(&str, &str)]) -> Finished {
        let mut command = self.command(Path::new(PROGRAM));
        command.args(args).envs(env.iter().copied());
        ran(&mut command)
    }

    /// Runs a command that must succeed, and gives its JSON.
    pub fn json(&self, args: &[&str]) -> Value {
        let ran = self.run(args);
        assert_eq!(ran.code, 0, "{}", ran.err);
        serde_json::from_str(&ran.out).unwrap()
    }

    /// The shipped demo docket, only the tasks named.
    pub fn demo_docket(&self, tasks: &[&str]) {
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/docket");
        copy(&demo.join("docket.toml"), &self.path("docket/docket.toml"));
        for task in tasks {
            copy(&demo.join(task), &self.path("docket").join(task));
        }
    }

    /// A Python task `gap`: `gap(a, b)` gives `a - b`.
    pub fn gap_docket(&self, limits: &str) {
        self.write("docket/docket.toml", "title = \"Tides\"\n");
        self.write(
            "docket/gap/brief.md",
            &format!(
                "+++\ntitle = \"Gap\"\nform = \"call\"\nlanguage = \"python\"\ncategory = \
                 \"basics\"\ndifficulty = 1\n[call]\nfile = \"solution.py\"\nname = \"gap\"\n\
                 [limits]\n{limits}\n[[example]]\nargs = [3, 1]\nreturns = 2\n+++\nWrite gap(a, b).\n"
            ),
        );
        self.write(
            "docket/gap/sealed/calls.jsonl",
            "{\"args\": [71, 30], \"returns\": 41}\n{\"args\": [5, 8], \"returns\": -3}\n",
        );
    }

    /// A plan for one candidate with recorded answers, each a task and what was answered.
    pub fn recorded(&self, head: &str, answers: &[(&str, &str)]) {
        let lines = answers.iter().map(|(task, answer)| json!({"task": task, "answer": answer}));
        let lines: String = lines.map(|line| format!("{line}\n")).collect();
        self.write("answers.jsonl", &lines);
        self.write(
            "plan.toml",
            &format!(
                "docket = \"docket\"\n{head}\n[[candidate]]\nname = \"dinghy\"\nkind = \
                 \"recorded\"\npath = \"answers.jsonl\"\n"
            ),
        );
    }

    /// Judges one recorded answer to `gap`, and gives the attempt.
    pub fn judge_gap(&self, answer: &str) -> Value {
        self.recorded("", &[("gap", answer)]);
        let _ = fs::remove_dir_all(self.path("record"));
        let ran = self.run(&["run", "plan.toml"]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        self.json(&["show", "record", "--json"])["trials"][0]["attempts"][0].clone()
    }

    /// Serves simulated models; the address comes with it.
    pub fn standin(&self, args: &[&str], env: &[(&str, &str)]) -> StandinProcess {
        let mut command = self.command(Path::new(PROGRAM));
        command.args(["standin", "docket", "--port", "0"]).args(args).envs(env.iter().copied());
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut address = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut address).unwrap();
        StandinProcess { child, address: address.trim().to_owned() }
    }

    /// A plan for simulated models.
    pub fn chats(&self, head: &str, address: &str, models: &[&str], more: &str) {
        let candidates = models.iter().map(|model| {
            format!(
                "[[candidate]]\nname = \"{model}\"\nkind = \"chat\"\nendpoint = \"{address}\"\n\
                 model = \"{model}\"\nsend_seed = true\n{more}\n"
            )
        });
        let candidates: String = candidates.collect();
        self.write("plan.toml", &format!("docket = \"docket\"\n{head}\n{candidates}"));
    }
}

/// A stand-in that is being served.
pub struct StandinProcess {
    child: Child,
    pub address: String,
}

impl Drop for StandinProcess {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub fn ran(command: &mut Command) -> Finished {
    let out = command.output().unwrap();
    Finished {
        code: out.status.code().unwrap_or(-1),
        out: String::from_utf8(out.stdout).unwrap(),
        err: String::from_utf8(out.stderr).unwrap(),
    }
}

fn rustup_home() -> PathBuf {
    let home = std::env::var_os("HOME").map(PathBuf::from).unwrap_or_default();
    std::env::var_os("RUSTUP_HOME").map_or_else(|| home.join(".rustup"), PathBuf::from)
}

fn copy(from: &Path, to: &Path) {
    if from.is_dir() {
        for entry in fs::read_dir(from).unwrap() {
            let entry = entry.unwrap();
            copy(&entry.path(), &to.join(entry.file_name()));
        }
    } else {
        fs::create_dir_all(to.parent().unwrap()).unwrap();
        fs::copy(from, to).unwrap();
    }
}

/// Waits for something to be so.
pub fn wait_for(what: &str, mut is_so: impl FnMut() -> bool) {
    let began = Instant::now();
    while !is_so() {
        assert!(began.elapsed() < Duration::from_secs(20), "{what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}
