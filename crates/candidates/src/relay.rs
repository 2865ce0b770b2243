//! The metering relay: how an agent asks a model, and all that it can reach.
//!
//! It listens on the loopback device of the agent's own network and forwards requests of the
//! chat-completions protocol to the candidate's endpoint, with the real key, which the agent never has.
//! Each request is written down before it is sent and when it is over, as those of chat candidates are.
//! Other paths and other models are refused, and so is what is beyond the plan's limits.

use std::collections::{BTreeMap, HashMap};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::net::TcpListener;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, State};
use axum::http::{Method, StatusCode, Uri, header};
use axum::response::{IntoResponse as _, Response};
use axum::serve::ListenerExt as _;
use fairtrial_core::plan::{AgentLimits, Price, RelaySettings, Tokens, UsagePointers};
use fairtrial_core::verdict::VoidReason;
use serde_json::{Value as Json, json};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};
use tokio::task::JoinHandle;
use tokio_stream::wrappers::ReceiverStream;

use crate::ask::{Reporter, RequestNote, StepNote};
use crate::classify::classify;
use crate::meter::{Meter, RequestFault};
use crate::runtime::runtime;
use crate::upstream::{CHAT, Upstream, UpstreamResponse};

/// Largest request that is forwarded, in bytes.
const REQUEST_MAX: usize = 32 << 20;

/// Largest answer that is forwarded, in bytes.
const ANSWER_MAX: u64 = 64 << 20;

/// Requests of one agent that are under way at the same time.
const AT_ONCE: usize = 32;

/// Kinds of refusals that are told apart; an agent could ask for anything.
const REFUSALS_MAX: usize = 50;

/// Requests of an attempt whose text is kept in mind.
const REQUESTS_KEPT: usize = 10_000;

/// Longest text of a refusal, in bytes.
const REFUSAL_MAX: usize = 200;

/// What an agent may ask for.
pub struct RelayConfig {
    /// Where requests go.
    pub upstream: Arc<Upstream>,
    /// The one model that may be asked for.
    pub model: String,
    /// What one attempt may use.
    pub limits: AgentLimits,
    /// What its tokens cost.
    pub price: Price,
    /// Whether the tool calls that its answers ask for are reported: of an agent that reports none itself.
    pub report_calls: bool,
    /// How requests of another API are forwarded; `None`: there are none.
    pub settings: Option<RelaySettings>,
}

/// What one attempt has used.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct RelayUse {
    /// Requests that were forwarded.
    pub requests: u32,
    /// Those that were answered.
    pub answered: u32,
    /// The last fault of the host, where a request was not answered.
    pub fault: String,
    /// Of which kind that was.
    pub reason: Option<VoidReason>,
    /// Tokens of all requests that are over.
    pub tokens: Tokens,
    /// The limit that was met: `requests`, `tokens` or `money`.
    pub limit: Option<&'static str>,
    /// What was asked for in vain, with how often.
    pub refused: BTreeMap<String, u32>,
}

impl RelayUse {
    /// The limit that another request would go beyond.
    pub(crate) fn met(&self, limits: &AgentLimits, price: Price) -> Option<&'static str> {
        if self.requests >= limits.requests {
            Some("requests")
        } else if limits.tokens.is_some_and(|most| self.tokens.input + self.tokens.output >= most) {
            Some("tokens")
        } else if limits.money.is_some_and(|most| price.of(self.tokens) >= most) {
            Some("money")
        } else {
            None
        }
    }

    /// Counts a request that is over.
    pub(crate) fn count(&mut self, note: &RequestNote) {
        self.tokens = self.tokens + note.tokens;
        if note.outcome == "answered" {
            self.answered += 1;
        } else {
            self.fault = format!("{}: {}", note.outcome, note.detail);
            self.reason = VoidReason::of_short(&note.outcome);
        }
    }
}

/// A relay for the attempts of one agent, one at a time. It is gone when this is dropped.
pub struct Relay {
    state: Arc<RelayState>,
    task: JoinHandle<()>,
}

struct RelayState {
    config: RelayConfig,
    attempt: Mutex<Arc<RelayAttempt>>,
    at_once: Arc<Semaphore>,
}

/// One attempt: what it has used, and who hears of it. A request belongs to the attempt in which it came.
struct RelayAttempt {
    reporter: Arc<dyn Reporter>,
    used: Mutex<RelayUse>,
    /// Hashes of what was asked, with the number of the request.
    asked: Mutex<HashMap<u64, u32>>,
}

/// What is forwarded: where, and how its cost is read.
struct Forwarded {
    attempt: Arc<RelayAttempt>,
    path: String,
    body: String,
    usage: Option<UsagePointers>,
    report_calls: bool,
}

impl Relay {
    /// Serves at a listener in an agent's network.
    ///
    /// # Errors
    /// When there are no threads for it.
    pub fn start(
        listener: TcpListener,
        config: RelayConfig,
        reporter: Arc<dyn Reporter>,
    ) -> std::io::Result<Self> {
        listener.set_nonblocking(true)?;
        let state = Arc::new(RelayState {
            config,
            attempt: Mutex::new(RelayAttempt::new(reporter)),
            at_once: Arc::new(Semaphore::new(AT_ONCE)),
        });
        let router = Router::new()
            .fallback(forward)
            .layer(DefaultBodyLimit::max(REQUEST_MAX))
            .with_state(Arc::clone(&state));
        let runtime = runtime()?;
        let _inside = runtime.enter();
        let listener = tokio::net::TcpListener::from_std(listener)?;
        let task = runtime.spawn(async move {
            // The last words of a stream are small, and not to wait for more.
            let listener = listener.tap_io(|it| drop(it.set_nodelay(true)));
            // It ends with the task.
            let _ = axum::serve(listener, router).await;
        });
        Ok(Self { state, task })
    }

    /// Begins the next attempt, which has used nothing.
    pub fn begin(&self, reporter: Arc<dyn Reporter>) {
        *self.state.attempt_lock() = RelayAttempt::new(reporter);
    }

    /// What the attempt has used so far.
    #[must_use]
    pub fn used(&self) -> RelayUse {
        self.state.attempt().used().clone()
    }
}

impl Drop for Relay {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl RelayState {
    fn attempt_lock(&self) -> MutexGuard<'_, Arc<RelayAttempt>> {
        self.attempt.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn attempt(&self) -> Arc<RelayAttempt> {
        Arc::clone(&self.attempt_lock())
    }

    /// The path of another API that is asked for, with its query; `None`: it may not be.
    fn other_path(&self, uri: &Uri) -> Option<String> {
        let paths = &self.config.settings.as_ref()?.paths;
        let asked = uri.path();
        let below = asked.strip_prefix("/v1").unwrap_or(asked);
        let path = paths.iter().find(|it| it.as_str() == asked || it.as_str() == below)?;
        let query = uri.query().map(|it| format!("?{it}")).unwrap_or_default();
        Some(format!("{path}{query}"))
    }
}

impl RelayAttempt {
    fn new(reporter: Arc<dyn Reporter>) -> Arc<Self> {
        Arc::new(Self { reporter, used: Mutex::default(), asked: Mutex::default() })
    }

    fn used(&self) -> MutexGuard<'_, RelayUse> {
        self.used.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes something that was asked for in vain, and says so in the protocol's words.
    fn refuse(&self, status: StatusCode, code: &str, what: &str) -> Response {
        let what: String = what.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
        let what = what[..what.floor_char_boundary(REFUSAL_MAX)].to_owned();
        let mut used = self.used();
        if used.refused.len() < REFUSALS_MAX || used.refused.contains_key(&what) {
            *used.refused.entry(what.clone()).or_default() += 1;
        }
        drop(used);
        error(status, code, &what)
    }

    /// Which limit is met, before another request is forwarded; counts it where none is.
    fn take_request(&self, config: &RelayConfig) -> Option<&'static str> {
        let mut used = self.used();
        let met = used.met(&config.limits, config.price);
        match met {
            Some(limit) => used.limit = used.limit.or(Some(limit)),
            None => used.requests += 1,
        }
        met
    }

    /// Reports a request that says what an earlier one said, letter for letter.
    fn note_repeated(&self, number: u32, body: &str) {
        let mut hash = DefaultHasher::new();
        body.hash(&mut hash);
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        if asked.len() >= REQUESTS_KEPT {
            return;
        }
        let earlier = asked.insert(hash.finish(), number);
        drop(asked);
        if let Some(earlier) = earlier {
            self.reporter.step(StepNote {
                kind: "request".to_owned(),
                subject: format!("the same as request {earlier}"),
                outcome: "repeated".to_owned(),
                detail: String::new(),
                took: Duration::ZERO,
                files: None,
            });
        }
    }

    /// Takes note of a request that is over, and reports the calls that its answer asks for.
    fn over_with(
        &self,
        number: u32,
        meter: Meter,
        status: u16,
        body: &str,
        fault: Option<RequestFault>,
        report_calls: bool,
    ) {
        let calls = if report_calls { meter.calls() } else { Vec::new() };
        self.over(number, meter.note(status, body, fault));
        calls.into_iter().for_each(|it| self.reporter.step(it));
    }

    fn over(&self, number: u32, note: RequestNote) {
        self.used().count(&note);
        self.reporter.request_over(number, note);
    }
}

fn error(status: StatusCode, code: &str, message: &str) -> Response {
    let body = json!({ "error": { "message": message, "type": code, "code": code } });
    (status, axum::Json(body)).into_response()
}

async fn forward(
    State(state): State<Arc<RelayState>>,
    method: Method,
    uri: Uri,
    body: Bytes,
) -> Response {
    let path = uri.path();
    let (model, attempt) = (&state.config.model, state.attempt());
    if method == Method::GET && path.ends_with("/models") {
        let model = json!({ "id": model, "object": "model" });
        return axum::Json(json!({ "object": "list", "data": [model] })).into_response();
    }
    let other = state.other_path(&uri);
    if method != Method::POST || (other.is_none() && !path.ends_with(CHAT)) {
        let what = format!("{method} {path}");
        return attempt.refuse(StatusCode::NOT_FOUND, "not_found", &what);
    }
    let Ok(Json::Object(mut request)) = serde_json::from_slice::<Json>(&body) else {
        let (status, what) = (StatusCode::BAD_REQUEST, "a request that is no JSON object");
        return attempt.refuse(status, "invalid_request", what);
    };
    match request.get("model") {
        None | Some(Json::Null) if other.is_none() => {
            request.insert("model".to_owned(), json!(model));
        }
        None => {}
        Some(Json::String(asked)) if asked == model => {}
        Some(other) => {
            let what = format!("the model {other}; only `{model}` is on trial");
            return attempt.refuse(StatusCode::NOT_FOUND, "model_not_found", &what);
        }
    }
    let Ok(place) = Arc::clone(&state.at_once).acquire_owned().await else {
        return error(StatusCode::SERVICE_UNAVAILABLE, "unavailable", "the attempt is over");
    };
    if let Some(limit) = attempt.take_request(&state.config) {
        let what = format!("the limit of {limit} of this attempt is reached");
        return error(StatusCode::FORBIDDEN, "limit_reached", &what);
    }
    let streams = request.get("stream") == Some(&Json::Bool(true));
    if streams && other.is_none() {
        // Without it hosts do not count the tokens of a stream.
        let options = request.entry("stream_options").or_insert_with(|| json!({}));
        if let Json::Object(options) = options {
            options.insert("include_usage".to_owned(), json!(true));
        }
    }
    let usage = other.as_ref().and(state.config.settings.as_ref()).map(|it| it.usage.clone());
    let path = other.unwrap_or_else(|| CHAT.to_owned());
    let body = Json::Object(request).to_string();
    let report_calls = state.config.report_calls;
    let forwarded = Forwarded { attempt, path, body, usage, report_calls };
    pass_on(state, forwarded, place).await
}

/// Sends one request on and passes on what comes back.
async fn pass_on(
    state: Arc<RelayState>,
    forwarded: Forwarded,
    place: OwnedSemaphorePermit,
) -> Response {
    let Forwarded { attempt, path, body, usage, report_calls } = forwarded;
    let reporter = Arc::clone(&attempt.reporter);
    let requested = tokio::task::spawn_blocking(move || reporter.requested()).await;
    let Ok(Some(number)) = requested else {
        let stopping = "the run is stopping";
        return error(StatusCode::SERVICE_UNAVAILABLE, "unavailable", stopping);
    };
    attempt.note_repeated(number, &body);
    let mut meter = Meter::new(usage);
    let response = match state.config.upstream.send_to(&path, &body).await {
        Ok(response) => response,
        Err(refused) => {
            attempt.over(number, refused.note(meter.elapsed()));
            let status = StatusCode::BAD_GATEWAY;
            return error(status, "provider_error", "the endpoint cannot be reached");
        }
    };
    let (status, kind) = (response.status, response.content_type.clone());
    let builder = Response::builder().status(status).header(header::CONTENT_TYPE, kind.as_str());
    let is_fine = (200..300).contains(&status);
    if is_fine && kind.to_lowercase().starts_with("text/event-stream") {
        let (to, from) = mpsc::channel::<Result<Bytes, std::io::Error>>(64);
        let stream = Body::from_stream(ReceiverStream::new(from));
        // Who no longer listens does not make the answer any cheaper: it is read to its end.
        tokio::spawn(async move {
            let fault = pass_stream_on(&state.config.upstream, response, &mut meter, &to).await;
            attempt.over_with(number, meter, status, &body, fault, report_calls);
            drop(place);
        });
        return builder.body(stream).unwrap_or_else(|_| bad_answer());
    }
    let read = tokio::spawn(async move {
        let (bytes, fault) = whole(&state.config.upstream, response, is_fine).await;
        meter.whole(&bytes);
        attempt.over_with(number, meter, status, &body, fault, report_calls);
        drop(place);
        bytes
    });
    match read.await {
        Ok(bytes) => builder.body(Body::from(bytes)).unwrap_or_else(|_| bad_answer()),
        Err(_) => bad_answer(),
    }
}

/// Passes a stream on, line by line, without keys; gives why it broke off, if it did.
async fn pass_stream_on(
    upstream: &Upstream,
    mut response: UpstreamResponse,
    meter: &mut Meter,
    to: &mpsc::Sender<Result<Bytes, std::io::Error>>,
) -> Option<RequestFault> {
    let (mut line, mut left) = (Vec::new(), ANSWER_MAX);
    loop {
        let piece = match response.piece().await {
            Ok(Some(piece)) => piece,
            Ok(None) => break,
            Err(fault) => {
                let _ = to.send(Err(std::io::Error::other(fault.detail.clone()))).await;
                return Some(RequestFault::from(fault));
            }
        };
        left = left.saturating_sub(piece.len() as u64);
        if left == 0 {
            break;
        }
        // Whole lines are passed on, as many as there are: a key is never cut in two.
        let mut whole = Vec::new();
        for part in piece.split_inclusive(|it| *it == b'\n') {
            line.extend_from_slice(part);
            if part.ends_with(b"\n") {
                meter.line(&line);
                whole.append(&mut line);
            }
        }
        if !whole.is_empty() {
            let _ = to.send(Ok(without_keys(upstream, whole))).await;
        }
    }
    if !line.is_empty() {
        meter.line(&line);
        let _ = to.send(Ok(without_keys(upstream, line))).await;
    }
    None
}

/// An answer that came as a whole, without keys, and what was wrong with it.
async fn whole(
    upstream: &Upstream,
    mut response: UpstreamResponse,
    is_fine: bool,
) -> (Bytes, Option<RequestFault>) {
    let mut bytes = Vec::new();
    let broken = loop {
        match response.piece().await {
            Ok(Some(piece)) if (bytes.len() + piece.len()) as u64 > ANSWER_MAX => break None,
            Ok(Some(piece)) => bytes.extend(piece),
            Ok(None) => break None,
            Err(fault) => break Some(RequestFault::from(fault)),
        }
    };
    let refused = || {
        let detail = upstream.clean(&String::from_utf8_lossy(&bytes));
        let reason = classify(response.status, &detail);
        RequestFault { reason, detail, wait: response.retry_after }
    };
    let fault = broken.or_else(|| (!is_fine).then(refused));
    (without_keys(upstream, bytes), fault)
}

/// Bytes of a host without the key, which the agent must not see even when the host tells it.
fn without_keys(upstream: &Upstream, bytes: Vec<u8>) -> Bytes {
    match String::from_utf8(bytes) {
        Ok(text) => Bytes::from(upstream.without_keys(text)),
        Err(error) => Bytes::from(error.into_bytes()),
    }
}

fn bad_answer() -> Response {
    error(StatusCode::BAD_GATEWAY, "provider_error", "the endpoint's answer cannot be passed on")
}
