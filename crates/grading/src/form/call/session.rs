//! The form `call`: arguments go in over a channel, values come back, and are compared out here.
//!
//! Visible examples are called in a process and a sandbox of their own, which no sealed call ever
//! reaches: what an answer says there may go back to its candidate.

use std::time::{Duration, Instant};

use super::sealed::{Call, CallOutcome, CallSettings, Reply};
use fairtrial_core::judgement::{Judgement, TestOutcome, Usage};
use fairtrial_core::language::Dialect;
use fairtrial_core::limits::wall_of;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::{Node, RelPath, Snapshot};
use fairtrial_core::value::Value;
use fairtrial_core::verdict::FailReason;
use fairtrial_sandbox::{Allowed, Archive, Frame, Job, Lap, Outcome, Running};
use serde_json::json;

use super::checker::Checker;
use super::frame::{DriverLine, KIND_MAX, RaisedError, StepReply};
use super::{prompt, shim};
use crate::build::{Built, build};
use crate::context::{JudgeContext, JudgeError, new_session, signal_name};
use crate::driver::CallDriver;
use crate::outcome::{TIMEOUTS_MAX, any_failed, nothing_run, resolve, usage, word};

/// Longest reply that is read, in bytes.
const REPLY_MAX: usize = 16 << 20;

/// Longest text kept of an input, an expectation or a value, in bytes.
const SHOWN_MAX: usize = 4 << 10;

/// How often a process that ended is started anew for the calls that are left.
const RESTARTS_MAX: usize = 3;

/// What an answer is judged by.
pub struct CallTests<'a> {
    pub settings: &'a CallSettings,
    pub checker: Option<&'a Checker<'a>>,
    pub sealed: &'a [Call],
    /// Examples, run only when something sealed failed.
    pub visible: &'a [Call],
}

/// Judges by calls.
pub fn judge(
    context: &JudgeContext<'_>,
    tests: &CallTests<'_>,
    files: &Snapshot,
) -> Result<Judgement, JudgeError> {
    let CallTests { settings, checker, sealed, visible } = *tests;
    let build_for = |calls: &[&Call]| build_for(context, settings, calls, files);
    let all: Vec<&Call> = sealed.iter().chain(visible).collect();
    let layer = match build_for(&all)? {
        Built::Ready(layer) => layer,
        Built::Failed(judgement) if context.definition.shim.is_none() => return Ok(judgement),
        // Around it stood the sealed calls: what may be reported is how it builds without them.
        Built::Failed(judgement) => {
            let raised = match build_for(&visible.iter().collect::<Vec<_>>())? {
                Built::Failed(raised) => {
                    raised.message.map(|it| it.replace(shim_file(context), "the calls"))
                }
                Built::Ready(_) => Some(format!(
                    "it builds, but the calls that are made do not fit `{}` as it is defined",
                    settings.name
                )),
            };
            return Ok(Judgement { message: raised, ..judgement });
        }
    };
    let driver = context.call_driver()?;
    let session = |session: u64| CallSession {
        context,
        settings,
        checker,
        driver: &driver,
        layer: &layer,
        session,
        running: None,
        asked: Vec::new(),
        used: Vec::new(),
        starts: 0,
    };
    let mut tests = match session(context.session).call_all(sealed, false)? {
        Called::All(tests) => tests,
        Called::DidNotLoad(judgement) => return Ok(judgement),
    };
    if any_failed(&tests) && !visible.is_empty() {
        tests.extend(match session(new_session()).call_all(visible, true)? {
            Called::All(tests) => tests,
            Called::DidNotLoad(_) => {
                let dialect = context.dialect();
                visible.iter().map(|it| not_run(it, true, dialect, FailReason::Crashed)).collect()
            }
        });
    }
    Ok(resolve(tests, None))
}

/// Builds what serves these calls.
pub fn build_for(
    context: &JudgeContext<'_>,
    settings: &CallSettings,
    calls: &[&Call],
    files: &Snapshot,
) -> Result<Built, JudgeError> {
    let mut files = files.clone();
    if let Some(shim) = &context.definition.shim
        && let Some(template) = context.shared.languages.file(context.definition, &shim.template)
        && let Ok(path) = RelPath::parse(&shim.file)
    {
        let text = shim::write(shim, template, settings, calls);
        let bytes = text.into_bytes().into();
        files.put(path, Node::File { bytes, executable: false });
    }
    build(context, &context.definition.call_build, &settings.file, &files)
}

/// The path of the shim, as it stands in what a compiler says.
fn shim_file<'a>(context: &JudgeContext<'a>) -> &'a str {
    context.definition.shim.as_ref().map_or("", |it| &it.file)
}

/// What came of a row of calls.
enum Called {
    All(Vec<TestOutcome>),
    /// Nothing was called, since the answer's file could not be loaded.
    DidNotLoad(Judgement),
}

fn empty(call: &Call, visible: bool, dialect: Dialect<'_>) -> TestOutcome {
    let input = head_and_tail(&prompt::input(call, dialect), SHOWN_MAX);
    TestOutcome { input, ..TestOutcome::passed(&call.name, visible, call.points) }
}

fn not_run(call: &Call, visible: bool, dialect: Dialect<'_>, reason: FailReason) -> TestOutcome {
    let summary = "not run".to_owned();
    TestOutcome { failed: Some(reason), summary, ..empty(call, visible, dialect) }
}

/// What came of trying a call.
enum Tried {
    Called(TestOutcome),
    DidNotLoad(Judgement),
    TooManyRestarts,
}

/// A call that the process was asked for.
struct CallTiming {
    /// Its place among all.
    number: usize,
    /// Time by the clock on the wall.
    wall: Duration,
    bytes_out: u64,
}

/// The candidate's process, started when it is needed.
struct CallSession<'a> {
    context: &'a JudgeContext<'a>,
    settings: &'a CallSettings,
    checker: Option<&'a Checker<'a>>,
    driver: &'a CallDriver,
    layer: &'a Archive,
    /// The runs that may follow each other in one network namespace.
    session: u64,
    running: Option<Running>,
    /// The calls that the process was asked for.
    asked: Vec<CallTiming>,
    /// What calls used, by their place.
    used: Vec<(usize, Usage)>,
    /// Starts that were not asked for by the task.
    starts: usize,
}

impl CallSession<'_> {
    fn call_all(mut self, calls: &[Call], visible: bool) -> Result<Called, JudgeError> {
        let dialect = self.context.dialect();
        let mut tests: Vec<TestOutcome> = Vec::new();
        for call in calls {
            let timeouts = |it: &&TestOutcome| it.failed == Some(FailReason::TimedOut);
            if tests.iter().filter(timeouts).count() >= TIMEOUTS_MAX {
                tests.push(not_run(call, visible, dialect, FailReason::TimedOut));
                continue;
            }
            match self.call(tests.len(), call, visible)? {
                Tried::Called(test) => tests.push(test),
                Tried::DidNotLoad(judgement) if tests.is_empty() => {
                    return Ok(Called::DidNotLoad(judgement));
                }
                Tried::DidNotLoad(_) | Tried::TooManyRestarts => {
                    tests.push(not_run(call, visible, dialect, FailReason::Crashed));
                }
            }
        }
        self.stop();
        for (number, usage) in self.used {
            if let Some(test) = tests.get_mut(number) {
                test.usage = Some(usage);
            }
        }
        Ok(Called::All(tests))
    }

    fn call(&mut self, number: usize, call: &Call, visible: bool) -> Result<Tried, JudgeError> {
        if self.settings.isolate && !self.context.definition.drivers.forks {
            // What this one does to its process is of no matter to the next.
            self.stop();
            self.starts = 0;
        }
        if self.running.is_none() {
            if self.starts > RESTARTS_MAX {
                return Ok(Tried::TooManyRestarts);
            }
            if let Some(judgement) = self.load()? {
                return Ok(Tried::DidNotLoad(judgement));
            }
        }
        let Some(running) = &mut self.running else {
            return Ok(Tried::TooManyRestarts);
        };
        let allowed = allowed(call.time.unwrap_or(self.context.limits.time));
        let order = call.order().to_string();
        let began = Instant::now();
        let frame = running.exchange(order.as_bytes(), REPLY_MAX, allowed)?;
        let wall = began.elapsed();
        let printed = running.printed().to_vec();
        self.asked.push(CallTiming { number, wall, bytes_out: running.lap_out() });
        let test = empty(call, visible, self.context.dialect());
        match frame {
            Frame::Line(line) => {
                let line = DriverLine::read(&line).unwrap_or_default();
                self.answered(call, line, &printed, test)
            }
            Frame::TooLong => {
                self.stop();
                let summary = format!("returned more than {} MiB", REPLY_MAX >> 20);
                Ok(failed(test, FailReason::TooMuchOutput, summary))
            }
            Frame::Closed => Ok(Tried::Called(self.ended_early(call, test)?)),
        }
    }

    /// Weighs a line that came back.
    fn answered(
        &mut self,
        call: &Call,
        line: DriverLine,
        printed: &[u8],
        mut test: TestOutcome,
    ) -> Result<Tried, JudgeError> {
        if let Some(raised) = line.failed {
            return Ok(Tried::DidNotLoad(self.did_not_load(&raised)));
        }
        match (line.steps, line.ended) {
            (Some(steps), _) => {
                self.compare(call, steps, printed, &mut test)?;
                Ok(Tried::Called(test))
            }
            (None, Some(status)) => {
                let summary = if status < 0 {
                    format!("ended by {}", signal_name(-status))
                } else {
                    format!("ended with status {status}")
                };
                Ok(failed(test, FailReason::Crashed, summary))
            }
            (None, None) => {
                self.stop();
                let summary = "sent something that is no reply".to_owned();
                Ok(failed(test, FailReason::Crashed, summary))
            }
        }
    }

    /// Writes down how a process ended that gave no answer.
    fn ended_early(&mut self, call: &Call, test: TestOutcome) -> Result<TestOutcome, JudgeError> {
        let Some(outcome) = self.end()? else {
            return Ok(test);
        };
        let time = call.time.unwrap_or(self.context.limits.time);
        Ok(TestOutcome {
            failed: Some(self.context.reason(&outcome)),
            summary: self.context.ended_within(&outcome, time),
            found: tail(&outcome),
            ..test
        })
    }

    /// Starts the process and loads the candidate's file. A judgement comes back when that fails.
    fn load(&mut self) -> Result<Option<Judgement>, JudgeError> {
        self.starts += 1;
        let context = self.context;
        let (call, file) = (&context.definition.call, &self.settings.file);
        let mut base = context.job(call, file, context.caps(), vec![self.layer]);
        if let Some(driver) = &self.driver.compiled {
            base.command = context.command_with(call, file, context.caps().memory, driver);
        }
        let session = self.session;
        let job = Job { driver: Some(&self.driver.files), channel: true, session, ..base };
        let mut running = context.sandbox().start(&job)?;
        let order = json!({
            "file": context.call_file(&self.settings.file),
            "name": self.settings.name,
            "packages": context.task.packages,
            "awaits": self.settings.awaits,
            "isolate": self.settings.isolate && self.context.definition.drivers.forks,
        });
        let allowed = allowed(context.limits.time);
        let frame = running.exchange(order.to_string().as_bytes(), REPLY_MAX, allowed)?;
        let line = match &frame {
            Frame::Line(line) => DriverLine::read(line),
            _ => None,
        };
        if line.as_ref().is_some_and(|line| line.loaded) {
            self.running = Some(running);
            return Ok(None);
        }
        if let Some(raised) = line.and_then(|line| line.failed) {
            return Ok(Some(self.did_not_load(&raised)));
        }
        if frame != Frame::Closed {
            running.stop();
        }
        let outcome = running.finish()?;
        let message = format!("while loading: {}\n{}", context.ended(&outcome), tail(&outcome));
        Ok(Some(nothing_run(context.sealed, context.reason(&outcome), Some(message))))
    }

    fn did_not_load(&self, raised: &RaisedError) -> Judgement {
        let memory = &self.context.definition.memory_errors;
        let is_memory = memory.iter().any(|it| raised.kinds.contains(it));
        let reason = if is_memory { FailReason::OutOfMemory } else { FailReason::DidNotBuild };
        nothing_run(self.context.sealed, reason, Some(raised.text()))
    }

    /// Writes down what a call came to.
    fn compare(
        &self,
        call: &Call,
        lines: Vec<StepReply>,
        printed: &[u8],
        test: &mut TestOutcome,
    ) -> Result<(), JudgeError> {
        let texts: Vec<_> =
            lines.iter().map(|it| it.raised.as_ref().map(RaisedError::text)).collect();
        let replies: Vec<Reply> = lines.into_iter().map(StepReply::reply).collect();
        let (step, outcome) = call.judge(&replies, printed);
        let text = texts.get(step).cloned().flatten();
        self.write_down(&outcome, text, test);
        if call.steps.len() > 1 && test.failed.is_some() {
            test.summary = format!("step {}: {}", step + 1, test.summary);
        }
        if let (None, Some(data), Some(checker)) = (test.failed, &call.check, self.checker) {
            checker.check(self.context, call, data, &replies, printed, test)?;
        }
        Ok(())
    }

    fn write_down(&self, outcome: &CallOutcome, text: Option<String>, test: &mut TestOutcome) {
        let dialect = self.context.dialect();
        let written = |value: &Value| head_and_tail(&dialect.write(value), SHOWN_MAX);
        let mut differs = |what: &str, place: &str, expected: String, found: String| {
            test.failed = Some(FailReason::WrongResult);
            test.summary = what.to_owned();
            // The place can name a key of what is expected: it belongs to the sealed part.
            let at = match place {
                "" => String::new(),
                place => format!("at {}: ", head_and_tail(place, KIND_MAX)),
            };
            test.expected = format!("{at}{expected}");
            test.found = format!("{at}{found}");
        };
        match outcome {
            CallOutcome::Holds => {}
            CallOutcome::WrongValue(it) => differs(
                "returned another value",
                &it.place,
                written(&it.expected),
                written(&it.found),
            ),
            CallOutcome::WrongArguments(it) => differs(
                "left other arguments behind",
                &it.place,
                written(&it.expected),
                written(&it.found),
            ),
            CallOutcome::WrongPrint(it) => differs(
                "printed something else",
                &it.place,
                head_and_tail(&it.expected, SHOWN_MAX),
                head_and_tail(&it.found, SHOWN_MAX),
            ),
            CallOutcome::Raised { kind, .. } => {
                let is_memory = self.context.definition.memory_errors.contains(kind);
                test.failed =
                    Some(if is_memory { FailReason::OutOfMemory } else { FailReason::Crashed });
                let kind = &kind[..kind.floor_char_boundary(KIND_MAX)];
                test.summary = format!("raised {kind}");
                test.found = text.unwrap_or_default();
            }
            CallOutcome::DidNotRaise { expected, found } => differs(
                "returned a value where an error was expected",
                "",
                expected.clone(),
                written(found),
            ),
            CallOutcome::StepsMissing => {
                differs("took fewer steps than asked", "", String::new(), String::new());
            }
        }
    }

    /// Waits for the process to end, after its channel closed, and says how it ended.
    fn end(&mut self) -> Result<Option<Outcome>, JudgeError> {
        let Some(outcome) = self.running.take().map(Running::finish).transpose()? else {
            return Ok(None);
        };
        let before: Duration = outcome.laps.iter().map(|lap| lap.cpu).sum();
        let last = self.asked.pop();
        self.note_laps(&outcome.laps);
        if let Some(CallTiming { number, wall, .. }) = last {
            let whole = usage(&outcome);
            let cpu_seconds = outcome.cpu.saturating_sub(before).as_secs_f64();
            let (wall_seconds, bytes_out) = (wall.as_secs_f64(), outcome.last_out());
            self.used.push((number, Usage { wall_seconds, cpu_seconds, bytes_out, ..whole }));
        }
        Ok(Some(outcome))
    }

    /// Ends a process that is no longer needed: how it ends says nothing.
    fn stop(&mut self) {
        let laps = self.running.as_mut().and_then(|it| it.laps().ok());
        self.note_laps(&laps.unwrap_or_default());
        self.running = None;
    }

    /// Takes note of what each call used. The laps before the first call are those of loading.
    fn note_laps(&mut self, laps: &[Lap]) {
        for (asked, lap) in self.asked.drain(..).zip(laps.iter().skip(2)) {
            let usage = Usage {
                wall_seconds: asked.wall.as_secs_f64(),
                cpu_seconds: lap.cpu.as_secs_f64(),
                peak_memory: lap.peak_memory,
                bytes_out: asked.bytes_out,
                started: None,
                denied: lap.denied.clone(),
                accounting: word(lap.accounting),
            };
            self.used.push((asked.number, usage));
        }
    }
}

/// A call that failed.
fn failed(test: TestOutcome, reason: FailReason, summary: String) -> Tried {
    Tried::Called(TestOutcome { failed: Some(reason), summary, ..test })
}

fn allowed(time: Duration) -> Allowed {
    Allowed { wall: wall_of(time), cpu: time }
}

fn tail(outcome: &Outcome) -> String {
    head_and_tail(&String::from_utf8_lossy(&outcome.stderr.bytes), SHOWN_MAX)
}
