//! Streams that drift from their contract: fields that come, stay away, and change their type. Each is reported once while a run
//! works, and stays to be seen.

use rstest::rstest;

use crate::common::TestProject;

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

fn project(format: &str) -> TestProject {
    let project = TestProject::new(&format!(
        "pipeline = \"weighings\"\nbatch = {{ rows = 1000 }}\n[event.weighing]\n\
         fields = \"n integer not null, kg double precision from 'load.kg', depot text\"\n[event.weighing.arrives]\n\
         at = \"in\"\nmatch = \"*.{format}\"\nformat = \"{format}\"\n\
         [event.weighing.lands.archive]\nat = \"archive\"\npath = \"all\"\nformat = \"jsonl\"\n"
    ));
    project.append("sluice.toml", "[connection.in]\nurl = \"file:in\"\n");
    project
}

fn lines(from: u64, to: u64, rest: &str) -> String {
    (from..to).map(|n| format!("{{\"n\":{n},{rest}}}\n")).collect()
}

#[test]
fn what_comes_and_goes_is_reported_once_and_stays_to_be_seen() {
    let project = project("jsonl");
    project.write("in/1.jsonl", lines(0, 50, "\"load\":{\"kg\":7.5,\"unit\":\"kg\"},\"depot\":\"north\""));
    let (_, said) = project.expect(0, RUN);
    assert!(!said.contains("does not name"), "{said}");
    assert!(!project.expect(0, &["status", "weighings"]).0.contains("--fields"));
    // The weight moves to another name, and one number is a text.
    let later = lines(50, 100, "\"load\":{\"mass\":9,\"unit\":\"kg\"},\"depot\":\"north\"") + "{\"n\":\"many\"}\n";
    project.write("in/2.jsonl", &later);
    let (_, said) = project.expect(0, RUN);
    let new =
        "`load.mass` has come after 50 events, and the contract does not name it: 50 so far; first 2.jsonl at 0: 9";
    let gone =
        "`kg` had a value in 50 events, the last in batch 1 of lane weighing.0.0, and in none of the 50 events since";
    let unfit = "`n`: 1 event rejected for its value; first 2.jsonl at";
    for text in [new, gone, unfit] {
        assert_eq!(said.matches(text).count(), 1, "{text}: {said}");
    }
    assert!(!said.contains("load.unit"), "what was there from the beginning is left out on purpose: {said}");
    for arguments in [&["status", "weighings"][..], &["ledger", "weighings", "--fields"]] {
        let (out, _) = project.expect(0, arguments);
        let out = out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(out.contains(new) && out.contains(gone) && out.contains(unfit), "{out}");
    }
    project.write("in/3.jsonl", lines(100, 130, "\"load\":{\"mass\":9},\"depot\":\"north\""));
    let (_, said) = project.expect(0, RUN);
    assert!(!said.contains("has come after") && !said.contains("had a value"), "once: {said}");
    let found = project.json(&["ledger", "weighings", "--fields"]);
    let event = &found["events"][0];
    assert_eq!((&event["event"], &event["events"]), (&"weighing".into(), &130.into()));
    let of = |name: &str| event["fields"].as_array().unwrap().iter().find(|f| f["record"]["field"] == name).unwrap();
    assert_eq!((&of("kg")["record"]["since"], &of("kg")["drifts"][0]), (&80.into(), &"gone".into()));
    assert_eq!((&of("load.mass")["record"]["filled"], &of("load.mass")["drifts"][0]), (&80.into(), &"new".into()));
    assert_eq!(project.json(&["status", "weighings"])["pipelines"][0]["fields"].as_array().unwrap().len(), 3);
    // Where the contract names it, it is new no more.
    let path = project.path("pipelines/weighings.toml");
    let text = std::fs::read_to_string(&path).unwrap().replace("'load.kg'", "'load.mass'");
    std::fs::write(&path, text).unwrap();
    project.write("in/4.jsonl", lines(130, 160, "\"load\":{\"mass\":9},\"depot\":\"north\""));
    project.expect(0, RUN);
    let found = project.json(&["status", "weighings"]);
    let left = found["pipelines"][0]["fields"].as_array().unwrap();
    assert_eq!(left.iter().map(|f| f["drift"].as_str().unwrap()).collect::<Vec<_>>(), ["unfit"], "{left:?}");
}

/// Names and values from outside are cleaned; a replay and a run that reads nothing change no counts.
#[test]
fn hostile_names_are_cleaned_and_what_is_read_again_counts_once() {
    let project = project("jsonl");
    project.write("in/1.jsonl", lines(0, 30, "\"depot\":\"north\""));
    project.expect(0, RUN);
    project.write("in/2.jsonl", lines(30, 60, "\"\\u001b[31mx\\ny\":\"\\u001b[2J\""));
    let (out, said) = project.expect(0, RUN);
    assert!(said.contains("has come after 30 events"), "{said}");
    assert!(!out.contains('\u{1b}') && !said.contains('\u{1b}'), "{said}");
    assert!(!project.expect(0, &["ledger", "weighings", "--fields"]).0.contains('\u{1b}'));
    let before = project.json(&["ledger", "weighings", "--fields"]);
    project.expect(0, RUN);
    project.expect(0, &["replay", "weighings", "--batches", "1-2", "--reason", "again", "--yes"]);
    assert_eq!(project.json(&["ledger", "weighings", "--fields"]), before);
}

/// Every format whose records can have other fields reports them.
#[rstest]
#[case("csv", "n,load.kg,depot\n", "n,load.kg,depot,mass\n", ",1.5,north", ",1.5,north,9")]
#[case("jsonl", "", "", "", "\"mass\":9")]
fn each_format_reports_new_fields(
    #[case] format: &str,
    #[case] first_head: &str,
    #[case] later_head: &str,
    #[case] first: &str,
    #[case] later: &str,
) {
    let project = project(format);
    let rows = |from: u64, head: &str, rest: &str| match format {
        "jsonl" if rest.is_empty() => lines(from, from + 30, "\"depot\":\"north\""),
        "jsonl" => lines(from, from + 30, rest),
        _ => head.to_string() + &(from..from + 30).map(|n| format!("{n}{rest}\n")).collect::<String>(),
    };
    project.write(&format!("in/1.{format}"), rows(0, first_head, first));
    project.expect(0, RUN);
    project.write(&format!("in/2.{format}"), rows(30, later_head, later));
    let (_, said) = project.expect(0, RUN);
    assert!(said.contains("`mass` has come after 30 events"), "{said}");
}
