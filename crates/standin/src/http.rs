//! The endpoint: `POST …/chat/completions` and `GET …/models`, with and without streaming.

use std::collections::HashMap;
use std::convert::Infallible;
use std::io::{self, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::sse::{Event, Sse};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use fairtrial_core::digest::unit;
use fairtrial_core::task::Task;
use serde::Deserialize;
use serde_json::{Value, json};
use tokio::sync::oneshot;
use tokio_stream::wrappers::ReceiverStream;

use crate::acting::{SimulatedCall, turn};
use crate::answers::{Moment, SimulatedAnswer, answer};
use crate::fault::{Fault, Intended};
use crate::models::Model;

/// Bytes of text that make a token.
const BYTES_PER_TOKEN: usize = 4;

/// Tokens in one part of a stream.
const PART_TOKENS: usize = 8;

/// What is served.
#[derive(Debug, Clone)]
pub struct StandinServer {
    /// The models.
    pub models: Vec<Model>,
    /// The tasks that they know answers to.
    pub tasks: Vec<Task>,
    /// What all answers depend on.
    pub seed: u64,
    /// The key that requests must bring; `None`: any or none.
    pub key: Option<String>,
}

/// Why nothing is served.
#[derive(Debug, thiserror::Error)]
#[error("failed to serve on port {port} of the loopback address")]
pub struct StandinError {
    /// The port asked for; 0 for any.
    pub port: u16,
    /// What the system said.
    #[source]
    pub source: io::Error,
}

/// A stand-in that is being served. It stops when this is dropped.
#[derive(Debug)]
pub struct Handle {
    address: SocketAddr,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Handle {
    /// The base address of the endpoint, such as `http://127.0.0.1:4711/v1`.
    #[must_use]
    pub fn endpoint(&self) -> String {
        format!("http://{}/v1", self.address)
    }

    /// Serves until the process ends.
    pub fn wait(mut self) {
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

impl Drop for Handle {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            let _ = stop.send(());
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Where a stand-in writes down each request that it answers.
pub type Log = Box<dyn Write + Send>;

struct ServerState {
    standin: StandinServer,
    log: Mutex<Option<Log>>,
    /// How often a request was refused, by the request.
    refused: Mutex<HashMap<String, u32>>,
}

/// Serves a stand-in on a port of the loopback address, 0 for any that is free. Each request that
/// is answered is written to `log`: a line of JSON with `at` (seconds since 1970), `model`, `task`,
/// `seed` and `attempt`.
///
/// # Errors
/// When the port cannot be had.
pub fn start(standin: StandinServer, port: u16, log: Option<Log>) -> Result<Handle, StandinError> {
    let fail = |source| StandinError { port, source };
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).map_err(fail)?;
    listener.set_nonblocking(true).map_err(fail)?;
    let address = listener.local_addr().map_err(fail)?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(fail)?;
    let shared = Arc::new(ServerState {
        standin,
        log: Mutex::new(log),
        refused: Mutex::new(HashMap::new()),
    });
    let router = Router::new()
        .route("/v1/chat/completions", post(complete))
        .route("/v1/models", get(models))
        .with_state(shared);
    let (stop, stopped) = oneshot::channel::<()>();
    let thread = std::thread::spawn(move || {
        runtime.block_on(async move {
            let Ok(listener) = tokio::net::TcpListener::from_std(listener) else {
                return;
            };
            let server = axum::serve(listener, router);
            tokio::select! {
                _ = server => {}
                _ = stopped => {}
            }
        });
    });
    Ok(Handle { address, stop: Some(stop), thread: Some(thread) })
}

#[derive(Debug, Deserialize)]
struct ChatRequest {
    model: String,
    messages: Vec<ChatMessage>,
    #[serde(default)]
    stream: bool,
    #[serde(default)]
    seed: u64,
    #[serde(default)]
    stream_options: StreamOptions,
    /// What it may call; none: it answers.
    #[serde(default)]
    tools: Vec<Value>,
}

#[derive(Debug, Deserialize)]
struct ChatMessage {
    role: String,
    /// A text, or a list of parts of which some are texts.
    #[serde(default)]
    content: Value,
}

impl ChatMessage {
    fn text(&self) -> String {
        match &self.content {
            Value::String(text) => text.clone(),
            Value::Array(parts) => {
                parts.iter().filter_map(|it| it["text"].as_str()).collect::<Vec<_>>().join("\n")
            }
            _ => String::new(),
        }
    }
}

#[derive(Debug, Default, Deserialize)]
struct StreamOptions {
    #[serde(default)]
    include_usage: bool,
}

async fn models(State(shared): State<Arc<ServerState>>) -> Json<Value> {
    let models = shared.standin.models.iter();
    let data: Vec<_> = models.map(|it| json!({ "id": it.name, "object": "model" })).collect();
    Json(json!({ "object": "list", "data": data }))
}

fn refuse(status: StatusCode, message: &str, code: &str) -> Response {
    (status, Json(json!({ "error": { "message": message, "code": code } }))).into_response()
}

async fn complete(
    State(shared): State<Arc<ServerState>>,
    headers: HeaderMap,
    Json(request): Json<ChatRequest>,
) -> Response {
    let standin = &shared.standin;
    if let Some(key) = &standin.key {
        let sent = headers.get("authorization").and_then(|it| it.to_str().ok());
        if sent != Some(&format!("Bearer {key}")) {
            return refuse(StatusCode::UNAUTHORIZED, "the key is not valid", "invalid_key");
        }
    }
    let Some(model) = standin.models.iter().find(|it| it.name == request.model) else {
        let message = format!("there is no model `{}`", request.model);
        return refuse(StatusCode::NOT_FOUND, &message, "model_not_found");
    };
    let misbehaves = shared.is_refused(model, &request);
    if misbehaves && model.fault == Fault::Status {
        let status = StatusCode::from_u16(model.fault_status).unwrap_or(StatusCode::BAD_GATEWAY);
        return refuse(status, "not now", "try_again");
    }
    // Some programs say something of their own first.
    let asked = request.messages.iter().filter(|it| it.role == "user").map(ChatMessage::text);
    let asked = asked.collect::<Vec<_>>().join("\n");
    let known = standin.tasks.iter().filter(|task| asked.contains(&task.statement));
    let known = known.max_by_key(|task| task.statement.len());
    if let (Some(task), false) = (known, request.tools.is_empty() || misbehaves) {
        return shared.take_turn(&request, model, task).await;
    }
    let said = match known {
        Some(task) => {
            let answers = request.messages.iter().filter(|it| it.role == "assistant");
            let attempt = 1 + answers.count();
            if !misbehaves || model.fault.answers() {
                shared.write_down(&request, task, attempt);
            }
            answer(Moment { seed: standin.seed, request_seed: request.seed, attempt, model, task })
        }
        None => SimulatedAnswer { text: "I do not know that task.".to_owned(), cut_off: false },
    };
    let usage = usage(&request, &said.text);
    tokio::time::sleep(Duration::from_secs_f64(model.latency)).await;
    if misbehaves {
        let (text, finish, stream) = (said.text.as_str(), finish(&said), request.stream);
        let intended = Intended { model: &model.name, text, finish, usage, stream };
        return model.fault.response(model.fault_status, &intended).await;
    }
    if request.stream {
        return stream(model, said, request.stream_options.include_usage.then_some(usage));
    }
    tokio::time::sleep(writing_time(model, said.text.len())).await;
    Json(json!({
        "object": "chat.completion",
        "model": model.name,
        "choices": [{
            "index": 0,
            "message": { "role": "assistant", "content": said.text },
            "finish_reason": finish(&said),
        }],
        "usage": usage,
    }))
    .into_response()
}

impl ServerState {
    /// What a model does that was given tools.
    async fn take_turn(&self, request: &ChatRequest, model: &Model, task: &Task) -> Response {
        let attempt = request.messages.iter().filter(|it| it.role == "user").count();
        self.write_down(request, task, attempt);
        let since = request.messages.iter().rev().take_while(|it| it.role != "user");
        let done = since.filter(|it| it.role == "assistant").count();
        let (seed, request_seed) = (self.standin.seed, request.seed);
        let turn = turn(Moment { seed, request_seed, attempt, model, task }, &request.tools, done);
        let call = |(at, call): (usize, &SimulatedCall)| {
            let arguments = call.arguments.to_string();
            let function = json!({ "name": call.tool, "arguments": arguments });
            let id = format!("call-{done}-{at}");
            json!({ "index": at, "id": id, "type": "function", "function": function })
        };
        let calls: Vec<Value> = turn.calls.iter().enumerate().map(call).collect();
        let written = turn.text.clone() + &json!(calls).to_string();
        let time = Duration::from_secs_f64(model.latency) + writing_time(model, written.len());
        tokio::time::sleep(time).await;
        let usage = usage(request, &written);
        let (message, finish) = match calls.is_empty() {
            true => (json!({ "role": "assistant", "content": turn.text }), "stop"),
            false => {
                let message = json!({ "role": "assistant", "content": null, "tool_calls": calls });
                (message, "tool_calls")
            }
        };
        if request.stream {
            let delta = json!({ "index": 0, "delta": message, "finish_reason": null });
            let last = json!({ "index": 0, "delta": {}, "finish_reason": finish });
            let chunk = |choice: Value| json!({ "object": "chat.completion.chunk", "model": model.name, "choices": [choice] });
            let mut events = vec![chunk(delta), chunk(last)];
            if request.stream_options.include_usage {
                events.push(json!({ "choices": [], "usage": usage }));
            }
            let mut events: Vec<String> = events.iter().map(Value::to_string).collect();
            events.push("[DONE]".to_owned());
            let events =
                events.into_iter().map(|it| Ok::<_, Infallible>(Event::default().data(it)));
            return Sse::new(tokio_stream::iter(events)).into_response();
        }
        Json(json!({
            "object": "chat.completion",
            "model": model.name,
            "choices": [{ "index": 0, "message": message, "finish_reason": finish }],
            "usage": usage,
        }))
        .into_response()
    }

    fn write_down(&self, request: &ChatRequest, task: &Task, attempt: usize) {
        if let Some(log) = &mut *self.log.lock().unwrap_or_else(PoisonError::into_inner) {
            let at = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
            let row = json!({
                "at": at.as_secs_f64(),
                "model": request.model,
                "task": task.name,
                "seed": request.seed,
                "attempt": attempt,
            });
            // A log that cannot be written is no reason to leave a request without an answer.
            let _ = writeln!(log, "{row}").and_then(|()| log.flush());
        }
    }

    /// Whether this request is to be refused: a share of requests is, as often as the model says.
    fn is_refused(&self, model: &Model, request: &ChatRequest) -> bool {
        if model.fault_rate == 0.0 {
            return false;
        }
        let text: String = request.messages.iter().map(ChatMessage::text).collect();
        let (own, seed) = (self.standin.seed.to_string(), request.seed.to_string());
        if unit(&["fault", &own, &model.name, &seed, &text]) >= model.fault_rate {
            return false;
        }
        let mut refused = self.refused.lock().unwrap_or_else(PoisonError::into_inner);
        let count = refused.entry(format!("{} {seed} {text}", model.name)).or_default();
        *count += 1;
        *count <= model.fault_repeats
    }
}

fn finish(said: &SimulatedAnswer) -> &'static str {
    if said.cut_off { "length" } else { "stop" }
}

fn tokens(text: &str) -> usize {
    text.len().div_ceil(BYTES_PER_TOKEN)
}

/// Everything but the last message was sent before, and so comes from the cache.
fn usage(request: &ChatRequest, text: &str) -> Value {
    let counts: Vec<usize> = request.messages.iter().map(|it| tokens(&it.text())).collect();
    let input: usize = counts.iter().sum();
    let fresh = if counts.len() > 2 { counts.last().copied().unwrap_or(0) } else { input };
    json!({
        "prompt_tokens": input,
        "completion_tokens": tokens(text),
        "total_tokens": input + tokens(text),
        "prompt_tokens_details": { "cached_tokens": input - fresh },
    })
}

fn writing_time(model: &Model, bytes: usize) -> Duration {
    Duration::from_secs_f64(bytes as f64 / BYTES_PER_TOKEN as f64 / model.tokens_per_second)
}

fn stream(model: &Model, said: SimulatedAnswer, usage: Option<Value>) -> Response {
    let (to, from) = tokio::sync::mpsc::channel::<Result<Event, Infallible>>(4);
    let model = model.clone();
    tokio::spawn(async move {
        let part = |delta: Value, finish: Option<&str>| {
            let choice = json!({ "index": 0, "delta": delta, "finish_reason": finish });
            json!({ "object": "chat.completion.chunk", "model": model.name, "choices": [choice] })
        };
        let mut rest = said.text.as_str();
        while !rest.is_empty() {
            let at = rest.ceil_char_boundary((PART_TOKENS * BYTES_PER_TOKEN).min(rest.len()));
            let (text, left) = rest.split_at(at);
            tokio::time::sleep(writing_time(&model, text.len())).await;
            let event = Event::default().data(part(json!({ "content": text }), None).to_string());
            if to.send(Ok(event)).await.is_err() {
                return;
            }
            rest = left;
        }
        let last = part(json!({}), Some(finish(&said)));
        let mut ends = vec![last.to_string()];
        ends.extend(usage.map(|usage| json!({ "choices": [], "usage": usage }).to_string()));
        ends.push("[DONE]".to_owned());
        for end in ends {
            if to.send(Ok(Event::default().data(end))).await.is_err() {
                return;
            }
        }
    });
    Sse::new(ReceiverStream::new(from)).into_response()
}
