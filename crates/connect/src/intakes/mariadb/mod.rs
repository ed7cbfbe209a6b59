//! Intake kind `mariadb`: tables of MariaDB, first the rows that are there, then every change, read from its row log.
//!
//! A position is where a transaction begins in the log, and a change's place therein. The server keeps its log for as long
//! as it is set to; nothing shows it what has been read.

mod applier;
mod bytes;
mod catalog;
mod characters;
mod check;
mod cursor;
mod gtid;
#[cfg(test)]
mod hostile;
mod load;
mod log;
mod query;
mod rows;
mod shapes;
mod statement;
mod stream;
mod table_map;
mod transaction;
mod whole;
mod words;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use sha2::{Digest as _, Sha256};
use sluice_core::batch::Ranges;
use sluice_core::config::OptionSpec;
use sluice_core::event::Position;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{
    Behind, Intake, IntakeKind, IntakeView, LaneReader, Mark, PartitionPosition, PartitionState, Settings, TableName,
    TableShape,
};
use sluice_core::problem::Problem;
use sluice_core::units::show_many;

use crate::intakes::feed::live::FeedProgress;
use crate::intakes::feed::reader::FeedReader;
use crate::intakes::feed::refuse_twice;
use crate::intakes::feed::schema::{Difference, Policy, SchemaVerdict, UNKNOWN, outdated};
use crate::intakes::feed::state::{Load, State, TableState, WholeTableState};
use crate::intakes::feed::{
    FeedTable, PARTITION, TABLE_OPTIONS, identity, live, sample, snapshot, whole as feed_whole,
};
use applier::{CatalogColumns, file_number, parts, place};
use catalog::{MariadbCatalog, MariadbTable};
use log::MariadbLog;

/// The kind.
pub struct Mariadb;

impl IntakeKind for Mariadb {
    fn name(&self) -> &'static str {
        "mariadb"
    }

    fn scheme(&self) -> &'static str {
        "mariadb"
    }

    fn about(&self) -> &'static str {
        "tables of MariaDB: the rows that are there, then every change, from its row log"
    }

    fn options(&self) -> &'static [OptionSpec] {
        TABLE_OPTIONS
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
        Ok(Box::new(MariadbIntake(Arc::new(MariadbFeed::new(settings)?))))
    }

    fn view(&self, settings: &[Settings]) -> Outcome<Box<dyn IntakeView>> {
        Ok(Box::new(MariadbIntake(Arc::new(MariadbFeed::new(settings)?))))
    }

    fn tables(&self, settings: &Settings) -> Outcome<Vec<TableName>> {
        shapes::tables(settings)
    }

    fn shapes(&self, settings: &Settings, names: &[TableName]) -> Outcome<Vec<TableShape>> {
        shapes::shapes(settings, names)
    }
}

/// The tables that are read from one log.
pub(crate) struct MariadbFeed {
    settings: Vec<Settings>,
    tables: Vec<FeedTable>,
    known: Vec<CatalogColumns>,
    sources: Vec<MariadbTable>,
}

struct MariadbIntake(Arc<MariadbFeed>);

impl MariadbFeed {
    fn new(settings: &[Settings]) -> Outcome<Self> {
        let first = settings.first().ok_or_else(|| Failure::internal("a feed has at least one table"))?;
        let mut catalog = MariadbCatalog::open(first)?;
        let sets = Arc::new(catalog.character_sets()?);
        let (mut tables, mut known, mut sources) = (Vec::new(), Vec::new(), Vec::new());
        for one in settings {
            let name = one.options.text("table").unwrap_or_default();
            let Some(table) = catalog.table(&name)? else {
                let problem = check::no_table(&mut catalog, one, &name)?;
                let failure = Failure::new(FailureKind::Configuration, problem.message);
                // It was dropped after the pipeline was written out.
                let renews = Policy::of(one) == Policy::Follow;
                return Err(Failure { renews, ..failure.with_help(problem.help.unwrap_or_default()) });
            };
            tables.push(FeedTable {
                name: table.full().into(),
                key: table.key.clone(),
                contract: one.contract.clone(),
            });
            known.push(CatalogColumns {
                names: table.columns.iter().map(|c| c.name.clone()).collect(),
                columns: table.columns.iter().map(|c| (c.name.clone(), c.known())).collect(),
                sets: Arc::clone(&sets),
                is_transactional: table.is_transactional,
            });
            sources.push(table);
        }
        refuse_twice(&tables)?;
        Ok(Self { settings: settings.to_vec(), tables, known, sources })
    }

    fn catalog(&self) -> Outcome<MariadbCatalog> {
        MariadbCatalog::open(&self.settings[0])
    }

    /// Refuses tables whose changes the log does not report in full.
    fn refuse_unlogged(&self, catalog: &mut MariadbCatalog) -> Outcome<()> {
        for (source, settings) in self.sources.iter().zip(&self.settings) {
            if let Some(failure) = identity::refuse(&source.full(), &source.key, settings) {
                return Err(failure);
            }
            if let Some(failure) = check::silent_changes(catalog, source)? {
                return Err(failure);
            }
        }
        Ok(())
    }

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

    /// The number under which the server knows this reader: no other may have it.
    fn number(&self) -> u32 {
        let mut hash = Sha256::new();
        hash.update(self.settings[0].root.to_string_lossy().as_bytes());
        hash.update(self.label().as_bytes());
        let digest = hash.finalize();
        0x5000_0000 | (u32::from_le_bytes([digest[0], digest[1], digest[2], 0]))
    }

    /// The log does not go back to where we are.
    fn lost(&self, shown: &str, number: u64, at: u64, files: &[(String, u64)]) -> Failure {
        let (first, last) = (files.first(), files.last());
        let name = |file: Option<&(String, u64)>| file.map_or("none".to_string(), |f| f.0.clone());
        self.gone(&format!(
            "{shown} has its log from {} to {}, and {at} of file {number} comes next",
            name(first),
            name(last)
        ))
    }

    fn gone(&self, what: &str) -> Failure {
        Failure::findings(format!("unread log was deleted: {what}")).with_help(
            "the server deleted it, or it is a different server. `sluice positions PIPELINE --set earliest` starts \
             again: mirrors are emptied, and every table is loaded again",
        )
    }

    /// Why the log does not show what changed, after a place.
    fn unlogged(&self, why: &str, seen: u64) -> Failure {
        let (file, place) = parts(seen);
        let message = format!("{why}; after {place} of file {file} of the log of {}", self.settings[0].connection.name);
        Failure::findings(message).with_help(format!(
            "all earlier changes have been read. `sluice positions {} --set earliest` starts again: mirrors are \
             emptied, and every table is loaded again",
            self.pipeline()
        ))
    }

    fn unreadable(&self, what: String) -> Failure {
        Failure::new(FailureKind::Configuration, what).with_help("`sluice check` lists the required server settings")
    }

    /// What was read is not what stands there now.
    fn rewritten(&self, shown: &str, at: u64, ours: &str, theirs: &str) -> Failure {
        let (file, place) = parts(at);
        self.gone(&format!(
            "{shown} has another log than the one that was read: at {place} of file {file} it stands at GTID {theirs}, not {ours}"
        ))
    }

    fn changed(&self, table: &str, what: &str, at: Position) -> Failure {
        let (file, place) = parts(at.major);
        Failure::findings(format!("{table} changed after {place} of file {file} of the log: {what}")).with_help(
            "all earlier changes have been read. Change the contract and the target tables, and run again; or write \
             schema_change = \"ignore\" into the arrival",
        )
    }

    /// Refuses to read under a pipeline that was written out for other columns.
    fn refuse_outdated(&self) -> Outcome<()> {
        let tables = self.tables.iter().zip(&self.sources).zip(&self.settings);
        let one = |((table, source), settings)| outdated(table, Policy::of(settings), &shapes::there(source));
        tables.filter_map(one).next().map_or(Ok(()), Err)
    }

    /// Brings the state up to the tables that are read: new ones begin to be loaded.
    fn bind(&self, state: &mut State) {
        for (source, settings) in self.sources.iter().zip(&self.settings) {
            let loads = settings.options.text("load").as_deref() != Some("never");
            let since = chrono::Utc::now().timestamp_micros();
            let whole = source.key.is_empty().then(WholeTableState::default);
            let load = loads.then(|| Load { about: source.about, since, whole, ..Load::default() });
            let columns: Vec<String> = source.columns.iter().map(|c| format!("{} {UNKNOWN}", c.name)).collect();
            let first = TableState { load, columns: columns.clone(), ..TableState::default() };
            let Some(known) = state.tables.get_mut(&source.full()) else {
                state.add(&source.full(), first);
                continue;
            };
            // Rows may have got values since the last run, of which the log does not tell.
            let difference = Difference::between(&known.columns, &columns);
            let table = self.tables.iter().find(|t| *t.name == *source.full());
            let verdict = table.map(|t| difference.judge(t, Policy::of(settings), &shapes::there(source)));
            if !difference.is_empty() && verdict == Some(SchemaVerdict::GoOn { refill: true }) {
                known.restart(source.about);
                known.columns = columns;
            }
        }
        state.retain(|name| self.tables.iter().any(|t| *t.name == *name));
    }
}

impl Intake for MariadbIntake {
    fn lane(&self, _: u32, _: u32, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>> {
        let known = positions.into_iter().find(|p| &*p.partition == PARTITION);
        let known = known.ok_or_else(|| Failure::internal("a feed was opened without a position"))?;
        let mut catalog = self.0.catalog()?;
        let mut state = State::read(&known.identity)?;
        feed_whole::clear(&self.0.whole_folder(), &state)?;
        let system = catalog.identity()?;
        if system != state.system {
            let message = format!(
                "{} is another server than the one that was read: {system}, not {}",
                catalog.shown, state.system
            );
            return Err(Failure::findings(message).with_help(
                "its log is another one; if that is meant, `sluice positions PIPELINE --set earliest` loads every table again",
            ));
        }
        self.0.refuse_unlogged(&mut catalog)?;
        self.0.refuse_outdated()?;
        self.0.bind(&mut state);
        let (file, at) = catalog.log_end()?;
        let target = place(&file, at);
        Ok(Box::new(FeedReader::new(MariadbLog::new(Arc::clone(&self.0), &state), known.position, state, target)?))
    }

    fn starts(&self, known: &[PartitionPosition], _: bool) -> Outcome<Vec<PartitionPosition>> {
        if known.iter().any(|k| &*k.partition == PARTITION) {
            return Ok(Vec::new());
        }
        let mut catalog = self.0.catalog()?;
        self.0.refuse_unlogged(&mut catalog)?;
        let (file, at) = between_prepared(&mut catalog)?;
        let slot = file.rsplit_once('.').map_or_else(|| file.clone(), |(base, _)| base.to_string());
        let gtid = catalog.gtid_at(&file, at)?;
        // What is unread is newer than this.
        let time = Some(chrono::Utc::now().timestamp_micros());
        let mut state = State { system: catalog.identity()?, slot, gtid, time, ..State::default() };
        self.0.bind(&mut state);
        state.read = place(&file, at);
        // Rows that were there before stand directly before the first place at which a transaction can stand.
        let position = Position::at(state.read.saturating_sub(1));
        Ok(vec![PartitionPosition { partition: PARTITION.into(), position, identity: state.note() }])
    }

    fn settled(&self, ranges: &Ranges) -> Outcome<()> {
        ranges.0.iter().try_for_each(|range| feed_whole::forget(&self.0.whole_folder(), &State::read(&range.identity)?))
    }
}

impl IntakeView for MariadbIntake {
    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>> {
        let mut catalog = self.0.catalog()?;
        sample::open(&self.0.tables, events, |number, table, share| {
            let portion = load::first_rows(&mut catalog, number, table, share)?;
            Ok((portion.rows, portion.mark))
        })
    }

    fn states(&self, positions: &[PartitionPosition]) -> Outcome<Vec<PartitionState>> {
        let mut catalog = self.0.catalog()?;
        let (file, at) = catalog.log_end()?;
        let files = catalog.log_files()?;
        let first = files.first().map_or(1, |(name, _)| file_number(name));
        let known = positions.iter().find(|p| &*p.partition == PARTITION);
        let state = known.and_then(|k| State::read(&k.identity).ok());
        let first_settings = &self.0.settings[0];
        let end = place(&file, at);
        let stand = FeedProgress {
            work: &first_settings.work,
            label: self.0.label(),
            state: state.as_ref(),
            at: state.as_ref().map_or(end, |s| s.read),
            end,
            retained_from: first << 40 | 4,
            warning: u64::MAX,
        };
        let mut partition = stand.partition();
        // Places of several files are not a count of bytes.
        partition.retained = None;
        partition.bytes = partition.bytes.map(|_| unread(&files, end - partition.bytes.unwrap_or(0), end));
        Ok(vec![partition])
    }

    fn find(&self, mark: &Mark) -> Outcome<Option<Vec<PartitionPosition>>> {
        match mark {
            // The log does not go back for ever: what was there before is loaded again, in the place of what has landed.
            Mark::Earliest => {
                let mut found = self.starts(&[], false)?;
                for position in &mut found {
                    let mut state = State::read(&position.identity)?;
                    state.replace_all();
                    position.identity = state.note();
                }
                Ok(Some(found))
            }
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
        Err(Failure::new(FailureKind::Configuration, "a change feed is read once, in the order of its log")
            .with_help("what a landing in mode = \"changes\" or a topic has of it can be read again from there"))
    }

    fn behind(&self, positions: &[PartitionPosition]) -> Outcome<Behind> {
        let bytes = self.states(positions)?.iter().filter_map(|s| s.bytes).sum();
        Ok(Behind {
            partitions: 1,
            unread_partitions: u64::from(bytes > 0),
            bytes,
            events: 0,
            misplaced: 0,
            waiting: 0,
        })
    }
}

/// How long is waited for distributed transactions that are prepared.
const PREPARED: Duration = Duration::from_secs(20);

/// The end of the log, at which no distributed transaction is prepared: its rows would stand before that place, and become
/// visible after it.
fn between_prepared(catalog: &mut MariadbCatalog) -> Outcome<(String, u64)> {
    let started = Instant::now();
    loop {
        let before = catalog.rows("xa recover")?.len();
        let end = catalog.log_end()?;
        let prepared = before.max(catalog.rows("xa recover")?.len());
        if prepared == 0 {
            return Ok(end);
        }
        if started.elapsed() > PREPARED {
            let count = u64::try_from(prepared).unwrap_or(u64::MAX);
            let message = format!("{} holds {} prepared by XA", catalog.shown, show_many(count, "transaction"));
            return Err(Failure::findings(message).with_help(
                "their rows would be missed: commit or roll them back, then run again. `xa recover` at the server lists them",
            ));
        }
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// Bytes of the log between two places.
fn unread(files: &[(String, u64)], from: u64, to: u64) -> u64 {
    let ((first, begin), (last, end)) = (parts(from), parts(to));
    if first == last {
        return end.saturating_sub(begin);
    }
    let size = |number: u64| files.iter().find(|(name, _)| file_number(name) == number).map_or(0, |(_, size)| *size);
    let between: u64 = (first + 1..last).map(size).sum();
    size(first).saturating_sub(begin) + between + end
}

#[cfg(test)]
mod tests {
    use super::{place, unread};

    #[test]
    fn bytes_are_counted_over_files() {
        let files = [("b.000001".to_string(), 1000), ("b.000002".into(), 500), ("b.000003".into(), 80)];
        assert_eq!(unread(&files, place("b.000001", 900), place("b.000003", 80)), 100 + 500 + 80);
        assert_eq!(unread(&files, place("b.000002", 100), place("b.000002", 180)), 80);
    }
}
