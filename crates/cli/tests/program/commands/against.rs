//! What an edited file would change of all that has landed.

use serde_json::Value;

use crate::common::{Expected, PIPELINE, TestProject};

fn with_landed(events: u32) -> (TestProject, Expected) {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, events));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    (project, expected)
}

fn against(project: &TestProject, code: i32, more: &[&str]) -> Value {
    project.json_of(code, &[&["rehearse", "weighings", "--against", "landed"], more].concat())
}

/// Same, differ, no longer, in addition.
fn sums(found: &Value, landing: &str) -> [u64; 4] {
    let landings = found["landings"].as_array().unwrap();
    let own = landings.iter().find(|l| l["landing"] == landing).unwrap_or_else(|| panic!("{landing}\n{found:#}"));
    ["same", "differ", "no_longer", "in_addition"].map(|key| own[key].as_u64().unwrap())
}

fn edit(project: &TestProject, from: &str, to: &str) {
    let text = std::fs::read_to_string(project.path("pipelines/weighings.toml")).unwrap();
    assert!(text.contains(from), "{text}");
    project.write("pipelines/weighings.toml", text.replace(from, to));
}

#[test]
fn the_same_file_would_land_the_same() {
    let (project, expected) = with_landed(730);
    let found = against(&project, 0, &[]);
    assert_eq!((found["events"].as_u64(), found["batches"].as_u64()), (Some(730), Some(8)), "{found:#}");
    assert_eq!(sums(&found, "weighing.archive"), [expected.archive.len() as u64, 0, 0, 0]);
    assert_eq!(sums(&found, "weighing.heavy"), [expected.heavy.len() as u64, 0, 0, 0]);
    let (said, _) = project.expect(0, &["rehearse", "weighings", "--against", "landed"]);
    assert!(said.contains("nothing would be different"), "{said}");
}

/// What it says is what a replay then does, and nothing differs afterwards.
#[test]
fn what_would_differ_is_what_a_replay_changes() {
    let (project, expected) = with_landed(730);
    let before = project.heavy();
    edit(&project, "gross_kg > 500", "gross_kg > 600");
    edit(
        &project,
        "columns = \"ticket, gross_kg\"",
        "columns = \"ticket, gross_kg + case when gross_kg > 700 then 1 else 0 end as gross_kg\"",
    );
    let found = against(&project, 6, &[]);
    assert_eq!(sums(&found, "weighing.archive"), [expected.archive.len() as u64, 0, 0, 0]);
    let [same, differ, gone, added] = sums(&found, "weighing.heavy");
    assert_eq!((same + differ + gone, added), (expected.heavy.len() as u64, 0));
    assert!(same > 0 && differ > 0 && gone > 0, "{found:#}");
    assert_eq!(found["differences"].as_array().unwrap().len() as u64, (differ + gone).min(200));
    let (said, _) = project.expect(6, &["rehearse", "weighings", "--against", "landed"]);
    assert!(said.contains("no longer") && said.contains("sluice replay weighings --batches 1-8"), "{said}");
    project.expect(0, &["replay", "weighings", "--batches", "1-8", "--reason", "heavier", "--yes"]);
    let after = project.heavy();
    assert_eq!(before.len() - after.len(), usize::try_from(gone).unwrap());
    let found = against(&project, 0, &[]);
    assert_eq!(sums(&found, "weighing.heavy"), [same + differ, 0, 0, 0]);
    // The other way round, rows would come.
    edit(&project, "gross_kg > 600", "gross_kg > 500");
    assert_eq!(sums(&against(&project, 6, &[]), "weighing.heavy"), [same + differ, 0, 0, gone]);
}

#[test]
fn landings_and_contracts_that_change_are_told() {
    let (project, expected) = with_landed(300);
    let (good, heavy) = (expected.archive.len() as u64, expected.heavy.len() as u64);
    // A type that fewer values fit.
    edit(&project, "gross_kg integer not null", "gross_kg decimal(2,0) not null");
    let found = against(&project, 6, &["--landing", "archive"]);
    let [same, differ, gone, added] = sums(&found, "weighing.archive");
    // The same numbers, spelled the same, are the same rows.
    assert_eq!((same + gone, differ, added), (good, 0, 0), "{found:#}");
    assert!(same > 0 && gone > 0 && found["landings"].as_array().unwrap().len() == 1);
    // Another name of a landing is another landing.
    edit(&project, "gross_kg decimal(2,0) not null", "gross_kg integer not null");
    edit(&project, "path    = \"heavy\"", "path    = \"heavy2\"");
    assert_eq!(sums(&against(&project, 0, &[]), "weighing.heavy"), [heavy, 0, 0, 0]);
}

#[test]
fn batches_are_chosen_by_time() {
    let (project, _) = with_landed(200);
    let (_, said) = project.expect(3, &["rehearse", "weighings", "--against", "landed", "--until", "2020-01-01"]);
    assert!(said.contains("no batch of weighings has settled"), "{said}");
    let found = against(&project, 0, &["--since", "1h"]);
    assert_eq!(found["events"], 200);
    project.expect(2, &["rehearse", "weighings", "--against", "landed", "--events", "10"]);
    // A source that is gone is named, and nothing is taken for the same.
    std::fs::remove_file(project.path("depots/a.jsonl")).unwrap();
    let found = against(&project, 0, &[]);
    let why = found["left_out"][0]["why"].as_str().unwrap();
    assert!(why.contains("does not have its events any more"), "{found:#}");
    assert_eq!(found["landings"], serde_json::json!([]));
}

/// An event that was retried has landed by the file of that time.
#[test]
fn a_retried_event_is_compared_with_its_own_reading() {
    let ratio = "columns = \"ticket, gross_kg / (gross_kg - 800) as gross_kg\"";
    let project = TestProject::new(&PIPELINE.replace("columns = \"ticket, gross_kg\"", ratio));
    project.write(
        "depots/a.jsonl",
        "{\"ticket\":\"a\",\"day\":\"2026-04-01\",\"gross_kg\":700}\n{\"ticket\":\"b\",\"day\":\"2026-04-01\",\"gross_kg\":800}\n",
    );
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    assert_eq!(project.heavy().len(), 1);
    edit(
        &project,
        "gross_kg / (gross_kg - 800) as",
        "case when gross_kg = 800 then 1 else gross_kg / (gross_kg - 800) end as",
    );
    let found = against(&project, 6, &["--landing", "heavy"]);
    assert_eq!(sums(&found, "weighing.heavy"), [1, 0, 0, 1]);
    project.expect(0, &["rejects", "weighings", "--retry", "--yes"]);
    assert_eq!(project.heavy().len(), 2);
    let found = against(&project, 0, &["--landing", "heavy"]);
    assert_eq!(sums(&found, "weighing.heavy"), [2, 0, 0, 0]);
}
