//! Rows of files that say the types of their columns, under our types.

use arrow_array::{RecordBatch, RecordBatchOptions};
use arrow_schema::SchemaRef;
use sluice_core::columns::OutputColumn;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Stored, StoredSummary};
use sluice_core::plan::transform::schema_of;
use sluice_core::types::SqlType;

use super::arrays::{cast, sql_type};
use super::{FileRows, StoredFile, StoredRows};

/// A file that was opened.
pub(super) struct TypedFile {
    pub schema: SchemaRef,
    /// How many rows it has, where it says so.
    pub rows: Option<u64>,
    pub batches: Box<dyn Iterator<Item = Outcome<RecordBatch>> + Send>,
}

/// Opens files whose schemas may differ: the columns are those of all, the types such as hold all.
pub(super) fn open(
    files: Vec<StoredFile>,
    mut summary: StoredSummary,
    open: impl Fn(&StoredFile) -> Outcome<TypedFile> + Send + 'static,
) -> Outcome<Box<dyn Stored>> {
    let planned = std::mem::take(&mut summary.columns);
    let mut rows = Some(0_u64);
    let mut differing = 0_u64;
    let mut columns: Vec<OutputColumn> = Vec::new();
    for (i, file) in files.iter().enumerate() {
        let file = open(file)?;
        rows = Option::zip(rows, file.rows).map(|(all, own)| all + own);
        let own = columns_of(&file.schema);
        differing += u64::from(i > 0 && merge(&mut columns, &own));
        if i == 0 {
            columns = own;
        }
    }
    if files.is_empty() {
        columns = planned;
    }
    if differing > 0 {
        summary
            .remarks
            .push(format!("{differing} of {} files have other columns or types than the first", files.len()));
    }
    summary.rows = rows;
    summary.columns.clone_from(&columns);
    let start = move |file: &StoredFile| {
        let batches = open(file)?.batches;
        Ok(TypedRows { batches, columns: columns.clone(), schema: schema_of(&columns), file: file.clone() })
    };
    Ok(Box::new(StoredRows { summary, files: files.into_iter(), open: None, broken: 0, start: Box::new(start) }))
}

fn columns_of(schema: &SchemaRef) -> Vec<OutputColumn> {
    schema
        .fields()
        .iter()
        .map(|f| OutputColumn { name: f.name().clone(), ty: sql_type(f), nullable: f.is_nullable(), limit: None })
        .collect()
}

/// Adds the columns of another file; true where it is not like the others.
fn merge(columns: &mut Vec<OutputColumn>, own: &[OutputColumn]) -> bool {
    let mut differs = own.len() != columns.len();
    for column in columns.iter_mut().filter(|c| !own.iter().any(|o| o.name == c.name)) {
        column.nullable = true;
        differs = true;
    }
    for other in own {
        match columns.iter_mut().find(|c| c.name == other.name) {
            Some(column) => {
                differs |= column.ty != other.ty;
                column.ty = column.ty.common(other.ty).unwrap_or(SqlType::Text);
                column.nullable |= other.nullable;
            }
            None => {
                columns.push(OutputColumn { nullable: true, ..other.clone() });
                differs = true;
            }
        }
    }
    differs
}

struct TypedRows {
    batches: Box<dyn Iterator<Item = Outcome<RecordBatch>> + Send>,
    columns: Vec<OutputColumn>,
    schema: SchemaRef,
    file: StoredFile,
}

impl FileRows for TypedRows {
    fn next(&mut self, _: &mut u64) -> Outcome<Option<RecordBatch>> {
        let Some(batch) = self.batches.next().transpose()? else { return Ok(None) };
        let own = batch.schema();
        let arrays = self
            .columns
            .iter()
            .map(|c| match own.index_of(&c.name) {
                Ok(index) => cast(batch.column(index), sql_type(own.field(index)), c.ty),
                Err(_) => arrow_array::new_null_array(&c.ty.arrow(), batch.num_rows()),
            })
            .collect();
        let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
        RecordBatch::try_new_with_options(self.schema.clone(), arrays, &options)
            .map(Some)
            .map_err(|e| Failure::internal(format!("{}: {e}", self.file.path.display())))
    }
}
