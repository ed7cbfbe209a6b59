//! What changes the ledger. Each function is one transaction.

use rusqlite::{Connection, TransactionBehavior, params};
use sluice_core::batch::{BatchIdentity, LaneId, Range, Reread, Staged};
use sluice_core::drift::batch_name;
use sluice_core::kinds::PartitionPosition;
use sluice_core::ledger::{AdoptedBatch, Adoption, RunEnd, TakenLane};
use sluice_core::plan::{LedgerName, LedgerNameKind, SealedTexts};
use sluice_core::state::WATERMARKS_STATION;

use super::{fields, state};

type Sql<T> = rusqlite::Result<T>;

/// The present moment, as the ledger keeps it.
const NOW: &str = "cast(unixepoch('subsec') * 1000000 as integer)";

pub(super) fn take_lane(connection: &mut Connection, pipeline: &str, lane: &LaneId) -> Sql<TakenLane> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let sql = "insert into lane (pipeline, lane, epoch, sealed) values (?1, ?2, 1, 0)
               on conflict do update set epoch = epoch + 1 returning epoch, sealed";
    let (epoch, sealed): (u64, u64) =
        transaction.query_row(sql, params![pipeline, lane.as_str()], |r| Ok((r.get(0)?, r.get(1)?)))?;
    // What was open when its process ended was never sealed: it is read again under the same number.
    let sql = "delete from batch where pipeline = ?1 and lane = ?2 and state = 'open'";
    transaction.execute(sql, params![pipeline, lane.as_str()])?;
    transaction.commit()?;
    Ok(TakenLane { lane: lane.clone(), epoch, next: sealed + 1 })
}

pub(super) fn open_batch(connection: &mut Connection, batch: &BatchIdentity, opened_at: i64) -> Sql<u64> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let opened = next_opened(&transaction)?;
    let sql =
        "insert into batch (pipeline, lane, number, state, opened_at, opened) values (?1, ?2, ?3, 'open', ?4, ?5)";
    transaction.execute(sql, params![batch.pipeline, batch.lane.as_str(), batch.number, opened_at, opened])?;
    transaction.commit()?;
    Ok(opened)
}

/// False where the lane was taken over, or the number is not its next.
pub(super) fn seal(connection: &mut Connection, staged: &Staged, epoch: u64) -> Sql<bool> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let id = &staged.identity;
    let (pipeline, lane, number) = (&id.pipeline, id.lane.as_str(), id.number);
    let sql = "update lane set sealed = ?3 where pipeline = ?1 and lane = ?2 and epoch = ?4 and sealed = ?3 - 1";
    if transaction.execute(sql, params![pipeline, lane, number, epoch])? != 1 {
        return Ok(false);
    }
    let digest = put_texts(&transaction, &staged.texts)?;
    let sql = format!(
        "update batch set state = 'sealed', sealed_at = {NOW}, read = ?4, bytes = ?5, rejected = ?6, text = ?7, marks = ?8
         where pipeline = ?1 and lane = ?2 and number = ?3 and state = 'open'"
    );
    // Numbers and names always are JSON.
    let marks = staged.marks.as_ref().and_then(|marks| serde_json::to_string(marks).ok());
    let (read, bytes, rejected) = (staged.read, staged.bytes, staged.rejected);
    let changed = transaction.execute(&sql, params![pipeline, lane, number, read, bytes, rejected, digest, marks])?;
    if changed != 1 {
        return Ok(false);
    }
    insert_ranges(&transaction, id, &staged.ranges.0)?;
    // What is read again moves no position.
    for range in staged.ranges.0.iter().filter(|_| !id.lane.is_out_of_order()) {
        move_position(&transaction, pipeline, &id.lane, range)?;
    }
    if let Some(reread) = &staged.reread {
        put_reread(&transaction, id, reread)?;
    }
    for (place, count) in staged.counts.iter().enumerate() {
        let sql = "insert into batch_count values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)";
        let c = count;
        transaction.prepare_cached(sql)?.execute(params![
            pipeline,
            lane,
            number,
            place,
            c.station,
            c.input,
            c.output,
            c.filtered,
            c.merged,
            c.rejected,
            c.held,
            c.repeated,
            c.made,
            c.unmatched
        ])?;
    }
    for (place, taken) in staged.works.iter().enumerate() {
        let sql = "insert into batch_landing (pipeline, lane, number, place, landing, rows, bytes, work, newest)
                   values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
        let newest = staged.counts.iter().find(|count| count.station == taken.landing).and_then(|count| count.newest);
        let work = taken.work.detail.to_string();
        transaction.prepare_cached(sql)?.execute(params![
            pipeline,
            lane,
            number,
            place,
            taken.landing,
            taken.work.rows,
            taken.work.bytes,
            work,
            newest
        ])?;
    }
    state::put(&transaction, (pipeline, lane, number), &staged.state)?;
    // What is read again was counted when it was read first.
    if !id.lane.is_out_of_order() {
        fields::put(&transaction, pipeline, (&batch_name(id), staged.opened_at), &staged.fields)?;
    }
    transaction.commit()?;
    Ok(true)
}

fn put_reread(connection: &Connection, id: &BatchIdentity, reread: &Reread) -> Sql<()> {
    let (first_lane, first) = &reread.first;
    let sql = "insert into reread values (?1, ?2, ?3, ?4, ?5, ?6)";
    let row = params![id.pipeline, id.lane.as_str(), id.number, first_lane.as_str(), first, reread.whole];
    connection.execute(sql, row)?;
    Ok(())
}

fn insert_ranges(connection: &Connection, id: &BatchIdentity, ranges: &[Range]) -> Sql<()> {
    let sql = "insert into batch_range values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)";
    let mut insert = connection.prepare_cached(sql)?;
    for (place, r) in ranges.iter().enumerate() {
        insert.execute(params![
            id.pipeline,
            id.lane.as_str(),
            id.number,
            place,
            &*r.partition,
            r.from.major,
            r.from.minor,
            r.to.major,
            r.to.minor,
            r.identity
        ])?;
    }
    Ok(())
}

fn move_position(connection: &Connection, pipeline: &str, lane: &LaneId, range: &Range) -> Sql<()> {
    let (arrival, partition) = lane.arrival_of(&range.partition);
    let to = PartitionPosition { partition: partition.into(), position: range.to, identity: range.identity.clone() };
    put_position(connection, pipeline, arrival, &to, "update")
}

/// Writes one position; `or_else` says what becomes of one that is there.
fn put_position(
    connection: &Connection,
    pipeline: &str,
    arrival: &str,
    to: &PartitionPosition,
    or_else: &str,
) -> Sql<()> {
    let conflict = match or_else {
        "update" => "update set major = excluded.major, minor = excluded.minor, identity = excluded.identity",
        _ => "nothing",
    };
    let sql = format!("insert into position values (?1, ?2, ?3, ?4, ?5, ?6) on conflict do {conflict}");
    let (major, minor) = (to.position.major, to.position.minor);
    let row = params![pipeline, arrival, &*to.partition, major, minor, to.identity];
    connection.prepare_cached(&sql)?.execute(row)?;
    Ok(())
}

pub(super) fn begin(
    connection: &mut Connection,
    pipeline: &str,
    arrival: &str,
    starts: &[PartitionPosition],
) -> Sql<()> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    for start in starts {
        put_position(&transaction, pipeline, arrival, start, "keep")?;
    }
    let sql = format!("insert into begun values (?1, ?2, {NOW}) on conflict do nothing");
    transaction.execute(&sql, [pipeline, arrival])?;
    transaction.commit()
}

pub(super) fn set_positions(
    connection: &mut Connection,
    pipeline: &str,
    arrival: &str,
    positions: &[PartitionPosition],
    reason: &str,
) -> Sql<()> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    for to in positions {
        let sql = format!(
            "insert into position_change
             select ?1, ?2, ?3, (select major from position where pipeline = ?1 and arrival = ?2 and partition = ?3),
                    (select minor from position where pipeline = ?1 and arrival = ?2 and partition = ?3),
                    ?4, ?5, {NOW}, ?6"
        );
        let (major, minor) = (to.position.major, to.position.minor);
        transaction.execute(&sql, params![pipeline, arrival, &*to.partition, major, minor, reason])?;
        put_position(&transaction, pipeline, arrival, to, "update")?;
        // Events that are read again would be late by the watermark of their first reading.
        let sql = "delete from state where key = ?4 and station in
                   (select id from state_station where pipeline = ?1 and station = ?3
                    and substr(lane, 1, length(?2) + 1) = ?2 || '.')";
        transaction.execute(sql, params![pipeline, arrival, WATERMARKS_STATION, to.partition.as_bytes()])?;
    }
    transaction.commit()
}

pub(super) fn begin_replay(connection: &Connection, pipeline: &str, what: &str, reason: &str) -> Sql<u64> {
    let sql = format!(
        "insert into replay (pipeline, number, what, reason, at)
         select ?1, coalesce(max(number), 0) + 1, ?2, ?3, {NOW} from replay where pipeline = ?1 returning number"
    );
    connection.query_row(&sql, params![pipeline, what, reason], |r| r.get(0))
}

pub(super) fn end_replay(connection: &Connection, pipeline: &str, number: u64) -> Sql<()> {
    let sql = format!("update replay set ended_at = coalesce(ended_at, {NOW}) where pipeline = ?1 and number = ?2");
    connection.execute(&sql, params![pipeline, number])?;
    Ok(())
}

pub(super) fn landed(
    connection: &mut Connection,
    batch: &BatchIdentity,
    landing: &str,
    refused: u64,
    unmerged: u64,
) -> Sql<()> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let (pipeline, lane, number) = (&batch.pipeline, batch.lane.as_str(), batch.number);
    let sql = format!(
        "update batch_landing set landed_at = {NOW}, rows = rows - ?5 + ?6
         where pipeline = ?1 and lane = ?2 and number = ?3 and landing = ?4 and landed_at is null"
    );
    let row = params![pipeline, lane, number, landing, refused, unmerged];
    let is_new = transaction.prepare_cached(&sql)?.execute(row)? == 1;
    if is_new && refused > 0 {
        // What the store refused goes from landed to rejected, at its station and in the batch; what had been merged
        // into a refused row and landed after all goes from merged to landed.
        let sql = "update batch_count
                   set output = output - ?5 + ?6, merged = merged - ?6, rejected = rejected + ?5
                   where pipeline = ?1 and lane = ?2 and number = ?3 and station = ?4";
        transaction.execute(sql, params![pipeline, lane, number, landing, refused, unmerged])?;
        let sql = "update batch set rejected = rejected + ?4 where pipeline = ?1 and lane = ?2 and number = ?3";
        transaction.execute(sql, params![pipeline, lane, number, refused])?;
        let sql = "update batch_landing set rows = rows + ?4
                   where pipeline = ?1 and lane = ?2 and number = ?3 and landing = 'rejects'";
        transaction.execute(sql, params![pipeline, lane, number, refused])?;
    }
    transaction.commit()
}

pub(super) fn settle(connection: &Connection, batch: &BatchIdentity) -> Sql<()> {
    let sql = format!(
        "update batch set state = 'settled', settled_at = {NOW}
         where pipeline = ?1 and lane = ?2 and number = ?3 and state = 'sealed'
           and not exists (select 1 from batch_landing l where l.pipeline = ?1 and l.lane = ?2 and l.number = ?3
                           and l.landed_at is null)"
    );
    connection.prepare_cached(&sql)?.execute(params![batch.pipeline, batch.lane.as_str(), batch.number])?;
    Ok(())
}

pub(super) fn adopt(connection: &mut Connection, pipeline: &str, adoption: &Adoption<'_>) -> Sql<()> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    transaction.execute("update ledger set opened = max(opened, ?1)", [adoption.order])?;
    let digest = put_texts(&transaction, adoption.texts)?;
    put_known(&transaction, pipeline, adoption.known, None)?;
    for (lane, adopted) in adoption.lanes {
        let sql = "insert into lane (pipeline, lane, epoch, sealed) values (?1, ?2, 1, ?3)
                   on conflict do update set sealed = max(sealed, excluded.sealed), epoch = epoch + 1";
        transaction.execute(sql, params![pipeline, lane.as_str(), adopted.last])?;
        let sql = "delete from batch where pipeline = ?1 and lane = ?2 and state = 'open'";
        transaction.execute(sql, params![pipeline, lane.as_str()])?;
        for batch in &adopted.batches {
            adopt_batch(&transaction, pipeline, lane, batch, &digest)?;
        }
        match lane.replay() {
            Some(number) => adopt_replay(&transaction, pipeline, lane, number)?,
            None => {
                for to in &adopted.positions {
                    put_position(&transaction, pipeline, lane.arrival(), to, "update")?;
                }
            }
        }
    }
    transaction.commit()
}

/// A replay that the ledger does not know: its number is taken, and what it replaced cannot be reported any more.
fn adopt_replay(connection: &Connection, pipeline: &str, lane: &LaneId, number: u64) -> Sql<()> {
    let sql = format!(
        "insert into replay (pipeline, number, what, reason, at, ended_at)
         values (?1, ?2, 'known from landings alone', 'adopted', {NOW}, {NOW}) on conflict do nothing"
    );
    connection.execute(&sql, params![pipeline, number])?;
    let sql = "update batch set state = 'adopted' where pipeline = ?1 and lane = ?2 and state = 'settled'";
    connection.execute(sql, params![pipeline, lane.main().as_str()])?;
    Ok(())
}

/// Keeps texts; gives their digest.
fn put_texts(connection: &Connection, texts: &SealedTexts) -> Sql<String> {
    let digest = texts.digest();
    let sql = "insert into text (digest, project, pipeline) values (?1, ?2, ?3) on conflict do nothing";
    connection.execute(sql, params![digest, texts.project, texts.pipeline])?;
    Ok(digest)
}

fn adopt_batch(connection: &Connection, pipeline: &str, lane: &LaneId, batch: &AdoptedBatch, texts: &str) -> Sql<()> {
    let sql = format!(
        "insert into batch (pipeline, lane, number, state, opened_at, sealed_at, settled_at, opened, text)
         values (?1, ?2, ?3, 'adopted', {NOW}, {NOW}, {NOW}, ?4, ?5) on conflict do nothing"
    );
    let opened = next_opened(connection)?;
    if connection.execute(&sql, params![pipeline, lane.as_str(), batch.number, opened, texts])? == 0 {
        // The ledger has sealed it itself.
        return Ok(());
    }
    let id =
        BatchIdentity { ledger: String::new(), pipeline: pipeline.into(), lane: lane.clone(), number: batch.number };
    insert_ranges(connection, &id, &batch.ranges.0)?;
    if let Some(reread) = &batch.reread {
        put_reread(connection, &id, reread)?;
    }
    let present = batch.present.iter().map(|landing| (landing, true));
    for (place, (landing, is_present)) in present.chain(batch.lacks.iter().map(|l| (l, false))).enumerate() {
        let landed_at = if is_present { NOW } else { "null" };
        let sql = format!(
            "insert into batch_landing (pipeline, lane, number, place, landing, rows, bytes, work, landed_at)
             values (?1, ?2, ?3, ?4, ?5, 0, 0, 'null', {landed_at})"
        );
        connection.execute(&sql, params![pipeline, lane.as_str(), batch.number, place, landing])?;
    }
    Ok(())
}

/// The next place in the order of opening.
fn next_opened(connection: &Connection) -> Sql<u64> {
    connection.prepare_cached("update ledger set opened = opened + 1 returning opened")?.query_row([], |r| r.get(0))
}

pub(super) fn note_known(
    connection: &mut Connection,
    pipeline: &str,
    known: &[LedgerName],
    reason: Option<&str>,
) -> Sql<()> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    put_known(&transaction, pipeline, known, reason)?;
    transaction.commit()
}

fn put_known(connection: &Connection, pipeline: &str, known: &[LedgerName], reason: Option<&str>) -> Sql<()> {
    for one in known {
        let kind = kind_word(one.kind);
        let sql = "insert into known values (?1, ?2, ?3, ?4, ?5)
                   on conflict do update set place = excluded.place, part = excluded.part";
        connection.execute(sql, params![pipeline, kind, one.name, one.place, one.part])?;
        if let Some(reason) = reason {
            let sql = format!("insert into choice values (?1, ?2, ?3, ?4, {NOW}, ?5)");
            connection.execute(&sql, params![pipeline, one.name, one.place, one.part, reason])?;
        }
    }
    Ok(())
}

/// How the ledger spells whose name a known name is.
pub(super) fn kind_word(kind: LedgerNameKind) -> &'static str {
    match kind {
        LedgerNameKind::Arrival => "arrival",
        LedgerNameKind::Landing => "landing",
    }
}

/// So many failures of a pipeline are kept.
const FAILURES: i64 = 1_000;

pub(super) fn note_end(connection: &mut Connection, pipeline: &str, end: Option<&RunEnd>) -> Sql<()> {
    let Some(end) = end else {
        return connection.execute("delete from run_end where pipeline = ?1", [pipeline]).map(|_| ());
    };
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let row = params![pipeline, end.kind, end.message, end.help, end.at];
    transaction.execute("insert or replace into run_end values (?1, ?2, ?3, ?4, ?5)", row)?;
    let sql = "insert into failure (pipeline, kind, message, help, at) values (?1, ?2, ?3, ?4, ?5)";
    transaction.execute(sql, row)?;
    let sql = "delete from failure where pipeline = ?1
               and id <= (select id from failure where pipeline = ?1 order by id desc limit 1 offset ?2)";
    transaction.execute(sql, params![pipeline, FAILURES])?;
    transaction.commit()
}
