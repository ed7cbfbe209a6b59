//! Upsert and mirror: an older change never overwrites a newer one.

use std::sync::Arc;

use arrow_array::{ArrayRef, Int64Array, StringArray};
use rstest::rstest;
use sluice_core::batch::{BatchIdentity, LaneId};
use sluice_core::config::OptionValue;
use sluice_core::kinds::{BatchOrder, Landing};
use sluice_core::types::SqlType;

use super::{Kind, TestTable, column, text};
use crate::landings::suite::{identity, lane, order_after, ranges};

const KEYED: [Kind; 3] = [Kind::Postgres, Kind::Mariadb, Kind::Sqlite];

type Change = (Option<&'static str>, i64, &'static str, &'static str);

/// A table of permits by their number, with a version and the kind of each change.
fn permits(kind: Kind, mode: &str, version: bool) -> Option<TestTable> {
    let columns = [
        column("permit", SqlType::Text, false),
        column("v", SqlType::Bigint, true),
        column("holder", SqlType::Text, true),
        column("@change", SqlType::Text, true),
    ];
    let mut table = TestTable::new(kind, &columns)?
        .created()
        .with("mode", text(mode))
        .with("key", OptionValue::Texts(vec!["permit".into()]));
    if version {
        table = table.with("version", text("v"));
    }
    Some(table)
}

fn changes(rows: &[Change]) -> Vec<ArrayRef> {
    vec![
        Arc::new(rows.iter().map(|r| r.0).collect::<StringArray>()),
        Arc::new(rows.iter().map(|r| Some(r.1)).collect::<Int64Array>()),
        Arc::new(rows.iter().map(|r| Some(r.2)).collect::<StringArray>()),
        Arc::new(rows.iter().map(|r| Some(r.3)).collect::<StringArray>()),
    ]
}

/// Changes some of which have no version.
fn nullable(rows: &[(&str, Option<i64>, &str, &str)]) -> Vec<ArrayRef> {
    vec![
        Arc::new(rows.iter().map(|r| Some(r.0)).collect::<StringArray>()),
        Arc::new(rows.iter().map(|r| r.1).collect::<Int64Array>()),
        Arc::new(rows.iter().map(|r| Some(r.2)).collect::<StringArray>()),
        Arc::new(rows.iter().map(|r| Some(r.3)).collect::<StringArray>()),
    ]
}

/// Makes the store refuse every row of a holder.
fn refuse_holder(table: &TestTable, holder: &str) {
    if table.kind != Kind::Sqlite {
        return table.execute(&format!("alter table {{t}} add constraint no_{{t}} check (holder <> '{holder}')"));
    }
    for event in ["insert", "update"] {
        table.execute(&format!(
            "create trigger no_{event}_{{t}} before {event} on {{t}} when new.holder = '{holder}' begin \
             select raise(abort, 'this holder is refused'); end"
        ));
    }
}

fn holders(table: &TestTable) -> Vec<String> {
    table.rows("select permit, holder from {t} order by permit")
}

#[test]
fn the_last_change_of_a_key_stands() {
    for kind in KEYED {
        let Some(table) = permits(kind, "upsert", false) else { continue };
        let landing = table.open();
        let work = table.stage(
            landing.as_ref(),
            1,
            changes(&[(Some("a"), 1, "Ada", ""), (Some("b"), 1, "Bo", ""), (Some("a"), 1, "Ann", "")]),
        );
        assert_eq!((work.rows, work.merged), (2, 1), "{kind:?}");
        landing.publish(&identity(1), &ranges(1), &work).unwrap();
        assert_eq!(holders(&table), ["a|Ann", "b|Bo"], "{kind:?}");
        table.land(landing.as_ref(), 2, changes(&[(Some("c"), 1, "Cy", ""), (Some("b"), 1, "Bea", "")]));
        assert_eq!(holders(&table), ["a|Ann", "b|Bea", "c|Cy"], "{kind:?}");
    }
}

#[test]
fn a_version_decides_whatever_the_order() {
    for kind in KEYED {
        let Some(table) = permits(kind, "upsert", true) else { continue };
        let landing = table.open();
        table.land(landing.as_ref(), 1, changes(&[(Some("a"), 5, "new", ""), (Some("b"), 5, "new", "")]));
        // A number of its own: other tests note their batches in the same table.
        table.land(landing.as_ref(), 7_421, changes(&[(Some("a"), 4, "old", ""), (Some("b"), 6, "newer", "")]));
        assert_eq!(holders(&table), ["a|new", "b|newer"], "{kind:?}");
        // The store's record shows that one was older.
        let older = table.rows("select older from sluice_batch where number = 7421 order by id desc limit 1");
        assert_eq!(older, ["1"], "{kind:?}");
    }
}

#[test]
fn an_older_position_of_the_same_partition_overwrites_nothing() {
    for kind in KEYED {
        let Some(table) = permits(kind, "upsert", false) else { continue };
        let landing = table.open();
        // Positions grow with the rows of a batch: `a` stands at the second, then comes at the first again.
        table.land(landing.as_ref(), 1, changes(&[(Some("z"), 1, "", ""), (Some("a"), 1, "second", "")]));
        table.land(landing.as_ref(), 2, changes(&[(Some("a"), 1, "first", ""), (Some("z"), 1, "again", "")]));
        assert_eq!(holders(&table), ["a|second", "z|again"], "{kind:?}");
    }
}

#[test]
fn a_replay_of_an_older_batch_leaves_what_is_newer() {
    for kind in KEYED {
        let Some(table) = permits(kind, "upsert", false) else { continue };
        let landing = table.open();
        let first =
            table.stage(landing.as_ref(), 1, changes(&[(Some("a"), 1, "first", ""), (Some("b"), 1, "first", "")]));
        landing.publish(&identity(1), &ranges(1), &first).unwrap();
        table.land(
            landing.as_ref(),
            2,
            changes(&[(Some("x"), 1, "", ""), (Some("y"), 1, "", ""), (Some("a"), 1, "newer", "")]),
        );
        let again = BatchIdentity { lane: lane().out_of_order(1), ..identity(1) };
        let work = set_aside(
            &table,
            landing.as_ref(),
            &again,
            &order_after(9, &identity(1)),
            &[(Some("a"), 1, "mended", ""), (Some("b"), 1, "mended", "")],
        );
        let work = landing.take_place(std::slice::from_ref(&first), work, true).unwrap();
        landing.publish(&again, &ranges(1), &work).unwrap();
        let found = table.rows("select permit, holder from {t} where permit in ('a', 'b') order by permit");
        assert_eq!(found, ["a|newer", "b|mended"], "{kind:?}");
    }
}

fn set_aside(
    table: &TestTable,
    landing: &dyn Landing,
    identity: &BatchIdentity,
    order: &BatchOrder,
    rows: &[Change],
) -> sluice_core::kinds::StagedWork {
    use arrow_array::RecordBatch;
    use sluice_core::event::LandingRows;
    use sluice_core::plan::transform::schema_of;
    let mut stage = landing.stage(identity, order).unwrap();
    let events: Vec<String> = (0..rows.len()).map(|i| format!("event {i}")).collect();
    let events: Vec<&str> = events.iter().map(String::as_str).collect();
    let batch = RecordBatch::try_new(schema_of(&table.columns), changes(rows)).unwrap();
    let origin = crate::landings::suite::origin(&events);
    stage.write(LandingRows { origin: Some(origin), marks: None, folder: "".into(), batch }).unwrap();
    stage.finish().unwrap()
}

#[rstest]
fn a_mirror_deletes_and_is_not_resurrected(#[values(false, true)] version: bool) {
    for kind in KEYED {
        let Some(table) = permits(kind, "mirror", version) else { continue };
        let landing = table.open();
        let first =
            [(Some("a"), 1, "Ada", "inserted"), (Some("b"), 1, "Bo", "loaded"), (Some("c"), 1, "Cy", "inserted")];
        table.land(landing.as_ref(), 1, changes(&first));
        table.land(
            landing.as_ref(),
            2,
            changes(&[
                (Some("q"), 2, "", "deleted"),
                (Some("r"), 2, "", "deleted"),
                (Some("a"), 2, "", "deleted"),
                (Some("b"), 2, "Bea", "updated"),
            ]),
        );
        assert_eq!(holders(&table), ["b|Bea", "c|Cy"], "{kind:?} {version}");
        // An older change comes late: at an earlier position, and with an older version.
        table.land(landing.as_ref(), 3, changes(&[(Some("a"), 1, "ghost", "updated")]));
        assert_eq!(holders(&table), ["b|Bea", "c|Cy"], "{kind:?} {version}");
        // An older delete comes late as well.
        table.land(landing.as_ref(), 4, changes(&[(Some("b"), 1, "", "deleted")]));
        assert_eq!(holders(&table), ["b|Bea", "c|Cy"], "{kind:?} {version}");
        let later = [
            (Some("u"), 3, "", "deleted"),
            (Some("v"), 3, "", "deleted"),
            (Some("w"), 3, "", "deleted"),
            (Some("x"), 3, "", "deleted"),
            (Some("a"), 3, "Ada again", "inserted"),
        ];
        table.land(landing.as_ref(), 5, changes(&later));
        assert_eq!(holders(&table), ["a|Ada again", "b|Bea", "c|Cy"], "{kind:?} {version}");
    }
}

#[test]
fn a_delete_and_an_insert_within_a_batch_are_one_change() {
    for kind in KEYED {
        let Some(table) = permits(kind, "mirror", false) else { continue };
        let landing = table.open();
        table.land(landing.as_ref(), 1, changes(&[(Some("a"), 1, "Ada", "inserted")]));
        table.land(
            landing.as_ref(),
            2,
            changes(&[
                (Some("a"), 2, "", "deleted"),
                (Some("a"), 3, "Ann", "inserted"),
                (Some("b"), 3, "Bo", "inserted"),
                (Some("b"), 3, "", "deleted"),
            ]),
        );
        assert_eq!(holders(&table), ["a|Ann"], "{kind:?}");
    }
}

#[test]
fn a_key_without_a_value_and_a_change_of_no_kind_are_refused() {
    for kind in KEYED {
        let Some(table) = permits(kind, "mirror", false) else { continue };
        let table = table.with("refused", text("skip"));
        let rows = [(None, 1, "x", "inserted"), (Some("a"), 1, "y", "erased"), (Some("b"), 1, "z", "inserted")];
        let published = table.land(table.open().as_ref(), 1, changes(&rows));
        let columns: Vec<_> = published.refused.iter().map(|r| r.column.clone().unwrap()).collect();
        assert_eq!(columns, ["permit", "_change"], "{kind:?}");
        assert_eq!(holders(&table), ["b|z"], "{kind:?}");
    }
}

#[test]
fn every_change_is_a_row_of_its_own() {
    for kind in [Kind::Postgres, Kind::Mariadb, Kind::Sqlite, Kind::Clickhouse] {
        let Some(table) = permits(kind, "changes", false) else { continue };
        let table = TestTable { keys: vec![("create", OptionValue::Flag(true)), ("mode", text("changes"))], ..table };
        table.land(
            table.open().as_ref(),
            1,
            changes(&[(Some("a"), 1, "Ada", "inserted"), (Some("a"), 1, "", "deleted")]),
        );
        let found = table.rows("select permit, _change, _source, _position from {t} order by _position");
        assert_eq!(found, ["a|inserted|a|100", "a|deleted|a|108"], "{kind:?}");
    }
}

#[test]
fn rows_of_other_lanes_with_one_key_meet_in_one_row() {
    for kind in KEYED {
        let Some(table) = permits(kind, "upsert", true) else { continue };
        let landing = table.open();
        let workers: Vec<_> = (0..2).map(|n| LaneId::new("weighing.0", n)).collect();
        std::thread::scope(|scope| {
            for (n, lane) in workers.iter().enumerate() {
                let (table, landing) = (&table, landing.as_ref());
                scope.spawn(move || {
                    for number in 1..=8 {
                        let version = i64::try_from(number * 2 + n as u64).unwrap();
                        let id = BatchIdentity { lane: lane.clone(), ..identity(number) };
                        let order = BatchOrder { own: number * 2 + n as u64, first: None };
                        let rows = [(Some("a"), version, "x", ""), (Some("b"), version, "x", "")];
                        let work = set_aside(table, landing, &id, &order, &rows);
                        while let Err(failure) = landing.publish(&id, &ranges(number), &work) {
                            assert!(failure.passing, "{kind:?}: {failure}");
                        }
                    }
                });
            }
        });
        assert_eq!(table.rows("select permit, v from {t} order by permit"), ["a|17", "b|17"], "{kind:?}");
    }
}

/// What is newer between lanes does not depend on which of them the store came to know first.
#[rstest]
fn of_two_lanes_the_change_that_was_opened_later_counts(#[values(true, false)] first_lane_first: bool) {
    for kind in KEYED {
        let Some(table) = permits(kind, "upsert", false) else { continue };
        let landing = table.open();
        let lanes = [LaneId::new("weighing.0", 0), LaneId::new("weighing.0", 1)];
        let batch = |lane: usize, number| BatchIdentity { lane: lanes[lane].clone(), ..identity(number) };
        // The numbers of lanes in the store are given in the order of their first use.
        let order = if first_lane_first { [0, 1] } else { [1, 0] };
        order.iter().for_each(|lane| assert!(landing.noted(&lanes[*lane]).unwrap().is_none()));
        let land = |lane, number, opened, holder| {
            let id = batch(lane, number);
            let opened = BatchOrder { own: opened, first: None };
            let work = set_aside(&table, landing.as_ref(), &id, &opened, &[(Some("a"), 1, holder, "")]);
            landing.publish(&id, &ranges(number), &work).unwrap();
        };
        land(0, 1, 1, "one");
        land(1, 1, 2, "two");
        assert_eq!(holders(&table), ["a|two"], "{kind:?}");
        land(0, 2, 3, "three");
        assert_eq!(holders(&table), ["a|three"], "{kind:?}: the other lane is not newer for ever");
        land(1, 2, 4, "four");
        assert_eq!(holders(&table), ["a|four"], "{kind:?}");
    }
}

/// A change without a version is older than any with one, on every store; it revives no deleted key.
#[test]
fn a_change_without_a_version_overwrites_and_revives_nothing() {
    for kind in KEYED {
        let Some(table) = permits(kind, "mirror", true) else { continue };
        let landing = table.open();
        table.land(
            landing.as_ref(),
            1,
            nullable(&[("a", Some(5), "five", "inserted"), ("b", Some(5), "gone", "inserted")]),
        );
        table.land(landing.as_ref(), 2, nullable(&[("b", Some(6), "", "deleted")]));
        table.land(landing.as_ref(), 3, nullable(&[("a", None, "none", "updated"), ("b", None, "none", "updated")]));
        assert_eq!(holders(&table), ["a|five"], "{kind:?}");
        table.land(landing.as_ref(), 4, nullable(&[("c", None, "first", "inserted")]));
        table.land(landing.as_ref(), 5, nullable(&[("c", None, "second", "updated")]));
        assert_eq!(holders(&table), ["a|five", "c|second"], "{kind:?}");
    }
}

/// What lands does not depend on where a batch ends: a good change lands although a later one of its key is refused.
#[test]
fn a_good_change_lands_although_a_later_one_of_its_key_is_refused() {
    for kind in KEYED {
        let Some(table) = permits(kind, "upsert", false) else { continue };
        let landing = table.open();
        // Longer than any column takes, or refused by a constraint.
        refuse_holder(&table, "bad");
        let rows = [
            (Some("a"), 1, "first", ""),
            (Some("a"), 2, "good", ""),
            (Some("b"), 3, "bad", ""),
            (Some("a"), 4, "bad", ""),
            (Some("b"), 5, "bad", ""),
            (Some("c"), 6, "good", ""),
        ];
        let work = table.stage(landing.as_ref(), 1, changes(&rows));
        assert_eq!((work.rows, work.merged), (3, 3), "{kind:?}");
        let published = landing.publish(&identity(1), &ranges(1), &work).unwrap();
        assert_eq!(holders(&table), ["a|good", "c|good"], "{kind:?}");
        let mut events: Vec<String> =
            published.refused.iter().map(|r| String::from_utf8(r.bytes.clone()).unwrap()).collect();
        events.sort();
        assert_eq!(events, ["event 2", "event 3", "event 4"], "{kind:?}");
        // One good row, and one that was refused, were merged before.
        assert_eq!(published.unmerged, 2, "{kind:?}");
        // Said again after a crash it is the same.
        let again = table.stage(landing.as_ref(), 1, changes(&rows));
        let said = table.open().publish(&identity(1), &ranges(1), &again).unwrap();
        assert_eq!((said.refused.len(), said.unmerged), (3, 2), "{kind:?}");
        assert_eq!(holders(&table), ["a|good", "c|good"], "{kind:?}");
    }
}
