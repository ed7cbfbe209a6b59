//! Kinds of connections, intakes and landings, and the registry in which they are found by name.
//!
//! Core knows no kind. `sluice-connect` registers each, and everything here speaks through these traits.

use std::path::PathBuf;
use std::sync::Arc;

use arrow_array::RecordBatch;
use serde::{Deserialize, Serialize};

use crate::batch::{BatchIdentity, LaneId, Ranges};
use crate::config::{ConnectionConfig, OptionSpec, Options};
use crate::contract::Contract;
use crate::event::{Chunk, LandingRows, Position};
use crate::failure::{Failure, Outcome};
use crate::plan::OutputColumn;
use crate::problem::{Place, Problem};
use crate::secret::SecretStore;
use crate::table::TableReport;

/// A scheme of connection URLs.
pub struct ConnectionKind {
    /// What stands before the colon of the URL.
    pub scheme: &'static str,
    /// One line on what it is.
    pub about: &'static str,
    /// Keys beyond `url`.
    pub options: &'static [OptionSpec],
}

/// What an intake or a landing is opened with.
#[derive(Clone)]
pub struct Settings {
    /// The project's folder; relative places start here.
    pub root: PathBuf,
    /// The project's folder for what is only Sluice's: spools, staging.
    pub work: PathBuf,
    /// The connection.
    pub connection: ConnectionConfig,
    /// The checked keys of the arrival or landing.
    pub options: Options,
    /// Where secrets are read.
    pub secrets: Arc<dyn SecretStore>,
    /// The name of the arrival or landing with its pipeline; empty where something is only looked at.
    pub label: String,
    /// Of an arrival from a change feed, the event's contract.
    pub contract: Option<Arc<Contract>>,
    /// And what is computed from several of its columns.
    pub computed: Vec<Computed>,
}

/// An expression that needs several columns of an event.
#[derive(Clone, Debug)]
pub struct Computed {
    /// One of the columns, as the source names it.
    pub column: String,
    /// The expression.
    pub text: String,
    /// Where it stands.
    pub place: Place,
}

/// A kind of intake.
pub trait IntakeKind: Send + Sync {
    /// Its name in messages and the manual.
    fn name(&self) -> &'static str;
    /// The scheme of its connections.
    fn scheme(&self) -> &'static str;
    /// One line on what it is.
    fn about(&self) -> &'static str;
    /// Keys of an arrival beyond the common ones.
    fn options(&self) -> &'static [OptionSpec];
    /// The formats that its events can have.
    fn formats(&self) -> &'static [&'static str];
    /// Whether each record is a message of a broker, with the columns of [`crate::context`].
    fn has_messages(&self) -> bool {
        false
    }
    /// Looks at the outside and says what is missing there. Changes nothing.
    fn check(&self, settings: &Settings) -> Vec<Problem>;
    /// Opens the intake for reading.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn open(&self, settings: &Settings) -> Outcome<Box<dyn Intake>>;
    /// Whether it is a change feed: records are changes, with the columns of [`crate::context::CHANGE_COLUMNS`], and
    /// events of one connection arrive by one reading.
    fn is_feed(&self) -> bool {
        false
    }
    /// Opens a change feed for several tables, in the order of their numbers.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn open_all(&self, settings: &[Settings]) -> Outcome<Box<dyn Intake>> {
        match settings {
            [one] => self.open(one),
            _ => Err(crate::failure::Failure::internal("this kind reads one event at a time")),
        }
    }
}

/// Where one partition of an intake has been read to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartitionPosition {
    /// The partition.
    pub partition: Arc<str>,
    /// The position of the next event to read.
    pub position: Position,
    /// What the partition looked like then, so that another one under the same name is noticed.
    pub identity: String,
}

/// What is left to read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Behind {
    /// Partitions that exist.
    pub partitions: u64,
    /// Partitions with something unread.
    pub unread_partitions: u64,
    /// Unread bytes, where they are known.
    pub bytes: u64,
    /// Unread events, where they are known.
    pub events: u64,
}

/// One partition as its source has it, beside a position.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PartitionState {
    /// The partition.
    pub partition: Arc<str>,
    /// The first position that can still be read.
    pub earliest: Position,
    /// The position after the last event.
    pub latest: Position,
    /// Unread events, at most, where positions count events.
    pub events: Option<u64>,
    /// Unread bytes, where positions count bytes.
    pub bytes: Option<u64>,
    /// The source's time of the oldest unread event, in microseconds since 1970.
    pub oldest_unread: Option<i64>,
    /// How long the source keeps an event, in microseconds; None where for ever or not known.
    pub retention: Option<i64>,
    /// Events that came within the last hour, where the source can tell.
    pub arrived_last_hour: Option<u64>,
    /// Of a change feed: how far its tables have been loaded.
    pub loads: Vec<TableLoad>,
    /// Of a change feed: what the source keeps of its log for us.
    pub kept: Option<Kept>,
}

/// How far a table has been loaded.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct TableLoad {
    /// Its name.
    pub table: String,
    /// Rows that were read.
    pub rows: u64,
    /// About how many there are.
    pub about: u64,
    /// Whether all have been read.
    pub done: bool,
    /// Rows a second, while it runs.
    pub rate: Option<f64>,
}

/// What a source keeps of its log for us.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Kept {
    /// Bytes.
    pub bytes: u64,
    /// More than this is worth a warning.
    pub warning: u64,
}

/// A place in every partition, in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Mark {
    /// The first event that can still be read.
    Earliest,
    /// After the last event.
    Latest,
    /// The first event of this moment or later, in microseconds since 1970.
    Time(i64),
}

/// A part of an intake to look at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// From a mark to the present end.
    From(Mark),
    /// About the last so many events.
    Last(u64),
    /// What arrives from now on, without an end.
    Live,
}

/// An opened intake.
pub trait Intake: Send + Sync {
    /// Opens one lane. Reading starts at the given positions; partitions without one start at their beginning.
    /// The same partition always belongs to the same lane of `lanes`.
    ///
    /// # Errors
    /// Where a partition is not the one that its position was taken from, or cannot be reached.
    fn lane(&self, lane: u32, lanes: u32, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>>;

    /// Opens a reader for looking: about `events` events from all over the intake, or all for `u64::MAX`, each
    /// partition from its beginning. It moves no position and joins nothing.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>>;

    /// Opens a reader for looking at another part than the beginning. None where the kind has only a beginning.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn sample_part(&self, part: &Part) -> Outcome<Option<Box<dyn LaneReader>>> {
        let _ = part;
        Ok(None)
    }

    /// Where partitions without a position start, as the arrival's keys say. It is noted before anything is read, so
    /// that a second start begins at the same place. Empty where that is always the beginning.
    ///
    /// # Errors
    /// Where the outside cannot be reached, or positions are required and missing.
    fn starts(&self, known: &[PartitionPosition]) -> Outcome<Vec<PartitionPosition>> {
        let _ = known;
        Ok(Vec::new())
    }

    /// Tells the source what has settled, where it wants to know. It is told last; an error changes nothing.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn settled(&self, ranges: &Ranges) -> Outcome<()> {
        let _ = ranges;
        Ok(())
    }

    /// Every partition beside the given positions.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn states(&self, positions: &[PartitionPosition]) -> Outcome<Vec<PartitionState>>;

    /// The position of a mark in every partition. None where the source has no index by time.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn find(&self, mark: &Mark) -> Outcome<Option<Vec<PartitionPosition>>>;

    /// Opens a reader of these ranges alone, each in its order. It moves no position and joins nothing. It has caught
    /// up when all of them are read.
    ///
    /// # Errors
    /// Where the outside cannot be reached, or a range cannot be read any more.
    fn ranges(&self, ranges: &Ranges) -> Outcome<Box<dyn LaneReader>>;

    /// What is left to read beyond the given positions, without reading it.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn behind(&self, positions: &[PartitionPosition]) -> Outcome<Behind>;
}

/// How much one call of [`LaneReader::read`] may return.
#[derive(Clone, Copy, Debug)]
pub struct ReadLimit {
    /// At most this many records, at least 1.
    pub records: u64,
    /// At most about this many bytes; a single record may be larger.
    pub bytes: u64,
    /// Whether to hand on what there is as soon as a transaction of the source ends.
    pub ends: bool,
}

/// What reading brought.
#[derive(Debug)]
pub enum Read {
    /// Whole records of one partition, directly after those read before.
    Chunk(Chunk),
    /// Every partition has been read to its present end.
    CaughtUp,
    /// Nothing at present, although more may be there.
    Pending,
    /// What was read so far is to settle, and then the run stops for this reason.
    Halt(Failure),
    /// The source does not answer; reading goes on by itself when it does. What it said, in words.
    Away(String),
}

/// Reads one lane, in order within each partition.
///
/// `read` returns soon: it does not wait for events to arrive. After an error the reader must be dropped. Dropping it
/// at any time loses nothing, since what was read counts only once its batch is sealed.
pub trait LaneReader: Send {
    /// Reads on.
    ///
    /// # Errors
    /// Where the outside cannot be reached, or a partition was cut or replaced under the reader.
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read>;

    /// What stays unread although the lane has caught up, in words: a record without an end, say.
    fn remarks(&self) -> Vec<String> {
        Vec::new()
    }
}

/// The last batch that a landing holds of a lane, by its own record.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldBatch {
    /// The ledger that the batch belongs to.
    pub ledger: String,
    /// The batch's number in its lane.
    pub number: u64,
    /// What was read for it.
    pub ranges: Ranges,
}

/// Work that is sealed: all that publishing needs, in a form that the ledger stores.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct StagedWork {
    /// Rows that will land.
    pub rows: u64,
    /// Rows that were merged into others of the batch with the same key.
    #[serde(default)]
    pub merged: u64,
    /// Bytes that will land, where known.
    pub bytes: u64,
    /// What only the landing's kind reads.
    pub detail: serde_json::Value,
}

/// What publishing has done.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Published {
    /// Rows that the store refused one by one, in their order. The others have landed.
    pub refused: Vec<RefusedRow>,
}

/// A row that the store refused.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RefusedRow {
    /// The partition that its event was read from.
    pub partition: Arc<str>,
    /// Its event's position there.
    pub position: Position,
    /// The column at fault, where the store tells.
    pub column: Option<String>,
    /// What the store said.
    pub message: String,
    /// Its event's bytes.
    pub bytes: Vec<u8>,
}

/// A batch as a store counts it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct StoredBatch {
    /// The landing's name with its pipeline.
    pub landing: String,
    /// The lane.
    pub lane: String,
    /// The number.
    pub number: u64,
    /// The rows that it landed, by the store's own record.
    pub rows: u64,
    /// The rows that the store refused.
    pub refused: u64,
    /// The rows that are there now, where rows tell their batch.
    pub there: Option<u64>,
    /// When it landed, in microseconds since 1970.
    pub landed_at: i64,
    /// The number that its rows carry.
    pub id: i64,
}

/// What is known of stored rows without reading them all.
#[derive(Clone, Debug, Default)]
pub struct StoredSummary {
    /// What it is, in words: the format of files, say.
    pub what: String,
    /// The columns of the rows.
    pub columns: Vec<OutputColumn>,
    /// Files, or other parts.
    pub parts: u64,
    /// Bytes as stored.
    pub bytes: u64,
    /// Rows, where that is known without reading.
    pub rows: Option<u64>,
    /// What is strange about it, in words.
    pub remarks: Vec<String>,
    /// The last batches that landed there, the newest first, where the store keeps a record.
    pub batches: Vec<StoredBatch>,
}

/// Rows that are stored somewhere, read from the first to the last.
pub trait Stored: Send {
    /// What is known of them.
    fn summary(&self) -> &StoredSummary;

    /// The next rows, under the columns of the summary; None after the last.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn next(&mut self) -> Outcome<Option<RecordBatch>>;

    /// Records so far that could not be read as rows.
    fn broken(&self) -> u64 {
        0
    }
}

/// What a landing does with changes of rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Takes {
    /// Each change is a row.
    Rows,
    /// Each change is a row, whose kind it notes itself.
    Changes,
    /// It is kept equal to the source's table.
    Mirror,
    /// It knows no deletes.
    NoDeletes,
}

/// A kind of landing.
pub trait LandingKind: Send + Sync {
    /// Its name in messages and the manual.
    fn name(&self) -> &'static str;
    /// The scheme of its connections.
    fn scheme(&self) -> &'static str;
    /// One line on what it is.
    fn about(&self) -> &'static str;
    /// What it guarantees, in one line.
    fn guarantee(&self) -> &'static str;
    /// Keys of a landing beyond the common ones.
    fn options(&self) -> &'static [OptionSpec];
    /// Which of its keys are select lists that are computed beside the columns. Their values reach the landing as
    /// columns named `@KEY`, or `@KEY.NAME` for a key that may list more than one, after the others. Beside each key
    /// stands whether it may.
    fn expressions(&self) -> &'static [(&'static str, bool)] {
        &[]
    }
    /// Whether a landed batch can be replaced by a later reading of the same events; if not, why and what to do.
    ///
    /// # Errors
    /// The reason with its remedy, in words.
    fn can_replace(&self, options: &Options) -> Result<(), String> {
        let _ = options;
        Err(format!("{} cannot be replaced", self.about()))
    }
    /// Whether the landing wants to know where each row came from.
    fn wants_origin(&self) -> bool {
        false
    }
    /// What this landing guarantees under its keys, in one line.
    fn guarantee_of(&self, options: &Options) -> &'static str {
        let _ = options;
        self.guarantee()
    }
    /// What it does with changes of rows.
    fn takes(&self, options: &Options) -> Takes {
        let _ = options;
        Takes::Rows
    }
    /// Checks the keys of a landing against each other and the columns that will land, without looking outside.
    fn check_keys(&self, options: &Options, columns: &[OutputColumn]) -> Vec<Problem> {
        let _ = (options, columns);
        Vec::new()
    }
    /// Compares what will land with the table that is there. None where the kind knows no tables.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn table(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<TableReport>> {
        let _ = (settings, columns);
        Ok(None)
    }
    /// Runs statements that a [`TableReport`] lists. Several run as one change where the store can.
    ///
    /// # Errors
    /// Where the outside cannot be reached, or refuses a statement.
    fn apply(&self, settings: &Settings, statements: &[String]) -> Outcome<()> {
        let _ = (settings, statements);
        Err(crate::failure::Failure::internal("this kind knows no tables"))
    }
    /// The place that nothing else may write to, for finding overlaps. None where sharing does no harm.
    fn exclusive_place(&self, connection: &ConnectionConfig, options: &Options) -> Option<String>;
    /// Looks at the outside and says what is missing there. Changes nothing.
    fn check(&self, settings: &Settings, columns: &[OutputColumn]) -> Vec<Problem>;
    /// Opens what the landing holds, for looking. None where there is nothing to look at.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn look(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Box<dyn Stored>>> {
        let _ = (settings, columns);
        Ok(None)
    }
    /// Opens the landing for rows of these columns. `label` is its name with pipeline and event, unique in the project.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn open(&self, settings: &Settings, label: &str, columns: &[OutputColumn]) -> Outcome<Box<dyn Landing>>;
}

/// An opened landing. One value serves all lanes.
///
/// The order of calls for a batch: `stage`, `write` …, `finish`; then the ledger seals; then `publish`. A batch that
/// was never sealed is forgotten by `discard`. Calls for one lane never overlap, but staging of the next batch may
/// overlap with publishing of the one before.
pub trait Landing: Send + Sync {
    /// The last batch that the store holds of a lane.
    ///
    /// # Errors
    /// Where the store cannot be reached or its record cannot be read.
    fn held(&self, lane: &LaneId) -> Outcome<Option<HeldBatch>>;

    /// Starts to stage a batch. Nothing that is staged is visible to readers of the store.
    ///
    /// # Errors
    /// Where the store cannot be reached.
    fn stage(&self, batch: &BatchIdentity) -> Outcome<Box<dyn Stage>>;

    /// Forgets everything staged for a lane, apart from the given sealed numbers.
    ///
    /// # Errors
    /// Where the store cannot be reached.
    fn discard(&self, lane: &LaneId, keep: &[u64]) -> Outcome<()>;

    /// Makes sealed work visible. May be called again after a crash at any point: it ends in the same state and
    /// lands nothing twice, and tells the same of refused rows. On return the rows are durable.
    ///
    /// # Errors
    /// Where the store cannot be reached, or staged work is gone.
    fn publish(&self, batch: &BatchIdentity, ranges: &Ranges, work: &StagedWork) -> Outcome<Published>;

    /// Keeps lines about rows that another landing, named by `from`, refused in this batch. Keeping them again ends in
    /// the same state. Only the landing of rejects can.
    ///
    /// # Errors
    /// Where they cannot be kept.
    fn keep_refused(&self, batch: &BatchIdentity, from: &str, lines: &str) -> Outcome<()> {
        let _ = (batch, from, lines);
        Err(crate::failure::Failure::internal("this landing keeps no rejects"))
    }

    /// Work of a batch that has landed, with all that [`Self::keep_refused`] has kept of the batch besides, so that taking
    /// its place takes that away as well.
    ///
    /// # Errors
    /// Where it cannot be looked up.
    fn with_refused(&self, batch: &BatchIdentity, work: StagedWork) -> Outcome<StagedWork> {
        let _ = batch;
        Ok(work)
    }

    /// What opening it has made or changed in the store, in words, once.
    fn notices(&self) -> Vec<String> {
        Vec::new()
    }

    /// Makes staged work take the place of what an older batch has landed, before it is sealed: publishing it then
    /// also takes away what the older batch had and this one has not. Readers see each part of the store either as it
    /// was or as it is then.
    ///
    /// # Errors
    /// Where the landing cannot replace.
    fn take_place(&self, old: &StagedWork, work: StagedWork) -> Outcome<StagedWork> {
        let _ = (old, work);
        Err(crate::failure::Failure::internal("this landing cannot replace what has landed"))
    }
}

/// One batch while it is being staged for one landing. Dropping it leaves what [`Landing::discard`] removes.
pub trait Stage: Send {
    /// Adds rows, in order.
    ///
    /// # Errors
    /// Where the store cannot be reached.
    fn write(&mut self, rows: LandingRows) -> Outcome<()>;

    /// Ends staging. On return all that was staged is durable.
    ///
    /// # Errors
    /// Where the store cannot be reached.
    fn finish(self: Box<Self>) -> Outcome<StagedWork>;
}

/// The kinds there are.
#[derive(Default, Clone)]
pub struct Registry {
    connections: Vec<Arc<ConnectionKind>>,
    intakes: Vec<Arc<dyn IntakeKind>>,
    landings: Vec<Arc<dyn LandingKind>>,
    rejects: Option<OpenRejects>,
}

/// Opens the landing of a pipeline's rejects, given the project's folder and the pipeline's name.
pub type OpenRejects = fn(&std::path::Path, &str) -> Outcome<Box<dyn Landing>>;

impl Registry {
    /// Sets where rejects are kept.
    pub fn keep_rejects(&mut self, open: OpenRejects) {
        self.rejects = Some(open);
    }

    /// Opens the landing of a pipeline's rejects.
    ///
    /// # Errors
    /// Where their folder cannot be reached.
    pub fn open_rejects(&self, root: &std::path::Path, pipeline: &str) -> Outcome<Box<dyn Landing>> {
        let open =
            self.rejects.ok_or_else(|| crate::failure::Failure::internal("no place for rejects is registered"))?;
        open(root, pipeline)
    }

    /// Adds a scheme of connections.
    pub fn add_connection(&mut self, kind: ConnectionKind) {
        self.connections.push(Arc::new(kind));
    }

    /// Adds a kind of intake.
    pub fn add_intake(&mut self, kind: impl IntakeKind + 'static) {
        self.intakes.push(Arc::new(kind));
    }

    /// Adds a kind of landing.
    pub fn add_landing(&mut self, kind: impl LandingKind + 'static) {
        self.landings.push(Arc::new(kind));
    }

    /// The scheme of that name.
    pub fn connection(&self, scheme: &str) -> Option<&ConnectionKind> {
        self.connections.iter().find(|c| c.scheme == scheme).map(Arc::as_ref)
    }

    /// The intake that reads connections of a scheme.
    pub fn intake(&self, scheme: &str) -> Option<Arc<dyn IntakeKind>> {
        self.intakes.iter().find(|k| k.scheme() == scheme).cloned()
    }

    /// The landing that writes connections of a scheme.
    pub fn landing(&self, scheme: &str) -> Option<Arc<dyn LandingKind>> {
        self.landings.iter().find(|k| k.scheme() == scheme).cloned()
    }

    /// All schemes.
    pub fn connections(&self) -> impl Iterator<Item = &ConnectionKind> {
        self.connections.iter().map(Arc::as_ref)
    }

    /// All kinds of intakes.
    pub fn intakes(&self) -> impl Iterator<Item = &dyn IntakeKind> {
        self.intakes.iter().map(Arc::as_ref)
    }

    /// All kinds of landings.
    pub fn landings(&self) -> impl Iterator<Item = &dyn LandingKind> {
        self.landings.iter().map(Arc::as_ref)
    }
}
