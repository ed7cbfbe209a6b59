//! A store's own record of what has landed in it: batches, and the rows that it refused.

use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{NotedBatch, NotedLane, RefusedRow, StoredBatch};

use super::session::{AnswerRow, BATCHES, LANES, REFUSED, Session, number};
use super::shape::TableName;
use crate::databases::StoreResult;

/// How far a batch's place in the order of opening stands above its lane's number within the number that rows carry.
pub(super) const LANE_BITS: u32 = 20;

/// The number that the rows of a batch carry: its place in the order in which batches were opened, then its lane's
/// number, which keeps ledgers and pipelines apart that write to one store. It grows with the order of opening, also
/// from one lane to another.
pub(super) fn batch_id(lane: i64, opened: u64) -> i64 {
    (i64::try_from(opened).unwrap_or(0) << LANE_BITS) + lane
}

/// The batches of one table's neighbourhood.
pub(super) struct BatchBook<'s> {
    pub session: &'s mut dyn Session,
    pub beside: &'s TableName,
}

impl BatchBook<'_> {
    fn table(&self, name: &str) -> String {
        self.session.spelling().table(&self.beside.beside(name))
    }

    fn literal(&self, text: &str) -> String {
        (self.session.spelling().literal)(text)
    }

    /// The last batch of a lane.
    pub(super) fn noted(&mut self, lane: i64) -> StoreResult<Option<NotedBatch>> {
        let sql = format!(
            "select ledger, number, ranges from {} where lane = {lane} order by number desc limit 1",
            self.table(BATCHES)
        );
        Ok(self.session.query(&sql)?.first().and_then(noted))
    }

    /// The landings that have batches beside the table.
    pub(super) fn recorded(&mut self) -> StoreResult<Vec<String>> {
        let (lanes, batches) = (self.table(LANES), self.table(BATCHES));
        let sql = format!("select distinct landing from {lanes} where id in (select lane from {batches})");
        Ok(self.session.query(&sql)?.into_iter().flatten().flatten().collect())
    }

    /// The lanes of a landing.
    pub(super) fn lanes(&mut self, landing: &str) -> StoreResult<Vec<LaneId>> {
        let sql = format!("select lane from {} where landing = {}", self.table(LANES), self.literal(landing));
        Ok(self.session.query(&sql)?.into_iter().flatten().flatten().map(LaneId::named).collect())
    }

    /// All batches of the lanes of a landing.
    pub(super) fn holdings(&mut self, landing: &str) -> StoreResult<Vec<NotedLane>> {
        let lanes = format!("select id, lane from {} where landing = {}", self.table(LANES), self.literal(landing));
        let mut found = Vec::new();
        for row in self.session.query(&lanes)? {
            let [Some(id), Some(lane)] = &row[..] else { continue };
            let sql =
                format!("select ledger, number, ranges from {} where lane = {id} order by number", self.table(BATCHES));
            let batches = self.session.query(&sql)?.iter().filter_map(noted).collect();
            found.push(NotedLane { lane: LaneId::named(lane.as_str()), batches, read_to: None });
        }
        Ok(found)
    }

    /// The last place in the order of opening that a batch of any landing beside the table carries.
    pub(super) fn order(&mut self) -> StoreResult<u64> {
        let sql = format!("select coalesce(max(id), 0) from {}", self.table(BATCHES));
        let last = number(&self.session.query(&sql)?).unwrap_or(0);
        Ok(u64::try_from(last >> LANE_BITS).unwrap_or(0))
    }

    /// Notes a batch; false where it is noted already.
    pub(super) fn note(
        &mut self,
        id: i64,
        lane: i64,
        batch: &BatchIdentity,
        ranges: &Ranges,
        rows: u64,
        refused: u64,
    ) -> StoreResult<bool> {
        let ranges = serde_json::to_string(ranges).unwrap_or_default();
        let values = format!(
            "({id}, {lane}, {}, {}, {}, {rows}, {refused}, 0)",
            batch.number,
            self.literal(&batch.ledger),
            self.literal(&ranges)
        );
        let into = format!("{} (id, lane, number, ledger, ranges, landed, refused, older)", self.table(BATCHES));
        let sql = (self.session.spelling().insert_new)(&into, &values);
        Ok(self.session.execute(&sql)? == 1)
    }

    /// Corrects what a batch has landed.
    pub(super) fn correct(&mut self, id: i64, rows: u64, refused: u64, older: u64) -> StoreResult<()> {
        let table = self.table(BATCHES);
        let sql = format!("update {table} set landed = {rows}, refused = {refused}, older = {older} where id = {id}");
        self.session.execute(&sql).map(|_| ())
    }

    /// A batch whose place another one took has no rows any more.
    pub(super) fn empty(&mut self, id: i64) -> StoreResult<()> {
        self.correct(id, 0, 0, 0)
    }

    /// The ledger that noted a batch.
    pub(super) fn ledger_of(&mut self, id: i64) -> StoreResult<Option<String>> {
        let sql = format!("select ledger from {} where id = {id}", self.table(BATCHES));
        Ok(self.session.query(&sql)?.into_iter().next().and_then(|row| row.into_iter().next().flatten()))
    }

    /// How many rows a batch has landed.
    pub(super) fn landed_of(&mut self, id: i64) -> StoreResult<u64> {
        let sql = format!("select landed from {} where id = {id}", self.table(BATCHES));
        Ok(number(&self.session.query(&sql)?).and_then(|n| u64::try_from(n).ok()).unwrap_or(0))
    }

    /// Notes refused rows.
    pub(super) fn refuse(&mut self, id: i64, rows: &[RefusedRow]) -> StoreResult<()> {
        let spelling = self.session.spelling();
        let table = self.table(REFUSED);
        for (place, part) in rows.chunks(100).enumerate() {
            let values: Vec<String> = part
                .iter()
                .enumerate()
                .map(|(i, row)| {
                    let column = row.column.as_deref().map_or("null".into(), spelling.literal);
                    format!(
                        "({id}, {}, {}, {}, {}, {column}, {}, {})",
                        place * 100 + i,
                        (spelling.literal)(&row.partition),
                        row.position.major,
                        row.position.minor,
                        (spelling.literal)(&row.message),
                        (spelling.bytes)(&row.bytes),
                    )
                })
                .collect();
            let columns = "batch, place, source, position, within, column_name, message, event";
            self.session.execute(&format!("insert into {table} ({columns}) values {}", values.join(", ")))?;
        }
        Ok(())
    }

    /// The refused rows of a batch.
    pub(super) fn refused(&mut self, id: i64) -> StoreResult<Vec<RefusedRow>> {
        let sql = format!(
            "select source, position, within, column_name, message, {}, place from {} where batch = {id} order by place",
            self.session.hex("event"),
            self.table(REFUSED),
        );
        let mut rows = self.session.query(&sql)?;
        // Without transactions a try that was broken off may have noted them already.
        rows.dedup_by(|a, b| a.last() == b.last());
        Ok(rows.into_iter().map(refused_row).collect())
    }

    /// The newest batches of the landings in a table; all where no name is given.
    pub(super) fn batches(&mut self, landing: &str, last: usize) -> StoreResult<Vec<StoredBatch>> {
        let lanes = format!("select id, lane from {} where landing = {}", self.table(LANES), self.literal(landing));
        let lanes = self.session.query(&lanes)?;
        let text = |row: &AnswerRow, i: usize| row.get(i).cloned().flatten().unwrap_or_default();
        if lanes.is_empty() {
            return Ok(Vec::new());
        }
        let ids: Vec<String> = lanes.iter().map(|row| text(row, 0)).collect();
        let sql = format!(
            "select lane, number, landed, refused, {}, id from {} b where lane in ({}) order by landed_at desc, id desc \
             limit {last}",
            self.session.spelling().landed_micros,
            self.table(BATCHES),
            ids.join(", "),
        );
        let rows = self.session.query(&sql)?;
        let count = |row: &AnswerRow, i: usize| text(row, i).parse().unwrap_or(0);
        let lane = |id: &str| lanes.iter().find(|l| text(l, 0) == id).map_or(String::new(), |l| text(l, 1));
        Ok(rows
            .iter()
            .map(|row| StoredBatch {
                landing: landing.to_string(),
                lane: lane(&text(row, 0)),
                number: count(row, 1),
                rows: count(row, 2),
                refused: count(row, 3),
                there: None,
                landed_at: text(row, 4).parse().unwrap_or(0),
                id: text(row, 5).parse().unwrap_or(0),
            })
            .collect())
    }

    /// How many rows of a table carry the numbers of batches, in one pass over it.
    pub(super) fn count(&mut self, table: &str, batches: &mut [StoredBatch]) -> StoreResult<()> {
        if batches.is_empty() {
            return Ok(());
        }
        let column = (self.session.spelling().quote)(super::shape::BATCH);
        let ids: Vec<String> = batches.iter().map(|b| b.id.to_string()).collect();
        let sql =
            format!("select {column}, count(*) from {table} where {column} in ({}) group by {column}", ids.join(", "));
        let counted = self.session.query(&sql)?;
        for batch in batches {
            let own = counted.iter().find(|row| row[0].as_deref() == Some(batch.id.to_string().as_str()));
            batch.there = Some(own.and_then(|row| row.get(1)?.as_ref()?.parse().ok()).unwrap_or(0));
        }
        Ok(())
    }
}

fn noted(row: &AnswerRow) -> Option<NotedBatch> {
    let text = |i: usize| row.get(i)?.as_deref();
    Some(NotedBatch {
        ledger: text(0)?.to_string(),
        number: text(1)?.parse().ok()?,
        ranges: serde_json::from_str(text(2)?).unwrap_or_default(),
    })
}

fn refused_row(row: AnswerRow) -> RefusedRow {
    let mut values = row.into_iter();
    let mut next = || values.next().flatten();
    RefusedRow {
        partition: next().unwrap_or_default().into(),
        position: Position {
            major: next().and_then(|n| n.parse().ok()).unwrap_or(0),
            minor: next().and_then(|n| n.parse().ok()).unwrap_or(0),
        },
        column: next(),
        message: next().unwrap_or_default(),
        bytes: unhex(&next().unwrap_or_default()),
    }
}

/// Bytes as hexadecimal digits.
pub(crate) fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write as _;
    let mut out = String::with_capacity(bytes.len() * 2);
    for byte in bytes {
        let _ = write!(out, "{byte:02x}");
    }
    out
}

fn unhex(text: &str) -> Vec<u8> {
    text.as_bytes()
        .chunks_exact(2)
        .filter_map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok())
        .collect()
}

/// The failure of a batch that a store holds from another ledger.
pub(super) fn foreign(batch: &BatchIdentity, ledger: &str) -> Outcome<()> {
    if batch.ledger == ledger {
        return Ok(());
    }
    Err(Failure::findings(format!("{batch} has landed already, from another ledger ({ledger})")).with_help(
        "two checkouts, or a restored ledger, write to the same landing; `run --adopt` continues after what the store holds",
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_batches_grow_with_the_order_of_opening_and_never_meet() {
        assert_eq!(batch_id(1, 0), 1);
        // A later batch has a larger number, whichever lane it is of.
        assert!(batch_id(1, 5) < batch_id(1, 6) && batch_id(2, 5) < batch_id(1, 6) && batch_id(1, 5) < batch_id(2, 5));
    }

    #[test]
    fn bytes_survive_as_digits() {
        let all: Vec<u8> = (0..=255).collect();
        assert_eq!(unhex(&hex(&all)), all);
    }
}
