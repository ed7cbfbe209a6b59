//! Tables of databases: modes, the spool, the record of batches, and publishing, once for every kind of store.
//!
//! A kind is a [`Store`]: how to reach it, and a [`Session`] that describes a table and loads rows. All that makes a
//! batch land once is here.

mod absent;
pub(crate) mod book;
pub(crate) mod cells;
pub(crate) mod keyed;
mod kind;
mod look;
mod merge;
mod publish;
pub mod reference;
pub(crate) mod session;
pub(crate) mod shape;
mod spool;
mod stage;
#[cfg(test)]
mod tests;
pub mod workload;

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};

use serde::{Deserialize, Serialize};
use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::columns::OutputColumn;
use sluice_core::durable::Disk;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{
    BatchOrder, Holdings, Landing, NotedBatch, Published, RefusedRow, Settings, Stage, StagedWork,
};
use sluice_core::table::{Found, SqlDialect, TableReport, compare};
use sluice_core::types::SqlType;

pub(crate) use kind::TableKind;

use super::spool as files;
use crate::databases::{StoreError, StoreResult};
use book::{BatchBook, batch_id};
use session::{Session, Target};
use shape::{Shape, TableName};

/// One kind of database.
pub(crate) trait Store: Send + Sync + 'static {
    /// Its name in messages and the manual.
    const NAME: &'static str;
    /// The scheme of its connections.
    const SCHEME: &'static str;
    /// One line on what it is.
    const ABOUT: &'static str;
    /// What it guarantees.
    const GUARANTEE: &'static str;
    /// What it guarantees where rows do not tell their batch.
    const GUARANTEE_UNTRACED: &'static str = Self::GUARANTEE;
    /// The modes it has.
    const MODES: &'static [&'static str] = &["append", "upsert", "mirror", "changes"];

    /// Refuses a store that is not there and that a session would make.
    ///
    /// # Errors
    /// Where it is not there.
    fn is_there(settings: &Settings) -> Outcome<()> {
        let _ = settings;
        Ok(())
    }
    /// Begins a session.
    fn connect(settings: &Settings) -> StoreResult<Box<dyn Session>>;
    /// Types of columns that the reference judges.
    const COLUMNS: &'static [&'static str];
    /// Precision, zone and range of one of our types there.
    fn remark(ty: SqlType) -> &'static str;
    /// How tables are spelled and judged.
    fn dialect(table: &TableName, settings: &Settings) -> Box<dyn SqlDialect>;
    /// The type of ours in which values of a column can be shown.
    fn shown_as(column: &sluice_core::table::TableColumn) -> SqlType;
    /// An expression that gives a column as text that our types can read.
    fn as_text(quoted: &str, column: &sluice_core::table::TableColumn) -> String;
}

/// What publishing needs beside the spool.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Detail {
    /// The number that the batch's rows carry.
    batch: i64,
    /// The number by which keyed rows are ordered: that of the batch which read them first.
    order: i64,
    /// The lane's number.
    lane: i64,
    /// Numbers of batches whose rows are taken away.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    replaces: Vec<i64>,
    /// Whether the source emptied its table, before the rows that stand.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    empties: bool,
    /// Whether every row was read with its whole table.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    loaded: bool,
    /// Whether changed rows may not be there yet, since their table is still being read.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    early: bool,
}

impl Detail {
    fn read(work: &StagedWork) -> Outcome<Self> {
        serde_json::from_value(work.detail.clone())
            .map_err(|e| Failure::internal(format!("the ledger's list of spooled rows cannot be read: {e}")))
    }

    fn note(&self) -> Outcome<serde_json::Value> {
        serde_json::to_value(self).map_err(|e| Failure::internal(format!("spooled rows cannot be noted: {e}")))
    }
}

/// A session with the lane that it served; None for the first, which served none yet.
type AtRest = (Option<LaneId>, Box<dyn Session>);
type Connect = fn(&Settings) -> StoreResult<Box<dyn Session>>;

/// A landing in one table.
pub(crate) struct TableLanding {
    settings: Settings,
    connect: Connect,
    dialect: Box<dyn SqlDialect>,
    table: TableName,
    shape: Shape,
    label: String,
    shown: String,
    spool: PathBuf,
    disk: Disk,
    /// Sessions that are at rest.
    sessions: Mutex<Vec<AtRest>>,
    lanes: Mutex<HashMap<LaneId, i64>>,
    notices: Vec<String>,
}

impl TableLanding {
    /// Opens a landing: compares its table with what lands, makes what may be made.
    pub(crate) fn open<S: Store>(settings: &Settings, label: &str, columns: &[OutputColumn]) -> Outcome<Self> {
        let table = TableName::read(&settings.options);
        let mut landing = Self {
            connect: S::connect,
            dialect: S::dialect(&table, settings),
            shape: Shape::read(&settings.options, columns),
            label: label.into(),
            shown: format!("{} in {}", settings.options.text("table").unwrap_or_default(), settings.connection.name),
            spool: settings.work.join("spool").join(label),
            disk: Disk::private(),
            sessions: Mutex::new(Vec::new()),
            lanes: Mutex::new(HashMap::new()),
            notices: Vec::new(),
            settings: settings.clone(),
            table,
        };
        let mut session = S::connect(settings).map_err(StoreError::into_failure)?;
        let notices = landing.prepare(session.as_mut()).map_err(StoreError::into_failure)?;
        landing.notices = notices;
        landing.sessions.lock().unwrap_or_else(PoisonError::into_inner).push((None, session));
        Ok(landing)
    }

    /// Looks at the table, makes it where that is wanted, and makes our own tables beside it.
    fn prepare(&self, session: &mut dyn Session) -> StoreResult<Vec<String>> {
        let mut notices = Vec::new();
        let mut report = self.compare(session)?;
        if report.has_errors() && report.is_only_growth() && self.settings.options.flag("create") {
            for statement in &report.statements {
                session.execute(statement)?;
            }
            notices.push(match report.exists {
                false => format!("made {} in {}", report.table, self.settings.connection.name),
                true => format!("added columns to {}: {}", report.table, missing(&report)),
            });
            report = self.compare(session)?;
        }
        if report.has_errors() {
            return Err(StoreError::Failed(self.mismatch(&report)));
        }
        let mut made = false;
        let noted = self.table.beside(session::BATCHES);
        if !matches!(session.describe(&noted, &[])?, Found::Table(_)) {
            made = true;
            for statement in session.book(&self.table) {
                // Another process may make them at the same time; of two that make one table, a store can refuse one.
                let mut tries = 20;
                while let Err(error) = session.execute(&statement) {
                    tries -= 1;
                    if tries == 0 {
                        return Err(error);
                    }
                    std::thread::sleep(std::time::Duration::from_millis(50));
                }
            }
        }
        if made {
            let schema = self.table.schema.as_ref().map_or(String::new(), |s| format!("{s}."));
            notices.push(format!(
                "made {schema}sluice_lane, {schema}sluice_batch and {schema}sluice_refused in {}, where batches and \
                 refused rows are noted",
                self.settings.connection.name
            ));
        }
        session.prepare(&self.target())?;
        Ok(notices)
    }

    fn target(&self) -> Target {
        Target::new(&self.table, &self.shape)
    }

    fn compare(&self, session: &mut dyn Session) -> StoreResult<TableReport> {
        compare_with(session, self.dialect.as_ref(), &self.table, &self.shape)
    }

    /// Compares again after the store refused something.
    fn compare_again(&self, session: &mut dyn Session) -> StoreResult<()> {
        let report = self.compare(session)?;
        if report.has_errors() {
            return Err(StoreError::Failed(self.mismatch(&report)));
        }
        Ok(())
    }

    /// The failure with the whole difference and what fixes it.
    fn mismatch(&self, report: &TableReport) -> Failure {
        let message =
            format!("{} does not match the rows that will land: {}", self.shown, report.difference().join("; "));
        let mut help = String::new();
        let statements: Vec<&String> = report.statements.iter().chain(&report.for_an_administrator).collect();
        if !statements.is_empty() {
            for statement in statements {
                help.push_str(&format!("{statement};\n"));
            }
            help.push_str("these statements fix it: `sluice check --apply` shows and runs them");
        } else {
            help.push_str("`sluice check` compares the table with the rows that will land");
        }
        Failure::new(FailureKind::Configuration, message).with_help(help)
    }

    /// Works with a session of the lane. One that failed is given up; the next starts again.
    fn with_session<T>(&self, lane: &LaneId, work: impl FnOnce(&mut dyn Session) -> Outcome<T>) -> Outcome<T> {
        let at_rest = {
            let mut sessions = self.sessions.lock().unwrap_or_else(PoisonError::into_inner);
            let own = sessions.iter().position(|(l, _)| l.as_ref() == Some(lane));
            own.or_else(|| sessions.iter().position(|(l, _)| l.is_none())).map(|i| sessions.swap_remove(i).1)
        };
        let mut session = match at_rest {
            Some(session) => session,
            None => {
                let mut session = (self.connect)(&self.settings).map_err(StoreError::into_failure)?;
                session.prepare(&self.target()).map_err(StoreError::into_failure)?;
                session
            }
        };
        let done = work(session.as_mut())?;
        self.sessions.lock().unwrap_or_else(PoisonError::into_inner).push((Some(lane.clone()), session));
        Ok(done)
    }

    /// The lane's number in the store.
    fn lane_number(&self, lane: &LaneId) -> Outcome<i64> {
        if let Some(number) = self.lanes.lock().unwrap_or_else(PoisonError::into_inner).get(lane) {
            return Ok(*number);
        }
        let ask = |session: &mut dyn Session| {
            session.lane(&self.table, &self.label, lane.as_str()).map_err(StoreError::into_failure)
        };
        // A session at rest may have been cut meanwhile.
        let number = match self.with_session(lane, ask) {
            Err(failure) if failure.passing => self.with_session(lane, ask)?,
            other => other?,
        };
        self.lanes.lock().unwrap_or_else(PoisonError::into_inner).insert(lane.clone(), number);
        Ok(number)
    }
}

/// Compares the table of a store with the shape of a landing.
fn compare_with(
    session: &mut dyn Session,
    dialect: &dyn SqlDialect,
    table: &TableName,
    shape: &Shape,
) -> StoreResult<TableReport> {
    let mut rights = vec!["insert"];
    if shape.mode.is_keyed() {
        rights.extend(["select", "update"]);
    }
    if shape.mode == shape::Mode::Mirror {
        rights.push("delete");
    }
    let found = session.describe(table, &rights)?;
    let mut report = compare(dialect, &found, &shape.wanted(), &shape.key);
    if !report.exists {
        let bare = &table.name;
        if let Some(near) = shape::nearest_table(bare, &session.tables(table)?) {
            report.near = Some(near);
        }
    }
    Ok(report)
}

fn missing(report: &TableReport) -> String {
    let missing = report.lines.iter().filter(|l| l.verdict.is_error());
    missing.map(|l| l.column.as_str()).collect::<Vec<_>>().join(", ")
}

impl Landing for TableLanding {
    fn noted(&self, lane: &LaneId) -> Outcome<Option<NotedBatch>> {
        let number = self.lane_number(lane)?;
        self.with_session(lane, |session| {
            BatchBook { session, beside: &self.table }.noted(number).map_err(StoreError::into_failure)
        })
    }

    fn apart(&self) -> Option<&'static str> {
        Some(
            "if another project has a pipeline of this name that lands in the same database, give one of them another name: \
             pipeline = \"…\" in its file",
        )
    }

    fn holdings(&self, _: &[LaneId]) -> Outcome<Holdings> {
        self.with_session(&LaneId::named("holdings"), |session| {
            let mut book = BatchBook { session, beside: &self.table };
            let lanes = book.holdings(&self.label).map_err(StoreError::into_failure)?;
            Ok(Holdings { lanes, order: book.order().map_err(StoreError::into_failure)? })
        })
    }

    fn recorded(&self) -> Outcome<Vec<String>> {
        self.with_session(&LaneId::named("holdings"), |session| {
            // Others may have tables of their own beside an empty one.
            let table = session.spelling().table(&self.table);
            let any = session.query(&format!("select count(*) from (select 1 from {table} limit 1) g"));
            if session::number(&any.map_err(StoreError::into_failure)?) == Some(0) {
                return Ok(Vec::new());
            }
            BatchBook { session, beside: &self.table }.recorded().map_err(StoreError::into_failure)
        })
    }

    fn lanes(&self) -> Outcome<Vec<LaneId>> {
        self.with_session(&LaneId::named("holdings"), |session| {
            BatchBook { session, beside: &self.table }.lanes(&self.label).map_err(StoreError::into_failure)
        })
    }

    fn stage(&self, batch: &BatchIdentity, order: &BatchOrder) -> Outcome<Box<dyn Stage>> {
        let lane = self.lane_number(&batch.lane)?;
        let id = batch_id(lane, order.own);
        let first = match &order.first {
            Some(((first, _), opened)) => batch_id(self.lane_number(first)?, *opened),
            None => id,
        };
        let detail = Detail { batch: id, order: first, lane, ..Detail::default() };
        let path = files::path(&self.spool, batch);
        stage::TableStage::create(&self.shape, path, &self.disk, detail)
    }

    fn discard(&self, ledger: &str, lane: &LaneId, keep: &[u64]) -> Outcome<()> {
        files::discard(&self.spool, ledger, lane, keep, &self.disk)
    }

    fn publish(&self, batch: &BatchIdentity, ranges: &Ranges, work: &StagedWork) -> Outcome<Published> {
        let rows = files::sealed(&self.spool, batch);
        let published =
            self.with_session(&batch.lane, |session| publish::publish(self, session, batch, ranges, work, &rows))?;
        for file in [spool::under_path(&rows), spool::under_events_path(&rows), spool::events_path(&rows), rows] {
            self.disk.remove_file(&file)?;
        }
        Ok(published)
    }

    fn staged_events(&self, batch: &BatchIdentity, _: &StagedWork) -> Outcome<Option<Vec<RefusedRow>>> {
        let rows = files::sealed(&self.spool, batch);
        let mut found = spool::all_events(&spool::events_path(&rows))?;
        let under = spool::under_events_path(&rows);
        if under.exists() {
            found.extend(spool::all_events(&under)?);
        }
        found.sort_by(|a, b| (&a.partition, a.position).cmp(&(&b.partition, b.position)));
        Ok(Some(found))
    }

    fn take_place(&self, earlier: &[StagedWork], mut work: StagedWork, whole: bool) -> Outcome<StagedWork> {
        let mut new = Detail::read(&work)?;
        for old in earlier.iter().filter(|old| !old.detail.is_null()) {
            let old = Detail::read(old)?;
            new.order = old.order;
            if whole {
                new.replaces.push(old.batch);
            }
        }
        work.detail = new.note()?;
        Ok(work)
    }

    fn notices(&self) -> Vec<String> {
        self.notices.clone()
    }
}
