//! Reads again what had been read: whole batches into the same landings or into another one, or single events that
//! were rejected. Live progress is not touched: what is read again has lanes of its own and moves no position.

use super::committer::wait;
use super::gather::Gathering;
use super::recover::finish_aside;
use super::{Landings, Observer, Processor, RunEvent, Stop, open_landings};
use crate::batch::{BatchIdentity, LaneId, Ranges, Staged, Stead};
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::kinds::{Intake, LaneReader, Read, ReadLimit, StagedWork};
use crate::ledger::{BatchQuery, BatchRecord, BatchState, Ledger};
use crate::plan::{ArrivalPlan, Plan, Surroundings};

/// Bytes that are read at a time.
const CHUNK: u64 = 2 << 20;

/// What a process holds while it reads a pipeline's events again; the pipeline itself may run.
pub fn replay_hold(pipeline: &str) -> String {
    format!("{pipeline}~replay")
}

/// One batch to make: what to read, and whose place it takes.
#[derive(Clone, Debug, PartialEq)]
pub struct Portion {
    /// The lane that read it first.
    pub lane: LaneId,
    /// What to read.
    pub ranges: Ranges,
    /// The moment that `now()` stands for, in microseconds since 1970.
    pub now: i64,
    /// How many events are due; None where that is not known.
    pub due: Option<u64>,
    /// Whose place it takes; None where it lands beside.
    pub stead: Option<Stead>,
    /// The landings to write, by their places in the plan; None for those of the whole work.
    pub into: Option<Vec<usize>>,
}

impl Portion {
    /// A batch that is read again. Where it lands in its own place, that of its last reading is taken.
    pub fn of_batch(batch: &BatchRecord, all: &[BatchRecord], in_place: bool) -> Self {
        Self {
            lane: batch.lane.clone(),
            ranges: batch.ranges.clone(),
            now: batch.opened_at,
            due: Some(batch.read),
            stead: in_place
                .then(|| Stead { first: (batch.lane.clone(), batch.number), last: last_reading(batch, all) }),
            into: None,
        }
    }
}

/// The batch whose work stands in the store for a batch: itself, or the last that took its place.
fn last_reading(batch: &BatchRecord, all: &[BatchRecord]) -> (LaneId, u64) {
    let mut last = (batch.lane.clone(), batch.number);
    let by = |name: &(LaneId, u64)| {
        all.iter().find(|b| b.lane == name.0 && b.number == name.1).and_then(|b| b.replaced_by.clone())
    };
    while let Some(next) = by(&last) {
        last = next;
    }
    last
}

/// What was done.
#[derive(Clone, Debug, Default)]
pub struct ReplayReport {
    /// Its number in the ledger.
    pub number: u64,
    /// Batches settled.
    pub batches: u64,
    /// Events read.
    pub read: u64,
    /// Rows landed, rejects not counted.
    pub landed: u64,
    /// Events rejected.
    pub rejected: u64,
    /// Whether somebody stopped it before its end.
    pub stopped: bool,
}

/// What is asked for.
pub struct Work<'a> {
    /// The batches to make, in order.
    pub portions: &'a [Portion],
    /// The landings to write, by their places in the plan.
    pub into: &'a [usize],
    /// What it is, in words, for the ledger.
    pub what: &'a str,
    /// Why, for the ledger.
    pub reason: &'a str,
}

/// Reads portions again. The caller holds [`replay_hold`].
///
/// # Errors
/// Where a source, a store or the ledger fails, or a source does not hold any more what had been read. What was sealed
/// by then is finished by the next run or replay.
pub fn replay(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    work: &Work<'_>,
    stop: &Stop,
    observer: &dyn Observer,
) -> Outcome<ReplayReport> {
    let landings = open_landings(plan, around)?;
    finish_aside(plan, around, ledger, observer, stop)?;
    clear(plan, ledger, &landings)?;
    let number = ledger.begin_replay(&plan.pipeline, work.what, work.reason)?;
    reach("replay.begun");
    let mut report = ReplayReport { number, ..ReplayReport::default() };
    for arrival in &plan.arrivals {
        let portions: Vec<&Portion> = work.portions.iter().filter(|p| p.lane.arrival() == arrival.label).collect();
        if portions.is_empty() {
            continue;
        }
        let intake = arrival.open(around)?;
        let reach_of: Vec<usize> = arrival.events().flat_map(|e| plan.landings_of(e)).collect();
        let into: Vec<usize> = work.into.iter().copied().filter(|l| reach_of.contains(l)).collect();
        let once = Again { plan, ledger, landings: &landings, arrival, into, stop, observer };
        for portion in portions {
            if stop.is_settling() {
                report.stopped = true;
                return Ok(report);
            }
            once.portion(portion, intake.as_ref(), &mut report)?;
        }
    }
    ledger.end_replay(&plan.pipeline, number)?;
    Ok(report)
}

/// Removes what replays that were broken off had staged and never sealed.
fn clear(plan: &Plan, ledger: &dyn Ledger, landings: &Landings) -> Outcome<()> {
    for broken in ledger.replays(&plan.pipeline)?.iter().filter(|r| r.ended_at.is_none()) {
        for lane in ledger.lanes(&plan.pipeline)? {
            let lane = lane.aside(broken.number);
            ledger.take_lane(&plan.pipeline, &lane)?;
            for landing in landings.values() {
                landing.discard(&lane, &[])?;
            }
        }
    }
    Ok(())
}

struct Again<'a> {
    plan: &'a Plan,
    ledger: &'a dyn Ledger,
    landings: &'a Landings,
    arrival: &'a ArrivalPlan,
    into: Vec<usize>,
    stop: &'a Stop,
    observer: &'a dyn Observer,
}

impl Again<'_> {
    fn portion(&self, portion: &Portion, intake: &dyn Intake, report: &mut ReplayReport) -> Outcome<()> {
        let lane = portion.lane.aside(report.number);
        let hold = self.ledger.take_lane(&self.plan.pipeline, &lane)?;
        for landing in self.landings.values() {
            landing.discard(&lane, &[])?;
        }
        let identity = self.identity(&(lane, hold.next));
        let opened_at = chrono::Utc::now().timestamp_micros();
        self.ledger.open_batch(&identity, opened_at)?;
        reach("open.recorded");
        let into = portion.into.as_deref().unwrap_or(&self.into);
        let mut batch = Gathering::open(self.plan, self.landings, into, identity, opened_at, false)?;
        batch.set_ranges(portion.ranges.clone());
        self.read(portion, intake.ranges(&portion.ranges)?.as_mut(), &mut batch)?;
        let staged = self.finish(portion, batch)?;
        let (read, rejected) = (staged.read, staged.rejected);
        let landed: u64 = staged.works.iter().filter(|w| w.landing != super::REJECTS).map(|w| w.work.rows).sum();
        let again = |failure: &Failure| {
            self.observer.on(RunEvent::StoreAway(failure.message.clone()));
            wait(self.stop)
        };
        let done = staged.seal(self.ledger, hold.epoch)?.land(self.ledger, self.landings, &again)?;
        let refused: u64 = done.refused.iter().map(|r| r.2).sum();
        done.settle(self.ledger)?;
        self.observer.on(RunEvent::StoreBack);
        report.batches += 1;
        report.read += read;
        report.landed += landed - refused;
        report.rejected += rejected + refused;
        Ok(())
    }

    fn read(&self, portion: &Portion, reader: &mut dyn LaneReader, batch: &mut Gathering<'_>) -> Outcome<()> {
        let mut processor = Processor::new(self.plan, self.arrival)?;
        loop {
            match reader.read(ReadLimit { records: u64::MAX, bytes: CHUNK, ends: false })? {
                Read::Chunk(chunk) => {
                    let bytes = chunk.too_long.unwrap_or(chunk.bytes.len() as u64);
                    self.observer.on(RunEvent::Read { records: chunk.records, bytes });
                    batch.add(processor.process(chunk, portion.now))?;
                }
                Read::CaughtUp => return Ok(()),
                Read::Halt(failure) => return Err(failure),
                Read::Pending => {}
                Read::Away(what) => {
                    self.observer.on(RunEvent::SourceAway(what));
                    if !wait(self.stop) {
                        return Err(Failure::away("stopped while the source did not answer"));
                    }
                }
            }
        }
    }

    fn finish(&self, portion: &Portion, batch: Gathering<'_>) -> Outcome<Staged> {
        if portion.due.is_some_and(|due| due != batch.read) {
            let due = portion.due.unwrap_or(0);
            return Err(Failure::findings(format!(
                "the source does not hold any more what was read: {} of {} events are there in the ranges of a batch \
                 of lane {}",
                batch.read, due, portion.lane
            ))
            .with_help("they have expired, or were changed; nothing of this batch was replaced"));
        }
        let old = match &portion.stead {
            None => None,
            Some(stead) => Some(self.landed_work(&stead.last)?),
        };
        batch.finish(portion.stead.clone(), |label, work| match &old {
            None => Ok(work),
            Some(old) => {
                let landing = self.landings.get(label).ok_or_else(|| Failure::internal(format!("no {label}")))?;
                let nothing = StagedWork::default();
                let old = old.iter().find(|(l, _)| l == label).map_or(&nothing, |(_, work)| work);
                let old = match (label, &portion.stead) {
                    (super::REJECTS, Some(stead)) => landing.with_refused(&self.identity(&stead.last), old.clone())?,
                    _ => old.clone(),
                };
                landing.take_place(&old, work)
            }
        })
    }

    fn identity(&self, name: &(LaneId, u64)) -> BatchIdentity {
        BatchIdentity {
            ledger: self.ledger.id().to_string(),
            pipeline: self.plan.pipeline.clone(),
            lane: name.0.clone(),
            number: name.1,
        }
    }

    /// What a batch has landed.
    fn landed_work(&self, name: &(LaneId, u64)) -> Outcome<Vec<(String, StagedWork)>> {
        let query = BatchQuery { number: Some(name.1), last: None };
        let found = self.ledger.batches(&self.plan.pipeline, query)?.into_iter().find(|b| b.lane == name.0);
        let batch = found.filter(|b| b.state == BatchState::Settled).ok_or_else(|| {
            Failure::findings(format!("batch {} of lane {} is not settled", name.1, name.0))
                .with_help("finish it first: sluice run PIPELINE --until-caught-up")
        })?;
        let work = |l: crate::ledger::LandingRecord| {
            (l.landing, StagedWork { rows: l.rows, merged: 0, bytes: l.bytes, detail: l.detail })
        };
        Ok(batch.landings.into_iter().map(work).collect())
    }
}
