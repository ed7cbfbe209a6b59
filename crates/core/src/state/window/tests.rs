use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Int64Type, TimestampMicrosecondType};
use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray};
use proptest::prelude::*;
use rstest::rstest;

use super::{FixedShape, SessionShape, WindowPlan, WindowShape, Windows, virtual_columns};
use crate::columns::OutputColumn;
use crate::expr::SelectItem;
use crate::plan::Transform;
use crate::plan::transform::schema_of;
use crate::state::testing::{Hasty, Store};
use crate::state::{AggregateCall, AggregateKind, Given, NEVER, StateInput, Station};
use crate::types::SqlType;

/// The ledger gets what has changed.
fn keep(store: &mut Store, station: &mut Windows) {
    let changed = station.changes(store.end(0), store).unwrap();
    store.stage(changed);
}

/// All that is given at the end of a batch.
fn ended(station: &mut Windows, newest: i64, all: bool, store: &Store) -> Vec<Given> {
    let mut given = Vec::new();
    loop {
        let part = station.end(newest, all, store).unwrap();
        assert!(part.count.check().is_ok(), "{:?}", part.count);
        let has_more = part.has_more;
        given.push(part);
        if !has_more {
            return given;
        }
    }
}

/// How many events are held more than before.
fn held_by(given: &[Given]) -> i64 {
    given.iter().map(|part| part.count.held).sum()
}

/// So many groups have room in memory; now and then all.
fn room() -> impl Strategy<Value = usize> {
    prop_oneof![1 => Just(usize::MAX), 3 => 1..6_usize]
}

fn column(name: &str, ty: SqlType) -> OutputColumn {
    OutputColumn { name: name.into(), ty, nullable: true, limit: None }
}

fn prepared() -> Vec<OutputColumn> {
    vec![column("lock", SqlType::Text), column("@time", SqlType::Timestamptz), column("@argument", SqlType::Bigint)]
}

fn plan(shape: impl Into<WindowShape>, late: i64, gives_changes: bool) -> Arc<WindowPlan> {
    let groups = vec![(0, column("lock", SqlType::Text))];
    let call = |kind, argument, text: &str| AggregateCall {
        kind,
        argument,
        filter: None,
        share: 0.0,
        most: None,
        text: text.into(),
    };
    let calls = vec![
        call(AggregateKind::Count, None, "count(*)"),
        call(AggregateKind::Sum, Some((2, SqlType::Bigint)), "sum(n)"),
    ];
    let columns = virtual_columns(&groups, &calls);
    let items = columns.iter().enumerate().map(|(i, c)| SelectItem::of_column(i, c)).collect();
    let select = Transform::new(None, items, &columns);
    let (idle, ahead) = (0, i64::MAX);
    Arc::new(WindowPlan {
        shape: shape.into(),
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
        in_memory: usize::MAX,
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
fn expected(events: &[Event], shape: FixedShape, late: i64) -> (Groups, u64) {
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
        cuts in prop::collection::vec((1_usize..12, prop::bool::weighted(0.15)), 1..60),
        every in 1_i64..20,
        times in 1_i64..4,
        late in 0_i64..60,
        room in room(),
        behind in 0..4_usize,
    ) {
        let shape = FixedShape { length: every * times, every };
        let plan = Arc::new(WindowPlan { in_memory: room, ..Arc::unwrap_or_clone(plan(shape, late, false)) });
        let mut store = Store::behind(behind);
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
            let taken = station.take(StateInput { rows: &rows(now), watermarks: &watermarks, now: 0, side: 0, reading: 0, marks: None }, &store).unwrap();
            rejected += taken.count.rejected;
            held += taken.count.held;
            let would = station.would_give(newest, false);
            let ended = ended(&mut station, newest, false, &store);
            prop_assert_eq!(would, ended.iter().any(|part| part.rows.is_some()));
            held += held_by(&ended);
            merged += ended.iter().map(|part| part.count.merged).sum::<u64>();
            landed.extend(ended.into_iter().flat_map(|part| given(part.rows)));
            keep(&mut store, &mut station);
            prop_assert_eq!(station.standing().events, u64::try_from(held).unwrap());
            if *again {
                store.seal_all();
                // The process ends, and another one goes on.
                station = Windows::open("minute", Arc::clone(&plan), &store).unwrap();
            }
        }
        prop_assert_eq!(held, i64::try_from(events.len()).unwrap() - i64::try_from(rejected + merged).unwrap());
        let last = ended(&mut station, newest, true, &store);
        prop_assert_eq!(held + held_by(&last), 0, "nothing is remembered when all windows are closed");
        landed.extend(last.into_iter().flat_map(|part| given(part.rows)));
        keep(&mut store, &mut station);
        store.seal_all();
        prop_assert_eq!(store.sealed.len(), 1, "but for up to where they are");
        let (expected, too_late) = expected(&events, shape, late);
        let found: Groups =
            landed.iter().map(|(lock, start, count, sum)| ((lock.clone(), *start), (*count, *sum))).collect();
        prop_assert_eq!(found.len(), landed.len(), "no group is given twice");
        prop_assert_eq!(found, expected);
        prop_assert_eq!(rejected, too_late);
    }
}

/// What all sessions give, computed at once from the events that are not late; and the number of late ones.
fn expected_sessions(events: &[Event], gap: i64, late: i64) -> (Groups, u64) {
    let (mut newest, mut too_late) = (NEVER, 0);
    let mut by_lock: BTreeMap<u8, Vec<(i64, i64)>> = BTreeMap::new();
    for (lock, time, number) in events {
        match newest != NEVER && *time < newest - late {
            true => too_late += 1,
            false => by_lock.entry(*lock).or_default().push((*time, *number)),
        }
        newest = newest.max(*time);
    }
    let mut found = Groups::new();
    for (lock, mut times) in by_lock {
        times.sort_unstable();
        let mut start = times[0].0;
        let mut last = start;
        for (time, number) in times {
            if time - last >= gap {
                start = time;
            }
            last = time;
            let group = found.entry((format!("L{lock}"), start)).or_default();
            *group = (group.0 + 1, group.1 + number);
        }
    }
    (found, too_late)
}

/// The same, while batches are sealed: one after every so many times that the ledger is read.
fn ended_while_sealing(
    station: &mut Windows,
    (newest, all): (i64, bool),
    store: &mut Store,
    every: usize,
) -> Vec<Given> {
    let hasty = Hasty { store: RefCell::new(std::mem::take(store)), every, read: Cell::new(0) };
    let mut parts = Vec::new();
    loop {
        let part = station.end(newest, all, &hasty).unwrap();
        let has_more = part.has_more;
        parts.push(part);
        if !has_more {
            *store = hasty.store.into_inner();
            return parts;
        }
    }
}

/// Takes events in batches through a station that is opened again now and then; gives the rows, and what was rejected.
fn through(plan: &Arc<WindowPlan>, events: &[Event], cuts: &[(usize, bool)], behind: usize) -> (Vec<Row>, u64) {
    let mut store = Store::behind(behind);
    let mut station = Windows::open("sessions", Arc::clone(plan), &store).unwrap();
    let (mut newest, mut landed, mut rejected, mut held) = (NEVER, Vec::new(), 0, 0);
    let mut left = events;
    let mut sizes = cuts.iter().cycle();
    while !left.is_empty() {
        let (size, again) = sizes.next().unwrap();
        let (now, rest) = left.split_at(left.len().min(*size));
        left = rest;
        let watermarks = watermarks(&mut newest, now);
        let taken = station
            .take(
                StateInput { rows: &rows(now), watermarks: &watermarks, now: 0, side: 0, reading: 0, marks: None },
                &store,
            )
            .unwrap();
        let would = station.would_give(newest, false);
        let ended = ended_while_sealing(&mut station, (newest, false), &mut store, *size);
        let gave = ended.iter().any(|part| part.rows.is_some());
        // A session in the ledger may have grown in memory since: then the next question is answered better.
        assert!(would == gave || would && plan.in_memory < usize::MAX);
        assert!(!would || !station.would_give(newest, false), "nothing is left to give");
        rejected += taken.count.rejected;
        held += taken.count.held + held_by(&ended);
        landed.extend(ended.into_iter().flat_map(|part| given(part.rows)));
        keep(&mut store, &mut station);
        assert_eq!(station.standing().events, u64::try_from(held).unwrap());
        if *again {
            store.seal_all();
            station = Windows::open("sessions", Arc::clone(plan), &store).unwrap();
            assert_eq!(station.standing().events, u64::try_from(held).unwrap());
        }
    }
    let last = ended_while_sealing(&mut station, (newest, true), &mut store, 1);
    assert_eq!(held + held_by(&last), 0, "nothing is remembered when all sessions are closed");
    landed.extend(last.into_iter().flat_map(|part| given(part.rows)));
    keep(&mut store, &mut station);
    store.seal_all();
    assert_eq!(store.sealed.len(), 1, "but for up to where they are");
    (landed, rejected)
}

proptest! {
    #[test]
    fn sessions_are_those_of_all_events_at_once_however_they_come(
        events in prop::collection::vec((0_u8..9, -50_i64..400, -9_i64..9), 1..150),
        cuts in prop::collection::vec((1_usize..12, prop::bool::weighted(0.15)), 1..40),
        gap in 1_i64..30,
        late in 0_i64..120,
        room in room(),
        behind in 0..4_usize,
    ) {
        let plan = plan(SessionShape { gap, longest: i64::MAX }, late, false);
        let plan = Arc::new(WindowPlan { in_memory: room, ..Arc::unwrap_or_clone(plan) });
        let (landed, rejected) = through(&plan, &events, &cuts, behind);
        let (expected, too_late) = expected_sessions(&events, gap, late);
        let found: Groups =
            landed.iter().map(|(lock, start, count, sum)| ((lock.clone(), *start), (*count, *sum))).collect();
        prop_assert_eq!(found.len(), landed.len(), "no session is given twice");
        prop_assert_eq!(found, expected);
        prop_assert_eq!(rejected, too_late);
    }

    #[test]
    fn a_session_is_never_longer_than_allowed_and_no_event_is_lost(
        events in prop::collection::vec((0_u8..2, 0_i64..300, 1_i64..2), 1..150),
        cuts in prop::collection::vec((1_usize..12, any::<bool>()), 1..40),
        gap in 1_i64..20,
        more in 0_i64..40,
        room in room(),
        behind in 0..4_usize,
    ) {
        let longest = gap + more;
        let plan = plan(SessionShape { gap, longest }, 60, false);
        let plan = Arc::new(WindowPlan { in_memory: room, ..Arc::unwrap_or_clone(plan) });
        let (landed, rejected) = through(&plan, &events, &cuts, behind);
        let count: i64 = landed.iter().map(|row| row.2).sum();
        prop_assert_eq!(count + i64::try_from(rejected).unwrap(), i64::try_from(events.len()).unwrap());
        // In the order of time, a session ends where the next event would make it too long.
        let mut sorted = events.clone();
        sorted.sort_unstable_by_key(|e| (e.0, e.1));
        let mut expected = Groups::new();
        let mut open: Option<(u8, i64, i64)> = None;
        for (lock, time, number) in &sorted {
            let (start, _) = match open {
                Some((l, start, last)) if l == *lock && time - last < gap && time - start <= longest => (start, last),
                _ => (*time, *time),
            };
            open = Some((*lock, start, *time));
            let group = expected.entry((format!("L{lock}"), start)).or_default();
            *group = (group.0 + 1, group.1 + number);
        }
        let mut by_time = events.clone();
        by_time.sort_by_key(|e| e.1);
        let (landed, _) = through(&plan, &by_time, &cuts, behind);
        let found: Groups =
            landed.iter().map(|(lock, start, count, sum)| ((lock.clone(), *start), (*count, *sum))).collect();
        prop_assert_eq!(found, expected);
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
    assert_eq!(FixedShape { length, every }.starts(time).collect::<Vec<_>>(), expected);
}

#[test]
fn present_values_are_given_with_each_batch_that_changed_them() {
    let plan = plan(FixedShape { length: 10, every: 10 }, 0, true);
    let mut station = Windows::open("minute", plan, &Store::default()).unwrap();
    let mut batch = |events: &[Event], newest: i64| {
        let watermarks = vec![NEVER; events.len()];
        station
            .take(
                StateInput { rows: &rows(events), watermarks: &watermarks, now: 0, side: 0, reading: 0, marks: None },
                &Store::default(),
            )
            .unwrap();
        let ended = station.end(newest, false, &Store::default()).unwrap();
        assert_eq!(ended.count.made, ended.count.output);
        assert!(!station.changes(Store::default().end(newest), &Store::default()).unwrap().changes.is_empty());
        given(ended.rows)
    };
    assert_eq!(batch(&[(1, 3, 5), (2, 4, 1)], 4), [("L1".into(), 0, 1, 5), ("L2".into(), 0, 1, 1)]);
    assert_eq!(batch(&[(1, 6, 2)], 6), [("L1".into(), 0, 2, 7)]);
    assert_eq!(batch(&[(1, 12, 1)], 12), [("L1".into(), 10, 1, 1)], "a group that closes unchanged is not given again");
}

proptest! {
    /// Present values come from memory and from the ledger, and each group leaves once.
    #[test]
    fn present_values_are_those_of_all_events_so_far(
        events in prop::collection::vec((0_u8..6, -50_i64..300, -9_i64..9), 1..150),
        cuts in prop::collection::vec((1_usize..12, prop::bool::weighted(0.15)), 1..60),
        late in 0_i64..200,
        room in room(),
        behind in 0..4_usize,
    ) {
        let shape = FixedShape { length: 10, every: 10 };
        let plan = Arc::new(WindowPlan { in_memory: room, ..Arc::unwrap_or_clone(plan(shape, late, true)) });
        let mut store = Store::behind(behind);
        let mut station = Windows::open("minute", Arc::clone(&plan), &store).unwrap();
        let (mut newest, mut held, mut landed) = (NEVER, 0, Groups::new());
        let (mut left, mut sizes) = (events.as_slice(), cuts.iter().cycle());
        while !left.is_empty() {
            let (size, again) = sizes.next().unwrap();
            let (now, rest) = left.split_at(left.len().min(*size));
            left = rest;
            let watermarks = watermarks(&mut newest, now);
            let rows = rows(now);
            let input = StateInput { rows: &rows, watermarks: &watermarks, now: 0, side: 0, reading: 0, marks: None };
            held += station.take(input, &store).unwrap().count.held;
            let ended = ended(&mut station, newest, false, &store);
            held += held_by(&ended);
            for (lock, start, count, sum) in ended.into_iter().flat_map(|part| given(part.rows)) {
                landed.insert((lock, start), (count, sum));
            }
            keep(&mut store, &mut station);
            prop_assert_eq!(station.standing().events, u64::try_from(held).unwrap());
            if *again {
                store.seal_all();
                station = Windows::open("minute", Arc::clone(&plan), &store).unwrap();
            }
        }
        prop_assert_eq!(landed, expected(&events, shape, late).0);
    }
}

/// Sessions that an earlier version kept in another order are taken in, and written again in the present one.
#[rstest]
#[case(usize::MAX)]
#[case(4)]
fn sessions_that_an_earlier_version_kept_are_taken_over(#[case] room: usize) {
    let plan = plan(SessionShape { gap: 10, longest: i64::MAX }, 100, false);
    let plan = Arc::new(WindowPlan { in_memory: room, ..Arc::unwrap_or_clone(plan) });
    let mut store = Store::default();
    let mut station = Windows::open("sessions", Arc::clone(&plan), &store).unwrap();
    let events: Vec<Event> = (0..30).map(|n| (u8::try_from(n).unwrap(), n, 1)).collect();
    let first = rows(&events);
    let input = StateInput { rows: &first, watermarks: &[NEVER; 30], now: 0, side: 0, reading: 0, marks: None };
    station.take(input, &store).unwrap();
    keep(&mut store, &mut station);
    // As version 8 kept them: by their start alone.
    let sessions = std::mem::take(&mut store.sealed).into_iter().filter_map(|(key, value)| {
        let (group, start) = key.strip_prefix(&[1])?.split_last_chunk::<8>()?;
        Some(([&start[..], group].concat(), value))
    });
    let old: Vec<(Vec<u8>, Vec<u8>)> = sessions.collect();
    assert_eq!(old.len(), 30);
    store.sealed.extend(old);
    store.sealed.insert(Vec::new(), NEVER.to_le_bytes().to_vec());
    let mut station = Windows::open("sessions", Arc::clone(&plan), &store).unwrap();
    assert_eq!((station.standing().groups, station.standing().events), (30, 30));
    let second = rows(&[(3, 5, 7)]);
    let input = StateInput { rows: &second, watermarks: &[NEVER], now: 0, side: 0, reading: 0, marks: None };
    station.take(input, &store).unwrap();
    keep(&mut store, &mut station);
    let mut station = Windows::open("sessions", Arc::clone(&plan), &store).unwrap();
    let given: Vec<Row> = ended(&mut station, 30, true, &store).into_iter().flat_map(|part| given(part.rows)).collect();
    assert_eq!(given.len(), 30);
    assert!(given.contains(&("L3".into(), 3, 2, 8)), "{given:?}");
    keep(&mut store, &mut station);
    assert_eq!(store.sealed.len(), 1, "nothing is left of them");
}

/// What an earlier version kept, without how much there is, is taken in as it is.
#[test]
fn groups_that_an_earlier_version_kept_are_counted() {
    let plan = plan(FixedShape { length: 10, every: 10 }, 100, false);
    let mut store = Store::default();
    let mut station = Windows::open("minute", Arc::clone(&plan), &store).unwrap();
    let events: Vec<Event> = (0..30).map(|n| (u8::try_from(n).unwrap(), n, 1)).collect();
    let rows = rows(&events);
    let input = StateInput { rows: &rows, watermarks: &[NEVER; 30], now: 0, side: 0, reading: 0, marks: None };
    station.take(input, &store).unwrap();
    ended(&mut station, 30, false, &store);
    keep(&mut store, &mut station);
    store.sealed.insert(Vec::new(), NEVER.to_le_bytes().to_vec());
    let small = Arc::new(WindowPlan { in_memory: 4, ..Arc::unwrap_or_clone(plan) });
    let station = Windows::open("minute", small, &store).unwrap();
    assert_eq!((station.standing().groups, station.standing().events), (30, 30));
    assert_eq!(station.groups.in_memory(), 0, "they are in the ledger");
}

#[test]
fn what_is_damaged_is_named() {
    let plan = plan(FixedShape { length: 10, every: 10 }, 0, false);
    for (key, value) in [(&[][..], &[1_u8][..]), (&[0; 3], &[1]), (&[0; 8], &[1]), (&[0; 8], &[9; 40])] {
        let store = Store { sealed: [(key.into(), value.to_vec())].into(), ..Store::default() };
        let failure = Windows::open("minute", Arc::clone(&plan), &store).err().unwrap();
        assert!(failure.message.contains("what `minute` remembers in the ledger is damaged"), "{}", failure.message);
    }
}
