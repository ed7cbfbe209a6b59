//! Events made of the elements of lists.

use super::{balanced, project, rejected, rows};
use crate::common::TestProject;
use rstest::rstest;
use serde_json::{Value, json};

const RUN: &[&str] = &["run", "passages", "--until-caught-up"];

const EVENTS: &str = r#"
pipeline = "passages"
batch = { rows = 150 }
rejects = { share = "90%", least = 100000 }
[event.manifest]
fields = "vessel_no text not null, passed_at timestamptz not null, items json, note text"
time = "passed_at"
[event.manifest.arrives]
at = "locks"
match = "*.jsonl"
[event.manifest.lands.all]
at = "archive"
path = "all"
format = "jsonl"
columns = "vessel_no"
"#;

const ITEM: &str = r#"
[event.item.made]
of = "manifest"
unfold = "items as item"
when = "item ->> 'kind' is distinct from 'ballast'"
columns = "vessel_no, passed_at, item_number as number, item ->> 'kind' as kind, cast(item ->> 'tons' as decimal(8,2)) as tons"
[event.item.lands.archive]
at = "archive"
path = "items"
format = "jsonl"
"#;

pub(super) fn pipeline(more: &str) -> String {
    [EVENTS, ITEM, more].concat()
}

/// The elements of the nth list: their kinds and tons.
fn items(n: u64) -> Vec<Value> {
    let kinds = ["ore", "oats", "ballast", "lime"];
    (0..n % 5).map(|i| json!({ "kind": kinds[usize::try_from(i % 4).unwrap()], "tons": n + i })).collect()
}

/// Events with lists of no element to four.
pub(super) fn manifests(numbers: std::ops::Range<u64>) -> String {
    let one = |n: u64| {
        let at = format!("2026-07-01T00:{:02}:{:02}Z", n / 60, n % 60);
        format!("{}\n", json!({ "vessel_no": format!("TN-{n}"), "passed_at": at, "items": items(n) }))
    };
    numbers.map(one).collect()
}

/// Each element of the first lists has landed once, but for ballast.
pub(super) fn check(project: &TestProject, lists: u64) {
    let landed = |row: &Value| {
        let tons: f64 = row["tons"].to_string().trim_matches('"').parse().unwrap();
        (row["vessel_no"].as_str().unwrap().to_string(), row["number"].as_u64().unwrap(), tons.to_string())
    };
    let mut found: Vec<_> = rows(project, "items").iter().map(landed).collect();
    let of_list = |n: u64| {
        let kept = (1_u64..).zip(items(n)).filter(|(_, item)| item["kind"] != "ballast");
        kept.map(move |(number, item)| (format!("TN-{n}"), number, item["tons"].to_string())).collect::<Vec<_>>()
    };
    let mut expected: Vec<_> = (0..lists).flat_map(of_list).collect();
    found.sort();
    expected.sort();
    assert_eq!(found, expected);
    balanced(project);
}

#[test]
fn each_element_lands_once_beside_the_columns_of_its_event() {
    let project = project(&pipeline(""));
    let nothing = "{\"vessel_no\":\"none\",\"passed_at\":\"2026-07-01T00:00:00Z\"";
    // No list, and one without elements, is no event.
    project.append("locks/a.jsonl", [&manifests(0..1_000), nothing, "}\n", nothing, ",\"items\":null}\n"].concat());
    project.expect(0, RUN);
    check(&project, 1_000);
    balanced(&project);
    let (out, _) = project.expect(0, &["rehearse", "passages", "--events", "10"]);
    assert!(out.contains("item: 20 in → "), "{out}");
    let (out, _) = project.expect(0, &["rehearse", "passages", "--events", "10", "--trace", "4"]);
    assert!(out.contains("ore") && out.contains("oats"), "{out}");
}

#[test]
fn what_is_not_a_list_and_elements_that_cannot_be_computed_are_rejects() {
    let project = project(&pipeline(""));
    let manifest = |no: &str, items: &str| {
        format!("{{\"vessel_no\":\"{no}\",\"passed_at\":\"2026-07-01T00:00:00Z\",\"items\":{items}}}\n")
    };
    project.append(
        "locks/a.jsonl",
        [
            manifest("A", "[{\"tons\": 1}, {\"tons\": \"heavy\"}, {\"tons\": 3}]"),
            manifest("B", "7"),
            manifest("C", "{\"x\": {\"tons\": 4}}"),
            manifest("D", "\"text\""),
        ]
        .concat(),
    );
    project.expect(0, RUN);
    let mut landed: Vec<String> = rows(&project, "items")
        .iter()
        .map(|r| format!("{}{}", r["vessel_no"].as_str().unwrap(), r["number"]))
        .collect();
    landed.sort();
    assert_eq!(landed, ["A1", "A3", "C1"]);
    let reasons = rejected(&project);
    assert_eq!(reasons.len(), 3, "{reasons:?}");
    balanced(&project);
    // Elements that have landed would land again.
    let (_, err) = project.expect(6, &["rejects", "passages", "--retry", "--yes"]);
    assert!(err.contains("would land again") && err.contains("--batches"), "{err}");
    project.expect(0, &["replay", "passages", "--batches", "1", "--yes"]);
    assert_eq!(rows(&project, "items").len(), 3);
    balanced(&project);
}

/// A cast takes JSON of any depth, and what walks over it does not: nothing of such a list lands.
#[test]
fn a_list_that_is_too_deep_is_a_reject_as_a_whole() {
    let pipeline = pipeline("").replace("unfold = \"items as item\"", "unfold = \"cast(note as json) as item\"");
    let project = project(&pipeline);
    let event = |no: &str, note: String| {
        json!({ "vessel_no": no, "passed_at": "2026-07-01T00:00:00Z", "note": note }).to_string() + "\n"
    };
    let deep = format!("[{{\"tons\": 1}}, {}{}]", "[".repeat(500), "]".repeat(500));
    project.append("locks/a.jsonl", [event("A", deep), event("B", "[{\"tons\": 2}, {\"tons\": 3}]".into())].concat());
    project.expect(0, RUN);
    assert!(rows(&project, "items").iter().all(|row| row["vessel_no"] == "B"));
    assert_eq!((rows(&project, "items").len(), rejected(&project).len()), (2, 1));
    balanced(&project);
}

#[test]
fn windows_count_elements_and_members_have_names() {
    let more = r#"
[event.per_kind.made]
of = "item"
window = { length = "1h" }
close = "caught_up"
group = "kind"
columns = "kind, window_start, count(*) as items, sum(tons) as tons"
[event.per_kind.lands.archive]
at = "archive"
path = "kinds"
format = "jsonl"
[event.member.made]
of = "manifest"
unfold = "items as it"
columns = "it_name as name, it as value"
[event.member.lands.archive]
at = "archive"
path = "members"
format = "jsonl"
"#;
    let project = project(&pipeline(more));
    let line = "{\"vessel_no\":\"A\",\"passed_at\":\"2026-07-01T00:00:00Z\",\"items\":{\"é\\n\":{\"kind\":\"ore\",\"tons\":2},\"b\":{\"kind\":\"ore\",\"tons\":3}}}\n";
    project.append("locks/a.jsonl", line.repeat(200));
    project.expect(0, RUN);
    let kinds = rows(&project, "kinds");
    assert_eq!(kinds.len(), 1, "{kinds:?}");
    assert_eq!((kinds[0]["items"].as_u64(), kinds[0]["kind"].as_str()), (Some(400), Some("ore")));
    let names: Vec<String> =
        rows(&project, "members").iter().take(2).map(|r| r["name"].as_str().unwrap().into()).collect();
    assert_eq!(names, ["é\n", "b"]);
    balanced(&project);
}

#[test]
fn a_small_event_does_not_become_one_of_any_size() {
    let pipeline = pipeline("").replace("columns = \"vessel_no, passed_at", "columns = \"note, vessel_no, passed_at");
    let project = project(&pipeline);
    let event = |note: usize, items: usize| {
        let (note, items) = ("n".repeat(note), vec!["{}"; items].join(","));
        format!(
            "{{\"vessel_no\":\"A\",\"passed_at\":\"2026-07-01T00:00:00Z\",\"note\":\"{note}\",\"items\":[{items}]}}\n"
        )
    };
    project.append("locks/a.jsonl", [event(200_000, 200_000), event(10, 100_000), event(100_000, 10)].concat());
    project.expect(0, RUN);
    assert_eq!(rows(&project, "items").len(), 100_010);
    let reasons = rejected(&project);
    assert_eq!(reasons.len(), 1, "{reasons:?}");
    balanced(&project);
}

#[rstest]
#[case("items as item", "vessel_no as item", "takes json", "cast(items as json)")]
#[case("items as item", "items as vessel_no", "a column `vessel_no` already", "items as item")]
#[case("items as item", "items as item, items as other", "takes one list", "made of this one")]
#[case("items as item", "itms as item", "no column `itms`", "did you mean `items`?")]
#[case(
    "unfold = \"items as item\"",
    "unfold = \"items as item\"\nonce = { key = \"vessel_no\", within = \"1h\" }",
    "`unfold` and `once`",
    "each an event of its own"
)]
fn mistakes_are_shown(#[case] from: &str, #[case] to: &str, #[case] message: &str, #[case] help: &str) {
    let project = project(&pipeline("").replace(from, to));
    let (_, err) = project.expect(3, &["check", "passages", "--offline"]);
    assert!(err.contains(message) && err.contains(help), "{err}");
}

/// The items of a list of SQL have its type; those of JSON are JSON.
#[test]
fn items_of_typed_lists_have_their_type() {
    let text = EVENTS.replace("items json", "items text[], levels integer[]")
        + "[event.item.made]\nof = \"manifest\"\nunfold = \"items as item\"\ncolumns = \"vessel_no, upper(item) as item, item_number as n\"\n\
           [event.item.lands.archive]\nat = \"archive\"\npath = \"items\"\nformat = \"jsonl\"\n\
           [event.level.made]\nof = \"manifest\"\nunfold = \"levels as level\"\ncolumns = \"level + 1 as level\"\n\
           [event.level.lands.archive]\nat = \"archive\"\npath = \"levels\"\nformat = \"jsonl\"\n";
    let project = project(&text);
    let line = "{\"vessel_no\":\"TN-1\",\"passed_at\":\"2026-07-01T00:00:00Z\",\"items\":[\"ore\",null,\"q\\\"ü\"],\"levels\":[41,null]}\n";
    project.write("locks/a.jsonl", line);
    project.expect(0, &["check", "passages"]);
    project.expect(0, RUN);
    let item = |n: u64, item: Value| json!({ "vessel_no": "TN-1", "item": item, "n": n });
    let items = rows(&project, "items");
    assert_eq!(items.len(), 3);
    for expected in [item(1, json!("ORE")), item(2, Value::Null), item(3, json!("Q\"Ü"))] {
        assert!(items.contains(&expected), "{items:?}");
    }
    assert_eq!(rows(&project, "levels").len(), 2);
    assert!(rows(&project, "levels").contains(&json!({ "level": 42 })));
}
