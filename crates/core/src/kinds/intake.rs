//! Intakes: where events are read.

use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::Settings;
use crate::batch::Ranges;
use crate::config::{ConnectionConfig, OptionSpec, Options};
use crate::event::{Chunk, Position};
use crate::failure::{Failure, Outcome};
use crate::problem::Problem;

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
    /// The key of an arrival that tells this kind from others of its scheme; None for the one that needs no such key.
    fn told_by(&self) -> Option<&'static str> {
        None
    }
    /// Whether an arrival is a list: it is read whole, again and again, and rows that it does not have any more are gone.
    fn is_list(&self, options: &Options) -> bool {
        let _ = options;
        false
    }
    /// Looks at the outside and says what is missing there. Changes nothing.
    fn check(&self, settings: &Settings) -> Vec<Problem>;
    /// What it reads, for recognising it under another name: the place, and which part of it.
    fn place(&self, connection: &ConnectionConfig, options: &Options) -> (String, String) {
        let _ = options;
        (place_of(self.scheme(), &connection.target), String::new())
    }
    /// Whether what is noted beside a position tells another source apart, so that an arrival may have another address.
    fn knows_its_source(&self) -> bool {
        self.is_feed() || self.has_messages()
    }
    /// What guards a part of a range, taken from what guards the whole of it; empty where only the whole can be guarded.
    fn identity_within(&self, identity: &str) -> String {
        let _ = identity;
        String::new()
    }
    /// Opens the intake for a run.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn open(&self, settings: &[Settings]) -> Outcome<Box<dyn Intake>>;
    /// Opens the intake for looking. Of a change feed there may be several settings, one for each table in the order of their
    /// numbers; of others there is one. The same holds for [`Self::open`].
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn view(&self, settings: &[Settings]) -> Outcome<Box<dyn IntakeView>>;
    /// Whether it is a change feed: records are changes, with the columns of [`crate::context::CHANGE_COLUMNS`], and
    /// events of one connection arrive by one reading.
    fn is_feed(&self) -> bool {
        false
    }
    /// The tables that a change feed can read, those of Sluice itself left out. Settings have no keys of an arrival.
    ///
    /// # Errors
    /// Where the outside cannot be reached, or has no tables.
    fn tables(&self, settings: &Settings) -> Outcome<Vec<TableName>> {
        let _ = settings;
        Err(Failure::internal("this kind has no tables"))
    }
    /// The columns of tables, in the order of the names; a table that is gone is left out.
    ///
    /// # Errors
    /// Where the outside cannot be reached, or has no tables.
    fn shapes(&self, settings: &Settings, names: &[TableName]) -> Outcome<Vec<TableShape>> {
        let _ = (settings, names);
        Err(Failure::internal("this kind has no tables"))
    }
}

/// The settings of a kind that reads one event at a time.
///
/// # Errors
/// Where there are several.
pub fn only(settings: &[Settings]) -> Outcome<&Settings> {
    match settings {
        [one] => Ok(one),
        _ => Err(Failure::internal("this kind reads one event at a time")),
    }
}

/// A place as the ledger keeps it: two spellings of one folder are one place.
pub fn place_of(scheme: &str, target: &str) -> String {
    let parts: Vec<&str> = target.split('/').filter(|part| !part.is_empty() && *part != ".").collect();
    let start = if target.starts_with('/') { "/" } else { "" };
    format!("{scheme}:{start}{}", parts.join("/"))
}

/// The name of a table at a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableName {
    /// The schema, or database.
    pub schema: String,
    /// The table.
    pub name: String,
    /// The schema that a name without one stands in.
    pub own: String,
}

/// A table at a source, in the words of a contract.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableShape {
    /// The schema, or database.
    pub schema: String,
    /// The table.
    pub name: String,
    /// The columns that its changes can tell.
    pub columns: Vec<ColumnShape>,
    /// The columns of its primary key; empty without one.
    pub key: Vec<String>,
}

/// A column at a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ColumnShape {
    /// Its name.
    pub name: String,
    /// The type of contracts that takes its values.
    pub ty: String,
    /// How they are spelled, where the type does not say it.
    pub format: Option<&'static str>,
}

impl ColumnShape {
    /// The definition in a contract. Only the key is `not null`: rows of the time before a column came do not have it.
    pub fn definition(&self, key: &[String]) -> String {
        let mut out = format!("\"{}\" {}", self.name.replace('"', "\"\""), self.ty);
        if let Some(format) = self.format {
            out.push_str(&format!(" format '{format}'"));
        }
        if key.contains(&self.name) {
            out.push_str(" not null");
        }
        out
    }
}

/// Where one partition of an intake has been read to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
    /// Partitions whose position the source does not have any more, or not yet: the next run stops at them.
    pub misplaced: u64,
    /// Messages that wait behind open transactions, at most.
    pub waiting: u64,
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
    /// Whether positions count the bytes between the first and the latest.
    pub counts_bytes: bool,
    /// The source's time of the oldest unread event, in microseconds since 1970.
    pub oldest_unread: Option<i64>,
    /// How long the source keeps an event, in microseconds; None where for ever or not known.
    pub retention: Option<i64>,
    /// Events that came within the last hour, where the source can tell.
    pub arrived_last_hour: Option<u64>,
    /// Of a change feed: how far its tables have been loaded.
    pub loads: Vec<TableLoad>,
    /// Of a change feed: what the source keeps of its log for us.
    pub retained: Option<RetainedLog>,
    /// Of a topic: what stands behind the latest position and cannot be read yet.
    pub waiting: Option<WaitingMessages>,
}

/// Messages behind an open transaction: readers of committed messages do not see them before it ends.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct WaitingMessages {
    /// How many, at most.
    pub events: u64,
    /// The first one's position.
    pub from: Position,
    /// The first one's time, in microseconds since 1970.
    pub since: Option<i64>,
    /// Who has open transactions there, the oldest first; empty where the source does not say.
    pub writers: Vec<TransactionWriter>,
}

impl WaitingMessages {
    /// Whose transaction they wait behind, in words.
    pub fn whose(&self) -> String {
        let shown =
            self.writers.iter().take(SHOWN_WRITERS).map(TransactionWriter::shown).collect::<Vec<_>>().join(", ");
        match self.writers.len() {
            0 => "an open transaction of another writer".into(),
            1 => format!("an open transaction of {shown}"),
            n if n <= SHOWN_WRITERS => format!("open transactions of {shown}"),
            n => format!("open transactions of {shown} and {} more", n - SHOWN_WRITERS),
        }
    }
}

/// How many writers a message names.
const SHOWN_WRITERS: usize = 3;

/// A writer with an open transaction.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TransactionWriter {
    /// The number that the broker gave it.
    pub producer_id: i64,
    /// The name that it writes under; None where the broker does not say.
    pub transactional_id: Option<String>,
}

impl TransactionWriter {
    /// Its name, else its number, as it may be shown.
    pub fn shown(&self) -> String {
        match &self.transactional_id {
            Some(name) => format!("`{}`", crate::names::shown(name)),
            None => format!("producer {}", self.producer_id),
        }
    }
}

/// A position that its source does not have.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Misplaced {
    /// It stands so far beyond the end: the source has lost data, was recreated, or is another one.
    Beyond(u64),
    /// It stands so far before the first event that is there: so much has gone unread.
    Expired(u64),
}

impl Misplaced {
    /// Compares a position with the first one and the end of its partition.
    pub fn of(position: u64, earliest: u64, latest: u64) -> Option<Self> {
        match position {
            p if p > latest => Some(Self::Beyond(p - latest)),
            p if p < earliest => Some(Self::Expired(earliest - p)),
            _ => None,
        }
    }
}

impl PartitionState {
    /// Whether the source does not have a position of this partition. Only positions that count what the source counts
    /// can be compared.
    pub fn misplaced(&self, position: &PartitionPosition) -> Option<Misplaced> {
        let comparable = self.events.is_some() || (self.bytes.is_some() && self.counts_bytes);
        Misplaced::of(position.position.major, self.earliest.major, self.latest.major).filter(|_| comparable)
    }
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
pub struct RetainedLog {
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

/// An intake that is open for a run.
pub trait Intake: Send + Sync {
    /// Opens one lane. Reading starts at the given positions; partitions without one start at their beginning.
    /// The same partition always belongs to the same lane of `lanes`.
    ///
    /// # Errors
    /// Where a partition is not the one that its position was taken from, or cannot be reached.
    fn lane(&self, lane: u32, lanes: u32, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>>;

    /// Where partitions without a position start, as the arrival's keys say. It is noted before anything is read, so
    /// that a second start begins at the same place. Empty where that is always the beginning. Of an arrival that has begun
    /// before, a partition that came by itself is new, and starts at its beginning.
    ///
    /// # Errors
    /// Where the outside cannot be reached, or positions are required and missing.
    fn starts(&self, known: &[PartitionPosition], has_begun: bool) -> Outcome<Vec<PartitionPosition>> {
        let _ = (known, has_begun);
        Ok(Vec::new())
    }

    /// Reports settled positions to a source that wants them. This comes last; an error changes nothing.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn settled(&self, ranges: &Ranges) -> Outcome<()> {
        let _ = ranges;
        Ok(())
    }
}

/// What can be seen of an intake without reading it for a run: it moves no position, joins nothing, and occupies nothing
/// that a run needs.
pub trait IntakeView: Send + Sync {
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

    /// A position that somebody named, with what its partition looks like there.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn guard(&self, position: PartitionPosition) -> Outcome<PartitionPosition> {
        Ok(position)
    }

    /// All rows of the one table that this intake was opened for, as they are at one place of its log. The last chunk has no
    /// records and ends at that place. None where there are no tables.
    ///
    /// # Errors
    /// Where the source does not answer.
    fn rows(&self) -> Outcome<Option<Box<dyn LaneReader>>> {
        Ok(None)
    }

    /// Whether all that stands before a place of the log has landed, by the ledger's position and by what a run reports.
    fn has_landed(&self, _known: &PartitionPosition, _place: Position) -> bool {
        false
    }

    /// The position from which a run loads rows of the one table again that this intake was opened for, in the place of those
    /// that landed: those with the keys, or all of the table where there are none or where that cannot be done. Gives also
    /// the table, and whether it is all of it.
    ///
    /// # Errors
    /// Where there is no such table, or it is not loaded.
    fn load_again(
        &self,
        _known: &PartitionPosition,
        _keys: &[Vec<String>],
    ) -> Outcome<Option<(PartitionPosition, String, bool)>> {
        Ok(None)
    }

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
    /// Everything else has been read, but a part of the source cannot be: the first reason. It is tried again where
    /// waiting may help.
    Stuck(Failure),
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

    /// Makes sure that everything handed on so far came from the source that the positions are of, and not from another
    /// one that took its place in between. Asked before a batch is sealed; false where the source does not answer now.
    ///
    /// # Errors
    /// Where it did not: nothing of it may be sealed.
    fn confirm(&mut self) -> Outcome<bool> {
        Ok(true)
    }

    /// The batch has ended that holds everything handed on so far: all of it was confirmed, by every source of the lane.
    fn ended(&mut self) {}

    /// Partitions in which something is left to read after what was handed on last; ones that are read may be among them
    /// for a while.
    fn unread(&mut self) -> Arc<[Arc<str>]> {
        Arc::from([])
    }

    /// Waits until something new may be there, at most so long; false where it cannot tell, and the caller waits.
    fn wait(&mut self, _at_most: Duration) -> bool {
        false
    }

    /// What stays unread although the lane has caught up, in words: a record without an end, say.
    fn remarks(&self) -> Vec<String> {
        Vec::new()
    }
}
