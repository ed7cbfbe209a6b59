//! Reads no faster than its limits allow.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use crate::failure::Outcome;
use crate::kinds::{LaneReader, Read, ReadLimit};
use crate::throttle::Throttle;

/// The longest wait within a read: who asked has a batch to close, or others to read from.
const STEP: Duration = Duration::from_millis(20);

/// How long limits have held the readers of a lane back since somebody asked.
#[derive(Debug, Default)]
pub(super) struct Waited(AtomicU64);

impl Waited {
    fn add(&self, time: Duration) {
        self.0.fetch_add(u64::try_from(time.as_nanos()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    pub(super) fn take(&self) -> Duration {
        Duration::from_nanos(self.0.swap(0, Ordering::Relaxed))
    }
}

/// A reader under limits.
struct ThrottledReader {
    inner: Box<dyn LaneReader>,
    throttles: Vec<Arc<Throttle>>,
    waited: Arc<Waited>,
}

/// The reader under the limits, where there are any.
pub(super) fn limited(
    inner: Box<dyn LaneReader>,
    throttles: impl Iterator<Item = Arc<Throttle>>,
    waited: &Arc<Waited>,
) -> Box<dyn LaneReader> {
    let throttles: Vec<Arc<Throttle>> = throttles.collect();
    match throttles.is_empty() {
        true => inner,
        false => Box::new(ThrottledReader { inner, throttles, waited: Arc::clone(waited) }),
    }
}

impl LaneReader for ThrottledReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let now = Instant::now();
        let wait = self.throttles.iter().map(|throttle| throttle.wait(now)).max().unwrap_or_default();
        if !wait.is_zero() {
            std::thread::sleep(wait.min(STEP));
            self.waited.add(now.elapsed());
            return Ok(Read::Pending);
        }
        let (records, bytes) = self
            .throttles
            .iter()
            .fold((limit.records, limit.bytes), |(records, bytes), throttle| throttle.at_once(records, bytes));
        let read = self.inner.read(ReadLimit { records, bytes, ..limit })?;
        if let Read::Chunk(chunk) = &read {
            let now = Instant::now();
            let bytes = chunk.too_long.unwrap_or(chunk.bytes.len() as u64);
            self.throttles.iter().for_each(|throttle| throttle.take(chunk.records, bytes, now));
        }
        Ok(read)
    }

    fn confirm(&mut self) -> Outcome<bool> {
        self.inner.confirm()
    }

    fn ended(&mut self) {
        self.inner.ended();
    }

    fn unread(&mut self) -> Arc<[Arc<str>]> {
        self.inner.unread()
    }

    fn wait(&mut self, at_most: Duration) -> bool {
        self.inner.wait(at_most)
    }

    fn remarks(&self) -> Vec<String> {
        self.inner.remarks()
    }
}
