use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Int64Type, TimestampMicrosecondType};
use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray};
use proptest::prelude::*;
use rstest::rstest;

use super::fixed::{Windows, virtual_columns};
use super::{WindowPlan, WindowShape};
use crate::columns::OutputColumn;
use crate::expr::SelectItem;
use crate::failure::Outcome;
use crate::plan::Transform;
use crate::plan::transform::schema_of;
use crate::state::{AggregateCall, AggregateKind, FoundState, KeptStation, NEVER, StateInput, StateStore, Station};
use crate::types::SqlType;

/// What a ledger would keep.
#[derive(Clone, Default)]
struct Store(BTreeMap<Box<[u8]>, Vec<u8>>);

impl StateStore for Store {
    fn kept(&self, _: &str) -> Outcome<Option<KeptStation>> {
        Ok(None)
    }

    fn values(&self, _: &str, keys: &[&[u8]]) -> Outcome<Vec<Option<Vec<u8>>>> {
        Ok(keys.iter().map(|key| self.0.get(*key).cloned()).collect())
    }

    fn each(&self, _: &str, found: &mut FoundState<'_>) -> Outcome<()> {
        self.0.iter().try_for_each(|(key, value)| found(key, value))
    }
}

impl Store {
    fn take(&mut self, station: &mut Windows) {
        for change in station.changes(0, 0).0 {
            match change.value {
                Some(value) => drop(self.0.insert(change.key, value)),
                None => assert!(self.0.remove(&change.key).is_some(), "what was never kept is removed"),
            }
        }
    }
}

fn column(name: &str, ty: SqlType) -> OutputColumn {
    OutputColumn { name: name.into(), ty, nullable: true }
}

fn prepared() -> Vec<OutputColumn> {
    vec![column("lock", SqlType::Text), column("@time", SqlType::Timestamptz), column("@argument", SqlType::Bigint)]
}

fn plan(shape: WindowShape, late: i64, gives_changes: bool) -> Arc<WindowPlan> {
    let groups = vec![(0, column("lock", SqlType::Text))];
    let call = |kind, argument, text: &str| AggregateCall { kind, argument, filter: None, text: text.into() };
    let calls = vec![
        call(AggregateKind::Count, None, "count(*)"),
        call(AggregateKind::Sum, Some((2, SqlType::Bigint)), "sum(n)"),
    ];
    let columns = virtual_columns(&groups, &calls);
    let items = columns.iter().enumerate().map(|(i, c)| SelectItem::of_column(i, c)).collect();
    let select = Transform::new(None, items, &columns);
    let (idle, ahead) = (0, i64::MAX);
    Arc::new(WindowPlan {
        shape,
        groups,
        time: 1,
        calls,
        select,
        gives_changes,
        closes_when_caught_up: false,
        late,
        idle,
        ahead,
        most: usize::MAX,
    })
}

/// An event: its lock, its time, its number.
type Event = (u8, i64, i64);

fn rows(events: &[Event]) -> RecordBatch {
    let locks: ArrayRef = Arc::new(StringArray::from_iter_values(events.iter().map(|e| format!("L{}", e.0))));
    let times: ArrayRef =
        Arc::new(TimestampMicrosecondArray::from_iter_values(events.iter().map(|e| e.1)).with_timezone("UTC"));
    let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(events.iter().map(|e| e.2)));
    RecordBatch::try_new(schema_of(&prepared()), vec![locks, times, numbers]).unwrap()
}

/// A row that was given on: the lock, where the window begins, how many events, their sum.
type Row = (String, i64, i64, i64);

fn given(rows: Option<RecordBatch>) -> Vec<Row> {
    let Some(rows) = rows else { return Vec::new() };
    let whole = |i: usize| rows.column(i).as_primitive::<Int64Type>().values().to_vec();
    let starts = rows.column(1).as_primitive::<TimestampMicrosecondType>().values().to_vec();
    let locks = rows.column(0).as_string::<i32>().iter().map(|l| l.unwrap().to_string());
    locks
        .zip(starts)
        .zip(whole(3))
        .zip(whole(4))
        .map(|(((lock, start), count), sum)| (lock, start, count, sum))
        .collect()
}

/// The watermarks of events that all come from one partition.
fn watermarks(newest: &mut i64, events: &[Event]) -> Vec<i64> {
    events
        .iter()
        .map(|event| {
            let before = *newest;
            *newest = before.max(event.1);
            before
        })
        .collect()
}

/// For each lock and window how many events there are, and their sum.
type Groups = BTreeMap<(String, i64), (i64, i64)>;

/// What all windows give, computed at once; and the number of late events.
fn expected(events: &[Event], shape: WindowShape, late: i64) -> (Groups, u64) {
    let mut found = Groups::new();
    let (mut newest, mut too_late) = (NEVER, 0);
    for (lock, time, number) in events {
        let closed = if newest == NEVER { NEVER } else { newest - late };
        let is_open = |start: &i64| start + shape.length > closed;
        let all = (0..shape.length / shape.every + 1).map(|i| (time.div_euclid(shape.every) - i) * shape.every);
        let own: Vec<i64> =
            all.filter(|start| *start <= *time && start + shape.length > *time).filter(is_open).collect();
        too_late += u64::from(own.is_empty());
        for start in own {
            let group = found.entry((format!("L{lock}"), start)).or_default();
            *group = (group.0 + 1, group.1 + number);
        }
        newest = newest.max(*time);
    }
    (found, too_late)
}

proptest! {
    #[test]
    fn windows_are_those_of_all_events_at_once_however_they_come(
        events in prop::collection::vec((0_u8..4, -50_i64..400, -9_i64..9), 1..200),
        cuts in prop::collection::vec((1_usize..12, any::<bool>()), 1..60),
        every in 1_i64..20,
        times in 1_i64..4,
        late in 0_i64..60,
    ) {
        let shape = WindowShape { length: every * times, every };
        let plan = plan(shape, late, false);
        let mut store = Store::default();
        let mut station = Windows::open("minute", Arc::clone(&plan), &store).unwrap();
        let mut newest = NEVER;
        let (mut landed, mut rejected, mut held, mut merged) = (Vec::new(), 0, 0, 0);
        let mut left = events.as_slice();
        let mut sizes = cuts.iter().cycle();
        while !left.is_empty() {
            let (size, again) = sizes.next().unwrap();
            let (now, rest) = left.split_at(left.len().min(*size));
            left = rest;
            let watermarks = watermarks(&mut newest, now);
            let taken = station.take(StateInput { rows: &rows(now), watermarks: &watermarks, now: 0 }, &store).unwrap();
            rejected += taken.count.rejected;
            held += taken.count.held;
            let ended = station.end(newest, false).unwrap();
            prop_assert!(ended.count.check().is_ok(), "{:?}", ended.count);
            held += ended.count.held;
            merged += ended.count.merged;
            landed.extend(given(ended.rows));
            store.take(&mut station);
            if *again {
                // The process ends, and another one goes on.
                station = Windows::open("minute", Arc::clone(&plan), &store).unwrap();
            }
        }
        prop_assert_eq!(held, i64::try_from(events.len()).unwrap() - i64::try_from(rejected + merged).unwrap());
        let last = station.end(newest, true).unwrap();
        landed.extend(given(last.rows));
        prop_assert_eq!(held + last.count.held, 0, "nothing is remembered when all windows are closed");
        store.take(&mut station);
        prop_assert_eq!(store.0.len(), 1, "but for up to where they are");
        let (expected, too_late) = expected(&events, shape, late);
        let found: Groups =
            landed.iter().map(|(lock, start, count, sum)| ((lock.clone(), *start), (*count, *sum))).collect();
        prop_assert_eq!(found.len(), landed.len(), "no group is given twice");
        prop_assert_eq!(found, expected);
        prop_assert_eq!(rejected, too_late);
    }
}

#[rstest]
#[case(10, 10, 25, &[20])]
#[case(10, 10, -1, &[-10])]
#[case(10, 10, 20, &[20])]
#[case(30, 10, 25, &[20, 10, 0])]
#[case(25, 10, 25, &[20, 10])]
#[case(10, 10, i64::MAX, &[i64::MAX - 7])]
#[case(10, 10, i64::MIN, &[])]
fn the_windows_of_a_moment(#[case] length: i64, #[case] every: i64, #[case] time: i64, #[case] expected: &[i64]) {
    assert_eq!(WindowShape { length, every }.starts(time).collect::<Vec<_>>(), expected);
}

#[test]
fn present_values_are_given_with_each_batch_that_changed_them() {
    let plan = plan(WindowShape { length: 10, every: 10 }, 0, true);
    let mut station = Windows::open("minute", plan, &Store::default()).unwrap();
    let mut batch = |events: &[Event], newest: i64| {
        let watermarks = vec![NEVER; events.len()];
        station.take(StateInput { rows: &rows(events), watermarks: &watermarks, now: 0 }, &Store::default()).unwrap();
        let ended = station.end(newest, false).unwrap();
        assert_eq!(ended.count.made, ended.count.output);
        assert!(!station.changes(newest, 0).0.is_empty());
        given(ended.rows)
    };
    assert_eq!(batch(&[(1, 3, 5), (2, 4, 1)], 4), [("L1".into(), 0, 1, 5), ("L2".into(), 0, 1, 1)]);
    assert_eq!(batch(&[(1, 6, 2)], 6), [("L1".into(), 0, 2, 7)]);
    assert_eq!(batch(&[(1, 12, 1)], 12), [("L1".into(), 10, 1, 1)], "a group that closes unchanged is not given again");
}

#[test]
fn what_is_damaged_is_named() {
    let plan = plan(WindowShape { length: 10, every: 10 }, 0, false);
    for (key, value) in [(&[][..], &[1_u8][..]), (&[0; 3], &[1]), (&[0; 8], &[1]), (&[0; 8], &[9; 40])] {
        let store = Store([(key.into(), value.to_vec())].into());
        let failure = Windows::open("minute", Arc::clone(&plan), &store).err().unwrap();
        assert!(failure.message.contains("what `minute` remembers in the ledger is damaged"), "{}", failure.message);
    }
}
