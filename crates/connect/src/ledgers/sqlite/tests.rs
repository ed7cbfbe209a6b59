//! The ledger's promises.

use std::path::PathBuf;

use sluice_core::batch::{Range, Ranges, StationCount, TakenWork};
use sluice_core::event::Position;
use sluice_core::failure::FailureKind;
use sluice_core::kinds::StagedWork;
use sluice_core::ledger::BatchState;

use super::*;

struct Place(tempfile::TempDir);

impl Place {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn path(&self) -> PathBuf {
        self.0.path().join("sub/ledger.db")
    }

    fn open(&self) -> SqliteLedger {
        SqliteLedger::open(&self.path()).unwrap()
    }
}

fn lane() -> LaneId {
    LaneId::new("weighing.0", 0)
}

fn range(partition: &str, from: u64, to: u64) -> Range {
    Range { partition: partition.into(), from: Position::at(from), to: Position::at(to), identity: format!("{to}:x") }
}

fn staged(ledger: &SqliteLedger, number: u64, ranges: Vec<Range>) -> Staged {
    let count = StationCount { input: 10, output: 9, rejected: 1, ..StationCount::new("weighing") };
    let work = |rows| StagedWork { rows, merged: 0, bytes: 7, detail: serde_json::json!({ "files": [] }) };
    let taken = |landing: &str, rows| TakenWork { landing: landing.into(), work: work(rows), landed: false };
    Staged {
        identity: BatchIdentity { ledger: ledger.id().into(), pipeline: "p".into(), lane: lane(), number },
        ranges: Ranges(ranges),
        counts: vec![count],
        read: 10,
        bytes: 100,
        rejected: 1,
        opened_at: 1_000,
        works: vec![taken("weighing.archive", 9), taken("rejects", 1)],
        texts: SealedTexts { project: "a".into(), pipeline: "b".into() },
        stead: None,
    }
}

/// Opens and seals a batch; whether the ledger allowed it.
fn seal(ledger: &SqliteLedger, number: u64, epoch: u64) -> Outcome<()> {
    let staged = staged(ledger, number, vec![range("a", (number - 1) * 100, number * 100)]);
    let _ = ledger.open_batch(&staged.identity, 1_000);
    Ledger::seal(ledger, &staged, epoch)
}

#[test]
fn a_batch_goes_its_way_and_survives_reopening() {
    let place = Place::new();
    let id = {
        let ledger = place.open();
        let hold = ledger.take_lane("p", &lane()).unwrap();
        assert_eq!((hold.epoch, hold.next), (1, 1));
        seal(&ledger, 1, 1).unwrap();
        ledger.id().to_string()
    };
    let ledger = place.open();
    assert_eq!(ledger.id(), id);
    let (sealed, texts) = ledger.unfinished("p").unwrap().remove(0);
    assert_eq!((sealed.identity.number, sealed.works.len(), texts.pipeline.as_str()), (1, 2, "b"));
    assert_eq!(sealed.ranges.0, [range("a", 0, 100)]);
    ledger.landed(&sealed.identity, "weighing.archive", 0).unwrap();
    ledger.settle(&sealed.identity).unwrap();
    assert_eq!(ledger.unfinished("p").unwrap().len(), 1, "one landing is missing, so it is not settled");
    assert!(ledger.unfinished("p").unwrap()[0].0.works[0].landed);
    ledger.landed(&sealed.identity, "rejects", 0).unwrap();
    assert_eq!(ledger.batches("p", BatchQuery::default()).unwrap()[0].state, BatchState::Landed);
    ledger.settle(&sealed.identity).unwrap();
    assert!(ledger.unfinished("p").unwrap().is_empty());
    let record = ledger.batches("p", BatchQuery::default()).unwrap().remove(0);
    assert_eq!((record.state, record.read, record.counts[0].output), (BatchState::Settled, 10, 9));
    let totals = ledger.totals("p").unwrap();
    assert_eq!((totals.batches, totals.read, totals.landed, totals.rejected), (1, 10, 9, 1));
}

#[test]
fn a_worker_that_lost_its_lane_cannot_seal() {
    let place = Place::new();
    let ledger = place.open();
    let old = ledger.take_lane("p", &lane()).unwrap();
    let new = ledger.take_lane("p", &lane()).unwrap();
    assert_eq!(new.epoch, old.epoch + 1);
    assert_eq!(seal(&ledger, 1, old.epoch).unwrap_err().kind, FailureKind::Held);
    assert!(ledger.positions("p", "weighing.0").unwrap().is_empty(), "nothing of it was kept");
    seal(&ledger, 1, new.epoch).unwrap();
}

#[test]
fn numbers_have_no_gap_and_no_twin() {
    let place = Place::new();
    let ledger = place.open();
    let hold = ledger.take_lane("p", &lane()).unwrap();
    assert!(seal(&ledger, 2, hold.epoch).is_err());
    seal(&ledger, 1, hold.epoch).unwrap();
    assert!(seal(&ledger, 1, hold.epoch).is_err());
    seal(&ledger, 2, hold.epoch).unwrap();
    assert_eq!(ledger.take_lane("p", &lane()).unwrap().next, 3);
}

#[test]
fn positions_follow_sealing() {
    let place = Place::new();
    let ledger = place.open();
    let hold = ledger.take_lane("p", &lane()).unwrap();
    seal(&ledger, 1, hold.epoch).unwrap();
    seal(&ledger, 2, hold.epoch).unwrap();
    let positions = ledger.positions("p", "weighing.0").unwrap();
    assert_eq!(
        (positions.len(), positions[0].position, positions[0].identity.as_str()),
        (1, Position::at(200), "200:x")
    );
    assert!(ledger.positions("p", "weighing.1").unwrap().is_empty());
}

#[test]
fn an_open_batch_is_forgotten_by_the_next_to_take_the_lane() {
    let place = Place::new();
    let ledger = place.open();
    ledger.take_lane("p", &lane()).unwrap();
    ledger.open_batch(&staged(&ledger, 1, Vec::new()).identity, 1).unwrap();
    assert_eq!(ledger.batches("p", BatchQuery::default()).unwrap()[0].state, BatchState::Open);
    assert_eq!(ledger.take_lane("p", &lane()).unwrap().next, 1);
    assert!(ledger.batches("p", BatchQuery::default()).unwrap().is_empty());
}

#[test]
fn the_ledger_itself_refuses_counts_that_do_not_balance() {
    let place = Place::new();
    let ledger = place.open();
    let hold = ledger.take_lane("p", &lane()).unwrap();
    let mut staged = staged(&ledger, 1, Vec::new());
    staged.counts[0].input += 1;
    ledger.open_batch(&staged.identity, 1).unwrap();
    assert!(Ledger::seal(&ledger, &staged, hold.epoch).is_err());
    assert_eq!(ledger.take_lane("p", &lane()).unwrap().next, 1);
}

#[test]
fn adopting_moves_positions_forward_only() {
    let place = Place::new();
    let ledger = place.open();
    ledger.take_lane("p", &lane()).unwrap();
    let held = |number, to| HeldBatch { ledger: "other".into(), number, ranges: Ranges(vec![range("a", 0, to)]) };
    ledger.adopt("p", "weighing.0", &lane(), &held(5, 500)).unwrap();
    ledger.adopt("p", "weighing.0", &lane(), &held(4, 400)).unwrap();
    assert_eq!(ledger.positions("p", "weighing.0").unwrap()[0].position, Position::at(500));
    assert_eq!(ledger.take_lane("p", &lane()).unwrap().next, 6);
}

#[test]
fn a_held_pipeline_says_who_holds_it() {
    let place = Place::new();
    let (one, two) = (place.open(), place.open());
    assert_eq!(one.id(), two.id());
    let hold = one.hold("p").unwrap();
    let refused = two.hold("p").err().unwrap();
    assert_eq!(refused.kind, FailureKind::Held);
    assert!(refused.message.contains(&std::process::id().to_string()), "{refused}");
    assert_eq!(two.holder("p").unwrap().unwrap().pid, std::process::id());
    two.hold("q").unwrap();
    drop(hold);
    assert!(two.holder("p").unwrap().is_none());
    two.hold("p").unwrap();
}

#[test]
fn a_newer_ledger_is_left_alone() {
    let place = Place::new();
    drop(place.open());
    Connection::open(place.path()).unwrap().pragma_update(None, "user_version", 99).unwrap();
    let refused = SqliteLedger::open(&place.path()).err().unwrap();
    assert!(refused.message.contains("version 99") && refused.help.is_some());
}

#[test]
fn durability_is_not_traded_for_speed() {
    let place = Place::new();
    let ledger = place.open();
    let connection = ledger.connection();
    let mode: String = connection.query_row("pragma journal_mode", [], |r| r.get(0)).unwrap();
    let synchronous: i64 = connection.query_row("pragma synchronous", [], |r| r.get(0)).unwrap();
    assert_eq!((mode.as_str(), synchronous), ("wal", 2));
}

fn start(partition: &str, at: u64) -> PartitionPosition {
    PartitionPosition { partition: partition.into(), position: Position::at(at), identity: "cluster/".into() }
}

#[test]
fn a_start_is_noted_once_and_never_moves_a_position() {
    let place = Place::new();
    let ledger = place.open();
    ledger.begin("p", "weighing.0", &[start("t/0", 40), start("t/1", 7)]).unwrap();
    ledger.begin("p", "weighing.0", &[start("t/0", 99), start("t/2", 1)]).unwrap();
    let at: Vec<u64> = ledger.positions("p", "weighing.0").unwrap().iter().map(|p| p.position.major).collect();
    assert_eq!(at, [40, 7, 1]);
}

#[test]
fn positions_that_are_set_keep_their_reason() {
    let place = Place::new();
    let ledger = place.open();
    ledger.begin("p", "weighing.0", &[start("t/0", 40)]).unwrap();
    ledger.set_positions("p", "weighing.0", &[start("t/0", 10), start("t/1", 3)], "misread").unwrap();
    let changes = ledger.position_changes("p").unwrap();
    let shown: Vec<_> = changes.iter().map(|c| (&*c.partition, c.from.map(|p| p.major), c.to.major)).collect();
    assert_eq!(shown, [("t/0", Some(40), 10), ("t/1", None, 3)]);
    assert!(changes.iter().all(|c| c.reason == "misread" && c.at > 0));
}

#[test]
fn what_is_read_again_moves_nothing_and_is_on_record() {
    let place = Place::new();
    let ledger = place.open();
    let hold = ledger.take_lane("p", &lane()).unwrap();
    seal(&ledger, 1, hold.epoch).unwrap();
    for landing in ["weighing.archive", "rejects"] {
        ledger.landed(&staged(&ledger, 1, Vec::new()).identity, landing, 0).unwrap();
    }
    ledger.settle(&staged(&ledger, 1, Vec::new()).identity).unwrap();
    let before = (ledger.positions("p", "weighing.0").unwrap(), ledger.totals("p").unwrap());
    let number = ledger.begin_replay("p", "batches 1", "mended").unwrap();
    let aside = lane().aside(number);
    let hold = ledger.take_lane("p", &aside).unwrap();
    let mut again = staged(&ledger, 1, vec![range("a", 0, 100)]);
    again.identity.lane = aside.clone();
    again.stead = Some(sluice_core::batch::Stead { first: (lane(), 1), last: (lane(), 1) });
    ledger.open_batch(&again.identity, 5).unwrap();
    Ledger::seal(&ledger, &again, hold.epoch).unwrap();
    assert_eq!((ledger.positions("p", "weighing.0").unwrap(), ledger.totals("p").unwrap()), before);
    assert_eq!(ledger.lanes("p").unwrap(), [lane()]);
    let batches = ledger.batches("p", BatchQuery::default()).unwrap();
    let first = batches.iter().find(|b| b.lane == lane()).unwrap();
    assert_eq!(first.replaced_by, Some((aside.clone(), 1)));
    assert_eq!(batches.iter().find(|b| b.lane == aside).unwrap().first, Some((lane(), 1)));
    assert!(ledger.replays("p").unwrap()[0].ended_at.is_none());
    ledger.end_replay("p", number).unwrap();
    let replays = ledger.replays("p").unwrap();
    assert_eq!((replays[0].number, replays[0].what.as_str()), (1, "batches 1"));
    assert!(replays[0].ended_at.is_some());
    assert_eq!(ledger.begin_replay("p", "more", "").unwrap(), 2);
}
