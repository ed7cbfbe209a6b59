//! Reads the rows that a table has already, some at a time. Each portion is one short query under a consistent snapshot,
//! of which the server says at which place in the log it stands: the rows enter there.

use std::collections::HashSet;

use mysql_async::Value;
use mysql_async::prelude::Queryable as _;
use sluice_core::failure::{Failure, FailureKind, Outcome};

use super::applier::place;
use super::catalog::{MariadbCatalog, MariadbColumn, MariadbTable, failed, late};
use super::cursor::{Cursors, KeyColumn, beyond, key_columns};
use crate::databases::{in_time, wait};
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::json::member_name;
use crate::intakes::feed::loader::{LoadTask, Pace, Portion, Sink, dropped};
use crate::intakes::feed::rows::RowWriter;
use crate::intakes::feed::state::Load;

/// What is known of a portion beside its rows.
pub(super) struct LoadDetail {
    /// Where the load stands after each of the rows.
    pub cursors: Cursors,
    /// How many rows the table has there, once all have been read.
    pub count: Option<u64>,
    /// Whether they are rows that were read before, by their keys.
    pub again: bool,
}

/// Reads a table once more, and hands on the rows whose keys are asked for.
pub(super) fn load_again(task: &LoadTask, sink: &Sink<LoadDetail>) -> Outcome<()> {
    let keys: HashSet<&[String]> = task.load.again.iter().map(Vec::as_slice).collect();
    // From the beginning, whatever was read before.
    let mut whole = LoadTask { load: Load::default(), ..task.clone() };
    portions(&mut whole, sink, |mut portion| {
        portion.rows = portion.rows.only(|row| keys.contains(portion.rows.key_parts(row).as_slice()));
        portion.detail = LoadDetail { cursors: Cursors::default(), count: None, again: true };
        portion
    })
}

/// Reads a table.
pub(super) fn load(task: &mut LoadTask, sink: &Sink<LoadDetail>) -> Outcome<()> {
    portions(task, sink, |portion| portion)
}

/// Reads a table some rows at a time; `shape` makes of each portion what is handed on.
fn portions(
    task: &mut LoadTask,
    sink: &Sink<LoadDetail>,
    shape: impl Fn(Portion<LoadDetail>) -> Portion<LoadDetail>,
) -> Outcome<()> {
    let mut catalog = MariadbCatalog::open(&task.settings)?;
    let table = catalog.table(&task.feed.name)?.ok_or_else(|| dropped(&task.feed.name))?;
    let columns: Vec<&MariadbColumn> = table.columns.iter().filter(|c| task.feed.takes(&c.name)).collect();
    let key = key_columns(&table, &task.feed.key);
    let limit = task.settings.options.integer("load_rows").max(1);
    let mut pace = Pace::of(&task.settings);
    while !sink.is_stopped() {
        let beyond = task.load.cursor.as_ref().and_then(|after| beyond(&key, after)).unwrap_or_default();
        let query = query(&table, &columns, &key, &beyond, limit);
        let mark = snapshot(&mut catalog)?;
        let mut portion = read(&mut catalog, (task.table, &task.feed), &columns, &query, limit, mark)?;
        if portion.done {
            portion.detail.count = catalog.count(&table)?;
        }
        catalog.rows("commit")?;
        task.load.cursor = portion.detail.cursors.last().or(task.load.cursor.take());
        let (rows, done) = (portion.rows.len(), portion.done);
        if !sink.give(shape(portion)) || done {
            return Ok(());
        }
        pace.wait(rows, sink);
    }
    Ok(())
}

/// Some rows of a table, for looking.
pub(super) fn first_rows(
    catalog: &mut MariadbCatalog,
    number: u32,
    feed: &FeedTable,
    limit: u64,
) -> Outcome<Portion<LoadDetail>> {
    let table = catalog.table(&feed.name)?;
    let table = table.ok_or_else(|| Failure::unreachable(format!("there is no table {}", feed.name)))?;
    let columns: Vec<&MariadbColumn> = table.columns.iter().collect();
    let query = query(&table, &columns, &[], "", limit);
    read(catalog, (number, feed), &columns, &query, limit, 0)
}

pub(super) fn query(
    table: &MariadbTable,
    columns: &[&MariadbColumn],
    key: &[KeyColumn],
    beyond: &str,
    limit: u64,
) -> String {
    let names: Vec<String> = columns.iter().map(|c| c.expression()).chain(key.iter().map(KeyColumn::ask)).collect();
    let keys: Vec<&str> = key.iter().map(KeyColumn::name).collect();
    let order = if keys.is_empty() { String::new() } else { format!(" order by {}", keys.join(", ")) };
    format!("select {} from {}{beyond}{order} limit {limit}", names.join(", "), table.quoted())
}

/// Begins a transaction that sees the tables as they are at one place in the log; gives that.
pub(super) fn snapshot(catalog: &mut MariadbCatalog) -> Outcome<u64> {
    catalog.rows("set session transaction isolation level repeatable read")?;
    catalog.rows("start transaction with consistent snapshot")?;
    let status = catalog.rows("show status like 'binlog_snapshot_%'")?;
    let value = |name: &str| {
        let row = status.iter().find(|row| row[0].as_deref().is_some_and(|n| n.eq_ignore_ascii_case(name)));
        row.and_then(|row| row.get(1).cloned().flatten()).unwrap_or_default()
    };
    let (file, at) = (value("binlog_snapshot_file"), value("binlog_snapshot_position").parse().ok());
    let Some(at) = at.filter(|_| !file.is_empty()) else {
        let message = format!("{} does not report the log position of a snapshot", catalog.shown);
        return Err(Failure::new(FailureKind::Configuration, message).with_help(
            "tables of such a server cannot be loaded without a gap: load = \"never\" reads their changes alone",
        ));
    };
    Ok(place(&file, at))
}

fn read(
    catalog: &mut MariadbCatalog,
    (table, feed): (u32, &FeedTable),
    columns: &[&MariadbColumn],
    query: &str,
    limit: u64,
    mark: u64,
) -> Outcome<Portion<LoadDetail>> {
    let mut writer = writer(columns, feed, true);
    let cursors = read_rows(catalog, query, columns, &mut writer, |_| Ok(()))?;
    let done = writer.rows.len() < limit;
    Ok(Portion { table, rows: writer.rows, mark, done, detail: LoadDetail { cursors, count: None, again: false } })
}

/// A writer of rows with these columns.
pub(super) fn writer(columns: &[&MariadbColumn], feed: &FeedTable, keyed: bool) -> RowWriter {
    let members = columns.iter().map(|c| (member_name(&c.name), c.spelling())).collect();
    let place = |k: &String| columns.iter().position(|c| c.name == *k);
    let key = feed.key.iter().filter(|_| keyed).filter_map(place).collect();
    RowWriter::new(members, key).with_missing(feed.missing(columns.iter().map(|c| c.name.as_str())))
}

/// Writes the rows of a query; `each` is called after every row. Gives what stands behind the columns: their keys.
pub(super) fn read_rows(
    catalog: &mut MariadbCatalog,
    query: &str,
    columns: &[&MariadbColumn],
    writer: &mut RowWriter,
    mut each: impl FnMut(&mut RowWriter) -> Outcome<()>,
) -> Outcome<Cursors> {
    let shown = catalog.shown.clone();
    let within = catalog.answer_within;
    let said = |e: mysql_async::Error| failed(&shown, &e);
    let late = |why: String| late(&shown, &why);
    let bytes = |value: Value| match value {
        Value::NULL => None,
        Value::Bytes(bytes) => Some(bytes),
        other => Some(other.as_sql(true).into_bytes()),
    };
    wait(async {
        let mut result = in_time(within, catalog.connection.query_iter(query), said, late).await?;
        let mut cursors: Option<Cursors> = None;
        while let Some(row) = in_time(within, result.next(), said, late).await? {
            let mut values = row.unwrap().into_iter();
            let mut place = 0;
            writer.row(|cell| {
                *cell = values.next().and_then(bytes).map(|value| columns[place].settle(value));
                place += 1;
            });
            let cursors = cursors.get_or_insert_with(|| Cursors::new(values.len()));
            values.for_each(|part| cursors.add(&bytes(part).unwrap_or_default()));
            each(writer)?;
        }
        Ok(cursors.unwrap_or_default())
    })
}
