//! For tests: kills this process at a named point of the commit path.
//!
//! `SLUICE_KILL_AT=POINT:N` kills with SIGKILL when the point is reached for the N-th time.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

static TARGET: OnceLock<(String, u64)> = OnceLock::new();
static REACHED: AtomicU64 = AtomicU64::new(0);

/// Reads the variable and sets the handler.
pub(crate) fn arm() {
    let Ok(text) = std::env::var("SLUICE_KILL_AT") else { return };
    let (point, count) = text.split_once(':').unwrap_or((&text, "1"));
    let _ = TARGET.set((point.to_string(), count.parse().unwrap_or(1)));
    sluice_core::fail_points::on_reach(reached);
}

fn reached(point: &str) {
    let Some((target, count)) = TARGET.get() else { return };
    if point == target && REACHED.fetch_add(1, Ordering::SeqCst) + 1 == *count {
        let _ = rustix::process::kill_process(rustix::process::getpid(), rustix::process::Signal::KILL);
    }
}
