//! What a model that acts is given to work with: it can list, search, read, write and edit the files of a
//! task, and run commands in the sandbox.
//!
//! Files are changed in memory and laid out anew for each command, so that no path or link that a model
//! thinks of leads anywhere else.

use std::time::{Duration, Instant};

use fairtrial_core::change::Change;
use fairtrial_core::digest::Digest;
use fairtrial_core::plan::AgentLimits;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::{Node, TreePath, WorkTree};
use fairtrial_sandbox::{
    Archive, Caps, Collect, Job, LimitHit, Outcome, Reach, SandboxError, Tier, WORK,
};
use serde::Deserialize;
use serde_json::{Value as Json, json};

use crate::agent::{chain, ended, taken};
use crate::ask::{StepNote, Workspace};

/// Longest text that one call gives back, in bytes.
const GIVEN_MAX: usize = 24 << 10;

/// Longest text of a step that is recorded, in bytes.
const DETAIL_MAX: usize = 4 << 10;

/// Longest subject of a step, in bytes.
const SUBJECT_MAX: usize = 300;

/// What came of a call that cannot be made, or of an edit that does not fit.
pub const REFUSED: &str = "refused";

/// Lines that a search gives back.
const HITS_MAX: usize = 200;

/// Paths that a list gives back.
const LISTED_MAX: usize = 1000;

/// Longest line that a search shows, in bytes.
const LINE_MAX: usize = 300;

/// Lines that are read unless more are asked for.
const LINES: usize = 2000;

/// What a command may print, in bytes; more is dropped.
const OUTPUT: u64 = 4 << 20;

/// The tools, as the protocol declares functions.
pub fn declared() -> Json {
    let text = |what: &str| json!({ "type": "string", "description": what });
    let whole = |what: &str| json!({ "type": "integer", "minimum": 1, "description": what });
    let tool = |name: &str, what: &str, required: &[&str], properties: Json| {
        let parameters =
            json!({ "type": "object", "properties": properties, "required": required });
        let function = json!({ "name": name, "description": what, "parameters": parameters });
        json!({ "type": "function", "function": function })
    };
    json!([
        tool(
            "list",
            "List the files below a folder.",
            &[],
            json!({ "folder": text("The folder; leave it out for all files.") })
        ),
        tool(
            "search",
            "Find the lines that hold a text, letter for letter.",
            &["text"],
            json!({ "text": text("What to look for."), "folder": text("Where; leave it out for everywhere.") })
        ),
        tool(
            "read",
            "Read a file.",
            &["path"],
            json!({
                "path": text("The file."),
                "from": whole("The first line; 1 unless given."),
                "lines": whole("How many lines; 2000 unless given."),
            })
        ),
        tool(
            "write",
            "Make a file, or replace all that is in it.",
            &["path", "content"],
            json!({ "path": text("The file."), "content": text("All that is to be in it.") })
        ),
        tool(
            "edit",
            "Replace a piece of a file. The piece must be there exactly once.",
            &["path", "old", "new"],
            json!({
                "path": text("The file."),
                "old": text("The piece, letter for letter, with as many lines around as make it unique."),
                "new": text("What comes in its place."),
            })
        ),
        tool("delete", "Delete a file.", &["path"], json!({ "path": text("The file.") })),
        tool(
            "run",
            "Run a shell command in the folder of the files, such as its tests. There is no network.",
            &["command"],
            json!({ "command": text("The command.") })
        ),
    ])
}

/// One use of a tool.
#[derive(Debug, Deserialize)]
#[serde(tag = "name", content = "arguments", rename_all = "lowercase")]
enum ToolUse {
    List {
        #[serde(default)]
        folder: String,
    },
    Search {
        text: String,
        #[serde(default)]
        folder: String,
    },
    Read {
        path: String,
        from: Option<usize>,
        lines: Option<usize>,
    },
    Write {
        path: String,
        content: String,
    },
    Edit {
        path: String,
        old: String,
        new: String,
    },
    Delete {
        path: String,
    },
    Run {
        command: String,
    },
}

/// What the commands of an attempt have used.
#[derive(Debug, Clone, Copy, Default)]
pub struct ToolsUse {
    /// Processor time.
    pub cpu: Duration,
    /// Most memory at one time, in bytes.
    pub peak_memory: u64,
    /// The limit that ended the last command for good: `time` or `wall`.
    pub limit: Option<&'static str>,
    /// Files that commands left and that are no part of the change, the last time.
    pub left_out: usize,
    /// How the last command saw the files.
    pub view: Option<fairtrial_sandbox::TreeView>,
}

/// The files of a task as an attempt has made them, and the tools to go on with.
pub struct ModelTools<'a> {
    workspace: &'a Workspace<'a>,
    limits: &'a AgentLimits,
    began: Instant,
    base: &'a WorkTree,
    tree: WorkTree,
    used: ToolsUse,
}

impl<'a> ModelTools<'a> {
    /// Begins where the attempts before ended.
    pub fn new(
        workspace: &'a Workspace<'a>,
        limits: &'a AgentLimits,
        base: &'a WorkTree,
        so_far: &Change,
    ) -> Self {
        let (tree, began) = (so_far.on(base), Instant::now());
        Self { workspace, limits, began, base, tree, used: ToolsUse::default() }
    }

    /// What has become of the files.
    pub fn change(&self) -> Change {
        Change::between(self.base, &self.tree)
    }

    /// What was used.
    pub fn used(&self) -> ToolsUse {
        self.used
    }

    /// Uses a tool. Comes back with what the model reads, and what is recorded of it.
    ///
    /// # Errors
    /// When the sandbox failed: that says nothing about the model.
    pub fn call(&mut self, name: &str, arguments: &str) -> Result<(String, StepNote), String> {
        let began = Instant::now();
        let parsed: Result<Json, _> = serde_json::from_str(match arguments.trim() {
            "" | "null" => "{}",
            arguments => arguments,
        });
        let asked = parsed.and_then(|arguments| {
            serde_json::from_value::<ToolUse>(json!({ "name": name, "arguments": arguments }))
        });
        let changes = asked.as_ref().map_or(Changes::Nothing, ToolUse::changes);
        let before = self.mark(&changes);
        let (subject, done) = match asked {
            Ok(asked) => (asked.subject(), self.act(asked)?),
            Err(error) => (name.to_owned(), Err(format!("this cannot be called so: {error}"))),
        };
        let (outcome, given) = match done {
            Ok(given) => ("done", head_and_tail(&given, GIVEN_MAX)),
            Err(why) => (REFUSED, format!("refused: {}", head_and_tail(&why, GIVEN_MAX))),
        };
        let known = declared();
        let mut names = known.as_array().into_iter().flatten();
        let is_known = names.any(|it| it["function"]["name"] == name);
        let step = StepNote {
            kind: if is_known { name.to_owned() } else { "unknown".to_owned() },
            subject: head_and_tail(&subject, SUBJECT_MAX),
            outcome: outcome.to_owned(),
            detail: head_and_tail(&given, DETAIL_MAX),
            took: began.elapsed(),
            files: before.zip(self.mark(&changes)).filter(|it| it.0 != it.1),
        };
        Ok((given, step))
    }

    /// A mark of what a use of a tool may change, as it is.
    fn mark(&self, changes: &Changes) -> Option<String> {
        match changes {
            Changes::Nothing => None,
            Changes::One(path) => Some(mark(self.tree.get(path))),
            Changes::All => {
                let change = self.change();
                let marks = change.iter().map(|(path, node)| format!("{path}\n{}\n", mark(node)));
                Some(Digest::of(marks.collect::<String>().as_bytes()).to_string())
            }
        }
    }

    /// The outer error is ours, the inner one the model's.
    fn act(&mut self, asked: ToolUse) -> Result<Result<String, String>, String> {
        Ok(match asked {
            ToolUse::Run { command } => return self.run(&command).map(Ok),
            ToolUse::List { folder } => self.list(&folder),
            ToolUse::Search { text, folder } => self.search(&text, &folder),
            ToolUse::Read { path, from, lines } => self.read(&path, from, lines),
            ToolUse::Write { path, content } => self.write(&path, content.into_bytes()),
            ToolUse::Edit { path, old, new } => self.edit(&path, &old, &new),
            ToolUse::Delete { path } => self.delete(&path),
        })
    }

    fn below(&self, folder: &str) -> Result<Vec<(&TreePath, &Node)>, String> {
        let folder = relative(folder).trim_end_matches('/');
        if folder.is_empty() || folder == "." {
            return Ok(self.tree.iter().collect());
        }
        let folder = TreePath::parse(folder.as_bytes()).map_err(|error| error.to_string())?;
        let paths = self.tree.below_folder(&folder);
        let found: Vec<_> = paths.filter_map(|path| Some((path, self.tree.get(path)?))).collect();
        match found.is_empty() {
            true => Err(format!("there is no folder `{folder}`")),
            false => Ok(found),
        }
    }

    fn list(&self, folder: &str) -> Result<String, String> {
        let found = self.below(folder)?;
        let mut lines: Vec<String> =
            found.iter().take(LISTED_MAX).map(|it| it.0.to_string()).collect();
        if found.len() > LISTED_MAX {
            lines.push(format!("… and {} more", found.len() - LISTED_MAX));
        }
        Ok(lines.join("\n"))
    }

    fn search(&self, text: &str, folder: &str) -> Result<String, String> {
        if text.is_empty() {
            return Err("there is nothing to look for".to_owned());
        }
        let mut hits = Vec::new();
        for (path, node) in self.below(folder)? {
            let Node::File { bytes, .. } = node else { continue };
            let Ok(content) = std::str::from_utf8(bytes) else { continue };
            for (at, line) in content.lines().enumerate().filter(|it| it.1.contains(text)) {
                if hits.len() == HITS_MAX {
                    hits.push("… and more".to_owned());
                    return Ok(hits.join("\n"));
                }
                let line = &line[..line.floor_char_boundary(LINE_MAX)];
                hits.push(format!("{path}:{}: {line}", at + 1));
            }
        }
        Ok(if hits.is_empty() { "nothing was found".to_owned() } else { hits.join("\n") })
    }

    fn read(
        &self,
        path: &str,
        from: Option<usize>,
        lines: Option<usize>,
    ) -> Result<String, String> {
        let (path, content, _) = self.text(path)?;
        let from = from.unwrap_or(1).max(1);
        let all = content.lines().count();
        if from > all.max(1) {
            return Err(format!("`{path}` has {all} lines"));
        }
        let asked = lines.unwrap_or(LINES);
        let kept: Vec<&str> = content.split_inclusive('\n').skip(from - 1).take(asked).collect();
        let left = all.saturating_sub(from - 1 + kept.len());
        let rest = if left > 0 { format!("\n… {left} more lines") } else { String::new() };
        Ok(kept.concat() + &rest)
    }

    /// A text file, and whether it may be run.
    fn text(&self, path: &str) -> Result<(TreePath, &str, bool), String> {
        let path = place(path)?;
        match self.tree.get(&path) {
            Some(Node::File { bytes, executable }) => match std::str::from_utf8(bytes) {
                Ok(text) => Ok((path, text, *executable)),
                Err(_) => Err(format!("`{path}` is no text")),
            },
            Some(Node::Link { to }) => {
                Err(format!("`{path}` is a link to `{}`", String::from_utf8_lossy(to)))
            }
            None if self.tree.below_folder(&path).next().is_some() => {
                Err(format!("`{path}` is a folder"))
            }
            None => Err(format!("there is no file `{path}`")),
        }
    }

    fn write(&mut self, path: &str, content: Vec<u8>) -> Result<String, String> {
        let path = place(path)?;
        if self.tree.below_folder(&path).next().is_some() {
            return Err(format!("`{path}` is a folder"));
        }
        let bytes = path.as_bytes();
        let cuts = bytes.iter().enumerate().filter(|it| *it.1 == b'/').map(|it| it.0);
        for folder in cuts.filter_map(|at| TreePath::parse(&bytes[..at]).ok()) {
            if self.tree.get(&folder).is_some() {
                return Err(format!("`{folder}` is no folder"));
            }
        }
        let executable = match self.tree.get(&path) {
            Some(Node::File { executable, .. }) => *executable,
            Some(Node::Link { .. }) => return Err(format!("`{path}` is a link")),
            None => false,
        };
        if self.change().bytes() + content.len() as u64 > self.workspace.disk {
            return Err("there is no more room for files".to_owned());
        }
        let size = content.len();
        self.tree.put(path.clone(), Node::File { bytes: content.into(), executable });
        Ok(format!("`{path}` has {size} bytes"))
    }

    fn edit(&mut self, path: &str, old: &str, new: &str) -> Result<String, String> {
        let (place, content, _) = self.text(path)?;
        if old.is_empty() {
            return Err("the piece to replace is empty".to_owned());
        }
        match content.matches(old).count() {
            1 => {}
            0 => return Err(format!("the piece is not in `{place}`")),
            many => return Err(format!("the piece is in `{place}` {many} times")),
        }
        let content = content.replacen(old, new, 1);
        self.write(path, content.into_bytes())
    }

    fn delete(&mut self, path: &str) -> Result<String, String> {
        let path = place(path)?;
        match self.tree.remove(&path) {
            Some(_) => Ok(format!("`{path}` is gone")),
            None => Err(format!("there is no file `{path}`")),
        }
    }

    /// Runs a command on the files as they are, and takes what it makes of them.
    fn run(&mut self, command: &str) -> Result<String, String> {
        let Workspace { sandbox, prepared, given, .. } = self.workspace;
        let wall = self.limits.wall.0.saturating_sub(self.began.elapsed());
        if wall.is_zero() {
            self.used.limit = Some("wall");
            return Ok("The time is up.".to_owned());
        }
        let change = Archive::of_change(&self.change()).map_err(|error| chain(&error))?;
        let given = Archive::of_snapshot(given).map_err(|error| chain(&error))?;
        let job = Job {
            command: ["/bin/sh", "-c", command].map(str::to_owned).into(),
            env: self.workspace.env.clone(),
            stdin: Vec::new(),
            tree: prepared.as_ref().map(|it| it.name().to_owned()),
            layers: match prepared {
                Some(_) => vec![&change],
                None => vec![&given, &change],
            },
            home: None,
            driver: None,
            sealed: None,
            show: self.workspace.show.clone(),
            channel: false,
            links: Vec::new(),
            terminals: true,
            collect: match prepared {
                Some(_) => Collect::Changes { skip: vec![".git".to_owned()] },
                None => Collect::All,
            },
            session: 0,
            network: match sandbox.tier() {
                Tier::Full => Reach::Loopback { tool: None },
                _ => Reach::Nothing,
            },
            caps: Caps {
                wall,
                cpu: self.limits.time.0.saturating_sub(self.used.cpu),
                memory: self.limits.memory.0,
                processes: self.limits.processes,
                output: OUTPUT,
                disk: self.workspace.disk,
            },
        };
        let outcome = sandbox.run(&job).map_err(|error: SandboxError| chain(&error))?;
        self.used.cpu += outcome.cpu;
        self.used.peak_memory = self.used.peak_memory.max(outcome.peak_memory);
        self.used.view = outcome.view;
        self.used.limit = match outcome.limit {
            Some(LimitHit::Wall) => Some("wall"),
            Some(LimitHit::Cpu) => Some("time"),
            _ => None,
        };
        let taken = taken(self.workspace, outcome.collected.as_ref())?;
        self.used.left_out = taken.left_out;
        // Where the files were the task's own, what a command deletes is still given.
        self.tree = taken.change.on(self.base);
        Ok(said(&outcome))
    }
}

/// A mark of one file.
fn mark(node: Option<&Node>) -> String {
    match node {
        Some(Node::File { bytes, .. }) => Digest::of(bytes).to_string(),
        Some(Node::Link { to }) => format!("link {}", Digest::of(to)),
        None => "gone".to_owned(),
    }
}

/// What a use of a tool may change.
enum Changes {
    Nothing,
    One(TreePath),
    All,
}

impl ToolUse {
    /// What it may change.
    fn changes(&self) -> Changes {
        match self {
            Self::Write { path, .. } | Self::Edit { path, .. } | Self::Delete { path } => {
                place(path).map_or(Changes::Nothing, Changes::One)
            }
            Self::Run { .. } => Changes::All,
            Self::List { .. } | Self::Search { .. } | Self::Read { .. } => Changes::Nothing,
        }
    }

    /// What it is about.
    fn subject(&self) -> String {
        match self {
            Self::List { folder } if folder.is_empty() => ".".to_owned(),
            Self::List { folder } => folder.clone(),
            Self::Search { text, .. } => text.clone(),
            Self::Read { path, .. }
            | Self::Write { path, .. }
            | Self::Edit { path, .. }
            | Self::Delete { path } => path.clone(),
            Self::Run { command } => command.clone(),
        }
    }
}

/// A path as models write it, without the folder that programs see the files in.
fn relative(path: &str) -> &str {
    let path = path.trim();
    let inside = path.strip_prefix(WORK).and_then(|it| match it {
        "" => Some(""),
        rest => rest.strip_prefix('/'),
    });
    let mut path = inside.unwrap_or(path);
    while let Some(rest) = path.strip_prefix("./") {
        path = rest;
    }
    path
}

/// Where a path leads.
fn place(path: &str) -> Result<TreePath, String> {
    let path = TreePath::parse(relative(path).as_bytes()).map_err(|error| error.to_string())?;
    if path.parts().any(|it| it.eq_ignore_ascii_case(b".git")) {
        return Err("what git keeps is not to be changed".to_owned());
    }
    Ok(path)
}

/// What a command came to, as the model reads it.
fn said(outcome: &Outcome) -> String {
    let text = |bytes: &[u8]| head_and_tail(&String::from_utf8_lossy(bytes), GIVEN_MAX / 2);
    let (stdout, stderr) = (text(&outcome.stdout.bytes), text(&outcome.stderr.bytes));
    format!("It {}.\n{stdout}{stderr}", ended(outcome))
}
