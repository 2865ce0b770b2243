//! How much work a database may make.
//!
//! Pages can be made to refer to each other so that a small file never ends. So each piece of reading
//! ends when it goes on for longer than anything of that size could need.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use rusqlite::Connection;

/// Workload of the database's machine between two looks at how many there were.
const BETWEEN: u64 = 100_000;

/// Workload that any piece of reading may take.
const LEAST: u64 = 50_000_000;

/// Steps that each page adds: it holds at most some hundred rows, and a row takes some dozen steps.
const PER_PAGE: u64 = 200_000;

/// The steps that are left.
#[derive(Debug)]
pub struct Workload {
    left: Arc<AtomicU64>,
    most: u64,
}

impl Workload {
    /// Bounds what a database does from now on, by its size.
    pub fn bound(connection: &mut Connection) -> rusqlite::Result<Self> {
        let pages: i64 = connection.pragma_query_value(None, "page_count", |row| row.get(0))?;
        let most = LEAST + pages.max(0) as u64 * PER_PAGE;
        let left = Arc::new(AtomicU64::new(most));
        let seen = Arc::clone(&left);
        let count = move || seen.fetch_sub(BETWEEN, Ordering::Relaxed) <= BETWEEN;
        connection.progress_handler(BETWEEN as i32, Some(count))?;
        Ok(Self { left, most })
    }

    /// Begins a new piece of reading.
    pub fn refill(&self) {
        self.left.store(self.most, Ordering::Relaxed);
    }
}
