//! The endpoint that an agent's requests are forwarded to.

use std::collections::BTreeMap;
use std::io::Read;
use std::time::{Duration, SystemTime};

use fairtrial_core::plan::{AgentCandidate, ChatCandidate, HeaderText, Tokens};
use fairtrial_core::verdict::VoidReason;
use ureq::http::header::{HeaderName, HeaderValue};

use crate::ask::{AskerError, RequestNote};
use crate::pause::pause;

/// Longest text kept of what a host says when it refuses, in bytes.
const DETAIL_MAX: usize = 500;

/// Where the chat-completions protocol is served, below an endpoint.
pub(crate) const CHAT: &str = "/chat/completions";

/// Where requests go, with what they carry.
pub struct Upstream {
    agent: ureq::Agent,
    endpoint: String,
    key: Option<String>,
    key_env: Option<String>,
    key_header: Option<HeaderName>,
    headers: Vec<(HeaderName, HeaderValue)>,
}

/// What came back: its head, and a reader of the rest.
pub struct UpstreamResponse {
    /// The HTTP status.
    pub status: u16,
    /// What kind of text the rest is.
    pub content_type: String,
    /// How long the host asks to be left alone.
    pub retry_after: Option<Duration>,
    /// The rest.
    pub reader: Box<dyn Read + Send>,
}

/// Why nothing came back.
pub struct Unreachable {
    /// What went wrong, without keys.
    pub detail: String,
    /// Whether somebody is there who takes too long.
    pub is_timeout: bool,
}

impl Unreachable {
    /// As it is written down.
    #[must_use]
    pub fn note(&self, took: Duration) -> RequestNote {
        RequestNote {
            outcome: VoidReason::ProviderError.word().to_owned(),
            detail: self.detail.clone(),
            status: None,
            took,
            first_token: None,
            tokens: Tokens::default(),
            estimated: false,
        }
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
    /// The header that carries the key; `None`: `Authorization`, as a bearer's.
    pub key_header: Option<&'a str>,
}

impl<'a> UpstreamConfig<'a> {
    /// How the host of a model is asked.
    #[must_use]
    pub fn of_chat(config: &'a ChatCandidate) -> Self {
        Self {
            candidate: &config.name,
            endpoint: &config.endpoint,
            key_env: config.key_env.as_deref(),
            headers: &config.headers,
            timeout: config.timeout.0,
            key_header: None,
        }
    }

    /// How the host of an agent is asked; `None` where it has none.
    #[must_use]
    pub fn of_agent(config: &'a AgentCandidate) -> Option<Self> {
        Some(Self {
            candidate: &config.name,
            endpoint: config.endpoint.as_deref()?,
            key_env: config.key_env.as_deref(),
            headers: &config.headers,
            timeout: config.timeout.0,
            key_header: config.relay.as_ref().and_then(|it| it.header.as_deref()),
        })
    }
}

impl Upstream {
    /// Makes an endpoint ready; `key` looks up environment variables.
    ///
    /// # Errors
    /// When the key is not in the environment, or a header cannot be sent.
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
        let agent = ureq::Agent::config_builder()
            .http_status_as_error(false)
            .timeout_global(Some(config.timeout))
            .timeout_connect(Some(config.timeout.min(Duration::from_secs(10))))
            .max_redirects(0)
            .user_agent(concat!("fairtrial/", env!("CARGO_PKG_VERSION")))
            .build()
            .into();
        Ok(Self {
            agent,
            endpoint: config.endpoint.to_owned(),
            key_header: config.key_header.map(named).transpose()?,
            key: config.key_env.map(found).transpose()?,
            key_env: config.key_env.map(str::to_owned),
            headers: config.headers.iter().map(header).collect::<Result<_, AskerError>>()?,
        })
    }

    /// Sends one request of the chat-completions protocol.
    ///
    /// # Errors
    /// When nothing comes back.
    pub fn send(&self, body: &str) -> Result<UpstreamResponse, Unreachable> {
        self.send_to(CHAT, body)
    }

    /// Sends one request to a path below the endpoint.
    ///
    /// # Errors
    /// When nothing comes back.
    pub fn send_to(&self, path: &str, body: &str) -> Result<UpstreamResponse, Unreachable> {
        // Whatever follows a question mark stays at the end.
        let (base, query) = match self.endpoint.split_once('?') {
            Some((base, query)) => (base, format!("?{query}")),
            None => (self.endpoint.as_str(), String::new()),
        };
        let address = format!("{}{path}{query}", base.trim_end_matches('/'));
        let mut request = self.agent.post(&address).header("content-type", "application/json");
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
        let response = request.send(body);
        let response = response.map_err(|error| Unreachable {
            detail: self.clean(&format!("{}: {error}", self.endpoint)),
            is_timeout: matches!(error, ureq::Error::Timeout(_)),
        })?;
        let header = |name: &str| response.headers().get(name).and_then(|it| it.to_str().ok());
        let retry_after = pause(header, SystemTime::now());
        let kind = response.headers().get("content-type").and_then(|it| it.to_str().ok());
        let content_type = kind.unwrap_or("application/json").to_owned();
        let status = response.status().as_u16();
        let reader = Box::new(response.into_body().into_with_config().limit(u64::MAX).reader());
        Ok(UpstreamResponse { status, content_type, retry_after, reader })
    }

    /// Which key was sent, without the key.
    #[must_use]
    pub fn key_note(&self) -> String {
        match &self.key_env {
            Some(variable) => format!("the key is from `{variable}`"),
            None => "no key was sent: `key_env` names a variable with one".to_owned(),
        }
    }

    /// What a host said, without keys and control characters, and not too long.
    #[must_use]
    pub fn clean(&self, said: &str) -> String {
        let secrets = self.headers.iter().filter_map(|(_, value)| value.to_str().ok());
        let secrets = secrets.chain(self.key.as_deref()).filter(|secret| secret.len() >= 6);
        let said = secrets.fold(said.to_owned(), |said, secret| said.replace(secret, "[key]"));
        let said: String = said.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
        said[..said.floor_char_boundary(DETAIL_MAX)].trim().to_owned()
    }
}
