use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::Int64Type;
use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray};
use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::batch::StationCount;
use crate::expr::{CompareOp, Expr, Node, SelectItem};
use crate::plan::transform::schema_of;
use crate::state::testing::Store;
use crate::state::{NEVER, StateInput, Station};
use crate::types::SqlType;

/// The ledger gets what has changed.
fn keep(store: &mut Store, station: &mut Join) {
    let changed = station.changes(store.end(0), store).unwrap();
    let known = |change: &crate::state::StateChange| change.value.is_some() || store.sealed.contains_key(&*change.key);
    assert!(changed.changes.iter().all(known), "what was never kept is removed");
    store.stage(changed);
}

fn column(name: &str, ty: SqlType) -> OutputColumn {
    OutputColumn { name: name.into(), ty, nullable: true, limit: None }
}

fn side(event: &str) -> JoinSide {
    JoinSide {
        event: event.into(),
        columns: vec![column("n", SqlType::Bigint)],
        key: vec![(column("@key.0", SqlType::Text), "left.vessel = right.vessel".into())],
    }
}

fn plan(near: Nearness, late: i64, unmatched: [bool; 2], is_rising: bool) -> Arc<JoinPlan> {
    let sides = [side("left"), side("right")];
    let pairs = JoinPlan::pair_columns(&sides, unmatched);
    let items = pairs.iter().enumerate().map(|(i, c)| SelectItem::of_column(i, c)).collect();
    let select = Transform::new(None, items, &pairs);
    let of = |i| Box::new(Expr::new(Node::Column(i), SqlType::Bigint, true));
    let rising = Expr::new(Node::Compare(CompareOp::Less, of(0), of(1)), SqlType::Boolean, true);
    let condition = is_rising.then(|| Condition { parts: vec![("rising".into(), rising.clone())], expr: rising });
    let (idle, ahead) = (0, i64::MAX);
    let most = usize::MAX;
    Arc::new(JoinPlan {
        sides,
        near,
        condition,
        select,
        unmatched,
        closes_when_caught_up: false,
        late,
        idle,
        ahead,
        most,
    })
}

/// An event: its side, its key (4 is null), its time, its number.
type Event = (usize, u8, i64, i64);

fn rows(events: &[Event]) -> RecordBatch {
    let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(events.iter().map(|e| e.3)));
    let keys = events.iter().map(|e| (e.1 < 4).then(|| format!("V{}", e.1)));
    let keys: ArrayRef = Arc::new(keys.collect::<StringArray>());
    let times: ArrayRef =
        Arc::new(TimestampMicrosecondArray::from_iter_values(events.iter().map(|e| e.2)).with_timezone("UTC"));
    let columns =
        [column("n", SqlType::Bigint), column("@key.0", SqlType::Text), column("@time", SqlType::Timestamptz)];
    RecordBatch::try_new(schema_of(&columns), vec![numbers, keys, times]).unwrap()
}

/// A row that was given on: the numbers of both sides.
type Row = (Option<i64>, Option<i64>);

fn given(rows: Option<RecordBatch>) -> Vec<Row> {
    let Some(rows) = rows else { return Vec::new() };
    let side = |i: usize| rows.column(i).as_primitive::<Int64Type>().iter().collect::<Vec<_>>();
    side(0).into_iter().zip(side(1)).collect()
}

/// All rows that a join gives, computed at once from the events that are accepted; and how many are not.
fn expected(events: &[Event], plan: &JoinPlan) -> (Vec<Row>, u64) {
    let mut newest = [NEVER; 2];
    let (mut closed, mut late) = (NEVER, 0);
    let mut sides: [Vec<Event>; 2] = Default::default();
    for event in events {
        let watermark = newest[0].min(newest[1]);
        if watermark != NEVER {
            closed = closed.max(watermark - plan.late);
        }
        match event.2 < closed {
            true => late += 1,
            false => sides[event.0].push(*event),
        }
        newest[event.0] = newest[event.0].max(event.2);
    }
    let meets = |l: &Event, r: &Event| {
        let is_rising = plan.condition.is_none() || l.3 < r.3;
        l.1 == r.1 && l.1 < 4 && plan.near.holds(l.2, r.2) && is_rising
    };
    let mut found = Vec::new();
    for left in &sides[LEFT] {
        found.extend(sides[RIGHT].iter().filter(|right| meets(left, right)).map(|right| (Some(left.3), Some(right.3))));
    }
    let alone =
        |own: &Event, others: &[Event], meets: &dyn Fn(&Event, &Event) -> bool| !others.iter().any(|o| meets(own, o));
    if plan.unmatched[LEFT] {
        let rows = sides[LEFT].iter().filter(|left| alone(left, &sides[RIGHT], &meets));
        found.extend(rows.map(|left| (Some(left.3), None)));
    }
    if plan.unmatched[RIGHT] {
        let rows = sides[RIGHT].iter().filter(|right| alone(right, &sides[LEFT], &|right, left| meets(left, right)));
        found.extend(rows.map(|right| (None, Some(right.3))));
    }
    found.sort_unstable();
    (found, late)
}

fn nearness() -> impl Strategy<Value = Nearness> {
    prop_oneof![
        (-30_i64..30, 0_i64..40).prop_map(|(from, more)| Nearness::Within { from, to: from + more }),
        (1_i64..50).prop_map(Nearness::Window),
    ]
}

proptest! {
    #[test]
    fn pairs_are_those_of_all_events_at_once_however_they_come(
        events in prop::collection::vec((0_usize..2, 0_u8..5, 0_i64..300, -9_i64..9), 1..160),
        cuts in prop::collection::vec((1_usize..14, any::<bool>()), 1..40),
        near in nearness(),
        late in 0_i64..80,
        unmatched in any::<[bool; 2]>(),
        is_rising in any::<bool>(),
    ) {
        let plan = plan(near, late, unmatched, is_rising);
        let mut store = Store::default();
        let mut station = Join::open("paid", Arc::clone(&plan), &store).unwrap();
        let mut newest = [NEVER; 2];
        let (mut landed, mut rejected, mut held) = (Vec::new(), 0, 0);
        let mut left = events.as_slice();
        let mut sizes = cuts.iter().cycle();
        while !left.is_empty() {
            let (size, again) = sizes.next().unwrap();
            let (batch, rest) = left.split_at(left.len().min(*size));
            left = rest;
            for chunk in batch.chunk_by(|a, b| a.0 == b.0) {
                let side = chunk[0].0;
                let watermarks: Vec<i64> = chunk.iter().map(|event| {
                    let before = newest[0].min(newest[1]);
                    newest[side] = newest[side].max(event.2);
                    before
                }).collect();
                let input = StateInput { rows: &rows(chunk), watermarks: &watermarks, now: 0, side, reading: 0, marks: None };
                let taken = station.take(input, &store).unwrap();
                let in_rows = StationCount { input: chunk.len() as u64, ..taken.count.clone() };
                prop_assert_eq!(in_rows.check(), Ok(()));
                rejected += taken.count.rejected;
                held += taken.count.held;
                landed.extend(given(taken.rows));
            }
            let ended = station.end(newest[0].min(newest[1]), false, &store).unwrap();
            prop_assert_eq!(ended.count.check(), Ok(()));
            held += ended.count.held;
            landed.extend(given(ended.rows));
            prop_assert!(!station.would_give(newest[0].min(newest[1]), false), "an end leaves nothing to end");
            keep(&mut store, &mut station);
            prop_assert_eq!(station.standing().events, u64::try_from(held).unwrap());
            if *again {
                // The process ends, and another one goes on.
                station = Join::open("paid", Arc::clone(&plan), &store).unwrap();
                prop_assert_eq!(station.standing().events, u64::try_from(held).unwrap());
            }
        }
        let last = station.end(newest[0].min(newest[1]), true, &store).unwrap();
        landed.extend(given(last.rows));
        prop_assert_eq!(held + last.count.held, 0, "nothing is remembered when nothing more is expected");
        keep(&mut store, &mut station);
        prop_assert!(store.sealed.len() <= 1, "but for which rows are accepted");
        landed.sort_unstable();
        let (expected, too_late) = expected(&events, &plan);
        prop_assert_eq!(landed, expected);
        prop_assert_eq!(rejected, too_late);
    }

    #[test]
    fn damaged_state_is_named_and_never_breaks_the_program(
        events in prop::collection::vec((0_usize..2, 0_u8..5, 0_i64..300, -9_i64..9), 1..40),
        which in any::<prop::sample::Index>(),
        at in any::<prop::sample::Index>(),
        to in any::<u8>(),
    ) {
        let plan = plan(Nearness::Window(1_000), 0, [true, true], false);
        let mut store = Store::default();
        let mut station = Join::open("paid", Arc::clone(&plan), &store).unwrap();
        for chunk in events.chunk_by(|a, b| a.0 == b.0) {
            let watermarks = vec![NEVER; chunk.len()];
            let input = StateInput { rows: &rows(chunk), watermarks: &watermarks, now: 0, side: chunk[0].0, reading: 0, marks: None };
            station.take(input, &store).unwrap();
        }
        station.end(NEVER, false, &store).unwrap();
        keep(&mut store, &mut station);
        let key = store.sealed.keys().nth(which.index(store.sealed.len())).unwrap().clone();
        let value = store.sealed.get_mut(&key).unwrap();
        let place = at.index(value.len());
        value[place] = to;
        if let Err(failure) = Join::open("paid", plan, &store) {
            prop_assert!(failure.message.contains("what `paid` remembers in the ledger is damaged"), "{}", failure.message);
        }
    }
}

#[rstest]
#[case(Nearness::Within { from: -5, to: 10 }, 100, [110, 105])]
#[case(Nearness::Within { from: 3, to: 10 }, 100, [110, 97])]
#[case(Nearness::Window(60), 100, [119, 119])]
#[case(Nearness::Window(60), -1, [-1, -1])]
#[case(Nearness::Window(60), 60, [119, 119])]
fn a_row_is_remembered_until_its_last_partner(#[case] near: Nearness, #[case] time: i64, #[case] expected: [i64; 2]) {
    assert_eq!([LEFT, RIGHT].map(|side| near.last_partner(side, time)), expected);
    for other in time - 200..time + 200 {
        assert!(!near.holds(time, other) || other <= expected[LEFT]);
        assert!(!near.holds(other, time) || other <= expected[RIGHT]);
    }
}

#[test]
fn a_row_too_many_is_rejected_and_the_others_are_kept() {
    let plan = JoinPlan { most: 2, ..(*plan(Nearness::Window(100), 0, [false; 2], false)).clone() };
    let mut station = Join::open("paid", Arc::new(plan), &Store::default()).unwrap();
    let events = [(0, 1, 1, 1), (0, 2, 2, 2), (0, 3, 3, 3)];
    let input = StateInput { rows: &rows(&events), watermarks: &[NEVER; 3], now: 0, side: 0, reading: 0, marks: None };
    let taken = station.take(input, &Store::default()).unwrap();
    assert_eq!((taken.count.rejected, taken.count.held), (1, 2));
    assert!(taken.faults[0].message.contains("as many as `most` allows"), "{}", taken.faults[0].message);
}
