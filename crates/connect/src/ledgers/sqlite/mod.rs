//! Ledger kind `sqlite`: one file, for one machine. WAL with full syncing: what a call returned from is durable.

pub mod export;
mod fields;
pub mod history;
mod lock;
pub mod notices;
mod query;
mod schema;
mod state;
mod write;

use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use rusqlite::Connection;
use rusqlite::config::DbConfig;
use sluice_core::batch::{BatchIdentity, LaneId, Sealed, Staged};
use sluice_core::drift::FieldRecord;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::PartitionPosition;
use sluice_core::ledger::{
    Adoption, BatchQuery, BatchRecord, Holder, Ledger, PipelineLock, PipelineTotals, PositionChange, ReplayRecord,
    RunEnd, TakenLane,
};
use sluice_core::plan::{LedgerName, SealedTexts};
use sluice_core::private;
use sluice_core::state::{FoundState, KeptPart, KeyRange, StateSize};

/// How much each connection keeps in memory, in KiB, as SQLite writes it.
const CACHE: i64 = -32_768;

/// Keys that are read from what a station keeps at a time.
const STATE_PART: usize = 10_000;

/// The ledger.
pub struct SqliteLedger {
    path: PathBuf,
    id: String,
    connection: Mutex<Connection>,
    /// Reads what stations remember while a batch is being sealed.
    reader: Mutex<Connection>,
}

impl SqliteLedger {
    /// Opens a ledger, making it where it is not there yet and bringing an older one up to date.
    ///
    /// # Errors
    /// Where the file cannot be opened, or was written by a newer version.
    pub fn open(path: &Path) -> Outcome<Self> {
        if let Some(folder) = path.parent() {
            private::make_folders(folder)?;
        }
        // What SQLite makes beside the file gets the rights of the file.
        private::options().append(true).create(true).open(path).map_err(|e| Failure::io("open", path, &e))?;
        let failed =
            |e: &rusqlite::Error| Failure::unreachable(format!("cannot open the ledger {}: {e}", path.display()));
        let mut connection = Connection::open(path).map_err(|e| failed(&e))?;
        // Another process of this project may be writing: its transactions are short.
        connection.busy_timeout(Duration::from_secs(30)).map_err(|e| failed(&e))?;
        connection.pragma_update(None, "journal_mode", "wal").map_err(|e| failed(&e))?;
        connection.pragma_update(None, "synchronous", "full").map_err(|e| failed(&e))?;
        connection.pragma_update(None, "foreign_keys", true).map_err(|e| failed(&e))?;
        let id = schema::migrate(&mut connection, path)?;
        let reader = Connection::open(path).map_err(|e| failed(&e))?;
        reader.busy_timeout(Duration::from_secs(30)).map_err(|e| failed(&e))?;
        for connection in [&connection, &reader] {
            connection.pragma_update(None, "cache_size", CACHE).map_err(|e| failed(&e))?;
            // A statement keeps its plan, whatever is bound to it: else one with a bound limit is compiled at each call.
            connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map_err(|e| failed(&e))?;
        }
        Ok(Self { path: path.into(), id, connection: Mutex::new(connection), reader: Mutex::new(reader) })
    }

    /// Opens a ledger only if it is there.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub fn open_existing(path: &Path) -> Outcome<Option<Self>> {
        if path.exists() { Self::open(path).map(Some) } else { Ok(None) }
    }

    fn reader(&self) -> MutexGuard<'_, Connection> {
        self.reader.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn connection(&self) -> MutexGuard<'_, Connection> {
        // A panic of another thread leaves no half transaction: rusqlite rolls it back when it is dropped.
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn failed(&self, doing: &str, error: &rusqlite::Error) -> Failure {
        Failure::unreachable(format!("the ledger {} cannot {doing}: {error}", self.path.display()))
    }
}

impl Ledger for SqliteLedger {
    fn id(&self) -> &str {
        &self.id
    }

    fn lock(&self, pipeline: &str) -> Outcome<Box<dyn PipelineLock>> {
        lock::take(&self.path, pipeline)
    }

    fn holder(&self, pipeline: &str) -> Outcome<Option<Holder>> {
        lock::holder(&self.path, pipeline)
    }

    fn take_lane(&self, pipeline: &str, lane: &LaneId) -> Outcome<TakenLane> {
        write::take_lane(&mut self.connection(), pipeline, lane).map_err(|e| self.failed("take a lane over", &e))
    }

    fn lanes(&self, pipeline: &str) -> Outcome<Vec<LaneId>> {
        query::lanes(&self.connection(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn positions(&self, pipeline: &str, arrival: &str) -> Outcome<Vec<PartitionPosition>> {
        query::positions(&self.connection(), pipeline, arrival).map_err(|e| self.failed("be read", &e))
    }

    fn has_begun(&self, pipeline: &str, arrival: &str) -> Outcome<bool> {
        query::has_begun(&self.connection(), pipeline, arrival).map_err(|e| self.failed("be read", &e))
    }

    fn begin(&self, pipeline: &str, arrival: &str, starts: &[PartitionPosition]) -> Outcome<()> {
        write::begin(&mut self.connection(), pipeline, arrival, starts).map_err(|e| self.failed("note positions", &e))
    }

    fn set_positions(
        &self,
        pipeline: &str,
        arrival: &str,
        positions: &[PartitionPosition],
        reason: &str,
    ) -> Outcome<()> {
        write::set_positions(&mut self.connection(), pipeline, arrival, positions, reason)
            .map_err(|e| self.failed("set positions", &e))
    }

    fn position_changes(&self, pipeline: &str) -> Outcome<Vec<PositionChange>> {
        query::position_changes(&self.connection(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn begin_replay(&self, pipeline: &str, what: &str, reason: &str) -> Outcome<u64> {
        write::begin_replay(&self.connection(), pipeline, what, reason).map_err(|e| self.failed("note a replay", &e))
    }

    fn end_replay(&self, pipeline: &str, number: u64) -> Outcome<()> {
        write::end_replay(&self.connection(), pipeline, number).map_err(|e| self.failed("end a replay", &e))
    }

    fn replays(&self, pipeline: &str) -> Outcome<Vec<ReplayRecord>> {
        query::replays(&self.connection(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn open_batch(&self, batch: &BatchIdentity, opened_at: i64) -> Outcome<u64> {
        write::open_batch(&mut self.connection(), batch, opened_at).map_err(|e| self.failed("open a batch", &e))
    }

    fn seal(&self, batch: &Staged, epoch: u64) -> Outcome<()> {
        match write::seal(&mut self.connection(), batch, epoch) {
            Ok(true) => Ok(()),
            Ok(false) => Err(Failure::new(
                sluice_core::failure::FailureKind::InUse,
                format!("{} cannot be sealed: another process has taken the lane over", batch.identity),
            )
            .with_help("nothing of this batch has landed; the other process continues with it")),
            Err(error) => Err(self.failed("seal a batch", &error)),
        }
    }

    fn landed(&self, batch: &BatchIdentity, landing: &str, refused: u64, unmerged: u64) -> Outcome<()> {
        write::landed(&mut self.connection(), batch, landing, refused, unmerged)
            .map_err(|e| self.failed("note a landing", &e))
    }

    fn settle(&self, batch: &BatchIdentity) -> Outcome<()> {
        write::settle(&self.connection(), batch).map_err(|e| self.failed("settle a batch", &e))
    }

    fn unfinished(&self, pipeline: &str) -> Outcome<Vec<(Sealed, SealedTexts)>> {
        query::unfinished(&self.connection(), &self.id, pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn lacks_adopted(&self, pipeline: &str) -> Outcome<bool> {
        query::lacks_adopted(&self.connection(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn adopt(&self, pipeline: &str, adoption: &Adoption<'_>) -> Outcome<()> {
        write::adopt(&mut self.connection(), pipeline, adoption).map_err(|e| self.failed("adopt batches", &e))
    }

    fn texts(&self, digest: &str) -> Outcome<SealedTexts> {
        query::texts(&self.connection(), digest).map_err(|e| self.failed("be read", &e))
    }

    fn last_sealed(&self, pipeline: &str, lane: &LaneId) -> Outcome<u64> {
        query::last_sealed(&self.connection(), pipeline, lane).map_err(|e| self.failed("be read", &e))
    }

    fn known(&self, pipeline: &str) -> Outcome<Vec<LedgerName>> {
        query::known(&self.connection(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn all_known(&self) -> Outcome<Vec<(String, LedgerName)>> {
        query::all_known(&self.connection()).map_err(|e| self.failed("be read", &e))
    }

    fn note_known(&self, pipeline: &str, known: &[LedgerName], reason: Option<&str>) -> Outcome<()> {
        write::note_known(&mut self.connection(), pipeline, known, reason).map_err(|e| self.failed("note names", &e))
    }

    fn note_end(&self, pipeline: &str, end: Option<&RunEnd>) -> Outcome<()> {
        write::note_end(&mut self.connection(), pipeline, end).map_err(|e| self.failed("note how a run ended", &e))
    }

    fn last_end(&self, pipeline: &str) -> Outcome<Option<RunEnd>> {
        query::last_end(&self.connection(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn batches(&self, pipeline: &str, which: BatchQuery) -> Outcome<Vec<BatchRecord>> {
        query::batches(&self.connection(), pipeline, which).map_err(|e| self.failed("be read", &e))
    }

    fn station_state(&self, pipeline: &str, lane: &LaneId, station: &str) -> Outcome<Option<(String, u64)>> {
        state::station(&self.reader(), pipeline, lane, station).map_err(|e| self.failed("be read", &e))
    }

    fn state_values(
        &self,
        pipeline: &str,
        lane: &LaneId,
        station: &str,
        keys: &[&[u8]],
    ) -> Outcome<Vec<Option<Vec<u8>>>> {
        state::values(&self.reader(), pipeline, lane, station, keys).map_err(|e| self.failed("be read", &e))
    }

    fn each_state(&self, pipeline: &str, lane: &LaneId, station: &str, found: &mut FoundState<'_>) -> Outcome<()> {
        let mut range = KeyRange::default();
        loop {
            // In parts, so that the ledger is not locked meanwhile.
            let part = self.state_parts(pipeline, lane, station, std::slice::from_ref(&range), STATE_PART)?.pop();
            let part = part.unwrap_or_default();
            let Some((last, _)) = part.last() else { return Ok(()) };
            range.from = [last, &[0][..]].concat().into();
            part.iter().try_for_each(|(key, value)| found(key, value))?;
        }
    }

    fn state_parts(
        &self,
        pipeline: &str,
        lane: &LaneId,
        station: &str,
        ranges: &[KeyRange],
        most: usize,
    ) -> Outcome<Vec<KeptPart>> {
        let parts = state::parts(&self.reader(), (pipeline, lane, station), ranges, most);
        parts.map_err(|e| self.failed("be read", &e))
    }

    fn state_stations(&self, pipeline: &str) -> Outcome<Vec<(LaneId, String)>> {
        state::stations(&self.reader(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn state_sizes(&self, pipeline: &str) -> Outcome<Vec<StateSize>> {
        state::sizes(&self.reader(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn fields(&self, pipeline: &str) -> Outcome<Vec<FieldRecord>> {
        fields::all(&self.reader(), pipeline).map_err(|e| self.failed("be read", &e))
    }

    fn totals(&self, pipeline: &str) -> Outcome<PipelineTotals> {
        query::totals(&self.connection(), pipeline).map_err(|e| self.failed("be read", &e))
    }
}

#[cfg(test)]
mod tests;
