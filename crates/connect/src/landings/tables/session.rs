//! What a kind of database must do. Everything else about tables is written once, above this.

use arrow_array::RecordBatch;
use sluice_core::failure::Failure;
use sluice_core::table::Found;
use sluice_core::types::SqlType;

use super::shape::{Mode, Shape, TableName};
use crate::databases::{StoreError, StoreResult};

/// One row of an answer, as text.
pub(crate) type AnswerRow = Vec<Option<String>>;

/// A row that cannot be sent to this store, found before it is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Objection {
    /// The row.
    pub row: usize,
    /// The column.
    pub column: String,
    /// Why.
    pub message: String,
}

/// What rows are loaded into.
#[derive(Clone, Debug)]
pub(crate) struct Target {
    pub table: TableName,
    pub mode: Mode,
    /// The columns that are written, in the order of the rows; a mirror's rows have one more, whether they are deletes.
    pub columns: Vec<(String, SqlType)>,
    pub key: Vec<String>,
    pub version: Option<String>,
    /// Columns after whether a row is a delete; see [`Shape::hidden`].
    pub hidden: Vec<(String, SqlType)>,
    /// Whether rows that lack values may not be there yet: those are left out.
    pub early: bool,
}

impl Target {
    pub(crate) fn new(table: &TableName, shape: &Shape) -> Self {
        Self {
            table: table.clone(),
            mode: shape.mode,
            columns: shape.columns(),
            key: shape.key.clone(),
            version: shape.version.clone(),
            hidden: shape.hidden(),
            early: false,
        }
    }

    /// Where a mirror notes deleted keys.
    pub(crate) fn gone(&self) -> TableName {
        self.table.beside(format!("sluice_gone_{}", self.table.name))
    }
}

/// The spelling of statements.
#[derive(Clone, Copy)]
pub(crate) struct Spelling {
    /// A name.
    pub quote: fn(&str) -> String,
    /// A text.
    pub literal: fn(&str) -> String,
    /// Bytes.
    pub bytes: fn(&[u8]) -> String,
    /// `insert into TABLE (…) values (…)` that does nothing where the key is taken.
    pub insert_new: fn(into: &str, values: &str) -> String,
    /// The column `landed_at` in microseconds since 1970.
    pub landed_micros: &'static str,
    /// An expression of text, compared by its bytes whatever the collation of its column.
    pub by_bytes: fn(&str) -> String,
}

impl Spelling {
    /// A table within a statement.
    pub(crate) fn table(&self, table: &TableName) -> String {
        table.quoted(&|name| (self.quote)(name))
    }
}

/// The table of lanes.
pub(crate) const LANES: &str = "sluice_lane";
/// The table of batches.
pub(crate) const BATCHES: &str = "sluice_batch";
/// The table of refused rows.
pub(crate) const REFUSED: &str = "sluice_refused";

/// The one number of an answer.
pub(crate) fn number(answer: &[AnswerRow]) -> Option<i64> {
    answer.first()?.first()?.as_ref()?.parse().ok()
}

/// One session with a database.
pub(crate) trait Session: Send {
    /// How statements are spelled.
    fn spelling(&self) -> Spelling;

    /// The statements that make the tables of batches, lanes and refused rows, beside a table, where they are missing.
    fn book(&self, beside: &TableName) -> Vec<String>;

    /// A number for a lane of a landing, the same ever after.
    fn lane(&mut self, beside: &TableName, landing: &str, lane: &str) -> StoreResult<i64> {
        let spelling = self.spelling();
        let table = spelling.table(&beside.beside(LANES));
        let (landing, lane) = ((spelling.literal)(landing), (spelling.literal)(lane));
        let question = format!("select id from {table} where landing = {landing} and lane = {lane}");
        if let Some(id) = number(&self.query(&question)?) {
            return Ok(id);
        }
        self.execute(&(spelling.insert_new)(&format!("{table} (landing, lane)"), &format!("({landing}, {lane})")))?;
        number(&self.query(&question)?)
            .ok_or_else(|| StoreError::Failed(Failure::internal("a lane was noted and is not there")))
    }

    /// An expression for a column of bytes as hexadecimal digits.
    fn hex(&self, column: &str) -> String {
        format!("hex({column})")
    }

    /// Runs one statement; gives how many rows it touched.
    fn execute(&mut self, sql: &str) -> StoreResult<u64>;

    /// Asks something small.
    fn query(&mut self, sql: &str) -> StoreResult<Vec<AnswerRow>>;

    /// Describes the table, and what of `rights` we lack.
    fn describe(&mut self, table: &TableName, rights: &[&str]) -> StoreResult<Found>;

    /// The names of the tables beside it, for a remedy.
    fn tables(&mut self, beside: &TableName) -> StoreResult<Vec<String>>;

    /// Rows that this store cannot take, found without asking it.
    fn objections(&self, target: &Target, rows: &RecordBatch) -> Vec<Objection> {
        let _ = (target, rows);
        Vec::new()
    }

    /// Prepares for loading; runs once in a session, outside of a transaction.
    fn prepare(&mut self, target: &Target) -> StoreResult<()> {
        let _ = target;
        Ok(())
    }

    /// Loads rows of a mirror whose keys are probably not there yet, straight into its table, all or none; false where
    /// that cannot be done, and nothing was.
    fn load_new(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<bool> {
        let _ = (target, rows);
        Ok(false)
    }

    /// Loads rows, all or none. Gives how many of them were older than what is there, and so changed nothing.
    fn load(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<u64>;

    /// Whether several statements are one change. If not, what lands is found again by its batch.
    fn has_transactions(&self) -> bool {
        true
    }

    /// Removes the rows of a batch, which the column `_batch` identifies, where there are no transactions.
    fn remove_batch(&mut self, target: &Target, batch: i64) -> StoreResult<()> {
        let _ = (target, batch);
        Ok(())
    }

    /// Hands on all rows of a query, some at a time, until `take` wants no more.
    fn stream(&mut self, sql: &str, take: &mut dyn FnMut(Vec<AnswerRow>) -> bool) -> StoreResult<()>;
}
