//! Header rows, last records without a line end, and packed files.

use std::io::Write as _;

use super::*;
use crate::intakes::files::sample;
use crate::packed::{Packing, pack};
use sluice_core::formats::csv;
use sluice_core::formats::{Csv, JsonLines};

fn csv_reader(folder: &Folder, positions: Vec<PartitionPosition>) -> FilesReader {
    let scan = Scan::new(&settings(folder.0.path(), "**/*.csv*", 1000)).unwrap();
    let format = Arc::new(Csv::new(csv::Dialect::default()));
    FilesReader::new(scan, format, 1000, (0, 1), positions, AllProgress::default())
}

fn chunks(reader: &mut dyn LaneReader, limit: ReadLimit) -> Vec<Chunk> {
    let mut found = Vec::new();
    while let Read::Chunk(chunk) = reader.read(limit).unwrap() {
        found.push(chunk);
    }
    found
}

fn last_position(chunks: &[Chunk]) -> Vec<PartitionPosition> {
    let last = chunks.last().unwrap();
    vec![PartitionPosition {
        partition: Arc::clone(&last.partition),
        position: last.to,
        identity: last.identity.clone(),
    }]
}

fn gzip(text: &str) -> Vec<u8> {
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(text.as_bytes()).unwrap();
    packed.finish().unwrap()
}

fn put(folder: &Folder, name: &str, bytes: &[u8]) {
    fs::write(folder.0.path().join("in").join(name), bytes).unwrap();
}

#[rstest]
#[case(1)]
#[case(7)]
#[case(30)]
#[case(1 << 20)]
fn the_head_is_no_event_and_stands_beside_every_chunk(#[case] bytes: u64) {
    let folder = Folder::new();
    let text = "id,note\n1,\"two\nlines\"\n2,x\n3,y\n";
    folder.write("a.csv", text);
    let found = chunks(&mut csv_reader(&folder, Vec::new()), ReadLimit { records: 2, bytes, ends: false });
    let all: Vec<u8> = found.iter().flat_map(|c| c.bytes.clone()).collect();
    assert_eq!(String::from_utf8(all).unwrap(), text);
    assert_eq!(found.iter().map(|c| c.records).sum::<u64>(), 3);
    assert!(found.iter().all(|c| c.head.as_deref() == Some(b"id,note\n".as_slice())));
}

#[test]
fn reading_on_finds_the_head_again() {
    let folder = Folder::new();
    folder.write("a.csv", "id,note\n1,x\n");
    let positions = last_position(&chunks(&mut csv_reader(&folder, Vec::new()), ALL));
    folder.write("a.csv", "2,y\n");
    let found = chunks(&mut csv_reader(&folder, positions), ALL);
    assert_eq!((found.len(), found[0].bytes.as_slice(), found[0].from.major), (1, b"2,y\n".as_slice(), 12));
    assert_eq!(found[0].head.as_deref(), Some(b"id,note\n".as_slice()));
}

#[test]
fn a_head_alone_is_no_batch_and_no_remark() {
    let folder = Folder::new();
    folder.write("a.csv", "id,note\n");
    let mut reader = csv_reader(&folder, Vec::new());
    assert!(chunks(&mut reader, ALL).is_empty() && reader.remarks().is_empty());
    folder.write("a.csv", "1,x\n");
    std::thread::sleep(FRESH);
    assert_eq!(chunks(&mut reader, ALL)[0].records, 1);
}

#[test]
fn a_last_record_without_line_end_is_taken_once_the_file_is_quiet() {
    let folder = Folder::new();
    folder.write("a.csv", "id,note\n1,x\n2,y");
    let found = chunks(&mut csv_reader(&folder, Vec::new()), ALL);
    assert_eq!(found.iter().map(|c| c.records).sum::<u64>(), 2);
    let positions = last_position(&found);
    // Its line end may come later, and records after it.
    folder.write("a.csv", "\n3,z\n");
    let more = chunks(&mut csv_reader(&folder, positions.clone()), ALL);
    assert_eq!(more.iter().map(|c| c.records).sum::<u64>(), 1);
    // What makes it another record is a reject of its own, and reading goes on after it.
    put(&folder, "a.csv", b"id,note\n1,x\n2,yellow\n3,z\n");
    let more = chunks(&mut csv_reader(&folder, positions), ALL);
    let shown: Vec<_> = more.iter().map(|c| (c.grown, c.records, String::from_utf8_lossy(&c.bytes))).collect();
    assert_eq!(shown, [(true, 1, "ellow\n".into()), (false, 1, "3,z\n".into())]);
}

#[test]
fn a_record_that_still_grows_waits_for_its_line_end() {
    let folder = Folder::new();
    folder.write("a.csv", "id,note\n1,x");
    let positions = last_position(&chunks(&mut csv_reader(&folder, Vec::new()), ALL));
    folder.write("a.csv", "yz");
    let mut reader = csv_reader(&folder, positions);
    assert!(chunks(&mut reader, ALL).is_empty());
    folder.write("a.csv", "\n2,y\n");
    std::thread::sleep(FRESH);
    assert_eq!(
        chunks(&mut reader, ALL).iter().map(|c| (c.grown, c.records)).collect::<Vec<_>>(),
        [(true, 1), (false, 1)]
    );
}

#[test]
fn an_open_quote_costs_its_own_line() {
    let folder = Folder::new();
    folder.write("a.csv", &format!("id,note\n1,\"open\n{}", "2,x\n".repeat(1000)));
    let found = chunks(&mut csv_reader(&folder, Vec::new()), ALL);
    assert_eq!(found.iter().map(|c| c.records).sum::<u64>(), 1001);
}

#[rstest]
#[case::gzip("a.csv.gz", Packing::Gzip)]
#[case::zstd("a.csv.zst", Packing::Zstd)]
#[case::bzip2("a.csv.bz2", Packing::Bzip2)]
#[case::xz("a.csv.xz", Packing::Xz)]
#[case::lz4("a.csv.lz4", Packing::Lz4)]
#[case::snappy("a.csv.sz", Packing::Snappy)]
#[case::zip("a.csv.zip", Packing::Zip)]
fn packed_files_are_read_as_what_they_hold(#[case] name: &str, #[case] packing: Packing) {
    let folder = Folder::new();
    let text = format!("id,note\n{}", "1,x\n".repeat(500));
    put(&folder, name, &pack(packing, text.as_bytes()));
    let limit = ReadLimit { records: 300, bytes: 1 << 20, ends: false };
    let found = chunks(&mut csv_reader(&folder, Vec::new()), limit);
    let all: Vec<u8> = found.iter().flat_map(|c| c.bytes.clone()).collect();
    assert_eq!(String::from_utf8(all).unwrap(), text);
    // From the middle on, and from the end.
    let rest = chunks(&mut csv_reader(&folder, last_position(&found[..1])), limit);
    assert_eq!((rest.len(), rest[0].from, rest[0].records), (1, found[1].from, 200));
    assert!(chunks(&mut csv_reader(&folder, last_position(&found)), limit).is_empty());
    // Another file under its name is noticed.
    put(&folder, name, &gzip("id,other\n1,2\n"));
    let failure = stuck(&mut csv_reader(&folder, last_position(&found)));
    assert!(failure.message.contains("is not the file that was read"), "{failure}");
}

#[test]
fn a_damaged_packed_file_is_said_with_its_remedy() {
    let folder = Folder::new();
    let packed = gzip(&format!("id,note\n{}", "1,x\n".repeat(50_000)));
    put(&folder, "a.csv.gz", &packed[..packed.len() / 2]);
    let mut reader = csv_reader(&folder, Vec::new());
    let failure = loop {
        match reader.read(ALL) {
            Ok(Read::Chunk(_)) => {}
            Ok(Read::Stuck(failure)) => break failure,
            other => panic!("the damage was not noticed: {other:?}"),
        }
    };
    assert!(failure.help.unwrap().contains("damaged or not yet whole"));
}

#[test]
fn a_sample_takes_from_all_files() {
    let folder = Folder::new();
    for i in 0..50 {
        folder.write(&format!("{i:02}.jsonl"), &"{\"a\":1}\n".repeat(100));
    }
    let scan = Scan::new(&settings(folder.0.path(), "*.jsonl", 1000)).unwrap();
    let take = |events| {
        let mut reader = sample::reader(&scan, events, || Ok(Arc::new(JsonLines)), 1000).unwrap();
        let mut names = Vec::new();
        let mut left = events;
        while left > 0
            && let Read::Chunk(chunk) = reader.read(ReadLimit { records: left, bytes: 1 << 20, ends: false }).unwrap()
        {
            left -= chunk.records;
            names.push(chunk.partition.to_string());
        }
        (names, left)
    };
    let (names, left) = take(240);
    assert_eq!((names.len(), left), (24, 0));
    assert_eq!(names.last().unwrap(), "47.jsonl");
    let (names, left) = take(u64::MAX);
    assert_eq!((names.len(), u64::MAX - left), (50, 5000));
}
