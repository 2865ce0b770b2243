//! Models behind the chat-completions HTTP protocol, with and without streaming.

use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use fairtrial_core::answer::Submission;
use fairtrial_core::plan::ChatCandidate;
use fairtrial_core::verdict::VoidReason;
use serde_json::{Map, Value as Json, json};

use crate::ask::{Ask, AskOutcome, AskReply, Asker, AskerError, OnReply, Reporter, Workspace};
use crate::exchange::{RequestRefused, exchange, note};
use crate::runtime::runtime;
use crate::upstream::{Upstream, UpstreamConfig};

/// A model behind a chat-completions endpoint.
pub struct ChatAsker {
    model: Arc<ChatModel>,
}

struct ChatModel {
    upstream: Upstream,
    config: ChatCandidate,
}

impl ChatAsker {
    /// Makes a candidate ready to be asked; `key` looks up environment variables, `base` is the plan's folder.
    ///
    /// # Errors
    /// When the key is not in the environment, a header cannot be sent, or certificates cannot be read.
    pub fn new(
        config: &ChatCandidate,
        base: &Path,
        key: impl Fn(&str) -> Option<String>,
    ) -> Result<Self, AskerError> {
        let upstream = Upstream::new(&UpstreamConfig::of_chat(config, base), key)?;
        Ok(Self { model: Arc::new(ChatModel { upstream, config: config.clone() }) })
    }
}

impl ChatModel {
    fn body(&self, ask: &Ask) -> Json {
        let mut body = Map::new();
        body.insert("model".into(), json!(self.config.model));
        body.insert("messages".into(), json!(ask.messages));
        if self.config.stream {
            body.insert("stream".into(), json!(true));
            body.insert("stream_options".into(), json!({ "include_usage": true }));
        }
        if self.config.send_seed {
            // Hosts take 32 bits at least, and not all of them more.
            body.insert("seed".into(), json!(ask.seed & 0x7fff_ffff));
        }
        body.extend(self.config.sampling.clone());
        Json::Object(body)
    }

    /// Sends one request.
    async fn request(&self, body: String) -> AskReply {
        let began = Instant::now();
        let result = exchange(&self.upstream, &body, self.config.longest_answer.0).await;
        let request = Some(note(&result, &body, began.elapsed()));
        let empty = |it: &crate::answered::Got| it.is_empty();
        let outcome = match result {
            Ok(got) if empty(&got) => RequestRefused::empty().outcome(),
            Ok(got) => {
                let end = got.end();
                AskOutcome::Answer { submission: Submission::Text(got.said()), end }
            }
            Err(refused) => refused.outcome(),
        };
        AskReply { request, ..AskReply::bare(outcome) }
    }
}

impl Asker for ChatAsker {
    fn ask(
        &self,
        ask: &Ask,
        _workspace: Option<&Workspace<'_>>,
        reporter: &Arc<dyn Reporter>,
    ) -> AskReply {
        if reporter.requested().is_none() {
            return AskReply::bare(AskOutcome::Cancelled);
        }
        let body = self.model.body(ask).to_string();
        match runtime() {
            Ok(runtime) => runtime.block_on(self.model.request(body)),
            Err(error) => no_threads(&error),
        }
    }

    fn answers_by_itself(&self) -> bool {
        true
    }

    fn begin(&self, ask: &Ask, answered: OnReply) {
        let (model, body) = (Arc::clone(&self.model), self.model.body(ask).to_string());
        match runtime() {
            Ok(runtime) => {
                let request = runtime.spawn(async move { model.request(body).await });
                runtime.spawn(async move {
                    answered(request.await.unwrap_or_else(|error| {
                        let why = format!("internal error: {error}");
                        AskReply::bare(AskOutcome::Void(VoidReason::SandboxError, why))
                    }));
                });
            }
            Err(error) => answered(no_threads(&error)),
        }
    }

    fn host(&self) -> Option<&str> {
        Some(&self.model.config.endpoint)
    }
}

fn no_threads(error: &std::io::Error) -> AskReply {
    AskReply::bare(AskOutcome::Void(VoidReason::SandboxError, error.to_string()))
}
