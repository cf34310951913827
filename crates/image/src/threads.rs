//! How many threads work, and what their failure is.

use neat_content::Error;

/// A number of threads: `wanted`, or as many as there are cores for 0.
pub fn thread_count(wanted: usize) -> usize {
    if wanted > 0 { wanted } else { std::thread::available_parallelism().map_or(1, std::num::NonZero::get) }
}

pub(crate) fn thread_failed() -> Error {
    Error::internal("a thread failed")
}
