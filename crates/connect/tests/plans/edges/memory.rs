//! An intake, landings and a place for rejects that live in memory and outlive a run, as servers do.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;
use std::sync::{Arc, LazyLock, Mutex, MutexGuard};

use arrow_array::cast::AsArray as _;
use arrow_array::{Array as _, RecordBatch};
use serde::{Deserialize, Serialize};
use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::columns::OutputColumn;
use sluice_core::config::{ConnectionConfig, OptionSpec, Options};
use sluice_core::event::{Chunk, LandingRows, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{
    BatchOrder, Behind, ConnectionKind, Holdings, Intake, IntakeKind, IntakeView, Landing, LandingKind, LaneReader,
    Mark, NotedBatch, NotedLane, PartitionPosition, PartitionState, Published, Read, ReadLimit, RefusedRow, Registry,
    Settings, Stage, StagedWork, only,
};
use sluice_core::problem::Problem;
use sluice_core::reject::REJECTS;

/// Everything that is outside of a project: sources and stores, by project folder and name.
#[derive(Default)]
pub(crate) struct World {
    /// Lines of each partition, each with its line end.
    pub(crate) partitions: BTreeMap<String, Vec<u8>>,
    pub(crate) stores: BTreeMap<String, Store>,
    /// The store that does not take anything now.
    pub(crate) broken: Option<String>,
}

/// A batch in a store: its ledger, lane and number.
type Key = (String, String, u64);

#[derive(Default)]
pub(crate) struct Store {
    /// Staged rows, invisible to readers.
    staged: BTreeMap<Key, Vec<String>>,
    /// Rows by the batch that landed them.
    rows: BTreeMap<Key, Vec<String>>,
    /// Rows that were kept of other landings, by batch and landing.
    kept: BTreeMap<(Key, String), Vec<String>>,
    noted: Vec<(String, NotedBatch)>,
}

impl Store {
    /// All rows that a reader sees.
    pub(crate) fn visible(&self) -> Vec<String> {
        let mut all: Vec<String> = self.rows.values().chain(self.kept.values()).flatten().cloned().collect();
        all.sort();
        all
    }

    /// Staged work, by the ledger that staged it.
    pub(crate) fn staged_by(&self) -> BTreeSet<&str> {
        self.staged.keys().map(|(ledger, _, _)| ledger.as_str()).collect()
    }
}

static WORLDS: LazyLock<Mutex<HashMap<String, Arc<Mutex<World>>>>> = LazyLock::new(Mutex::default);

/// The world around a project folder. Checkouts of one project are folders `NAME` and `NAME-second`.
pub(crate) fn world(root: &Path) -> Arc<Mutex<World>> {
    let name = root.file_name().unwrap().to_string_lossy().trim_end_matches("-second").to_string();
    Arc::clone(WORLDS.lock().unwrap_or_else(std::sync::PoisonError::into_inner).entry(name).or_default())
}

pub(crate) fn lock(world: &Mutex<World>) -> MutexGuard<'_, World> {
    world.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

pub(crate) fn registry() -> Registry {
    let mut registry = Registry::default();
    registry.add_connection(ConnectionKind { scheme: "mem", about: "memory", options: &[] });
    registry.add_intake(Lines);
    registry.add_landing(Rows);
    registry.keep_rejects(|root, pipeline| Ok(Box::new(MemoryLanding::new(root, &format!("{pipeline}.{REJECTS}")))));
    registry
}

/// The intake: partitions of lines whose names begin with the connection's address.
struct Lines;

impl IntakeKind for Lines {
    fn name(&self) -> &'static str {
        "lines"
    }
    fn scheme(&self) -> &'static str {
        "mem"
    }
    fn about(&self) -> &'static str {
        "lines in memory"
    }
    fn options(&self) -> &'static [OptionSpec] {
        &[]
    }
    fn formats(&self) -> &'static [&'static str] {
        &["jsonl"]
    }
    fn check(&self, _: &Settings) -> Vec<Problem> {
        Vec::new()
    }
    fn open(&self, settings: &[Settings]) -> Outcome<Box<dyn Intake>> {
        Ok(Box::new(MemoryIntake::new(only(settings)?)))
    }

    fn view(&self, settings: &[Settings]) -> Outcome<Box<dyn IntakeView>> {
        Ok(Box::new(MemoryIntake::new(only(settings)?)))
    }
}

struct MemoryIntake {
    world: Arc<Mutex<World>>,
    prefix: String,
}

impl MemoryIntake {
    fn new(settings: &Settings) -> Self {
        Self { world: world(&settings.root), prefix: settings.connection.target.clone() }
    }

    fn names(&self) -> Vec<String> {
        lock(&self.world).partitions.keys().filter(|name| name.starts_with(&self.prefix)).cloned().collect()
    }
}

impl Intake for MemoryIntake {
    fn lane(&self, lane: u32, lanes: u32, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>> {
        let known = |name: &str| positions.iter().find(|p| &*p.partition == name).map_or(0, |p| p.position.major);
        let is_own = |name: &String| name.bytes().map(u32::from).sum::<u32>() % lanes == lane;
        let parts = self.names().into_iter().filter(is_own).map(|name| (known(&name), u64::MAX, name)).collect();
        Ok(Box::new(MemoryReader { world: Arc::clone(&self.world), parts, turn: 0 }))
    }
}

impl IntakeView for MemoryIntake {
    fn sample(&self, _: u64) -> Outcome<Box<dyn LaneReader>> {
        self.lane(0, 1, Vec::new())
    }

    fn states(&self, _: &[PartitionPosition]) -> Outcome<Vec<PartitionState>> {
        let state = |name: String| PartitionState {
            partition: name.into(),
            earliest: Position::default(),
            latest: Position::default(),
            events: None,
            bytes: None,
            counts_bytes: false,
            oldest_unread: None,
            retention: None,
            arrived_last_hour: None,
            loads: Vec::new(),
            retained: None,
            waiting: None,
        };
        Ok(self.names().into_iter().map(state).collect())
    }

    fn find(&self, _: &Mark) -> Outcome<Option<Vec<PartitionPosition>>> {
        Ok(None)
    }

    fn ranges(&self, ranges: &Ranges) -> Outcome<Box<dyn LaneReader>> {
        let parts = ranges.0.iter().map(|r| (r.from.major, r.to.major, r.partition.to_string())).collect();
        Ok(Box::new(MemoryReader { world: Arc::clone(&self.world), parts, turn: 0 }))
    }

    fn behind(&self, _: &[PartitionPosition]) -> Outcome<Behind> {
        Ok(Behind::default())
    }
}

/// Takes turns over partitions, so that they stand mixed in a batch.
struct MemoryReader {
    world: Arc<Mutex<World>>,
    parts: Vec<(u64, u64, String)>,
    turn: usize,
}

impl LaneReader for MemoryReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let world = lock(&self.world);
        for _ in 0..self.parts.len() {
            self.turn = (self.turn + 1) % self.parts.len();
            let (at, end, name) = &mut self.parts[self.turn];
            let bytes = &world.partitions[name.as_str()];
            let stop = usize::try_from((*end).min(bytes.len() as u64)).unwrap();
            let from = usize::try_from(*at).unwrap();
            if from >= stop {
                continue;
            }
            let most = usize::try_from(limit.records.min(2)).unwrap();
            let ends = bytes[from..].iter().enumerate().filter(|(_, b)| **b == b'\n').map(|(i, _)| from + i + 1);
            // A range of one record ends before its line end.
            let taken: Vec<usize> = ends.take_while(|end| *end <= stop + 1).take(most).collect();
            let to = *taken.last().unwrap();
            let chunk = Chunk {
                partition: name.as_str().into(),
                from: Position::at(*at),
                to: Position::at(to as u64),
                bytes: bytes[from..to].to_vec(),
                records: taken.len() as u64,
                ..Chunk::default()
            };
            *at = to as u64;
            return Ok(Read::Chunk(chunk));
        }
        Ok(Read::CaughtUp)
    }
}

/// The landing: the texts of the column `id`, by batch.
struct Rows;

impl LandingKind for Rows {
    fn name(&self) -> &'static str {
        "rows"
    }
    fn scheme(&self) -> &'static str {
        "mem"
    }
    fn about(&self) -> &'static str {
        "rows in memory"
    }
    fn guarantee(&self) -> &'static str {
        "exactly once"
    }
    fn options(&self) -> &'static [OptionSpec] {
        &[]
    }
    fn can_replace(&self, _: &Options) -> Result<(), String> {
        Ok(())
    }
    fn exclusive_place(&self, connection: &ConnectionConfig, _: &Options) -> Option<String> {
        Some(connection.target.clone())
    }
    fn check(&self, _: &Settings, _: &[OutputColumn]) -> Vec<Problem> {
        Vec::new()
    }
    fn open(&self, settings: &Settings, label: &str, _: &[OutputColumn]) -> Outcome<Box<dyn Landing>> {
        Ok(Box::new(MemoryLanding::new(&settings.root, label)))
    }
}

struct MemoryLanding {
    world: Arc<Mutex<World>>,
    label: String,
}

impl MemoryLanding {
    fn new(root: &Path, label: &str) -> Self {
        Self { world: world(root), label: label.into() }
    }

    fn with<T>(&self, work: impl FnOnce(&mut Store) -> T) -> T {
        work(lock(&self.world).stores.entry(self.label.clone()).or_default())
    }
}

#[derive(Default, Serialize, Deserialize)]
struct Detail {
    own: Option<Key>,
    replaces: Vec<Key>,
}

fn key(batch: &BatchIdentity) -> Key {
    (batch.ledger.clone(), batch.lane.to_string(), batch.number)
}

impl Landing for MemoryLanding {
    fn noted(&self, lane: &LaneId) -> Outcome<Option<NotedBatch>> {
        Ok(self.with(|s| s.noted.iter().rev().find(|(l, _)| l == lane.as_str()).map(|(_, noted)| noted.clone())))
    }

    fn holdings(&self, _: &[LaneId]) -> Outcome<Holdings> {
        let mut lanes: BTreeMap<String, Vec<NotedBatch>> = BTreeMap::new();
        self.with(|s| s.noted.iter().for_each(|(l, noted)| lanes.entry(l.clone()).or_default().push(noted.clone())));
        let lane = |(lane, batches)| NotedLane { lane: LaneId::named(lane), batches, read_to: None };
        Ok(Holdings { lanes: lanes.into_iter().map(lane).collect(), order: 0 })
    }

    /// Two landings are in one store where their own names are the same, whatever their event is called.
    fn recorded(&self) -> Outcome<Vec<String>> {
        let own = self.label.rsplit('.').next().unwrap_or_default().to_string();
        let world = lock(&self.world);
        let there = world.stores.iter().filter(|(name, s)| name.ends_with(&format!(".{own}")) && !s.noted.is_empty());
        Ok(there.map(|(name, _)| name.clone()).collect())
    }

    fn lanes(&self) -> Outcome<Vec<LaneId>> {
        Ok(self.with(|s| s.noted.iter().map(|(lane, _)| LaneId::named(lane.as_str())).collect()))
    }

    fn stage(&self, batch: &BatchIdentity, _: &BatchOrder) -> Outcome<Box<dyn Stage>> {
        self.with(|s| s.staged.insert(key(batch), Vec::new()));
        let own = MemoryLanding { world: Arc::clone(&self.world), label: self.label.clone() };
        Ok(Box::new(MemoryStage { landing: own, key: key(batch), rows: Vec::new() }))
    }

    fn discard(&self, ledger: &str, lane: &LaneId, keep: &[u64]) -> Outcome<()> {
        let stays = |k: &Key| k.0 != ledger || k.1 != lane.as_str() || keep.contains(&k.2);
        self.with(|s| s.staged.retain(|k, _| stays(k)));
        Ok(())
    }

    fn publish(&self, batch: &BatchIdentity, ranges: &Ranges, work: &StagedWork) -> Outcome<Published> {
        if lock(&self.world).broken.as_ref().is_some_and(|broken| self.label.ends_with(broken.as_str())) {
            return Err(Failure::unreachable(format!("{} takes nothing now", self.label)));
        }
        let detail: Detail = serde_json::from_value(work.detail.clone()).unwrap();
        self.with(|s| {
            let is_own = |(lane, noted): &(String, NotedBatch)| {
                lane == batch.lane.as_str() && noted.ledger == batch.ledger && noted.number >= batch.number
            };
            if s.noted.iter().any(is_own) {
                return Ok(Published::default());
            }
            let Some(rows) = s.staged.remove(&key(batch)) else {
                return Err(Failure::findings(format!("{batch}: its staged rows are gone")));
            };
            for old in &detail.replaces {
                s.rows.remove(old);
                s.kept.retain(|(of, _), _| of != old);
            }
            s.rows.insert(key(batch), rows);
            let noted = NotedBatch { ledger: batch.ledger.clone(), number: batch.number, ranges: ranges.clone() };
            s.noted.push((batch.lane.to_string(), noted));
            Ok(Published::default())
        })
    }

    fn keep_refused(&self, batch: &BatchIdentity, from: &str, lines: &str) -> Outcome<()> {
        let lines = lines.lines().map(str::to_string).collect();
        self.with(|s| s.kept.insert((key(batch), from.into()), lines));
        Ok(())
    }

    fn take_place(&self, earlier: &[StagedWork], mut work: StagedWork, whole: bool) -> Outcome<StagedWork> {
        let mut detail: Detail = serde_json::from_value(work.detail.clone()).unwrap();
        for old in earlier.iter().filter(|old| whole && !old.detail.is_null()) {
            let old: Detail = serde_json::from_value(old.detail.clone()).unwrap();
            detail.replaces.extend(old.own);
        }
        work.detail = serde_json::to_value(detail).unwrap();
        Ok(work)
    }

    fn staged_events(&self, _: &BatchIdentity, _: &StagedWork) -> Outcome<Option<Vec<RefusedRow>>> {
        Ok(None)
    }
}

struct MemoryStage {
    landing: MemoryLanding,
    key: Key,
    rows: Vec<String>,
}

/// The texts of the first column.
fn texts(rows: &RecordBatch) -> Vec<String> {
    let column = rows.column(0).as_string::<i32>();
    (0..rows.num_rows()).filter(|row| column.is_valid(*row)).map(|row| column.value(row).to_string()).collect()
}

impl Stage for MemoryStage {
    fn write(&mut self, rows: LandingRows) -> Outcome<()> {
        self.rows.extend(texts(&rows.batch));
        Ok(())
    }

    fn finish(self: Box<Self>) -> Outcome<StagedWork> {
        let Self { landing, key, rows: staged } = *self;
        let rows = staged.len() as u64;
        landing.with(|s| s.staged.insert(key.clone(), staged));
        let detail = Detail { own: Some(key), replaces: Vec::new() };
        Ok(StagedWork { rows, merged: 0, bytes: 0, detail: serde_json::to_value(detail).unwrap() })
    }
}
