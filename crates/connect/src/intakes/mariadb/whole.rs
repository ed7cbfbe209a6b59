//! Reads a table without a key whole, under a consistent snapshot of which the server says where in the log it stands.

use sluice_core::failure::Outcome;
use sluice_core::kinds::Settings;

use super::catalog::{MariadbCatalog, MariadbColumn};
use super::load::{query, read_rows, snapshot, writer};
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::loader::dropped;
use crate::intakes::feed::whole::{Keeper, ReadTable};

/// Rows are kept a part at a time.
const PART: u64 = 1_000;

/// What reads a table, each time again.
pub(super) fn reading(feed: FeedTable, settings: Settings) -> ReadTable {
    Box::new(move |keeper| read(&feed, &settings, false, keeper))
}

/// What reads a table with a key once, as it is now.
pub(super) fn reading_now(feed: FeedTable, settings: Settings) -> ReadTable {
    Box::new(move |keeper| read(&feed, &settings, true, keeper))
}

fn read(feed: &FeedTable, settings: &Settings, keyed: bool, keeper: &mut Keeper) -> Outcome<u64> {
    let mut catalog = MariadbCatalog::open(settings)?;
    let table = catalog.table(&feed.name)?.ok_or_else(|| dropped(&feed.name))?;
    let columns: Vec<&MariadbColumn> = table.columns.iter().filter(|c| feed.takes(&c.name)).collect();
    let query = query(&table, &columns, &[], "", u64::MAX);
    let at = snapshot(&mut catalog)?;
    let mut rows = writer(&columns, feed, keyed);
    read_rows(&mut catalog, &query, &columns, &mut rows, |rows| match rows.rows.len() < PART {
        true => Ok(()),
        false => keeper.keep(&mut rows.rows),
    })?;
    keeper.keep(&mut rows.rows)?;
    catalog.rows("commit")?;
    Ok(at)
}
