//! The threads that wait: for candidates, and for the sandbox.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use fairtrial_candidates::{Ask, AskOutcome, AskReply};
use fairtrial_core::answer::Submission;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_grading::{JudgeOptions, JudgedSubmission};

use crate::prepare::Preparation;

/// Something for a thread to do, for the trial in a slot.
pub enum Work {
    /// Ask a candidate.
    Ask { id: usize, candidate: String, ask: Ask },
    /// Judge an answer.
    Judge { id: usize, task: String, submission: Submission, cut_off: bool, examples: bool },
}

/// What came of it.
pub enum WorkDone {
    /// A candidate was asked.
    AskOutcome { id: usize, reply: AskReply },
    /// An answer was judged.
    Judged { id: usize, judged: Box<JudgedSubmission> },
}

/// Threads that carry out orders until the pool is dropped.
pub struct Pool {
    asks: Sender<Work>,
    judges: Sender<Work>,
}

impl Pool {
    /// Starts `asking` threads that wait for candidates and `judging` ones that wait for the
    /// sandbox. They end by themselves once the pool is gone.
    pub fn start<'scope>(
        scope: &'scope thread::Scope<'scope, '_>,
        preparation: &'scope Preparation,
        cancelled: &'scope AtomicBool,
        asking: usize,
        judging: usize,
        events: &Sender<WorkDone>,
    ) -> Self {
        let spawn = |count: usize| {
            let (orders, queue) = channel::<Work>();
            let queue = Arc::new(Mutex::new(queue));
            for _ in 0..count {
                let (queue, events) = (Arc::clone(&queue), events.clone());
                scope.spawn(move || work(&queue, &events, preparation, cancelled));
            }
            orders
        };
        Self { asks: spawn(asking), judges: spawn(judging) }
    }

    /// Hands an order to the next thread that is free.
    pub fn submit(&self, order: Work) {
        let to = match order {
            Work::Ask { .. } => &self.asks,
            Work::Judge { .. } => &self.judges,
        };
        // The threads outlive the pool, so somebody is there to take it.
        let _ = to.send(order);
    }
}

fn work(
    queue: &Mutex<Receiver<Work>>,
    events: &Sender<WorkDone>,
    preparation: &Preparation,
    cancelled: &AtomicBool,
) {
    loop {
        let order = queue.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let event = match order {
            Ok(Work::Ask { id, candidate, ask }) => {
                let Some(asker) = preparation.askers.get(&candidate) else {
                    continue;
                };
                let reply = caught(|| asker.ask(&ask, cancelled));
                WorkDone::AskOutcome {
                    id,
                    reply: reply.unwrap_or_else(|| AskReply {
                        outcome: AskOutcome::Void(VoidReason::ProviderError, PANIC.to_owned()),
                        requests: Vec::new(),
                    }),
                }
            }
            Ok(Work::Judge { id, task, submission, cut_off, examples }) => {
                let Some(entry) = preparation.tasks.get(&task) else {
                    continue;
                };
                let options = JudgeOptions {
                    limits: entry.limits,
                    reading: preparation.plan.reading,
                    cut_off,
                    examples,
                };
                let judge = &preparation.judge;
                let judged = caught(|| judge.judge_submission(&entry.task, &submission, options));
                let judged = judged.unwrap_or_else(panicked);
                WorkDone::Judged { id, judged: Box::new(judged) }
            }
            Err(_) => return,
        };
        if events.send(event).is_err() {
            return;
        }
    }
}

/// Does `work` on every item, on `threads` threads; gives the results in the order of the items. One whose
/// work panicked has none. `progress` hears how many are done.
pub(crate) fn in_parallel<T: Sync, R: Send>(
    items: &[T],
    threads: usize,
    progress: &(dyn Fn(usize, usize) + Sync),
    work: impl Fn(&T) -> R + Sync,
) -> Vec<Option<R>> {
    let (next, done) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let results = Mutex::new(items.iter().map(|_| None).collect::<Vec<Option<R>>>());
    let run = || {
        loop {
            let place = next.fetch_add(1, Ordering::Relaxed);
            let Some(item) = items.get(place) else { break };
            let result = caught(|| work(item));
            results.lock().unwrap_or_else(PoisonError::into_inner)[place] = result;
            progress(done.fetch_add(1, Ordering::Relaxed) + 1, items.len());
        }
    };
    thread::scope(|scope| {
        for _ in 0..threads.max(1) {
            scope.spawn(run);
        }
    });
    results.into_inner().unwrap_or_else(PoisonError::into_inner)
}

/// What is noted when our own code panicked.
const PANIC: &str = "internal error: please report it, with the record";

/// What judging came to that panicked.
fn panicked() -> JudgedSubmission {
    let bare = Judgement::bare(Verdict::Void(VoidReason::SandboxError));
    let judgement = Judgement { notes: vec![PANIC.to_owned()], ..bare };
    JudgedSubmission { judgement, deviations: Vec::new(), code: None, took: Duration::ZERO }
}

/// Runs a piece of work; `None` when it panicked. A trial must not hang the run, nor count against
/// a candidate, for a fault of ours.
fn caught<T>(work: impl FnOnce() -> T) -> Option<T> {
    catch_unwind(AssertUnwindSafe(work)).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_caught_and_told_apart_from_a_result() {
        assert_eq!(caught(|| 3), Some(3));
        assert_eq!(caught(|| -> u8 { panic!("a fault of ours") }), None);
    }
}
