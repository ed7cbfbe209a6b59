//! The model test of everything around the straight path: random sequences of runs, crashes at every step, rejects,
//! fixes, retries, replays in place and into other landings, lost and restored ledgers that are adopted, second
//! checkouts, renamed events, reordered arrivals and other numbers of lanes, with two landings of which one is away at
//! times. After each sequence every landing holds each event exactly once, and no reject stands.
//!
//! `SLUICE_EDGES` sets how many sequences run, `SLUICE_EDGES_SEED` the first seed: a sequence that failed is repeated
//! by its seed alone.

mod memory;
mod project;

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicI64, Ordering};

use self::project::{Project, Random};

/// How many fail points are still passed before a run breaks down; below 0 none does.
static FUSE: AtomicI64 = AtomicI64::new(-1);

/// What the thread of a broken run panics with.
const CRASH: &str = "a crash that the test wanted";

thread_local! {
    static QUIET: Cell<bool> = const { Cell::new(false) };
}

/// Runs something that crashes after passing so many fail points.
fn crashing<T>(fuse: Option<i64>, work: impl FnOnce() -> T) -> Option<T> {
    FUSE.store(fuse.unwrap_or(-1), Ordering::SeqCst);
    let done = catch_unwind(AssertUnwindSafe(work));
    FUSE.store(-1, Ordering::SeqCst);
    match done {
        Ok(done) => Some(done),
        Err(why) if why.downcast_ref::<&str>() == Some(&CRASH) => None,
        Err(why) => std::panic::resume_unwind(why),
    }
}

#[test]
fn every_order_of_reading_again_leaves_what_one_reading_leaves() {
    sluice_core::fail_points::on_reach(|_| {
        // Everything that follows a crash in the other threads of the run is a part of the same crash.
        let left = FUSE.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |n| (n > 0).then(|| n - 1));
        if left == Err(0) {
            std::panic::panic_any(CRASH);
        }
    });
    let before = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        if info.payload().downcast_ref::<&str>() != Some(&CRASH) {
            before(info);
        }
    }));
    let number = |name: &str| std::env::var(name).ok().and_then(|n| n.parse::<u64>().ok());
    match number("SLUICE_EDGES") {
        Some(count) => {
            let first = number("SLUICE_EDGES_SEED").unwrap_or(1);
            (first..first + count).for_each(sequence);
        }
        None => in_processes(SEQUENCES, number("SLUICE_EDGES_SEED").unwrap_or(1)),
    }
}

/// Sequences that run where nobody says how many.
const SEQUENCES: u64 = 1_500;

/// Runs sequences side by side. A crash is one of the whole process, so each share of them has its own.
fn in_processes(count: u64, first: u64) {
    let shares = std::thread::available_parallelism().map_or(2, |n| n.get() as u64);
    let share = count.div_ceil(shares);
    let start = |number: u64| {
        std::process::Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "edges::every_order_of_reading_again_leaves_what_one_reading_leaves", "--nocapture"])
            .env("SLUICE_EDGES", share.to_string())
            .env("SLUICE_EDGES_SEED", (first + number * share).to_string())
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap()
    };
    let running: Vec<_> = (0..shares).map(start).collect();
    for process in running {
        let output = process.wait_with_output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout);
        assert!(output.status.success() && text.contains("1 passed"), "{text}");
    }
}

/// One sequence; says what it did where it does not hold.
fn sequence(seed: u64) {
    let mut random = Random(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
    let mut project = Project::new(seed);
    let steps = 3 + random.below(9);
    for _ in 0..steps {
        let fuse = (random.below(3) == 0).then(|| i64::try_from(random.below(40)).unwrap());
        project.step(&mut random, fuse);
        project.check_no_doubles();
    }
    project.settle();
    project.check_whole();
}
