//! What every intake of records must do. Each kind runs these on sources of its own.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use sluice_core::batch::{Range, Ranges};
use sluice_core::event::Chunk;
use sluice_core::kinds::{IntakeKind, IntakeView, LaneReader, Mark, PartitionPosition, Read, ReadLimit, Settings};

/// How long a source may take to show what was added.
const PATIENCE: Duration = Duration::from_secs(20);

/// A source of two partitions, in which every event is a JSON object with a number.
pub(crate) trait Source {
    /// The kind that reads it.
    fn kind(&self) -> &dyn IntakeKind;
    /// What it is opened with.
    fn settings(&self) -> Settings;
    /// Adds the events `from..to` at the end of a partition, 0 or 1.
    fn add(&self, partition: usize, from: u64, to: u64);
}

/// What reading brought: of each partition the numbers, in order.
#[derive(Debug, Default, PartialEq, Eq)]
struct Brought {
    numbers: BTreeMap<String, Vec<u64>>,
    /// Of each partition, where it has been read to.
    positions: BTreeMap<String, PartitionPosition>,
    ranges: Vec<Range>,
}

impl Brought {
    fn add(&mut self, chunk: &Chunk) {
        let name = chunk.partition.to_string();
        if let Some(before) = self.positions.get(&name) {
            assert_eq!(before.position, chunk.from, "a chunk follows the one before it");
        }
        let numbers: Vec<u64> = chunk
            .bytes
            .split(|b| *b == b'\n')
            .filter(|line| !line.trim_ascii().is_empty())
            .map(|line| serde_json::from_slice::<serde_json::Value>(line).unwrap()["n"].as_u64().unwrap())
            .collect();
        assert_eq!(numbers.len() as u64, chunk.records);
        self.numbers.entry(name.clone()).or_default().extend(numbers);
        let (partition, position) = (chunk.partition.clone(), chunk.to);
        self.ranges.push(Range {
            partition: partition.clone(),
            from: chunk.from,
            to: chunk.to,
            identity: chunk.identity.clone(),
        });
        self.positions.insert(name, PartitionPosition { partition, position, identity: chunk.identity.clone() });
    }

    fn all(&self) -> Vec<u64> {
        let mut all: Vec<u64> = self.numbers.values().flatten().copied().collect();
        all.sort_unstable();
        all
    }

    fn at(&self) -> Vec<PartitionPosition> {
        self.positions.values().cloned().collect()
    }
}

/// Opens a lane as a run does: partitions without a position begin where the arrival says.
fn lane(source: &dyn Source, lane: u32, lanes: u32, known: &[PartitionPosition]) -> Box<dyn LaneReader> {
    let intake = source.kind().open(&[source.settings()]).unwrap();
    let has_begun = !known.is_empty();
    let starts = intake.starts(known, has_begun).unwrap();
    let missing = starts.into_iter().filter(|s| known.iter().all(|k| k.partition != s.partition));
    let positions: Vec<PartitionPosition> = missing.chain(known.iter().cloned()).collect();
    intake.lane(lane, lanes, positions).unwrap()
}

fn view(source: &dyn Source) -> Box<dyn IntakeView> {
    source.kind().view(&[source.settings()]).unwrap()
}

/// Reads until everything has been read, or until so many records have come.
fn read(reader: &mut dyn LaneReader, records: u64, at_most: u64) -> Brought {
    let (mut brought, started) = (Brought::default(), Instant::now());
    let mut count = 0;
    while count < at_most {
        let limit = ReadLimit { records: records.min(at_most - count), bytes: 1 << 20, ends: false };
        match reader.read(limit).unwrap() {
            Read::Chunk(chunk) => {
                assert!(chunk.records <= limit.records, "{} records of {}", chunk.records, limit.records);
                count += chunk.records;
                brought.add(&chunk);
            }
            Read::CaughtUp => break,
            Read::Pending => {
                reader.wait(Duration::from_millis(10));
            }
            other => panic!("{other:?}"),
        }
        assert!(started.elapsed() < PATIENCE, "it does not catch up: {brought:?}");
    }
    brought
}

fn numbers(from: u64, to: u64) -> Vec<u64> {
    (from..to).collect()
}

fn filled(source: &dyn Source) {
    source.add(0, 0, 40);
    source.add(1, 40, 60);
}

pub(crate) fn everything_is_read_once_and_in_order(source: &dyn Source) {
    filled(source);
    let mut reader = lane(source, 0, 1, &[]);
    let brought = read(reader.as_mut(), 7, u64::MAX);
    assert_eq!(brought.numbers.len(), 2);
    let mut of_each: Vec<Vec<u64>> = brought.numbers.values().cloned().collect();
    of_each.sort();
    assert_eq!(of_each, [numbers(0, 40), numbers(40, 60)]);
    assert!(reader.confirm().unwrap(), "the source confirms what was read");
    // What comes later is read by the same reader.
    source.add(1, 60, 65);
    let (mut later, started) = (Vec::new(), Instant::now());
    while later.len() < 5 && started.elapsed() < PATIENCE {
        later.extend(read(reader.as_mut(), 7, u64::MAX).all());
    }
    assert_eq!(later, numbers(60, 65));
}

/// A partition of which something is left to read is among those that a lane reports, or it would be called silent.
pub(crate) fn what_is_unread_is_reported(source: &dyn Source) {
    filled(source);
    let mut lane = lane(source, 0, 1, &[]);
    let whole = read(view(source).sample(u64::MAX).unwrap().as_mut(), 1_000, u64::MAX);
    let mut read_so_far = Brought::default();
    loop {
        match lane.read(ReadLimit { records: 7, bytes: 1 << 20, ends: false }).unwrap() {
            Read::Chunk(chunk) => {
                read_so_far.add(&chunk);
                let unread = lane.unread();
                for (partition, numbers) in &whole.numbers {
                    let is_over = read_so_far.numbers.get(partition).is_some_and(|read| read == numbers);
                    assert!(is_over || unread.iter().any(|name| **name == **partition), "{partition}: {unread:?}");
                }
            }
            Read::CaughtUp => break,
            Read::Pending => drop(lane.wait(Duration::from_millis(10))),
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(lane.unread().len(), 0, "{:?}", lane.unread());
}

pub(crate) fn reading_goes_on_where_it_was(source: &dyn Source) {
    filled(source);
    let mut brought = Vec::new();
    let mut at = Vec::new();
    // Each reader is dropped after a few events, as if the run had been killed after a batch.
    for _ in 0..20 {
        let part = read(lane(source, 0, 1, &at).as_mut(), 3, 3);
        if part.numbers.is_empty() {
            break;
        }
        brought.extend(part.all());
        let untouched = at.iter().filter(|p| !part.positions.contains_key(&*p.partition)).cloned();
        at = untouched.chain(part.at()).collect();
    }
    brought.extend(read(lane(source, 0, 1, &at).as_mut(), 1_000, u64::MAX).all());
    brought.sort_unstable();
    assert_eq!(brought, numbers(0, 60));
}

pub(crate) fn what_was_not_sealed_is_read_again(source: &dyn Source) {
    filled(source);
    let first = read(lane(source, 0, 1, &[]).as_mut(), 5, 20);
    let at = first.at();
    let lost = read(lane(source, 0, 1, &at).as_mut(), 1_000, u64::MAX);
    let again = read(lane(source, 0, 1, &at).as_mut(), 1_000, u64::MAX);
    assert_eq!(lost.numbers, again.numbers);
    let mut all = [first.all(), again.all()].concat();
    all.sort_unstable();
    assert_eq!(all, numbers(0, 60));
}

pub(crate) fn each_partition_has_one_lane(source: &dyn Source) {
    filled(source);
    for lanes in [1, 2, 3, 7] {
        let mut all = Vec::new();
        for number in 0..lanes {
            all.extend(read(lane(source, number, lanes, &[]).as_mut(), 1_000, u64::MAX).all());
        }
        all.sort_unstable();
        assert_eq!(all, numbers(0, 60), "{lanes} lanes");
    }
}

pub(crate) fn ranges_are_read_again_exactly(source: &dyn Source) {
    filled(source);
    let brought = read(lane(source, 0, 1, &[]).as_mut(), 9, u64::MAX);
    let wanted: Vec<Range> = brought.ranges.iter().step_by(2).cloned().collect();
    assert!(wanted.len() > 2, "{wanted:?}");
    let of = |range: &Range| read_ranges(source, vec![range.clone()]);
    let mut each: Vec<u64> = wanted.iter().flat_map(of).collect();
    each.sort_unstable();
    assert_eq!(read_ranges(source, wanted), each);
    assert_eq!(read_ranges(source, brought.ranges.clone()), numbers(0, 60));
}

fn read_ranges(source: &dyn Source, ranges: Vec<Range>) -> Vec<u64> {
    let mut reader = view(source).ranges(&Ranges(ranges)).unwrap();
    let mut found = Vec::new();
    loop {
        let limit = ReadLimit { records: 4, bytes: 1 << 20, ends: false };
        match reader.read(limit).unwrap() {
            Read::Chunk(chunk) => {
                let mut one = Brought::default();
                one.add(&chunk);
                found.extend(one.all());
            }
            Read::CaughtUp => break,
            Read::Pending => {}
            other => panic!("{other:?}"),
        }
    }
    found.sort_unstable();
    found
}

pub(crate) fn looking_moves_nothing(source: &dyn Source) {
    filled(source);
    let mut reader = lane(source, 0, 1, &[]);
    let first = read(reader.as_mut(), 5, 10);
    let looking = view(source);
    let sample = read(looking.sample(8).unwrap().as_mut(), 8, 8);
    assert!(!sample.all().is_empty() && sample.all().len() <= 8);
    looking.states(&first.at()).unwrap();
    looking.behind(&first.at()).unwrap();
    looking.find(&Mark::Latest).unwrap();
    let rest = read(reader.as_mut(), 1_000, u64::MAX);
    let mut all = [first.all(), rest.all()].concat();
    all.sort_unstable();
    assert_eq!(all, numbers(0, 60));
}

pub(crate) fn what_is_left_agrees_with_what_was_read(source: &dyn Source) {
    filled(source);
    let looking = view(source);
    let before = looking.behind(&[]).unwrap();
    assert_eq!((before.partitions, before.unread_partitions), (2, 2));
    assert!(before.events == 60 || (before.events == 0 && before.bytes > 0), "{before:?}");
    let brought = read(lane(source, 0, 1, &[]).as_mut(), 1_000, u64::MAX);
    let after = looking.behind(&brought.at()).unwrap();
    assert_eq!((after.unread_partitions, after.events, after.bytes, after.misplaced), (0, 0, 0, 0));
    for state in looking.states(&brought.at()).unwrap() {
        let at = brought.positions.get(&*state.partition).unwrap();
        assert_eq!(state.latest, at.position, "{state:?}");
        assert_eq!(state.misplaced(at), None);
    }
}

pub(crate) fn an_empty_source_has_caught_up(source: &dyn Source) {
    let mut reader = lane(source, 0, 1, &[]);
    assert_eq!(read(reader.as_mut(), 10, u64::MAX), Brought::default());
    assert!(reader.confirm().unwrap());
    assert_eq!(view(source).behind(&[]).unwrap().events, 0);
}
