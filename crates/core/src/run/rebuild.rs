//! Reads batches of a lane again in order, through stations that remember.
//!
//! What the stations remembered before the first of these batches is read together once more: from the batch on in which the oldest
//! event was read that they could still have remembered. Where they stood at the end of each batch is in the ledger
//! ([`BatchMarks`]), so that each batch gives what it gave when it was read first: windows close in the batch in
//! which they closed, and what came too late then comes too late again.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use serde::Deserialize;

use super::meeting::MeetingReader;
use super::processor::{FlowResults, Processed};
use super::replay::{Again, Portion, ReplayWork};
use super::{Processor, fits_of};
use crate::batch::{BatchMarks, BatchName, LaneId, first_of};
use crate::event::{Chunk, ListPart};
use crate::failure::{Failure, Outcome};
use crate::flow::{Ending, FixedTime, LateEvents, Memory, Waiting, Walk};
use crate::ledger::{BatchRecord, BatchState};
use crate::plan::{BatchFolders, Meeting, Plan};
use crate::reject::{REJECTS, Reason};
use crate::state::{NEVER, ScratchState, StatePlan, Unread};

/// Batches of one lane that are read again in order.
#[derive(Clone, Debug)]
pub struct LaneRebuild {
    /// The lane.
    pub lane: LaneId,
    /// Batches that are read before, so that what was remembered is there. Nothing of them is replaced.
    pub before: Vec<BatchRecord>,
    /// The batches: those that are wanted, and all between them.
    pub batches: Vec<BatchRecord>,
}

/// What has to be read for landings below stations that remember; `into` are landings by their places, `wanted` the batches that are
/// asked for. Lanes without such landings are left out.
///
/// # Errors
/// Where it is not known, or cannot be read again, what the stations remembered.
pub fn rebuilds(plan: &Plan, all: &[BatchRecord], wanted: &[BatchRecord], into: &[usize]) -> Outcome<Vec<LaneRebuild>> {
    let mut lanes: BTreeMap<&LaneId, (u64, u64)> = BTreeMap::new();
    for batch in wanted.iter().filter(|batch| !batch.lane.is_out_of_order()) {
        let (first, last) = lanes.entry(&batch.lane).or_insert((batch.number, batch.number));
        (*first, *last) = ((*first).min(batch.number), (*last).max(batch.number));
    }
    let mut found = Vec::new();
    for (lane, (first, last)) in lanes {
        let Some(meeting) = plan.meeting_of(lane.arrival()) else { continue };
        if !remembered_of(plan, &meeting).any(|landing| into.contains(&landing)) {
            continue;
        }
        found.push(rebuild(plan, &meeting, all, (lane, first, last))?);
    }
    Ok(found)
}

/// The landings of arrivals that get rows of stations which remember.
fn remembered_of(plan: &Plan, meeting: &Meeting<'_>) -> impl Iterator<Item = usize> {
    let remembered = plan.remembered_landings();
    meeting.landings(plan).into_iter().filter(move |landing| remembered.contains(landing))
}

fn rebuild(
    plan: &Plan,
    meeting: &Meeting<'_>,
    all: &[BatchRecord],
    (lane, first, last): (&LaneId, u64, u64),
) -> Outcome<LaneRebuild> {
    let below = plan.events_below(&meeting.events());
    let stations: Vec<(&str, &StatePlan)> = plan
        .remembering()
        .filter(|(event, _)| below.contains(event))
        .map(|(event, state)| (plan.events[event].name.as_str(), state))
        .collect();
    refuse_unknown_rows(plan, meeting)?;
    let mut own: Vec<&BatchRecord> = all.iter().filter(|batch| batch.lane == *lane).collect();
    own.sort_by_key(|batch| batch.number);
    let batches: Vec<BatchRecord> =
        own.iter().filter(|batch| (first..=last).contains(&batch.number)).map(|batch| (*batch).clone()).collect();
    for batch in &batches {
        if batch.state != BatchState::Settled {
            return Err(Failure::findings(format!("batch {} of lane {lane} has not settled", batch.number))
                .with_help("nothing was read; name batches before it, or wait for it"));
        }
        if let Some(lacking) = lacking(batch, &stations) {
            return Err(Failure::findings(format!(
                "batch {} of lane {lane} was read before `{lacking}` was in the pipeline, or by an earlier version",
                batch.number
            ))
            .with_help("nothing was read. Batches that it has seen can be read again; to count older events, give the made event another name and set the positions back"));
        }
    }
    let earlier: Vec<&BatchRecord> = own.into_iter().filter(|batch| batch.number < first).collect();
    let start = start_of(&stations, &earlier);
    let unknown = start.checked_sub(1).and_then(|place| earlier.get(place)).filter(|batch| batch.marks.is_none());
    let was_there =
        |batch: &&&BatchRecord| batch.counts.iter().any(|c| stations.iter().any(|(name, _)| *name == c.station));
    if let Some(batch) = unknown.filter(was_there) {
        return Err(Failure::findings(format!(
            "what stations remembered before batch {first} of lane {lane} came from batch {} as well, of which an earlier version \
             did not note where they stood",
            batch.number
        ))
        .with_help("nothing was read. Later batches can be read again"));
    }
    let before = earlier.into_iter().skip(start).cloned().collect();
    Ok(LaneRebuild { lane: lane.clone(), before, batches })
}

/// A station that was not there when a batch was read.
fn lacking<'s>(batch: &BatchRecord, stations: &[(&'s str, &StatePlan)]) -> Option<&'s str> {
    let marks = batch.marks.as_ref();
    stations.iter().map(|(name, _)| *name).find(|name| !marks.is_some_and(|marks| marks.stations.contains_key(*name)))
}

/// Rows that are looked up must be there to be read again.
fn refuse_unknown_rows(plan: &Plan, meeting: &Meeting<'_>) -> Outcome<()> {
    for arrival in &meeting.arrivals {
        if !arrival.is_list() && !arrival.kind.is_feed() {
            continue;
        }
        let looked_up_by = arrival.events().flat_map(|event| plan.looked_up_by(event));
        if let Some(event) = looked_up_by.into_iter().next() {
            return Err(Failure::findings(format!(
                "`{}` looks up rows of {}, and what they were then is not known any more",
                plan.events[event].name, arrival.label
            ))
            .with_help(match others(plan).as_str() {
                "" => "nothing was read".to_string(),
                others => format!("nothing was read. Landings before it can be read again: {others}"),
            }));
        }
    }
    Ok(())
}

/// The landings that get no rows of stations which remember, as options of the command.
fn others(plan: &Plan) -> String {
    let remembered = plan.remembered_landings();
    let others = (0..plan.landings.len()).filter(|place| !remembered.contains(place));
    others.map(|place| format!("--landing {}", plan.landings[place].label)).collect::<Vec<_>>().join(" ")
}

/// The first of the earlier batches that has something that could still be remembered at their end.
fn start_of(stations: &[(&str, &StatePlan)], earlier: &[&BatchRecord]) -> usize {
    // Before a station was there, it took nothing.
    let there = earlier.iter().rev().take_while(|batch| lacking(batch, stations).is_none()).count();
    let born = earlier.len() - there;
    let Some(last) = earlier.last().and_then(|batch| batch.marks.as_ref()) else { return born };
    // Rows that are looked up are remembered for ever.
    let spans: Option<i64> = stations.iter().try_fold(0_i64, |sum, (_, state)| {
        let is_reference = matches!(state, StatePlan::Reference(_));
        state.span().filter(|_| !is_reference).map(|span| sum.saturating_add(span))
    });
    let reached = stations.iter().map(|(name, _)| last.reached(name)).min().unwrap_or(NEVER);
    let Some(spans) = spans.filter(|_| reached != NEVER) else { return born };
    let from = reached.saturating_sub(spans);
    let has_none = |batch: &&&BatchRecord| batch.marks.as_ref().is_some_and(|marks| marks.newest < from);
    born + earlier[born..].iter().take_while(has_none).count()
}

/// The stations of the lanes whose batches are read again.
pub(super) struct Recollections<'a> {
    plan: &'a Plan,
    lanes: HashMap<LaneId, Recollection<'a>>,
}

/// The stations of one lane.
pub(super) struct Recollection<'a> {
    memory: Memory<'a>,
    scratch: Arc<ScratchState>,
    /// The marks of all batches of the lane, by number.
    marks: BTreeMap<u64, BatchMarks>,
    /// What is read before.
    before: Vec<Portion>,
}

/// What comes to stations from a chunk.
pub(super) struct WaitingRows {
    of: (Arc<str>, Option<ListPart>),
    times: Vec<Option<i64>>,
    waiting: Vec<Waiting>,
}

impl WaitingRows {
    /// Takes it out of what became of a chunk.
    pub(super) fn of(processed: &mut Processed) -> Self {
        Self {
            of: (Arc::clone(&processed.chunk.partition), processed.chunk.list),
            times: std::mem::take(&mut processed.times),
            waiting: std::mem::take(&mut processed.waiting),
        }
    }
}

impl<'a> Recollections<'a> {
    /// For the lanes of which landings below such stations are written.
    pub(super) fn open(plan: &'a Plan, all: &[BatchRecord], work: &ReplayWork<'_>) -> Outcome<Self> {
        let names: HashSet<&BatchName> =
            work.portions.iter().filter(|p| p.whole && p.into.is_none()).map(|p| &p.first).collect();
        let is_wanted = |batch: &&BatchRecord| batch.first.is_none() && names.contains(&first_of(batch));
        let wanted: Vec<BatchRecord> = all.iter().filter(is_wanted).cloned().collect();
        let mut lanes = HashMap::new();
        for lane in rebuilds(plan, all, &wanted, work.into)? {
            let Some(meeting) = plan.meeting_of(lane.lane.arrival()) else { continue };
            let once = plan.remembering().filter(|(_, state)| matches!(state, StatePlan::Once(_)));
            let scratch = ScratchState::of(once.map(|(event, _)| plan.events[event].name.clone()).collect());
            let Some(memory) = Memory::open(plan, &meeting.arrivals, Box::new(Arc::clone(&scratch)))? else { continue };
            let own = all.iter().filter(|batch| batch.lane == lane.lane);
            let marks = own.filter_map(|batch| Some((batch.number, batch.marks.clone()?))).collect();
            let before = lane.before.iter().map(|batch| Portion::of_batch(plan, batch)).collect();
            lanes.insert(lane.lane, Recollection { memory, scratch, marks, before });
        }
        Ok(Self { plan, lanes })
    }

    /// The stations of a portion's lane, as they stood before it; None where none of their landings is written.
    pub(super) fn of(&mut self, portion: &Portion, again: &Again<'_>) -> Outcome<Option<&mut Recollection<'a>>> {
        let Some(recollection) = self.lanes.get_mut(&portion.first.0) else { return Ok(None) };
        for earlier in std::mem::take(&mut recollection.before) {
            if again.stop.is_settling() {
                return Ok(None);
            }
            recollection.remember(self.plan, &earlier, portion, again)?;
        }
        recollection.fix(portion, again)?;
        Ok(Some(recollection))
    }
}

impl Recollection<'_> {
    /// Sets time to what it was around a batch.
    fn fix(&mut self, portion: &Portion, again: &Again<'_>) -> Outcome<()> {
        let number = portion.first.1;
        let marks = |number: u64| self.marks.get(&number).cloned().unwrap_or_default();
        let (before, now) = (marks(number.saturating_sub(1)), marks(number));
        let late = late(portion, again)?;
        self.memory.fix(FixedTime { before, now, late });
        Ok(())
    }

    /// Reads a batch for what is remembered of it alone.
    fn remember(&mut self, plan: &Plan, earlier: &Portion, wanted: &Portion, again: &Again<'_>) -> Outcome<()> {
        self.fix(earlier, again)?;
        let lane = &earlier.first.0;
        let meeting = Meeting::of_batch(plan, lane, &earlier.ranges)?;
        let mut reader = MeetingReader::ranges((plan, &meeting), again.around, lane, &earlier.ranges)?;
        let fits = fits_of(again.landings);
        let folders = BatchFolders::default();
        let walk = Walk { plan, fits: &fits, folders: &folders, now: earlier.now };
        let mut processor = Processor::new(plan, &meeting.arrivals, &fits, &folders)?;
        let mut read = 0;
        again.read(lane, reader.as_mut(), &mut |chunk: Chunk| {
            read += chunk.records;
            let mut processed = processor.process(chunk, earlier.now);
            self.take(&walk, WaitingRows::of(&mut processed)).map(drop)
        })?;
        if earlier.expected.is_some_and(|expected| expected != read) {
            return Err(Failure::findings(format!(
                "the source no longer has the events of batch {} of lane {lane}, which were remembered when batch {} was read",
                earlier.first.1, wanted.first.1
            ))
            .with_help("they have expired, or were changed; nothing was replaced. Later batches may need less"));
        }
        self.end(&walk).map(drop)
    }

    /// Takes rows through the stations.
    pub(super) fn take<'p>(&mut self, walk: &Walk<'p>, rows: WaitingRows) -> Outcome<FlowResults<'p>> {
        let mut results = FlowResults::new(walk.plan);
        let WaitingRows { of: (partition, list), times, waiting } = rows;
        self.memory.take(walk, (&partition, list), &times, &Unread::default(), waiting, &mut results)?;
        Ok(results)
    }

    /// Ends the batch: what closed then closes.
    pub(super) fn end<'p>(&mut self, walk: &Walk<'p>) -> Outcome<FlowResults<'p>> {
        let mut results = FlowResults::new(walk.plan);
        self.memory.end(walk, Ending::Batch, &mut results, |_| Ok(()))?;
        self.scratch.apply(self.memory.changes(walk.now, 0)?);
        drop(self.memory.take_marks());
        Ok(results)
    }
}

/// What a line of rejects says of an event that came too late.
#[derive(Deserialize)]
struct RejectedLine {
    station: String,
    reason: String,
    message: String,
    partition: String,
    position: u64,
}

/// The events of a batch that came too late when it was read, by the rejects that stand.
fn late(portion: &Portion, again: &Again<'_>) -> Outcome<HashMap<String, LateEvents>> {
    let mut found: HashMap<String, LateEvents> = HashMap::new();
    let mut partitions: BTreeSet<Arc<str>> = BTreeSet::new();
    for batch in again.readings.in_landing(&portion.first, REJECTS) {
        let Some(record) = batch.landings.iter().find(|l| l.landing == REJECTS) else { continue };
        let work = crate::kinds::StagedWork {
            rows: record.rows,
            merged: 0,
            bytes: record.bytes,
            detail: record.detail.clone(),
        };
        for line in again.landings[REJECTS].rejected(&work)? {
            let Ok(line) = serde_json::from_str::<RejectedLine>(&line) else { continue };
            if line.reason != Reason::LATE.word() {
                continue;
            }
            let partition: Arc<str> = line.partition.into();
            let partition = partitions.get(&partition).cloned().unwrap_or(partition);
            partitions.insert(Arc::clone(&partition));
            found.entry(line.station).or_default().insert((partition, line.position), line.message);
        }
    }
    Ok(found)
}
