//! The JSON Schemas for editors, judged by an independent validator: they take what `check` takes and refuse what it
//! refuses for its keys.

use std::io::Write as _;
use std::process::{Command, Stdio};

use crate::common::TestProject;

/// Prints a line for each file: `good`, or the first thing that is wrong.
const VALIDATE: &str = r#"
import json, sys, tomllib
from jsonschema import Draft202012Validator
for line in sys.stdin:
    schema, file = line.rstrip("\n").split("\t")
    schema = json.load(open(schema))
    Draft202012Validator.check_schema(schema)
    error = next(Draft202012Validator(schema).iter_errors(tomllib.load(open(file, "rb"))), None)
    print("good" if error is None else error.message.replace("\n", " ")[:300])
"#;

/// What the validator says of each file; None where there is no Python for tests.
fn validate(project: &TestProject, files: &[(&str, String)]) -> Option<Vec<String>> {
    let Some(python) = std::env::var_os("SLUICE_TEST_PYTHON") else {
        assert!(std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "SLUICE_TEST_PYTHON is not set");
        eprintln!("skipped: SLUICE_TEST_PYTHON is not set");
        return None;
    };
    let mut child = Command::new(python)
        .args(["-c", VALIDATE])
        .current_dir(project.path("."))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let lines: String =
        files.iter().map(|(kind, file)| format!(".sluice/schema/{kind}.schema.json\t{file}\n")).collect();
    child.stdin.take().unwrap().write_all(lines.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success());
    let said: Vec<String> = String::from_utf8(output.stdout).unwrap().lines().map(str::to_string).collect();
    assert_eq!(said.len(), files.len());
    Some(said)
}

const CONNECTIONS: &str = r#"
[connection.depots]
url = "file:depots"
[connection.lock-broker]
url = "kafka://127.0.0.1:9092"
user = "sluice"
password = { env = "GATE" }
login = "scram-sha-512"
tls = true
[connection.office]
url = "postgres://127.0.0.1:5432/office"
answer_within = "5m"
[connection.permits]
url = "mariadb://127.0.0.1/permits"
[connection.ledgers]
url = "clickhouse://127.0.0.1/tolls"
[connection.desk]
url = "sqlite:desk.db"
"#;

/// Bodies of one event or group, each good for the kind of its connections.
const GOOD: &[&str] = &[
    "[event.a.arrives]\nat = \"depots\"\nmatch = \"*.csv\"\nformat = \"csv\"\n[event.a.lands.x]\nat = \"screen\"",
    "[event.a.arrives]\nat = \"lock-broker\"\ntopic = \"lock.a\"\n[event.a.lands.x]\nat = \"lock-broker\"\ntopic = \"b\"\nkey = \"ticket\"",
    "[event.a.arrives]\nat = \"depots\"\nmatch = \"*\"\n[event.a.lands.x]\nat = \"office\"\ntable = \"a\"\nmode = \"upsert\"\nkey = [\"ticket\"]",
    "[event.a.arrives]\nat = \"depots\"\nmatch = \"*\"\n[event.a.lands.x]\nat = \"permits\"\ntable = \"a\"\n[event.a.lands.y]\nat = \"desk\"\ntable = \"b\"",
    "[event.a.arrives]\nat = \"depots\"\nmatch = \"*\"\n[event.a.lands.x]\nat = \"ledgers\"\ntable = \"a\"",
    "[[event.a.arrives]]\nat = \"depots\"\nmatch = \"*\"\n[[event.a.arrives]]\nat = \"lock-broker\"\ntopic = \"b\"\n[event.a.lands.x]\nat = \"screen\"",
    "[event.a.arrives]\nat = \"office\"\ntable = \"public.a\"\n[event.a.lands.x]\nat = \"office\"\ntable = \"b\"\nmode = \"mirror\"\nkey = \"ticket\"",
];

/// Bodies with a key that is missing, unknown, or of another kind.
const BAD: &[&str] = &[
    "[event.a.arrives]\nat = \"lock-broker\"\ntopic = \"b\"\n[event.a.lands.x]\nat = \"office\"\nkey = \"ticket\"",
    "[event.a.arrives]\nat = \"lock-broker\"\ntopic = \"b\"\nmatch = \"*\"\n[event.a.lands.x]\nat = \"screen\"",
    "[event.a.arrives]\nat = \"depots\"\nmatch = \"*\"\n[event.a.lands.x]\nat = \"screen\"\ntabel = \"x\"",
    "[event.a.arrives]\nat = \"depots\"\nmatch = 7\n[event.a.lands.x]\nat = \"screen\"",
    "[event.a.arrives]\nmatch = \"*\"\n[event.a.lands.x]\nat = \"screen\"",
];

fn project() -> TestProject {
    let project = TestProject::empty();
    project.expect(0, &["init", "."]);
    project.append("sluice.toml", CONNECTIONS);
    std::fs::create_dir_all(project.path("depots")).unwrap();
    project
}

fn pipeline(name: &str, body: &str) -> String {
    format!("pipeline = \"{name}\"\n[event.a]\nfields = \"ticket text not null\"\n{body}\n")
}

#[test]
fn what_check_takes_is_good_and_a_wrong_key_is_not() {
    let project = project();
    let mut files = vec![("project", "sluice.toml".to_string())];
    let mut expected = vec![true];
    for (i, body) in GOOD.iter().chain(BAD).enumerate() {
        let name = format!("p{i}");
        project.write(&format!("pipelines/{name}.toml"), pipeline(&name, body));
        let output = project.command(&["check", &name, "--offline"]).env("GATE", "x").output().unwrap();
        let is_good = i < GOOD.len();
        assert_eq!(output.status.success(), is_good, "{body}\n{}", String::from_utf8_lossy(&output.stderr));
        files.push(("pipeline", format!("pipelines/{name}.toml")));
        expected.push(is_good);
    }
    let Some(said) = validate(&project, &files) else { return };
    for ((file, said), good) in files.iter().zip(said).zip(expected) {
        assert_eq!(said == "good", good, "{}: {said}", file.1);
    }
}

#[test]
fn connections_have_the_keys_of_their_kind() {
    let project = project();
    let wrong = [
        "[connection.x]\nurl = \"file:a\"\nuser = \"y\"",
        "[connection.x]\nurl = \"kafka://a\"\nanswer_within = \"1m\"",
        "[connection.x]\nurl = \"elsewhere:a\"",
        "[connection.x]\nuser = \"y\"",
    ];
    let mut files = Vec::new();
    for (i, text) in wrong.iter().enumerate() {
        project.write(&format!("w{i}.toml"), format!("[project]\nname = \"w\"\n{text}\n"));
        files.push(("project", format!("w{i}.toml")));
    }
    let Some(said) = validate(&project, &files) else { return };
    assert!(said.iter().all(|s| s != "good"), "{said:?}");
}

#[test]
fn drafted_files_and_the_example_are_good() {
    let project = project();
    project.write(
        "depots/a.jsonl",
        "{\"ticket\":\"A1\",\"day\":\"2026-04-01\",\"cargo\":{\"kind\":\"ore\"},\"kg\":700}\n",
    );
    project.write("depots/b.csv", "ticket;day;kg\nA1;01.04.2026;7,5\nA2;02.04.2026;8,5\n");
    project.expect(0, &["draft", "lines", "depots:a.jsonl"]);
    project.expect(0, &["draft", "cells", "depots:b.csv"]);
    project.expect(0, &["draft", "desk", "depots:b.csv", "--land-in", "desk"]);
    project.write("example.toml", include_str!("../../../../../examples/tarrow/pipelines/weighings.toml"));
    project.write("connections.toml", include_str!("../../../../../examples/tarrow/sluice.toml"));
    let each = "pipeline = \"mirror\"\n[each.office]\ntables = \"public.*\"\n[each.office.arrives]\nat = \"office\"\n\
                [each.office.lands.copy]\nat = \"permits\"\nmode = \"mirror\"\ncreate = true\n";
    project.write("each.toml", each);
    let files: Vec<(&str, String)> = ["pipelines/lines", "pipelines/cells", "pipelines/desk", "example", "each"]
        .map(|name| ("pipeline", format!("{name}.toml")))
        .into_iter()
        .chain([("project", "connections.toml".to_string()), ("project", "sluice.toml".to_string())])
        .collect();
    let Some(said) = validate(&project, &files) else { return };
    for (file, said) in files.iter().zip(said) {
        assert_eq!(said, "good", "{}", file.1);
    }
}
