//! The endpoint that requests go to, with its key and its patience.

use std::collections::BTreeMap;
use std::error::Error as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, SystemTime};

use fairtrial_core::plan::{AgentCandidate, ChatCandidate, HeaderText, Patience};
use fairtrial_core::verdict::VoidReason;
use reqwest::header::{HeaderName, HeaderValue};
use reqwest::{Client, Response, redirect};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject as _;
use rustls::{ClientConfig, RootCertStore};
use tokio::time::{Instant, timeout_at};

use crate::ask::{AskerError, RequestNote};
use crate::pause::pause;

/// Longest text kept of what a host says when it refuses, in bytes.
const DETAIL_MAX: usize = 500;

/// Shortest secret that is looked for in what a host says, in bytes: a shorter one could be any word.
const SECRET_MIN: usize = 6;

/// Where the chat-completions protocol is served, below an endpoint.
pub(crate) const CHAT: &str = "/chat/completions";

/// Where requests go, with what they carry.
pub struct Upstream {
    client: Client,
    endpoint: String,
    key: Option<String>,
    key_env: Option<String>,
    key_header: Option<HeaderName>,
    headers: Vec<(HeaderName, HeaderValue)>,
    patience: Patience,
    timeout: Duration,
}

/// What came back: its head, and the rest, piece by piece.
pub struct UpstreamResponse {
    /// The HTTP status.
    pub status: u16,
    /// What kind of text the rest is.
    pub content_type: String,
    /// How long the host asks to be left alone.
    pub retry_after: Option<Duration>,
    /// Where the host sends the request instead.
    pub location: Option<String>,
    response: Response,
    silence: Option<Duration>,
    until: Instant,
}

/// Why nothing, or nothing more, came back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unreachable {
    /// What it makes of a trial.
    pub reason: VoidReason,
    /// What went wrong, without keys.
    pub detail: String,
    /// Whether the time for the whole answer was up.
    pub is_out_of_time: bool,
}

impl Unreachable {
    fn late(detail: impl Into<String>) -> Self {
        Self { reason: VoidReason::HostTimedOut, detail: detail.into(), is_out_of_time: false }
    }

    /// As it is written down.
    #[must_use]
    pub fn note(&self, took: Duration) -> RequestNote {
        let detail = self.detail.clone();
        RequestNote { detail, ..RequestNote::bare(self.reason.short(), took) }
    }
}

/// How a host is asked.
pub struct UpstreamConfig<'a> {
    /// Whose it is.
    pub candidate: &'a str,
    /// The base address.
    pub endpoint: &'a str,
    /// The environment variable that holds the key.
    pub key_env: Option<&'a str>,
    /// Further header lines.
    pub headers: &'a BTreeMap<String, HeaderText>,
    /// Longest wait for one answer.
    pub timeout: Duration,
    /// Longest waits for parts of it.
    pub patience: Patience,
    /// A file of certificates that are trusted besides the machine's.
    pub trust: Option<PathBuf>,
    /// The header that carries the key; `None`: `Authorization`, as a bearer's.
    pub key_header: Option<&'a str>,
}

impl<'a> UpstreamConfig<'a> {
    /// How the host of a model is asked. `base` is the folder that a file of certificates lies beside.
    #[must_use]
    pub fn of_chat(config: &'a ChatCandidate, base: &Path) -> Self {
        Self {
            candidate: &config.name,
            endpoint: &config.endpoint,
            key_env: config.key_env.as_deref(),
            headers: &config.headers,
            timeout: config.timeout.0,
            patience: config.patience,
            trust: config.trust.as_ref().map(|it| base.join(it)),
            key_header: None,
        }
    }

    /// How the host of an agent is asked; `None` where it has none.
    #[must_use]
    pub fn of_agent(config: &'a AgentCandidate, base: &Path) -> Option<Self> {
        Some(Self {
            candidate: &config.name,
            endpoint: config.endpoint.as_deref()?,
            key_env: config.key_env.as_deref(),
            headers: &config.headers,
            timeout: config.timeout.0,
            patience: config.patience,
            trust: config.trust.as_ref().map(|it| base.join(it)),
            key_header: config.relay.as_ref().and_then(|it| it.header.as_deref()),
        })
    }
}

impl Upstream {
    /// Makes an endpoint ready; `key` looks up environment variables.
    ///
    /// # Errors
    /// When the key is not in the environment, a header cannot be sent, or certificates cannot be read.
    pub fn new(
        config: &UpstreamConfig<'_>,
        key: impl Fn(&str) -> Option<String>,
    ) -> Result<Self, AskerError> {
        let candidate = config.candidate.to_owned();
        let found = |variable: &str| {
            let value = key(variable).filter(|it| !it.trim().is_empty());
            let missing = || AskerError::NoKey {
                candidate: candidate.clone(),
                variable: variable.to_owned(),
            };
            value.map(|it| it.trim().to_owned()).ok_or_else(missing)
        };
        let header = |(name, value): (&String, &HeaderText)| {
            let bad = || AskerError::Header { candidate: candidate.clone(), header: name.clone() };
            let parsed = HeaderName::from_bytes(name.as_bytes()).map_err(|_| bad())?;
            let value = match value {
                HeaderText::Given(value) => value.clone(),
                HeaderText::Variable(variable) => found(&variable.env)?,
            };
            Ok((parsed, HeaderValue::from_str(&value).map_err(|_| bad())?))
        };
        let named = |name: &str| {
            let bad =
                |_| AskerError::Header { candidate: candidate.clone(), header: name.to_owned() };
            HeaderName::from_bytes(name.as_bytes()).map_err(bad)
        };
        Ok(Self {
            client: client(config)?,
            endpoint: config.endpoint.to_owned(),
            key_header: config.key_header.map(named).transpose()?,
            key: config.key_env.map(found).transpose()?,
            key_env: config.key_env.map(str::to_owned),
            headers: config.headers.iter().map(header).collect::<Result<_, AskerError>>()?,
            patience: config.patience,
            timeout: config.timeout,
        })
    }

    /// Sends one request of the chat-completions protocol.
    ///
    /// # Errors
    /// When nothing comes back.
    pub async fn send(&self, body: &str) -> Result<UpstreamResponse, Unreachable> {
        self.send_to(CHAT, body).await
    }

    /// Sends one request to a path below the endpoint.
    ///
    /// # Errors
    /// When nothing comes back.
    pub async fn send_to(&self, path: &str, body: &str) -> Result<UpstreamResponse, Unreachable> {
        // Whatever follows a question mark stays at the end.
        let (base, query) = match self.endpoint.split_once('?') {
            Some((base, query)) => (base, format!("?{query}")),
            None => (self.endpoint.as_str(), String::new()),
        };
        let address = format!("{}{path}{query}", base.trim_end_matches('/'));
        let mut request = self.client.post(&address).header("content-type", "application/json");
        match (&self.key, &self.key_header) {
            (Some(key), None) => {
                request = request.header("authorization", format!("Bearer {key}"));
            }
            (Some(key), Some(name)) => request = request.header(name, key),
            (None, _) => {}
        }
        for (name, value) in &self.headers {
            request = request.header(name, value);
        }
        let now = Instant::now();
        let until = now + self.timeout;
        let first = self.patience.first_byte.map_or(until, |it| until.min(now + it.0));
        let sent = timeout_at(first, request.body(body.to_owned()).send()).await;
        let response = match sent {
            Err(_) => {
                let waited = (first - now).as_secs_f64();
                let said = format!("nothing came back within {waited:.3} s");
                return Err(Unreachable {
                    is_out_of_time: first == until,
                    ..Unreachable::late(said)
                });
            }
            Ok(Err(error)) => return Err(self.unreachable(&error)),
            Ok(Ok(response)) => response,
        };
        let header = |name: &str| response.headers().get(name).and_then(|it| it.to_str().ok());
        Ok(UpstreamResponse {
            status: response.status().as_u16(),
            content_type: header("content-type").unwrap_or("application/json").to_owned(),
            retry_after: pause(header, SystemTime::now()),
            location: header("location").map(str::to_owned),
            silence: self.patience.silence.map(|it| it.0),
            until,
            response,
        })
    }

    /// Why a request came to nothing, with the host's address but without what follows a question mark.
    fn unreachable(&self, error: &reqwest::Error) -> Unreachable {
        let host = self.host();
        Unreachable {
            reason: reason_of(error),
            detail: self.clean(&format!("{host}: {}", innermost(error))),
            is_out_of_time: false,
        }
    }

    /// The host's address, without what follows a question mark.
    #[must_use]
    pub fn host(&self) -> &str {
        self.endpoint.split('?').next().unwrap_or_default()
    }

    /// Which key was sent, without the key.
    #[must_use]
    pub fn key_note(&self) -> String {
        match &self.key_env {
            Some(variable) => format!("the key is from `{variable}`"),
            None => "no key was sent: `key_env` names a variable with one".to_owned(),
        }
    }

    /// A text without keys.
    #[must_use]
    pub fn without_keys(&self, text: String) -> String {
        let secrets = self.headers.iter().filter_map(|(_, value)| value.to_str().ok());
        let secrets = secrets.chain(self.key.as_deref());
        secrets.filter(|it| it.len() >= SECRET_MIN).fold(text, |text, secret| {
            if text.contains(secret) { text.replace(secret, "[key]") } else { text }
        })
    }

    /// What a host said, without keys and control characters, and not too long.
    #[must_use]
    pub fn clean(&self, said: &str) -> String {
        let said = self.without_keys(said.to_owned());
        let said: String = said.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
        said[..said.floor_char_boundary(DETAIL_MAX)].trim().to_owned()
    }
}

impl UpstreamResponse {
    /// The next piece; `None` at the end.
    ///
    /// # Errors
    /// When it breaks off, or takes longer than is waited for.
    pub async fn piece(&mut self) -> Result<Option<Vec<u8>>, Unreachable> {
        let silent = self.silence.map(|it| Instant::now() + it);
        let until = silent.map_or(self.until, |it| it.min(self.until));
        match timeout_at(until, self.response.chunk()).await {
            Err(_) if until < self.until => {
                let silence = self.silence.unwrap_or_default().as_secs_f64();
                Err(Unreachable::late(format!("the host said nothing for {silence} s")))
            }
            Err(_) => {
                let late = Unreachable::late("the time for the whole answer was up");
                Err(Unreachable { is_out_of_time: true, ..late })
            }
            Ok(Err(error)) => Err(Unreachable {
                reason: VoidReason::BrokeOff,
                detail: innermost(&error),
                is_out_of_time: false,
            }),
            Ok(Ok(piece)) => Ok(piece.map(|it| it.to_vec())),
        }
    }
}

/// What a fault of the connection makes of a trial.
fn reason_of(error: &reqwest::Error) -> VoidReason {
    if error.is_timeout() {
        return VoidReason::HostTimedOut;
    }
    let mut cause = error.source();
    while let Some(inner) = cause {
        let io = inner.downcast_ref::<std::io::Error>().and_then(|it| it.get_ref());
        let is_tls = inner.is::<rustls::Error>() || io.is_some_and(|it| it.is::<rustls::Error>());
        if is_tls || inner.to_string().contains("tls handshake") {
            return VoidReason::TlsFailed;
        }
        if inner.to_string().contains("dns error") {
            return VoidReason::NameNotFound;
        }
        cause = inner.source();
    }
    if error.is_connect() { VoidReason::NobodyThere } else { VoidReason::BrokeOff }
}

/// The cause of all: what is around it only says that a request failed.
fn innermost(error: &reqwest::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
}

/// A client for one host. Proxies are those of the environment: `HTTPS_PROXY`, `HTTP_PROXY`, `ALL_PROXY`, but for the
/// hosts in `NO_PROXY`.
fn client(config: &UpstreamConfig<'_>) -> Result<Client, AskerError> {
    let candidate = config.candidate;
    let connect = config.patience.connect.map_or(CONNECT, |it| it.0);
    let made = Client::builder()
        .tls_backend_preconfigured(protection(config)?)
        .connect_timeout(connect.min(config.timeout))
        .redirect(redirect::Policy::none())
        .tcp_nodelay(true)
        .user_agent(concat!("fairtrial/", env!("CARGO_PKG_VERSION")))
        .build();
    made.map_err(|error| AskerError::Client {
        candidate: candidate.to_owned(),
        why: innermost(&error),
    })
}

/// Longest wait for a connection where a plan does not say.
const CONNECT: Duration = Duration::from_secs(10);

/// Whom to trust: the machine's certificates, those that ship with this program, and a plan's own.
fn protection(config: &UpstreamConfig<'_>) -> Result<ClientConfig, AskerError> {
    let mut roots = match config.endpoint.starts_with("https:") {
        true => known_roots().clone(),
        false => RootCertStore::empty(),
    };
    if let Some(path) = &config.trust {
        let bad = |why: String| AskerError::Trust {
            candidate: config.candidate.to_owned(),
            path: path.clone(),
            why,
        };
        let bytes = fs::read(path).map_err(|error| bad(error.to_string()))?;
        let mut found = false;
        for certificate in CertificateDer::pem_slice_iter(&bytes) {
            let certificate = certificate.map_err(|error| bad(error.to_string()))?;
            roots.add(certificate).map_err(|error| bad(error.to_string()))?;
            found = true;
        }
        if !found {
            return Err(bad("there is no certificate in it".to_owned()));
        }
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| AskerError::Client {
            candidate: config.candidate.to_owned(),
            why: error.to_string(),
        })?;
    Ok(config.with_root_certificates(roots).with_no_client_auth())
}

/// The machine's certificates, and those that ship with this program; read once.
fn known_roots() -> &'static RootCertStore {
    static ROOTS: OnceLock<RootCertStore> = OnceLock::new();
    ROOTS.get_or_init(|| {
        let mut roots = RootCertStore::empty();
        roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned());
        roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        roots
    })
}
