//! What a table holds, for looking at.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, sync_channel};

use arrow_array::{Array as _, RecordBatch};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Settings, Stored, StoredSummary};
use sluice_core::plan::OutputColumn;
use sluice_core::table::{Found, StoredTable};

use super::Store;
use super::book::Book;
use super::session::{AnswerRow, BATCHES, StoreError, number};
use super::shape::{BATCH, TableName};

/// Batches that are told of.
const BATCHES_SHOWN: usize = 20;

/// Opens a table for looking. `landing` in the settings' label narrows the batches that are told.
pub(super) fn open<S: Store>(settings: &Settings, _: &[OutputColumn]) -> Outcome<Box<dyn Stored>> {
    let table = TableName::read(&settings.options);
    let mut session = S::connect(settings).map_err(StoreError::into_failure)?;
    let spelling = session.spelling();
    let shown = spelling.table(&table);
    let found = session.describe(&table, &["select"]).map_err(StoreError::into_failure)?;
    let Found::Table(stored) = found else {
        return Err(Failure::unreachable(format!("there is no table {shown} in {}", settings.connection.name))
            .with_help("nothing has landed there yet; `sluice check` tells what is missing"));
    };
    if stored.denied.iter().any(|d| d == "select") {
        return Err(Failure::unreachable(format!("this user may not read {shown}")));
    }
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
        let mut book = Book { session: session.as_mut(), beside: &table };
        let mut batches = book.batches(&settings.label, BATCHES_SHOWN).map_err(StoreError::into_failure)?;
        if traced {
            book.count(&shown, &mut batches).map_err(StoreError::into_failure)?;
        }
        summary.batches = batches;
    }
    let texts: Vec<String> = stored.columns.iter().map(|c| S::as_text(&(spelling.quote)(&c.name), c)).collect();
    let sql = format!("select {} from {shown}", texts.join(", "));
    let (sender, receiver) = sync_channel(2);
    std::thread::spawn(move || {
        let mut take = |rows: Vec<AnswerRow>| sender.send(Ok(rows)).is_ok();
        if let Err(error) = session.stream(&sql, &mut take) {
            let _ = sender.send(Err(error.into_failure()));
        }
    });
    Ok(Box::new(TableRows { summary, unseen: 0, receiver }))
}

fn columns<S: Store>(table: &StoredTable) -> Vec<OutputColumn> {
    let column = |c: &sluice_core::table::TableColumn| OutputColumn {
        name: c.name.clone(),
        ty: S::shown_as(c),
        nullable: c.nullable,
    };
    table.columns.iter().map(column).collect()
}

struct TableRows {
    summary: StoredSummary,
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
            let array = crate::look::texts::array(column.ty, texts());
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
