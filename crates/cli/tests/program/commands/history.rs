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
