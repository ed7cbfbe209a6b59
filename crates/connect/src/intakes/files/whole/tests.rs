//! Reading files as a whole: each kind of file must do the same.

use std::fs;
use std::sync::Arc;

use ::parquet::arrow::ArrowWriter;
use ::parquet::basic::Compression;
use ::parquet::file::properties::WriterProperties;
use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray};
use arrow_avro::compression::CompressionCodec;
use arrow_avro::writer::WriterBuilder;
use arrow_avro::writer::format::AvroOcfFormat;
use arrow_ipc::CompressionType;
use arrow_ipc::writer::{FileWriter, IpcWriteOptions, StreamWriter};
use arrow_schema::{DataType, Field, Schema};
use rstest::rstest;
use sluice_core::batch::{Range, Ranges};
use sluice_core::config::{OptionValue, Options};
use sluice_core::failure::Failure;
use sluice_core::kinds::{IntakeKind as _, LaneReader, PartitionPosition, Read, Settings};

use super::*;
use crate::intakes::files::Files;
use crate::testing::{folder_settings, nowhere};

const NUMBERS: u64 = 500;
const ALL: ReadLimit = ReadLimit { records: u64::MAX, bytes: 1 << 20, ends: false };

/// Rows of these numbers, each with a text that is longer for some.
fn batch(from: u64, to: u64) -> RecordBatch {
    let number = |n: u64| i64::try_from(n).unwrap();
    let columns: Vec<ArrayRef> = vec![
        Arc::new((from..to).map(|n| Some(number(n))).collect::<Int64Array>()),
        Arc::new((from..to).map(|n| (n % 3 > 0).then(|| "閘".repeat((n % 7) as usize))).collect::<StringArray>()),
    ];
    let fields = vec![Field::new("n", DataType::Int64, false), Field::new("t", DataType::Utf8, true)];
    RecordBatch::try_new(Arc::new(Schema::new(fields)), columns).unwrap()
}

fn batches() -> Vec<RecordBatch> {
    (0..NUMBERS).step_by(50).map(|from| batch(from, from + 50)).collect()
}

fn parquet(packing: Compression) -> Vec<u8> {
    let properties =
        WriterProperties::builder().set_compression(packing).set_max_row_group_row_count(Some(120)).build();
    let mut writer = ArrowWriter::try_new(Vec::new(), batch(0, 0).schema(), Some(properties)).unwrap();
    batches().iter().for_each(|b| writer.write(b).unwrap());
    writer.into_inner().unwrap()
}

fn arrow_file(packing: Option<CompressionType>) -> Vec<u8> {
    let options = IpcWriteOptions::default().try_with_compression(packing).unwrap();
    let mut writer = FileWriter::try_new_with_options(Vec::new(), &batch(0, 0).schema(), options).unwrap();
    batches().iter().for_each(|b| writer.write(b).unwrap());
    writer.into_inner().unwrap()
}

fn arrow_stream() -> Vec<u8> {
    let mut writer = StreamWriter::try_new(Vec::new(), &batch(0, 0).schema()).unwrap();
    batches().iter().for_each(|b| writer.write(b).unwrap());
    writer.into_inner().unwrap()
}

fn avro(codec: Option<CompressionCodec>) -> Vec<u8> {
    let schema = batch(0, 0).schema().as_ref().clone();
    let mut writer = WriterBuilder::new(schema).with_compression(codec).build::<_, AvroOcfFormat>(Vec::new()).unwrap();
    batches().iter().for_each(|b| writer.write(b).unwrap());
    writer.finish().unwrap();
    writer.into_inner()
}

fn lines() -> Vec<String> {
    let mut out = String::new();
    for batch in batches() {
        let keys = json_rows::keys(&batch);
        (0..batch.num_rows()).for_each(|row| json_rows::write_row(&mut out, &batch, &keys, row));
    }
    out.lines().map(str::to_string).collect()
}

/// The format of a file, and what makes one with all rows in it.
type Kind = (&'static str, fn() -> Vec<u8>);

const EACH: [Kind; 14] = [
    ("parquet", || parquet(Compression::UNCOMPRESSED)),
    ("parquet", || parquet(Compression::SNAPPY)),
    ("parquet", || parquet(Compression::GZIP(Default::default()))),
    ("parquet", || parquet(Compression::LZ4_RAW)),
    ("arrow", || arrow_file(None)),
    ("arrow", || arrow_file(Some(CompressionType::LZ4_FRAME))),
    ("arrow", || arrow_file(Some(CompressionType::ZSTD))),
    ("arrow", arrow_stream),
    ("avro", || avro(None)),
    ("avro", || avro(Some(CompressionCodec::Deflate))),
    ("avro", || avro(Some(CompressionCodec::Snappy))),
    ("avro", || avro(Some(CompressionCodec::ZStandard))),
    ("json_document", || format!("[\n{}\n]", lines().join(",\n")).into_bytes()),
    ("json_document", || lines().join(" ").replace("{\"n\"", "{\n\"n\"").into_bytes()),
];

struct Folder(tempfile::TempDir, String);

impl Folder {
    fn new(format: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("in")).unwrap();
        Self(folder, format.into())
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join("in").join(name)
    }

    fn write(&self, name: &str, bytes: &[u8]) {
        fs::write(self.path(name), bytes).unwrap();
    }

    fn settings(&self) -> Settings {
        let place = nowhere();
        let own = sluice_core::config::pipeline::ARRIVAL_OPTIONS;
        let mut options = Options::empty(vec![own, sluice_core::formats::OPTIONS, Files.options()], place.clone());
        options.set("format", OptionValue::Text(self.1.clone()), place.clone());
        options.set("max_record", OptionValue::Size(1000), place.clone());
        folder_settings(self.0.path(), options)
    }

    fn reader(&self, positions: Vec<PartitionPosition>) -> Box<dyn LaneReader> {
        Files.open(&[self.settings()]).unwrap().lane(0, 1, positions).unwrap()
    }

    fn ranges(&self, ranges: Vec<Range>) -> Box<dyn LaneReader> {
        Files.view(&[self.settings()]).unwrap().ranges(&Ranges(ranges)).unwrap()
    }
}

/// Reads until nothing more comes: the chunks, and what stopped it.
fn drain(reader: &mut dyn LaneReader, limit: ReadLimit) -> (Vec<Chunk>, Option<Failure>) {
    let mut found = Vec::new();
    loop {
        match reader.read(limit).unwrap() {
            Read::Chunk(chunk) => {
                assert!(chunk.records <= limit.records.max(1));
                found.push(chunk);
            }
            Read::Stuck(failure) => return (found, Some(failure)),
            _ => return (found, None),
        }
    }
}

fn numbers(chunks: &[Chunk]) -> Vec<u64> {
    let lines = chunks.iter().flat_map(|c| c.bytes.split(|b| *b == b'\n')).filter(|line| !line.is_empty());
    lines.map(|line| serde_json::from_slice::<serde_json::Value>(line).unwrap()["n"].as_u64().unwrap()).collect()
}

fn position(chunk: &Chunk) -> PartitionPosition {
    PartitionPosition { partition: chunk.partition.clone(), position: chunk.to, identity: chunk.identity.clone() }
}

fn to(end: u64) -> Vec<u64> {
    (0..end).collect()
}

#[rstest]
fn any_limit_gives_the_same_rows(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13)] kind: usize) {
    let (format, bytes) = (EACH[kind].0, EACH[kind].1());
    let folder = Folder::new(format);
    folder.write("a", &bytes);
    let whole = drain(folder.reader(Vec::new()).as_mut(), ALL).0;
    let text: Vec<u8> = whole.iter().flat_map(|c| c.bytes.clone()).collect();
    let text = String::from_utf8(text).unwrap().replace("{ \"n\"", "{\"n\"");
    assert_eq!(text.lines().collect::<Vec<_>>(), lines());
    for (records, bytes) in [(1, 1 << 20), (7, 1 << 20), (u64::MAX, 1), (u64::MAX, 100), (120, 1 << 20)] {
        let found = drain(folder.reader(Vec::new()).as_mut(), ReadLimit { records, bytes, ends: false }).0;
        assert_eq!(numbers(&found), to(NUMBERS));
        assert!(found.windows(2).all(|w| w[0].to == w[1].from), "positions have no gap");
        for chunk in &found {
            let own = numbers(std::slice::from_ref(chunk));
            assert_eq!(own.len() as u64, chunk.records);
            let starts = chunk.numbered.as_ref().unwrap().iter().take(own.len());
            let places: Vec<u64> = starts.map(|start| chunk.position_at(*start).major).collect();
            assert_eq!(places, own, "a row stands at its number");
        }
    }
}

#[rstest]
fn reading_goes_on_at_any_row_and_ranges_are_read_again(
    #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13)] kind: usize,
) {
    let (format, bytes) = (EACH[kind].0, EACH[kind].1());
    let folder = Folder::new(format);
    folder.write("a", &bytes);
    let chunks = drain(folder.reader(Vec::new()).as_mut(), ReadLimit { records: 37, ..ALL }).0;
    for chunk in &chunks {
        let rest = drain(folder.reader(vec![position(chunk)]).as_mut(), ALL).0;
        assert_eq!(numbers(&rest), (chunk.to.major..NUMBERS).collect::<Vec<_>>());
        let (partition, identity) = (chunk.partition.clone(), chunk.identity.clone());
        let range = Range { partition, from: chunk.from, to: chunk.to, identity };
        let again = drain(folder.ranges(vec![range]).as_mut(), ReadLimit { records: 10, ..ALL }).0;
        assert_eq!(numbers(&again), (chunk.from.major..chunk.to.major).collect::<Vec<_>>());
    }
}

#[rstest]
fn a_file_that_was_read_is_left_alone_and_another_one_under_its_name_is_noticed(
    #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13)] kind: usize,
) {
    let (format, bytes) = (EACH[kind].0, EACH[kind].1());
    let folder = Folder::new(format);
    folder.write("a", &bytes);
    let chunks = drain(folder.reader(Vec::new()).as_mut(), ReadLimit { records: 100, ..ALL }).0;
    let ends = [&chunks[1], chunks.last().unwrap()];
    assert!(drain(folder.reader(vec![position(ends[1])]).as_mut(), ALL).0.is_empty());
    fs::rename(folder.path("a"), folder.path("b")).unwrap();
    let mut renamed = folder.reader(vec![position(ends[0])]);
    assert_eq!(numbers(&drain(renamed.as_mut(), ALL).0), (ends[0].to.major..NUMBERS).collect::<Vec<_>>());

    let mut other = bytes.clone();
    other.extend_from_slice(b" ");
    fs::remove_file(folder.path("b")).unwrap();
    folder.write("a", &other);
    for end in ends {
        let (chunks, stuck) = drain(folder.reader(vec![position(end)]).as_mut(), ALL);
        assert!(chunks.is_empty());
        let why = stuck.unwrap().message;
        assert!(why.contains("is not the file that was read under this name"), "{why}");
    }
}

#[rstest]
fn a_file_that_is_not_whole_waits_while_others_are_read(
    #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13)] kind: usize,
) {
    let (format, bytes) = (EACH[kind].0, EACH[kind].1());
    if String::from_utf8_lossy(&bytes[..1]) == "{" || bytes.starts_with(&[0xff; 4]) {
        // Between two values, or two messages of a stream, nothing tells that more are to come.
        return;
    }
    let folder = Folder::new(format);
    folder.write("a", &bytes[..bytes.len() - 3]);
    folder.write("b", &bytes);
    let mut reader = folder.reader(Vec::new());
    let (chunks, stuck) = drain(reader.as_mut(), ALL);
    assert_eq!(numbers(&chunks), to(NUMBERS));
    let failure = stuck.unwrap();
    assert!(failure.passing && failure.message.contains("is not a whole"), "{failure:?}");
    folder.write("a", &bytes);
    std::thread::sleep(std::time::Duration::from_millis(1300));
    let (chunks, stuck) = drain(reader.as_mut(), ALL);
    assert_eq!((numbers(&chunks), stuck.is_none()), (to(NUMBERS), true));
}

/// Whatever happened to its bytes, a file ends, as an error or with rows and rejects, and never with more than it had.
#[rstest]
fn damaged_files(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13)] kind: usize) {
    let (format, bytes) = (EACH[kind].0, EACH[kind].1());
    let folder = Folder::new(format);
    let kind = sluice_core::formats::kind(format).unwrap();
    let whole = kind.open(&Options::empty(vec![kind.options()], nowhere())).whole().unwrap();
    let step = (bytes.len() / 150).max(1);
    let mut read = 0;
    for at in (0..bytes.len().min(200))
        .chain((0..bytes.len()).step_by(step))
        .chain(bytes.len().saturating_sub(100)..bytes.len())
    {
        for value in [0, 0x7f, 0xff, bytes[at] ^ 1] {
            let mut damaged = bytes.clone();
            damaged[at] = value;
            folder.write("a", &damaged);
            let Ok(Opened::File(mut file)) = WholeRows::open("a", &folder.path("a"), whole, 0, None, 1000) else {
                continue;
            };
            let mut last = 0;
            while let Ok(Some(chunk)) = file.read(ALL) {
                assert_eq!(chunk.from.major, last, "byte {at}");
                last = chunk.to.major;
                read += chunk.records;
            }
        }
    }
    assert!(read > 0);
}

#[rstest]
#[case(None)]
#[case(Some(CompressionCodec::Deflate))]
fn a_damaged_block_costs_its_own_rows(#[case] codec: Option<CompressionCodec>) {
    let folder = Folder::new("avro");
    let mut bytes = avro(codec);
    let sync = bytes[bytes.len() - 16..].to_vec();
    let ends: Vec<usize> = memchr::memmem::find_iter(&bytes, &sync).collect();
    // The third block, in the middle of its bytes.
    let middle = usize::midpoint(ends[2], ends[3]);
    bytes[middle..middle + 4].fill(0xff);
    folder.write("a", &bytes);
    let (chunks, stuck) = drain(folder.reader(Vec::new()).as_mut(), ALL);
    assert!(stuck.is_none());
    let (broken, good): (Vec<Chunk>, Vec<Chunk>) = chunks.into_iter().partition(|c| c.broken.is_some());
    let good = numbers(&good);
    assert!(!broken.is_empty() && good.len() >= 450, "{broken:?}");
    assert_eq!(good.iter().filter(|n| !(100..150).contains(*n)).count(), 450, "{good:?}");
    assert!(broken.iter().all(|c| (100..=150).contains(&c.to.major) && c.records == 1), "{broken:?}");
    let why = broken[0].broken.clone().unwrap();
    assert!(why.contains("block") && why.contains("byte"), "{why}");

    // A block whose length makes no sense: what is not read reaches to the next sync marker.
    let mut bytes = avro(codec);
    bytes[ends[2] + 16] = 0xff;
    folder.write("b", &bytes);
    fs::remove_file(folder.path("a")).unwrap();
    let (chunks, _) = drain(folder.reader(Vec::new()).as_mut(), ALL);
    let (broken, good): (Vec<Chunk>, Vec<Chunk>) = chunks.into_iter().partition(|c| c.broken.is_some());
    assert_eq!(numbers(&good).len(), 450);
    assert!(broken[0].broken.as_ref().unwrap().contains("read on from the next sync marker"), "{broken:?}");
}

#[test]
fn a_row_that_is_too_long_is_told_from_its_neighbours() {
    let folder = Folder::new("json_document");
    let long = "x".repeat(2000);
    folder.write("a", format!("[{{\"n\":0}},{{\"n\":1,\"t\":\"{long}\"}},{{\"n\":2}}]").as_bytes());
    let (chunks, _) = drain(folder.reader(Vec::new()).as_mut(), ALL);
    let seen: Vec<(u64, u64, Option<u64>)> = chunks.iter().map(|c| (c.from.major, c.to.major, c.too_long)).collect();
    assert_eq!(seen, [(0, 1, None), (1, 2, Some(2014)), (2, 3, None), (3, 3, None)]);
}

/// Rows of columns that are null throughout have no bytes: a reader takes them late.
#[test]
fn rows_without_bytes_come_all_the_same() {
    let schema = Arc::new(Schema::new(vec![Field::new("n", DataType::Null, true)]));
    let batch = RecordBatch::try_new(schema.clone(), vec![arrow_array::new_null_array(&DataType::Null, 3)]).unwrap();
    let mut writer = StreamWriter::try_new(Vec::new(), &schema).unwrap();
    (0..2).for_each(|_| writer.write(&batch).unwrap());
    let folder = Folder::new("arrow");
    folder.write("a", &writer.into_inner().unwrap());
    let (chunks, stuck) = drain(folder.reader(Vec::new()).as_mut(), ALL);
    assert_eq!((chunks.iter().map(|c| c.records).sum::<u64>(), stuck.is_none()), (6, true));
    assert_eq!(chunks[0].bytes, b"{\"n\":null}\n".repeat(3));
}

/// Not a row of a list that is still being written is taken: a file that changes afterwards would be another one.
#[test]
fn a_large_document_that_is_not_whole_waits() {
    let folder = Folder::new("json_document");
    let rows: Vec<String> = (0..60_000).map(|n| format!("{{\"n\":{n}}}")).collect();
    let text = format!("[{}]", rows.join(","));
    folder.write("a", &text.as_bytes()[..text.len() - 1]);
    let mut reader = folder.reader(Vec::new());
    let (chunks, stuck) = drain(reader.as_mut(), ALL);
    assert!(chunks.is_empty() && stuck.unwrap().message.contains("it ends within a record or a list"));
    folder.write("a", text.as_bytes());
    std::thread::sleep(std::time::Duration::from_millis(1300));
    assert_eq!(numbers(&drain(reader.as_mut(), ALL).0), to(60_000));
}

/// A reject keeps the beginning of such a row, not as much of it as a row may have.
#[test]
fn little_is_kept_of_a_row_that_is_too_long() {
    let folder = Folder::new("json_document");
    folder.write("a", format!("[{{\"n\":0,\"t\":\"{}\"}}]", "x".repeat(300_000)).as_bytes());
    let path = folder.path("a");
    let Opened::File(mut file) = WholeRows::open("a", &path, WholeFile::Document, 0, None, 200_000).unwrap() else {
        unreachable!("it is there")
    };
    let chunk = file.read(ALL).unwrap().unwrap();
    assert_eq!((chunk.too_long, chunk.bytes.len()), (Some(300_014), KEPT));
}
