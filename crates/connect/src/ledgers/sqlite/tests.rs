//! The shared suite, and what SQLite promises beyond it.

use std::path::PathBuf;

use rstest::rstest;
use sluice_core::ledger::BatchQuery;

use super::*;
use crate::ledgers::suite::{self, Place as _, lane, staged};

struct LedgerFile(tempfile::TempDir);

impl LedgerFile {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn path(&self) -> PathBuf {
        self.0.path().join("sub/ledger.db")
    }

    fn sqlite(&self) -> SqliteLedger {
        SqliteLedger::open(&self.path()).unwrap()
    }
}

impl suite::Place for LedgerFile {
    fn open(&self) -> Box<dyn Ledger> {
        Box::new(self.sqlite())
    }
}

#[rstest]
fn the_shared_suite(
    #[values(
        suite::a_batch_goes_its_way_and_survives_reopening,
        suite::what_stations_remember_is_sealed_with_its_batch,
        suite::a_worker_that_lost_its_lane_cannot_seal,
        suite::numbers_have_no_gap_and_no_twin,
        suite::positions_follow_sealing,
        suite::an_open_batch_is_forgotten_by_the_next_to_take_the_lane,
        suite::the_ledger_itself_refuses_counts_that_do_not_balance,
        suite::adopted_batches_move_positions_and_the_order_of_opening,
        suite::an_unknown_replay_takes_its_number_and_what_it_may_have_replaced,
        suite::what_was_merged_into_a_refused_row_counts_as_landed,
        suite::a_held_pipeline_says_who_holds_it,
        suite::a_start_is_noted_once_and_never_moves_a_position,
        suite::positions_that_are_set_keep_their_reason,
        suite::what_is_read_again_moves_nothing_and_is_on_record,
        suite::of_two_that_take_a_lane_at_once_one_can_seal,
        suite::pipelines_are_apart,
        suite::texts_are_kept_by_their_digest,
        suite::fields_add_up_as_they_do_in_a_run
    )]
    test: fn(&dyn suite::Place),
) {
    test(&LedgerFile::new());
}

/// A ledger of the version before names and readings were noted keeps what it says.
#[test]
fn a_ledger_of_version_2_is_brought_up_to_date() {
    let place = LedgerFile::new();
    std::fs::create_dir_all(place.path().parent().unwrap()).unwrap();
    let old = Connection::open(place.path()).unwrap();
    for script in [include_str!("migrations/1.sql"), include_str!("migrations/2.sql")] {
        old.execute_batch(script).unwrap();
    }
    old.execute_batch(
        "pragma user_version = 2;
         insert into ledger values ('3f9a2c1b', 1);
         insert into batch values ('p', 'weighing.0.0', 1, 'settled', 10, 11, 12, 5, 50, 1, null),
                                  ('p', 'weighing.0.0', 2, 'settled', 20, 21, 22, 5, 50, 0, null),
                                  ('p', 'weighing.0.0~1', 1, 'settled', 30, 31, 32, 5, 50, 0, null),
                                  ('p', 'weighing.0.0~2', 1, 'settled', 40, 41, 42, 1, 9, 0, null);
         insert into batch_range values ('p', 'weighing.0.0', 1, 0, 'a', 0, 0, 100, 0, ''),
                                        ('p', 'weighing.0.0', 2, 0, 'a', 100, 0, 200, 0, ''),
                                        ('p', 'weighing.0.0~1', 1, 0, 'a', 100, 0, 200, 0, ''),
                                        ('p', 'weighing.0.0~2', 1, 0, 'a', 40, 0, 49, 0, '');
         insert into batch_landing values ('p', 'weighing.0.0', 1, 0, 'weighing.archive', 4, 1, 'null', 12);
         insert into position values ('p', 'weighing.0', 'a', 200, 0, '');",
    )
    .unwrap();
    drop(old);
    let ledger = place.open();
    let batches = ledger.batches("p", BatchQuery::default()).unwrap();
    let again: Vec<_> = batches.iter().map(|b| (b.first.clone(), b.whole)).collect();
    assert_eq!(again, [(None, false), (None, false), (Some((lane(), 2)), true), (Some((lane(), 1)), false)]);
    assert!(batches.windows(2).all(|two| two[0].opened < two[1].opened));
    let known = ledger.known("p").unwrap();
    let names: Vec<_> = known.iter().map(|k| (k.name.as_str(), k.place.as_str())).collect();
    assert_eq!(names, [("weighing.0", "?"), ("weighing.archive", "?")]);
    assert!(ledger.has_begun("p", "weighing.0").unwrap());
    assert!(ledger.open_batch(&staged(ledger.as_ref(), 3, Vec::new()).identity, 1).unwrap() > 1 << 31);
}

#[test]
fn a_newer_ledger_is_left_alone() {
    let place = LedgerFile::new();
    drop(place.open());
    Connection::open(place.path()).unwrap().pragma_update(None, "user_version", 99).unwrap();
    let refused = SqliteLedger::open(&place.path()).err().unwrap();
    assert!(refused.message.contains("version 99") && refused.help.is_some());
}

#[test]
fn durability_is_not_traded_for_speed() {
    let place = LedgerFile::new();
    let ledger = place.sqlite();
    let connection = ledger.connection();
    let mode: String = connection.query_row("pragma journal_mode", [], |r| r.get(0)).unwrap();
    let synchronous: i64 = connection.query_row("pragma synchronous", [], |r| r.get(0)).unwrap();
    assert_eq!((mode.as_str(), synchronous), ("wal", 2));
}

/// Totals as they are added up from all batches.
fn added_up(ledger: &SqliteLedger, pipeline: &str) -> PipelineTotals {
    let connection = ledger.connection();
    let sql = "select count(*) filter (where state = 'settled'), count(*) filter (where state = 'sealed'),
                      coalesce(sum(read), 0), coalesce(sum(bytes), 0), coalesce(sum(rejected), 0), max(settled_at)
               from batch where pipeline = ?1 and state <> 'open' and lane not like '%~%'";
    let mut totals = connection
        .query_row(sql, [pipeline], |r| {
            Ok(PipelineTotals {
                batches: r.get(0)?,
                unfinished: r.get(1)?,
                read: r.get(2)?,
                bytes: r.get(3)?,
                rejected: r.get(4)?,
                landed: 0,
                last_settled_at: r.get(5)?,
            })
        })
        .unwrap();
    let sql = "select coalesce(sum(rows), 0) from batch_landing
               where pipeline = ?1 and landing <> 'rejects' and landed_at is not null and lane not like '%~%'";
    totals.landed = connection.query_row(sql, [pipeline], |r| r.get(0)).unwrap();
    totals
}

/// After each step of any order of steps.
#[test]
fn totals_are_those_of_all_batches() {
    let place = LedgerFile::new();
    let ledger = place.sqlite();
    let (pipeline, mut state) = ("weighings", 7_u64);
    let mut random = |below: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % below
    };
    let run = |sql: &str, values: &[&dyn rusqlite::ToSql]| ledger.connection().execute(sql, values).unwrap();
    for number in 1..400_i64 {
        let hour = i64::try_from(random(5)).unwrap() * 3_600_000_000 + i64::try_from(random(3_600_000_000)).unwrap();
        let lane = ["weighing.0.0", "weighing.0.1", "weighing.0.0~1"][usize::try_from(random(3)).unwrap()];
        let put =
            "insert into batch (pipeline, lane, number, state, opened_at, opened) values (?1, ?2, ?3, 'open', ?4, ?3)";
        run(put, &[&pipeline, &lane, &number, &hour]);
        if random(10) == 0 {
            run("delete from batch where number = ?1 and state = 'open'", &[&number]);
            continue;
        }
        let (read, bad) = (i64::try_from(random(1_000)).unwrap(), i64::try_from(random(5)).unwrap());
        let seal = "update batch set state = 'sealed', sealed_at = ?2 + 5, read = ?3, bytes = ?3 * 7, rejected = ?4 where number = ?1";
        run(seal, &[&number, &hour, &read, &bad]);
        for (place, landing) in ["weighing.archive", "weighing.desk", "rejects"].into_iter().enumerate() {
            let place = i64::try_from(place).unwrap();
            let put = "insert into batch_landing (pipeline, lane, number, place, landing, rows, bytes, work)
                       values (?1, ?2, ?3, ?4, ?5, ?6, 0, 'null')";
            run(put, &[&pipeline, &lane, &number, &place, &landing, &read]);
        }
        assert_eq!(ledger.totals(pipeline).unwrap(), added_up(&ledger, pipeline), "sealed {number}");
        if random(8) == 0 {
            continue;
        }
        let landed =
            "update batch_landing set landed_at = ?2 + 9, rows = rows - 1 where number = ?1 and landing <> 'rejects'";
        run(landed, &[&number, &hour]);
        run("update batch set rejected = rejected + 1 where number = ?1", &[&number]);
        run("update batch_landing set rows = rows + 1 where number = ?1 and landing = 'rejects'", &[&number]);
        let settle = "update batch set state = 'settled', settled_at = ?2 where number = ?1";
        run(settle, &[&number, &(hour + 10 + i64::try_from(random(1_000_000)).unwrap())]);
        if random(50) == 0 {
            run("update batch set state = 'adopted' where state = 'settled' and lane = ?1", &[&lane]);
        }
        assert_eq!(ledger.totals(pipeline).unwrap(), added_up(&ledger, pipeline), "settled {number}");
    }
    let totals = ledger.totals(pipeline).unwrap();
    assert!(totals.batches > 10 && totals.unfinished > 5 && totals.landed > 1_000, "{totals:?}");
    // An older ledger gets the same totals when it is brought up to date.
    let hours = |connection: &Connection| -> Vec<Vec<i64>> {
        let sql = "select start, settled, sealed, read, bytes, rejected, landed, longest, coalesce(last_settled, 0) from batch_hour
                   where settled + sealed + read > 0 order by start";
        let mut statement = connection.prepare(sql).unwrap();
        let rows =
            statement.query_map([], |r| (0..9).map(|k| r.get(k)).collect::<rusqlite::Result<Vec<i64>>>()).unwrap();
        rows.map(Result::unwrap).collect()
    };
    let connection = ledger.connection();
    let mut kept = hours(&connection);
    connection.execute_batch("delete from batch_hour").unwrap();
    let script = include_str!("migrations/10.sql");
    let from = script.find("insert into batch_hour\n").unwrap();
    let until = from + script[from..].find(';').unwrap();
    connection.execute_batch(&script[from..until]).unwrap();
    let mut again = hours(&connection);
    // The longest of those that were adopted since is not known any more.
    [&mut kept, &mut again].into_iter().flatten().for_each(|hour| hour[7] = 0);
    assert_eq!(kept, again);
}

#[test]
fn failures_are_kept_up_to_a_thousand() {
    let place = LedgerFile::new();
    let ledger = place.sqlite();
    let end = |at: i64| RunEnd { kind: "unreachable".into(), message: format!("try {at}"), help: None, at };
    for at in 0..1_005 {
        ledger.note_end("tolls", Some(&end(at))).unwrap();
        ledger.note_end("tolls", None).unwrap();
    }
    ledger.note_end("permits", Some(&end(1))).unwrap();
    let found = ledger.failures("tolls", 5_000).unwrap();
    assert_eq!((found.len(), found[0].at, found[999].at), (1_000, 5, 1_004));
    assert_eq!(ledger.failures("tolls", 2).unwrap(), [end(1_003), end(1_004)]);
    assert_eq!(ledger.failures("permits", 10).unwrap(), [end(1)]);
}
