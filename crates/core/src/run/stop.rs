//! Asking a run to stop.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// Shared by who may stop a run and the run itself.
#[derive(Debug, Default)]
pub struct Stop {
    asked: Mutex<Asked>,
    /// Wakes who waits: a hundred pipelines at rest would otherwise look at it all the time.
    changed: Condvar,
}

#[derive(Clone, Copy, Debug, Default)]
struct Asked {
    settle: bool,
    abort: bool,
    /// The run itself wants to leave and be started again.
    pause: bool,
}

impl Stop {
    /// Nobody has asked yet.
    pub fn new() -> Self {
        Self::default()
    }

    fn asked(&self) -> MutexGuard<'_, Asked> {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn change(&self, change: impl FnOnce(&mut Asked)) {
        change(&mut self.asked());
        self.changed.notify_all();
    }

    /// Asks the run to settle the batch in hand and leave.
    pub fn settle(&self) {
        self.change(|asked| asked.settle = true);
    }

    /// Whether the run is to leave, to end or to start again.
    pub fn is_settling(&self) -> bool {
        let asked = self.asked();
        asked.settle || asked.pause
    }

    /// Whether somebody outside the run has asked.
    pub fn is_asked(&self) -> bool {
        self.asked().settle
    }

    /// Makes the run settle and leave, to be started again.
    pub fn pause(&self) {
        self.change(|asked| asked.pause = true);
    }

    /// Lets a run start again, also after one that failed.
    pub fn go_on(&self) {
        self.change(|asked| (asked.pause, asked.abort) = (false, false));
    }

    /// Makes every thread leave without finishing its batch, after a failure.
    pub(super) fn abort(&self) {
        self.change(|asked| asked.abort = true);
    }

    pub(super) fn is_aborting(&self) -> bool {
        self.asked().abort
    }

    /// Waits, but not beyond somebody's asking.
    pub fn wait(&self, duration: Duration) {
        let end = Instant::now() + duration;
        let mut asked = self.asked();
        while !(asked.settle || asked.pause || asked.abort) {
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return;
            }
            asked = self.changed.wait_timeout(asked, left).unwrap_or_else(PoisonError::into_inner).0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn who_waits_is_woken() {
        let stop = Stop::new();
        std::thread::scope(|scope| {
            let waiting = scope.spawn(|| stop.wait(Duration::from_secs(3600)));
            std::thread::sleep(Duration::from_millis(5));
            stop.settle();
            waiting.join().unwrap();
        });
        assert!(stop.is_asked() && stop.is_settling());
    }

    #[rstest]
    #[case(Stop::pause as fn(&Stop), true)]
    #[case(Stop::abort as fn(&Stop), false)]
    fn a_run_can_start_again(#[case] leave: fn(&Stop), #[case] settles: bool) {
        let stop = Stop::new();
        leave(&stop);
        assert_eq!(stop.is_settling(), settles);
        stop.wait(Duration::from_secs(3600));
        stop.go_on();
        assert!(!stop.is_settling() && !stop.is_aborting());
        stop.settle();
        stop.go_on();
        assert!(stop.is_asked(), "what somebody outside asked for stays");
    }
}
