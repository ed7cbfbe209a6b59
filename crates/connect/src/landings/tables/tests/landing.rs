//! What every landing must do, and what tables do beside it.

use std::sync::Arc;

use arrow_array::{ArrayRef, Int32Array, StringArray};
use rstest::rstest;
use sluice_core::batch::{BatchIdentity, LaneId};
use sluice_core::config::OptionValue;
use sluice_core::failure::FailureKind;
use sluice_core::kinds::Landing;
use sluice_core::types::SqlType;

use super::{Kind, TestTable, column, text};
use crate::landings::suite::{self, Store, identity, lane, publish, ranges, stage};

const ALL: [Kind; 4] = [Kind::Postgres, Kind::Mariadb, Kind::Sqlite, Kind::Clickhouse];

fn columns() -> Vec<sluice_core::columns::OutputColumn> {
    vec![column("text", SqlType::Text, false), column("n", SqlType::Integer, false)]
}

impl Store for TestTable {
    fn landing(&self) -> Box<dyn Landing> {
        self.open()
    }

    fn visible(&self) -> Vec<String> {
        self.rows("select text from {t} order by text")
    }
}

#[rstest]
fn tables_pass_the_suite_of_landings(
    #[values(Kind::Postgres, Kind::Mariadb, Kind::Sqlite, Kind::Clickhouse)] kind: Kind,
    #[values(false, true)] lineage: bool,
    #[values(
        suite::rows_appear_when_published,
        suite::publishing_twice_lands_once,
        suite::unsealed_work_is_forgotten,
        suite::an_empty_batch_lands,
        suite::ledgers_do_not_touch_each_others_work,
        suite::holdings_report_all_batches
    )]
    test: fn(&dyn Store),
) {
    let Some(table) = TestTable::new(kind, &columns()) else { return };
    let table = table.created().with("lineage", OptionValue::Flag(lineage));
    drop(table.open());
    test(&table);
}

#[test]
fn a_missing_table_stops_with_the_statement_that_makes_it() {
    for kind in ALL {
        let Some(table) = TestTable::new(kind, &columns()) else { continue };
        let failure = table.landing_kind().open(&table.settings(), "p.x.y", &columns()).err().unwrap();
        assert_eq!(failure.kind, FailureKind::Configuration, "{kind:?}: {failure}");
        let help = failure.help.unwrap();
        assert!(help.contains("create table") && help.contains("check --apply"), "{kind:?}: {help}");
    }
}

#[test]
fn a_batch_of_another_ledger_is_distinguished() {
    for kind in ALL {
        let Some(table) = TestTable::new(kind, &columns()) else { continue };
        let table = table.created();
        let landing = table.open();
        let work = stage(landing.as_ref(), 1, &[("", &["a"])]);
        publish(landing.as_ref(), 1, &work).unwrap();
        let foreign = BatchIdentity { ledger: "another".into(), ..identity(1) };
        let failure = table.open().publish(&foreign, &ranges(1), &work).unwrap_err();
        assert_eq!(failure.kind, FailureKind::Findings, "{kind:?}");
        assert_eq!(table.open().noted(&lane()).unwrap().unwrap().ledger, "3f9a2c1b-1");
    }
}

/// Columns of a batch: numbers as text, and numbers, some of which break a constraint.
fn numbers(from: i32, count: i32) -> Vec<ArrayRef> {
    let texts: StringArray = (from..from + count).map(|n| Some(format!("r{n:04}"))).collect();
    let values: Int32Array = (from..from + count).map(Some).collect();
    vec![Arc::new(texts), Arc::new(values)]
}

#[rstest]
#[case(Kind::Postgres, "text")]
#[case(Kind::Mariadb, "varchar(50)")]
#[case(Kind::Sqlite, "text")]
fn a_row_that_the_store_refuses_is_one_row(#[case] kind: Kind, #[case] ty: &str) {
    let Some(table) = TestTable::new(kind, &columns()) else { return };
    table.execute(&format!(
        "create table {{t}} (text {ty} not null, n integer not null, constraint odd check (n % 100 <> 7))"
    ));
    let landing = table.open();
    let published = table.land(landing.as_ref(), 1, numbers(0, 1000));
    assert_eq!(published.refused.len(), 10);
    for (i, refused) in published.refused.iter().enumerate() {
        assert_eq!(refused.bytes, format!("event {}", i * 100 + 7).into_bytes());
        assert_eq!(&*refused.partition, "a");
        assert!(
            refused.message.to_lowercase().contains("odd") || refused.message.contains("constraint"),
            "{refused:?}"
        );
    }
    assert_eq!(table.rows("select count(*), sum(case when n % 100 = 7 then 1 else 0 end) from {t}"), ["990|0"]);
    // Asked again, the store reports the same.
    let work = table.stage(landing.as_ref(), 1, numbers(0, 1000));
    assert_eq!(table.open().publish(&identity(1), &ranges(1), &work).unwrap(), published);
    assert_eq!(table.rows("select count(*) from {t}"), ["990"]);
}

#[rstest]
fn a_batch_that_is_refused_whole_leaves_nothing(#[values(Kind::Postgres, Kind::Mariadb, Kind::Sqlite)] kind: Kind) {
    let Some(table) = TestTable::new(kind, &columns()) else { return };
    table.execute("create table {t} (text varchar(50) not null, n integer not null check (n < 0))");
    let published = table.land(table.open().as_ref(), 1, numbers(0, 40));
    assert_eq!(published.refused.len(), 40);
    assert_eq!(table.rows("select count(*) from {t}"), ["0"]);
}

#[rstest]
fn a_landing_that_holds_waits_with_its_batch(#[values(Kind::Postgres, Kind::Mariadb, Kind::Sqlite)] kind: Kind) {
    let Some(table) = TestTable::new(kind, &columns()) else { return };
    let table = table.with("refused", text("stop"));
    table.execute("create table {t} (text varchar(50) not null, n integer not null check (n <> 5))");
    let landing = table.open();
    let work = table.stage(landing.as_ref(), 1, numbers(0, 10));
    let failure = landing.publish(&identity(1), &ranges(1), &work).unwrap_err();
    assert_eq!(failure.kind, FailureKind::BadData);
    assert!(failure.message.contains("read from a at 1"), "{failure}");
    assert_eq!(table.rows("select count(*) from {t}"), ["0"]);
    table.execute("delete from {t}");
    match kind {
        Kind::Sqlite => return,
        Kind::Postgres => table.execute("alter table {t} drop constraint {t}_n_check"),
        _ => table.execute("alter table {t} drop constraint if exists CONSTRAINT_1, modify n integer not null"),
    }
    assert_eq!(table.open().publish(&identity(1), &ranges(1), &work).unwrap().refused.len(), 0);
    assert_eq!(table.rows("select count(*) from {t}"), ["10"]);
}

#[test]
fn a_table_that_changes_while_running_stops_the_batch_with_the_difference() {
    for kind in ALL {
        let Some(table) = TestTable::new(kind, &columns()) else { continue };
        let table = table.created();
        let landing = table.open();
        table.land(landing.as_ref(), 1, numbers(0, 3));
        let work = table.stage(landing.as_ref(), 2, numbers(3, 3));
        match kind {
            Kind::Clickhouse => table.execute("alter table {t} drop column n"),
            _ => table.execute("alter table {t} rename column n to m"),
        }
        let failure = landing.publish(&identity(2), &ranges(2), &work).unwrap_err();
        assert_eq!(failure.kind, FailureKind::Configuration, "{kind:?}: {failure}");
        assert!(failure.message.contains("n: not there"), "{kind:?}: {failure}");
        assert!(failure.help.unwrap().contains("add column"));
        match kind {
            Kind::Clickhouse => table.execute("alter table {t} add column n Int32"),
            _ => table.execute("alter table {t} rename column m to n"),
        }
        landing.publish(&identity(2), &ranges(2), &work).unwrap();
        assert_eq!(table.rows("select count(*) from {t}"), ["6"], "{kind:?}");
    }
}

#[test]
fn a_later_reading_takes_the_place_of_rows_that_report_their_batch() {
    for kind in ALL {
        let Some(table) = TestTable::new(kind, &columns()) else { continue };
        let table = table.created().with("lineage", OptionValue::Flag(true));
        let landing = table.open();
        let first = table.stage(landing.as_ref(), 1, numbers(0, 3));
        landing.publish(&identity(1), &ranges(1), &first).unwrap();
        table.land(landing.as_ref(), 2, numbers(10, 2));
        let again = BatchIdentity { lane: lane().out_of_order(1), ..identity(1) };
        let mut stage = landing.stage(&again, &suite::order_after(9, &identity(1))).unwrap();
        stage.write(suite::rows("", &["again", "once more"])).unwrap();
        let work = landing.take_place(std::slice::from_ref(&first), stage.finish().unwrap(), true).unwrap();
        for _ in 0..2 {
            table.open().publish(&again, &ranges(1), &work).unwrap();
            assert_eq!(table.visible(), ["again", "once more", "r0010", "r0011"], "{kind:?}");
        }
    }
}

#[test]
fn what_has_landed_is_looked_at_and_counted_by_batch() {
    for kind in ALL {
        let Some(table) = TestTable::new(kind, &columns()) else { continue };
        let table = table.created().with("lineage", OptionValue::Flag(true));
        let landing = table.open();
        table.land(landing.as_ref(), 1, numbers(0, 3));
        table.land(landing.as_ref(), 2, numbers(3, 2));
        let mut stored = table.landing_kind().look(&table.settings(), &columns()).unwrap().unwrap();
        let summary = stored.summary();
        assert_eq!(summary.rows, Some(5), "{kind:?}");
        let mut batches: Vec<_> = summary.batches.iter().map(|b| (b.number, b.rows, b.there)).collect();
        batches.sort();
        assert_eq!(batches, [(1, 3, Some(3)), (2, 2, Some(2))], "{kind:?}");
        let mut rows = 0;
        while let Some(batch) = stored.next().unwrap() {
            rows += batch.num_rows();
        }
        assert_eq!(rows, 5);
    }
}

#[test]
fn lanes_have_numbers_of_their_own() {
    for kind in ALL {
        let Some(table) = TestTable::new(kind, &columns()) else { continue };
        let table = table.created();
        let landing = table.open();
        table.land(landing.as_ref(), 1, numbers(0, 2));
        assert_eq!(landing.noted(&LaneId::new("weighing.0", 1)).unwrap(), None, "{kind:?}");
        assert_eq!(table.open().noted(&lane()).unwrap().unwrap().number, 1, "{kind:?}");
    }
}

#[test]
fn without_transactions_a_refused_row_is_reported_once_and_a_replaced_batch_is_removed() {
    let columns = vec![column("text", SqlType::Text, false), column("day", SqlType::Date, false)];
    let Some(table) = TestTable::new(Kind::Clickhouse, &columns) else { return };
    let table = table.created().with("lineage", OptionValue::Flag(true));
    let rows = || -> Vec<ArrayRef> {
        let days = arrow_array::Date32Array::from(vec![20_000, -5, 20_001]);
        vec![Arc::new(StringArray::from(vec!["a", "b", "c"])), Arc::new(days)]
    };
    let landing = table.open();
    let first = table.stage(landing.as_ref(), 1, rows());
    let published = landing.publish(&identity(1), &ranges(1), &first).unwrap();
    assert_eq!(published.refused.len(), 1);
    // As after a crash between the refused rows and the batch.
    let id = &table.rows("select toString(_batch) from {t} limit 1")[0];
    table.execute(&format!("insert into sluice_refused select * from sluice_refused where batch = {id}"));
    let again = table.stage(landing.as_ref(), 1, rows());
    assert_eq!(table.open().publish(&identity(1), &ranges(1), &again).unwrap(), published);
    let out_of_order = BatchIdentity { lane: lane().out_of_order(1), ..identity(1) };
    let mut stage = landing.stage(&out_of_order, &suite::order_after(9, &identity(1))).unwrap();
    let batch = arrow_array::RecordBatch::try_new(sluice_core::plan::transform::schema_of(&columns), rows()).unwrap();
    let origin = suite::origin(&["x", "y", "z"]);
    stage
        .write(sluice_core::event::LandingRows { origin: Some(origin), marks: None, folder: "".into(), batch })
        .unwrap();
    let work = landing.take_place(std::slice::from_ref(&first), stage.finish().unwrap(), true).unwrap();
    assert_eq!(landing.publish(&out_of_order, &ranges(1), &work).unwrap().refused.len(), 1);
    assert_eq!(table.visible(), ["a", "c"], "the old rows have gone");
}
