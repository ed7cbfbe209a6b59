//! Which fields events have had. The row whose field has an empty name counts the events themselves.

use rusqlite::{Connection, Row, params};
use sluice_core::drift::{FieldExample, FieldRecord, FieldSeen, MOST_FIELDS, SeenFields};

type Sql<T> = rusqlite::Result<T>;

/// Adds what a batch had, within the transaction of its seal.
pub(super) fn put(
    connection: &Connection,
    pipeline: &str,
    (batch, at): (&str, i64),
    all: &[(String, SeenFields)],
) -> Sql<()> {
    for (event, seen) in all {
        let of_event = params![pipeline, event, seen.events];
        let sql = "update field set since = since + ?3 where pipeline = ?1 and event = ?2 and field <> ''";
        connection.prepare_cached(sql)?.execute(of_event)?;
        for (field, seen_field) in &seen.fields {
            put_field(connection, (pipeline, event, field), (batch, at), seen.events, seen_field)?;
        }
        let sql = "insert into field (pipeline, event, field, before, filled, since, first_batch, last_batch, unfit)
                   values (?1, ?2, '', 0, ?3, 0, '', '', 0)
                   on conflict do update set filled = filled + excluded.filled";
        connection.prepare_cached(sql)?.execute(of_event)?;
    }
    Ok(())
}

fn put_field(
    connection: &Connection,
    (pipeline, event, field): (&str, &str, &str),
    (batch, at): (&str, i64),
    events: u64,
    seen: &FieldSeen,
) -> Sql<()> {
    let parts = |example: &Option<FieldExample>| match example {
        Some(e) => (Some(e.partition.to_string()), Some(e.position.clone()), Some(e.text.clone())),
        None => (None, None, None),
    };
    let (first, unfit) = (parts(&seen.first), parts(&seen.first_unfit));
    let batch = if seen.filled > 0 { batch } else { "" };
    let sql = "
        insert into field
        select ?1, ?2, ?3, coalesce((select filled from field where pipeline = ?1 and event = ?2 and field = ''), 0),
               ?4, ?5, ?6, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14
        where (select count(*) from field where pipeline = ?1 and event = ?2) <= ?15
           or exists (select 1 from field where pipeline = ?1 and event = ?2 and field = ?3)
        on conflict do update set
          filled = filled + excluded.filled,
          since = case when excluded.filled > 0 then 0 else since end,
          first_batch = case when first_batch = '' then excluded.first_batch else first_batch end,
          last_batch = case when excluded.filled > 0 then excluded.last_batch else last_batch end,
          first_partition = coalesce(first_partition, excluded.first_partition),
          first_position = coalesce(first_position, excluded.first_position),
          first_text = coalesce(first_text, excluded.first_text),
          unfit = unfit + excluded.unfit,
          unfit_partition = coalesce(unfit_partition, excluded.unfit_partition),
          unfit_position = coalesce(unfit_position, excluded.unfit_position),
          unfit_text = coalesce(unfit_text, excluded.unfit_text),
          unfit_at = coalesce(excluded.unfit_at, unfit_at)";
    let since = if seen.filled > 0 { 0 } else { events };
    let unfit_at = (seen.unfit > 0).then_some(at);
    connection.prepare_cached(sql)?.execute(params![
        pipeline,
        event,
        field,
        seen.filled,
        since,
        batch,
        first.0,
        first.1,
        first.2,
        seen.unfit,
        unfit.0,
        unfit.1,
        unfit.2,
        unfit_at,
        MOST_FIELDS,
    ])?;
    Ok(())
}

/// All of a pipeline.
pub(super) fn all(connection: &Connection, pipeline: &str) -> Sql<Vec<FieldRecord>> {
    let sql = "select event, field, before, filled, since, first_batch, last_batch, first_partition, first_position,
                      first_text, unfit, unfit_partition, unfit_position, unfit_text, unfit_at
               from field where pipeline = ?1 order by event, field";
    let example = |row: &Row<'_>, from: usize| -> Sql<Option<FieldExample>> {
        let Some(partition) = row.get::<_, Option<String>>(from)? else { return Ok(None) };
        Ok(Some(FieldExample { partition: partition.into(), position: row.get(from + 1)?, text: row.get(from + 2)? }))
    };
    let one = |row: &Row<'_>| -> Sql<FieldRecord> {
        Ok(FieldRecord {
            event: row.get(0)?,
            field: row.get(1)?,
            before: row.get(2)?,
            filled: row.get(3)?,
            since: row.get(4)?,
            first_batch: row.get(5)?,
            last_batch: row.get(6)?,
            first: example(row, 7)?,
            unfit: row.get(10)?,
            first_unfit: example(row, 11)?,
            unfit_at: row.get(14)?,
        })
    };
    connection.prepare(sql)?.query_map([pipeline], one)?.collect()
}
