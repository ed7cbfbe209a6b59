//! The spool of a batch: its rows in one file, the events that they came from in another, both as streams of Arrow's
//! interprocess format. The second is only read where a store refuses a row, and so are the two files of rows that were
//! merged into others.

use std::fs::File;
use std::io::{BufReader, BufWriter};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::UInt64Type;
use arrow_array::{ArrayRef, BinaryArray, RecordBatch, StringArray, UInt64Array};
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{ArrowError, DataType, Field, Schema, SchemaRef};
use sluice_core::durable::Disk;
use sluice_core::event::{Position, RowOrigin};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::RefusedRow;
use sluice_core::private;

const BUFFER: usize = 1 << 18;

/// The file of the events beside that of the rows.
pub(super) fn events_path(rows: &Path) -> PathBuf {
    rows.with_extension("events")
}

/// The file of rows that were merged into others, and that of their events. Not there where there are none.
pub(super) fn under_path(rows: &Path) -> PathBuf {
    rows.with_extension("merged")
}

/// See [`under_path`].
pub(super) fn under_events_path(rows: &Path) -> PathBuf {
    rows.with_extension("merged_events")
}

/// Writes one of the files.
pub(super) struct SpoolWriter {
    path: PathBuf,
    writer: StreamWriter<BufWriter<File>>,
}

impl SpoolWriter {
    pub(super) fn create(path: PathBuf, schema: &SchemaRef) -> Outcome<Self> {
        let file = private::create(&path)?;
        let writer = StreamWriter::try_new(BufWriter::with_capacity(BUFFER, file), schema);
        let writer = writer.map_err(|e| failed("write", &path, &e))?;
        Ok(Self { path, writer })
    }

    pub(super) fn write(&mut self, rows: &RecordBatch) -> Outcome<()> {
        self.writer.write(rows).map_err(|e| failed("write", &self.path, &e))
    }

    /// Ends the file; on return its bytes are durable. Gives its size.
    pub(super) fn finish(mut self, disk: &Disk) -> Outcome<u64> {
        self.writer.finish().map_err(|e| failed("end", &self.path, &e))?;
        let file = self.writer.into_inner().map_err(|e| failed("end", &self.path, &e))?;
        let file = file.into_inner().map_err(|e| Failure::io("write", &self.path, e.error()))?;
        disk.sync_file(&file, &self.path)?;
        Ok(file.metadata().map_err(|e| Failure::io("look at", &self.path, &e))?.len())
    }
}

/// Reads one of the files.
pub(super) fn read(path: &Path) -> Outcome<Vec<RecordBatch>> {
    let file = File::open(path).map_err(|e| match e.kind() {
        std::io::ErrorKind::NotFound => {
            Failure::findings(format!("the spooled rows in {} are missing", path.display()))
                .with_help("they were removed from the hidden folder .sluice; put them back")
        }
        _ => Failure::io("read", path, &e),
    })?;
    let reader = StreamReader::try_new(BufReader::with_capacity(BUFFER, file), None);
    let batches = reader.and_then(Iterator::collect::<Result<Vec<_>, _>>);
    batches.map_err(|e| failed("read", path, &e))
}

fn failed(doing: &str, path: &Path, error: &ArrowError) -> Failure {
    Failure::unreachable(format!("cannot {doing} {}: {error}", path.display()))
}

/// The schema of the file of events.
pub(super) fn events_schema() -> SchemaRef {
    let field = |name: &str, ty| Field::new(name, ty, false);
    Arc::new(Schema::new(vec![
        field("source", DataType::Utf8),
        field("position", DataType::UInt64),
        field("within", DataType::UInt64),
        field("bytes", DataType::Binary),
    ]))
}

/// The events of some rows. `keep` names the rows that are kept; None keeps all.
pub(super) fn events(origin: &RowOrigin, rows: usize, keep: Option<&[bool]>) -> Outcome<RecordBatch> {
    let kept = || (0..rows).filter(|row| keep.is_none_or(|k| k[*row]));
    let count = kept().count();
    let positions = kept().map(|row| origin.position(row));
    let (major, within): (Vec<u64>, Vec<u64>) = positions.map(|p| (p.major, p.minor)).unzip();
    let source: ArrayRef =
        Arc::new(StringArray::from_iter_values(std::iter::repeat_n(&*origin.chunk.partition, count)));
    let bytes: ArrayRef =
        Arc::new(BinaryArray::from_iter_values(kept().map(|row| origin.span(row).of(&origin.chunk.bytes))));
    let columns = vec![source, Arc::new(UInt64Array::from(major)), Arc::new(UInt64Array::from(within)), bytes];
    RecordBatch::try_new(events_schema(), columns).map_err(|e| Failure::internal(e.to_string()))
}

/// The event of one row of a batch: partition, position, bytes.
pub(super) fn event_of(batches: &[RecordBatch], mut row: usize) -> Option<(Arc<str>, Position, Vec<u8>)> {
    for batch in batches {
        if row >= batch.num_rows() {
            row -= batch.num_rows();
            continue;
        }
        let number = |column: usize| batch.column(column).as_primitive::<UInt64Type>().value(row);
        let position = Position { major: number(1), minor: number(2) };
        let source = batch.column(0).as_string::<i32>().value(row);
        return Some((source.into(), position, batch.column(3).as_binary::<i32>().value(row).to_vec()));
    }
    None
}

/// All events of a file, as refused rows without a message.
pub(super) fn all_events(path: &Path) -> Outcome<Vec<RefusedRow>> {
    let batches = read(path)?;
    let count = batches.iter().map(RecordBatch::num_rows).sum();
    let one = |row| {
        let (partition, position, bytes) = event_of(&batches, row)?;
        Some(RefusedRow { partition, position, column: None, message: String::new(), bytes })
    };
    Ok((0..count).filter_map(one).collect())
}

/// Rows from one of a batch on, as many as asked for.
pub(super) fn slice(batches: &[RecordBatch], from: usize, to: usize) -> Vec<RecordBatch> {
    let mut out = Vec::new();
    let mut start = 0;
    for batch in batches {
        let end = start + batch.num_rows();
        let (a, b) = (from.max(start), to.min(end));
        if a < b {
            out.push(batch.slice(a - start, b - a));
        }
        start = end;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::Int32Array;
    use rstest::rstest;

    fn batch(values: &[i32]) -> RecordBatch {
        let array: ArrayRef = Arc::new(Int32Array::from(values.to_vec()));
        RecordBatch::try_from_iter([("n", array)]).unwrap()
    }

    #[rstest]
    #[case(0, 6, &[0, 1, 2, 3, 4, 5])]
    #[case(1, 4, &[1, 2, 3])]
    #[case(2, 3, &[2])]
    #[case(3, 3, &[])]
    #[case(5, 99, &[5])]
    fn slices_cross_batches(#[case] from: usize, #[case] to: usize, #[case] expected: &[i32]) {
        let batches = [batch(&[0, 1]), batch(&[2]), batch(&[]), batch(&[3, 4, 5])];
        let found: Vec<i32> = slice(&batches, from, to)
            .iter()
            .flat_map(|b| b.column(0).as_primitive::<arrow_array::types::Int32Type>().values().to_vec())
            .collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn what_is_written_is_read_again() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("7");
        let mut writer = SpoolWriter::create(path.clone(), &batch(&[]).schema()).unwrap();
        writer.write(&batch(&[1, 2])).unwrap();
        writer.write(&batch(&[3])).unwrap();
        assert!(writer.finish(&Disk::default()).unwrap() > 0);
        assert_eq!(read(&path).unwrap(), [batch(&[1, 2]), batch(&[3])]);
        let failure = read(&folder.path().join("8")).unwrap_err();
        assert!(failure.message.contains("are missing"), "{failure}");
    }
}
