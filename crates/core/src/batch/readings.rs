//! Which readings of an event count: the model that decides what a batch replaces, and which rejects are still open.
//!
//! A main batch reads events for the first time. Every later reading of some of them is a batch beside it, of a replay
//! or of a retry, and names that first batch. Together they are the *readings* of the first batch. For each landing the
//! newest reading of an event decides what stands there:
//!
//! - a *whole* reading (a replay, in place or into one landing) replaces what all earlier readings of the same first
//!   batch have landed in the landings that it writes;
//! - a *retry* reads single events again that the newest reading has rejected, and adds their rows.
//!
//! So the order of replays, replays into another landing and retries does not matter, nor how often each is done, nor
//! where one was broken off.

use std::collections::HashMap;

use super::BatchName;
use crate::event::Position;
use crate::ledger::{BatchRecord, BatchState};
use crate::reject::REJECTS;

/// All sealed batches of a pipeline, seen as readings.
pub struct Readings<'a> {
    /// By their first batch, in the order in which they were opened.
    groups: HashMap<BatchName, Vec<&'a BatchRecord>>,
}

impl<'a> Readings<'a> {
    /// The readings among all batches of a pipeline.
    pub fn new(batches: &'a [BatchRecord]) -> Self {
        let mut groups: HashMap<BatchName, Vec<&BatchRecord>> = HashMap::new();
        for batch in batches.iter().filter(|b| b.state != BatchState::Open) {
            groups.entry(first_of(batch)).or_default().push(batch);
        }
        groups.values_mut().for_each(|group| group.sort_by_key(|b| b.opened));
        Self { groups }
    }

    /// The readings of a first batch, itself the first of them, oldest first.
    pub fn of(&self, first: &BatchName) -> &[&'a BatchRecord] {
        self.groups.get(first).map_or(&[], Vec::as_slice)
    }

    /// The readings of a first batch that took part in a landing: those whose rows the next whole reading replaces.
    pub fn in_landing(&self, first: &BatchName, landing: &str) -> Vec<&'a BatchRecord> {
        self.of(first).iter().filter(|b| takes_part(b, landing)).copied().collect()
    }

    /// The reading that decided last about an event in a landing.
    pub fn newest(
        &self,
        first: &BatchName,
        landing: &str,
        partition: &str,
        position: Position,
    ) -> Option<&'a BatchRecord> {
        let decides =
            |b: &&&BatchRecord| takes_part(b, landing) && (is_whole(b) || b.ranges.cover(partition, position));
        self.of(first).iter().rev().find(decides).copied()
    }

    /// The landings for which a reject still stands: those about which no later reading has decided. `station` is the
    /// landing that rejected the event, or None where it was rejected before it came to any.
    pub fn open_for(
        &self,
        batch: &'a BatchRecord,
        station: Option<&str>,
        partition: &str,
        position: Position,
    ) -> Vec<&'a str> {
        let first = first_of(batch);
        let is_target = |landing: &str| landing != REJECTS && station.is_none_or(|station| station == landing);
        let mut open = Vec::new();
        // Of a batch that was taken over without its rejects, those that were found again later are the rejects.
        let adopted = self.of(&first).iter().filter(|b| b.opened < batch.opened && lacks_rejects(b));
        for reading in std::iter::once(batch).chain(adopted.copied()) {
            let landings = reading.landings.iter().map(|l| l.landing.as_str());
            for landing in landings.filter(|l| is_target(l) && takes_part(reading, l)) {
                let newest = self.newest(&first, landing, partition, position);
                if newest.is_some_and(|b| b.opened == reading.opened) && !open.contains(&landing) {
                    open.push(landing);
                }
            }
        }
        open
    }

    /// Whether a name is that of a landing which a reading of a first batch has written.
    pub fn is_landing(&self, first: &BatchName, name: &str) -> bool {
        self.of(first).iter().any(|b| b.landings.iter().any(|l| l.landing == name))
    }
}

/// The name of the batch that read the events of a batch first.
pub fn first_of(batch: &BatchRecord) -> BatchName {
    batch.first.clone().unwrap_or_else(|| (batch.lane.clone(), batch.number))
}

/// Whether a batch was taken over from landings without the rejects that it had: they may have been read again already
/// when a ledger was lost before.
fn lacks_rejects(batch: &BatchRecord) -> bool {
    batch.state == BatchState::Adopted && !batch.landings.iter().any(|l| l.landing == REJECTS && l.landed_at.is_some())
}

/// Whether a batch reads all events of its first batch.
fn is_whole(batch: &BatchRecord) -> bool {
    batch.first.is_none() || batch.whole
}

/// A batch that was taken over names the landings that lack it as well.
fn takes_part(batch: &BatchRecord, landing: &str) -> bool {
    let is_there = |landed: bool| landed || batch.state != BatchState::Adopted;
    batch.landings.iter().any(|l| l.landing == landing && is_there(l.landed_at.is_some()))
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use rstest::rstest;

    use super::*;
    use crate::batch::{LaneId, Range, Ranges};
    use crate::ledger::LandingRecord;

    /// A batch of positions in `a`: name, whole reading, positions, landings.
    type Case<'c> = (&'c str, bool, (u64, u64), &'c [&'c str]);

    fn batches(cases: &[Case<'_>]) -> Vec<BatchRecord> {
        let main = LaneId::new("passage.0", 0);
        let one = |(i, (name, whole, (from, to), landings)): (usize, &Case<'_>)| {
            let (is_first, number) = (!name.starts_with('~'), name.trim_start_matches('~').parse().unwrap());
            let range = Range {
                partition: Arc::from("a"),
                from: Position::at(*from),
                to: Position::at(*to),
                identity: String::new(),
            };
            let landing = |name: &&str| LandingRecord {
                landing: (*name).into(),
                rows: 1,
                bytes: 0,
                landed_at: Some(0),
                newest: None,
                detail: serde_json::Value::Null,
            };
            BatchRecord {
                lane: if is_first { main.clone() } else { main.out_of_order(number) },
                number: if is_first { number } else { 1 },
                opened: i as u64 + 1,
                state: BatchState::Settled,
                read: 1,
                bytes: 1,
                rejected: 0,
                opened_at: 0,
                sealed_at: None,
                settled_at: None,
                texts: None,
                ranges: Ranges(vec![range]),
                counts: Vec::new(),
                landings: landings.iter().map(landing).collect(),
                first: (!is_first).then(|| (main.clone(), 1)),
                whole: *whole,
                replaced_by: None,
                marks: None,
            }
        };
        cases.iter().enumerate().map(one).collect()
    }

    const MAIN: Case<'_> = ("1", true, (0, 10), &["x", "rejects"]);

    /// The landings for which the reject at position 3 of each batch still stands.
    #[rstest]
    #[case::nothing_since(&[MAIN], &["x"])]
    #[case::tried_again(&[MAIN, ("~1", false, (3, 4), &["x", "rejects"])], &["", "x"])]
    #[case::another_was_tried(&[MAIN, ("~1", false, (5, 6), &["x", "rejects"])], &["x", ""])]
    #[case::replayed(&[MAIN, ("~1", true, (0, 10), &["x", "rejects"])], &["", "x"])]
    #[case::tried_then_replayed(
        &[MAIN, ("~1", false, (3, 4), &["x", "rejects"]), ("~2", true, (0, 10), &["x", "rejects"])],
        &["", "", "x"]
    )]
    #[case::replayed_into_another(&[MAIN, ("~1", true, (0, 10), &["new", "rejects"])], &["x", "new"])]
    #[case::into_another_then_tried(
        &[MAIN, ("~1", true, (0, 10), &["new", "rejects"]), ("~2", false, (3, 4), &["x", "new", "rejects"])],
        &["", "", "x,new"]
    )]
    fn the_newest_reading_decides(#[case] cases: &[Case<'_>], #[case] expected: &[&str]) {
        let batches = batches(cases);
        let readings = Readings::new(&batches);
        let open = |b: &BatchRecord| readings.open_for(b, None, "a", Position::at(3)).join(",");
        let found: Vec<String> = batches.iter().filter(|b| b.ranges.cover("a", Position::at(3))).map(open).collect();
        let expected: Vec<&str> = batches
            .iter()
            .zip(expected)
            .filter(|(b, _)| b.ranges.cover("a", Position::at(3)))
            .map(|(_, e)| *e)
            .collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn a_whole_reading_replaces_all_earlier_ones_in_its_landings() {
        let batches = batches(&[
            MAIN,
            ("~1", false, (3, 4), &["x", "rejects"]),
            ("~2", true, (0, 10), &["new", "rejects"]),
            ("2", true, (10, 20), &["x", "new", "rejects"]),
        ]);
        let readings = Readings::new(&batches);
        let first = (LaneId::new("passage.0", 0), 1);
        let names = |landing| -> Vec<String> {
            readings.in_landing(&first, landing).iter().map(|b| format!("{}.{}", b.lane, b.number)).collect()
        };
        assert_eq!(names("x"), ["passage.0.0.1", "passage.0.0~1.1"]);
        assert_eq!(names("new"), ["passage.0.0~2.1"]);
        assert_eq!(names("rejects").len(), 3);
    }
}
