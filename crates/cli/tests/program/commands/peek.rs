//! `peek` at every kind of place.

use std::io::Write as _;
use std::process::Stdio;

use crate::common::{PIPELINE, TestProject};
use rstest::rstest;
use serde_json::Value;

fn project() -> TestProject {
    let project = TestProject::new(PIPELINE);
    let line =
        |i: u32| format!("{{\"ticket\":\"T{i:03}\",\"day\":\"2026-04-0{}\",\"gross_kg\":{}}}\n", 1 + i % 3, i * 10);
    project.write("depots/a.jsonl", (0..100).map(line).collect::<String>());
    project
}

fn gzip(text: &str) -> Vec<u8> {
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(text.as_bytes()).unwrap();
    packed.finish().unwrap()
}

/// Runs with something on standard input.
fn piped(project: &TestProject, arguments: &[&str], input: &[u8]) -> (Option<i32>, String, String) {
    let mut command = project.command(arguments);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    // The program may have seen enough before all of it is written.
    let _ = child.stdin.take().unwrap().write_all(input);
    let output = child.wait_with_output().unwrap();
    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
    (output.status.code(), text(&output.stdout), text(&output.stderr))
}

#[rstest]
#[case("weighings", "weighings.weighing: JSON Lines from depots")]
#[case("weighing", "weighings.weighing: JSON Lines from depots")]
#[case("weighings.weighing", "a")]
#[case("weighing.heavy", "nothing has landed yet")]
#[case("weighings.weighing.heavy", "nothing has landed yet")]
#[case("depots:*", "depots:*: JSON Lines")]
#[case("depots/a.jsonl", "depots/a.jsonl: JSON Lines")]
fn a_place_has_several_names(#[case] place: &str, #[case] text: &str) {
    let (out, _) = project().expect(0, &["peek", place]);
    assert!(out.contains(text), "{out}");
}

#[test]
fn a_name_that_several_pipelines_have_is_asked_back() {
    let project = project();
    let other = PIPELINE
        .replace("\"weighings\"", "\"others\"")
        .replace("path = \"all", "path = \"b")
        .replace("path    = \"heavy", "path    = \"c");
    project.write("pipelines/others.toml", other);
    let (_, err) = project.expect(3, &["peek", "weighing"]);
    assert!(err.contains("several pipelines have `weighing`") && err.contains("others.weighing"), "{err}");
    project.expect(0, &["peek", "others.weighing"]);
}

#[test]
fn a_pipeline_with_mistakes_is_not_looked_through() {
    let project = project();
    project.write("pipelines/weighings.toml", PIPELINE.replace("gross_kg > 500", "gros_kg > 500"));
    let (_, err) = project.expect(3, &["peek", "weighing"]);
    assert!(err.contains("did you mean `gross_kg`?") && err.contains("CONNECTION:PATTERN"), "{err}");
    project.expect(0, &["peek", "depots:*.jsonl"]);
}

#[test]
fn a_landing_that_keeps_nothing_says_so() {
    let project = project();
    project.write("pipelines/weighings.toml", format!("{PIPELINE}\n[event.weighing.lands.see]\nat = \"screen\"\n"));
    let (_, err) = project.expect(3, &["peek", "weighing.see"]);
    assert!(err.contains("keeps nothing that could be looked at"), "{err}");
}

#[test]
fn packed_events_come_by_file_and_by_standard_input() {
    let project = project();
    let text = "id,level\n1,3.5\n2,\n";
    project.write("x.csv.gz", gzip(text));
    let (out, _) = project.expect(0, &["peek", "x.csv.gz"]);
    assert!(out.contains("CSV, delimiter `,`, with a header row, packed by gzip") && out.contains("50 %"), "{out}");
    let (code, out, _) = piped(&project, &["peek", "-", "--output", "json"], &gzip(text));
    let found: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(
        (code, &found["events"], &found["what"]),
        (Some(0), &2.into(), &"CSV, delimiter `,`, with a header row, packed by gzip".into())
    );
}

#[test]
fn standard_input_is_read_no_further_than_is_needed() {
    let project = TestProject::empty();
    let input = "{\"a\":1}\n".repeat(200_000);
    let (code, out, _) = piped(&project, &["peek", "-", "--raw", "--events", "3"], input.as_bytes());
    assert_eq!((code, out.as_str()), (Some(0), "{\"a\":1}\n{\"a\":1}\n{\"a\":1}\n"));
    let (code, _, err) = piped(&project, &["peek", "-"], b"");
    assert!(code == Some(3) && err.contains("nothing in it"), "{err}");
}

#[rstest]
#[case(&["--when", "gross_kg >= 500 and ticket <> 'T099'"], 49)]
#[case(&["--columns", "ticket, gross_kg / 0 as broken"], 0)]
#[case(&["--when", "day = date '2026-04-01'", "--columns", "upper(ticket) as t"], 34)]
fn a_question_is_answered_over_all_that_has_landed(#[case] question: &[&str], #[case] matched: u64) {
    let project = project();
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    for place in ["weighing.archive", "weighing", "depots/a.jsonl"] {
        let found = project.json(&[&["peek", place], question].concat());
        assert_eq!(found["matched"], matched, "{place}: {found}");
        assert_eq!(found["faults"].as_u64().unwrap(), if matched == 0 { 100 } else { 0 });
    }
}

#[test]
fn what_has_landed_is_counted_and_shown() {
    let project = project();
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let found = project.json(&["peek", "weighing.archive", "--show", "2"]);
    assert_eq!((&found["rows"], found["first"].as_array().unwrap().len()), (&100.into(), 2));
    assert_eq!((&found["fields"][2]["type"], &found["fields"][2]["largest"]), (&"integer".into(), &"990".into()));
    let (out, _) = project.expect(0, &["peek", "weighing.heavy", "--raw", "--events", "1"]);
    assert_eq!(out, "{\"ticket\":\"T051\",\"gross_kg\":510}\n");
    // A file of it, named by its path, and cut off.
    let file = crate::common::visible_files(&project.path("archive/all")).remove(0);
    let name = file.strip_prefix(project.path(".")).unwrap().to_str().unwrap().to_string();
    let (out, _) = project.expect(0, &["peek", &name]);
    assert!(out.contains("Parquet, 1 file") && out.contains("text not null"), "{out}");
    let bytes = std::fs::read(&file).unwrap();
    std::fs::write(&file, &bytes[..bytes.len() / 2]).unwrap();
    let (_, err) = project.expect(5, &["peek", &name]);
    assert!(err.contains("not a complete Parquet file"), "{err}");
}

#[test]
fn two_places_that_cannot_be_matched_say_why() {
    let project = project();
    project.write("other.csv", "lock,level\nupper,1\n");
    let (_, err) = project.expect(3, &["peek", "weighing", "other.csv"]);
    assert!(err.contains("no column in common"), "{err}");
    let (_, err) = project.expect(3, &["peek", "weighing", "weighing.heavy", "--when", "true"]);
    assert!(err.contains("are for one place"), "{err}");
}

#[test]
fn doubled_and_missing_keys_are_said() {
    let project = project();
    project.write("a.csv", "id,v\n1,x\n1,y\n,z\n2,w\n");
    project.write("b.csv", "id,v\n2,w\n1,other\n3,q\n");
    let (out, _) = project.expect(0, &["peek", "a.csv", "b.csv", "--key", "id"]);
    for text in
        ["2 rows in both, 0 only in the first", "1 row with a repeated key", "1 row without a key", "v differs in 1"]
    {
        assert!(out.contains(text), "no `{text}` in\n{out}");
    }
}

#[rstest]
#[case("csv = { delimiter = \";;\" }", "value.type", "one ASCII character")]
#[case("csv = { haeder = false }", "key.unknown", "did you mean `header`?")]
#[case("csv = { nulls = [1] }", "value.type", "text")]
#[case("csv = { header = false }", "name.unknown", "from '1'")]
fn mistakes_in_how_csv_is_spelled(#[case] line: &str, #[case] code: &str, #[case] text: &str) {
    let project = project();
    project.write(
        "pipelines/weighings.toml",
        PIPELINE.replace("match = \"*.jsonl\"", &format!("match = \"*.csv\"\nformat = \"csv\"\n{line}")),
    );
    let output = project.run(&["check", "--output", "json"]);
    let found: Value = serde_json::from_slice(&output.stdout).unwrap();
    let problem =
        found["problems"].as_array().unwrap().iter().find(|p| p["code"] == code).unwrap_or_else(|| panic!("{found:#}"));
    assert!(problem.to_string().contains(text), "{problem:#}");
}
