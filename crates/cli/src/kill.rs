//! For tests: kills or stops this process at a named point of the commit path.
//!
//! `SLUICE_KILL_AT=POINT:N` kills with SIGKILL when the point is reached for the N-th time; `SLUICE_STOP_AT=POINT:N`
//! stops it there with SIGSTOP, until somebody lets it go on.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::process::Signal;

static TARGET: OnceLock<(String, u64, Signal)> = OnceLock::new();
static REACHED: AtomicU64 = AtomicU64::new(0);

/// Reads the variable and sets the handler.
pub(crate) fn arm() {
    let asked = |name: &str, signal| std::env::var(name).ok().map(|text| (text, signal));
    let Some((text, signal)) = asked("SLUICE_KILL_AT", Signal::KILL).or_else(|| asked("SLUICE_STOP_AT", Signal::STOP))
    else {
        return;
    };
    let (point, count) = text.split_once(':').unwrap_or((&text, "1"));
    let _ = TARGET.set((point.to_string(), count.parse().unwrap_or(1), signal));
    sluice_core::fail_points::on_reach(reached);
}

fn reached(point: &str) {
    let Some((target, count, signal)) = TARGET.get() else { return };
    if point == target && REACHED.fetch_add(1, Ordering::SeqCst) + 1 == *count {
        let _ = rustix::process::kill_process(rustix::process::getpid(), *signal);
    }
}
