//! Takes over what landings hold and the ledger does not know: after a ledger was lost or restored from a backup, or
//! where a second checkout goes on.
//!
//! What was read is the union of what all landings hold. A landing that is behind the others gets what it lacks by
//! reading it again, for that landing alone. Where the records are not enough to know how far reading had come,
//! nothing is taken over.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::Landings;
use super::recover::all_lanes;
use crate::batch::arrival_in;
use crate::batch::{LaneId, Ranges, Reread};
use crate::event::Position;
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::kinds::{NotedLane, PartitionPosition};
use crate::ledger::{AdoptedBatch, AdoptedLane, Adoption, BatchQuery, BatchRecord, Ledger};
use crate::plan::{ArrivalPlan, Plan, Surroundings};
use crate::reject::REJECTS;

/// Takes over; gives what somebody should know, in words.
pub(super) fn adopt(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    landings: &Landings,
) -> Outcome<Vec<String>> {
    refuse_remembered(plan)?;
    let lanes = all_lanes(plan, ledger, landings)?;
    let mut names: Vec<&String> = landings.keys().collect();
    names.sort();
    let mut order = 0;
    let mut noted: BTreeMap<LaneId, BTreeMap<&str, NotedLane>> = BTreeMap::new();
    for name in names {
        let holdings = landings[name].holdings(&lanes)?;
        order = order.max(holdings.order);
        for lane in holdings.lanes {
            noted.entry(lane.lane.clone()).or_default().insert(name, lane);
        }
    }
    let known = ledger.batches(&plan.pipeline, BatchQuery::default())?;
    let mut adopted = Vec::new();
    let mut notices = Vec::new();
    let mut out_of_order_batches = Vec::new();
    for (lane, by_landing) in noted {
        let sealed = ledger.last_sealed(&plan.pipeline, &lane)?;
        if lane.is_out_of_order() {
            let last = by_landing.values().filter_map(last_of).max().unwrap_or(0);
            if last > sealed {
                out_of_order_batches.push((lane, last, by_landing));
            }
            continue;
        }
        let Some(arrival) = plan.arrivals.iter().find(|a| a.label == lane.arrival()) else {
            notices.push(format!("batches of lane {lane} were not taken over: no arrival of the pipeline has it now"));
            continue;
        };
        let merge = Merge { plan, arrival, lane: &lane, sealed, by_landing: &by_landing };
        merge.refuse_two_histories(ledger, &known)?;
        if let Some(one) = merge.lane(&mut notices)? {
            adopted.push((lane, one));
        }
    }
    for (lane, last, by_landing) in out_of_order_batches {
        let batches = again(&lane, &by_landing, &adopted, &known);
        adopted.push((lane, AdoptedLane { batches, last, positions: Vec::new() }));
    }
    refuse_joined(&adopted)?;
    refuse_another_order(plan, around, &adopted)?;
    only_furthest(&mut adopted)?;
    reach("adopt.before");
    let adoption = Adoption { lanes: &adopted, order, texts: &plan.texts, known: &plan.known() };
    ledger.adopt(&plan.pipeline, &adoption)?;
    reach("adopt.after");
    Ok(notices)
}

/// Refuses to adopt with stations that remember: their state is only in the lost ledger, and open windows would be incomplete.
fn refuse_remembered(plan: &Plan) -> Outcome<()> {
    let Some((event, _)) = plan.remembering().next() else { return Ok(()) };
    Err(Failure::findings(format!(
        "`{}` remembers events in the ledger that is lost: what has landed cannot be continued",
        plan.events[event].name
    ))
    .with_help("restore the ledger from a backup; or land elsewhere and read from the beginning"))
}

/// Batches of arrivals that shared a lane say nothing of how far each of them was read alone.
fn refuse_joined(adopted: &[(LaneId, AdoptedLane)]) -> Outcome<()> {
    let is_joined = |lane: &AdoptedLane| lane.positions.iter().any(|p| arrival_in(&p.partition).is_some());
    let Some((lane, _)) = adopted.iter().find(|(_, lane)| is_joined(lane)) else { return Ok(()) };
    Err(Failure::findings(format!("batches of lane {lane} were read when its events were joined with others"))
        .with_help("restore the ledger from a backup; or land elsewhere and read from the beginning"))
}

/// Batches of a replay or a retry, each with the batch whose events it reads again: the one whose ranges hold its own.
fn again(
    lane: &LaneId,
    by_landing: &BTreeMap<&str, NotedLane>,
    adopted: &[(LaneId, AdoptedLane)],
    known: &[BatchRecord],
) -> Vec<AdoptedBatch> {
    let main = lane.main();
    let own =
        adopted.iter().filter(|(l, _)| *l == main).flat_map(|(_, a)| a.batches.iter().map(|b| (b.number, &b.ranges)));
    let firsts: Vec<(u64, &Ranges)> =
        known.iter().filter(|b| b.lane == main).map(|b| (b.number, &b.ranges)).chain(own).collect();
    let mut found: BTreeMap<u64, AdoptedBatch> = BTreeMap::new();
    for (landing, noted) in by_landing {
        for batch in &noted.batches {
            let Some(range) = batch.ranges.0.first() else { continue };
            let first = firsts.iter().find(|(_, ranges)| ranges.cover(&range.partition, range.from));
            let Some((number, ranges)) = first else { continue };
            let whole = same_places(ranges, &batch.ranges);
            let one = found.entry(batch.number).or_insert_with(|| AdoptedBatch {
                number: batch.number,
                ranges: batch.ranges.clone(),
                present: Vec::new(),
                lacks: Vec::new(),
                reread: Some(Reread { first: (main.clone(), *number), whole }),
            });
            one.present.push((*landing).to_string());
        }
    }
    // Rejects are published last.
    for batch in found.values_mut().filter(|b| !b.present.iter().any(|l| l == REJECTS)) {
        batch.lacks.push(REJECTS.into());
    }
    found.into_values().collect()
}

/// Records name arrivals by their event and number. Where partitions of one are those of another arrival now, the
/// arrivals have changed places since, and their positions would be mixed up.
fn refuse_another_order(plan: &Plan, around: &Surroundings, adopted: &[(LaneId, AdoptedLane)]) -> Outcome<()> {
    if plan.arrivals.len() < 2 {
        return Ok(());
    }
    let mut there: Vec<(&str, BTreeSet<Arc<str>>)> = Vec::new();
    for arrival in &plan.arrivals {
        let states = arrival.view(around)?.states(&[])?;
        there.push((&arrival.label, states.into_iter().map(|state| state.partition).collect()));
    }
    for (lane, one) in adopted {
        let reads = |label: &str, partition: &Arc<str>| {
            there.iter().any(|(l, partitions)| *l == label && partitions.contains(partition))
        };
        for position in one.positions.iter().filter(|p| !reads(lane.arrival(), &p.partition)) {
            let other = there.iter().find(|(_, partitions)| partitions.contains(&position.partition));
            if let Some((other, _)) = other {
                return Err(Failure::findings(format!(
                    "what landed of {} was read from {}, which {other} reads now",
                    lane.arrival(),
                    position.partition
                ))
                .with_help(
                    "nothing was taken over. The arrivals have changed places since: put them into the order that they had, \
                     adopt, and change it afterwards",
                ));
            }
        }
    }
    Ok(())
}

/// A partition goes to another lane when their number changes: then only the lane that read it last tells how far it was
/// read. Records do not tell which lane that was, but what was read once starts where another lane ended.
fn only_furthest(adopted: &mut [(LaneId, AdoptedLane)]) -> Outcome<()> {
    let mut furthest: BTreeMap<(String, Arc<str>), (usize, PartitionPosition)> = BTreeMap::new();
    for place in 0..adopted.len() {
        let (lane, one) = &adopted[place];
        for own in &one.positions {
            let key = (lane.arrival().to_string(), Arc::clone(&own.partition));
            let Some((other, known)) = furthest.get(&key) else {
                furthest.insert(key, (place, own.clone()));
                continue;
            };
            let is_same = known.position == own.position && known.identity == own.identity;
            if !is_same && read_twice(&adopted[*other].1, &one.batches, &own.partition) {
                return Err(Failure::findings(format!(
                    "lanes {} and {lane} have both read the same ranges of {}, and their records do not show which \
                     read them last",
                    adopted[*other].0, own.partition
                ))
                .with_help(format!(
                    "nothing was taken over, since reading from the wrong place would lose events or land them twice. \
                     Restore the ledger; or land {} elsewhere and read from the beginning",
                    lane.arrival()
                )));
            }
            if own.position > known.position {
                furthest.insert(key, (place, own.clone()));
            }
        }
    }
    for (place, (lane, one)) in adopted.iter_mut().enumerate() {
        let arrival = lane.arrival().to_string();
        one.positions.retain(|own| {
            furthest.get(&(arrival.clone(), Arc::clone(&own.partition))).is_some_and(|(last, _)| *last == place)
        });
    }
    Ok(())
}

/// Whether batches of two lanes hold the same places of a partition.
fn read_twice(one: &AdoptedLane, others: &[AdoptedBatch], partition: &Arc<str>) -> bool {
    let places = |batches: &[AdoptedBatch]| -> Vec<(Position, Position)> {
        let ranges = batches.iter().flat_map(|b| b.ranges.0.iter());
        ranges.filter(|r| r.partition == *partition).map(|r| (r.from, r.to)).collect()
    };
    let others = places(others);
    places(&one.batches).iter().any(|(from, to)| others.iter().any(|(start, end)| start < to && from < end))
}

fn last_of(lane: &NotedLane) -> Option<u64> {
    lane.batches.iter().map(|b| b.number).max()
}

/// What the landings hold of one lane.
struct Merge<'a> {
    plan: &'a Plan,
    arrival: &'a ArrivalPlan,
    lane: &'a LaneId,
    /// The number of the last batch that the ledger has sealed itself.
    sealed: u64,
    by_landing: &'a BTreeMap<&'a str, NotedLane>,
}

impl Merge<'_> {
    /// Batches of another ledger under numbers that this one has used as well must be the same batches.
    fn refuse_two_histories(&self, ledger: &dyn Ledger, known: &[BatchRecord]) -> Outcome<()> {
        let own = |number: u64| known.iter().find(|b| b.lane == *self.lane && b.number == number);
        for (landing, noted) in self.by_landing {
            let foreign = noted.batches.iter().filter(|b| b.ledger != ledger.id() && b.number <= self.sealed);
            for batch in foreign {
                let differs = own(batch.number).is_some_and(|b| !same_places(&b.ranges, &batch.ranges));
                if differs {
                    return Err(Failure::findings(format!(
                        "{landing} holds a batch {} of lane {} that another ledger read, and this ledger has read a \
                         different batch {} of that lane",
                        batch.number, self.lane, batch.number
                    ))
                    .with_help(
                        "nothing was taken over. Two ledgers have both continued: land elsewhere, or name a new ledger \
                         file in sluice.toml and run with --adopt",
                    ));
                }
            }
        }
        Ok(())
    }

    fn lane(&self, notices: &mut Vec<String>) -> Outcome<Option<AdoptedLane>> {
        let Some(last) = self.by_landing.values().filter_map(last_of).max().filter(|last| *last > 0) else {
            return Ok(None);
        };
        let ranges = self.ranges();
        let positions = self.positions(last, &ranges)?;
        let reached: Vec<String> = match self.arrival.kind.is_feed() {
            true => self.only_all_together(last)?,
            false => self.reached(),
        };
        let mut batches = Vec::new();
        for (number, ranges) in &ranges {
            let holds = |landing: &&String| self.holds(landing, *number);
            let lacks = |landing: &&String| self.lacks(landing, *number, last);
            batches.push(AdoptedBatch {
                number: *number,
                ranges: ranges.clone(),
                present: reached.iter().filter(holds).cloned().collect(),
                lacks: reached.iter().filter(lacks).cloned().collect(),
                reread: None,
            });
        }
        for landing in &reached {
            let missing = (1..=last).find(|n| self.lacks(landing, *n, last) && !ranges.contains_key(n));
            if let Some(number) = missing {
                return Err(self.not_enough(&format!("what {landing} lacks of batch {number} is in no record")));
            }
            if landing != REJECTS && self.last_in(landing).is_none() && last > 1 {
                notices.push(format!(
                    "{landing} holds nothing of lane {}; it gets what is read from now on, and the rest by `sluice replay \
                     {} --batches 1-{last} --landing {landing}`",
                    self.lane, self.plan.pipeline
                ));
            }
        }
        let behind: u64 = batches.iter().filter(|b| !b.lacks.is_empty()).count() as u64;
        notices.push(format!(
            "took over lane {} up to batch {last}{}",
            self.lane,
            if behind > 0 { "; what some landings lack is read again for them" } else { "" }
        ));
        Ok(Some(AdoptedLane { batches, last, positions }))
    }

    /// What was read for each batch that a record names.
    fn ranges(&self) -> BTreeMap<u64, Ranges> {
        let mut found = BTreeMap::new();
        for batch in self.by_landing.values().flat_map(|noted| &noted.batches) {
            let known: &mut Ranges = found.entry(batch.number).or_default();
            if known.0.is_empty() {
                known.clone_from(&batch.ranges);
            }
        }
        found
    }

    /// How far each partition had been read.
    fn positions(&self, last: u64, ranges: &BTreeMap<u64, Ranges>) -> Outcome<Vec<PartitionPosition>> {
        let mut found: BTreeMap<Arc<str>, PartitionPosition> = BTreeMap::new();
        // A record that only sums up says how all partitions stood after its last batch.
        let sums = self.by_landing.values().filter_map(|noted| Some((last_of(noted)?, noted.read_to.clone()??)));
        let (from, summed) = sums.max_by_key(|(number, _)| *number).unwrap_or((self.sealed, Vec::new()));
        for position in summed {
            found.insert(Arc::clone(&position.partition), position);
        }
        let is_feed = self.arrival.kind.is_feed();
        let gap = (from + 1..=last).find(|number| ranges.get(number).is_none_or(|r| r.0.is_empty()));
        if let Some(number) = gap.filter(|number| !is_feed || *number == last) {
            return Err(self.not_enough(&format!("what was read for batch {number} is in no record")));
        }
        for range in ranges.range(from + 1..).flat_map(|(_, ranges)| &ranges.0) {
            let position = PartitionPosition {
                partition: Arc::clone(&range.partition),
                position: range.to,
                identity: range.identity.clone(),
            };
            found.insert(Arc::clone(&range.partition), position);
        }
        Ok(found.into_values().collect())
    }

    /// The landings that events of the arrival can reach, and that of rejects.
    fn reached(&self) -> Vec<String> {
        let places: BTreeSet<usize> = self.arrival.events().flat_map(|e| self.plan.landings_of(e)).collect();
        let labels = places.into_iter().map(|place| self.plan.landings[place].label.clone());
        labels.chain([REJECTS.to_string()]).collect()
    }

    /// A landing of a feed takes part in a batch only where it gets rows, so that its record does not tell whether it
    /// is behind.
    fn only_all_together(&self, last: u64) -> Outcome<Vec<String>> {
        let reached: Vec<String> = self.reached().into_iter().filter(|l| l != REJECTS).collect();
        let behind = reached.iter().find(|l| self.last_in(l) != Some(last));
        match behind {
            Some(landing) if reached.len() > 1 => Err(Failure::findings(format!(
                "{landing} does not have the last batch {last} of lane {}: its record does not show whether rows of \
                 that batch are missing or there were none",
                self.lane
            ))
            .with_help(format!(
                "nothing was taken over. To load every table again: sluice positions {} --set earliest",
                self.plan.pipeline
            ))),
            _ => Ok(reached),
        }
    }

    fn last_in(&self, landing: &str) -> Option<u64> {
        self.by_landing.get(landing).and_then(last_of)
    }

    fn holds(&self, landing: &str, number: u64) -> bool {
        let Some(noted) = self.by_landing.get(landing) else { return false };
        match noted.read_to {
            Some(_) => last_of(noted).is_some_and(|last| number <= last),
            None => noted.batches.iter().any(|b| b.number == number),
        }
    }

    /// Whether a landing is behind by a batch. One that holds nothing at all is a new one, unless it is about the
    /// first batch.
    fn lacks(&self, landing: &str, number: u64, last: u64) -> bool {
        match self.last_in(landing) {
            Some(own) => number > own,
            None => last == 1 && number == 1,
        }
    }

    fn not_enough(&self, why: &str) -> Failure {
        Failure::findings(format!("what landed of lane {} cannot be taken over: {why}", self.lane)).with_help(format!(
            "nothing was taken over, since reading from the wrong place would lose events or land them twice. Restore \
             the ledger; or land {} elsewhere and read from the beginning",
            self.arrival.label
        ))
    }
}

/// Whether two batches read the same, whatever their partitions looked like then.
fn same_places(a: &Ranges, b: &Ranges) -> bool {
    let places = |ranges: &Ranges| -> BTreeSet<(Arc<str>, Position, Position)> {
        ranges.0.iter().map(|r| (Arc::clone(&r.partition), r.from, r.to)).collect()
    };
    places(a) == places(b)
}
