//! Writes Parquet.

use std::fs::File;
use std::io::BufWriter;

use arrow_array::cast::AsArray as _;
use arrow_array::{Array, RecordBatch};
use arrow_schema::{DataType, SchemaRef};
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::errors::ParquetError;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::{EnabledStatistics, WriterProperties, WriterPropertiesBuilder};
use parquet::schema::types::ColumnPath;
use rustc_hash::FxHashSet;
use sluice_core::batch::BatchIdentity;

/// Values of a column that are looked at to tell whether they repeat.
const SAMPLE: usize = 4_096;

/// Fewer values tell nothing.
const LEAST: usize = 1_024;

/// One Parquet file being written.
pub(super) struct ParquetFile(State);

enum State {
    /// Nothing was written yet.
    New(BufWriter<File>, SchemaRef, Box<WriterPropertiesBuilder>),
    Open(Box<ArrowWriter<BufWriter<File>>>),
    /// It could not be opened.
    Failed,
}

impl ParquetFile {
    pub(super) fn new(
        file: File,
        schema: SchemaRef,
        batch: &BatchIdentity,
        row_group: usize,
        compressed: bool,
    ) -> Result<Self, ParquetError> {
        let pair = |key: &str, value: String| KeyValue::new(key.to_string(), value);
        let properties = WriterProperties::builder()
            .set_compression(match compressed {
                true => Compression::ZSTD(ZstdLevel::try_new(1)?),
                false => Compression::UNCOMPRESSED,
            })
            .set_max_row_group_row_count(Some(row_group))
            .set_statistics_enabled(EnabledStatistics::Page)
            .set_created_by(format!("sluice {}", env!("CARGO_PKG_VERSION")))
            .set_key_value_metadata(Some(vec![
                pair("sluice.ledger", batch.ledger.clone()),
                pair("sluice.pipeline", batch.pipeline.clone()),
                pair("sluice.lane", batch.lane.to_string()),
                pair("sluice.batch", batch.number.to_string()),
            ]));
        Ok(Self(State::New(BufWriter::new(file), schema, Box::new(properties))))
    }

    /// The writer. A dictionary of values that hardly repeat costs as much as all the rest and is then given up: such columns,
    /// as the first rows show them, get none.
    fn open(&mut self, first: Option<&RecordBatch>) -> Result<&mut ArrowWriter<BufWriter<File>>, ParquetError> {
        if let State::New(..) = &self.0
            && let State::New(file, schema, properties) = std::mem::replace(&mut self.0, State::Failed)
        {
            let mut properties = *properties;
            for (field, column) in schema.fields().iter().zip(first.map_or(&[][..], RecordBatch::columns)) {
                if hardly_repeats(column.as_ref()) {
                    let path = ColumnPath::new(vec![field.name().clone()]);
                    properties = properties.set_column_dictionary_enabled(path, false);
                }
            }
            self.0 = State::Open(Box::new(ArrowWriter::try_new(file, schema, Some(properties.build()))?));
        }
        match &mut self.0 {
            State::Open(writer) => Ok(writer),
            _ => Err(ParquetError::General("the file could not be opened".into())),
        }
    }

    pub(super) fn write(&mut self, rows: &RecordBatch) -> Result<(), ParquetError> {
        self.open(Some(rows))?.write(rows)
    }

    /// Bytes that wait in memory.
    pub(super) fn waiting(&self) -> usize {
        match &self.0 {
            State::Open(writer) => writer.memory_size(),
            _ => 0,
        }
    }

    /// Writes out what waits, as a row group.
    pub(super) fn flush(&mut self) -> Result<(), ParquetError> {
        self.open(None)?.flush()
    }

    /// Ends the file.
    pub(super) fn close(mut self) -> Result<File, ParquetError> {
        self.open(None)?;
        let State::Open(writer) = self.0 else { return Err(ParquetError::General("the file is not open".into())) };
        writer.into_inner()?.into_inner().map_err(|e| ParquetError::External(Box::new(e.into_error())))
    }
}

/// Whether nearly all of the first values of a column differ.
fn hardly_repeats(column: &dyn Array) -> bool {
    let sample = column.slice(0, column.len().min(SAMPLE));
    let count = sample.len() - sample.null_count();
    if count < LEAST {
        return false;
    }
    let distinct = match sample.data_type() {
        DataType::Utf8 => sample.as_string::<i32>().iter().flatten().collect::<FxHashSet<_>>().len(),
        ty => {
            let Some(width) = ty.primitive_width() else { return false };
            let data = sample.to_data();
            let Some(bytes) = data.buffers().first().and_then(|b| b.as_slice().get(data.offset() * width..)) else {
                return false;
            };
            let values = bytes.chunks_exact(width).take(sample.len()).enumerate();
            values.filter(|(row, _)| sample.is_valid(*row)).map(|(_, value)| value).collect::<FxHashSet<_>>().len()
        }
    };
    distinct * 50 >= count * 49
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{ArrayRef, BooleanArray, Int64Array, StringArray};
    use parquet::file::reader::{FileReader as _, SerializedFileReader};
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::different(Arc::new((0..2_000).collect::<Int64Array>()), true)]
    #[case::repeated(Arc::new((0..2_000).map(|n| n % 500).collect::<Int64Array>()), false)]
    #[case::few(Arc::new((0..1_000).collect::<Int64Array>()), false)]
    #[case::nulls(Arc::new((0..2_000).map(|n| (n % 2 == 0).then_some(n)).collect::<Int64Array>()), false)]
    #[case::texts(Arc::new((0..2_000).map(|n| Some(n.to_string())).collect::<StringArray>()), true)]
    #[case::same_texts(Arc::new((0..2_000).map(|_| Some("lock")).collect::<StringArray>()), false)]
    #[case::flags(Arc::new((0..2_000).map(|n| Some(n % 3 == 0)).collect::<BooleanArray>()), false)]
    fn values_that_hardly_repeat_are_known_by_a_sample(#[case] column: ArrayRef, #[case] expected: bool) {
        assert_eq!(hardly_repeats(column.as_ref()), expected);
        // A slice begins somewhere in its buffers.
        if column.len() > 1_900 {
            let tail: ArrayRef = column.slice(300, 1_600);
            assert_eq!(hardly_repeats(tail.as_ref()), expected && tail.len() - tail.null_count() >= LEAST);
        }
    }

    #[test]
    fn a_column_without_repetition_has_no_dictionary_and_an_empty_file_is_one() {
        let identity = BatchIdentity {
            ledger: "l".into(),
            pipeline: "p".into(),
            lane: sluice_core::batch::LaneId::new("a.0", 0),
            number: 1,
        };
        let columns: Vec<(&str, ArrayRef)> = vec![
            ("passage.id", Arc::new((0..5_000).collect::<Int64Array>())),
            ("lock", Arc::new((0..5_000).map(|n| n % 7).collect::<Int64Array>())),
        ];
        let rows = RecordBatch::try_from_iter(columns).unwrap();
        let new = || ParquetFile::new(tempfile::tempfile().unwrap(), rows.schema(), &identity, 2_000, true).unwrap();
        let mut file = new();
        assert_eq!(file.waiting(), 0);
        file.write(&rows).unwrap();
        let reader = SerializedFileReader::new(file.close().unwrap()).unwrap();
        assert_eq!(reader.metadata().file_metadata().num_rows(), 5_000);
        let group = reader.metadata().row_group(0);
        let has_dictionary = |column: usize| group.column(column).dictionary_page_offset().is_some();
        assert!(!has_dictionary(0) && has_dictionary(1));
        let reader = SerializedFileReader::new(new().close().unwrap()).unwrap();
        assert_eq!(reader.metadata().file_metadata().num_rows(), 0);
    }
}
