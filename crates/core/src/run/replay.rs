//! Reads again what had been read: whole batches into the same landings or into another one, or single events that
//! were rejected. Live progress is not touched: what is read again has lanes of its own and moves no position.

use std::collections::BTreeMap;

use super::busy::Spent;
use super::committer::{store_away, wait};
use super::gather::BatchBuilder;
use super::meeting::MeetingReader;
use super::rebuild::{Recollection, Recollections, WaitingRows};
use super::recover::{finish_replay_batches, sealed_plan};
use super::{Landings, Observer, Processor, RunEvent, Stop, fits_of, open_landings};
use crate::batch::{BatchIdentity, BatchName, LaneId, Ranges, Readings, Reread, Staged, first_of};
use crate::event::Chunk;
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::flow::Walk;
use crate::kinds::{BatchOrder, LaneReader, Read, ReadLimit, StagedWork};
use crate::ledger::{BatchQuery, BatchRecord, BatchState, LandingRecord, Ledger};
use crate::plan::Meeting;
use crate::plan::{ArrivalPlan, BatchFolders, Plan, Surroundings};
use crate::reject::REJECTS;

/// Bytes that are read at a time.
const CHUNK: u64 = 2 << 20;

/// The lock of a process while it reads a pipeline's events again; the pipeline itself may run.
pub fn replay_lock(pipeline: &str) -> String {
    format!("{pipeline}~replay")
}

/// One batch to make: what to read, and where it lands.
#[derive(Clone, Debug, PartialEq)]
pub struct Portion {
    /// The batch that read it first.
    pub first: BatchName,
    /// What to read.
    pub ranges: Ranges,
    /// Whether that is all of the first batch, so that what its readings have landed is replaced.
    pub whole: bool,
    /// The moment that `now()` stands for, in microseconds since 1970.
    pub now: i64,
    /// How many events are expected; None where that is not known.
    pub expected: Option<u64>,
    /// The landings to write, by their places in the plan; None for those of the whole work.
    pub into: Option<Vec<usize>>,
    /// Whether rejects of other landings are kept as well.
    pub all_rejects: bool,
}

impl Portion {
    /// A batch that is read again as a whole, all but what was only looked up and cannot be read again: rows of lists, and of
    /// change feeds that share the lane of other arrivals.
    pub fn of_batch(plan: &Plan, batch: &BatchRecord) -> Self {
        let lists = plan.arrivals.iter().filter(|arrival| is_left_out(arrival, &batch.lane, &batch.ranges));
        let lists = lists.flat_map(|arrival| arrival.events());
        let lists: Vec<&str> = lists.map(|event| plan.events[event].name.as_str()).collect();
        let listed = batch.counts.iter().filter(|count| lists.contains(&count.station.as_str()));
        let listed: u64 = listed.map(|count| count.input).sum();
        Self {
            first: first_of(batch),
            ranges: batch.ranges.clone(),
            whole: batch.first.is_none() || batch.whole,
            now: batch.opened_at,
            // What another ledger read was not counted.
            expected: (batch.state != BatchState::Adopted).then_some(batch.read.saturating_sub(listed)),
            into: None,
            all_rejects: false,
        }
    }
}

/// Whether what an arrival had in a batch is left out where the batch is read again.
pub fn is_left_out(arrival: &ArrivalPlan, lane: &LaneId, ranges: &Ranges) -> bool {
    let is_alone = || ranges.0.iter().all(|range| lane.arrival_of(&range.partition).0 == arrival.label);
    arrival.is_list() || (arrival.kind.is_feed() && (lane.arrival() != arrival.label || !is_alone()))
}

/// Refuses landings that get rows of a change feed which is left out: they would lose them.
///
/// # Errors
/// Where one of `into`, the landings by their places, is such a landing.
pub fn refuse_left_out(plan: &Plan, portions: &[Portion], into: &[usize]) -> Outcome<()> {
    for portion in portions {
        let into = portion.into.as_deref().unwrap_or(into);
        for arrival in plan.arrivals.iter().filter(|a| is_left_out(a, &portion.first.0, &portion.ranges)) {
            let reached: Vec<usize> = arrival.events().flat_map(|event| plan.landings_of(event)).collect();
            if let Some(place) = reached.iter().find(|place| into.contains(place)) {
                let label = &plan.landings[*place].label;
                let others = (0..plan.landings.len()).filter(|place| !reached.contains(place));
                let others: Vec<&str> = others.map(|place| plan.landings[place].label.as_str()).collect();
                return Err(Failure::findings(format!(
                    "{label} gets rows of the change feed {}, which is read once, in the order of its log",
                    arrival.label
                ))
                .with_help(match others.is_empty() {
                    true => "nothing was read".to_string(),
                    false => format!("nothing was read. Landings of other events: {}", others.join(", ")),
                }));
            }
        }
    }
    Ok(())
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
pub struct ReplayWork<'a> {
    /// The batches to make, in order.
    pub portions: &'a [Portion],
    /// The landings to write, by their places in the plan.
    pub into: &'a [usize],
    /// What it is, in words, for the ledger.
    pub what: &'a str,
    /// Why, for the ledger.
    pub reason: &'a str,
}

/// Reads portions again. The caller has taken [`replay_lock`].
///
/// # Errors
/// Where a source, a store or the ledger fails, or a source does not hold any more what had been read. What was sealed
/// by then is finished by the next run or replay.
pub fn replay(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    work: &ReplayWork<'_>,
    stop: &Stop,
    observer: &dyn Observer,
) -> Outcome<ReplayReport> {
    refuse_left_out(plan, work.portions, work.into)?;
    let landings = open_landings(plan, around)?;
    finish_replay_batches(plan, around, ledger, observer, stop)?;
    clear(plan, ledger, &landings)?;
    // A landing may get rows by replays alone, and another name afterwards.
    ledger.note_known(&plan.pipeline, &plan.known(), None)?;
    read_again(plan, around, ledger, &landings, work, (stop, observer))
}

/// Reads for landings what they lack of batches that were taken over from others, under the texts of then.
pub(super) fn catch_up(
    pipeline: &str,
    around: &Surroundings,
    ledger: &dyn Ledger,
    stop: &Stop,
    observer: &dyn Observer,
) -> Outcome<()> {
    if !ledger.lacks_adopted(pipeline)? {
        return Ok(());
    }
    let batches = ledger.batches(pipeline, BatchQuery::default())?;
    let readings = Readings::new(&batches);
    let mut by_texts: BTreeMap<&str, Vec<(&BatchRecord, Vec<&str>)>> = BTreeMap::new();
    for batch in batches.iter().filter(|b| b.state == BatchState::Adopted) {
        let first = first_of(batch);
        let is_later = |b: &&BatchRecord| b.opened > batch.opened;
        let waits = |landing: &&LandingRecord| {
            landing.landed_at.is_none() && !readings.in_landing(&first, &landing.landing).iter().any(is_later)
        };
        let lacking: Vec<&str> = batch.landings.iter().filter(waits).map(|l| l.landing.as_str()).collect();
        if let (false, Some(texts)) = (lacking.is_empty(), &batch.texts) {
            by_texts.entry(texts).or_default().push((batch, lacking));
        }
    }
    if by_texts.is_empty() {
        return Ok(());
    }
    let _lock = ledger.lock(&replay_lock(pipeline))?;
    let known = ledger.known(pipeline)?;
    for (texts, lacking) in by_texts {
        let plan = sealed_plan(&ledger.texts(texts)?, around, &known)?;
        let landings = open_landings(&plan, around)?;
        clear(&plan, ledger, &landings)?;
        let place = |label: &&str| plan.landings.iter().position(|l| l.label == **label);
        let portion = |(batch, labels): &(&BatchRecord, Vec<&str>)| Portion {
            into: Some(labels.iter().filter_map(place).collect()),
            all_rejects: labels.contains(&REJECTS),
            ..Portion::of_batch(&plan, batch)
        };
        let portions: Vec<Portion> = lacking.iter().map(portion).collect();
        let what = "what landings lacked of adopted batches";
        let work = ReplayWork { portions: &portions, into: &[], what, reason: "run --adopt" };
        read_again(&plan, around, ledger, &landings, &work, (stop, observer))?;
    }
    Ok(())
}

fn read_again(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    landings: &Landings,
    work: &ReplayWork<'_>,
    (stop, observer): (&Stop, &dyn Observer),
) -> Outcome<ReplayReport> {
    plan.read_secrets(around.secrets.as_ref())?;
    let batches = ledger.batches(&plan.pipeline, BatchQuery::default())?;
    let number = ledger.begin_replay(&plan.pipeline, work.what, work.reason)?;
    reach("replay.begun");
    let mut report = ReplayReport { number, ..ReplayReport::default() };
    let readings = &Readings::new(&batches);
    let mut lanes = Recollections::open(plan, &batches, work)?;
    for arrival in &plan.arrivals {
        for portion in work.portions.iter().filter(|p| p.first.0.arrival() == arrival.label) {
            if stop.is_settling() {
                report.stopped = true;
                return Ok(report);
            }
            let meeting = Meeting::of_batch(plan, &portion.first.0, &portion.ranges)?;
            let reach_of = meeting.landings(plan);
            let into: Vec<usize> = work.into.iter().copied().filter(|l| reach_of.contains(l)).collect();
            let again =
                Again { plan, around, ledger, landings, meeting, into, all: reach_of, readings, stop, observer };
            let recollection = lanes.of(portion, &again)?;
            if stop.is_settling() {
                report.stopped = true;
                return Ok(report);
            }
            again.portion(portion, recollection, &mut report)?;
        }
    }
    ledger.end_replay(&plan.pipeline, number)?;
    Ok(report)
}

/// Removes what replays that were broken off had staged and never sealed.
fn clear(plan: &Plan, ledger: &dyn Ledger, landings: &Landings) -> Outcome<()> {
    for broken in ledger.replays(&plan.pipeline)?.iter().filter(|r| r.ended_at.is_none()) {
        for lane in ledger.lanes(&plan.pipeline)? {
            let lane = lane.out_of_order(broken.number);
            ledger.take_lane(&plan.pipeline, &lane)?;
            for landing in landings.values() {
                landing.discard(ledger.id(), &lane, &[])?;
            }
        }
    }
    Ok(())
}

pub(super) struct Again<'a> {
    pub(super) plan: &'a Plan,
    pub(super) around: &'a Surroundings,
    ledger: &'a dyn Ledger,
    pub(super) landings: &'a Landings,
    meeting: Meeting<'a>,
    into: Vec<usize>,
    /// Every landing that events of the arrivals can reach.
    all: Vec<usize>,
    pub(super) readings: &'a Readings<'a>,
    pub(super) stop: &'a Stop,
    observer: &'a dyn Observer,
}

impl Again<'_> {
    fn portion(
        &self,
        portion: &Portion,
        mut recollection: Option<&mut Recollection<'_>>,
        report: &mut ReplayReport,
    ) -> Outcome<()> {
        let lane = portion.first.0.out_of_order(report.number);
        let into = portion.into.as_deref().unwrap_or(&self.into);
        let earlier = self.settled(portion)?;
        self.refuse_adopted(portion, into)?;
        let taken = self.ledger.take_lane(&self.plan.pipeline, &lane)?;
        for landing in self.landings.values() {
            landing.discard(self.ledger.id(), &lane, &[])?;
        }
        self.refuse_unknown(&lane, taken.next)?;
        let identity = self.identity(&(lane.clone(), taken.next));
        let opened_at = chrono::Utc::now().timestamp_micros();
        let own = self.ledger.open_batch(&identity, opened_at)?;
        reach("open.recorded");
        let order = BatchOrder { own, first: Some((portion.first.clone(), earlier.opened)) };
        let mut batch = BatchBuilder::open(self.plan, self.landings, into, (identity, order), opened_at, false)?;
        batch.set_ranges(portion.ranges.clone());
        batch.keep_all_rejects(portion.all_rejects);
        if recollection.is_none() {
            batch.leave_out_remembered();
        }
        let mut reader = MeetingReader::ranges((self.plan, &self.meeting), self.around, &lane, &portion.ranges)?;
        let fits = fits_of(self.landings);
        let folders = BatchFolders::default();
        let walk = Walk { plan: self.plan, fits: &fits, folders: &folders, now: portion.now };
        let mut processor = Processor::new(self.plan, &self.meeting.arrivals, &fits, &folders)?;
        self.read(&lane, reader.as_mut(), &mut |chunk| {
            let mut processed = processor.process(chunk, portion.now);
            let Some(recollection) = recollection.as_deref_mut() else { return batch.add(processed) };
            let waiting = WaitingRows::of(&mut processed);
            batch.add(processed)?;
            batch.add_results(recollection.take(&walk, waiting)?)
        })?;
        if let Some(recollection) = recollection {
            batch.add_results(recollection.end(&walk)?)?;
        }
        let staged = self.finish(portion, into, batch)?;
        let (read, rejected) = (staged.read, staged.rejected);
        let landed: u64 = staged.works.iter().filter(|w| w.landing != REJECTS).map(|w| w.work.rows).sum();
        let again = |landing: &str, failure: &Failure| {
            self.observer.on(store_away(&lane, landing, failure));
            wait(self.stop)
        };
        let done = staged.seal(self.ledger, taken.epoch)?.land(self.ledger, self.landings, &again, &|_, _| {})?;
        let refused: u64 = done.refused.iter().map(|r| r.2).sum();
        done.settle(self.ledger)?;
        self.observer.on(RunEvent::StoreBack(lane));
        report.batches += 1;
        report.read += read;
        report.landed += landed - refused;
        report.rejected += rejected + refused;
        Ok(())
    }

    /// Reads all that a reader has.
    pub(super) fn read(
        &self,
        lane: &LaneId,
        reader: &mut dyn LaneReader,
        take: &mut dyn FnMut(Chunk) -> Outcome<()>,
    ) -> Outcome<()> {
        loop {
            match reader.read(ReadLimit { records: u64::MAX, bytes: CHUNK, ends: false })? {
                Read::Chunk(chunk) => {
                    let bytes = chunk.too_long.unwrap_or(chunk.bytes.len() as u64);
                    self.observer.on(RunEvent::Read { lane: lane.clone(), records: chunk.records, bytes });
                    take(chunk)?;
                }
                Read::CaughtUp => return Ok(()),
                Read::Halt(failure) | Read::Stuck(failure) => return Err(failure),
                Read::Pending => {}
                Read::Away(message) => {
                    self.observer.on(RunEvent::SourceAway { lane: lane.clone(), message });
                    if !wait(self.stop) {
                        return Err(Failure::away("stopped while the source did not answer"));
                    }
                }
            }
        }
    }

    fn finish(&self, portion: &Portion, into: &[usize], batch: BatchBuilder<'_>) -> Outcome<Staged> {
        if let Some(expected) = portion.expected.filter(|expected| *expected != batch.read) {
            return Err(Failure::findings(format!(
                "the source no longer has the events that were read: {} of {expected} are left in the ranges of batch \
                 {} of lane {}",
                batch.read, portion.first.1, portion.first.0
            ))
            .with_help("they have expired, or were changed; nothing of this batch was replaced"));
        }
        // Rejects are about all landings: those of a reading into some of them do not replace the others'.
        let covers = self.all.iter().all(|landing| into.contains(landing));
        let reread = Reread { first: portion.first.clone(), whole: portion.whole };
        batch.finish(Some(reread), &mut Spent::default(), |label, work| {
            let landing = self.landings.get(label).ok_or_else(|| Failure::internal(format!("no {label}")))?;
            let whole = portion.whole && (label != REJECTS || covers);
            landing.take_place(&self.earlier_work(&portion.first, label, whole)?, work, whole)
        })
    }

    /// What earlier readings have landed.
    fn earlier_work(&self, first: &BatchName, label: &str, whole: bool) -> Outcome<Vec<StagedWork>> {
        let mut found = Vec::new();
        for batch in self.readings.in_landing(first, label) {
            let Some(record) = batch.landings.iter().find(|l| l.landing == label) else { continue };
            let work = StagedWork { rows: record.rows, merged: 0, bytes: record.bytes, detail: record.detail.clone() };
            found.push(match label == REJECTS && whole {
                true => {
                    let identity = self.identity(&(batch.lane.clone(), batch.number));
                    self.landings[label].with_refused(&identity, work)?
                }
                false => work,
            });
        }
        Ok(found)
    }

    fn identity(&self, name: &BatchName) -> BatchIdentity {
        BatchIdentity {
            ledger: self.ledger.id().to_string(),
            pipeline: self.plan.pipeline.clone(),
            lane: name.0.clone(),
            number: name.1,
        }
    }

    /// The first batch, after its readings have been seen to be done.
    fn settled(&self, portion: &Portion) -> Outcome<&BatchRecord> {
        let (lane, number) = &portion.first;
        let readings = self.readings.of(&portion.first);
        let waits = |b: &&&BatchRecord| !matches!(b.state, BatchState::Settled | BatchState::Adopted);
        let not_settled = |lane: &LaneId, number: u64| {
            Failure::findings(format!("batch {number} of lane {lane} is not settled"))
                .with_help(format!("finish it first: sluice run {} --until-caught-up", self.plan.pipeline))
        };
        if let Some(batch) = readings.iter().find(waits) {
            return Err(not_settled(&batch.lane, batch.number));
        }
        let first = readings.iter().find(|b| b.lane == *lane && b.number == *number);
        first.copied().ok_or_else(|| not_settled(lane, *number))
    }

    /// What rows a batch has that was taken over from a landing's record is not known, so that none can replace them.
    fn refuse_adopted(&self, portion: &Portion, into: &[usize]) -> Outcome<()> {
        for place in into.iter().filter(|_| portion.whole) {
            let label = &self.plan.landings[*place].label;
            let noted = self.readings.in_landing(&portion.first, label);
            if noted.iter().any(|b| b.state == BatchState::Adopted) {
                return Err(Failure::findings(format!(
                    "{label} holds batch {} of lane {}, which was adopted: its rows cannot be replaced",
                    portion.first.1, portion.first.0
                ))
                .with_help("read it into a landing that is new"));
            }
        }
        Ok(())
    }

    /// A landing that holds batches of this replay's lane knows a replay that the ledger does not: publishing under its
    /// names would be taken for done.
    fn refuse_unknown(&self, lane: &LaneId, next: u64) -> Outcome<()> {
        for (name, landing) in self.landings {
            let unknown = landing.noted(lane)?.filter(|noted| noted.number >= next && noted.ledger == self.ledger.id());
            if let Some(noted) = unknown {
                return Err(Failure::findings(format!(
                    "the landing {name} holds batch {} of lane {lane}, a replay that the ledger does not know",
                    noted.number
                ))
                .with_help(format!(
                    "the ledger was restored from a backup: restore a newer one, or take over the landed batches with \
                     `sluice run {} --adopt`",
                    self.plan.pipeline
                )));
            }
        }
        Ok(())
    }
}
