//! Reads a table without a key whole: at the place in the log at which a temporary slot begins, under the snapshot that the
//! server gives for just that place.

use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::Settings;

use super::catalog::{Catalog, SourceColumn, parse_lsn, wanted};
use super::load::{begin, copy_rows, writer};
use super::wire::{self, Wire};
use crate::databases::postgres::{literal, quote};
use crate::databases::{Server, wait};
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::loader::dropped;
use crate::intakes::feed::whole::{Keeper, ReadTable};

/// Rows are kept a part at a time.
const PART: u64 = 1_000;

/// What reads a table, each time again.
pub(super) fn reading(server: Server, feed: FeedTable, settings: Settings) -> ReadTable {
    Box::new(move |keeper| {
        // The slot ends with its connection: that of one that was lost may still be there.
        let slot = format!("sluice_whole_{}", uuid::Uuid::new_v4().simple());
        read(&server, &slot, &feed, &settings, keeper)
    })
}

fn read(server: &Server, slot: &str, feed: &FeedTable, settings: &Settings, keeper: &mut Keeper) -> Outcome<u64> {
    let catalog = Catalog::open(settings)?;
    let mut wire = wait(Wire::connect(server)).map_err(|e| wire::failed(&catalog.shown, e))?;
    let made = format!("CREATE_REPLICATION_SLOT {} TEMPORARY LOGICAL pgoutput EXPORT_SNAPSHOT", quote(slot));
    let made = wait(wire::ask(&mut wire, &made)).map_err(|failure| failure.with_help(super::slot::REMEDY))?;
    let text = |i: usize| made.first().and_then(|row| row.get(i).cloned().flatten()).unwrap_or_default();
    let at =
        parse_lsn(&text(1)).ok_or_else(|| Failure::internal("the server does not report where its slot begins"))?;
    catalog.run(&format!(
        "begin isolation level repeatable read read only; set transaction snapshot {}",
        literal(&text(2))
    ))?;
    // Neither slot nor snapshot is needed any more.
    drop(wire);
    copy(&catalog, feed, false, keeper)?;
    catalog.run("commit")?;
    Ok(at)
}

/// What reads a table with a key once, as it is now; see [`begin`] for the place that it gives.
pub(super) fn reading_now(feed: FeedTable, settings: Settings) -> ReadTable {
    Box::new(move |keeper| {
        let catalog = Catalog::open(&settings)?;
        let (_, at) = begin(&catalog)?;
        copy(&catalog, &feed, true, keeper)?;
        catalog.run("commit")?;
        Ok(at)
    })
}

/// Hands all rows of a table to a keeper.
fn copy(catalog: &Catalog, feed: &FeedTable, keyed: bool, keeper: &mut Keeper) -> Outcome<()> {
    let table = catalog.table(&feed.name)?.ok_or_else(|| dropped(&feed.name))?;
    let columns: Vec<&SourceColumn> = wanted(&table, feed.contract.as_deref());
    let names: Vec<String> = columns.iter().map(|c| quote(&c.name)).collect();
    let query = format!("copy (select {} from {}) to stdout", names.join(", "), table.quoted());
    let mut rows = writer(&columns, feed, keyed);
    copy_rows(catalog, &query, &mut rows, |rows| match rows.rows.len() < PART {
        true => Ok(()),
        false => keeper.keep(&mut rows.rows),
    })
    .map_err(|broken| broken.failure(catalog))?;
    keeper.keep(&mut rows.rows)
}
