//! Upsert and mirror: an older change never overwrites a newer one.

use std::sync::Arc;

use arrow_array::{ArrayRef, Int64Array, StringArray};
use rstest::rstest;
use sluice_core::batch::{BatchIdentity, LaneId};
use sluice_core::config::OptionValue;
use sluice_core::kinds::Landing;
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
        table.land(landing.as_ref(), 2, changes(&[(Some("a"), 4, "old", ""), (Some("b"), 6, "newer", "")]));
        assert_eq!(holders(&table), ["a|new", "b|newer"], "{kind:?}");
        // The store's record tells that one was older.
        let older =
            table.rows("select older from sluice_batch where landed = 2 and number = 2 order by id desc limit 1");
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
        let again = BatchIdentity { lane: lane().aside(1), ..identity(1) };
        let work =
            aside(&table, landing.as_ref(), &again, &[(Some("a"), 1, "mended", ""), (Some("b"), 1, "mended", "")]);
        let work = landing.take_place(std::slice::from_ref(&first), work, true).unwrap();
        landing.publish(&again, &ranges(1), &work).unwrap();
        let found = table.rows("select permit, holder from {t} where permit in ('a', 'b') order by permit");
        assert_eq!(found, ["a|newer", "b|mended"], "{kind:?}");
    }
}

fn aside(
    table: &TestTable,
    landing: &dyn Landing,
    identity: &BatchIdentity,
    rows: &[Change],
) -> sluice_core::kinds::StagedWork {
    use arrow_array::RecordBatch;
    use sluice_core::event::LandingRows;
    use sluice_core::plan::transform::schema_of;
    let mut stage = landing.stage(identity, &order_after(9, &super::identity(1))).unwrap();
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
                        let work =
                            aside(table, landing, &id, &[(Some("a"), version, "x", ""), (Some("b"), version, "x", "")]);
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
