//! Stages a batch for a table: spools its rows as they will be loaded, merged by key where there is one.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::{
    Array as _, ArrayRef, BooleanArray, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray,
};
use arrow_schema::{DataType, Field, Schema, SchemaRef};
use arrow_select::filter::filter_record_batch;
use sluice_core::change::{ChangeKind, Marks};
use sluice_core::durable::Disk;
use sluice_core::event::{LandingRows, Position, RowOrigin};
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Stage, StagedWork};

use super::Detail;
use super::absent;
use super::merge::Merge;
use super::shape::{BATCH, CHANGES, DELETED, Mode, Shape, WAS};
use super::spool::{self, SpoolWriter};

/// The schema of spooled rows: the columns that are loaded, without the batch, and for a mirror whether each is a delete.
pub(super) fn spool_schema(shape: &Shape) -> SchemaRef {
    let mut fields: Vec<Field> = shape
        .wanted()
        .into_iter()
        .filter(|wanted| wanted.column.name != BATCH)
        // With its mark, where its values are of a kind of their own.
        .map(|wanted| wanted.column.field().with_nullable(true))
        .collect();
    if shape.mode == Mode::Mirror {
        fields.push(Field::new(DELETED, DataType::Boolean, true));
    }
    fields.extend(shape.hidden().into_iter().map(|(name, ty)| Field::new(name, ty.arrow(), true)));
    Arc::new(Schema::new(fields))
}

pub(super) struct TableStage {
    shape: Shape,
    path: PathBuf,
    disk: Disk,
    schema: SchemaRef,
    rows: SpoolWriter,
    events: SpoolWriter,
    /// Rows that wait for the end of the batch, since a later one may take their place.
    waiting: Vec<(RecordBatch, RowOrigin)>,
    /// What goes along with them where they are changes of a feed.
    marks: Vec<Marks>,
    merge: Merge,
    key: Vec<usize>,
    version: Option<usize>,
    count: u64,
    detail: Detail,
}

impl TableStage {
    pub(super) fn create(shape: &Shape, path: PathBuf, disk: &Disk, detail: Detail) -> Outcome<Box<dyn Stage>> {
        if let Some(folder) = path.parent() {
            disk.make_folders(folder)?;
        }
        let schema = spool_schema(shape);
        let place = |name: &String| shape.lands.iter().position(|c| c.name == *name);
        Ok(Box::new(Self {
            rows: SpoolWriter::create(path.clone(), &schema)?,
            events: SpoolWriter::create(spool::events_path(&path), &spool::events_schema())?,
            key: shape.key.iter().filter_map(place).collect(),
            version: shape.version.as_ref().and_then(place),
            shape: shape.clone(),
            disk: disk.clone(),
            waiting: Vec::new(),
            marks: Vec::new(),
            merge: Merge::default(),
            schema,
            path,
            count: 0,
            detail,
        }))
    }

    /// The columns to load: those that land, then those that the mode adds.
    fn shaped(&self, rows: &RecordBatch, origin: &RowOrigin, marks: Option<&Marks>) -> Outcome<RecordBatch> {
        let mut columns: Vec<ArrayRef> = Vec::with_capacity(self.schema.fields().len());
        let schema = rows.schema();
        for (i, column) in rows.columns().iter().enumerate() {
            if !schema.field(i).name().starts_with('@') {
                columns.push(Arc::clone(column));
            }
        }
        let count = rows.num_rows();
        let words = marks
            .map(|m| -> ArrayRef { Arc::new(StringArray::from_iter_values(m.kinds.iter().map(|kind| kind.word()))) });
        let change = words.as_ref().or_else(|| rows.column_by_name("@change"));
        if self.shape.mode == Mode::Changes {
            columns.push(match change {
                Some(change) if *change.data_type() == DataType::Utf8 => Arc::clone(change),
                Some(_) => Arc::new(StringArray::new_null(count)),
                None => Arc::new(StringArray::from_iter_values(std::iter::repeat_n("inserted", count))),
            });
        }
        if self.shape.lineage || self.shape.mode == Mode::Changes {
            columns.push(Arc::new(StringArray::from_iter_values(std::iter::repeat_n(&*origin.chunk.partition, count))));
            let position = |row| i64::try_from(origin.position(row).major).unwrap_or(i64::MAX);
            columns.push(Arc::new(Int64Array::from_iter_values((0..count).map(position))));
        }
        if self.shape.mode == Mode::Changes {
            let times: TimestampMicrosecondArray = (0..count).map(|row| origin.time(row)).collect();
            columns.push(Arc::new(times.with_timezone("UTC")));
            if self.shape.from_feed {
                let within = |row| i64::try_from(origin.position(row).minor).unwrap_or(i64::MAX);
                columns.push(Arc::new(Int64Array::from_iter_values((0..count).map(within))));
                let names: Vec<&str> = self.shape.lands.iter().map(|c| c.name.as_str()).collect();
                columns.push(match marks {
                    Some(marks) => Arc::new(marks.absent_names(&names)),
                    None => Arc::new(StringArray::new_null(count)),
                });
            }
        }
        if self.shape.mode == Mode::Mirror {
            columns.push(match marks {
                Some(marks) => Arc::new(marks.kinds.iter().map(|k| Some(k.is_gone())).collect::<BooleanArray>()),
                None => Arc::new(deleted(change, count)),
            });
        }
        for (name, _) in self.shape.hidden() {
            columns.push(match name.strip_prefix(WAS).and_then(|key| rows.column_by_name(key)) {
                Some(key) => Arc::clone(key),
                None => Arc::new(StringArray::new_null(count)),
            });
        }
        RecordBatch::try_new(Arc::clone(&self.schema), columns)
            .map_err(|e| Failure::internal(format!("rows do not have the form of their table: {e}")))
    }

    /// Merges changes of a feed, some of which lack values, or empty the table.
    fn resolve(&mut self) -> Outcome<u64> {
        let (waiting, marks) = (std::mem::take(&mut self.waiting), std::mem::take(&mut self.marks));
        let origins: Vec<RowOrigin> = waiting.iter().map(|(_, origin)| origin.clone()).collect();
        let parts: Vec<_> = waiting.into_iter().map(|(rows, _)| rows).zip(marks).collect();
        let rows = |(part, origin): (&(RecordBatch, Marks), &RowOrigin)| -> Vec<Position> {
            (0..part.0.num_rows()).map(|row| origin.position(row)).collect()
        };
        let positions: Vec<Position> = parts.iter().zip(&origins).flat_map(rows).collect();
        let done = absent::resolve(&parts, &positions, &self.key, self.shape.lands.len())?;
        let mut start = 0;
        for ((part, _), origin) in parts.iter().zip(origins) {
            let end = start + part.num_rows();
            self.put(&done.rows.slice(start, part.num_rows()), &origin, Some(&done.stands[start..end]))?;
            start = end;
        }
        self.detail.empties = done.empties;
        Ok(done.merged)
    }

    fn put(&mut self, rows: &RecordBatch, origin: &RowOrigin, keep: Option<&[bool]>) -> Outcome<()> {
        self.events.write(&spool::events(origin, rows.num_rows(), keep)?)?;
        let kept = match keep {
            None => rows.clone(),
            Some(keep) => filter_record_batch(rows, &BooleanArray::from(keep.to_vec()))
                .map_err(|e| Failure::internal(e.to_string()))?,
        };
        self.count += kept.num_rows() as u64;
        self.rows.write(&kept)
    }
}

/// The rows that were merged into others, which land where the store refuses those. The files are made with the first
/// such row.
struct MergedRows<'a> {
    path: &'a Path,
    schema: &'a SchemaRef,
    files: Option<(SpoolWriter, SpoolWriter)>,
}

impl<'a> MergedRows<'a> {
    fn new(path: &'a Path, schema: &'a SchemaRef) -> Self {
        Self { path, schema, files: None }
    }

    fn put(&mut self, rows: &RecordBatch, origin: &RowOrigin, stands: &[bool]) -> Outcome<()> {
        let keep: Vec<bool> = stands.iter().map(|stands| !stands).collect();
        if !keep.contains(&true) {
            return Ok(());
        }
        if self.files.is_none() {
            let path = spool::under_path(self.path);
            let events = SpoolWriter::create(spool::under_events_path(self.path), &spool::events_schema())?;
            self.files = Some((SpoolWriter::create(path, self.schema)?, events));
        }
        let Some((file, events)) = &mut self.files else { return Ok(()) };
        events.write(&spool::events(origin, rows.num_rows(), Some(&keep))?)?;
        let kept = filter_record_batch(rows, &BooleanArray::from(keep));
        file.write(&kept.map_err(|e| Failure::internal(e.to_string()))?)
    }

    fn finish(self, disk: &Disk) -> Outcome<()> {
        if let Some((rows, events)) = self.files {
            rows.finish(disk)?;
            events.finish(disk)?;
        }
        Ok(())
    }
}

/// Whether each change is a delete; null for an unknown kind, which is refused later.
fn deleted(change: Option<&ArrayRef>, rows: usize) -> BooleanArray {
    let Some(change) = change.filter(|c| matches!(c.data_type(), DataType::Utf8)) else {
        return BooleanArray::from(vec![None; rows]);
    };
    let words = change.as_string::<i32>();
    let word = |row: usize| (!words.is_null(row)).then(|| words.value(row)).filter(|w| CHANGES.contains(w));
    (0..rows).map(|row| word(row).map(|w| w == "deleted")).collect()
}

impl Stage for TableStage {
    fn write(&mut self, rows: LandingRows) -> Outcome<()> {
        let origin = rows.origin.ok_or_else(|| Failure::internal("rows for a table have no origin"))?;
        let shaped = self.shaped(&rows.batch, &origin, rows.marks.as_ref())?;
        if !self.shape.mode.is_keyed() {
            return self.put(&shaped, &origin, None);
        }
        self.merge.add(&shaped, &origin.chunk.partition, &self.key, self.version);
        self.waiting.push((shaped, origin));
        self.marks.extend(rows.marks);
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Outcome<StagedWork> {
        let is_fed = !self.marks.is_empty() && self.marks.len() == self.waiting.len();
        let is_plain = |m: &Marks| !m.lacks() && !m.kinds.iter().any(|k| k.is_of_table());
        let mut merged = self.merge.merged();
        if is_fed && self.shape.mode == Mode::Mirror {
            self.detail.loaded = self.marks.iter().all(|m| m.kinds.iter().all(|k| *k == ChangeKind::Loaded));
            self.detail.early = self.marks.iter().any(|m| m.kinds.iter().any(|kind| kind.is_early()));
            if !self.marks.iter().all(is_plain) {
                merged = self.resolve()?;
            }
        }
        let stands = self.merge.stands().to_vec();
        let mut start = 0;
        let (path, schema) = (self.path.clone(), Arc::clone(&self.schema));
        let mut under = MergedRows::new(&path, &schema);
        for (rows, origin) in std::mem::take(&mut self.waiting) {
            let end = start + rows.num_rows();
            self.put(&rows, &origin, Some(&stands[start..end]))?;
            under.put(&rows, &origin, &stands[start..end])?;
            start = end;
        }
        let Self { rows, events, disk, count, detail, .. } = *self;
        reach("stage.closed");
        let bytes = rows.finish(&disk)?;
        events.finish(&disk)?;
        under.finish(&disk)?;
        if let Some(folder) = path.parent() {
            disk.sync_folder(folder)?;
        }
        reach("stage.synced");
        Ok(StagedWork { rows: count, merged, bytes, detail: detail.note()? })
    }
}
