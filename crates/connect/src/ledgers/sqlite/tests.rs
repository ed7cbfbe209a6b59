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
