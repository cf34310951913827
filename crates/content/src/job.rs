//! Progress and stopping, as things handed in: a library has no terminal.

use crate::{Error, Result};
use std::sync::atomic::{AtomicBool, Ordering};

/// Something that happened during long work.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Event<'a> {
    /// A step of the work began.
    StepStarted {
        /// What the step does, as a short phrase.
        step: &'a str,
        /// Bytes it will move, when known.
        total_bytes: Option<u64>,
    },
    /// This many more bytes of the current step are done.
    BytesDone(u64),
    /// What one of several things that the current step does at once has come to.
    Reached {
        /// Which, in a word.
        of: &'a str,
        /// How far, in a few words.
        text: &'a str,
    },
    /// The current step is over.
    StepFinished,
}

/// Receives events; implemented by whoever shows progress.
pub trait Observer: Sync {
    /// Called often, so it must be quick.
    fn event(&self, event: Event<'_>);
}

/// An observer that looks away.
#[derive(Clone, Copy, Debug, Default)]
pub struct Silent;

impl Observer for Silent {
    fn event(&self, _event: Event<'_>) {}
}

/// Handed to everything that takes time: where to report, and whether to stop.
#[derive(Clone, Copy)]
pub struct Job<'a> {
    observer: &'a dyn Observer,
    stop: &'a AtomicBool,
}

static NEVER: AtomicBool = AtomicBool::new(false);

impl<'a> Job<'a> {
    /// A job that reports to `observer` and ends with [`Error::Cancelled`] once `stop` is true.
    pub const fn new(observer: &'a dyn Observer, stop: &'a AtomicBool) -> Self {
        Self { observer, stop }
    }

    /// A job that reports to nobody and cannot be stopped.
    pub const fn silent() -> Job<'static> {
        Job { observer: &Silent, stop: &NEVER }
    }

    /// Reports an event.
    pub fn event(&self, event: Event<'_>) {
        self.observer.event(event);
    }

    /// Fails once a stop has been asked for.
    ///
    /// # Errors
    /// `Cancelled`, and nothing else.
    pub fn check(&self) -> Result<()> {
        if self.stop.load(Ordering::Relaxed) { Err(Error::Cancelled) } else { Ok(()) }
    }
}
