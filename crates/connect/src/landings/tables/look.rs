//! What a table holds, for looking at.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, sync_channel};

use arrow_array::{Array as _, RecordBatch};
use sluice_core::columns::OutputColumn;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Settings, Stored, StoredSummary};
use sluice_core::limit::Limit;
use sluice_core::table::{Found, StoredTable, TableColumn};
use sluice_core::types::SqlType;
use sluice_core::values::{list, time};

use super::Store;
use super::book::BatchBook;
use super::session::{AnswerRow, BATCHES, Session, number};
use super::shape::{BATCH, TableName};
use crate::databases::StoreError;

/// The newest batches that are shown.
const BATCHES_SHOWN: usize = 20;

/// Opens a table for looking. `landing` in the settings' label narrows the batches that are reported.
pub(super) fn open<S: Store>(settings: &Settings) -> Outcome<Box<dyn Stored>> {
    let table = TableName::read(&settings.options);
    let mut session = S::connect(settings).map_err(StoreError::into_failure)?;
    let spelling = session.spelling();
    let shown = spelling.table(&table);
    let stored = readable(session.as_mut(), &table, settings)?;
    let rows = session.query(&format!("select count(*) from {shown}")).map_err(StoreError::into_failure)?;
    let mut summary = StoredSummary {
        what: format!("table {shown} in {}", settings.connection.name),
        columns: columns::<S>(&stored),
        parts: 1,
        rows: number(&rows).and_then(|n| u64::try_from(n).ok()),
        ..StoredSummary::default()
    };
    let noted = session.describe(&table.beside(BATCHES), &[]).map_err(StoreError::into_failure)?;
    if matches!(noted, Found::Table(_)) && !settings.label.is_empty() {
        let traced = stored.columns.iter().any(|c| c.name == BATCH);
        let mut book = BatchBook { session: session.as_mut(), beside: &table };
        let mut batches = book.batches(&settings.label, BATCHES_SHOWN).map_err(StoreError::into_failure)?;
        if traced {
            book.count(&shown, &mut batches).map_err(StoreError::into_failure)?;
        }
        summary.batches = batches;
    }
    let columns: Vec<&TableColumn> = stored.columns.iter().collect();
    Ok(Box::new(rows_of::<S>(session, &table, &columns, summary)))
}

/// The rows of a table with some of its columns, in the types in which they land.
pub(super) fn mirrored<S: Store>(settings: &Settings, columns: &[OutputColumn]) -> Outcome<Box<dyn Stored>> {
    let table = TableName::read(&settings.options);
    let mut session = S::connect(settings).map_err(StoreError::into_failure)?;
    let stored = readable(session.as_mut(), &table, settings)?;
    let there = |name: &str| stored.columns.iter().find(|s| s.name == name);
    let (columns, stored): (Vec<OutputColumn>, Vec<&TableColumn>) =
        columns.iter().filter_map(|c| Some((c.clone(), there(&c.name)?))).unzip();
    let summary = StoredSummary { columns, parts: 1, ..StoredSummary::default() };
    Ok(Box::new(TableRows { in_utc: true, ..rows_of::<S>(session, &table, &stored, summary) }))
}

/// The table, where this user may read it.
fn readable(session: &mut dyn Session, table: &TableName, settings: &Settings) -> Outcome<StoredTable> {
    let shown = session.spelling().table(table);
    let found = session.describe(table, &["select"]).map_err(StoreError::into_failure)?;
    let Found::Table(stored) = found else {
        return Err(Failure::unreachable(format!("there is no table {shown} in {}", settings.connection.name))
            .with_help("nothing has landed there yet; `sluice check` shows what is missing"));
    };
    if stored.denied.iter().any(|d| d == "select") {
        return Err(Failure::unreachable(format!("this user may not read {shown}")));
    }
    Ok(stored)
}

/// Streams rows on a thread of their own.
fn rows_of<S: Store>(
    mut session: Box<dyn Session>,
    table: &TableName,
    columns: &[&TableColumn],
    summary: StoredSummary,
) -> TableRows {
    let spelling = session.spelling();
    let texts: Vec<String> = columns.iter().map(|c| S::as_text(&(spelling.quote)(&c.name), c)).collect();
    let sql = format!("select {} from {}", texts.join(", "), spelling.table(table));
    let (sender, receiver) = sync_channel(2);
    sluice_core::threads::spawn("peek", move || {
        let mut take = |rows: Vec<AnswerRow>| sender.send(Ok(rows)).is_ok();
        if let Err(error) = session.stream(&sql, &mut take) {
            let _ = sender.send(Err(error.into_failure()));
        }
    });
    TableRows { summary, in_utc: false, unseen: 0, receiver }
}

fn columns<S: Store>(table: &StoredTable) -> Vec<OutputColumn> {
    let column =
        |c: &TableColumn| OutputColumn { name: c.name.clone(), ty: S::shown_as(c), nullable: c.nullable, limit: None };
    table.columns.iter().map(column).collect()
}

/// A moment with its zone.
fn zoned(text: &str) -> String {
    match time::parse_timestamp(text.as_bytes()) {
        Some(_) => text.to_string(),
        None => format!("{text}Z"),
    }
}

struct TableRows {
    summary: StoredSummary,
    /// Whether moments without a zone are of UTC, as all that land are.
    in_utc: bool,
    /// Values that no type of ours has.
    unseen: usize,
    receiver: Receiver<Outcome<Vec<AnswerRow>>>,
}

impl Stored for TableRows {
    fn summary(&self) -> &StoredSummary {
        &self.summary
    }

    fn next(&mut self) -> Outcome<Option<RecordBatch>> {
        let Ok(rows) = self.receiver.recv() else { return Ok(None) };
        let rows = rows?;
        let columns = &self.summary.columns;
        let mut arrays = Vec::with_capacity(columns.len());
        let mut unseen = 0;
        for (i, column) in columns.iter().enumerate() {
            let texts = || rows.iter().map(|row| row.get(i).and_then(|v| v.as_deref()));
            let array = match column.ty {
                // A column without a zone has moments of UTC.
                SqlType::Timestamptz if self.in_utc => {
                    let zoned: Vec<Option<String>> = texts().map(|t| t.map(zoned)).collect();
                    crate::look::texts::array(column.ty, zoned.iter().map(Option::as_deref))
                }
                _ if let Some(Limit::List(item)) = column.limit => {
                    let lists: Vec<Option<String>> = texts()
                        .map(|text| text.map(|text| list::kept(text, item).unwrap_or_else(|| text.into())))
                        .collect();
                    crate::look::texts::array(column.ty, lists.iter().map(Option::as_deref))
                }
                ty => crate::look::texts::array(ty, texts()),
            };
            unseen += array.null_count() - texts().filter(Option::is_none).count();
            arrays.push(array);
        }
        let schema = sluice_core::plan::transform::schema_of(
            &columns.iter().map(|c| OutputColumn { nullable: true, ..c.clone() }).collect::<Vec<_>>(),
        );
        if unseen > 0 && self.unseen == 0 {
            let remark = "some values, infinities or NaN, have no spelling in our types and are shown as null";
            self.summary.remarks.push(remark.into());
        }
        self.unseen += unseen;
        RecordBatch::try_new(Arc::clone(&schema), arrays)
            .map(Some)
            .map_err(|e| Failure::internal(format!("rows of a table do not have their form: {e}")))
    }
}
