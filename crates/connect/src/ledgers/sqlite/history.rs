//! What batches did over time.

use rusqlite::{Connection, OptionalExtension as _, params};
use serde::Serialize;
use sluice_core::batch::LaneId;
use sluice_core::failure::Outcome;
use sluice_core::ledger::RunEnd;
use sluice_core::reject::REJECTS;

use super::SqliteLedger;

type Sql<T> = rusqlite::Result<T>;

/// What the batches did that were opened within an hour or a day.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct PeriodTotals {
    /// When it begins, in microseconds since 1970.
    pub start: i64,
    /// Batches that were sealed.
    pub batches: u64,
    /// Events read.
    pub read: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Events rejected.
    pub rejected: u64,
    /// Rows landed, rejects not counted.
    pub landed: u64,
    /// The longest time from opening to settling, in microseconds.
    pub longest: u64,
}

/// One batch in few figures.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BatchLine {
    /// Its place in the order of opening.
    pub opened: u64,
    /// The lane.
    pub lane: String,
    /// The number.
    pub number: u64,
    /// The word for its state.
    pub state: String,
    /// When it was opened, in microseconds since 1970.
    pub opened_at: i64,
    /// When it was sealed.
    pub sealed_at: Option<i64>,
    /// When it was settled.
    pub settled_at: Option<i64>,
    /// Events read.
    pub read: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Events rejected.
    pub rejected: u64,
    /// Rows landed, rejects not counted.
    pub landed: u64,
    /// SHA-256 of the texts that it was sealed with.
    pub texts: Option<String>,
}

/// What makes a batch stand out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Extreme {
    /// The time from opening to settling.
    Slowest,
    /// The bytes read.
    Largest,
}

impl SqliteLedger {
    /// Totals of the newest periods of a length in microseconds, oldest first. Periods without a batch are left out; so are batches that
    /// read events again, and those that were taken over from a landing.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn periods(&self, pipeline: &str, length: i64, last: u64) -> Outcome<Vec<PeriodTotals>> {
        periods(&self.reader(), pipeline, length, last).map_err(|e| self.failed("be read", &e))
    }

    /// The newest runs that ended before they were asked to, oldest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn failures(&self, pipeline: &str, last: u64) -> Outcome<Vec<RunEnd>> {
        failures(&self.reader(), pipeline, last).map_err(|e| self.failed("be read", &e))
    }

    /// When the newest batch with events was settled, in microseconds since 1970. Batches that read events again do not count.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn last_read(&self, pipeline: &str) -> Outcome<Option<i64>> {
        let sql = "select settled_at from batch
                   where pipeline = ?1 and read > 0 and settled_at is not null and instr(lane, '~') = 0
                   order by opened desc limit 1";
        let found = self.reader().query_row(sql, [pipeline], |r| r.get(0)).optional();
        found.map_err(|e| self.failed("be read", &e))
    }

    /// The batches with rejects that were settled since a moment: when, and how many events were rejected; oldest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn rejected_since(&self, pipeline: &str, from: i64) -> Outcome<Vec<(i64, u64)>> {
        rejected_since(&self.reader(), pipeline, from).map_err(|e| self.failed("be read", &e))
    }

    /// So many batches after a place in the order of opening, in that order.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn page(&self, pipeline: &str, after: u64, count: u64) -> Outcome<Vec<BatchLine>> {
        page(&self.reader(), pipeline, after, count).map_err(|e| self.failed("be read", &e))
    }

    /// The lanes and numbers of the batches that stand out most, the first one first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn extreme(&self, pipeline: &str, by: Extreme, count: u64) -> Outcome<Vec<(LaneId, u64)>> {
        extreme(&self.reader(), pipeline, by, count).map_err(|e| self.failed("be read", &e))
    }
}

fn periods(connection: &Connection, pipeline: &str, length: i64, last: u64) -> Sql<Vec<PeriodTotals>> {
    let sql =
        "select (start / ?2) * ?2 as period, sum(settled + sealed), sum(read), sum(bytes), sum(rejected), max(longest),
                      sum(landed)
               from batch_hour where pipeline = ?1
               group by period having sum(settled + sealed) > 0 order by period desc limit ?3";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map(params![pipeline, length.max(1), last], |r| {
        Ok(PeriodTotals {
            start: r.get(0)?,
            batches: r.get(1)?,
            read: r.get(2)?,
            bytes: r.get(3)?,
            rejected: r.get(4)?,
            longest: r.get(5)?,
            landed: r.get(6)?,
        })
    })?;
    let mut found: Vec<PeriodTotals> = rows.collect::<Sql<_>>()?;
    found.reverse();
    Ok(found)
}

fn rejected_since(connection: &Connection, pipeline: &str, from: i64) -> Sql<Vec<(i64, u64)>> {
    let sql = "select settled_at, rejected from batch
               where pipeline = ?1 and rejected > 0 and settled_at >= ?2 order by settled_at";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map(params![pipeline, from], |r| Ok((r.get(0)?, r.get(1)?)))?;
    rows.collect()
}

fn failures(connection: &Connection, pipeline: &str, last: u64) -> Sql<Vec<RunEnd>> {
    let sql = "select kind, message, help, at from failure where pipeline = ?1 order by id desc limit ?2";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map(params![pipeline, last], |r| {
        Ok(RunEnd { kind: r.get(0)?, message: r.get(1)?, help: r.get(2)?, at: r.get(3)? })
    })?;
    let mut found: Vec<RunEnd> = rows.collect::<Sql<_>>()?;
    found.reverse();
    Ok(found)
}

/// Batches after a place in the order of opening, in that order.
fn page(connection: &Connection, pipeline: &str, after: u64, count: u64) -> Sql<Vec<BatchLine>> {
    let sql = "select b.opened, b.lane, b.number, b.state, b.opened_at, b.sealed_at, b.settled_at, b.read, b.bytes, b.rejected,
                      (select coalesce(sum(l.rows), 0) from batch_landing l
                       where l.pipeline = b.pipeline and l.lane = b.lane and l.number = b.number
                         and l.landing <> ?4 and l.landed_at is not null),
                      b.text
               from batch b where b.pipeline = ?1 and b.opened > ?2 order by b.opened limit ?3";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map(params![pipeline, after, count, REJECTS], |r| {
        Ok(BatchLine {
            opened: r.get(0)?,
            lane: r.get(1)?,
            number: r.get(2)?,
            state: r.get(3)?,
            opened_at: r.get(4)?,
            sealed_at: r.get(5)?,
            settled_at: r.get(6)?,
            read: r.get(7)?,
            bytes: r.get(8)?,
            rejected: r.get(9)?,
            landed: r.get(10)?,
            texts: r.get(11)?,
        })
    })?;
    rows.collect()
}

fn extreme(connection: &Connection, pipeline: &str, by: Extreme, count: u64) -> Sql<Vec<(LaneId, u64)>> {
    let order = match by {
        Extreme::Slowest => "settled_at - opened_at",
        Extreme::Largest => "bytes",
    };
    let sql = format!(
        "select lane, number from batch where pipeline = ?1 and state = 'settled'
         order by {order} desc, opened_at, lane, number limit ?2"
    );
    let mut statement = connection.prepare(&sql)?;
    let rows =
        statement.query_map(params![pipeline, count], |r| Ok((LaneId::named(r.get::<_, String>(0)?), r.get(1)?)))?;
    rows.collect()
}
