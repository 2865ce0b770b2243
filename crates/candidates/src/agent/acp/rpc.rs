//! The agent's standard streams: messages of JSON-RPC 2.0, sent and told apart.

use std::collections::HashMap;
use std::io::{self, BufRead, BufReader, Read, Write as _};
use std::process::{ChildStdin, ChildStdout};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Mutex, MutexGuard, PoisonError};

use serde_json::{Value as Json, json};

/// Longest message that is read, in bytes.
const MESSAGE_MAX: u64 = 64 << 20;

/// No such method: JSON-RPC 2.0, section 5.1.
pub const NO_METHOD: i64 = -32601;

/// The parameters are not as they should be: likewise.
pub const BAD_PARAMS: i64 = -32602;

/// What was asked for is not there: a code of the Agent Client Protocol.
pub const NOT_FOUND: i64 = -32002;

/// The agent wants to be authenticated with first: likewise.
pub const AUTH_REQUIRED: i64 = -32000;

/// Why a request came to nothing.
#[derive(Debug, Clone, PartialEq)]
pub struct RpcError {
    /// The code.
    pub code: i64,
    /// What was said.
    pub message: String,
}

impl RpcError {
    /// One of these.
    pub fn new(code: i64, message: impl Into<String>) -> Self {
        Self { code, message: message.into() }
    }
}

/// What the agent sends of its own accord.
#[derive(Debug, PartialEq)]
pub enum Incoming {
    /// It wants an answer.
    Request { id: Json, method: String, params: Json },
    /// It wants none.
    Notification { method: String, params: Json },
}

type RpcAnswer = Result<Json, RpcError>;

/// The way to the agent, for all threads.
pub struct Peer {
    to_agent: Mutex<ChildStdin>,
    waiting: Mutex<Waiting>,
}

#[derive(Default)]
struct Waiting {
    last: u64,
    answers: HashMap<u64, Sender<RpcAnswer>>,
    /// Whether nothing more will come.
    over: bool,
}

impl Peer {
    /// A way to an agent.
    pub fn new(to_agent: ChildStdin) -> Self {
        Self { to_agent: Mutex::new(to_agent), waiting: Mutex::default() }
    }

    fn waiting(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn send(&self, message: &Json) -> io::Result<()> {
        let mut to = self.to_agent.lock().unwrap_or_else(PoisonError::into_inner);
        to.write_all(format!("{message}\n").as_bytes())?;
        to.flush()
    }

    /// Asks the agent, and waits for what it answers. `None`: it is gone.
    pub fn ask(&self, method: &str, params: Json) -> Option<RpcAnswer> {
        let (answer, answered) = channel();
        let mut waiting = self.waiting();
        if waiting.over {
            return None;
        }
        waiting.last += 1;
        let id = waiting.last;
        waiting.answers.insert(id, answer);
        drop(waiting);
        let request = json!({ "jsonrpc": "2.0", "id": id, "method": method, "params": params });
        // An agent that is gone is noticed by the end of what it says.
        let _ = self.send(&request);
        answered.recv().ok()
    }

    /// Answers the agent.
    pub fn answer(&self, id: &Json, answer: RpcAnswer) {
        let message = match answer {
            Ok(result) => json!({ "jsonrpc": "2.0", "id": id, "result": result }),
            Err(RpcError { code, message }) => {
                let error = json!({ "code": code, "message": message });
                json!({ "jsonrpc": "2.0", "id": id, "error": error })
            }
        };
        let _ = self.send(&message);
    }

    /// Reads what the agent says until it ends; `incoming` hears what is no answer. What is no message is
    /// passed over, as a stray line of a program's start is.
    pub fn listen(&self, from_agent: ChildStdout, mut incoming: impl FnMut(Incoming)) {
        let mut reader = BufReader::new(from_agent);
        let mut line = Vec::new();
        loop {
            line.clear();
            match (&mut reader).take(MESSAGE_MAX).read_until(b'\n', &mut line) {
                Ok(0) | Err(_) => break,
                Ok(_) => {}
            }
            let Ok(Json::Object(mut message)) = serde_json::from_slice::<Json>(&line) else {
                continue;
            };
            let id = message.remove("id").filter(|it| !it.is_null());
            let params = message.remove("params").unwrap_or_default();
            match (message.remove("method"), id) {
                (Some(Json::String(method)), Some(id)) => {
                    incoming(Incoming::Request { id, method, params });
                }
                (Some(Json::String(method)), None) => {
                    incoming(Incoming::Notification { method, params });
                }
                (_, Some(id)) => self.answered(&id, message),
                _ => {}
            }
        }
        let mut waiting = self.waiting();
        waiting.over = true;
        // Whoever waits for an answer hears that there is none.
        waiting.answers.clear();
    }

    fn answered(&self, id: &Json, mut message: serde_json::Map<String, Json>) {
        let Some(to) = id.as_u64().and_then(|id| self.waiting().answers.remove(&id)) else {
            return;
        };
        let answer = match message.remove("error") {
            Some(error) => Err(RpcError {
                code: error["code"].as_i64().unwrap_or_default(),
                message: error["message"].as_str().unwrap_or_default().to_owned(),
            }),
            None => Ok(message.remove("result").unwrap_or_default()),
        };
        let _ = to.send(answer);
    }
}
