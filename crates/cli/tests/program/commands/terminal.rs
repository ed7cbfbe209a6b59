//! What who sends events may try against who reads them at a terminal: each command is run on hostile names,
//! values and bytes, at a real terminal and into a pipe, and nothing of it reaches the terminal as a control sequence.

use std::process::{Command, Output};

use crate::common::TestProject;
use crate::common::topics;
use crate::common::topics::StandIn;
use rstest::rstest;

/// What a terminal would obey: writing to the clipboard, a link, hidden text, a cleared screen, turned direction.
const HARM: [&str; 8] = [
    "\u{1b}]52;c;c2x1aWNl\u{7}",
    "\u{1b}]8;;http://tarrow.example\u{1b}\\",
    "\u{1b}[31;45;8m",
    "\u{9b}2J",
    "\u{9d}0;title\u{9c}",
    "\u{202e}",
    "\u{2066}",
    "\u{8}\u{7f}",
];

const PIPELINE: &str = r#"
pipeline = "weighings"
batch    = { rows = 4, every = "1h" }
rejects  = { share = "100%", least = 1000 }

[event.weighing]
fields = "ticket text not null, day date, gross_kg integer"

[event.weighing.arrives]
at    = "depots"
match = "**/*.jsonl"

[event.weighing.lands.archive]
at      = "archive"
path    = "all/{ticket}"
columns = "ticket, day, gross_kg, _file as file"

[event.weighing.lands.desk]
at = "screen"

[event.weighing.lands.lines]
at     = "screen"
format = "jsonl"
"#;

/// A project whose files, and their names, are hostile.
fn hostile() -> TestProject {
    let project = TestProject::new(&PIPELINE.replace(", _file as file", ""));
    let harm = HARM.concat();
    let good = serde_json::json!({ "ticket": format!("A{harm}1"), "day": "2026-04-01", "gross_kg": 7 });
    let key = serde_json::json!({ "ticket": "A2", "day": harm, "gross_kg": 7 });
    let field = serde_json::json!({ "ticket": "A3", format!("more{harm}"): harm, "gross_kg": format!("{harm}9") });
    // Neither JSON nor UTF-8: such bytes are shown as they can be.
    let broken = format!("{{\"ticket\": \"{harm}\", {harm}");
    let mut lines = format!("{good}\n{key}\n{field}\n{broken}\n").into_bytes();
    lines.extend_from_slice(b"{\"ticket\": \"\xff\x1b]52;c;c2x1aWNl\x07\"}\n");
    project.write(&format!("depots/{}.jsonl", harm.replace('/', "")), &lines);
    project.write("depots/plain.jsonl", &lines);
    let cell = harm.replace('"', "");
    project.write("bad.csv", format!("ticket,a{cell}\nA1,\"{cell}\"\nA2,\"{cell}\",more\n"));
    project
}

/// Runs the program at a terminal of its own; gives what the terminal was sent.
fn at_terminal(project: &TestProject, arguments: &[&str]) -> String {
    let quoted: Vec<String> = arguments.iter().map(|a| format!("'{}'", a.replace('\'', "'\\''"))).collect();
    let line = format!("{} {}", assert_cmd::cargo::cargo_bin!("sluice").display(), quoted.join(" "));
    let output: Output = Command::new("script")
        .args(["-qec", &line, "/dev/null"])
        .current_dir(project.path("."))
        .env_clear()
        .envs([("TERM", "xterm-256color"), ("PATH", "/usr/bin:/bin"), ("SHELL", "/bin/sh")])
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Fails where a text holds something that a terminal would obey, other than colours and the line of progress.
fn assert_harmless(text: &str, what: &str) {
    for harm in HARM {
        assert!(!text.contains(harm), "{what}: {harm:?} got through\n{text:?}");
    }
    let mut rest = text;
    while let Some(at) = rest.find('\u{1b}') {
        rest = &rest[at + 1..];
        let inner = rest.strip_prefix('[').unwrap_or_else(|| panic!("{what}: a lone escape in {text:?}"));
        let end = inner.find(|c: char| c.is_ascii_alphabetic()).unwrap();
        assert!(inner[..end].chars().all(|c| c.is_ascii_digit() || "?;".contains(c)), "{what}: {text:?}");
        assert!("mKAHJlh".contains(&inner[end..=end]), "{what}: {:?}", &inner[..=end]);
    }
    let plain = |c: char| matches!(c, '\n' | '\r' | '\t' | '\u{1b}') || sluice_core::printable::is_harmless(c);
    let found = text.chars().find(|c| !plain(*c));
    assert!(found.is_none(), "{what}: {found:?} in {text:?}");
}

const BEFORE_RUN: &[&[&str]] = &[
    &["peek", "depots/plain.jsonl"],
    &["peek", "depots/plain.jsonl", "--show", "9"],
    &["peek", "bad.csv"],
    &["peek", "depots/plain.jsonl", "--columns", "ticket"],
    &["peek", "weighings.weighing"],
    &["draft", "more", "depots:*.jsonl", "--print"],
    &["draft", "cells", "bad.csv", "--print"],
    &["check"],
    &["rehearse", "weighings"],
    &["rehearse", "weighings", "--trace", "1"],
    &["rehearse", "weighings", "--trace", "2"],
    &["rehearse", "weighings", "--trace", "4"],
    &["rehearse", "weighings", "--keep", "kept.json"],
    &["rehearse", "weighings", "--expect", "kept.json"],
];

const AFTER_RUN: &[&[&str]] = &[
    &["rejects", "weighings"],
    &["ledger", "weighings"],
    &["ledger", "weighings", "--batch", "1"],
    &["status"],
    &["positions", "weighings"],
    &[],
    &["peek", "weighings.weighing.archive"],
    &["peek", "weighings.weighing", "weighings.weighing.archive", "--key", "ticket"],
    &["audit", "weighings"],
    &["replay", "weighings", "--batches", "1"],
];

#[test]
fn no_command_sends_a_terminal_what_events_hold() {
    if !topics::has("script") {
        return;
    }
    let project = hostile();
    let raw = ["peek", "depots/plain.jsonl", "--raw"];
    for arguments in BEFORE_RUN.iter().copied().chain([raw.as_slice()]) {
        assert_harmless(&at_terminal(&project, arguments), &format!("{arguments:?}"));
    }
    let run = at_terminal(&project, &["run", "weighings", "--until-caught-up"]);
    assert_harmless(&run, "run");
    assert!(run.contains("weighings"), "{run}");
    for arguments in AFTER_RUN.iter().copied().chain([["rejects", "weighings", "--raw"].as_slice()]) {
        assert_harmless(&at_terminal(&project, arguments), &format!("{arguments:?}"));
    }
}

#[test]
fn no_command_writes_it_into_a_pipe_either() {
    let project = hostile();
    let look = |arguments: &[&str]| {
        let output = project.run(arguments);
        for (bytes, name) in [(&output.stdout, "standard output"), (&output.stderr, "standard error")] {
            let text = String::from_utf8_lossy(bytes);
            assert!(!text.contains('\u{1b}'), "{arguments:?} wrote an escape on {name}: {text:?}");
            assert_harmless(&text, &format!("{arguments:?} on {name}"));
        }
    };
    BEFORE_RUN.iter().for_each(|arguments| look(arguments));
    look(&["run", "weighings", "--until-caught-up"]);
    AFTER_RUN.iter().for_each(|arguments| look(arguments));
    for arguments in [BEFORE_RUN, AFTER_RUN].concat() {
        look(&[arguments, &["--output", "json"]].concat());
    }
}

#[test]
fn raw_bytes_stay_as_they_are_in_a_pipe() {
    let project = hostile();
    let output = project.run(&["peek", "depots/plain.jsonl", "--raw"]);
    assert_eq!(output.stdout, std::fs::read(project.path("depots/plain.jsonl")).unwrap());
}

#[rstest]
#[case(&["peek", "\u{1b}]52;c;c2x1aWNl\u{7}.jsonl"])]
#[case(&["\u{1b}[31;45;8mpeek"])]
#[case(&["run", "\u{9b}2J"])]
#[case(&["peek", "x", "--events", "\u{202e}7"])]
#[case(&["emit", "\u{1b}[31;45;8m"])]
#[case(&["manual", "\u{1b}[31;45;8m"])]
#[case(&["demo", "\u{1b}[31;45;8m/sluice.toml/x"])]
fn arguments_are_repeated_without_harm(#[case] arguments: &[&str]) {
    let project = hostile();
    let output = project.run(arguments);
    assert_harmless(&String::from_utf8_lossy(&output.stderr), &format!("{arguments:?}"));
    if topics::has("script") {
        assert_harmless(&at_terminal(&project, arguments), &format!("{arguments:?}"));
    }
}

#[test]
fn messages_are_shown_without_harm_as_they_come() {
    let broker = StandIn::start(&["--topic", "lock.notes"]);
    let project = hostile();
    project.append("sluice.toml", format!("[connection.trial]\nurl = \"kafka://{}\"\n", broker.address));
    let lines = serde_json::json!({ "note": HARM.concat() }).to_string();
    let mut emit = project.command(&["emit", "-", "--into", "trial:lock.notes", "--key", "note"]);
    let mut child = emit.stdin(std::process::Stdio::piped()).spawn().unwrap();
    // The value holds the bytes themselves, not JSON's escapes for them.
    let raw = format!("{lines}\n\"{}\"\n", HARM.concat());
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), raw.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    for arguments in [["peek", "trial:lock.notes", "--show", "3"], ["peek", "trial:lock.notes", "--events", "2"]] {
        assert_harmless(&String::from_utf8_lossy(&project.run(&arguments).stdout), "peek of a topic");
    }
}

#[test]
fn arguments_that_are_not_text_are_wrong_usage() {
    use std::os::unix::ffi::OsStrExt as _;
    let project = hostile();
    let bytes = std::ffi::OsStr::from_bytes(b"\xff\x1b[31;45;8m");
    for more in [&[][..], &["--output", "json"]] {
        let output = project.command(&[]).arg(bytes).args(more).output().unwrap();
        assert_eq!(output.status.code(), Some(2), "{output:?}");
        assert_harmless(&String::from_utf8_lossy(&output.stderr), "an argument that is not text");
    }
}

#[test]
fn completions_hold_no_control_characters() {
    let project = hostile();
    let named = "pipeline = \"more\"\nabout = \"\\u001b]52;c;x\\u0007 of more\"";
    project.write("pipelines/more.toml", PIPELINE.replace("pipeline = \"weighings\"", named));
    let mut command = project.command(&["--", "sluice", "run", ""]);
    let output = command.envs([("SLUICE_COMPLETE", "zsh"), ("_CLAP_COMPLETE_INDEX", "2")]).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains("more:"), "{text}");
    assert_harmless(&text, "completions");
}
