//! Intake kind `postgres`: tables of PostgreSQL, first the rows that are there, then every change, read from its log.
//!
//! One slot and one publication serve all tables that a pipeline reads from a connection. A position is a place in the
//! log: where a transaction was committed, and a change's place therein. Only settled positions are reported to the server.

mod applier;
mod catalog;
mod check;
#[cfg(test)]
mod hostile;
mod load;
mod log;
mod pgoutput;
mod schema;
mod shapes;
pub(crate) mod silent;
mod slot;
mod stream;
mod streamed;
mod whole;
mod wire;

use std::path::PathBuf;
use std::sync::Arc;

use sluice_core::batch::Ranges;
use sluice_core::config::OptionSpec;
use sluice_core::event::Position;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{
    Behind, Intake, IntakeKind, IntakeView, LaneReader, Mark, PartitionPosition, PartitionState, Settings, TableName,
    TableShape,
};
use sluice_core::problem::Problem;

use crate::databases::Server;
use crate::intakes::feed::reader::FeedReader;
use crate::intakes::feed::schema::Policy;
use crate::intakes::feed::state::State;
use crate::intakes::feed::{FeedTable, PARTITION, identity, live, refuse_twice, sample, snapshot, whole as feed_whole};
use catalog::Catalog;
use log::PostgresLog;
use stream::StreamState;

/// Microseconds from 1970, where we count from, to 2000, where PostgreSQL does.
const MICROS: i64 = 946_684_800_000_000;

/// The kind.
pub struct Postgres;

impl IntakeKind for Postgres {
    fn name(&self) -> &'static str {
        "postgres"
    }

    fn scheme(&self) -> &'static str {
        "postgres"
    }

    fn about(&self) -> &'static str {
        "tables of PostgreSQL: the rows that are there, then every change, from its log"
    }

    fn options(&self) -> &'static [OptionSpec] {
        slot::OPTIONS
    }

    fn formats(&self) -> &'static [&'static str] {
        &["jsonl", "json"]
    }

    fn is_feed(&self) -> bool {
        true
    }

    fn check(&self, settings: &Settings) -> Vec<Problem> {
        check::check(settings)
    }

    fn open(&self, settings: &[Settings]) -> Outcome<Box<dyn Intake>> {
        Ok(Box::new(PostgresIntake(Arc::new(PostgresFeed::new(settings)?))))
    }

    fn view(&self, settings: &[Settings]) -> Outcome<Box<dyn IntakeView>> {
        Ok(Box::new(PostgresIntake(Arc::new(PostgresFeed::new(settings)?))))
    }

    fn tables(&self, settings: &Settings) -> Outcome<Vec<TableName>> {
        shapes::tables(settings)
    }

    fn shapes(&self, settings: &Settings, names: &[TableName]) -> Outcome<Vec<TableShape>> {
        shapes::shapes(settings, names)
    }
}

/// The tables that are read by one slot.
pub(crate) struct PostgresFeed {
    server: Server,
    /// Of each table.
    settings: Vec<Settings>,
    tables: Vec<FeedTable>,
    shared: Arc<StreamState>,
}

struct PostgresIntake(Arc<PostgresFeed>);

impl PostgresFeed {
    fn new(settings: &[Settings]) -> Outcome<Self> {
        let first = settings.first().ok_or_else(|| Failure::internal("a feed has at least one table"))?;
        let catalog = Catalog::open(first)?;
        let mut tables = Vec::new();
        for one in settings {
            let name = one.options.text("table").unwrap_or_default();
            let Some(table) = catalog.table(&name)? else {
                let problem = check::no_table(&catalog, one, &name)?;
                let failure = Failure::new(FailureKind::Configuration, problem.message);
                // It was dropped after the pipeline was written out.
                let renews = Policy::of(one) == Policy::Follow;
                return Err(Failure { renews, ..failure.with_help(problem.help.unwrap_or_default()) });
            };
            let contract = one.contract.clone();
            tables.push(FeedTable { name: table.full().into(), key: table.key, contract });
        }
        refuse_twice(&tables)?;
        Ok(Self { server: Server::new(first, 5432)?, settings: settings.to_vec(), tables, shared: StreamState::new(0) })
    }

    /// Refuses tables whose changes the log does not report in full.
    fn refuse_unlogged(&self, catalog: &Catalog, publication: &str) -> Outcome<()> {
        for (table, settings) in self.tables.iter().zip(&self.settings) {
            let Some(found) = catalog.table(&table.name)? else { continue };
            if let Some(failure) = identity::refuse(&table.name, &found.key, settings) {
                return Err(failure);
            }
            if let Some(failure) = silent::unlogged(catalog, &found, settings, publication)? {
                return Err(failure);
            }
        }
        Ok(())
    }

    fn catalog(&self) -> Outcome<Catalog> {
        Catalog::open(&self.settings[0])
    }

    /// The name of the arrival with its pipeline.
    fn label(&self) -> &str {
        &self.settings[0].label
    }

    fn pipeline(&self) -> &str {
        self.label().split('.').next().unwrap_or_default()
    }

    /// Where the rows of tables without a key wait.
    fn whole_folder(&self) -> PathBuf {
        feed_whole::folder(&self.settings[0])
    }

    /// Where large transactions wait.
    fn folder(&self) -> PathBuf {
        self.settings[0].work.join("spool").join(self.label())
    }

    /// The publication that the slot is read with.
    fn publication(&self, state: &State) -> String {
        self.settings.iter().find_map(|s| s.options.text("publication")).unwrap_or_else(|| state.slot.clone())
    }
}

impl Intake for PostgresIntake {
    fn lane(&self, _: u32, _: u32, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>> {
        let known = positions.into_iter().find(|p| &*p.partition == PARTITION);
        let known = known.ok_or_else(|| Failure::internal("a feed was opened without a position"))?;
        let catalog = self.0.catalog()?;
        let mut state = State::read(&known.identity)?;
        feed_whole::clear(&self.0.whole_folder(), &state)?;
        slot::verify(&self.0, &catalog, &mut state)?;
        self.0.refuse_unlogged(&catalog, &self.0.publication(&state))?;
        slot::bind(&self.0, &catalog, &mut state)?;
        schema::refill(&self.0, &catalog, &mut state)?;
        self.0.shared.settle(state.read);
        let target = catalog.log_end()?;
        Ok(Box::new(FeedReader::new(PostgresLog::new(Arc::clone(&self.0))?, known.position, state, target)?))
    }

    fn starts(&self, known: &[PartitionPosition], _: bool) -> Outcome<Vec<PartitionPosition>> {
        if known.iter().any(|k| &*k.partition == PARTITION) {
            return Ok(Vec::new());
        }
        slot::make(&self.0, false).map(|position| vec![position])
    }

    fn settled(&self, ranges: &Ranges) -> Outcome<()> {
        // Of a transaction that is not read whole the server keeps all.
        for range in &ranges.0 {
            let state = State::read(&range.identity)?;
            self.0.shared.settle(state.read);
            feed_whole::forget(&self.0.whole_folder(), &state)?;
        }
        Ok(())
    }
}

impl IntakeView for PostgresIntake {
    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>> {
        let catalog = self.0.catalog()?;
        sample::open(&self.0.tables, events, |number, table, share| {
            let portion = load::first_rows(&catalog, number, table, share)?;
            Ok((portion.rows, portion.mark))
        })
    }

    fn states(&self, positions: &[PartitionPosition]) -> Outcome<Vec<PartitionState>> {
        slot::states(&self.0, positions)
    }

    fn find(&self, mark: &Mark) -> Outcome<Option<Vec<PartitionPosition>>> {
        match mark {
            // The log does not go back: what was there before is loaded again, in the place of what has landed.
            Mark::Earliest => slot::make(&self.0, true).map(|position| Some(vec![position])),
            Mark::Latest | Mark::Time(_) => Ok(None),
        }
    }

    fn rows(&self) -> Outcome<Option<Box<dyn LaneReader>>> {
        let found = self.0.tables.first().zip(self.0.settings.first());
        Ok(found.map(|(table, settings)| {
            snapshot::open(table, settings, whole::reading_now(table.clone(), settings.clone()))
        }))
    }

    fn has_landed(&self, known: &PartitionPosition, place: Position) -> bool {
        live::has_landed(&self.0.settings[0].work, self.0.label(), known, place)
    }

    fn load_again(
        &self,
        known: &PartitionPosition,
        keys: &[Vec<String>],
    ) -> Outcome<Option<(PartitionPosition, String, bool)>> {
        let Some(table) = self.0.tables.first() else { return Ok(None) };
        let (position, is_all) = State::load_again(known, &table.name, keys)?;
        Ok(Some((position, table.name.to_string(), is_all)))
    }

    fn ranges(&self, _: &Ranges) -> Outcome<Box<dyn LaneReader>> {
        let message =
            format!("{} keeps no log that was read, so nothing of it can be read again", self.0.server.shown());
        Err(Failure::new(FailureKind::Configuration, message)
            .with_help("what a landing in mode = \"changes\" or a topic has of it can be read again from there"))
    }

    fn behind(&self, positions: &[PartitionPosition]) -> Outcome<Behind> {
        let states = self.states(positions)?;
        let bytes = states.iter().filter_map(|s| s.bytes).sum();
        let unread = u64::from(bytes > 0);
        Ok(Behind { partitions: 1, unread_partitions: unread, bytes, events: 0, misplaced: 0, waiting: 0 })
    }
}
