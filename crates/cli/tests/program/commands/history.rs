//! Totals over time, and batches that stand out.

use crate::common::{Expected, PIPELINE, TestProject};

fn with_batches() -> TestProject {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 230));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    project
}

#[test]
fn totals_over_time_are_the_sums_of_batches() {
    let project = with_batches();
    for by in ["hour", "day"] {
        let found = project.json(&["ledger", "weighings", "--by", by]);
        assert_eq!(found["by"], by);
        let sum = |key: &str| {
            let periods = found["periods"].as_array().unwrap();
            periods.iter().map(|period| period[key].as_u64().unwrap()).sum::<u64>()
        };
        let totals = project.json(&[])["pipelines"][0]["totals"].clone();
        for key in ["batches", "read", "bytes", "rejected", "landed"] {
            assert_eq!(sum(key), totals[key].as_u64().unwrap(), "{key}\n{found:#}");
        }
        let (said, _) = project.expect(0, &["ledger", "weighings", "--by", by]);
        assert!(said.contains(&format!("{by} (UTC)")) && said.contains("longest batch"), "{said}");
    }
    assert_eq!(project.json(&["ledger", "weighings", "--by", "hour", "--show", "0"])["periods"], serde_json::json!([]));
}

#[test]
fn batches_that_stand_out_come_first() {
    let project = with_batches();
    for (option, key) in [("--largest", "bytes"), ("--slowest", "took")] {
        let found = project.json(&["ledger", "weighings", option, "2"])["batches"].clone();
        let value = |batch: &serde_json::Value| match key {
            "took" => batch["settled_at"].as_i64().unwrap() - batch["opened_at"].as_i64().unwrap(),
            key => batch[key].as_i64().unwrap(),
        };
        let all = project.json(&["ledger", "weighings"])["batches"].clone();
        let mut expected: Vec<i64> = all.as_array().unwrap().iter().map(value).collect();
        expected.sort_unstable_by(|a, b| b.cmp(a));
        let found: Vec<i64> = found.as_array().unwrap().iter().map(value).collect();
        assert_eq!(found, expected[..2], "{option}");
    }
    project.expect(2, &["ledger", "weighings", "--slowest", "2", "--largest", "2"]);
    let empty = TestProject::new(PIPELINE);
    for arguments in [&["ledger", "weighings", "--by", "day"][..], &["ledger", "weighings", "--slowest", "3"]] {
        assert!(empty.expect(0, arguments).0.contains("no batches yet"));
    }
}

#[test]
fn failures_are_kept_with_their_reasons() {
    let project = with_batches();
    assert!(project.expect(0, &["ledger", "weighings", "--failures"]).0.contains("no run has failed"));
    std::fs::rename(project.path("depots"), project.path("away")).unwrap();
    project.expect(5, &["run", "weighings", "--until-caught-up"]);
    std::fs::rename(project.path("away"), project.path("depots")).unwrap();
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let found = project.json(&["ledger", "weighings", "--failures"]);
    let failures = found["failures"].as_array().unwrap();
    assert_eq!(failures.len(), 1, "{found:#}");
    assert!(failures[0]["message"].as_str().unwrap().contains("depots does not exist"), "{found:#}");
    let (said, _) = project.expect(0, &["ledger", "weighings", "--failures"]);
    assert!(said.contains("unreachable") && said.contains("depots does not exist"), "{said}");
}

#[test]
fn all_batches_can_be_written_to_a_file() {
    let project = with_batches();
    let batches = project.json(&["ledger", "weighings"])["batches"].as_array().unwrap().clone();
    let path = |name: &str| project.path(name).to_str().unwrap().to_string();
    for name in ["b.csv", "b.jsonl", "b.parquet"] {
        let found = project.json(&["ledger", "weighings", "--export", &path(name)]);
        assert_eq!(found["batches"], batches.len());
        let (_, said) = project.expect(3, &["ledger", "weighings", "--export", &path(name)]);
        assert!(said.contains("is there already"), "{said}");
    }
    let csv = std::fs::read_to_string(project.path("b.csv")).unwrap();
    assert!(
        csv.starts_with("lane,number,state,opened_at,sealed_at,settled_at,read,bytes,rejected,landed,texts\n"),
        "{csv}"
    );
    let json = std::fs::read_to_string(project.path("b.jsonl")).unwrap();
    assert_eq!((csv.lines().count(), json.lines().count()), (batches.len() + 1, batches.len()));
    for (line, batch) in json.lines().zip(&batches) {
        let line: serde_json::Value = serde_json::from_str(line).unwrap();
        let landings = batch["landings"].as_array().unwrap().iter().filter(|l| l["landing"] != "rejects");
        assert_eq!(line["landed"], landings.map(|l| l["rows"].as_u64().unwrap()).sum::<u64>());
        for key in ["lane", "number", "state", "read", "bytes", "rejected", "texts"] {
            assert_eq!(line[key], batch[key], "{key}");
        }
    }
    let file = std::fs::File::open(project.path("b.parquet")).unwrap();
    let reader = parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder::try_new(file).unwrap().build().unwrap();
    assert_eq!(reader.map(|rows| rows.unwrap().num_rows()).sum::<usize>(), batches.len());
    let (_, said) = project.expect(3, &["ledger", "weighings", "--export", &path("b.txt")]);
    assert!(said.contains("does not end with .csv, .jsonl, .parquet"), "{said}");
    // Nothing is left half written.
    let hidden = std::fs::read_dir(project.path(""))
        .unwrap()
        .filter(|e| e.as_ref().unwrap().file_name().to_string_lossy().ends_with(".part"));
    assert_eq!(hidden.count(), 0);
}
