//! The form `call`: arguments go in over a channel, values come back, and are compared out here.

use fairtrial_core::form::call::{Call, CallOutcome, CallSettings, Returned};
use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::prompt::{call_input, head_and_tail};
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::value::{Dialect, Mismatch, Value, from_json, to_json};
use fairtrial_core::verdict::FailReason;
use fairtrial_sandbox::{Archive, Frame, Job, Outcome, Running};
use serde::Deserialize;
use serde_json::json;

use crate::bench::{Bench, JudgeError};
use crate::outcome::{TIMEOUTS_MAX, any_failed, nothing_run, settle, usage};

/// Longest reply that is read, in bytes.
const REPLY_MAX: usize = 16 << 20;

/// Longest text kept of an input, an expectation or a value, in bytes.
const SHOWN_MAX: usize = 4 << 10;

/// Longest name kept of an error's kind, in bytes.
const KIND_MAX: usize = 100;

/// How often a process that ended is started anew for the calls that are left.
const RESTARTS_MAX: usize = 3;

/// The driver of a language, by the extension of its files.
fn driver(extension: &str) -> Option<&'static str> {
    match extension {
        "py" => Some(include_str!("drivers/python.py")),
        "js" | "mjs" | "cjs" => Some(include_str!("drivers/javascript.js")),
        _ => None,
    }
}

/// One line from the driver.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "lowercase")]
struct Reply {
    #[serde(default)]
    loaded: bool,
    failed: Option<Told>,
    value: Option<serde_json::Value>,
    raised: Option<Told>,
    #[serde(default)]
    args: Vec<serde_json::Value>,
}

/// An error, as the driver tells it.
#[derive(Debug, Deserialize)]
struct Told {
    kinds: Vec<String>,
    message: String,
    #[serde(default)]
    place: String,
}

impl Told {
    fn kind(&self) -> &str {
        let kind = self.kinds.first().map_or("an error", String::as_str);
        &kind[..kind.floor_char_boundary(KIND_MAX)]
    }

    /// The error for people: kind, message, place.
    fn text(&self) -> String {
        let place =
            if self.place.is_empty() { String::new() } else { format!(" ({})", self.place) };
        head_and_tail(&format!("{}: {}{place}", self.kind(), self.message), SHOWN_MAX)
    }
}

/// What one call came to.
struct Called {
    test: TestOutcome,
    message: Option<String>,
}

/// Judges by calls. Examples are run only when something sealed failed.
pub fn judge(
    bench: &Bench<'_>,
    settings: &CallSettings,
    files: &FileTree,
    sealed: &[Call],
    visible: &[Call],
) -> Result<Judgement, JudgeError> {
    let Some(source) = driver(settings.file.extension()) else {
        let message = format!("`{}` is no file that calls can be made into", settings.file);
        return Ok(nothing_run(bench.task, FailReason::DidNotBuild, Some(message)));
    };
    let name = format!("driver.{}", settings.file.extension());
    let name = RelPath::parse(&name).map_err(|error| {
        JudgeError::Sandbox(fairtrial_sandbox::SandboxError::SetUp(error.to_string()))
    })?;
    let driver = Archive::of(&FileTree::from([(name, source.as_bytes().to_vec())]))?;
    let layer = Archive::of(files)?;
    let mut session = Session { bench, settings, driver, layer, running: None, starts: 0 };
    let dialect = Dialect::of(&bench.task.language);
    let mut tests = Vec::new();
    let mut message = None;
    for (call, is_visible) in
        sealed.iter().map(|it| (it, false)).chain(visible.iter().map(|it| (it, true)))
    {
        if is_visible && !any_failed(&tests) {
            break;
        }
        let timeouts = |it: &&TestOutcome| it.failed == Some(FailReason::TimedOut);
        if tests.iter().filter(timeouts).count() >= TIMEOUTS_MAX {
            tests.push(not_run(call, is_visible, dialect, FailReason::TimedOut));
            continue;
        }
        match session.call(call, is_visible)? {
            Step::Called(called) => {
                message = message.or(called.message);
                tests.push(called.test);
            }
            Step::DidNotLoad(judgement) if tests.is_empty() => return Ok(judgement),
            Step::DidNotLoad(_) | Step::TooManyRestarts => {
                tests.push(not_run(call, is_visible, dialect, FailReason::Crashed));
            }
        }
    }
    session.stop();
    Ok(settle(tests, message))
}

fn empty(call: &Call, visible: bool, dialect: Dialect) -> TestOutcome {
    TestOutcome {
        name: call.name.clone(),
        visible,
        failed: None,
        summary: String::new(),
        input: head_and_tail(&call_input(call, dialect), SHOWN_MAX),
        expected: String::new(),
        found: String::new(),
        points: call.points,
        usage: None,
    }
}

fn not_run(call: &Call, visible: bool, dialect: Dialect, reason: FailReason) -> TestOutcome {
    let summary = "not run".to_owned();
    TestOutcome { failed: Some(reason), summary, ..empty(call, visible, dialect) }
}

/// What came of trying a call.
enum Step {
    Called(Called),
    DidNotLoad(Judgement),
    TooManyRestarts,
}

/// The candidate's process, started when it is needed.
struct Session<'a> {
    bench: &'a Bench<'a>,
    settings: &'a CallSettings,
    driver: Archive,
    layer: Archive,
    running: Option<Running<'a>>,
    starts: usize,
}

impl Session<'_> {
    fn call(&mut self, call: &Call, visible: bool) -> Result<Step, JudgeError> {
        if self.running.is_none() {
            if self.starts > RESTARTS_MAX {
                return Ok(Step::TooManyRestarts);
            }
            if let Some(judgement) = self.load()? {
                return Ok(Step::DidNotLoad(judgement));
            }
        }
        let Some(running) = &mut self.running else {
            return Ok(Step::TooManyRestarts);
        };
        let kwargs = call.kwargs.iter().map(|(key, value)| (key.clone(), to_json(value)));
        let kwargs: serde_json::Map<_, _> = kwargs.collect();
        let args: Vec<_> = call.args.iter().map(to_json).collect();
        let order = json!({ "args": args, "kwargs": kwargs }).to_string();
        let frame = running.exchange(order.as_bytes(), REPLY_MAX)?;
        let mut test = empty(call, visible, Dialect::of(&self.bench.task.language));
        let message = match frame {
            Frame::Line(line) => match serde_json::from_slice::<Reply>(&line) {
                Ok(reply) => self.weigh(call, reply, &mut test),
                Err(_) => {
                    test.failed = Some(FailReason::Crashed);
                    test.summary = "sent something that is no reply".to_owned();
                    self.stop();
                    None
                }
            },
            Frame::TooLong => {
                test.failed = Some(FailReason::TooMuchOutput);
                test.summary = format!("returned more than {} MiB", REPLY_MAX >> 20);
                self.stop();
                None
            }
            Frame::Closed => match self.end()? {
                Some(outcome) => {
                    test.failed = Some(self.bench.reason(&outcome));
                    test.summary = self.bench.ended(&outcome);
                    test.usage = Some(usage(&outcome));
                    Some(format!("{}\n{}", test.summary, tail(&outcome)))
                }
                None => None,
            },
        };
        Ok(Step::Called(Called { test, message }))
    }

    /// Starts the process and loads the candidate's file. A judgement comes back when that fails.
    fn load(&mut self) -> Result<Option<Judgement>, JudgeError> {
        self.starts += 1;
        let bench = self.bench;
        let base = bench.job(&bench.recipe.call, bench.caps(), vec![&self.layer]);
        let job = Job { driver: Some(&self.driver), channel: true, ..base };
        let mut running = bench.sandbox.start(&job)?;
        let order = json!({ "file": self.settings.file, "name": self.settings.name });
        let frame = running.exchange(order.to_string().as_bytes(), REPLY_MAX)?;
        let reply = match &frame {
            Frame::Line(line) => serde_json::from_slice::<Reply>(line).ok(),
            _ => None,
        };
        if reply.as_ref().is_some_and(|reply| reply.loaded) {
            self.running = Some(running);
            return Ok(None);
        }
        if let Some(told) = reply.and_then(|reply| reply.failed) {
            let is_memory = bench.recipe.memory_errors.iter().any(|it| told.kinds.contains(it));
            let reason = if is_memory { FailReason::OutOfMemory } else { FailReason::DidNotBuild };
            return Ok(Some(nothing_run(bench.task, reason, Some(told.text()))));
        }
        if frame != Frame::Closed {
            running.stop();
        }
        let outcome = running.finish()?;
        let message = format!("while loading: {}\n{}", bench.ended(&outcome), tail(&outcome));
        Ok(Some(nothing_run(bench.task, bench.reason(&outcome), Some(message))))
    }

    /// Writes down what a call came to. What comes back is fit to be shown to the candidate.
    fn weigh(&self, call: &Call, reply: Reply, test: &mut TestOutcome) -> Option<String> {
        let read = |json| from_json(json).unwrap_or(Value::Opaque("malformed value".to_owned()));
        let text = reply.raised.as_ref().map(Told::text);
        let name = reply.raised.as_ref().map_or(String::new(), |told| told.kind().to_owned());
        let returned = match (reply.value, reply.raised) {
            (Some(value), None) => Returned::Value(read(value)),
            (_, Some(told)) => Returned::Raised { kinds: told.kinds, message: told.message },
            (None, None) => Returned::Value(Value::Opaque("nothing".to_owned())),
        };
        let args: Vec<Value> = reply.args.into_iter().map(read).collect();
        let dialect = Dialect::of(&self.bench.task.language);
        let written = |value: &Value| head_and_tail(&dialect.write(value), SHOWN_MAX);
        let mut differs = |what: &str, mismatch: Mismatch| {
            test.failed = Some(FailReason::WrongResult);
            test.summary = what.to_owned();
            // The place can name a key of what is expected: it belongs to the sealed part.
            let at = match mismatch.place.as_str() {
                "" => String::new(),
                place => format!("at {}: ", head_and_tail(place, KIND_MAX)),
            };
            test.expected = format!("{at}{}", written(&mismatch.expected));
            test.found = format!("{at}{}", written(&mismatch.found));
        };
        match call.judge(&returned, &args) {
            CallOutcome::Holds => None,
            CallOutcome::WrongValue(mismatch) => {
                differs("returned another value", mismatch);
                None
            }
            CallOutcome::WrongArguments(mismatch) => {
                differs("left other arguments behind", mismatch);
                None
            }
            CallOutcome::Raised { kind, .. } => {
                let is_memory = self.bench.recipe.memory_errors.contains(&kind);
                test.failed =
                    Some(if is_memory { FailReason::OutOfMemory } else { FailReason::Crashed });
                test.summary = format!("raised {name}");
                test.found = text.clone().unwrap_or_default();
                text
            }
            CallOutcome::DidNotRaise { expected, found } => {
                test.failed = Some(FailReason::WrongResult);
                test.summary = "returned a value where an error was expected".to_owned();
                test.expected = expected;
                test.found = written(&found);
                None
            }
        }
    }

    /// Waits for the process to end, after its channel closed, and says how it ended.
    fn end(&mut self) -> Result<Option<Outcome>, JudgeError> {
        self.running.take().map(Running::finish).transpose().map_err(JudgeError::from)
    }

    /// Ends a process that is no longer needed: how it ends says nothing.
    fn stop(&mut self) {
        self.running = None;
    }
}

fn tail(outcome: &Outcome) -> String {
    head_and_tail(&String::from_utf8_lossy(&outcome.stderr.bytes), SHOWN_MAX)
}
