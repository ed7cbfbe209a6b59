//! Reads the rows that a table has already, some at a time. Each portion is one short question under a consistent snapshot,
//! of which the server says at which place in the log it stands: the rows enter there.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Sender, bounded};
use mysql_async::Value;
use mysql_async::prelude::Queryable as _;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Settings;

use super::applier::place;
use super::catalog::{Catalog, SourceColumn, SourceTable, failed};
use super::cursor::{Cursors, KeyColumn, beyond, key_columns};
use crate::databases::wait;
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::json::member_name;
use crate::intakes::feed::rows::{RowWriter, Rows};
use crate::intakes::feed::state::Load;

/// Some rows of a table.
pub(super) struct Portion {
    pub table: u32,
    pub rows: Rows,
    /// The place in the log at which the rows are as they are.
    pub mark: u64,
    pub done: bool,
    /// Where the load stands after each of the rows.
    pub cursors: Cursors,
    /// How many rows the table has there, once all have been read.
    pub count: Option<u64>,
}

/// A table to read.
#[derive(Clone)]
pub(super) struct LoadTask {
    pub table: u32,
    pub feed: FeedTable,
    pub settings: Settings,
    pub load: Load,
}

/// Reads tables in threads of their own. Dropping it ends them.
pub(super) struct Loader {
    pub portions: Receiver<Outcome<Portion>>,
    stop: Arc<AtomicBool>,
    threads: Vec<JoinHandle<()>>,
}

impl Loader {
    pub(super) fn start(tasks: Vec<LoadTask>, at_once: usize) -> Self {
        let (send, portions) = bounded(2);
        let stop = Arc::new(AtomicBool::new(false));
        let (give, take) = bounded(tasks.len());
        tasks.into_iter().for_each(|task| drop(give.send(task)));
        let worker = |_| {
            let (take, send, stop) = (take.clone(), send.clone(), Arc::clone(&stop));
            std::thread::spawn(move || {
                while let Ok(mut task) = take.try_recv() {
                    while let Err(failure) = load(&mut task, &send, &stop) {
                        if !failure.passing {
                            let _ = send.send(Err(failure));
                            return;
                        }
                        std::thread::sleep(Duration::from_millis(500));
                        if stop.load(Ordering::SeqCst) {
                            return;
                        }
                    }
                }
            })
        };
        let threads = (0..at_once).map(worker).collect();
        Self { portions, stop, threads }
    }
}

impl Drop for Loader {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::SeqCst);
        while self.threads.iter().any(|t| !t.is_finished()) {
            while self.portions.try_recv().is_ok() {}
            std::thread::sleep(Duration::from_millis(2));
        }
    }
}

fn load(task: &mut LoadTask, send: &Sender<Outcome<Portion>>, stop: &AtomicBool) -> Outcome<()> {
    let mut catalog = Catalog::open(&task.settings)?;
    let name = &task.feed.name;
    let table =
        catalog.table(name)?.ok_or_else(|| Failure::unreachable(format!("there is no table {name} any more")))?;
    let columns: Vec<&SourceColumn> = table.columns.iter().filter(|c| task.feed.takes(&c.name)).collect();
    let key = key_columns(&table, &task.feed.key);
    let limit = task.settings.options.integer("load_rows").max(1);
    let rate = task.settings.options.is_set("load_rate").then(|| task.settings.options.integer("load_rate").max(1));
    let (started, mut rows) = (Instant::now(), 0);
    while !stop.load(Ordering::SeqCst) {
        let beyond = task.load.cursor.as_ref().and_then(|after| beyond(&key, after)).unwrap_or_default();
        let question = question(&table, &columns, &key, &beyond, limit);
        let mark = snapshot(&mut catalog)?;
        let mut portion = read(&mut catalog, (task.table, &task.feed), &columns, &question, limit, mark)?;
        if portion.done {
            portion.count = catalog.count(&table)?;
        }
        catalog.rows("commit")?;
        task.load.cursor = portion.cursors.last().or(task.load.cursor.take());
        rows += portion.rows.len();
        let done = portion.done;
        if send.send(Ok(portion)).is_err() || done {
            return Ok(());
        }
        if let Some(rate) = rate {
            let due = Duration::from_secs_f64(rows as f64 / rate as f64);
            while started.elapsed() < due && !stop.load(Ordering::SeqCst) {
                std::thread::sleep(Duration::from_millis(10));
            }
        }
    }
    Ok(())
}

/// Some rows of a table, for looking.
pub(super) fn first_rows(catalog: &mut Catalog, number: u32, feed: &FeedTable, limit: u64) -> Outcome<Portion> {
    let table = catalog.table(&feed.name)?;
    let table = table.ok_or_else(|| Failure::unreachable(format!("there is no table {}", feed.name)))?;
    let columns: Vec<&SourceColumn> = table.columns.iter().collect();
    let question = question(&table, &columns, &[], "", limit);
    read(catalog, (number, feed), &columns, &question, limit, 0)
}

pub(super) fn question(
    table: &SourceTable,
    columns: &[&SourceColumn],
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
pub(super) fn snapshot(catalog: &mut Catalog) -> Outcome<u64> {
    catalog.rows("set session transaction isolation level repeatable read")?;
    catalog.rows("start transaction with consistent snapshot")?;
    let status = catalog.rows("show status like 'binlog_snapshot_%'")?;
    let value = |name: &str| {
        let row = status.iter().find(|row| row[0].as_deref().is_some_and(|n| n.eq_ignore_ascii_case(name)));
        row.and_then(|row| row.get(1).cloned().flatten()).unwrap_or_default()
    };
    let (file, at) = (value("binlog_snapshot_file"), value("binlog_snapshot_position").parse().ok());
    let Some(at) = at.filter(|_| !file.is_empty()) else {
        let message = format!("{} does not tell at which place in its log a snapshot stands", catalog.shown);
        return Err(Failure::new(FailureKind::Configuration, message).with_help(
            "tables of such a server cannot be loaded without a gap: load = \"never\" reads their changes alone",
        ));
    };
    Ok(place(&file, at))
}

fn read(
    catalog: &mut Catalog,
    (table, feed): (u32, &FeedTable),
    columns: &[&SourceColumn],
    question: &str,
    limit: u64,
    mark: u64,
) -> Outcome<Portion> {
    let mut writer = writer(columns, feed, true);
    let cursors = read_rows(catalog, question, columns, &mut writer, |_| Ok(()))?;
    let done = writer.rows.len() < limit;
    Ok(Portion { table, rows: writer.rows, mark, done, cursors, count: None })
}

/// A writer of rows with these columns.
pub(super) fn writer(columns: &[&SourceColumn], feed: &FeedTable, keyed: bool) -> RowWriter {
    let members = columns.iter().map(|c| (member_name(&c.name), c.spelling())).collect();
    let place = |k: &String| columns.iter().position(|c| c.name == *k);
    let key = feed.key.iter().filter(|_| keyed).filter_map(place).collect();
    RowWriter::new(members, key).with_missing(feed.missing(columns.iter().map(|c| c.name.as_str())))
}

/// Writes the rows of a question; `each` is called after every row. Gives what stands behind the columns: their keys.
pub(super) fn read_rows(
    catalog: &mut Catalog,
    question: &str,
    columns: &[&SourceColumn],
    writer: &mut RowWriter,
    mut each: impl FnMut(&mut RowWriter) -> Outcome<()>,
) -> Outcome<Cursors> {
    let shown = catalog.shown.clone();
    let said = |e: mysql_async::Error| failed(&shown, &e);
    let bytes = |value: Value| match value {
        Value::NULL => None,
        Value::Bytes(bytes) => Some(bytes),
        other => Some(other.as_sql(true).into_bytes()),
    };
    wait(async {
        let mut result = catalog.connection.query_iter(question).await.map_err(said)?;
        let mut cursors: Option<Cursors> = None;
        while let Some(row) = result.next().await.map_err(said)? {
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
