//! What reads the ledger.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use sluice_core::batch::{BatchIdentity, LandingWork, LaneId, Range, Ranges, Sealed, StationCount, first_of};
use sluice_core::event::Position;
use sluice_core::kinds::{PartitionPosition, StagedWork};
use sluice_core::ledger::{
    BatchQuery, BatchRecord, BatchState, LandingRecord, PipelineTotals, PositionChange, ReplayRecord, RunEnd,
};
use sluice_core::plan::{LedgerName, LedgerNameKind, SealedTexts};
use sluice_core::reject::REJECTS;

use super::write::kind_word;

type Sql<T> = rusqlite::Result<T>;

pub(super) fn lanes(connection: &Connection, pipeline: &str) -> Sql<Vec<LaneId>> {
    let mut statement =
        connection.prepare("select lane from lane where pipeline = ?1 and lane not like '%~%' order by lane")?;
    let rows = statement.query_map([pipeline], |r| Ok(LaneId::named(r.get::<_, String>(0)?)))?;
    rows.collect()
}

pub(super) fn positions(connection: &Connection, pipeline: &str, arrival: &str) -> Sql<Vec<PartitionPosition>> {
    let sql = "select partition, major, minor, identity from position
               where pipeline = ?1 and arrival = ?2 order by partition";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map([pipeline, arrival], |r| {
        Ok(PartitionPosition {
            partition: r.get::<_, String>(0)?.into(),
            position: Position { major: r.get(1)?, minor: r.get(2)? },
            identity: r.get(3)?,
        })
    })?;
    rows.collect()
}

pub(super) fn has_begun(connection: &Connection, pipeline: &str, arrival: &str) -> Sql<bool> {
    let sql = "select exists (select 1 from begun where pipeline = ?1 and arrival = ?2)
                   or exists (select 1 from position where pipeline = ?1 and arrival = ?2)";
    connection.query_row(sql, [pipeline, arrival], |r| r.get(0))
}

pub(super) fn unfinished(connection: &Connection, ledger: &str, pipeline: &str) -> Sql<Vec<(Sealed, SealedTexts)>> {
    let sql = "select b.lane, b.number, t.project, t.pipeline from batch b join text t on t.digest = b.text
               where b.pipeline = ?1 and b.state = 'sealed' order by b.lane, b.number";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map([pipeline], |r| {
        let texts = SealedTexts { project: r.get(2)?, pipeline: r.get(3)? };
        Ok((LaneId::named(r.get::<_, String>(0)?), r.get::<_, u64>(1)?, texts))
    })?;
    let mut found = Vec::new();
    for row in rows {
        let (lane, number, texts) = row?;
        let works = landings(connection, pipeline, &lane, number)?
            .into_iter()
            .map(|l| LandingWork {
                landing: l.landing,
                landed: l.landed_at.is_some(),
                work: StagedWork { rows: l.rows, merged: 0, bytes: l.bytes, detail: l.detail },
            })
            .collect();
        let ranges = ranges(connection, pipeline, &lane, number)?;
        let identity = BatchIdentity { ledger: ledger.into(), pipeline: pipeline.into(), lane, number };
        found.push((Sealed { identity, ranges, works }, texts));
    }
    Ok(found)
}

fn ranges(connection: &Connection, pipeline: &str, lane: &LaneId, number: u64) -> Sql<Ranges> {
    let sql = "select partition, from_major, from_minor, to_major, to_minor, identity from batch_range
               where pipeline = ?1 and lane = ?2 and number = ?3 order by place";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map(params![pipeline, lane.as_str(), number], |r| {
        Ok(Range {
            partition: r.get::<_, String>(0)?.into(),
            from: Position { major: r.get(1)?, minor: r.get(2)? },
            to: Position { major: r.get(3)?, minor: r.get(4)? },
            identity: r.get(5)?,
        })
    })?;
    Ok(Ranges(rows.collect::<Sql<_>>()?))
}

fn counts(connection: &Connection, pipeline: &str, lane: &LaneId, number: u64) -> Sql<Vec<StationCount>> {
    let sql =
        "select station, input, output, filtered, merged, rejected, held, repeated, made, unmatched from batch_count
               where pipeline = ?1 and lane = ?2 and number = ?3 order by place";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map(params![pipeline, lane.as_str(), number], |r| {
        Ok(StationCount {
            station: r.get(0)?,
            input: r.get(1)?,
            output: r.get(2)?,
            filtered: r.get(3)?,
            merged: r.get(4)?,
            rejected: r.get(5)?,
            held: r.get(6)?,
            repeated: r.get(7)?,
            unmatched: r.get(9)?,
            made: r.get(8)?,
            newest: None,
        })
    })?;
    rows.collect()
}

fn landings(connection: &Connection, pipeline: &str, lane: &LaneId, number: u64) -> Sql<Vec<LandingRecord>> {
    let sql = "select landing, rows, bytes, landed_at, work, newest from batch_landing
               where pipeline = ?1 and lane = ?2 and number = ?3 order by place";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map(params![pipeline, lane.as_str(), number], |r| {
        Ok(LandingRecord {
            landing: r.get(0)?,
            rows: r.get(1)?,
            bytes: r.get(2)?,
            landed_at: r.get(3)?,
            newest: r.get(5)?,
            detail: serde_json::from_str(&r.get::<_, String>(4)?).unwrap_or_default(),
        })
    })?;
    rows.collect()
}

pub(super) fn lacks_adopted(connection: &Connection, pipeline: &str) -> Sql<bool> {
    let sql = "select exists (select 1 from batch_landing l
                              cross join batch b on b.pipeline = l.pipeline and b.lane = l.lane and b.number = l.number
                              where l.pipeline = ?1 and l.landed_at is null and b.state = 'adopted')";
    connection.query_row(sql, [pipeline], |r| r.get(0))
}

pub(super) fn batches(connection: &Connection, pipeline: &str, query: BatchQuery) -> Sql<Vec<BatchRecord>> {
    // Of one number in every lane, or the newest: each by its own index. The sign keeps the order from choosing one.
    let tail = match query.number {
        Some(_) => "and lane in (select lane from lane where pipeline = ?1) and number = ?2 order by +opened desc",
        None => "and ?2 is null order by opened desc",
    };
    let sql = format!(
        "select lane, number, state, read, bytes, rejected, opened_at, sealed_at, settled_at, text, opened, marks
         from batch where pipeline = ?1 {tail} limit coalesce(?3, -1)"
    );
    let mut statement = connection.prepare(&sql)?;
    let rows = statement.query_map(params![pipeline, query.number, query.last], record)?;
    let mut found: Vec<BatchRecord> = rows.collect::<Sql<_>>()?;
    found.reverse();
    for batch in &mut found {
        batch.ranges = ranges(connection, pipeline, &batch.lane, batch.number)?;
        batch.counts = counts(connection, pipeline, &batch.lane, batch.number)?;
        batch.landings = landings(connection, pipeline, &batch.lane, batch.number)?;
        rereads(connection, pipeline, batch)?;
        if batch.state == BatchState::Sealed && batch.landings.iter().all(|l| l.landed_at.is_some()) {
            batch.state = BatchState::Landed;
        }
    }
    Ok(found)
}

fn record(row: &Row<'_>) -> Sql<BatchRecord> {
    let state: String = row.get(2)?;
    Ok(BatchRecord {
        lane: LaneId::named(row.get::<_, String>(0)?),
        number: row.get(1)?,
        opened: row.get::<_, Option<u64>>(10)?.unwrap_or(0),
        state: match state.as_str() {
            "open" => BatchState::Open,
            "sealed" => BatchState::Sealed,
            "adopted" => BatchState::Adopted,
            _ => BatchState::Settled,
        },
        read: row.get(3)?,
        bytes: row.get(4)?,
        rejected: row.get(5)?,
        opened_at: row.get(6)?,
        sealed_at: row.get(7)?,
        settled_at: row.get(8)?,
        texts: row.get(9)?,
        ranges: Ranges::default(),
        counts: Vec::new(),
        landings: Vec::new(),
        first: None,
        whole: false,
        replaced_by: None,
        marks: row.get::<_, Option<String>>(11)?.and_then(|marks| serde_json::from_str(&marks).ok()),
    })
}

/// The batch whose events a batch reads again, and the last one that replaced it in all of its landings.
fn rereads(connection: &Connection, pipeline: &str, batch: &mut BatchRecord) -> Sql<()> {
    let sql = "select first_lane, first_number, whole from reread where pipeline = ?1 and lane = ?2 and number = ?3";
    let key = params![pipeline, batch.lane.as_str(), batch.number];
    let own = connection
        .prepare_cached(sql)?
        .query_row(key, |r| Ok(((LaneId::named(r.get::<_, String>(0)?), r.get(1)?), r.get(2)?)));
    if let Some((first, whole)) = own.optional()? {
        (batch.first, batch.whole) = (Some(first), whole);
    }
    let (first_lane, first_number) = first_of(batch);
    // The sign keeps the order of opening from choosing the index: few batches are read again.
    let sql = "select r.lane, r.number from reread r
               join batch b on b.pipeline = r.pipeline and b.lane = r.lane and b.number = r.number
               where r.pipeline = ?1 and r.first_lane = ?2 and r.first_number = ?3 and r.whole and +b.opened > ?4
                 and not exists (select 1 from batch_landing l where l.pipeline = ?1 and l.lane = ?5 and l.number = ?6
                                 and l.landing not in (select o.landing from batch_landing o where o.pipeline = ?1
                                                       and o.lane = r.lane and o.number = r.number))
               order by +b.opened desc limit 1";
    let row = params![pipeline, first_lane.as_str(), first_number, batch.opened, batch.lane.as_str(), batch.number];
    let name = |r: &Row<'_>| Ok((LaneId::named(r.get::<_, String>(0)?), r.get(1)?));
    batch.replaced_by = connection.prepare_cached(sql)?.query_row(row, name).optional()?;
    Ok(())
}

pub(super) fn last_sealed(connection: &Connection, pipeline: &str, lane: &LaneId) -> Sql<u64> {
    let sql = "select sealed from lane where pipeline = ?1 and lane = ?2";
    let found = connection.prepare_cached(sql)?.query_row(params![pipeline, lane.as_str()], |r| r.get(0));
    Ok(found.optional()?.unwrap_or(0))
}

pub(super) fn texts(connection: &Connection, digest: &str) -> Sql<SealedTexts> {
    let sql = "select project, pipeline from text where digest = ?1";
    connection.query_row(sql, [digest], |r| Ok(SealedTexts { project: r.get(0)?, pipeline: r.get(1)? }))
}

pub(super) fn known(connection: &Connection, pipeline: &str) -> Sql<Vec<LedgerName>> {
    let all = all_known(connection)?;
    Ok(all.into_iter().filter(|(of, _)| of == pipeline).map(|(_, known)| known).collect())
}

pub(super) fn all_known(connection: &Connection) -> Sql<Vec<(String, LedgerName)>> {
    let sql = "select pipeline, kind, name, place, part from known order by pipeline, kind, name";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map([], |r| {
        let is_landing = r.get::<_, String>(1)? == kind_word(LedgerNameKind::Landing);
        let kind = if is_landing { LedgerNameKind::Landing } else { LedgerNameKind::Arrival };
        Ok((r.get(0)?, LedgerName { kind, name: r.get(2)?, place: r.get(3)?, part: r.get(4)? }))
    })?;
    rows.collect()
}

pub(super) fn last_end(connection: &Connection, pipeline: &str) -> Sql<Option<RunEnd>> {
    let sql = "select kind, message, help, at from run_end where pipeline = ?1";
    let end = |r: &Row<'_>| Ok(RunEnd { kind: r.get(0)?, message: r.get(1)?, help: r.get(2)?, at: r.get(3)? });
    connection.query_row(sql, [pipeline], end).optional()
}

pub(super) fn position_changes(connection: &Connection, pipeline: &str) -> Sql<Vec<PositionChange>> {
    let sql = "select arrival, partition, old_major, old_minor, new_major, new_minor, at, reason from position_change
               where pipeline = ?1 order by rowid";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map([pipeline], |r| {
        let old: Option<u64> = r.get(2)?;
        let minor: Option<u64> = r.get(3)?;
        Ok(PositionChange {
            arrival: r.get(0)?,
            partition: r.get::<_, String>(1)?.into(),
            from: old.map(|major| Position { major, minor: minor.unwrap_or(0) }),
            to: Position { major: r.get(4)?, minor: r.get(5)? },
            at: r.get(6)?,
            reason: r.get(7)?,
        })
    })?;
    rows.collect()
}

pub(super) fn replays(connection: &Connection, pipeline: &str) -> Sql<Vec<ReplayRecord>> {
    let sql = "select number, what, reason, at, ended_at,
                      (select count(*) from batch b where b.pipeline = r.pipeline and b.lane like '%~' || r.number
                       and b.state = 'settled'),
                      (select coalesce(sum(l.rows), 0) from batch_landing l where l.pipeline = r.pipeline
                       and l.lane like '%~' || r.number and l.landing <> ?2 and l.landed_at is not null)
               from replay r where pipeline = ?1 order by number";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map(params![pipeline, REJECTS], |r| {
        Ok(ReplayRecord {
            number: r.get(0)?,
            what: r.get(1)?,
            reason: r.get(2)?,
            at: r.get(3)?,
            ended_at: r.get(4)?,
            batches: r.get(5)?,
            rows: r.get(6)?,
        })
    })?;
    rows.collect()
}

pub(super) fn totals(connection: &Connection, pipeline: &str) -> Sql<PipelineTotals> {
    let sql =
        "select coalesce(sum(settled), 0), coalesce(sum(sealed), 0), coalesce(sum(read), 0), coalesce(sum(bytes), 0),
                      coalesce(sum(rejected), 0), coalesce(sum(landed), 0), max(last_settled)
               from batch_hour where pipeline = ?1";
    connection.query_row(sql, [pipeline], |r| {
        Ok(PipelineTotals {
            batches: r.get(0)?,
            unfinished: r.get(1)?,
            read: r.get(2)?,
            bytes: r.get(3)?,
            rejected: r.get(4)?,
            landed: r.get(5)?,
            last_settled_at: r.get(6)?,
        })
    })
}
