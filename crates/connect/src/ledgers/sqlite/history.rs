//! What batches did over time.

use rusqlite::{Connection, params};
use serde::Serialize;
use sluice_core::batch::LaneId;
use sluice_core::failure::Outcome;
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

    /// The lanes and numbers of the batches that stand out most, the first one first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn extreme(&self, pipeline: &str, by: Extreme, count: u64) -> Outcome<Vec<(LaneId, u64)>> {
        extreme(&self.reader(), pipeline, by, count).map_err(|e| self.failed("be read", &e))
    }
}

fn periods(connection: &Connection, pipeline: &str, length: i64, last: u64) -> Sql<Vec<PeriodTotals>> {
    let sql = "select (b.opened_at / ?2) * ?2 as start, count(*), sum(b.read), sum(b.bytes), sum(b.rejected),
                      coalesce(max(b.settled_at - b.opened_at), 0),
                      sum((select coalesce(sum(l.rows), 0) from batch_landing l
                           where l.pipeline = b.pipeline and l.lane = b.lane and l.number = b.number
                             and l.landing <> ?4 and l.landed_at is not null))
               from batch b
               where b.pipeline = ?1 and b.state in ('sealed', 'settled') and b.lane not like '%~%'
               group by start order by start desc limit ?3";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map(params![pipeline, length.max(1), last, REJECTS], |r| {
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
