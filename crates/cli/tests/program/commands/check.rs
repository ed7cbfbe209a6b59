//! Mistakes in project and pipeline files.

use crate::common::{PIPELINE, PROJECT, TestProject};
use rstest::rstest;

#[test]
fn four_mistakes_give_four_underlined_errors_in_one_run() {
    let pipeline = PIPELINE
        .replace("at    = \"depots\"", "at    = \"depot\"")
        .replace("match = \"*.jsonl\"", "mach  = \"*.jsonl\"")
        .replace("gross_kg integer", "gross_kg intger")
        .replace("columns = \"ticket, gross_kg\"", "columns = \"tiket, gross_kg\"");
    let project = TestProject::new(&pipeline);
    let (out, err) = project.expect(3, &["check"]);
    assert_eq!(out, "");
    insta::assert_snapshot!(err);
}

#[rstest]
#[case("at   = \"archive\"", "at   = \"archiv\"", "name.unknown", "did you mean `archive`?")]
#[case("format  = \"jsonl\"", "format  = \"jsnl\"", "value.type", "did you mean `jsonl`?")]
#[case("{day:%Y/%m/%d}", "{dya:%Y/%m/%d}", "name.unknown", "did you mean `day`?")]
#[case("when    = \"gross_kg > 500\"", "when    = \"gros_kg > 500\"", "name.unknown", "did you mean `gross_kg`?")]
#[case("when    = \"gross_kg > 500\"", "when    = \"gross_kg > 'a'\"", "type.mismatch", "")]
#[case("path    = \"heavy\"", "path    = \"all/{day:%Y/%m/%d}\"", "landing.overlap", "path of its own")]
#[case("rows = 100", "rows = 0", "value.range", "")]
#[case("rows = 100", "rosw = 100", "key.unknown", "did you mean `rows`?")]
#[case("[event.weighing.lands.heavy]", "[event.weighing.lands.he avy]", "syntax.toml", "")]
#[case("pipeline = \"weighings\"", "", "key.missing", "a name")]
fn each_mistake_has_place_reason_and_remedy(
    #[case] right: &str,
    #[case] wrong: &str,
    #[case] code: &str,
    #[case] help: &str,
) {
    assert!(PIPELINE.contains(right));
    let project = TestProject::new(&PIPELINE.replacen(right, wrong, 1));
    let output = project.run(&["check", "--output", "json"]);
    assert_eq!(output.status.code(), Some(3));
    let found: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let problems = found["problems"].as_array().unwrap();
    let problem = problems.iter().find(|p| p["code"] == code).unwrap_or_else(|| panic!("{problems:#?}"));
    assert!(problem["help"].as_str().unwrap_or_default().contains(help), "{problem:#}");
    assert_eq!(problem["place"]["file"], "pipelines/weighings.toml");
}

const TOPICS: &str = "pipeline = \"weighings\"\n[event.weighing]\nfields = \"n integer\"\n\
    [[event.weighing.arrives]]\nat = \"lock-broker\"\ntopic = \"depot.weighings\"\nformat = \"json\"\n\
    [[event.weighing.arrives]]\nat = \"lock-broker\"\ntopic = [\"depot.late\", \"yard.*\"]\nformat = \"json\"\n\
    [event.weighing.lands.onward]\nat = \"lock-broker\"\ntopic = \"depot.landed\"\n";

#[rstest]
#[case("", "", None)]
#[case("depot.late", "depot.weighings", Some("reads `depot.weighings` too"))]
#[case("yard.*", "depot.*", Some("reads `depot.weighings` too"))]
#[case("depot.landed", "yard.landed", Some("writes into a topic that its event is read from"))]
#[case("depot.landed", "depot.weighings", Some("writes into a topic that its event is read from"))]
fn topics_are_read_once_and_not_written_in_a_circle(
    #[case] right: &str,
    #[case] wrong: &str,
    #[case] said: Option<&str>,
) {
    let project = TestProject::new(&TOPICS.replacen(right, wrong, usize::from(!right.is_empty())));
    project.append("sluice.toml", "[connection.lock-broker]\nurl = \"kafka://127.0.0.1:1\"\n");
    let output = project.run(&["check", "--offline"]);
    let err = String::from_utf8_lossy(&output.stderr).into_owned();
    match said {
        None => assert_eq!(output.status.code(), Some(0), "{err}"),
        Some(said) => assert!(output.status.code() == Some(3) && err.contains(said), "{err}"),
    }
}

#[test]
fn an_event_that_lands_nowhere_is_a_mistake() {
    let (head, _) = PIPELINE.split_once("[event.weighing.lands.archive]").unwrap();
    let (_, err) = TestProject::new(head).expect(3, &["check"]);
    assert!(err.contains("`weighing` lands nowhere"), "{err}");
}

#[test]
fn two_pipelines_must_not_share_a_place_or_a_name() {
    let project = TestProject::new(PIPELINE);
    project.write("pipelines/x.toml", PIPELINE);
    let (_, err) = project.expect(3, &["check"]);
    assert!(err.contains("is a pipeline `weighings` already"), "{err}");
    assert!(err.contains("this landing writes where"), "{err}");
}

#[test]
fn secrets_in_plain_text_are_refused_and_not_shown() {
    let project = TestProject::new(PIPELINE);
    project.write("sluice.toml", format!("{PROJECT}[connection.toll]\nurl = \"file://toll:hunter-gate-7@x/y\"\n"));
    let (out, err) = project.expect(3, &["check", "--output", "json"]);
    assert!(out.contains("secret.plain"), "{out}");
    assert!(!out.contains("hunter-gate-7") && !err.contains("hunter-gate-7"));
}

#[test]
fn a_good_project_is_shown_as_it_will_land() {
    let (out, err) = TestProject::new(PIPELINE).expect(0, &["check", "--offline"]);
    assert_eq!(err, "");
    insta::assert_snapshot!(out, @r"
    ✓ weighings
      weighing 3 fields, from depots (files)
        → archive (files):
          ticket text, day date, gross_kg integer
        → heavy (files):
          ticket text, gross_kg integer
    ");
}

#[test]
fn check_looks_at_folders_unless_offline() {
    let project = TestProject::new(PIPELINE);
    std::fs::remove_dir(project.path("depots")).unwrap();
    let (_, err) = project.expect(3, &["check"]);
    assert!(err.contains("depots does not exist") && err.contains("mkdir -p"), "{err}");
    project.expect(0, &["check", "--offline"]);
}

#[test]
fn nothing_runs_with_mistakes() {
    let project = TestProject::new(&PIPELINE.replace("gross_kg > 500", "gros_kg > 500"));
    let (_, err) = project.expect(3, &["run", "weighings", "--until-caught-up"]);
    assert!(err.contains("did you mean `gross_kg`?"), "{err}");
    assert!(!project.path("archive").exists() && !project.path(".sluice").exists());
}

#[rstest]
#[case(&["run", "weigings"], "did you mean `weighings`?")]
#[case(&["check", "weigings"], "did you mean `weighings`?")]
#[case(&["ledger", "weigings"], "did you mean `weighings`?")]
#[case(&["rejects", "weighings", "--only", "tpye"], "did you mean `type`?")]
#[case(&["ledger", "weighings", "--batch", "99"], "sluice ledger weighings")]
fn wrong_names_on_the_command_line(#[case] arguments: &[&str], #[case] help: &str) {
    let (_, err) = TestProject::new(PIPELINE).expect(3, arguments);
    assert!(err.contains(help), "{err}");
}
