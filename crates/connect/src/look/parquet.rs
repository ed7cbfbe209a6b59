//! Rows of Parquet files, under our types.

use std::fs::File;

use arrow_array::{RecordBatch, RecordBatchOptions};
use arrow_schema::SchemaRef;
use parquet::arrow::arrow_reader::{ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder};
use parquet::errors::ParquetError;
use sluice_core::columns::OutputColumn;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Stored, StoredSummary};
use sluice_core::plan::transform::schema_of;
use sluice_core::types::SqlType;

use super::arrays::{cast, sql_type};
use super::{FileRows, StoredFile, StoredRows};

fn builder(file: &StoredFile) -> Outcome<ParquetRecordBatchReaderBuilder<File>> {
    let open = File::open(&file.path).map_err(|e| Failure::io("read", &file.path, &e))?;
    ParquetRecordBatchReaderBuilder::try_new(open).map_err(|e| unreadable(file, &e))
}

fn unreadable(file: &StoredFile, error: &ParquetError) -> Failure {
    Failure::unreachable(format!("{} is not a complete Parquet file: {error}", file.path.display()))
        .with_help("it may be cut off or still be written; files of our own appear only once they are whole")
}

/// Opens files whose schemas may differ: the columns are those of all, the types such as hold all.
pub(super) fn open(files: Vec<StoredFile>, mut summary: StoredSummary) -> Outcome<Box<dyn Stored>> {
    let planned = std::mem::take(&mut summary.columns);
    let mut rows = 0;
    let mut differing = 0_u64;
    let mut columns: Vec<OutputColumn> = Vec::new();
    for (i, file) in files.iter().enumerate() {
        let builder = builder(file)?;
        rows += u64::try_from(builder.metadata().file_metadata().num_rows()).unwrap_or(0);
        let own = columns_of(builder.schema());
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
    summary.rows = Some(rows);
    summary.columns.clone_from(&columns);
    let start = move |file: &StoredFile| {
        let reader = builder(file)?.with_batch_size(8192).build().map_err(|e| unreadable(file, &e))?;
        Ok(ParquetRows { reader, columns: columns.clone(), schema: schema_of(&columns), file: file.clone() })
    };
    Ok(Box::new(StoredRows { summary, files: files.into_iter(), open: None, broken: 0, start: Box::new(start) }))
}

fn columns_of(schema: &SchemaRef) -> Vec<OutputColumn> {
    schema
        .fields()
        .iter()
        .map(|f| OutputColumn { name: f.name().clone(), ty: sql_type(f), nullable: f.is_nullable() })
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

struct ParquetRows {
    reader: ParquetRecordBatchReader,
    columns: Vec<OutputColumn>,
    schema: SchemaRef,
    file: StoredFile,
}

impl FileRows for ParquetRows {
    fn next(&mut self, _: &mut u64) -> Outcome<Option<RecordBatch>> {
        let Some(batch) = self.reader.next() else { return Ok(None) };
        let batch = batch.map_err(|e| unreadable(&self.file, &ParquetError::External(Box::new(e))))?;
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
