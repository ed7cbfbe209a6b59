//! What stations that remember keep.

use rusqlite::{Connection, OptionalExtension as _, params};
use sluice_core::batch::LaneId;
use sluice_core::state::{Changed, KeptPart, KeyRange, Passed, StateSize, StationChanges};

type Sql<T> = rusqlite::Result<T>;

/// Keys of an order by ends that are read at a time.
const PASSED_AT_A_TIME: usize = if cfg!(test) { 2 } else { 10_000 };

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
        station.changed.gone.iter().try_for_each(|range| remove_range(connection, id, range))?;
        if let Some(ended) = &station.changed.ended {
            pass_named(connection, id, ended)?;
        }
        let mut all_due: Option<i64> = None;
        let mut keys: Vec<u8> = Vec::new();
        for change in &station.changed.changes {
            match &change.value {
                Some(value) => put.execute(params![id, change.key, value, change.due])?,
                None => remove.execute(params![id, change.key])?,
            };
            if let Some(due) = change.due {
                all_due = Some(all_due.map_or(due, |all| all.max(due)));
                // Keys are far shorter than 4 GiB.
                keys.extend(u32::try_from(change.key.len()).unwrap_or(u32::MAX).to_le_bytes());
                keys.extend(&*change.key);
            }
        }
        if let Some(due) = all_due {
            let sql = "insert into state_due values (?1, ?2, ?3, ?4)";
            connection.prepare_cached(sql)?.execute(params![id, batch, due, keys])?;
        }
        if let Some(due) = station.changed.due {
            forget(connection, id, due)?;
        }
    }
    Ok(())
}

/// Removes keys that have expired. A key that was kept again expires later, with its newer batch.
fn forget(connection: &Connection, station: i64, due: i64) -> Sql<()> {
    let sql = "delete from state_due where station = ?1 and due <= ?2 returning keys";
    let mut over = connection.prepare_cached(sql)?;
    let lists: Vec<Vec<u8>> = over.query_map(params![station, due], |r| r.get(0))?.collect::<Sql<_>>()?;
    let mut remove = connection.prepare_cached("delete from state where station = ?1 and key = ?2 and due <= ?3")?;
    for list in lists {
        let mut rest = list.as_slice();
        while let Some((length, more)) = rest.split_first_chunk::<4>() {
            let length = usize::try_from(u32::from_le_bytes(*length)).unwrap_or(usize::MAX);
            let Some((key, more)) = more.split_at_checked(length) else { break };
            remove.execute(params![station, key, due])?;
            rest = more;
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
    // One transaction for all: else the file is locked and looked at for each key.
    let _reading = connection.unchecked_transaction()?;
    let Some(id) = id_of(connection, pipeline, lane, station)? else { return Ok(vec![None; keys.len()]) };
    let mut find = connection.prepare_cached("select value from state where station = ?1 and key = ?2")?;
    keys.iter().map(|key| find.query_row(params![id, key], |r| r.get(0)).optional()).collect()
}

/// The first of the keys of each range that a station keeps.
pub(super) fn parts(
    connection: &Connection,
    (pipeline, lane, station): (&str, &LaneId, &str),
    ranges: &[KeyRange],
    most: usize,
) -> Sql<Vec<KeptPart>> {
    // One transaction for all: else the file is locked and looked at for each range.
    let _reading = connection.unchecked_transaction()?;
    let Some(id) = id_of(connection, pipeline, lane, station)? else { return Ok(vec![KeptPart::new(); ranges.len()]) };
    let most = i64::try_from(most).unwrap_or(i64::MAX);
    let read = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get(1)?));
    let statement = |and: &str| {
        let sql = "select key, value from state where station = ?1 and key >= ?2";
        connection.prepare_cached(&format!("{sql}{and} order by key limit ?3"))
    };
    let (mut bounded, mut open) = (statement(" and key < ?4")?, statement("")?);
    let part = |range: &KeyRange| match &range.to {
        Some(to) => bounded.query_map(params![id, range.from, most, to], read)?.collect(),
        None => open.query_map(params![id, range.from, most], read)?.collect(),
    };
    ranges.iter().map(part).collect()
}

/// Removes the keys of a range of an order by ends with what they name; what goes on gets another place in the order.
fn pass_named(connection: &Connection, station: i64, range: &KeyRange) -> Sql<()> {
    let name = format!("cast(x'{:02x}' || substr(e.key, {}) as blob)", Changed::NAMED, Changed::BEFORE_NAME + 1);
    let sql = format!(
        "select e.key, s.value from state e left join state s on s.station = ?1 and s.key = {name}
         where e.station = ?1 and e.key >= ?2 and (?3 is null or e.key < ?3) order by e.key limit ?4"
    );
    let mut find = connection.prepare_cached(&sql)?;
    let mut remove = connection.prepare_cached("delete from state where station = ?1 and key = ?2")?;
    let mut put = connection.prepare_cached(
        "insert into state values (?1, ?2, ?3, null) on conflict do update set value = excluded.value",
    )?;
    let most = i64::try_from(PASSED_AT_A_TIME).unwrap_or(i64::MAX);
    let mut part = range.clone();
    loop {
        let read = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get(1)?));
        let found: Vec<(Vec<u8>, Option<Vec<u8>>)> =
            find.query_map(params![station, part.from, part.to, most], read)?.collect::<Sql<_>>()?;
        for (by_end, value) in &found {
            let Some(value) = value else { continue };
            let named = Changed::named_by(by_end);
            match Changed::passed(by_end, value, range.to.as_deref()) {
                Passed::Elsewhere => {}
                Passed::Over => drop(remove.execute(params![station, named])?),
                Passed::Later(by_end, value) => {
                    put.execute(params![station, by_end, [0_u8; 0]])?;
                    put.execute(params![station, named, value])?;
                }
            }
        }
        match found.last() {
            Some((last, _)) if found.len() == PASSED_AT_A_TIME => part.from = [last, &[0][..]].concat().into(),
            _ => return remove_range(connection, station, range),
        }
    }
}

/// Removes the keys of a range.
fn remove_range(connection: &Connection, station: i64, range: &KeyRange) -> Sql<()> {
    let sql = "delete from state where station = ?1 and key >= ?2";
    match &range.to {
        Some(to) => {
            connection.prepare_cached(&format!("{sql} and key < ?3"))?.execute(params![station, range.from, to])?
        }
        None => connection.prepare_cached(sql)?.execute(params![station, range.from])?,
    };
    Ok(())
}

/// The stations that keep something.
pub(super) fn stations(connection: &Connection, pipeline: &str) -> Sql<Vec<(LaneId, String)>> {
    let sql = "select s.lane, s.station from state_station s
               where s.pipeline = ?1 and exists (select 1 from state d where d.station = s.id) order by s.lane, s.station";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map([pipeline], |r| Ok((LaneId::named(r.get::<_, String>(0)?), r.get(1)?)))?;
    rows.collect()
}

pub(super) fn sizes(connection: &Connection, pipeline: &str) -> Sql<Vec<StateSize>> {
    // One station after the other: grouping all of it at once would sort it.
    let sql = "select s.id, s.lane, s.station from state_station s where s.pipeline = ?1 order by s.lane, s.station";
    let mut statement = connection.prepare_cached(sql)?;
    let stations = statement.query_map([pipeline], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
    let stations: Vec<(i64, String, String)> = stations.collect::<Sql<_>>()?;
    let sql = "select count(*), coalesce(sum(length(key) + length(value)), 0) from state where station = ?1";
    let mut size = connection.prepare_cached(sql)?;
    let mut found = Vec::new();
    for (id, lane, station) in stations {
        let (keys, bytes) = size.query_row([id], |r| Ok((r.get(0)?, r.get(1)?)))?;
        found.push(StateSize { lane: LaneId::named(lane), station, keys, bytes });
    }
    found.retain(|size| size.keys > 0);
    Ok(found)
}
