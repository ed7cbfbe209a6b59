//! What every landing must do. Each kind runs these on its own stores.

use std::sync::Arc;

use arrow_array::{ArrayRef, Int32Array, RecordBatch, StringArray};
use sluice_core::batch::{BatchIdentity, LaneId, Range, Ranges};
use sluice_core::columns::OutputColumn;
use sluice_core::event::{Chunk, LandingRows, Position, RecordSpan, RowOrigin};
use sluice_core::failure::Outcome;
use sluice_core::kinds::{BatchOrder, Landing, Published, StagedWork};
use sluice_core::plan::transform::schema_of;
use sluice_core::types::SqlType;

/// A store with a landing in it, and a way to read what a reader of the store would see.
pub(crate) trait Store {
    /// Opens the landing again, as after a restart.
    fn landing(&self) -> Box<dyn Landing>;
    /// The visible rows' texts, sorted.
    fn visible(&self) -> Vec<String>;
    /// Whether the store keeps a record of what it holds.
    fn has_record(&self) -> bool {
        true
    }
}

pub(crate) fn lane() -> LaneId {
    LaneId::new("weighing.0", 0)
}

pub(crate) fn identity(number: u64) -> BatchIdentity {
    BatchIdentity { ledger: "3f9a2c1b-1".into(), pipeline: "p".into(), lane: lane(), number }
}

/// The place of a batch in the order of opening.
pub(crate) fn order(number: u64) -> BatchOrder {
    BatchOrder { own: number, first: None }
}

/// The order of a batch that reads again what another one read first.
pub(crate) fn order_after(number: u64, first: &BatchIdentity) -> BatchOrder {
    BatchOrder { own: number, first: Some(((first.lane.clone(), first.number), first.number)) }
}

pub(crate) fn ranges(number: u64) -> Ranges {
    let (from, to) = (Position::at(number * 10), Position::at(number * 10 + 10));
    Ranges(vec![Range { partition: "a".into(), from, to, identity: String::new() }])
}

/// Where rows came from: each text is an event of its own.
pub(crate) fn origin(texts: &[&str]) -> RowOrigin {
    let bytes: Vec<u8> = texts.iter().flat_map(|t| format!("{t}\n").into_bytes()).collect();
    let mut start = 0;
    let span = |text: &&str| {
        let end = start + u32::try_from(text.len()).unwrap();
        let span = RecordSpan { start, end };
        start = end + 1;
        span
    };
    let spans = texts.iter().map(span).collect();
    let chunk = Chunk {
        partition: "a".into(),
        from: Position::at(100),
        to: Position::at(100 + bytes.len() as u64),
        bytes,
        records: texts.len() as u64,
        ..Chunk::default()
    };
    RowOrigin { chunk: Arc::new(chunk), spans, rows: None }
}

/// Rows of the texts, all in one folder.
pub(crate) fn rows(folder: &str, texts: &[&str]) -> LandingRows {
    let column = |name: &str, ty| OutputColumn { name: name.into(), ty, nullable: false, limit: None };
    let text: ArrayRef = Arc::new(StringArray::from(texts.to_vec()));
    let number: ArrayRef = Arc::new(Int32Array::from(vec![1; texts.len()]));
    let schema = schema_of(&[column("text", SqlType::Text), column("n", SqlType::Integer)]);
    let batch = RecordBatch::try_new(schema, vec![text, number]).unwrap();
    LandingRows { origin: Some(origin(texts)), marks: None, folder: folder.into(), batch }
}

pub(crate) fn stage(landing: &dyn Landing, number: u64, parts: &[(&str, &[&str])]) -> StagedWork {
    let mut stage = landing.stage(&identity(number), &order(number)).unwrap();
    for (folder, texts) in parts {
        stage.write(rows(folder, texts)).unwrap();
    }
    stage.finish().unwrap()
}

pub(crate) fn publish(landing: &dyn Landing, number: u64, work: &StagedWork) -> Outcome<Published> {
    landing.publish(&identity(number), &ranges(number), work)
}

/// Staged rows are out of sight until they are published, and then all there, once.
pub(crate) fn rows_appear_when_published(store: &dyn Store) {
    let landing = store.landing();
    assert_eq!(landing.noted(&lane()).unwrap(), None);
    let work = stage(landing.as_ref(), 1, &[("x", &["a", "b"]), ("y/z", &["c"]), ("x", &["d"])]);
    assert_eq!(work.rows, 4);
    assert!(store.visible().is_empty());
    // What the ledger stores is all that publishing needs.
    let work: StagedWork = serde_json::from_str(&serde_json::to_string(&work).unwrap()).unwrap();
    publish(store.landing().as_ref(), 1, &work).unwrap();
    assert_eq!(store.visible(), ["a", "b", "c", "d"]);
    let noted = store.landing().noted(&lane()).unwrap();
    match store.has_record() {
        true => {
            let noted = noted.unwrap();
            assert_eq!((noted.number, noted.ledger.as_str(), noted.ranges), (1, "3f9a2c1b-1", ranges(1)));
        }
        false => assert_eq!(noted, None),
    }
}

/// Publishing again, at once or after later batches, changes nothing.
pub(crate) fn publishing_twice_lands_once(store: &dyn Store) {
    let landing = store.landing();
    let first = stage(landing.as_ref(), 1, &[("x", &["a"])]);
    let second = stage(landing.as_ref(), 2, &[("x", &["b"])]);
    publish(landing.as_ref(), 1, &first).unwrap();
    publish(landing.as_ref(), 1, &first).unwrap();
    publish(landing.as_ref(), 2, &second).unwrap();
    publish(store.landing().as_ref(), 2, &second).unwrap();
    publish(store.landing().as_ref(), 1, &first).unwrap();
    assert_eq!(store.visible(), ["a", "b"]);
}

/// What was never sealed is forgotten; sealed numbers are kept; a number can be staged again.
pub(crate) fn unsealed_work_is_forgotten(store: &dyn Store) {
    let landing = store.landing();
    let sealed = stage(landing.as_ref(), 1, &[("x", &["a"])]);
    stage(landing.as_ref(), 2, &[("x", &["lost"])]);
    drop(landing.stage(&identity(3), &order(3)).unwrap());
    let landing = store.landing();
    landing.discard("3f9a2c1b-1", &lane(), &[1]).unwrap();
    publish(landing.as_ref(), 1, &sealed).unwrap();
    let again = stage(landing.as_ref(), 2, &[("x", &["b"])]);
    publish(landing.as_ref(), 2, &again).unwrap();
    assert_eq!(store.visible(), ["a", "b"]);
    landing.discard("3f9a2c1b-1", &LaneId::new("weighing.0", 7), &[]).unwrap();
}

/// What one ledger has staged is never removed by another.
pub(crate) fn ledgers_do_not_touch_each_others_work(store: &dyn Store) {
    let landing = store.landing();
    let sealed = stage(landing.as_ref(), 1, &[("x", &["a"])]);
    let other = BatchIdentity { ledger: "another-ledger".into(), ..identity(1) };
    drop(landing.stage(&other, &order(1)).unwrap().finish().unwrap());
    landing.discard("another-ledger", &lane(), &[]).unwrap();
    publish(store.landing().as_ref(), 1, &sealed).unwrap();
    assert_eq!(store.visible(), ["a"]);
}

/// Everything that has landed can be reported, for taking it over.
pub(crate) fn holdings_report_all_batches(store: &dyn Store) {
    let landing = store.landing();
    for number in 1..=3 {
        let work = stage(landing.as_ref(), number, &[("x", &["a"])]);
        publish(landing.as_ref(), number, &work).unwrap();
    }
    let holdings = store.landing().holdings(&[lane()]).unwrap();
    let Some(noted) = holdings.lanes.iter().find(|l| l.lane == lane()) else {
        assert!(!store.has_record());
        return;
    };
    match &noted.read_to {
        None => {
            let found: Vec<_> = noted.batches.iter().map(|b| (b.number, b.ranges.clone())).collect();
            assert_eq!(found, (1..=3).map(|n| (n, ranges(n))).collect::<Vec<_>>());
        }
        // A record of the last batch alone says how far everything was read.
        Some(read_to) => {
            assert_eq!(noted.batches.iter().map(|b| b.number).collect::<Vec<_>>(), [3]);
            let read_to = read_to.as_ref().unwrap();
            assert_eq!(read_to.iter().map(|p| (&*p.partition, p.position.major)).collect::<Vec<_>>(), [("a", 40)]);
        }
    }
}

/// A batch without rows lands too, so that the landing's record has no gap.
pub(crate) fn an_empty_batch_lands(store: &dyn Store) {
    let landing = store.landing();
    let work = stage(landing.as_ref(), 1, &[]);
    publish(landing.as_ref(), 1, &work).unwrap();
    assert!(store.visible().is_empty());
    assert_eq!(landing.noted(&lane()).unwrap().is_some(), store.has_record());
}
