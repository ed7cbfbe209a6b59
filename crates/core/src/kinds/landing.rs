//! Landings: where rows go, and what is staged, stored and refused there.

use std::sync::Arc;

use arrow_array::RecordBatch;
use serde::{Deserialize, Serialize};

use super::{Fit, PartitionPosition, Settings};
use crate::batch::{BatchIdentity, BatchName, LaneId, Ranges};
use crate::columns::OutputColumn;
use crate::config::{ConnectionConfig, OptionSpec, Options};
use crate::event::{LandingRows, Position};
use crate::failure::Outcome;
use crate::problem::Problem;
use crate::table::TableReport;

/// The last batch that a landing has of a lane, by its own record.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NotedBatch {
    /// The ledger that the batch belongs to.
    pub ledger: String,
    /// The batch's number in its lane.
    pub number: u64,
    /// What was read for it.
    pub ranges: Ranges,
}

/// All that a landing has of one lane, by its own record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotedLane {
    /// The lane.
    pub lane: LaneId,
    /// The batches that the record names, by number.
    pub batches: Vec<NotedBatch>,
    /// Set where the record does not name each batch but only the last: how far the partitions had been read then, or
    /// None where the record had no room for that.
    pub read_to: Option<Option<Vec<PartitionPosition>>>,
}

/// All that a landing has, by its own record.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Holdings {
    /// By lane. A record that cannot list its lanes is asked for those of the pipeline.
    pub lanes: Vec<NotedLane>,
    /// The last place in the order of opening that its rows carry; 0 where they carry none.
    pub order: u64,
}

/// Where a batch stands in the order in which batches were opened: of changes of one key in different partitions the
/// later one counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BatchOrder {
    /// Its own place in the order of its ledger.
    pub own: u64,
    /// Where it reads events again: the batch that read them first, and that one's place.
    pub first: Option<(BatchName, u64)>,
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
    /// Rows that landed although a later change of their key had been merged over them: the store refused that one.
    pub unmerged: u64,
}

/// A row that the store refused.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RefusedRow {
    /// The partition that its event was read from.
    pub partition: Arc<str>,
    /// Its event's position there.
    pub position: Position,
    /// The column at fault, where the store reports.
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
pub enum ChangeSupport {
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
    fn takes(&self, options: &Options) -> ChangeSupport {
        let _ = options;
        ChangeSupport::Rows
    }
    /// Whether it would not equal its source without a row that cannot land, so that a run stops before the batch with such a row.
    fn stops_at_refused(&self, options: &Options) -> bool {
        let _ = options;
        false
    }
    /// What it writes, for recognising it under another name.
    fn place(&self, connection: &ConnectionConfig, options: &Options) -> String {
        let exclusive = self.exclusive_place(connection, options);
        exclusive.unwrap_or_else(|| {
            let declared = |key: &&str| self.options().iter().any(|option| option.key == *key);
            let part = ["topic", "table"].into_iter().find(declared).and_then(|key| options.text(key));
            format!("{}:{}:{}", self.scheme(), connection.target, part.unwrap_or_default())
        })
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
    /// What the store says beforehand of the rows that it takes; None where it takes all of these columns. For looking: an
    /// opened landing knows it itself.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn fit(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Arc<dyn Fit>>> {
        let _ = (settings, columns);
        Ok(None)
    }
    /// Opens what the landing has, for looking. None where there is nothing to look at.
    ///
    /// # Errors
    /// Where the outside cannot be reached.
    fn look(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Box<dyn Stored>>> {
        let _ = (settings, columns);
        Ok(None)
    }

    /// The rows that are there, with the columns of `columns` that are there too, in the types in which they land. None
    /// where rows of this kind are not kept equal to a source.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn mirrored(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Box<dyn Stored>>> {
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
    /// The last batch that the store has of a lane.
    ///
    /// # Errors
    /// Where the store cannot be reached or its record cannot be read.
    fn noted(&self, lane: &LaneId) -> Outcome<Option<NotedBatch>>;

    /// All that the store has, for taking it over. `lanes` are those that the pipeline has. A batch that was begun to
    /// be published, and that a crash left visible in part, is completed first.
    ///
    /// # Errors
    /// Where the store cannot be reached or its record cannot be read.
    fn holdings(&self, lanes: &[LaneId]) -> Outcome<Holdings>;

    /// The names of all lanes that the store's record lists, those of replays among them; none where it cannot list them.
    ///
    /// # Errors
    /// Where the store cannot be reached or its record cannot be read.
    fn lanes(&self) -> Outcome<Vec<LaneId>> {
        Ok(Vec::new())
    }

    /// The landings, each with its pipeline before its name, that have landed where this one lands; none where that cannot
    /// be reported.
    ///
    /// # Errors
    /// Where the store cannot be reached or its records cannot be read.
    fn recorded(&self) -> Outcome<Vec<String>> {
        Ok(Vec::new())
    }

    /// Which rows the store will never take, as it says now, or as it said when work was staged; None where it takes all
    /// rows of its columns.
    fn fit(&self, staged: Option<&StagedWork>) -> Option<Arc<dyn Fit>> {
        let _ = staged;
        None
    }

    /// Starts to stage a batch. Nothing that is staged is visible to readers of the store.
    ///
    /// # Errors
    /// Where the store cannot be reached.
    fn stage(&self, batch: &BatchIdentity, order: &BatchOrder) -> Outcome<Box<dyn Stage>>;

    /// Forgets everything that a ledger staged for a lane, apart from the given sealed numbers. What another ledger has
    /// staged is never touched.
    ///
    /// # Errors
    /// Where the store cannot be reached.
    fn discard(&self, ledger: &str, lane: &LaneId, keep: &[u64]) -> Outcome<()>;

    /// Makes sealed work visible. May be called again after a crash at any point: it ends in the same state and
    /// lands nothing twice, and reports the same for refused rows. On return the rows are durable.
    ///
    /// # Errors
    /// Where the store cannot be reached, or staged work is gone.
    fn publish(&self, batch: &BatchIdentity, ranges: &Ranges, work: &StagedWork) -> Outcome<Published>;

    /// Of a place for rejects, the lines that a batch has landed there and that are still there.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn rejected(&self, work: &StagedWork) -> Outcome<Vec<String>> {
        let _ = work;
        Ok(Vec::new())
    }

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

    /// How landings of two projects that write into one place under the same names are distinguished, in words; None where
    /// their places are.
    fn apart(&self) -> Option<&'static str> {
        None
    }

    /// What opening it has made or changed in the store, in words, once.
    fn notices(&self) -> Vec<String> {
        Vec::new()
    }

    /// Makes staged work that reads events again fit what earlier readings of the same batch have landed, oldest first,
    /// before it is sealed. A `whole` reading takes their place: publishing it also takes away what they had and it has
    /// not. Readers see each part of the store either as it was or as it is then. Other work is added to theirs.
    ///
    /// # Errors
    /// Where the landing cannot replace.
    fn take_place(&self, earlier: &[StagedWork], work: StagedWork, whole: bool) -> Outcome<StagedWork> {
        match whole && !earlier.is_empty() {
            true => Err(crate::failure::Failure::internal("this landing cannot replace what has landed")),
            false => Ok(work),
        }
    }

    /// Removes what a batch has staged here, and what is visible of it or of the rows that it replaces: its events become
    /// rejects. Needed only where publishing is more than one step.
    ///
    /// # Errors
    /// Where the store refuses.
    fn withdraw(&self, batch: &BatchIdentity, work: &StagedWork) -> Outcome<()> {
        let _ = (batch, work);
        Ok(())
    }

    /// The events of the rows of staged work, where the landing has them, with no message: for making rejects of work
    /// that cannot be published. None where they must be read again.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn staged_events(&self, batch: &BatchIdentity, work: &StagedWork) -> Outcome<Option<Vec<RefusedRow>>> {
        let _ = (batch, work);
        Ok(None)
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
