//! Lines of text: logs are recognised, drafted, checked and read; nothing of a damaged one is lost.

use crate::common::{TestProject, visible_files};
use rstest::rstest;
use serde_json::Value;

const PROJECT: &str = "[project]\nname = \"tarrow\"\n[connection.gates]\nurl = \"file:gates\"\n[connection.archive]\nurl = \"file:archive\"\n";

fn project() -> TestProject {
    let project = TestProject::empty();
    project.write("sluice.toml", PROJECT);
    std::fs::create_dir(project.path("gates")).unwrap();
    project
}

fn web(n: u32) -> String {
    format!(
        "10.0.0.{} - {} [01/Jul/2026:08:{:02}:{:02} +0200] \"GET /locks/{}?n={n} HTTP/1.1\" {} {} \"-\" \"gauge/1.0 \\\"{n}\\\"\"\n",
        n % 250,
        if n.is_multiple_of(3) { "-" } else { "ada" },
        n / 60 % 60,
        n % 60,
        ["low", "high"][usize::try_from(n % 2).unwrap()],
        if n.is_multiple_of(10) { 404 } else { 200 },
        if n.is_multiple_of(7) { "-".into() } else { (n * 10).to_string() },
    )
}

fn rows(project: &TestProject, folder: &str) -> Vec<Value> {
    let files = visible_files(&project.path(&format!("archive/{folder}")));
    let text: String = files.iter().map(|f| std::fs::read_to_string(f).unwrap()).collect();
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn a_web_log_is_drafted_and_lands_as_it_was_written() {
    let project = project();
    project.write("gates/access.log", (0..500).map(web).collect::<String>());
    let (out, _) = project.expect(0, &["draft", "visits", "gates:*.log", "--land-in", "archive"]);
    assert!(out.contains("visits"), "{out}");
    let text = std::fs::read_to_string(project.path("pipelines/visits.toml")).unwrap();
    for part in [
        "format = \"text\"",
        "(?P<path>",
        "timestamptz",
        "format '%d/%b/%Y:%H:%M:%S %z'",
        "status",
        "nulls",
        "pattern = '(?P<client>\\S+) ",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    project.write("pipelines/visits.toml", text.replace("format = \"parquet\"", "format = \"jsonl\""));
    project.expect(0, &["check", "visits"]);
    project.append("gates/access.log", [&web(500), "not a line of the log\n", &web(501)].concat());
    project.expect(0, &["run", "visits", "--until-caught-up"]);
    let (out, _) = project.expect(0, &["rejects", "visits"]);
    assert!(out.contains("not_line") && out.contains("does not match the pattern"), "{out}");
    let ledger = project.json(&["ledger", "visits", "--show", "10"]);
    let counts = ledger["batches"].as_array().unwrap().iter().flat_map(|batch| batch["counts"].as_array().unwrap());
    let landed: u64 = counts.filter(|c| c["station"] == "visit.archive").map(|c| c["output"].as_u64().unwrap()).sum();
    assert_eq!(landed, 502, "{ledger}");
}

const PIPELINE: &str = r#"
pipeline = "gate_log"
[event.visit]
fields = "level text not null, lock_id text from 'lock', waited_s decimal(8,3) from 'waited', raw text from 'line'"
[event.visit.arrives]
at = "gates"
match = "*.log"
format = "text"
text = { pairs = true }
[event.visit.lands.archive]
at = "archive"
path = "visits"
format = "jsonl"
columns = "level, upper(lock_id) as lock_id, waited_s, regexp_substr(raw, 'msg=\"([^\"]*)\"', 1, 1, '', '1') as message"
"#;

#[test]
fn pairs_are_fields_and_expressions_take_the_line_apart() {
    let project = project();
    project.write("pipelines/gate_log.toml", PIPELINE);
    let lines: String =
        (0..300).map(|n| format!("level=info lock=low waited={n}.5 msg=\"gate {n} opened\" extra={n}\n")).collect();
    project.write("gates/a.log", lines + "level=warn lock=\"high\nlock=low\n");
    project.expect(0, &["run", "gate_log", "--until-caught-up"]);
    let rows = rows(&project, "visits");
    assert_eq!(rows.len(), 300);
    assert_eq!(rows[7]["message"], "gate 7 opened");
    assert_eq!(rows[7]["lock_id"], "LOW");
    let (out, _) = project.expect(0, &["rejects", "gate_log"]);
    assert!(out.contains("is not closed") && out.contains("missing"), "{out}");
}

#[rstest]
#[case("text = { pattern = '(' }", "the regular expression is not valid: unclosed group")]
#[case("text = { pattern = '(?P<level>.)(?P<lokc>.).*' }", "a line has no field `lock`")]
#[case("text = { pattern = '(?P<lock>.*)', pairs = true }", "a line is cut in one way")]
#[case("text = { widths = \"level x\" }", "the width of `level` is not a number")]
fn mistakes_are_shown(#[case] spelling: &str, #[case] message: &str) {
    let project = project();
    project.write("pipelines/gate_log.toml", PIPELINE.replace("text = { pairs = true }", spelling));
    let (_, err) = project.expect(3, &["check", "gate_log", "--offline"]);
    assert!(err.contains(message), "{err}");
}
