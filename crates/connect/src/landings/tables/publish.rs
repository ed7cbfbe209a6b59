//! Loads a spooled batch in one transaction: its identity first, then its rows, then the rows that were refused.
//!
//! The identity stands under a unique key, so that a rival waits for the first to commit and then sees that the batch
//! is there. May be called again after a crash at any point.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::{Array as _, Int64Array, RecordBatch};
use arrow_schema::{DataType, Field, Schema};
use sluice_core::batch::{BatchIdentity, Ranges};
use sluice_core::change::ChangeKind;
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{Published, RefusedRow, StagedWork};

use super::book::{BatchBook, foreign};
use super::session::{Objection, Session, Target};
use super::shape::{BATCH, CHANGE, CHANGES, DELETED, Mode, WITHIN};
use super::{Detail, TableLanding, merge, spool};
use crate::databases::{StoreError, StoreResult};

/// So many refused rows of one batch are no accident any more: the batch waits until somebody has looked.
const TOO_MANY: usize = 10_000;

pub(super) fn publish(
    landing: &TableLanding,
    session: &mut dyn Session,
    batch: &BatchIdentity,
    ranges: &Ranges,
    work: &StagedWork,
    rows: &Path,
) -> Outcome<Published> {
    let detail = Detail::read(work)?;
    let target = Target { early: detail.early, ..landing.target() };
    let mut publishing = Publishing { landing, session, target, batch, ranges, work, detail };
    match publishing.landed_before() {
        Ok(Some(published)) => return Ok(published),
        Ok(None) => {}
        Err(error) => return Err(publishing.failure(error)),
    }
    reach("publish.before");
    let parts = publishing.parts(rows)?;
    let objections = publishing.objections(&parts);
    let published = match objections.is_empty() {
        true => match publishing.whole(&parts) {
            Ok(()) => return Ok(Published::default()),
            Err(StoreError::Refused { .. }) => publishing.by_parts(&parts, rows, &objections),
            Err(error) => Err(error),
        },
        false => publishing.by_parts(&parts, rows, &objections),
    };
    published.map_err(|error| {
        let failure = publishing.failure(error);
        // Where the session still works nothing of the batch may stay open in it.
        let _ = publishing.session.execute("rollback");
        failure
    })
}

struct Publishing<'p> {
    landing: &'p TableLanding,
    session: &'p mut dyn Session,
    target: Target,
    batch: &'p BatchIdentity,
    ranges: &'p Ranges,
    work: &'p StagedWork,
    detail: Detail,
}

impl Publishing<'_> {
    fn book(&mut self) -> BatchBook<'_> {
        BatchBook { session: self.session, beside: &self.landing.table }
    }

    /// What was refused, where the batch is there already.
    fn landed_before(&mut self) -> StoreResult<Option<Published>> {
        let id = self.detail.batch;
        let Some(ledger) = self.book().ledger_of(id)? else { return Ok(None) };
        foreign(self.batch, &ledger).map_err(StoreError::Failed)?;
        let (rows, refused) = (self.work.rows, self.book().refused(id)?);
        let landed = self.book().landed_of(id)?;
        Ok(Some(Published { unmerged: (landed + refused.len() as u64).saturating_sub(rows), refused }))
    }

    /// The rows to load, with their batch where the table wants it.
    fn parts(&self, rows: &Path) -> Outcome<Vec<RecordBatch>> {
        self.with_numbers(spool::read(rows)?)
    }

    fn with_numbers(&self, parts: Vec<RecordBatch>) -> Outcome<Vec<RecordBatch>> {
        if !self.target.columns.iter().any(|(name, _)| name == BATCH) {
            return Ok(parts);
        }
        // Keyed rows are ordered by the batch that read them first, also where they are read again.
        let number = if self.target.mode.is_keyed() { self.detail.order } else { self.detail.batch };
        parts.into_iter().map(|part| with_batch(&part, number)).collect()
    }

    fn objections(&self, parts: &[RecordBatch]) -> Vec<Objection> {
        let mut found = Vec::new();
        let mut first = 0;
        for part in parts {
            let mut own = self.session.objections(&self.target, part);
            own.extend(of_keys(&self.target, part));
            own.extend(of_changes(part));
            own.sort_by_key(|o| o.row);
            own.dedup_by_key(|o| o.row);
            found.extend(own.into_iter().map(|o| Objection { row: first + o.row, ..o }));
            first += part.num_rows();
        }
        found
    }

    /// Notes the batch; a rival that was quicker is an error that leads to asking again.
    fn begin(&mut self) -> StoreResult<()> {
        if self.session.has_transactions() {
            self.session.execute("begin")?;
        }
        let (id, lane, rows) = (self.detail.batch, self.detail.lane, self.work.rows);
        let (batch, ranges) = (self.batch.clone(), self.ranges.clone());
        if !self.book().note(id, lane, &batch, &ranges, rows, 0)? {
            return Err(StoreError::Away(format!("{} lands {batch} at the same time", self.landing.shown)));
        }
        reach("publish.table_noted");
        if self.detail.empties {
            let spelling = self.session.spelling();
            for table in [&self.target.table, &self.target.gone()] {
                self.session.execute(&format!("delete from {}", spelling.table(table)))?;
            }
        }
        self.clear_old()
    }

    /// Takes away the rows in whose place these land.
    fn clear_old(&mut self) -> StoreResult<()> {
        for old in self.detail.replaces.clone() {
            if !self.target.mode.is_keyed() {
                let spelling = self.session.spelling();
                let (table, batch) = (spelling.table(&self.landing.table), (spelling.quote)(BATCH));
                self.session.execute(&format!("delete from {table} where {batch} = {old}"))?;
            }
            self.book().empty(old)?;
        }
        Ok(())
    }

    fn commit(&mut self) -> StoreResult<()> {
        reach("publish.table_loaded");
        self.session.execute("commit")?;
        reach("publish.table_committed");
        Ok(())
    }

    /// Loads all rows at once.
    fn whole(&mut self, parts: &[RecordBatch]) -> StoreResult<()> {
        if !self.session.has_transactions() {
            return self.found_again(parts);
        }
        self.begin()?;
        if self.detail.loaded && self.session.load_new(&self.target, parts)? {
            return self.commit();
        }
        let loaded = self.session.load(&self.target, parts);
        let older = match loaded {
            Ok(older) => older,
            Err(refused @ StoreError::Refused { .. }) => {
                self.session.execute("rollback")?;
                return Err(refused);
            }
            Err(other) => return Err(other),
        };
        if older > 0 {
            let (id, rows) = (self.detail.batch, self.work.rows);
            self.book().correct(id, rows, 0, older)?;
        }
        self.commit()
    }

    /// Without transactions: what an earlier try has left is taken away, then the rows are loaded, then the batch is
    /// noted. Only a table whose rows tell their batch can be cleared.
    fn found_again(&mut self, parts: &[RecordBatch]) -> StoreResult<()> {
        let traced = self.target.columns.iter().any(|(name, _)| name == BATCH);
        let target = self.target.clone();
        if traced {
            self.session.remove_batch(&target, self.detail.batch)?;
        }
        self.session.load(&target, parts)?;
        self.found_again_end(&[])
    }

    /// Without transactions: what is replaced goes, refused rows are noted, and the batch last of all.
    fn found_again_end(&mut self, refused: &[RefusedRow]) -> StoreResult<()> {
        reach("publish.table_loaded");
        let target = self.target.clone();
        for old in self.detail.replaces.clone() {
            self.session.remove_batch(&target, old)?;
        }
        let (id, lane, count) = (self.detail.batch, self.detail.lane, refused.len() as u64);
        self.book().refuse(id, refused)?;
        if count > 0 {
            reach("publish.table_refused");
        }
        let (batch, ranges, landed) = (self.batch.clone(), self.ranges.clone(), self.work.rows - count);
        self.book().note(id, lane, &batch, &ranges, landed, count)?;
        reach("publish.table_committed");
        Ok(())
    }

    /// Loads what can be loaded, splitting until each refused row stands alone.
    fn by_parts(&mut self, parts: &[RecordBatch], rows: &Path, objections: &[Objection]) -> StoreResult<Published> {
        // A column that is gone or has another type refuses every row; that is not a matter of rows.
        self.landing.compare_again(self.session)?;
        let mut split = Split::default();
        if self.session.has_transactions() {
            self.begin()?;
        } else if self.target.columns.iter().any(|(name, _)| name == BATCH) {
            let target = self.target.clone();
            self.session.remove_batch(&target, self.detail.batch)?;
        }
        let mut from = 0;
        let total = parts.iter().map(RecordBatch::num_rows).sum();
        for objection in objections {
            self.range(&mut split, parts, from, objection.row)?;
            self.refuse(&mut split, objection.row, Some(objection.column.clone()), objection.message.clone())?;
            from = objection.row + 1;
        }
        self.range(&mut split, parts, from, total)?;
        let mut refused = self.describe(rows, &split)?;
        if self.landing.shape.stops && !refused.is_empty() {
            return Err(StoreError::Failed(self.stopped_at(&refused[0])));
        }
        if !self.session.has_transactions() {
            self.found_again_end(&refused)?;
            return Ok(Published { refused, unmerged: 0 });
        }
        let unmerged = self.unmerge(&mut split, parts, rows, &mut refused)?;
        let (id, count) = (self.detail.batch, refused.len() as u64);
        self.book().refuse(id, &refused)?;
        reach("publish.table_refused");
        let landed = self.work.rows + unmerged - count;
        self.book().correct(id, landed, count, split.older)?;
        self.commit()?;
        Ok(Published { refused, unmerged })
    }

    /// Where the last change of a key was refused, the one before it stands, as it would have in a batch of its own.
    /// Gives how many merged rows were tried: those that landed, and those that were refused themselves.
    fn unmerge(
        &mut self,
        split: &mut Split,
        parts: &[RecordBatch],
        rows: &Path,
        refused: &mut Vec<RefusedRow>,
    ) -> StoreResult<u64> {
        let under = spool::under_path(rows);
        if split.refused.is_empty() || !under.exists() {
            return Ok(0);
        }
        let read = |path: &Path| spool::read(path).map_err(StoreError::Failed);
        let (merged, events) = (read(&under)?, read(&spool::under_events_path(rows))?);
        let chains = self.chains(&merged, &events);
        let merged = self.with_numbers(merged).map_err(StoreError::Failed)?;
        let mut tried = 0;
        let standing: Vec<Vec<u8>> = split.refused.iter().filter_map(|(row, ..)| self.key_at(parts, *row)).collect();
        for key in standing {
            for row in chains.get(&key).into_iter().flatten() {
                tried += 1;
                let one = spool::slice(&merged, *row, row + 1);
                let objection = self.objections(&one).into_iter().next();
                let result = match objection {
                    Some(objection) => Err((Some(0), Some(objection.column), objection.message)),
                    None => self.attempt(&one)?,
                };
                match result {
                    Ok(older) => {
                        split.older += older;
                        break;
                    }
                    Err((_, column, message)) => {
                        let (partition, position, bytes) = spool::event_of(&events, *row).ok_or_else(|| {
                            StoreError::Failed(Failure::internal("a merged row has no event in the spool"))
                        })?;
                        refused.push(RefusedRow { partition, position, column, message, bytes });
                    }
                }
            }
        }
        Ok(tried)
    }

    /// For each key the rows that were merged into a later one, the latest first.
    fn chains(&self, merged: &[RecordBatch], events: &[RecordBatch]) -> HashMap<Vec<u8>, Vec<usize>> {
        let version = |row: usize| {
            let name = self.target.version.as_ref()?;
            let (part, at) = part_of(merged, row)?;
            merge::number(part.column_by_name(name)?, at)
        };
        let mut chains: HashMap<Vec<u8>, Vec<usize>> = HashMap::new();
        for row in 0..merged.iter().map(RecordBatch::num_rows).sum() {
            if let Some(key) = self.key_at(merged, row) {
                chains.entry(key).or_default().push(row);
            }
        }
        let place = |row: usize| spool::event_of(events, row).map(|(partition, position, _)| (partition, position));
        for rows in chains.values_mut() {
            rows.sort_by_cached_key(|row| std::cmp::Reverse((version(*row), place(*row), *row)));
        }
        chains
    }

    /// The bytes of a row's key; None where a part of it is null.
    fn key_at(&self, parts: &[RecordBatch], row: usize) -> Option<Vec<u8>> {
        let (part, at) = part_of(parts, row)?;
        let mut bytes = Vec::new();
        let whole = self
            .target
            .key
            .iter()
            .all(|key| part.column_by_name(key).is_some_and(|column| merge::write_key(&mut bytes, column, at)));
        whole.then_some(bytes)
    }

    /// Loads rows `from..to`, each of which may be refused.
    fn range(&mut self, split: &mut Split, parts: &[RecordBatch], from: usize, to: usize) -> StoreResult<()> {
        let mut waiting = vec![(from, to)];
        while let Some((from, to)) = waiting.pop() {
            if from >= to {
                continue;
            }
            match self.attempt(&spool::slice(parts, from, to))? {
                Ok(older) => split.older += older,
                Err((_, column, message)) if to - from == 1 => self.refuse(split, from, column, message)?,
                Err((Some(row), ..)) if row < to - from => {
                    // The rows before it are good as far as the store has come.
                    let at = from + row;
                    waiting.extend([(at + 1, to), (at, at + 1), (from, at)]);
                }
                Err(_) => {
                    let middle = from + (to - from) / 2;
                    waiting.extend([(middle, to), (from, middle)]);
                }
            }
        }
        Ok(())
    }

    fn refuse(&mut self, split: &mut Split, row: usize, column: Option<String>, message: String) -> StoreResult<()> {
        if split.refused.is_empty() {
            reach("publish.table_split");
        }
        split.refused.push((row, column, message));
        if split.refused.len() <= TOO_MANY {
            return Ok(());
        }
        let (_, _, message) = &split.refused[0];
        let failure = Failure::new(
            FailureKind::BadData,
            format!("{} refuses more than {TOO_MANY} rows of {}: {message}", self.landing.shown, self.batch),
        );
        Err(StoreError::Failed(failure.with_help("nothing of this batch has landed; fix the table, and run again")))
    }

    /// One try, which leaves nothing behind where it fails.
    #[expect(clippy::type_complexity, reason = "what a refusal tells")]
    fn attempt(&mut self, rows: &[RecordBatch]) -> StoreResult<Result<u64, (Option<usize>, Option<String>, String)>> {
        let safe = self.session.has_transactions();
        if safe {
            self.session.execute("savepoint sluice_part")?;
        }
        match self.session.load(&self.target, rows) {
            Ok(older) => {
                if safe {
                    self.session.execute("release savepoint sluice_part")?;
                }
                Ok(Ok(older))
            }
            Err(StoreError::Refused { row, column, message }) => {
                if safe {
                    self.session.execute("rollback to savepoint sluice_part")?;
                }
                Ok(Err((row, column, message)))
            }
            Err(other) => Err(other),
        }
    }

    /// The refused rows with the events that they came from.
    fn describe(&self, rows: &Path, split: &Split) -> StoreResult<Vec<RefusedRow>> {
        if split.refused.is_empty() {
            return Ok(Vec::new());
        }
        let events = spool::read(&spool::events_path(rows)).map_err(StoreError::Failed)?;
        let mut found: Vec<&(usize, Option<String>, String)> = split.refused.iter().collect();
        found.sort_by_key(|r| r.0);
        let describe = |(row, column, message): &(usize, Option<String>, String)| {
            let (partition, position, bytes) = spool::event_of(&events, *row)
                .ok_or_else(|| StoreError::Failed(Failure::internal("a refused row has no event in the spool")))?;
            Ok(RefusedRow { partition, position, column: column.clone(), message: message.clone(), bytes })
        };
        found.into_iter().map(describe).collect()
    }

    fn stopped_at(&self, row: &RefusedRow) -> Failure {
        let message = format!(
            "{} refuses a row of {}, read from {} at {}: {}",
            self.landing.shown, self.batch, row.partition, row.position, row.message
        );
        Failure::new(FailureKind::BadData, message).with_help(
            "a mirror without the row would not equal its source, so the whole batch waits: fix the table, or write \
             refused = \"skip\" into the landing, and run again",
        )
    }

    /// What an error means for the run. A table that has changed is compared again, so that the difference is reported.
    fn failure(&mut self, error: StoreError) -> Failure {
        if let StoreError::Changed(message) = &error {
            // A COPY that could not begin ends its session; the query takes another one.
            let fresh = (self.landing.connect)(&self.landing.settings);
            match fresh.and_then(|mut session| self.landing.compare_again(session.as_mut())) {
                Err(StoreError::Failed(failure)) => return failure,
                Err(StoreError::Away(other)) => return StoreError::Away(other).into_failure(),
                Err(other) => return Failure::unreachable(format!("{}: {message}: {other:?}", self.landing.shown)),
                Ok(()) => return Failure::unreachable(format!("{}: {message}", self.landing.shown)),
            }
        }
        error.into_failure()
    }
}

#[derive(Default)]
struct Split {
    refused: Vec<(usize, Option<String>, String)>,
    older: u64,
}

/// The part that holds a row, and its place there.
fn part_of(parts: &[RecordBatch], mut row: usize) -> Option<(&RecordBatch, usize)> {
    for part in parts {
        if row < part.num_rows() {
            return Some((part, row));
        }
        row -= part.num_rows();
    }
    None
}

/// Adds the column of the batch, before that of deletes.
fn with_batch(part: &RecordBatch, number: i64) -> Outcome<RecordBatch> {
    let schema = part.schema();
    let mut fields: Vec<Arc<Field>> = schema.fields().iter().cloned().collect();
    let mut columns = part.columns().to_vec();
    let at = fields.iter().position(|f| f.name() == DELETED).unwrap_or(fields.len());
    fields.insert(at, Arc::new(Field::new(BATCH, DataType::Int64, false)));
    columns.insert(at, Arc::new(Int64Array::from_value(number, part.num_rows())));
    RecordBatch::try_new(Arc::new(Schema::new(fields)), columns).map_err(|e| Failure::internal(e.to_string()))
}

/// Rows whose key has no value name no row.
fn of_keys(target: &Target, part: &RecordBatch) -> Vec<Objection> {
    let mut found = Vec::new();
    for key in &target.key {
        let Some(column) = part.column_by_name(key).filter(|c| c.null_count() > 0) else { continue };
        let nulls = (0..part.num_rows()).filter(|row| column.is_null(*row));
        found.extend(nulls.map(|row| Objection {
            row,
            column: key.clone(),
            message: "a part of the key has no value, so that it names no row".into(),
        }));
    }
    found
}

/// Changes of an unknown kind.
fn of_changes(part: &RecordBatch) -> Vec<Objection> {
    let message = || format!("`change` gives none of '{}'", CHANGES.join("', '"));
    let objection = |row| Objection { row, column: CHANGE.into(), message: message() };
    if let Some(deleted) = part.column_by_name(DELETED) {
        return (0..part.num_rows()).filter(|row| deleted.is_null(*row)).map(objection).collect();
    }
    let Some(words) = part.column_by_name(CHANGE).and_then(|c| c.as_string_opt::<i32>()) else { return Vec::new() };
    // A change feed has one more word, for what has no row.
    let from_feed = part.column_by_name(WITHIN).is_some();
    let is_known = |word: &str| CHANGES.contains(&word) || (from_feed && word == ChangeKind::Truncated.word());
    let is_ours = |row: &usize| !words.is_null(*row) && is_known(words.value(*row));
    (0..part.num_rows()).filter(|row| !is_ours(row)).map(objection).collect()
}

/// Whether rows of a mode can take the place of others.
pub(super) fn can_replace(mode: Mode, lineage: bool) -> Result<(), String> {
    match mode.is_keyed() || lineage {
        true => Ok(()),
        false => Err("its rows have no batch number; with lineage = true, rows that land from then on have one".into()),
    }
}
