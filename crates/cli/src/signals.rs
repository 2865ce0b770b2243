//! The signals by which a person stops a command.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::flag::{register, register_conditional_shutdown, register_usize};

/// Asks for an end at the first signal. The second ends the process, and with it, by the kernel, whatever
/// runs in a sandbox.
pub struct StopSignal {
    stop: Arc<AtomicBool>,
    by: Arc<AtomicUsize>,
}

impl StopSignal {
    /// Listens from now on.
    pub fn new() -> Self {
        let (stop, by) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
        for signal in [SIGINT, SIGTERM] {
            let number = signal as usize;
            // Without a handler a signal ends the process at once, which is safe as well.
            let code = ended_by(number).into();
            let _ = register_conditional_shutdown(signal, code, Arc::clone(&stop));
            let _ = register_usize(signal, Arc::clone(&by), number);
            let _ = register(signal, Arc::clone(&stop));
        }
        Self { stop, by }
    }

    /// Becomes true at the first signal, or when the command itself wants to end.
    pub fn flag(&self) -> &AtomicBool {
        &self.stop
    }

    /// The exit code of a process that the signal ends, as a shell has it; `None` when none came.
    pub fn exit_code(&self) -> Option<u8> {
        let by = self.by.load(Ordering::Relaxed);
        (by > 0).then(|| ended_by(by))
    }
}

fn ended_by(signal: usize) -> u8 {
    128 + signal as u8
}
