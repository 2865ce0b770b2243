//! The client inside: starts the agent, prompts it, and does what it asks for.

use std::ffi::OsString;
use std::fs;
use std::io::{BufRead as _, BufReader, Write as _};
use std::os::unix::net::UnixStream;
use std::os::unix::process::ExitStatusExt as _;
use std::path::Path;
use std::process::{Child, Command, ExitCode, Stdio};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use fairtrial_core::digest::Digest;
use fairtrial_sandbox::{OWN_PROGRAM, take_channel};
use serde_json::{Value as Json, json};

use super::rpc::{AUTH_REQUIRED, BAD_PARAMS, Incoming, NO_METHOD, NOT_FOUND, Peer, RpcError};
use super::terminals::Terminals;
use super::updates::Updates;
use super::wire::{Event, TurnOrder};
use crate::ask::StepNote;

/// The first argument of our program, where it is to be the client.
pub const CLIENT: &str = "acp-client";

/// The version of the protocol that is spoken.
const VERSION: u64 = 1;

/// Largest file that is read for the agent, in bytes.
const FILE_MAX: u64 = 32 << 20;

/// How long an agent that said its last is given to end.
const LAST: Duration = Duration::from_secs(2);

/// Whether this process was started as the client inside: then `main` must do nothing but call
/// [`acp_client_main`].
#[must_use]
pub fn is_acp_client() -> bool {
    let mut args = std::env::args_os();
    args.next().is_some_and(|it| it == OWN_PROGRAM) && args.next().is_some_and(|it| it == CLIENT)
}

/// Does the client's work until the tool has no more prompts, or the agent ends.
#[must_use]
pub fn acp_client_main() -> ExitCode {
    let Ok(channel) = take_channel() else { return ExitCode::FAILURE };
    let Ok(orders) = channel.try_clone().map(BufReader::new) else { return ExitCode::FAILURE };
    let to_tool = ToTool(Arc::new(Mutex::new(channel)));
    let command: Vec<OsString> = std::env::args_os().skip(2).collect();
    match serve(&command, orders, &to_tool) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failed) => {
            to_tool.send(&Event::Failed { why: failed.why });
            ExitCode::from(failed.status)
        }
    }
}

/// Why there will be no more turns, and the status to end with.
struct ClientFailure {
    why: String,
    status: u8,
}

impl From<String> for ClientFailure {
    fn from(why: String) -> Self {
        Self { why, status: 1 }
    }
}

/// The way to the tool, for all threads.
#[derive(Clone)]
struct ToTool(Arc<Mutex<UnixStream>>);

impl ToTool {
    fn send(&self, event: &Event) {
        let Ok(mut line) = serde_json::to_vec(event) else { return };
        line.push(b'\n');
        // A tool that is gone ends this process.
        let _ = self.0.lock().unwrap_or_else(PoisonError::into_inner).write_all(&line);
    }

    fn step(&self, step: StepNote) {
        self.send(&Event::Step(step));
    }
}

/// What the threads share.
struct Client {
    peer: Peer,
    to_tool: ToTool,
    updates: Mutex<Updates>,
    terminals: Mutex<Terminals>,
    permit: Mutex<Option<Vec<String>>>,
}

fn serve(
    command: &[OsString],
    mut orders: BufReader<UnixStream>,
    to_tool: &ToTool,
) -> Result<(), ClientFailure> {
    let Some(mut order) = next_order(&mut orders) else { return Ok(()) };
    let (program, args) = command.split_first().ok_or("has no program".to_owned())?;
    let mut agent = Command::new(program)
        .args(args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .map_err(|error| format!("could not be started: {error}"))?;
    let (Some(stdin), Some(stdout)) = (agent.stdin.take(), agent.stdout.take()) else {
        return Err("has no streams".to_owned().into());
    };
    let client = Arc::new(Client {
        peer: Peer::new(stdin),
        to_tool: to_tool.clone(),
        updates: Mutex::default(),
        terminals: Mutex::default(),
        permit: Mutex::default(),
    });
    let listening = Arc::clone(&client);
    std::thread::spawn(move || listening.peer.listen(stdout, |it| listening.hear(it)));
    let gone = |agent: &mut Child| ClientFailure { why: end_of(agent), status: status_of(agent) };
    let session = match client.open_session() {
        Some(opened) => opened?,
        None => return Err(gone(&mut agent)),
    };
    loop {
        *client.permit() = order.permit;
        let prompt = json!([{ "type": "text", "text": order.prompt }]);
        let params = json!({ "sessionId": session, "prompt": prompt });
        let answer = client.peer.ask("session/prompt", params);
        let (steps, last_words) = client.updates().end();
        for step in steps {
            to_tool.step(step);
        }
        let stop = match answer {
            None => return Err(gone(&mut agent)),
            Some(Ok(result)) => result["stopReason"].as_str().unwrap_or("unknown").to_owned(),
            Some(Err(error)) => format!("error {}: {}", error.code, error.message),
        };
        to_tool.send(&Event::Turn { stop, last_words });
        match next_order(&mut orders) {
            Some(next) => order = next,
            None => return Ok(()),
        }
    }
}

fn next_order(orders: &mut BufReader<UnixStream>) -> Option<TurnOrder> {
    let mut line = String::new();
    orders.read_line(&mut line).ok()?;
    serde_json::from_str(&line).ok()
}

/// Who the agent says that it is.
fn introduced(who: &Json) -> String {
    let part = |key: &str| who[key].as_str().filter(|it| !it.trim().is_empty());
    let parts: Vec<&str> = ["name", "version"].into_iter().filter_map(part).collect();
    if parts.is_empty() { "an agent without a name".to_owned() } else { parts.join(" ") }
}

/// How the agent ended, that closed its output.
fn end_of(agent: &mut Child) -> String {
    let until = Instant::now() + LAST;
    while Instant::now() < until {
        match agent.try_wait() {
            Ok(Some(ended)) => {
                return match (ended.code(), ended.signal()) {
                    (Some(code), _) => format!("ended with status {code}"),
                    (None, signal) => format!("ended by signal {}", signal.unwrap_or_default()),
                };
            }
            Ok(None) => std::thread::sleep(Duration::from_millis(5)),
            Err(_) => break,
        }
    }
    "closed its standard output".to_owned()
}

fn status_of(agent: &mut Child) -> u8 {
    let ended = agent.try_wait().ok().flatten();
    ended.and_then(|it| it.code()).and_then(|it| u8::try_from(it).ok()).unwrap_or(1)
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Client {
    fn updates(&self) -> MutexGuard<'_, Updates> {
        lock(&self.updates)
    }

    fn terminals(&self) -> MutexGuard<'_, Terminals> {
        lock(&self.terminals)
    }

    fn permit(&self) -> MutexGuard<'_, Option<Vec<String>>> {
        lock(&self.permit)
    }

    /// Agrees on the protocol and opens a session. `None`: the agent is gone.
    fn open_session(&self) -> Option<Result<Json, String>> {
        let can =
            json!({ "fs": { "readTextFile": true, "writeTextFile": true }, "terminal": true });
        let who = json!({ "name": "fairtrial", "title": "Fair Trial", "version": env!("CARGO_PKG_VERSION") });
        let params =
            json!({ "protocolVersion": VERSION, "clientCapabilities": can, "clientInfo": who });
        let agreed = match self.peer.ask("initialize", params)? {
            Ok(agreed) => agreed,
            Err(error) => return Some(Err(format!("refused to begin: {}", error.message))),
        };
        if agreed["protocolVersion"].as_u64() != Some(VERSION) {
            let spoken = &agreed["protocolVersion"];
            return Some(Err(format!("speaks version {spoken} of the protocol, not {VERSION}")));
        }
        self.step(StepNote {
            kind: "session".to_owned(),
            subject: introduced(&agreed["agentInfo"]),
            outcome: "done".to_owned(),
            ..StepNote::default()
        });
        let mut opened = self.new_session()?;
        if opened.as_ref().is_err_and(|it| it.code == AUTH_REQUIRED)
            && let Some(method) = agreed["authMethods"][0]["id"].as_str()
        {
            if let Err(error) = self.peer.ask("authenticate", json!({ "methodId": method }))? {
                return Some(Err(format!("could not be authenticated with: {}", error.message)));
            }
            opened = self.new_session()?;
        }
        Some(match opened {
            Ok(session) => Ok(session["sessionId"].clone()),
            Err(error) => Err(format!("opened no session: {}", error.message)),
        })
    }

    fn new_session(&self) -> Option<Result<Json, RpcError>> {
        let cwd = std::env::current_dir().unwrap_or_else(|_| "/".into());
        self.peer.ask("session/new", json!({ "cwd": cwd, "mcpServers": [] }))
    }

    /// Reports a step of the client's own, after what was said before it.
    fn step(&self, step: StepNote) {
        let said = self.updates().said();
        said.into_iter().chain([step]).for_each(|step| self.to_tool.step(step));
    }

    /// Does what the agent asks for.
    fn hear(self: &Arc<Self>, incoming: Incoming) {
        match incoming {
            Incoming::Notification { method, params } => {
                if method == "session/update" {
                    let steps = self.updates().take(&params["update"]);
                    steps.into_iter().for_each(|step| self.to_tool.step(step));
                }
            }
            // That waits, which must keep nothing else waiting.
            Incoming::Request { id, method, params } if method == "terminal/wait_for_exit" => {
                let found = self.terminals().find(&params);
                let client = Arc::clone(self);
                std::thread::spawn(move || client.peer.answer(&id, found.map(|it| it.ended())));
            }
            Incoming::Request { id, method, params } => {
                let answer = self.answer(&method, &params);
                self.peer.answer(&id, answer);
            }
        }
    }

    fn answer(self: &Arc<Self>, method: &str, params: &Json) -> Result<Json, RpcError> {
        match method {
            "session/request_permission" => Ok(self.give_leave(params)),
            "fs/read_text_file" => self.file("read", params, read),
            "fs/write_text_file" => self.file("write", params, write),
            "terminal/create" => {
                let client = Arc::clone(self);
                self.terminals().create(params, move |step| client.step(step))
            }
            "terminal/output" => self.terminals().find(params).map(|it| it.output()),
            "terminal/kill" => {
                self.terminals().find(params)?.kill();
                Ok(json!({}))
            }
            "terminal/release" => self.terminals().release(params).map(|()| json!({})),
            _ => Err(RpcError::new(NO_METHOD, format!("`{method}` is not offered"))),
        }
    }

    /// Decides by the plan whether a tool call may be made.
    fn give_leave(&self, params: &Json) -> Json {
        let call = &params["toolCall"];
        let id = call["toolCallId"].as_str().unwrap_or_default();
        let known = self.updates().kind_of(id).map(str::to_owned);
        let kind = call["kind"].as_str().map(str::to_owned).or(known);
        let kind = kind.unwrap_or_else(|| "other".to_owned());
        let permitted = self.permit().as_ref().is_none_or(|it| it.contains(&kind));
        let wanted = match permitted {
            true => ["allow_once", "allow_always"],
            false => ["reject_once", "reject_always"],
        };
        let options = params["options"].as_array().map(Vec::as_slice).unwrap_or_default();
        let of_kind = |wanted: &str| options.iter().find(|it| it["kind"] == wanted);
        let option = wanted.into_iter().find_map(of_kind);
        self.step(StepNote {
            kind: "permission".to_owned(),
            subject: call["title"].as_str().unwrap_or(&kind).to_owned(),
            outcome: if permitted { "allowed" } else { "refused" }.to_owned(),
            detail: kind,
            ..StepNote::default()
        });
        match option {
            Some(option) => {
                json!({ "outcome": { "outcome": "selected", "optionId": option["optionId"] } })
            }
            None => json!({ "outcome": { "outcome": "cancelled" } }),
        }
    }

    /// Reads or writes a file for the agent.
    fn file(
        &self,
        kind: &str,
        params: &Json,
        act: impl FnOnce(&Path, &Json) -> Result<Done, RpcError>,
    ) -> Result<Json, RpcError> {
        let began = Instant::now();
        let path = params["path"].as_str().unwrap_or_default();
        let done = match Path::new(path).is_absolute() {
            true => act(Path::new(path), params),
            false => Err(RpcError::new(BAD_PARAMS, format!("`{path}` is no absolute path"))),
        };
        let (outcome, detail, files) = match &done {
            Ok(done) => ("done", done.detail.clone(), done.files.clone()),
            Err(error) => ("refused", error.message.clone(), None),
        };
        self.step(StepNote {
            kind: kind.to_owned(),
            subject: path.to_owned(),
            outcome: outcome.to_owned(),
            detail,
            took: began.elapsed(),
            files,
        });
        done.map(|it| it.answer)
    }
}

/// What was done with a file.
struct Done {
    answer: Json,
    detail: String,
    /// Marks of it before and after, where it was written.
    files: Option<(String, String)>,
}

/// A mark of a file as it is.
fn mark(path: &Path) -> String {
    let is_small = fs::metadata(path).is_ok_and(|it| it.is_file() && it.len() <= FILE_MAX);
    let bytes = is_small.then(|| fs::read(path).ok()).flatten();
    bytes.map_or_else(|| "gone".to_owned(), |it| Digest::of(&it).to_string())
}

fn read(path: &Path, params: &Json) -> Result<Done, RpcError> {
    let failed = |why: String| RpcError::new(NOT_FOUND, format!("`{}`: {why}", path.display()));
    let size = fs::metadata(path).map_err(|error| failed(error.to_string()))?.len();
    if size > FILE_MAX {
        return Err(failed(format!("it has {size} bytes")));
    }
    let text = fs::read_to_string(path).map_err(|error| failed(error.to_string()))?;
    let number = |key: &str| params[key].as_u64().and_then(|it| usize::try_from(it).ok());
    let (from, most) = (number("line").unwrap_or(1).max(1), number("limit"));
    let lines = text.split_inclusive('\n').skip(from - 1).take(most.unwrap_or(usize::MAX));
    let content: String = lines.collect();
    let detail = format!("{} lines from line {from}", content.lines().count());
    Ok(Done { answer: json!({ "content": content }), detail, files: None })
}

fn write(path: &Path, params: &Json) -> Result<Done, RpcError> {
    let failed =
        |error: std::io::Error| RpcError::new(BAD_PARAMS, format!("`{}`: {error}", path.display()));
    let content = params["content"].as_str().unwrap_or_default();
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(failed)?;
    }
    let before = mark(path);
    fs::write(path, content).map_err(failed)?;
    let files = Some((before, mark(path)));
    Ok(Done { answer: json!({}), detail: format!("{} bytes", content.len()), files })
}
