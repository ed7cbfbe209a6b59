//! What every ledger must do. Each kind runs these on its own.

use sluice_core::batch::{BatchIdentity, LandingWork, LaneId, Range, Ranges, Staged, StationCount};
use sluice_core::config::ExtraFields;
use sluice_core::contract::Contract;
use sluice_core::drift::{FieldExample, FieldHistory, FieldSeen, SeenFields, batch_name};
use sluice_core::event::Position;
use sluice_core::failure::{FailureKind, Outcome};
use sluice_core::kinds::{PartitionPosition, StagedWork};
use sluice_core::ledger::{AdoptedBatch, AdoptedLane, Adoption, BatchQuery, BatchState, Ledger};
use sluice_core::plan::SealedTexts;
use sluice_core::state::{Changed, KeyRange, StateChange, StationChanges};

/// Where a ledger is kept.
pub(super) trait Place {
    /// Opens it, as another process would.
    fn open(&self) -> Box<dyn Ledger>;
}

pub(super) fn lane() -> LaneId {
    LaneId::new("weighing.0", 0)
}

fn adopt(ledger: &dyn Ledger, lane: LaneId, adopted: AdoptedLane, order: u64) {
    let texts = SealedTexts { project: "a".into(), pipeline: "b".into() };
    let adoption = Adoption { lanes: &[(lane, adopted)], order, texts: &texts, known: &[] };
    ledger.adopt("p", &adoption).unwrap();
}

fn range(partition: &str, from: u64, to: u64) -> Range {
    Range { partition: partition.into(), from: Position::at(from), to: Position::at(to), identity: format!("{to}:x") }
}

pub(super) fn staged(ledger: &dyn Ledger, number: u64, ranges: Vec<Range>) -> Staged {
    let count = StationCount { input: 10, output: 9, rejected: 1, ..StationCount::new("weighing") };
    let work = |rows| StagedWork { rows, merged: 0, bytes: 7, detail: serde_json::json!({ "files": [] }) };
    let taken = |landing: &str, rows| LandingWork { landing: landing.into(), work: work(rows), landed: false };
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
        reread: None,
        state: Vec::new(),
        marks: None,
        fields: Vec::new(),
    }
}

/// Opens and seals a batch; whether the ledger allowed it.
fn seal(ledger: &dyn Ledger, number: u64, epoch: u64) -> Outcome<()> {
    let staged = staged(ledger, number, vec![range("a", (number - 1) * 100, number * 100)]);
    let _ = ledger.open_batch(&staged.identity, 1_000);
    ledger.seal(&staged, epoch)
}

fn start(partition: &str, at: u64) -> PartitionPosition {
    PartitionPosition { partition: partition.into(), position: Position::at(at), identity: "cluster/".into() }
}

pub(super) fn a_batch_goes_its_way_and_survives_reopening(place: &dyn Place) {
    let id = {
        let ledger = place.open();
        let taken = ledger.take_lane("p", &lane()).unwrap();
        assert_eq!((taken.epoch, taken.next), (1, 1));
        seal(ledger.as_ref(), 1, 1).unwrap();
        ledger.id().to_string()
    };
    let ledger = place.open();
    assert_eq!(ledger.id(), id);
    let (sealed, texts) = ledger.unfinished("p").unwrap().remove(0);
    assert_eq!((sealed.identity.number, sealed.works.len(), texts.pipeline.as_str()), (1, 2, "b"));
    assert_eq!(sealed.ranges.0, [range("a", 0, 100)]);
    ledger.landed(&sealed.identity, "weighing.archive", 0, 0).unwrap();
    ledger.settle(&sealed.identity).unwrap();
    assert_eq!(ledger.unfinished("p").unwrap().len(), 1, "one landing is missing, so it is not settled");
    assert!(ledger.unfinished("p").unwrap()[0].0.works[0].landed);
    ledger.landed(&sealed.identity, "rejects", 0, 0).unwrap();
    assert_eq!(ledger.batches("p", BatchQuery::default()).unwrap()[0].state, BatchState::Landed);
    ledger.settle(&sealed.identity).unwrap();
    assert!(ledger.unfinished("p").unwrap().is_empty());
    let record = ledger.batches("p", BatchQuery::default()).unwrap().remove(0);
    assert_eq!((record.state, record.read, record.counts[0].output), (BatchState::Settled, 10, 9));
    let totals = ledger.totals("p").unwrap();
    assert_eq!((totals.batches, totals.read, totals.landed, totals.rejected), (1, 10, 9, 1));
}

/// A key, its value, and when it expires.
type Change<'a> = (&'a [u8], Option<&'a [u8]>, Option<i64>);

fn remembering(ledger: &dyn Ledger, number: u64, changes: &[Change<'_>], due: Option<i64>) -> Staged {
    let change = |(key, value, due): &Change<'_>| StateChange {
        key: (*key).into(),
        value: value.map(<[u8]>::to_vec),
        due: *due,
    };
    let changes = changes.iter().map(change).collect();
    let changed = Changed { changes, due, ..Changed::default() };
    let station = StationChanges { station: "minute".into(), manner: "windows of 1m".into(), changed };
    Staged { state: vec![station], ..staged(ledger, number, Vec::new()) }
}

pub(super) fn what_stations_remember_is_sealed_with_its_batch(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    let first = remembering(
        ledger.as_ref(),
        1,
        &[
            (b"a", Some(b"1"), None),
            (b"", Some(b"0"), None),
            (b"b", Some(b"2"), Some(50)),
            (b"c", Some(b"3"), Some(60)),
        ],
        None,
    );
    ledger.open_batch(&first.identity, 1).unwrap();
    ledger.seal(&first, taken.epoch).unwrap();
    let all = |ledger: &dyn Ledger, lane: &LaneId| {
        let mut found = Vec::new();
        let mut note = |key: &[u8], value: &[u8]| {
            found.push((String::from_utf8(key.to_vec()).unwrap(), String::from_utf8(value.to_vec()).unwrap()));
            Ok(())
        };
        ledger.each_state("p", lane, "minute", &mut note).unwrap();
        found
    };
    let pairs = |pairs: &[(&str, &str)]| {
        pairs.iter().map(|(key, value)| ((*key).to_string(), (*value).to_string())).collect::<Vec<_>>()
    };
    assert_eq!(all(ledger.as_ref(), &lane()), pairs(&[("", "0"), ("a", "1"), ("b", "2"), ("c", "3")]));
    // A batch that cannot be sealed changes nothing.
    let second = remembering(ledger.as_ref(), 2, &[(b"a", None, None), (b"c", Some(b"4"), Some(90))], Some(60));
    ledger.open_batch(&second.identity, 1).unwrap();
    assert!(ledger.seal(&second, taken.epoch + 1).is_err());
    assert_eq!(all(ledger.as_ref(), &lane()).len(), 4);
    ledger.seal(&second, taken.epoch).unwrap();
    let ledger = place.open();
    assert_eq!(all(ledger.as_ref(), &lane()), pairs(&[("", "0"), ("c", "4")]), "what was due is forgotten");
    let values = ledger.state_values("p", &lane(), "minute", &[b"a", b"c"]).unwrap();
    assert_eq!(values, [None, Some(b"4".to_vec())]);
    assert_eq!(ledger.station_state("p", &lane(), "minute").unwrap(), Some(("windows of 1m".into(), 2)));
    // Other lanes, stations and pipelines have nothing of it.
    assert!(all(ledger.as_ref(), &LaneId::new("weighing.0", 1)).is_empty());
    assert_eq!(ledger.station_state("q", &lane(), "minute").unwrap(), None);
    assert_eq!(ledger.state_values("p", &lane(), "five", &[b"c"]).unwrap(), [None]);
    // Ranges of keys are read and removed.
    let range = |from: &[u8], to: Option<&[u8]>| KeyRange { from: from.into(), to: to.map(Into::into) };
    let mut third = remembering(ledger.as_ref(), 3, &[(b"d", Some(b"5"), None), (b"f", Some(b"6"), None)], None);
    ledger.open_batch(&third.identity, 1).unwrap();
    ledger.seal(&third, taken.epoch).unwrap();
    let part = |ledger: &dyn Ledger, range: &KeyRange, most| {
        let parts = ledger.state_parts("p", &lane(), "minute", std::slice::from_ref(range), most).unwrap();
        parts[0].iter().map(|(key, _)| String::from_utf8(key.clone()).unwrap()).collect::<Vec<_>>()
    };
    assert_eq!(part(ledger.as_ref(), &range(b"c", None), 9), ["c", "d", "f"]);
    assert_eq!(part(ledger.as_ref(), &range(b"c\0", Some(b"f")), 9), ["d"]);
    assert_eq!(part(ledger.as_ref(), &range(b"", None), 2), ["", "c"]);
    let ranges = [range(b"d", None), range(b"e", Some(b"f")), range(b"c", Some(b"d")), range(b"x", None)];
    let parts = ledger.state_parts("p", &lane(), "minute", &ranges, 1).unwrap();
    let first: Vec<Option<&[u8]>> = parts.iter().map(|part| part.first().map(|(key, _)| key.as_slice())).collect();
    assert_eq!(first, [Some(&b"d"[..]), None, Some(b"c"), None], "each range has its own part");
    assert!(parts.iter().all(|part| part.len() < 2));
    assert_eq!(ledger.state_parts("p", &lane(), "five", &ranges, 1).unwrap(), vec![vec![]; 4]);
    assert!(ledger.state_parts("p", &lane(), "minute", &[], 1).unwrap().is_empty());
    third = remembering(ledger.as_ref(), 4, &[(b"d", Some(b"7"), None)], None);
    third.state[0].changed.gone = vec![range(b"d", None), range(b"", Some(b"c"))];
    ledger.open_batch(&third.identity, 1).unwrap();
    ledger.seal(&third, taken.epoch).unwrap();
    assert_eq!(
        all(ledger.as_ref(), &lane()),
        pairs(&[("c", "4"), ("d", "7")]),
        "what is changed comes after what is removed"
    );
    assert_eq!(ledger.state_stations("p").unwrap(), [(lane(), "minute".to_string())]);
    assert!(ledger.state_stations("q").unwrap().is_empty());
    let sizes = ledger.state_sizes("p").unwrap();
    assert_eq!(sizes.iter().map(|s| (s.station.as_str(), s.keys, s.bytes)).collect::<Vec<_>>(), [("minute", 2, 4)]);
    // Those of an order by ends go with what they name, whatever bytes that has.
    let (early, late) = (b"\x02\0\0\0\0\0\0\0\x05", b"\x02\0\0\0\0\0\0\0\x06");
    let (odd, other): (&[u8], &[u8]) = (b"k\0'\0", b"\0");
    let key = |before: &[u8], name: &[u8]| [before, name].concat();
    let (by_end, by_later) = (key(early, odd), key(late, other));
    let (named, kept) = (Changed::named_by(&by_end), Changed::named_by(&by_later));
    assert_eq!(named, key(b"\x01", odd));
    let both: [Change<'_>; 4] = [
        (&by_end, Some(b""), None),
        (&by_later, Some(b""), None),
        (&named, Some(b"8"), None),
        (&kept, Some(b"9"), None),
    ];
    let fifth = remembering(ledger.as_ref(), 5, &both, None);
    ledger.open_batch(&fifth.identity, 1).unwrap();
    ledger.seal(&fifth, taken.epoch).unwrap();
    let mut sixth = remembering(ledger.as_ref(), 6, &[], None);
    sixth.state[0].changed.ended = Some(range(early, Some(late)));
    ledger.open_batch(&sixth.identity, 1).unwrap();
    ledger.seal(&sixth, taken.epoch).unwrap();
    let left: Vec<String> = all(ledger.as_ref(), &lane()).into_iter().map(|(key, _)| key).collect();
    let expected = [kept, by_later, b"c".to_vec(), b"d".to_vec()].map(|key| String::from_utf8(key).unwrap());
    assert_eq!(left, expected);
    // What goes on moves to its end, with its value; what stands elsewhere by now stays.
    let by_end = |end: u8, name: u8| vec![2, 0, 0, 0, 0, 0, 0, 0, end, name];
    let value = |standing: u8, end: u8| vec![2, 0, 0, 0, 0, 0, 0, 0, standing, 0, 0, 0, 0, 0, 0, 0, end, 7];
    let names = [b'm', b'n', b'o', b'p', b'q'];
    let standing = [(5, 5), (5, 7), (6, 9), (9, 9), (5, 6)];
    let mut all_keys: Vec<(Vec<u8>, Vec<u8>)> = Vec::new();
    for (name, (stands, ends)) in names.into_iter().zip(standing) {
        all_keys.push((vec![1, name], value(stands, ends)));
        all_keys.push((by_end(5, name), Vec::new()));
    }
    let puts: Vec<Change<'_>> = all_keys.iter().map(|(key, value)| (&**key, Some(&**value), None)).collect();
    let seventh = remembering(ledger.as_ref(), 7, &puts, None);
    ledger.open_batch(&seventh.identity, 1).unwrap();
    ledger.seal(&seventh, taken.epoch).unwrap();
    let mut eighth = remembering(ledger.as_ref(), 8, &[], None);
    eighth.state[0].changed.ended = Some(range(&by_end(5, 0)[..9], Some(&by_end(7, 0)[..9])));
    ledger.open_batch(&eighth.identity, 1).unwrap();
    ledger.seal(&eighth, taken.epoch).unwrap();
    let mut left = Vec::new();
    for name in names {
        left.push(ledger.state_values("p", &lane(), "minute", &[&[1, name]]).unwrap().remove(0));
        let ends = ledger.state_parts("p", &lane(), "minute", &[range(&[2], None)], 99).unwrap().remove(0);
        let own: Vec<u8> = ends.iter().filter(|(key, _)| key.last() == Some(&name)).map(|(key, _)| key[8]).collect();
        assert_eq!(own, if name == b'n' { vec![7] } else { vec![] }, "{name}");
    }
    // Of the third what it stands by is not the key that was passed.
    assert_eq!(left, [None, Some(value(7, 7)), Some(value(6, 9)), Some(value(9, 9)), None]);
}

pub(super) fn a_worker_that_lost_its_lane_cannot_seal(place: &dyn Place) {
    let ledger = place.open();
    let old = ledger.take_lane("p", &lane()).unwrap();
    let new = ledger.take_lane("p", &lane()).unwrap();
    assert_eq!(new.epoch, old.epoch + 1);
    assert_eq!(seal(ledger.as_ref(), 1, old.epoch).unwrap_err().kind, FailureKind::InUse);
    assert!(ledger.positions("p", "weighing.0").unwrap().is_empty(), "nothing of it was kept");
    seal(ledger.as_ref(), 1, new.epoch).unwrap();
}

pub(super) fn numbers_have_no_gap_and_no_twin(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    assert!(seal(ledger.as_ref(), 2, taken.epoch).is_err());
    seal(ledger.as_ref(), 1, taken.epoch).unwrap();
    assert!(seal(ledger.as_ref(), 1, taken.epoch).is_err());
    seal(ledger.as_ref(), 2, taken.epoch).unwrap();
    assert_eq!(ledger.take_lane("p", &lane()).unwrap().next, 3);
}

pub(super) fn positions_follow_sealing(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    seal(ledger.as_ref(), 1, taken.epoch).unwrap();
    seal(ledger.as_ref(), 2, taken.epoch).unwrap();
    let positions = ledger.positions("p", "weighing.0").unwrap();
    assert_eq!(
        (positions.len(), positions[0].position, positions[0].identity.as_str()),
        (1, Position::at(200), "200:x")
    );
    assert!(ledger.positions("p", "weighing.1").unwrap().is_empty());
}

pub(super) fn an_open_batch_is_forgotten_by_the_next_to_take_the_lane(place: &dyn Place) {
    let ledger = place.open();
    ledger.take_lane("p", &lane()).unwrap();
    ledger.open_batch(&staged(ledger.as_ref(), 1, Vec::new()).identity, 1).unwrap();
    assert_eq!(ledger.batches("p", BatchQuery::default()).unwrap()[0].state, BatchState::Open);
    assert_eq!(ledger.take_lane("p", &lane()).unwrap().next, 1);
    assert!(ledger.batches("p", BatchQuery::default()).unwrap().is_empty());
}

pub(super) fn the_ledger_itself_refuses_counts_that_do_not_balance(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    let mut staged = staged(ledger.as_ref(), 1, Vec::new());
    staged.counts[0].input += 1;
    ledger.open_batch(&staged.identity, 1).unwrap();
    assert!(ledger.seal(&staged, taken.epoch).is_err());
    assert_eq!(ledger.take_lane("p", &lane()).unwrap().next, 1);
}

pub(super) fn adopted_batches_move_positions_and_the_order_of_opening(place: &dyn Place) {
    let ledger = place.open();
    let batch = |number, present: &[&str], lacks: &[&str]| AdoptedBatch {
        number,
        ranges: Ranges(vec![range("a", (number - 1) * 100, number * 100)]),
        present: present.iter().map(|l| (*l).to_string()).collect(),
        lacks: lacks.iter().map(|l| (*l).to_string()).collect(),
        reread: None,
    };
    let adopted = AdoptedLane {
        batches: vec![batch(1, &["x", "y"], &[]), batch(2, &["x"], &["y"])],
        last: 2,
        positions: vec![start("a", 200), start("b", 7)],
    };
    for _ in 0..2 {
        adopt(ledger.as_ref(), lane(), adopted.clone(), 1_000);
    }
    let at: Vec<u64> = ledger.positions("p", "weighing.0").unwrap().iter().map(|p| p.position.major).collect();
    assert_eq!(at, [200, 7]);
    assert_eq!(ledger.last_sealed("p", &lane()).unwrap(), 2);
    assert_eq!(ledger.take_lane("p", &lane()).unwrap().next, 3);
    let batches = ledger.batches("p", BatchQuery::default()).unwrap();
    let shown: Vec<_> = batches.iter().map(|b| (b.number, b.state, b.opened > 1_000)).collect();
    assert_eq!(shown, [(1, BatchState::Adopted, true), (2, BatchState::Adopted, true)]);
    let waits: Vec<_> = batches[1].landings.iter().map(|l| (l.landing.as_str(), l.landed_at.is_some())).collect();
    assert_eq!(waits, [("x", true), ("y", false)]);
    assert!(ledger.open_batch(&staged(ledger.as_ref(), 3, Vec::new()).identity, 1).unwrap() > 1_002);
}

pub(super) fn an_unknown_replay_takes_its_number_and_what_it_may_have_replaced(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    seal(ledger.as_ref(), 1, taken.epoch).unwrap();
    for landing in ["weighing.archive", "rejects"] {
        ledger.landed(&staged(ledger.as_ref(), 1, Vec::new()).identity, landing, 0, 0).unwrap();
    }
    ledger.settle(&staged(ledger.as_ref(), 1, Vec::new()).identity).unwrap();
    let unknown = AdoptedLane { last: 1, ..AdoptedLane::default() };
    adopt(ledger.as_ref(), lane().out_of_order(4), unknown, 0);
    assert_eq!(ledger.begin_replay("p", "more", "").unwrap(), 5);
    assert_eq!(ledger.batches("p", BatchQuery::default()).unwrap()[0].state, BatchState::Adopted);
    assert_eq!(ledger.last_sealed("p", &lane().out_of_order(4)).unwrap(), 1);
}

pub(super) fn what_was_merged_into_a_refused_row_counts_as_landed(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    let mut one = staged(ledger.as_ref(), 1, vec![range("a", 0, 100)]);
    // Ten events: four rows, five merged into them, one rejected.
    let count = StationCount { input: 9, output: 4, merged: 5, ..StationCount::new("weighing.archive") };
    (one.counts, one.works[0].work.rows) = (vec![count], 4);
    ledger.open_batch(&one.identity, 1).unwrap();
    ledger.seal(&one, taken.epoch).unwrap();
    // The store refused one row and the two that had been merged into it; a third one landed.
    for _ in 0..2 {
        ledger.landed(&one.identity, "weighing.archive", 3, 3).unwrap();
    }
    let batch = &ledger.batches("p", BatchQuery::default()).unwrap()[0];
    let count = &batch.counts[0];
    assert_eq!((count.output, count.merged, count.rejected, batch.rejected), (4, 2, 3, 4));
    assert_eq!((batch.landings[0].rows, batch.landings[1].rows), (4, 4));
    count.check().unwrap();
}

pub(super) fn a_held_pipeline_says_who_holds_it(place: &dyn Place) {
    let (one, two) = (place.open(), place.open());
    assert_eq!(one.id(), two.id());
    let hold = one.lock("p").unwrap();
    let refused = two.lock("p").err().unwrap();
    assert_eq!(refused.kind, FailureKind::InUse);
    assert!(refused.message.contains(&std::process::id().to_string()), "{refused}");
    assert_eq!(two.holder("p").unwrap().unwrap().pid, std::process::id());
    two.lock("q").unwrap();
    drop(hold);
    assert!(two.holder("p").unwrap().is_none());
    two.lock("p").unwrap();
}

pub(super) fn a_start_is_noted_once_and_never_moves_a_position(place: &dyn Place) {
    let ledger = place.open();
    ledger.begin("p", "weighing.0", &[start("t/0", 40), start("t/1", 7)]).unwrap();
    ledger.begin("p", "weighing.0", &[start("t/0", 99), start("t/2", 1)]).unwrap();
    let at: Vec<u64> = ledger.positions("p", "weighing.0").unwrap().iter().map(|p| p.position.major).collect();
    assert_eq!(at, [40, 7, 1]);
    assert!(!ledger.has_begun("p", "weighing.1").unwrap());
    ledger.begin("p", "weighing.1", &[]).unwrap();
    assert!(ledger.has_begun("p", "weighing.1").unwrap(), "although it has no partition");
}

pub(super) fn positions_that_are_set_keep_their_reason(place: &dyn Place) {
    let ledger = place.open();
    ledger.begin("p", "weighing.0", &[start("t/0", 40)]).unwrap();
    ledger.set_positions("p", "weighing.0", &[start("t/0", 10), start("t/1", 3)], "misread").unwrap();
    let changes = ledger.position_changes("p").unwrap();
    let shown: Vec<_> = changes.iter().map(|c| (&*c.partition, c.from.map(|p| p.major), c.to.major)).collect();
    assert_eq!(shown, [("t/0", Some(40), 10), ("t/1", None, 3)]);
    assert!(changes.iter().all(|c| c.reason == "misread" && c.at > 0));
}

pub(super) fn what_is_read_again_moves_nothing_and_is_on_record(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    seal(ledger.as_ref(), 1, taken.epoch).unwrap();
    for landing in ["weighing.archive", "rejects"] {
        ledger.landed(&staged(ledger.as_ref(), 1, Vec::new()).identity, landing, 0, 0).unwrap();
    }
    ledger.settle(&staged(ledger.as_ref(), 1, Vec::new()).identity).unwrap();
    let before = (ledger.positions("p", "weighing.0").unwrap(), ledger.totals("p").unwrap());
    let number = ledger.begin_replay("p", "batches 1", "corrected").unwrap();
    let out_of_order = lane().out_of_order(number);
    let taken = ledger.take_lane("p", &out_of_order).unwrap();
    let mut again = staged(ledger.as_ref(), 1, vec![range("a", 0, 100)]);
    again.identity.lane = out_of_order.clone();
    again.reread = Some(sluice_core::batch::Reread { first: (lane(), 1), whole: true });
    ledger.open_batch(&again.identity, 5).unwrap();
    ledger.seal(&again, taken.epoch).unwrap();
    assert_eq!((ledger.positions("p", "weighing.0").unwrap(), ledger.totals("p").unwrap()), before);
    assert_eq!(ledger.lanes("p").unwrap(), [lane()]);
    let batches = ledger.batches("p", BatchQuery::default()).unwrap();
    let first = batches.iter().find(|b| b.lane == lane()).unwrap();
    assert_eq!(first.replaced_by, Some((out_of_order.clone(), 1)));
    assert_eq!(batches.iter().find(|b| b.lane == out_of_order).unwrap().first, Some((lane(), 1)));
    assert!(ledger.replays("p").unwrap()[0].ended_at.is_none());
    ledger.end_replay("p", number).unwrap();
    let replays = ledger.replays("p").unwrap();
    assert_eq!((replays[0].number, replays[0].what.as_str()), (1, "batches 1"));
    assert!(replays[0].ended_at.is_some());
    assert_eq!(ledger.begin_replay("p", "more", "").unwrap(), 2);
}

/// Two runs that take one lane at the same time get different epochs, and one of them alone can seal.
pub(super) fn of_two_that_take_a_lane_at_once_one_can_seal(place: &dyn Place) {
    let ledgers = [place.open(), place.open()];
    let holds: Vec<u64> = std::thread::scope(|scope| {
        let take = |ledger: &dyn Ledger| ledger.take_lane("p", &lane()).unwrap().epoch;
        let threads: Vec<_> = ledgers.iter().map(|ledger| scope.spawn(move || take(ledger.as_ref()))).collect();
        threads.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    assert_ne!(holds[0], holds[1]);
    let sealed: Vec<bool> =
        ledgers.iter().zip(&holds).map(|(ledger, epoch)| seal(ledger.as_ref(), 1, *epoch).is_ok()).collect();
    assert_eq!(sealed.iter().filter(|sealed| **sealed).count(), 1, "{holds:?}");
    assert_eq!(ledgers[0].last_sealed("p", &lane()).unwrap(), 1);
}

/// Pipelines do not see each other's batches, positions, lanes or ends.
pub(super) fn pipelines_are_apart(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    seal(ledger.as_ref(), 1, taken.epoch).unwrap();
    assert!(ledger.positions("q", "weighing.0").unwrap().is_empty());
    assert!(ledger.batches("q", BatchQuery::default()).unwrap().is_empty());
    assert!(ledger.unfinished("q").unwrap().is_empty() && ledger.lanes("q").unwrap().is_empty());
    assert_eq!(ledger.take_lane("q", &lane()).unwrap().next, 1);
    assert!(ledger.last_end("q").unwrap().is_none());
}

/// What was sealed is read back by the digest of its texts, however often it is sealed again.
pub(super) fn texts_are_kept_by_their_digest(place: &dyn Place) {
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    seal(ledger.as_ref(), 1, taken.epoch).unwrap();
    seal(ledger.as_ref(), 2, taken.epoch).unwrap();
    let batches = ledger.batches("p", BatchQuery::default()).unwrap();
    let digests: Vec<&String> = batches.iter().filter_map(|batch| batch.texts.as_ref()).collect();
    assert_eq!((digests.len(), digests[0] == digests[1]), (2, true));
    assert_eq!(ledger.texts(digests[0]).unwrap().pipeline, "b");
    assert!(ledger.texts("0000").is_err());
}

/// The ledger adds up what batches had as a run does that goes on, and what is read again counts once.
pub(super) fn fields_add_up_as_they_do_in_a_run(place: &dyn Place) {
    let example = |text: &str| {
        Some(FieldExample { partition: "a".into(), position: text.len().to_string(), text: text.to_string() })
    };
    let seen = |filled, first: &str, unfit, wrong: &str| FieldSeen {
        filled,
        first: example(first).filter(|e| !e.text.is_empty()),
        unfit,
        first_unfit: example(wrong).filter(|e| !e.text.is_empty()),
    };
    let fields = |events, fields: &[(&str, FieldSeen)]| SeenFields {
        events,
        fields: fields.iter().map(|(name, seen)| ((*name).to_string(), seen.clone())).collect(),
    };
    let batches = [
        fields(10, &[("n", seen(10, "", 0, "")), ("o'clock", seen(0, "", 3, "no number"))]),
        fields(5, &[("n", seen(4, "", 1, "too large")), ("mass", seen(2, "7.5", 0, ""))]),
        fields(7, &[("mass", seen(7, "8", 0, "")), ("o'clock", seen(1, "", 1, "still none"))]),
        fields(0, &[]),
    ];
    let ledger = place.open();
    let taken = ledger.take_lane("p", &lane()).unwrap();
    let contract = Contract { fields: Vec::new(), extra: ExtraFields::Ignore, may_lack: false };
    let mut history = FieldHistory::default();
    for (number, seen) in (1..).zip(&batches) {
        let mut batch = staged(ledger.as_ref(), number, Vec::new());
        batch.fields = vec![("weighing".into(), seen.clone())];
        ledger.open_batch(&batch.identity, 1).unwrap();
        ledger.seal(&batch, taken.epoch).unwrap();
        history.add("weighing", &contract, seen, &batch_name(&batch.identity), batch.opened_at);
    }
    let again = FieldHistory::new(ledger.fields("p").unwrap());
    assert_eq!(format!("{again:?}"), format!("{history:?}"));
    assert_eq!(again.events("weighing"), 22);
    let of = |name: &str| again.fields("weighing").find(|f| f.field == name).unwrap().clone();
    assert_eq!((of("n").filled, of("n").since, of("n").before), (14, 7, 0));
    assert_eq!((of("mass").before, of("mass").first.unwrap().text.as_str()), (10, "7.5"));
    assert_eq!((of("o'clock").unfit, of("o'clock").first_unfit.unwrap().text.as_str()), (4, "no number"));
    assert!(ledger.fields("q").unwrap().is_empty());
}
