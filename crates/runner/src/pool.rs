//! Threads that wait: for candidates, and for the sandbox.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;

/// Threads that do one thing after the other until the pool is dropped.
pub struct Pool<T> {
    queue: Sender<T>,
}

impl<T: Send> Pool<T> {
    /// Starts threads. What `work` comes to is sent to `results`; where it panics, what `panicked` says.
    pub fn start<'scope, R: Send + 'scope>(
        scope: &'scope thread::Scope<'scope, '_>,
        threads: usize,
        results: &Sender<R>,
        work: impl Fn(&T) -> R + Send + Clone + 'scope,
        panicked: impl Fn(&T) -> R + Send + Clone + 'scope,
    ) -> Self
    where
        T: 'scope,
    {
        let (queue, orders) = channel::<T>();
        let orders = Arc::new(Mutex::new(orders));
        for _ in 0..threads.max(1) {
            let (orders, results) = (Arc::clone(&orders), results.clone());
            let (work, panicked) = (work.clone(), panicked.clone());
            scope.spawn(move || serve(&orders, &results, &work, &panicked));
        }
        Self { queue }
    }

    /// Hands something to the next thread that is free.
    pub fn submit(&self, order: T) {
        // The threads outlive the pool, so somebody is there to take it.
        let _ = self.queue.send(order);
    }
}

fn serve<T, R>(
    orders: &Mutex<Receiver<T>>,
    results: &Sender<R>,
    work: &impl Fn(&T) -> R,
    panicked: &impl Fn(&T) -> R,
) {
    loop {
        let order = orders.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(order) = order else { return };
        // A trial must not hang the run, nor count against a candidate, for a fault of ours.
        let result = catch_unwind(AssertUnwindSafe(|| work(&order)));
        if results.send(result.unwrap_or_else(|_| panicked(&order))).is_err() {
            return;
        }
    }
}

/// What is noted when our own code panicked.
pub const PANIC: &str = "internal error: please report it, with the record";

/// Does `work` on every item, on `threads` threads, and hands each result to `done` as soon as it is there,
/// with the item's place; `None` where the work panicked. Ends early when `stop` becomes true, what is
/// under way being waited for, or when `done` fails.
pub fn work_through<T: Sync, R: Send, E>(
    items: &[T],
    threads: usize,
    stop: &AtomicBool,
    work: impl Fn(&T) -> R + Sync,
    mut done: impl FnMut(usize, Option<R>) -> Result<(), E>,
) -> Result<(), E> {
    let (results_in, results) = channel::<(usize, Option<Option<R>>)>();
    let given_up = AtomicBool::new(false);
    thread::scope(|scope| {
        let (work, given_up) = (&work, &given_up);
        let do_one = move |&place: &usize| {
            let is_over = stop.load(Ordering::Relaxed) || given_up.load(Ordering::Relaxed);
            (place, (!is_over).then(|| Some(work(&items[place]))))
        };
        let pool = Pool::start(scope, threads, &results_in, do_one, |&place| (place, Some(None)));
        drop(results_in);
        (0..items.len()).for_each(|place| pool.submit(place));
        drop(pool);
        for (place, result) in results {
            let Some(result) = result else { continue };
            if let Err(error) = done(place, result) {
                given_up.store(true, Ordering::Relaxed);
                return Err(error);
            }
        }
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    static RUNNING: AtomicBool = AtomicBool::new(false);

    #[test]
    fn every_item_is_done_and_a_panic_is_told_apart_from_a_result() {
        let mut sums = vec![None; 5];
        let work = |it: &u32| if *it == 3 { panic!("a fault of ours") } else { it * 2 };
        let done = |place: usize, result: Option<u32>| {
            sums[place] = Some(result);
            Ok::<(), ()>(())
        };
        work_through(&[1, 2, 3, 4, 5], 3, &RUNNING, work, done).unwrap();
        let expected = [Some(2), Some(4), None, Some(8), Some(10)];
        assert_eq!(sums, expected.map(Some));
    }

    #[test]
    fn it_ends_when_it_is_stopped_and_when_a_result_cannot_be_kept() {
        let stop = AtomicBool::new(false);
        let mut count = 0;
        let done = |_, _| {
            count += 1;
            stop.fetch_or(count == 2, Ordering::Relaxed);
            Ok::<(), ()>(())
        };
        // One thread, and a result is handed over before the next is begun only now and then.
        let slowly = |it: &u32| {
            thread::sleep(std::time::Duration::from_millis(20));
            *it
        };
        work_through(&[0; 100], 1, &stop, slowly, done).unwrap();
        assert!((2..10).contains(&count), "{count}");
        let full = work_through(&[0; 100], 1, &RUNNING, slowly, |_, _| Err("the disk is full"));
        assert_eq!(full, Err("the disk is full"));
    }
}
