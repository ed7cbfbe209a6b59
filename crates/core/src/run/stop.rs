//! Asking a run to stop.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// Shared by who may stop a run and the run itself.
#[derive(Debug, Default)]
pub struct Stop {
    settle: AtomicBool,
    abort: AtomicBool,
    /// The run itself wants to leave and be started again.
    pause: AtomicBool,
}

impl Stop {
    /// Nobody has asked yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Asks the run to settle the batch in hand and leave.
    pub fn settle(&self) {
        self.settle.store(true, Ordering::SeqCst);
    }

    /// Whether somebody has asked.
    pub fn is_settling(&self) -> bool {
        self.is_asked() || self.pause.load(Ordering::SeqCst)
    }

    /// Whether somebody outside the run has asked.
    pub fn is_asked(&self) -> bool {
        self.settle.load(Ordering::SeqCst)
    }

    /// Makes the run settle and leave, to be started again.
    pub fn pause(&self) {
        self.pause.store(true, Ordering::SeqCst);
    }

    /// Lets a run start again.
    pub fn go_on(&self) {
        self.pause.store(false, Ordering::SeqCst);
    }

    /// Makes every thread leave without finishing its batch, after a failure.
    pub(super) fn abort(&self) {
        self.abort.store(true, Ordering::SeqCst);
    }

    pub(super) fn is_aborting(&self) -> bool {
        self.abort.load(Ordering::SeqCst)
    }

    /// Waits, but not beyond somebody's asking.
    pub fn wait(&self, duration: Duration) {
        const STEP: Duration = Duration::from_millis(20);
        let end = Instant::now() + duration;
        while !self.is_settling() && !self.is_aborting() {
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return;
            }
            std::thread::sleep(left.min(STEP));
        }
    }
}
