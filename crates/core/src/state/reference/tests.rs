//! Lists and change feeds, with a map beside them.

use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::Int32Type;
use arrow_array::{Int32Array, RecordBatch, StringArray};
use proptest::prelude::*;

use super::latest::Latest;
use super::rows::batch_of;
use super::*;
use crate::change::{AbsentBuilder, ChangeKind, Marks};
use crate::state::StateInput;
use crate::state::testing::Store;
use crate::types::SqlType;

fn column(name: &str, ty: SqlType) -> OutputColumn {
    OutputColumn { name: name.into(), ty, nullable: true, limit: None }
}

fn plan(is_list: bool) -> Arc<ReferencePlan> {
    let key = (column("lock_id", SqlType::Integer), "lock_id".to_string());
    let columns = vec![column("depth", SqlType::Integer), column("name", SqlType::Text)];
    let side = |columns| JoinSide { event: "lock".into(), columns, key: vec![key.clone()] };
    Arc::new(ReferencePlan {
        sides: [side(Vec::new()), side(columns)],
        select: Transform::new(None, Vec::new(), &[]),
        is_required: false,
        is_list,
        time: None,
        deleted: None,
        history: None,
        wait: None,
        idle: 0,
        ahead: i64::MAX,
        most: 1_000,
        in_memory: usize::MAX,
    })
}

type Row = (i32, i32, String);
type Model = BTreeMap<i32, (i32, String)>;

fn rows(plan: &ReferencePlan, rows: &[Row]) -> RecordBatch {
    let keys: Int32Array = rows.iter().map(|row| Some(row.0)).collect();
    let depths: Int32Array = rows.iter().map(|row| Some(row.1)).collect();
    let names: StringArray = rows.iter().map(|row| Some(row.2.as_str())).collect();
    let side = &plan.sides[RIGHT];
    let columns: Vec<OutputColumn> =
        side.columns.iter().cloned().chain(side.key.iter().map(|(c, _)| c.clone())).collect();
    batch_of(&columns, vec![Arc::new(depths), Arc::new(names), Arc::new(keys)], rows.len()).unwrap()
}

/// Hands rows to the station; gives how many rows it holds more than before.
fn take(
    station: &mut Latest,
    plan: &ReferencePlan,
    given: &[Row],
    (reading, marks): (u64, Option<&Marks>),
    store: &Store,
) -> i64 {
    let rows = rows(plan, given);
    let watermarks = vec![0; given.len()];
    let input = StateInput { rows: &rows, watermarks: &watermarks, now: 0, side: RIGHT, reading, marks };
    let given = station.take(input, store).unwrap();
    let count = &given.count;
    let out = i64::try_from(count.merged + count.unmatched + count.rejected).unwrap() + count.held;
    assert_eq!(out, i64::try_from(rows.num_rows()).unwrap(), "{count:?}");
    count.held
}

/// What the station has of each key.
fn known(station: &mut Latest, plan: &ReferencePlan, store: &Store) -> Model {
    let mut found = Model::new();
    for key in 0..12 {
        let one = rows(plan, &[(key, 0, String::new())]);
        station.fetch(&one, RIGHT, store).unwrap();
        let mut bytes = Vec::new();
        assert!(write_key(&key_cells(&plan.sides[RIGHT], &one), 0, &mut bytes));
        let Some(spot) = station.find(&bytes) else { continue };
        let row = station.rows().gather(&[Some(spot)]).unwrap();
        found.insert(key, (row[0].as_primitive::<Int32Type>().value(0), row[1].as_string::<i32>().value(0).into()));
    }
    found
}

/// Keeps what has changed; gives the number of rows.
fn keep(station: &mut Latest, store: &mut Store) -> usize {
    let changed = station.changes(store.end(0), store).unwrap();
    let count = changed.changes.iter().filter(|change| !change.key.is_empty()).count();
    store.stage(changed);
    count
}

/// Keeps what has changed, and opens the station again with it.
fn reopened(mut station: Latest, plan: &Arc<ReferencePlan>, store: &mut Store) -> (Latest, usize) {
    let count = keep(&mut station, store);
    store.seal_all();
    (Latest::open("named", plan, &[], store).unwrap(), count)
}

fn row() -> impl Strategy<Value = Row> {
    (0..12_i32, 0..3_i32, "[ab]").prop_map(|(key, depth, name)| (key, depth, name))
}

fn change() -> impl Strategy<Value = (ChangeKind, Row, bool)> {
    use ChangeKind::{Deleted, Early, Inserted, Left, Loaded, Truncated, Updated};
    let kinds =
        prop::sample::select(vec![Inserted, Updated, Updated, Updated, Early, Deleted, Left, Loaded, Truncated]);
    (kinds, row(), any::<bool>())
}

proptest! {
    /// After each reading the rows are those of the list, and the ledger gets those that differ alone.
    #[test]
    fn a_reading_leaves_the_rows_of_its_list(readings in prop::collection::vec(prop::collection::vec(row(), 0..30), 1..8)) {
        let plan = plan(true);
        let mut store = Store::default();
        let mut station = Latest::open("named", &plan, &[], &store).unwrap();
        let mut before = Model::new();
        for (number, list) in readings.iter().enumerate() {
            let number = number as u64 + 1;
            let held: i64 = list.chunks(7).map(|part| take(&mut station, &plan, part, (number, None), &store)).sum();
            let gone = station.read_whole(number).unwrap().count;
            let model: Model = list.iter().map(|(key, depth, name)| (*key, (*depth, name.clone()))).collect();
            prop_assert_eq!(known(&mut station, &plan, &store), model.clone());
            let more = i64::try_from(model.len()).unwrap() - i64::try_from(before.len()).unwrap();
            prop_assert_eq!(held + gone.held, more);
            let written;
            (station, written) = reopened(station, &plan, &mut store);
            prop_assert_eq!(known(&mut station, &plan, &store), model.clone());
            let once = list.len() == model.len();
            let differs = |key: &&i32| before.get(*key) != model.get(*key);
            let all: std::collections::BTreeSet<&i32> = before.keys().chain(model.keys()).collect();
            let expected = all.iter().filter(|key| differs(key)).count();
            let is_right = if once { written == expected } else { written >= expected };
            prop_assert!(is_right, "{} written, {} differ", written, expected);
            before = model;
        }
    }

    /// Changes leave the rows that their table has, also where values that did not change are not sent.
    #[test]
    fn changes_leave_the_rows_of_their_table(
        parts in prop::collection::vec(
            (prop::collection::vec(change(), 1..6), any::<bool>(), prop::bool::weighted(0.2), prop::bool::weighted(0.1)),
            1..30,
        ),
        room in prop_oneof![1 => Just(usize::MAX), 3 => 1..6_usize],
        behind in 0..4_usize,
    ) {
        let plan = Arc::new(ReferencePlan { in_memory: room, ..Arc::unwrap_or_clone(plan(false)) });
        let mut store = Store::behind(behind);
        let mut station = Latest::open("named", &plan, &[], &store).unwrap();
        let mut model = Model::new();
        let mut held = 0;
        for (part, is_last, looks, again) in parts {
            let mut absent = AbsentBuilder::default();
            let (mut kinds, mut given) = (Vec::new(), Vec::new());
            for (place, (kind, row, lacks_name)) in part.into_iter().enumerate() {
                let (key, depth, name) = row.clone();
                let lacks = lacks_name && matches!(kind, ChangeKind::Updated | ChangeKind::Early);
                if lacks {
                    absent.note(place, 1);
                }
                match kind {
                    ChangeKind::Truncated => model.clear(),
                    kind if kind.is_gone() => drop(model.remove(&key)),
                    // Of a row that is not there nothing is known.
                    _ if lacks && !model.contains_key(&key) => {}
                    _ if lacks => model.get_mut(&key).unwrap().0 = depth,
                    _ => drop(model.insert(key, (depth, name))),
                }
                kinds.push(kind);
                given.push(row);
            }
            let marks = Marks { kinds, absent: absent.finish(given.len()) };
            held += take(&mut station, &plan, &given, (0, Some(&marks)), &store);
            if looks {
                prop_assert_eq!(known(&mut station, &plan, &store), model.clone());
            }
            prop_assert_eq!(held, i64::try_from(model.len()).unwrap());
            prop_assert_eq!(station.len(), model.len());
            // A batch has several parts, and a run several batches.
            match (is_last, again) {
                (true, true) => (station, _) = reopened(station, &plan, &mut store),
                (true, false) => drop(keep(&mut station, &mut store)),
                (false, _) => {}
            }
        }
        prop_assert_eq!(known(&mut station, &plan, &store), model);
    }
}

/// A row whose key changes keeps the values that are not sent, also where its delete stands in another part.
#[test]
fn a_row_with_another_key_keeps_its_values() {
    let plan = plan(false);
    let mut station = Latest::open("named", &plan, &[], &Store::default()).unwrap();
    let marks = |kinds: Vec<ChangeKind>, lacks: &[usize]| {
        let mut absent = AbsentBuilder::default();
        lacks.iter().for_each(|row| absent.note(*row, 1));
        Marks { absent: absent.finish(kinds.len()), kinds }
    };
    let row = |key: i32, depth: i32, name: &str| (key, depth, name.to_string());
    let store = Store::default();
    let loaded = marks(vec![ChangeKind::Loaded; 2], &[]);
    take(&mut station, &plan, &[row(1, 5, "one"), row(2, 6, "two")], (0, Some(&loaded)), &store);
    let moved = [row(1, 0, ""), row(3, 7, ""), row(2, 0, "")];
    let kinds = vec![ChangeKind::Deleted, ChangeKind::Moved, ChangeKind::Deleted];
    take(&mut station, &plan, &moved, (0, Some(&marks(kinds, &[1]))), &store);
    take(&mut station, &plan, &[row(4, 8, "")], (0, Some(&marks(vec![ChangeKind::Moved], &[0]))), &store);
    let expected = [(3, (7, "one".to_string())), (4, (8, "two".to_string()))];
    assert_eq!(known(&mut station, &plan, &store), expected.into());
}
