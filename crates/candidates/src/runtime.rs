//! The threads that all requests share: a request that is under way takes none of its own.

use std::io;
use std::sync::OnceLock;

use tokio::runtime::{Builder, Runtime};

/// The runtime of all requests and relays.
///
/// # Errors
/// When the system gives no threads.
pub fn runtime() -> io::Result<&'static Runtime> {
    static RUNTIME: OnceLock<io::Result<Runtime>> = OnceLock::new();
    let made = RUNTIME.get_or_init(|| {
        Builder::new_multi_thread()
            .worker_threads(2)
            .max_blocking_threads(1024)
            .thread_name("requests")
            .enable_all()
            .build()
    });
    made.as_ref().map_err(|error| io::Error::new(error.kind(), error.to_string()))
}
