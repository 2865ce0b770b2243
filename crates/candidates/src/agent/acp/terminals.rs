//! Commands that the agent has its client run.

use std::collections::HashMap;
use std::io::{self, Read as _};
use std::os::unix::process::{CommandExt as _, ExitStatusExt as _};
use std::path::Path;
use std::process::{Command, ExitStatus, Stdio};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use fairtrial_core::text::head_and_tail;
use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use serde_json::{Value as Json, json};

use super::rpc::{BAD_PARAMS, NOT_FOUND, RpcError};
use crate::ask::StepNote;

/// Bytes of output that are kept, unless less is asked for: the last ones.
const KEPT: usize = 1 << 20;

/// Longest output that a step has, in bytes.
const DETAIL_MAX: usize = 8 << 10;

/// Commands at one time; a command that was released is none of them.
const AT_ONCE: usize = 64;

/// How long is waited for what a command wrote last.
const LAST: Duration = Duration::from_millis(100);

/// The commands of an agent.
#[derive(Default)]
pub struct Terminals {
    last: u64,
    running: HashMap<String, Arc<Terminal>>,
}

/// One command.
pub struct Terminal {
    group: Pid,
    state: Mutex<TerminalState>,
    changed: Condvar,
}

#[derive(Default)]
struct TerminalState {
    output: Vec<u8>,
    is_cut: bool,
    /// Whether nobody writes any longer.
    is_whole: bool,
    ended: Option<ExitStatus>,
}

impl Terminals {
    /// Starts a command. `over` hears when it has ended.
    pub fn create(
        &mut self,
        params: &Json,
        over: impl FnOnce(StepNote) + Send + 'static,
    ) -> Result<Json, RpcError> {
        if self.running.len() >= AT_ONCE {
            return Err(RpcError::new(BAD_PARAMS, format!("more than {AT_ONCE} terminals")));
        }
        let words = |value: &Json| -> Vec<String> {
            let words = value.as_array().into_iter().flatten();
            words.filter_map(|it| it.as_str().map(str::to_owned)).collect()
        };
        let program = params["command"].as_str().unwrap_or_default();
        let args = words(&params["args"]);
        let subject = std::iter::once(program.to_owned()).chain(args.iter().cloned());
        let subject = subject.collect::<Vec<_>>().join(" ");
        // A whole command line comes in the place of a program from some agents.
        let is_line = args.is_empty() && program.contains(char::is_whitespace);
        let mut command = match is_line && !Path::new(program).exists() {
            true => Command::new("/bin/sh"),
            false => Command::new(program),
        };
        match command.get_program() == "/bin/sh" && is_line {
            true => command.args(["-c", program]),
            false => command.args(args),
        };
        if let Some(cwd) = params["cwd"].as_str() {
            command.current_dir(cwd);
        }
        for variable in params["env"].as_array().into_iter().flatten() {
            if let (Some(name), Some(value)) =
                (variable["name"].as_str(), variable["value"].as_str())
                && !name.is_empty()
                && !name.contains(['=', '\0'])
            {
                command.env(name, value);
            }
        }
        let kept = params["outputByteLimit"].as_u64().and_then(|it| usize::try_from(it).ok());
        let kept = kept.unwrap_or(KEPT).min(KEPT);
        let failed = |error: io::Error| RpcError::new(BAD_PARAMS, format!("`{program}`: {error}"));
        let (output, input) = io::pipe().map_err(failed)?;
        command.stdin(Stdio::null()).stdout(input.try_clone().map_err(failed)?).stderr(input);
        let child = command.process_group(0).spawn().map_err(failed)?;
        // It holds the writing ends of the pipe.
        drop(command);
        let terminal = Arc::new(Terminal {
            group: Pid::from_raw(child.id().cast_signed()),
            state: Mutex::default(),
            changed: Condvar::new(),
        });
        let (reading, waiting) = (Arc::clone(&terminal), Arc::clone(&terminal));
        std::thread::spawn(move || reading.read(output, kept));
        std::thread::spawn(move || waiting.wait(child, subject, over));
        self.last += 1;
        let id = format!("terminal-{}", self.last);
        self.running.insert(id.clone(), terminal);
        Ok(json!({ "terminalId": id }))
    }

    /// The command of that name.
    pub fn find(&self, params: &Json) -> Result<Arc<Terminal>, RpcError> {
        let id = params["terminalId"].as_str().unwrap_or_default();
        let found = self.running.get(id).map(Arc::clone);
        found.ok_or_else(|| RpcError::new(NOT_FOUND, format!("there is no terminal `{id}`")))
    }

    /// Ends a command and forgets it.
    pub fn release(&mut self, params: &Json) -> Result<(), RpcError> {
        self.find(params)?.kill();
        self.running.remove(params["terminalId"].as_str().unwrap_or_default());
        Ok(())
    }
}

impl Terminal {
    fn state(&self) -> MutexGuard<'_, TerminalState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn read(&self, mut output: io::PipeReader, kept: usize) {
        let mut chunk = [0; 8 << 10];
        while let Ok(count @ 1..) = output.read(&mut chunk) {
            let mut state = self.state();
            state.output.extend(&chunk[..count]);
            let beyond = state.output.len().saturating_sub(kept);
            if beyond > 0 {
                state.is_cut = true;
                state.output.drain(..beyond);
            }
        }
        self.state().is_whole = true;
        self.changed.notify_all();
    }

    fn wait(&self, mut child: std::process::Child, subject: String, over: impl FnOnce(StepNote)) {
        let began = Instant::now();
        let Ok(ended) = child.wait() else { return };
        // What it wrote last is on its way through the pipe; what it started may hold that open for long.
        let is_open = |state: &mut TerminalState| !state.is_whole;
        let waited = self.changed.wait_timeout_while(self.state(), LAST, is_open);
        let (state, _) = waited.unwrap_or_else(PoisonError::into_inner);
        let output = String::from_utf8_lossy(&state.output).into_owned();
        drop(state);
        let how = match (ended.code(), ended.signal()) {
            (Some(code), _) => format!("It ended with status {code}."),
            (None, signal) => format!("It ended by signal {}.", signal.unwrap_or_default()),
        };
        over(StepNote {
            kind: "run".to_owned(),
            subject,
            outcome: "done".to_owned(),
            detail: head_and_tail(&format!("{how}\n{output}"), DETAIL_MAX),
            took: began.elapsed(),
            files: None,
        });
        // The step stands before whatever the agent does next.
        self.state().ended = Some(ended);
        self.changed.notify_all();
    }

    /// Ends it, and what it started.
    pub fn kill(&self) {
        if self.state().ended.is_none() {
            let _ = killpg(self.group, Signal::SIGKILL);
        }
    }

    /// Waits until it has ended.
    pub fn ended(&self) -> Json {
        let mut state = self.state();
        loop {
            match state.ended {
                Some(ended) => return exit_status(ended),
                None => {
                    state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
                }
            }
        }
    }

    /// What it has written so far.
    pub fn output(&self) -> Json {
        let state = self.state();
        let mut shown = json!({
            "output": String::from_utf8_lossy(&state.output),
            "truncated": state.is_cut,
        });
        if let Some(ended) = state.ended {
            shown["exitStatus"] = exit_status(ended);
        }
        shown
    }
}

fn exit_status(ended: ExitStatus) -> Json {
    let signal = ended.signal().map(|it| match Signal::try_from(it) {
        Ok(signal) => signal.as_str().to_owned(),
        Err(_) => it.to_string(),
    });
    json!({ "exitCode": ended.code(), "signal": signal })
}
