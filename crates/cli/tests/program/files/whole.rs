//! Files that are read as a whole, Parquet, Arrow IPC, Avro and JSON documents, through everything that reads events.

use std::sync::Arc;

use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray};
use arrow_avro::writer::AvroWriter;
use arrow_ipc::writer::FileWriter;
use arrow_schema::{DataType, Field, Schema};
use parquet::arrow::ArrowWriter;
use rstest::rstest;

use crate::common::{Expected, PIPELINE, TestProject};

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

/// Weighings of these numbers as a file of a format: every 50th weighs more than its type holds.
fn file(format: &str, expected: &mut Expected, from: u32, count: u32) -> Vec<u8> {
    let (mut tickets, mut days, mut weights) = (Vec::new(), Vec::new(), Vec::new());
    let mut lines = Vec::new();
    for number in from..from + count {
        let ticket = format!("T{number:06}");
        let day = format!("2026-04-0{}", 1 + number % 3);
        let gross = if number % 50 == 7 { 3_000_000_000 } else { i64::from(number % 1000) };
        let line = format!("{{\"ticket\":\"{ticket}\",\"day\":\"{day}\",\"gross_kg\":{gross}}}");
        match gross {
            3_000_000_000 => expected.rejected.push(line.clone()),
            gross => {
                if gross > 500 {
                    expected.heavy.insert(ticket.clone(), 1);
                }
                expected.archive.insert(ticket.clone(), 1);
            }
        }
        lines.push(line);
        tickets.push(ticket);
        days.push(day);
        weights.push(gross);
    }
    expected.rejected.sort();
    if format == "json_document" {
        return format!("[\n  {}\n]\n", lines.join(",\n  ")).into_bytes();
    }
    let fields = [("ticket", DataType::Utf8), ("day", DataType::Utf8), ("gross_kg", DataType::Int64)];
    let fields: Vec<Field> = fields.into_iter().map(|(name, ty)| Field::new(name, ty, false)).collect();
    let schema = Arc::new(Schema::new(fields));
    let columns: Vec<ArrayRef> = vec![
        Arc::new(StringArray::from(tickets)),
        Arc::new(StringArray::from(days)),
        Arc::new(Int64Array::from(weights)),
    ];
    let rows = RecordBatch::try_new(schema.clone(), columns).unwrap();
    let pieces: Vec<RecordBatch> =
        (0..rows.num_rows()).step_by(40).map(|at| rows.slice(at, 40.min(rows.num_rows() - at))).collect();
    match format {
        "parquet" => {
            let mut writer = ArrowWriter::try_new(Vec::new(), schema, None).unwrap();
            pieces.iter().for_each(|piece| writer.write(piece).unwrap());
            writer.into_inner().unwrap()
        }
        "arrow" => {
            let mut writer = FileWriter::try_new(Vec::new(), &schema).unwrap();
            pieces.iter().for_each(|piece| writer.write(piece).unwrap());
            writer.into_inner().unwrap()
        }
        _ => {
            let mut writer = AvroWriter::new(Vec::new(), schema.as_ref().clone()).unwrap();
            pieces.iter().for_each(|piece| writer.write(piece).unwrap());
            writer.finish().unwrap();
            writer.into_inner()
        }
    }
}

fn pipeline(format: &str) -> String {
    PIPELINE.replace("match = \"*.jsonl\"", &format!("match = \"*\"\nformat = \"{format}\""))
}

#[cfg(feature = "failpoints")]
#[rstest]
fn killed_at_every_point_every_row_lands_exactly_once(
    #[values("parquet", "arrow", "avro", "json_document")] format: &str,
) {
    use std::os::unix::process::ExitStatusExt as _;

    use sluice_core::fail_points::{COMMON, FILES};

    let project = TestProject::new(&pipeline(format));
    let mut expected = Expected::default();
    let mut from = 0;
    for point in COMMON.iter().chain(FILES) {
        project.write(&format!("depots/{from:05}"), file(format, &mut expected, from, 270));
        from += 270;
        let kill = |at: String| project.command(RUN).env("SLUICE_KILL_AT", at).output().unwrap().status.signal();
        if point.starts_with("recover.") {
            assert_eq!(kill("seal.after:1".into()), Some(9), "{point}");
        }
        assert_eq!(kill(format!("{point}:1")), Some(9), "{point} was not reached");
    }
    project.expect(0, RUN);
    expected.check(&project);
}

/// A draft uses the types that the file declares. Its rows can be queried where they land, and replayed.
#[rstest]
fn drafted_queried_and_replayed(#[values("parquet", "arrow", "avro")] format: &str) {
    let project = TestProject::empty();
    project.write("sluice.toml", crate::common::PROJECT);
    let mut expected = Expected::default();
    project.write("depots/a", file(format, &mut expected, 8, 40));
    let (out, _) = project.expect(0, &["peek", "depots/a", "--columns", "ticket, gross_kg", "--when", "gross_kg = 9"]);
    assert!(out.contains("T000009"), "{out}");
    project.expect(0, &["draft", "weighings", "depots:*", "--land-in", "archive"]);
    let text = std::fs::read_to_string(project.path("pipelines/weighings.toml")).unwrap();
    for part in [&format!("format = \"{format}\""), "gross_kg  bigint not null", "ticket    text not null"] {
        assert!(text.contains(part), "{part} in {text}");
    }
    project.expect(0, &["check", "weighings"]);
    // The draft knows small numbers alone; the file says that there may be larger ones.
    project.write("depots/b", file(format, &mut expected, 48, 60));
    project.expect(0, RUN);
    let landed = |from: &str| {
        let (out, _) =
            project.expect(0, &["peek", "weighings.weighing.archive", "--when", from, "--columns", "ticket"]);
        out
    };
    assert!(landed("gross_kg = 3000000000").contains("T000057"));
    let before = project.json(&["peek", "weighings.weighing.archive"])["rows"].clone();
    let replay = project.json(&["replay", "weighings", "--batches", "1-", "--yes"]);
    assert_eq!((&replay["read"], &replay["rejected"]), (&100.into(), &0.into()), "{replay}");
    let range = project.json(&["replay", "weighings", "--range", "b=5..17", "--plan"]);
    assert!(range.to_string().contains("\"b\""), "{range}");
    assert_eq!(project.json(&["peek", "weighings.weighing.archive"])["rows"], before);
    let states = project.json(&["positions", "weighings"]);
    assert!(states.to_string().contains("\"b\""), "{states}");
}

/// Positions name rows, wherever a reject is shown, and a file that is not of the format is not read as another.
#[test]
fn rejects_name_their_rows() {
    let project = TestProject::new(&pipeline("avro"));
    let mut expected = Expected::default();
    project.write("depots/a", file("avro", &mut expected, 0, 120));
    project.write("depots/b", file("parquet", &mut Expected::default(), 500, 10));
    let (_, err) = project.expect(5, RUN);
    assert!(err.contains("is not a whole Avro file: it does not begin with"), "{err}");
    let rejects = project.json(&["rejects", "weighings", "--show", "10"]);
    let positions: Vec<String> =
        rejects["newest"].as_array().unwrap().iter().map(|r| r["position"].to_string()).collect();
    assert_eq!(positions.len(), 3, "{rejects}");
    assert!(["7", "57", "107"].iter().all(|p| positions.iter().any(|q| q.contains(p))), "{positions:?}");
    std::fs::remove_file(project.path("depots/b")).unwrap();
    project.expect(0, RUN);
    expected.check(&project);
}

/// A file without a row has its schema all the same.
#[rstest]
fn a_draft_needs_no_row(#[values("parquet", "arrow", "avro")] format: &str) {
    let project = TestProject::empty();
    project.write("sluice.toml", crate::common::PROJECT);
    project.write("depots/a", file(format, &mut Expected::default(), 0, 0));
    let (out, _) = project.expect(0, &["draft", "weighings", "depots:a", "--land-in", "archive", "--print"]);
    assert!(out.contains("from the schema of depots:a; no event has come yet"), "{out}");
    assert!(out.contains("gross_kg  bigint not null"), "{out}");
}
