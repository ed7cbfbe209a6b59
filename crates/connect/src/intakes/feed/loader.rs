//! Reads the rows that tables have already on threads of their own, and hands them on in portions.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::Settings;

use super::FeedTable;
use super::rows::FeedRows;
use super::state::Load;

/// How long to wait for a server that does not answer.
const AGAIN: Duration = Duration::from_millis(500);

/// How many portions may wait.
const WAITING: usize = 2;

/// Some rows of a table, as they were at one place in the log.
pub(crate) struct Portion<D> {
    pub table: u32,
    pub rows: FeedRows,
    /// The rows enter the order once the log has been read to this place.
    pub mark: u64,
    /// Whether these are the last.
    pub done: bool,
    /// What the kind of log knows beside.
    pub detail: D,
}

/// Which rows of a portion are older than changes that have been read already.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Outdated<'c> {
    All,
    /// Those with these keys.
    Keys(HashSet<&'c [u8]>),
}

impl Outdated<'_> {
    pub(crate) fn contains(&self, key: &[u8]) -> bool {
        match self {
            Self::All => true,
            Self::Keys(keys) => keys.contains(key),
        }
    }
}

/// A table to read.
#[derive(Clone)]
pub(crate) struct LoadTask {
    pub table: u32,
    pub feed: FeedTable,
    pub settings: Settings,
    pub load: Load,
}

/// Reads a table, or a part of it. It is called again after a failure that passes.
pub(crate) type Job<D> = Box<dyn FnMut(&Sink<D>) -> Outcome<()> + Send>;

/// Where portions go.
pub(crate) struct Sink<D> {
    send: Sender<Outcome<Portion<D>>>,
    stop: Arc<AtomicBool>,
}

impl<D> Sink<D> {
    pub(crate) fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::SeqCst)
    }

    /// Hands a portion on, and waits until there is room for it; false where nobody wants it.
    pub(crate) fn give(&self, portion: Portion<D>) -> bool {
        self.send.send(Ok(portion)).is_ok()
    }

    /// Does a job until it is done; false where nobody wants more.
    fn insist(&self, mut job: Job<D>) -> bool {
        while !self.is_stopped() {
            match job(self) {
                Ok(()) => return true,
                Err(failure) if failure.passing => std::thread::sleep(AGAIN),
                Err(failure) => {
                    let _ = self.send.send(Err(failure));
                    return false;
                }
            }
        }
        false
    }
}

/// Threads that read tables. Dropping it ends them.
pub(crate) struct Loader<D> {
    portions: Receiver<Outcome<Portion<D>>>,
    more: Sender<Job<D>>,
    stop: Arc<AtomicBool>,
    threads: Vec<JoinHandle<()>>,
}

impl<D: Send + 'static> Loader<D> {
    /// Begins with jobs, several at once.
    pub(crate) fn start(jobs: Vec<Job<D>>, at_once: usize) -> Self {
        let (send, portions) = bounded(WAITING);
        let stop = Arc::new(AtomicBool::new(false));
        let (give, take) = unbounded::<Job<D>>();
        jobs.into_iter().for_each(|job| drop(give.send(job)));
        drop(give);
        // Rows that are read again do not wait for whole tables.
        let (more, asked) = unbounded::<Job<D>>();
        let worker = |jobs: Receiver<Job<D>>| {
            let sink = Sink { send: send.clone(), stop: Arc::clone(&stop) };
            sluice_core::threads::spawn("load", move || while jobs.recv().is_ok_and(|job| sink.insist(job)) {})
        };
        let mut threads: Vec<JoinHandle<()>> = (0..at_once).map(|_| worker(take.clone())).collect();
        threads.push(worker(asked));
        Self { portions, more, stop, threads }
    }

    /// Has something read beside.
    pub(crate) fn also(&self, job: Job<D>) {
        let _ = self.more.send(job);
    }

    /// The next portion, if one has been read.
    ///
    /// # Errors
    /// Where a table cannot be read.
    pub(crate) fn next(&self) -> Outcome<Option<Portion<D>>> {
        self.portions.try_recv().ok().transpose()
    }
}

impl<D> Drop for Loader<D> {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::SeqCst);
        self.more = unbounded().0;
        while self.threads.iter().any(|t| !t.is_finished()) {
            while self.portions.try_recv().is_ok() {}
            std::thread::sleep(Duration::from_millis(2));
        }
    }
}

/// How fast a table may be read.
pub(crate) struct Pace {
    since: Instant,
    /// Rows a second, at most about.
    rate: Option<u64>,
    rows: u64,
}

impl Pace {
    pub(crate) fn of(settings: &Settings) -> Self {
        let options = &settings.options;
        let rate = options.is_set("load_rate").then(|| options.integer("load_rate").max(1));
        Self { since: Instant::now(), rate, rows: 0 }
    }

    /// Waits, after so many more rows, until the next ones may be read.
    pub(crate) fn wait<D>(&mut self, rows: u64, sink: &Sink<D>) {
        self.rows += rows;
        let due = self.rate.map_or(Duration::ZERO, |rate| Duration::from_secs_f64(self.rows as f64 / rate as f64));
        while self.since.elapsed() < due && !sink.is_stopped() {
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

/// The failure of a table that was dropped before it was read.
pub(crate) fn dropped(table: &str) -> Failure {
    Failure::unreachable(format!("table {table} does not exist any more"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn portion(table: u32) -> Portion<()> {
        Portion { table, rows: FeedRows::default(), mark: 0, done: true, detail: () }
    }

    fn wait_for(loader: &Loader<()>) -> Outcome<u32> {
        loop {
            match loader.next() {
                Ok(Some(portion)) => return Ok(portion.table),
                Ok(None) => std::thread::sleep(Duration::from_millis(1)),
                Err(failure) => return Err(failure),
            }
        }
    }

    #[test]
    fn a_job_is_tried_again_after_a_failure_that_passes() {
        let mut tries = 0;
        let job: Job<()> = Box::new(move |sink| {
            tries += 1;
            if tries == 1 {
                return Err(Failure::away("it restarts"));
            }
            assert!(sink.give(portion(tries)));
            Ok(())
        });
        let loader = Loader::start(vec![job], 1);
        assert_eq!(wait_for(&loader).unwrap(), 2);
        loader.also(Box::new(|sink| {
            sink.give(portion(7));
            Ok(())
        }));
        assert_eq!(wait_for(&loader).unwrap(), 7);
    }

    #[test]
    fn a_failure_that_stays_is_handed_on() {
        let loader = Loader::start(vec![Box::new(|_: &Sink<()>| Err(dropped("office.permit"))) as Job<()>], 2);
        assert!(wait_for(&loader).unwrap_err().message.contains("office.permit"));
    }

    #[test]
    fn a_loader_that_is_dropped_ends_jobs_that_wait_for_room() {
        let job = || -> Job<()> {
            Box::new(|sink| {
                while sink.give(portion(1)) && !sink.is_stopped() {}
                Ok(())
            })
        };
        drop(Loader::start(vec![job(), job(), job()], 2));
    }
}
