//! What stations that remember keep.

use rusqlite::{Connection, OptionalExtension as _, params};
use sluice_core::batch::LaneId;
use sluice_core::state::{StateSize, StationChanges};

type Sql<T> = rusqlite::Result<T>;

/// Writes the changes of a batch, within the transaction of its seal.
pub(super) fn put(
    connection: &Connection,
    (pipeline, lane, batch): (&str, &str, u64),
    all: &[StationChanges],
) -> Sql<()> {
    for station in all {
        let sql = "insert into state_station (pipeline, lane, station, manner, batch) values (?1, ?2, ?3, ?4, ?5)
                   on conflict do update set manner = excluded.manner, batch = excluded.batch returning id";
        let row = params![pipeline, lane, station.station, station.manner, batch];
        let id: i64 = connection.prepare_cached(sql)?.query_row(row, |r| r.get(0))?;
        let mut put = connection.prepare_cached(
            "insert into state values (?1, ?2, ?3, ?4)
             on conflict do update set value = excluded.value, due = excluded.due",
        )?;
        let mut remove = connection.prepare_cached("delete from state where station = ?1 and key = ?2")?;
        for change in &station.changes {
            match &change.value {
                Some(value) => put.execute(params![id, change.key, value, change.due])?,
                None => remove.execute(params![id, change.key])?,
            };
        }
        if let Some(due) = station.due {
            connection
                .prepare_cached("delete from state where station = ?1 and due <= ?2")?
                .execute(params![id, due])?;
        }
    }
    Ok(())
}

fn id_of(connection: &Connection, pipeline: &str, lane: &LaneId, station: &str) -> Sql<Option<i64>> {
    let sql = "select id from state_station where pipeline = ?1 and lane = ?2 and station = ?3";
    let row = params![pipeline, lane.as_str(), station];
    connection.prepare_cached(sql)?.query_row(row, |r| r.get(0)).optional()
}

/// What a station was, and the last batch that went through it.
pub(super) fn station(
    connection: &Connection,
    pipeline: &str,
    lane: &LaneId,
    station: &str,
) -> Sql<Option<(String, u64)>> {
    let sql = "select manner, batch from state_station where pipeline = ?1 and lane = ?2 and station = ?3";
    let row = params![pipeline, lane.as_str(), station];
    connection.prepare_cached(sql)?.query_row(row, |r| Ok((r.get(0)?, r.get(1)?))).optional()
}

pub(super) fn values(
    connection: &Connection,
    pipeline: &str,
    lane: &LaneId,
    station: &str,
    keys: &[&[u8]],
) -> Sql<Vec<Option<Vec<u8>>>> {
    let Some(id) = id_of(connection, pipeline, lane, station)? else { return Ok(vec![None; keys.len()]) };
    let mut find = connection.prepare_cached("select value from state where station = ?1 and key = ?2")?;
    keys.iter().map(|key| find.query_row(params![id, key], |r| r.get(0)).optional()).collect()
}

/// A part of what a station keeps, after a key; empty where there is no more.
pub(super) fn part(
    connection: &Connection,
    (pipeline, lane, station): (&str, &LaneId, &str),
    after: Option<&[u8]>,
    count: u32,
) -> Sql<Vec<(Vec<u8>, Vec<u8>)>> {
    let Some(id) = id_of(connection, pipeline, lane, station)? else { return Ok(Vec::new()) };
    let sql = match after {
        Some(_) => "select key, value from state where station = ?1 and key > ?2 order by key limit ?3",
        None => "select key, value from state where station = ?1 and ?2 is null order by key limit ?3",
    };
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map(params![id, after, count], |r| Ok((r.get(0)?, r.get(1)?)))?;
    rows.collect()
}

pub(super) fn sizes(connection: &Connection, pipeline: &str) -> Sql<Vec<StateSize>> {
    let sql = "select s.lane, s.station, count(*), sum(length(d.key) + length(d.value))
               from state_station s join state d on d.station = s.id
               where s.pipeline = ?1 group by s.id order by s.lane, s.station";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map([pipeline], |r| {
        let lane: String = r.get(0)?;
        Ok(StateSize { lane: LaneId::named(lane), station: r.get(1)?, keys: r.get(2)?, bytes: r.get(3)? })
    })?;
    rows.collect()
}
