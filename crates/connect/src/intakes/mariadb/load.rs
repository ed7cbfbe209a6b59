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
use crate::databases::wait;
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::json::member_name;
use crate::intakes::feed::rows::{RowWriter, Rows};
use crate::intakes::feed::state::Load;
use crate::landings::mariadb::{literal, quote};

/// Some rows of a table.
pub(super) struct Portion {
    pub table: u32,
    pub rows: Rows,
    /// The place in the log at which the rows are as they are.
    pub mark: u64,
    pub done: bool,
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
    let limit = task.settings.options.integer("load_rows").max(1);
    let rate = task.settings.options.is_set("load_rate").then(|| task.settings.options.integer("load_rate").max(1));
    let (started, mut rows) = (Instant::now(), 0);
    while !stop.load(Ordering::SeqCst) {
        let beyond = task.load.after.as_ref().map_or(String::new(), |after| beyond(&task.feed.key, after));
        let question = question(&table, &columns, &task.feed.key, &beyond, limit);
        let portion = ask(&mut catalog, (task.table, &task.feed), &columns, &question, limit)?;
        task.load.after = portion.rows.last_key().or(task.load.after.take());
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

/// The condition for rows after a key: of the first part equal and the rest after, or the first part after.
fn beyond(key: &[String], after: &[String]) -> String {
    let mut any = Vec::new();
    for place in 0..key.len() {
        let equal = (0..place).map(|i| format!("{} = {}", quote(&key[i]), literal(&after[i])));
        let greater = std::iter::once(format!("{} > {}", quote(&key[place]), literal(&after[place])));
        any.push(equal.chain(greater).collect::<Vec<_>>().join(" and "));
    }
    // The first part bounds the rows that are looked at.
    format!(" where {} >= {} and (({}))", quote(&key[0]), literal(&after[0]), any.join(") or ("))
}

pub(super) fn question(
    table: &SourceTable,
    columns: &[&SourceColumn],
    key: &[String],
    beyond: &str,
    limit: u64,
) -> String {
    let names: Vec<String> = columns.iter().map(|c| c.expression()).collect();
    let keys: Vec<String> = key.iter().map(|k| quote(k)).collect();
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

fn ask(
    catalog: &mut Catalog,
    of: (u32, &FeedTable),
    columns: &[&SourceColumn],
    question: &str,
    limit: u64,
) -> Outcome<Portion> {
    let mark = snapshot(catalog)?;
    let portion = read(catalog, of, columns, question, limit, mark)?;
    catalog.rows("commit")?;
    Ok(portion)
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
    read_rows(catalog, question, &mut writer, |_| Ok(()))?;
    let done = writer.rows.len() < limit;
    Ok(Portion { table, rows: writer.rows, mark, done })
}

/// A writer of rows with these columns.
pub(super) fn writer(columns: &[&SourceColumn], feed: &FeedTable, keyed: bool) -> RowWriter {
    let members = columns.iter().map(|c| (member_name(&c.name), c.spelling())).collect();
    let place = |k: &String| columns.iter().position(|c| c.name == *k);
    let key = feed.key.iter().filter(|_| keyed).filter_map(place).collect();
    RowWriter::new(members, key).with_missing(feed.missing(columns.iter().map(|c| c.name.as_str())))
}

/// Writes the rows of a question; `each` is called after every row.
pub(super) fn read_rows(
    catalog: &mut Catalog,
    question: &str,
    writer: &mut RowWriter,
    mut each: impl FnMut(&mut RowWriter) -> Outcome<()>,
) -> Outcome<()> {
    let shown = catalog.shown.clone();
    let said = |e: mysql_async::Error| failed(&shown, &e);
    wait(async {
        let mut result = catalog.connection.query_iter(question).await.map_err(said)?;
        while let Some(row) = result.next().await.map_err(said)? {
            let mut values = row.unwrap().into_iter();
            writer.row(|cell| {
                *cell = match values.next() {
                    None | Some(Value::NULL) => None,
                    Some(Value::Bytes(bytes)) => Some(bytes),
                    Some(other) => Some(other.as_sql(true).into_bytes()),
                };
            });
            each(writer)?;
        }
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::beyond;

    #[test]
    fn the_rows_after_a_key_of_two_parts() {
        let (key, after) = (["a".to_string(), "b".into()], ["1".to_string(), "x".into()]);
        assert_eq!(beyond(&key, &after), " where `a` >= '1' and ((`a` > '1') or (`a` = '1' and `b` > 'x'))");
    }
}
