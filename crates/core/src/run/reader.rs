//! The first thread of a lane: reads, and decides where batches begin and end.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use crossbeam_channel::{RecvTimeoutError, Sender, bounded};

use super::busy::{Work, measured};
use super::throttled::Waited;
use super::{RunEvent, Shared};
use crate::batch::BatchIdentity;
use crate::event::Chunk;
use crate::fail_points::reach;
use crate::failure::Outcome;
use crate::kinds::{BatchOrder, LaneReader, Read, ReadLimit};
use crate::ledger::TakenLane;
use crate::plan::BatchLimits;
use crate::state::Unread;

/// Bytes that are read and decoded at a time.
const CHUNK: u64 = 2 << 20;

/// How long to wait before looking for new events.
const PAUSE: Duration = Duration::from_millis(100);

/// The same where none has come for a while: many pipelines at rest would otherwise keep a machine busy.
const LONG_PAUSE: Duration = Duration::from_millis(500);

/// The pause after so long without events.
fn pause_after(quiet: Duration) -> Duration {
    (quiet / 20).clamp(PAUSE, LONG_PAUSE)
}

/// How long a run that was asked to settle waits for the rest of a transaction.
const PATIENCE: Duration = Duration::from_secs(10);

/// What is handed on, numbered in order over all workers.
pub(super) enum Task {
    /// A batch begins.
    Open(BatchIdentity, BatchOrder, i64),
    /// Records of the batch.
    Chunk(Chunk, Unread),
    /// Whether a batch without events would close something.
    Ask(Question),
    /// The batch is read.
    End {
        /// Whether all there is has been read, and the run ends with it.
        caught_up: bool,
    },
}

/// Asks the stager, which knows what the stations of the lane remember.
pub(super) struct Question {
    /// Whether the run ends when all there is has been read.
    pub caught_up: bool,
    /// What is left to read.
    pub unread: Unread,
    /// Where the answer goes.
    pub answer: Sender<bool>,
}

/// How often is asked whether windows close that nothing more comes for.
const ASKING: Duration = Duration::from_secs(1);

struct OpenBatch {
    since: Instant,
    opened_at: i64,
    records: u64,
    bytes: u64,
    /// Records and bytes of the source's transaction within which the batch stands; None between two.
    within: Option<(u64, u64)>,
}

pub(super) struct Reader<'a> {
    shared: &'a Shared<'a>,
    taken: TakenLane,
    source: Box<dyn LaneReader>,
    tasks: Sender<(u64, i64, Task)>,
    sequence: u64,
    batch: Option<OpenBatch>,
    /// When the run was asked to settle.
    settling: Option<Instant>,
    /// Whether the batch is to end as soon as its source confirms it.
    is_ending: bool,
    /// Whether stations of the lane remember: when they were asked last whether something closes.
    asked: Option<Instant>,
    /// Whether the batch that is ending is the last one, since all there is has been read.
    is_last: bool,
    /// How long limits have held reading back.
    waited: Arc<Waited>,
    /// Since when no event has come.
    quiet_since: Option<Instant>,
}

impl OpenBatch {
    /// Whether it should end, as soon as it may.
    fn is_due(&self, limits: &BatchLimits) -> bool {
        self.records >= limits.rows || self.bytes >= limits.bytes || self.since.elapsed() >= limits.every
    }
}

/// Records and bytes so far of the transaction within which a chunk ends; None where it ends between two.
fn open_transaction(chunk: &Chunk, before: Option<(u64, u64)>) -> Option<(u64, u64)> {
    let changes = chunk.changes.as_ref().filter(|c| c.within)?;
    let Some(last) = changes.each.last() else { return Some(before.unwrap_or_default()) };
    let own = changes.each.iter().rev().take_while(|c| c.position.major == last.position.major);
    let (count, start) = own.fold((0_usize, 0), |(count, _), c| (count + 1, c.span.start));
    let bytes = (chunk.bytes.len() as u64).saturating_sub(start.into());
    // A chunk that holds nothing else goes on with the transaction of the one before.
    let earlier = before.filter(|_| count == changes.each.len()).unwrap_or_default();
    Some((earlier.0 + count as u64, earlier.1 + bytes))
}

/// What may still come; a batch that is full and waits for the end of a transaction takes as much again.
fn left(limit: u64, used: u64) -> u64 {
    match limit.saturating_sub(used) {
        0 => limit.max(1),
        left => left,
    }
}

/// Whether the lane goes on.
enum AfterRead {
    GoOn,
    Leave,
}

impl<'a> Reader<'a> {
    pub(super) fn new(
        shared: &'a Shared<'a>,
        taken: TakenLane,
        source: Box<dyn LaneReader>,
        tasks: Sender<(u64, i64, Task)>,
        (remembers, waited): (bool, Arc<Waited>),
    ) -> Self {
        let asked = remembers.then(Instant::now);
        Self {
            shared,
            taken,
            source,
            tasks,
            sequence: 0,
            batch: None,
            settling: None,
            is_ending: false,
            asked,
            is_last: false,
            waited,
            quiet_since: None,
        }
    }

    pub(super) fn run(mut self) {
        loop {
            match self.step() {
                Ok(AfterRead::GoOn) => {}
                Ok(AfterRead::Leave) => return,
                Err(failure) => return self.shared.fail(failure),
            }
        }
    }

    fn step(&mut self) -> Outcome<AfterRead> {
        let shared = self.shared;
        if shared.stop.is_aborting() {
            return Ok(AfterRead::Leave);
        }
        if shared.stop.is_settling() && !self.waits_for_transaction() {
            shared.report().caught_up = false;
            return self.end_and_leave();
        }
        if self.is_ending && !self.end_batch()? {
            return Ok(AfterRead::GoOn);
        }
        if self.batch.is_none() && shared.tickets.load(Ordering::SeqCst) == 0 {
            shared.report().caught_up = false;
            return Ok(AfterRead::Leave);
        }
        let limits = shared.plan.batch;
        let (records, bytes) = self.batch.as_ref().map_or((0, 0), |b| (b.records, b.bytes));
        let limit = ReadLimit {
            records: left(limits.rows, records),
            bytes: CHUNK.min(left(limits.bytes, bytes)),
            ends: self.batch.as_ref().is_some_and(|b| b.within.is_some() && b.is_due(&limits)),
        };
        let started = Instant::now();
        let read = self.source.read(limit)?;
        self.tell(&read, started.elapsed());
        match read {
            Read::Chunk(chunk) => {
                if self.batch.is_none() && !self.open_batch()? {
                    shared.report().caught_up = false;
                    return Ok(AfterRead::Leave);
                }
                return self.chunk(chunk);
            }
            Read::CaughtUp if shared.until.caught_up => {
                self.open_for_closing(true)?;
                if !self.end_batch_as(true)? {
                    return Ok(AfterRead::GoOn);
                }
                let remarks = self.source.remarks();
                shared.report().remarks.extend(remarks);
                return Ok(AfterRead::Leave);
            }
            // What can be read by somebody who waits is waited for; nothing else changes by itself.
            Read::Stuck(failure) if failure.passing && !shared.until.caught_up => {
                shared.observer.on(self.away(failure.message));
                shared.stop.wait(PAUSE);
            }
            Read::Halt(failure) | Read::Stuck(failure) => {
                match failure.renews {
                    true => shared.stop.pause(),
                    false => shared.stop.settle(),
                }
                {
                    let mut report = shared.report();
                    report.caught_up = false;
                    report.limit.get_or_insert(failure);
                }
                return self.end_and_leave();
            }
            // The reader has waited itself.
            Read::Pending => {}
            Read::Away(what) => {
                shared.observer.on(self.away(what));
                shared.stop.wait(PAUSE);
            }
            Read::CaughtUp => {
                shared.observer.on(RunEvent::CaughtUp(self.taken.lane.clone()));
                let left = self.batch.as_ref().map(|b| limits.every.saturating_sub(b.since.elapsed()));
                let pause = left.map_or(PAUSE, |left| left.min(PAUSE));
                if !self.source.wait(pause) {
                    let quiet = self.quiet_since.get_or_insert_with(Instant::now).elapsed();
                    shared.stop.wait(left.unwrap_or(Duration::MAX).min(pause_after(quiet)));
                }
                if self.asked.is_some_and(|at| at.elapsed() >= ASKING) {
                    self.asked = Some(Instant::now());
                    self.open_for_closing(false)?;
                }
            }
        }
        self.end_if_full()?;
        Ok(AfterRead::GoOn)
    }

    /// Tells what reading took: where there is nothing to read, nobody waits for it.
    fn tell(&self, read: &Read, time: Duration) {
        let limited = self.waited.take();
        if !limited.is_zero() {
            self.shared.observer.busy(&self.taken.lane, Work::Limited, limited);
        }
        if !matches!(read, Read::CaughtUp) {
            self.shared.observer.busy(&self.taken.lane, Work::Reading, time.saturating_sub(limited));
        }
    }

    fn away(&self, message: String) -> RunEvent {
        RunEvent::SourceAway { lane: self.taken.lane.clone(), message }
    }

    /// Whether a batch that should end stands within a transaction of its source that is still coming.
    fn waits_for_transaction(&mut self) -> bool {
        let since = *self.settling.get_or_insert_with(Instant::now);
        self.batch.as_ref().is_some_and(|b| b.within.is_some()) && since.elapsed() < PATIENCE
    }

    /// Opens the next batch; false where as many as were asked for have been opened.
    fn open_batch(&mut self) -> Outcome<bool> {
        let take = |left: u64| left.checked_sub(1);
        if self.shared.tickets.fetch_update(Ordering::SeqCst, Ordering::SeqCst, take).is_err() {
            return Ok(false);
        }
        let identity = BatchIdentity {
            ledger: self.shared.ledger.id().to_string(),
            pipeline: self.shared.plan.pipeline.clone(),
            lane: self.taken.lane.clone(),
            number: self.taken.next,
        };
        self.taken.next += 1;
        let opened_at = chrono::Utc::now().timestamp_micros();
        let own = self.shared.ledger.open_batch(&identity, opened_at)?;
        reach("open.recorded");
        self.batch = Some(OpenBatch { since: Instant::now(), opened_at, records: 0, bytes: 0, within: None });
        self.send(Task::Open(identity, BatchOrder { own, first: None }, opened_at));
        Ok(true)
    }

    fn chunk(&mut self, chunk: Chunk) -> Outcome<AfterRead> {
        let (records, bytes) = (chunk.records, chunk.too_long.unwrap_or(chunk.bytes.len() as u64));
        self.quiet_since = None;
        if let Some(batch) = &mut self.batch {
            batch.records += records;
            batch.bytes += bytes;
            batch.within = open_transaction(&chunk, batch.within);
        }
        self.shared.observer.on(RunEvent::Read { lane: self.taken.lane.clone(), records, bytes });
        let unread = self.unread();
        if !self.send(Task::Chunk(chunk, unread)) {
            return Ok(AfterRead::Leave);
        }
        self.end_if_full()?;
        Ok(AfterRead::GoOn)
    }

    fn end_if_full(&mut self) -> Outcome<()> {
        let limits = self.shared.plan.batch;
        let is_full = |b: &OpenBatch| {
            match b.within {
                None => b.is_due(&limits),
                // What belongs together stays together, unless it alone is too much for a batch.
                Some((records, bytes)) => limits.may_split && (records >= limits.rows || bytes >= limits.bytes),
            }
        };
        if self.batch.as_ref().is_some_and(is_full) {
            self.end_batch()?;
        }
        Ok(())
    }

    /// What is left to read, where somebody wants to know.
    fn unread(&mut self) -> Unread {
        match self.asked {
            Some(_) => Unread { partitions: self.source.unread(), at: chrono::Utc::now().timestamp_micros() },
            None => Unread::default(),
        }
    }

    /// Opens a batch where windows close although no event comes; it ends like any other.
    fn open_for_closing(&mut self, caught_up: bool) -> Outcome<()> {
        if self.batch.is_some() || self.asked.is_none() {
            return Ok(());
        }
        let (answer, answered) = bounded(1);
        let unread = self.unread();
        if !self.send(Task::Ask(Question { caught_up, unread, answer })) {
            return Ok(());
        }
        // Whoever was to answer may have left with a failure.
        while !self.shared.stop.is_aborting() {
            match answered.recv_timeout(PAUSE) {
                Ok(true) => {
                    self.open_batch()?;
                    break;
                }
                Ok(false) | Err(RecvTimeoutError::Disconnected) => break,
                Err(RecvTimeoutError::Timeout) => {}
            }
        }
        Ok(())
    }

    /// Ends the batch, once its source has confirmed what was read; false where it does not answer now.
    fn end_batch(&mut self) -> Outcome<bool> {
        self.end_batch_as(false)
    }

    /// As [`Self::end_batch`], with whether all there is has been read, and the run ends with it.
    fn end_batch_as(&mut self, caught_up: bool) -> Outcome<bool> {
        if self.batch.is_none() {
            return Ok(true);
        }
        self.is_ending = true;
        self.is_last |= caught_up;
        let lane = self.taken.lane.clone();
        if !measured(self.shared.observer, &lane, Work::Reading, || self.source.confirm())? {
            let what =
                format!("{} does not answer: the events read so far cannot be verified", self.taken.lane.arrival());
            self.shared.observer.on(self.away(what));
            self.shared.stop.wait(PAUSE);
            return Ok(false);
        }
        self.source.ended();
        self.send(Task::End { caught_up: self.is_last });
        self.batch = None;
        self.is_last = false;
        self.is_ending = false;
        Ok(true)
    }

    /// Ends the batch and leaves. What cannot be confirmed for a while is left open: it is read again by the next run.
    fn end_and_leave(&mut self) -> Outcome<AfterRead> {
        let since = Instant::now();
        while !self.end_batch()? && since.elapsed() < PATIENCE && !self.shared.stop.is_aborting() {}
        Ok(AfterRead::Leave)
    }

    /// Hands a task on; false where nobody takes it any more.
    fn send(&mut self, task: Task) -> bool {
        let now = self.batch.as_ref().map_or(0, |b| b.opened_at);
        let sent = self.tasks.send((self.sequence, now, task)).is_ok();
        self.sequence += 1;
        sent
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, 100)]
    #[case(2_000, 100)]
    #[case(6_000, 300)]
    #[case(10_000, 500)]
    #[case(86_400_000, 500)]
    fn pauses_grow_while_nothing_comes(#[case] quiet: u64, #[case] expected: u64) {
        assert_eq!(pause_after(Duration::from_millis(quiet)), Duration::from_millis(expected));
    }
}
