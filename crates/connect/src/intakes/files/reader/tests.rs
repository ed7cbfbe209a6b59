//! Reading files in whole records.

use std::fs;
use std::io::Write as _;
use std::path::Path;

use rstest::rstest;
use sluice_core::config::{OptionValue, Options};
use sluice_core::kinds::{IntakeKind as _, Settings};

use super::*;
use crate::intakes::files::Files;
use crate::intakes::suite;
use crate::testing::{folder_settings, nowhere};

mod formats;
mod moves;

fn settings(root: &Path, pattern: &str, max_record: u64) -> Settings {
    let place = nowhere();
    let mut options = Options::empty(
        vec![sluice_core::config::pipeline::ARRIVAL_OPTIONS, sluice_core::formats::OPTIONS, Files.options()],
        place.clone(),
    );
    options.set("match", OptionValue::Text(pattern.into()), place.clone());
    options.set("max_record", OptionValue::Size(max_record), place.clone());
    folder_settings(root, options)
}

struct Folder(tempfile::TempDir);

impl Folder {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("in")).unwrap();
        Self(folder)
    }

    fn write(&self, name: &str, text: &str) -> &Self {
        let path = self.0.path().join("in").join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::File::options().create(true).append(true).open(path).unwrap().write_all(text.as_bytes()).unwrap();
        self
    }

    fn reader(&self, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>> {
        Files.open(&[settings(self.0.path(), "**/*.jsonl", 1000)]).unwrap().lane(0, 1, positions)
    }
}

/// Reads until caught up: name, from, to, text and records of each chunk.
fn drain(reader: &mut dyn LaneReader, limit: ReadLimit) -> Vec<(String, u64, u64, String, u64)> {
    let mut found = Vec::new();
    while let Read::Chunk(c) = reader.read(limit).unwrap() {
        assert!(c.records <= limit.records);
        found.push((c.partition.to_string(), c.from.major, c.to.major, String::from_utf8(c.bytes).unwrap(), c.records));
    }
    found
}

const ALL: ReadLimit = ReadLimit { records: u64::MAX, bytes: 1 << 20, ends: false };

#[rstest]
#[case(1)]
#[case(3)]
#[case(5)]
#[case(9)]
#[case(1000)]
fn any_limit_gives_the_same_records(#[case] bytes: u64) {
    let folder = Folder::new();
    let text = "{\"a\":1}\n{\"a\":22}\n\n{\"a\":\"閘門\"}\r\n";
    folder.write("x.jsonl", text);
    let found = drain(folder.reader(Vec::new()).unwrap().as_mut(), ReadLimit { records: 2, bytes, ends: false });
    assert_eq!(found.iter().map(|c| c.3.as_str()).collect::<String>(), text);
    assert_eq!(found.iter().map(|c| c.4).sum::<u64>(), 3);
    assert!(found.windows(2).all(|w| w[0].2 == w[1].1), "positions have no gap");
}

#[test]
fn files_come_by_name_and_others_are_passed_over() {
    let folder = Folder::new();
    folder.write("b/2.jsonl", "{}\n").write("a.jsonl", "{}\n").write("c.txt", "{}\n").write(".hidden.jsonl", "{}\n");
    let found = drain(folder.reader(Vec::new()).unwrap().as_mut(), ALL);
    assert_eq!(found.iter().map(|c| c.0.as_str()).collect::<Vec<_>>(), ["a.jsonl", "b/2.jsonl"]);
}

#[test]
fn a_growing_file_is_read_on_from_its_last_whole_record() {
    let folder = Folder::new();
    folder.write("a.jsonl", "{\"a\":1}\n{\"a\"");
    let mut reader = folder.reader(Vec::new()).unwrap();
    assert_eq!(drain(reader.as_mut(), ALL)[0].3, "{\"a\":1}\n");
    assert!(reader.remarks()[0].contains("4 B from byte 8"), "{:?}", reader.remarks());
    folder.write("a.jsonl", ":2}\n").write("new.jsonl", "{}\n");
    std::thread::sleep(FRESH);
    let found = drain(reader.as_mut(), ALL);
    assert_eq!((found[0].1, found[0].3.as_str(), found[1].0.as_str()), (8, "{\"a\":2}\n", "new.jsonl"));
    assert!(reader.remarks().is_empty());
}

#[test]
fn a_last_record_without_line_end_counts_once() {
    let folder = Folder::new();
    folder.write("a.jsonl", "{\"a\":1}");
    let mut reader = folder.reader(Vec::new()).unwrap();
    assert_eq!(drain(reader.as_mut(), ALL)[0].4, 1);
    folder.write("a.jsonl", "\n{\"a\":2}\n");
    std::thread::sleep(FRESH);
    assert_eq!(drain(reader.as_mut(), ALL).iter().map(|c| c.4).sum::<u64>(), 1);
}

fn read_to(folder: &Folder) -> Vec<PartitionPosition> {
    let mut reader = folder.reader(Vec::new()).unwrap();
    let mut last = None;
    while let Read::Chunk(c) = reader.read(ALL).unwrap() {
        last = Some(PartitionPosition { partition: c.partition, position: c.to, identity: c.identity });
    }
    last.into_iter().collect()
}

#[test]
fn reading_resumes_at_the_position() {
    let folder = Folder::new();
    folder.write("a.jsonl", &"{\"a\":1}\n".repeat(1000));
    let positions = read_to(&folder);
    folder.write("a.jsonl", "{\"a\":2}\n");
    let found = drain(folder.reader(positions).unwrap().as_mut(), ALL);
    assert_eq!(found, [("a.jsonl".to_string(), 8000, 8008, "{\"a\":2}\n".to_string(), 1)]);
}

#[rstest]
#[case::cut("{\"a\":1}\n", "cut or replaced")]
#[case::replaced("{\"b\":1}\n{\"b\":2}\n{\"b\":3}\n", "is not the file that was read")]
fn another_file_under_the_name_stops_the_run(#[case] text: &str, #[case] message: &str) {
    let folder = Folder::new();
    folder.write("a.jsonl", "{\"a\":1}\n{\"a\":2}\n");
    let positions = read_to(&folder);
    fs::write(folder.0.path().join("in/a.jsonl"), text).unwrap();
    // All others are read before.
    folder.write("b.jsonl", "{}\n");
    let mut reader = folder.reader(positions).unwrap();
    assert!(matches!(reader.read(ALL).unwrap(), Read::Chunk(c) if &*c.partition == "b.jsonl"));
    let failure = stuck(reader.as_mut());
    assert!(failure.message.contains(message), "{failure}");
    assert!(failure.help.is_some() && !failure.passing);
}

/// Why reading is stuck, after everything else was read.
fn stuck(reader: &mut dyn LaneReader) -> Failure {
    loop {
        match reader.read(ALL).unwrap() {
            Read::Chunk(_) => {}
            Read::Stuck(failure) => return failure,
            other => panic!("it is not stuck: {other:?}"),
        }
    }
}

#[test]
fn a_file_that_was_taken_away_after_reading_is_no_failure() {
    let folder = Folder::new();
    folder.write("a.jsonl", "{}\n");
    let positions = read_to(&folder);
    fs::remove_file(folder.0.path().join("in/a.jsonl")).unwrap();
    assert!(drain(folder.reader(positions).unwrap().as_mut(), ALL).is_empty());
}

#[rstest]
#[case(1200, ReadLimit { records: 10, bytes: 100, ends: false })]
#[case(3_000_000, ReadLimit { records: 10, bytes: 100, ends: false })]
#[case(1200, ALL)]
fn a_record_that_is_too_long_is_passed_over(#[case] length: usize, #[case] limit: ReadLimit) {
    let folder = Folder::new();
    folder.write("a.jsonl", "{\"a\":1}\n").write("a.jsonl", &"x".repeat(length)).write("a.jsonl", "\n{\"a\":2}\n");
    let mut reader = folder.reader(Vec::new()).unwrap();
    let (mut long, mut records, mut end) = (Vec::new(), 0, 0);
    while let Read::Chunk(c) = reader.read(limit).unwrap() {
        assert_eq!(c.from.major, end);
        end = c.to.major;
        records += c.records;
        long.extend(c.too_long);
    }
    assert_eq!((records, end), (3, length as u64 + 17));
    if limit.bytes == 100 {
        assert_eq!(long, [length as u64 + 1]);
    }
}

#[test]
fn a_long_record_without_an_end_waits() {
    let folder = Folder::new();
    folder.write("a.jsonl", &"x".repeat(5000));
    let mut reader = folder.reader(Vec::new()).unwrap();
    assert!(drain(reader.as_mut(), ALL).is_empty());
    assert!(reader.remarks()[0].contains("4.88 KiB"), "{:?}", reader.remarks());
    folder.write("a.jsonl", "\n");
    std::thread::sleep(FRESH);
    assert!(matches!(reader.read(ALL).unwrap(), Read::Chunk(c) if c.too_long == Some(5001)));
}

#[test]
fn lanes_share_the_files_among_them() {
    let folder = Folder::new();
    for i in 0..20 {
        folder.write(&format!("{i}.jsonl"), "{}\n");
    }
    let intake = Files.open(&[settings(folder.0.path(), "*.jsonl", 1000)]).unwrap();
    let mut names = Vec::new();
    for lane in 0..3 {
        let found = drain(intake.lane(lane, 3, Vec::new()).unwrap().as_mut(), ALL);
        assert!(!found.is_empty());
        names.extend(found.into_iter().map(|c| c.0));
    }
    names.sort();
    names.dedup();
    assert_eq!(names.len(), 20);
}

#[test]
fn a_missing_folder_has_a_remedy() {
    let folder = tempfile::tempdir().unwrap();
    let settings = settings(folder.path(), "*", 1000);
    assert!(Files.view(std::slice::from_ref(&settings)).err().unwrap().help.is_some());
    assert_eq!(Files.check(&settings)[0].code, "place.missing");
}

#[test]
fn a_record_longer_than_allowed_in_a_large_chunk_is_found() {
    let folder = Folder::new();
    folder.write("a.jsonl", &format!("{{\"a\":\"{}\"}}\n", "y".repeat(2000)));
    let mut reader = folder.reader(Vec::new()).unwrap();
    assert!(matches!(reader.read(ALL).unwrap(), Read::Chunk(c) if c.too_long.is_some()));
}

impl suite::Source for Folder {
    fn kind(&self) -> &dyn sluice_core::kinds::IntakeKind {
        &Files
    }

    fn settings(&self) -> Settings {
        settings(self.0.path(), "**/*.jsonl", 1000)
    }

    fn add(&self, partition: usize, from: u64, to: u64) {
        let lines: String = (from..to).map(|n| format!("{{\"n\":{n}}}\n")).collect();
        self.write(&format!("depot/{partition}.jsonl"), &lines);
    }
}

#[rstest]
fn the_shared_suite(
    #[values(
        suite::everything_is_read_once_and_in_order,
        suite::reading_goes_on_where_it_was,
        suite::what_is_unread_is_reported,
        suite::what_was_not_sealed_is_read_again,
        suite::each_partition_has_one_lane,
        suite::ranges_are_read_again_exactly,
        suite::looking_moves_nothing,
        suite::what_is_left_agrees_with_what_was_read,
        suite::an_empty_source_has_caught_up
    )]
    test: fn(&dyn suite::Source),
) {
    test(&Folder::new());
}
