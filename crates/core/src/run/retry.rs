//! Reading rejected events again: which rejects still stand, and what to read for them.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use super::replay::Portion;
use crate::batch::{BatchName, LaneId, Range, Ranges, Readings, first_of};
use crate::event::Position;
use crate::failure::{Failure, FailureKind, Outcome};
use crate::kinds::IntakeKind;
use crate::ledger::{BatchQuery, BatchRecord, Ledger};
use crate::plan::Plan;

/// One rejected event, as its reject names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rejected {
    /// The lane of the batch that rejected it.
    pub lane: LaneId,
    /// The number of that batch.
    pub batch: u64,
    /// Where it was rejected.
    pub station: String,
    /// The partition that it was read from.
    pub partition: Arc<str>,
    /// Its position there.
    pub position: u64,
    /// Its length in bytes.
    pub length: u64,
}

/// The batches of the ledger, by which it is known whether a reject still stands.
#[derive(Default)]
pub struct RejectRecord {
    batches: Vec<BatchRecord>,
}

impl RejectRecord {
    /// Reads what the ledger knows.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn read(ledger: &dyn Ledger, pipeline: &str) -> Outcome<Self> {
        Ok(Self { batches: ledger.batches(pipeline, BatchQuery::default())? })
    }

    /// How rejects stand.
    pub fn standing(&self) -> OpenRejects<'_> {
        let by_name = self.batches.iter().map(|b| ((&b.lane, b.number), b)).collect();
        OpenRejects { by_name, readings: Readings::new(&self.batches), seen: HashMap::new() }
    }
}

/// Which rejects still stand: no later reading has decided about their events.
pub struct OpenRejects<'r> {
    by_name: HashMap<(&'r LaneId, u64), &'r BatchRecord>,
    readings: Readings<'r>,
    /// Events of batches that were read more than once, each with the place of its newest reject.
    seen: HashMap<(BatchName, Arc<str>, u64, String), u64>,
}

impl<'r> OpenRejects<'r> {
    /// The batch that rejected an event; None where the ledger does not know it.
    fn batch(&self, reject: &Rejected) -> Option<&'r BatchRecord> {
        self.by_name.get(&(&reject.lane, reject.batch)).copied()
    }

    /// The landings for which a reject still stands; None where the ledger does not know its batch.
    pub fn open_for(&self, reject: &Rejected) -> Option<Vec<&'r str>> {
        let batch = self.batch(reject)?;
        let is_landing = self.readings.is_landing(&first_of(batch), &reject.station);
        let station = is_landing.then_some(reject.station.as_str());
        Some(self.readings.open_for(batch, station, &reject.partition, Position::at(reject.position)))
    }

    /// Whether another reading has decided about the event since.
    pub fn is_over(&self, reject: &Rejected) -> bool {
        self.open_for(reject).is_some_and(|landings| landings.is_empty())
    }

    /// Whether the same event was rejected at the same station by another reading that also still stands, for another
    /// landing, and has been counted before. Asked once for each reject.
    pub fn is_counted(&mut self, reject: &Rejected) -> bool {
        let Some(batch) = self.batch(reject) else { return false };
        let first = first_of(batch);
        if self.readings.of(&first).len() < 2 {
            return false;
        }
        let key = (first, Arc::clone(&reject.partition), reject.position, reject.station.clone());
        self.seen.insert(key, batch.opened).is_some()
    }
}

/// A rejected event with the batch that rejected it.
type Found<'a> = (&'a Rejected, &'a BatchRecord);

/// What to read: one portion for each first batch and each set of landings that its rejected events are still open for.
///
/// # Errors
/// Where the ledger does not know a batch, or the pipeline has none of the landings any more.
pub fn portions(plan: &Plan, rejects: &[Rejected], standing: &OpenRejects<'_>) -> Outcome<Vec<Portion>> {
    let mut groups: BTreeMap<(BatchName, Vec<usize>), Vec<Found<'_>>> = BTreeMap::new();
    let mut events: HashMap<(BatchName, &str, u64), Vec<usize>> = HashMap::new();
    for reject in rejects {
        let (batch, open) = standing.batch(reject).zip(standing.open_for(reject)).ok_or_else(|| {
            Failure::findings(format!("the ledger does not know batch {} of lane {}", reject.batch, reject.lane))
                .with_help("its rejects were made under another ledger; restore that one")
        })?;
        let key = (first_of(batch), &*reject.partition, reject.position);
        events.entry(key).or_default().extend(landings(plan, reject, &open)?);
    }
    // What a station remembers cannot take an event that comes so late; the other landings can.
    let (remembered, unfolded) = (plan.remembered_landings(), plan.unfolded_landings());
    let mut beyond = None;
    // An event that several landings rejected is read once for all of them.
    for reject in rejects {
        let Some(batch) = standing.batch(reject) else { continue };
        let key = (first_of(batch), &*reject.partition, reject.position);
        let Some(mut into) = events.remove(&key) else { continue };
        into.sort_unstable();
        into.dedup();
        let before: Vec<usize> =
            into.iter().copied().filter(|place| !remembered.contains(place) && !unfolded.contains(place)).collect();
        if before.is_empty() {
            beyond = into.first().copied();
            continue;
        }
        let into = before;
        groups.entry((first_of(batch), into)).or_default().push((reject, batch));
    }
    if let (true, Some(place)) = (groups.is_empty(), beyond) {
        let label = &plan.landings[place].label;
        if unfolded.contains(&place) && !remembered.contains(&place) {
            let message =
                format!("{label} gets a row for each element of a list: elements that have landed would land again");
            let help = "nothing was read; read the whole batch again instead: sluice replay … --batches N";
            return Err(Failure::findings(message).with_help(help));
        }
        return Err(Failure::findings(format!(
            "{label} gets rows from a station that remembers events: an event that comes so late cannot be taken"
        ))
        .with_help("nothing was read; the rejects stay, with their bytes"));
    }
    let mut portions = Vec::new();
    for ((first, into), rejects) in groups {
        let one = |(reject, batch): &(&Rejected, &BatchRecord)| {
            let label = first.0.arrival_of(&reject.partition).0;
            let arrival = plan.arrivals.iter().find(|arrival| arrival.label == label)?;
            Some(range(reject, batch, arrival.kind.as_ref()))
        };
        let mut ranges: Vec<Range> = rejects.iter().filter_map(one).collect();
        ranges.sort_by(|a, b| (&a.partition, a.from).cmp(&(&b.partition, b.from)));
        portions.push(Portion {
            first,
            whole: false,
            expected: Some(ranges.len() as u64),
            ranges: Ranges(ranges),
            now: rejects.first().map_or(0, |(_, batch)| batch.opened_at),
            into: Some(into),
            all_rejects: false,
        });
    }
    Ok(portions)
}

/// Where a rejected event stands in its source.
fn range(reject: &Rejected, batch: &BatchRecord, kind: &dyn IntakeKind) -> Range {
    let messages = kind.has_messages();
    let read = batch.ranges.0.iter().find(|r| *r.partition == *reject.partition);
    Range {
        partition: Arc::clone(&reject.partition),
        from: Position::at(reject.position),
        to: Position::at(reject.position + if messages { 1 } else { reject.length.max(1) }),
        identity: read.map_or_else(String::new, |r| kind.identity_within(&r.identity)),
    }
}

/// The landings of the plan, by their places, that a rejected event is open for.
fn landings(plan: &Plan, reject: &Rejected, open: &[&str]) -> Outcome<Vec<usize>> {
    let reachable: Vec<usize> = match plan.events.iter().position(|e| e.name == reject.station) {
        Some(made) => plan.landings_of(made),
        None => (0..plan.landings.len()).collect(),
    };
    let found: Vec<usize> =
        reachable.into_iter().filter(|place| open.contains(&plan.landings[*place].label.as_str())).collect();
    if found.is_empty() {
        let message = format!(
            "{} has none of the landings any more that batch {} of lane {} was read for ({})",
            plan.pipeline,
            reject.batch,
            reject.lane,
            open.join(", ")
        );
        return Err(Failure::new(FailureKind::Configuration, message).with_help(
            "bring one back into the pipeline file, or read the batch into another: sluice replay … --landing",
        ));
    }
    Ok(found)
}
