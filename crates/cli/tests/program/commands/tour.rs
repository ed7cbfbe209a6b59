//! From an empty folder to landed data: demo, init, and the output of the commands on the way.

use crate::common::TestProject;

/// A pipeline written by hand.
const WEIGHINGS: &str = r#"#:schema ../.sluice/schema/pipeline.schema.json
pipeline = "weighings"
[event.weighing]
time   = "weighed_at"
fields = "ticket text not null, depot text, weighed_at timestamptz not null, gross_kg integer"
[event.weighing.arrives]
at    = "inbox"
match = "*.jsonl"
[event.weighing.lands.archive]
at   = "archive"
path = "weighings/{weighed_at:%Y/%m/%d}"
"#;

#[test]
fn the_demo_lands_its_data_and_says_what_next() {
    let project = TestProject::empty();
    let (out, _) = project.expect(0, &["demo"]);
    for text in [
        "60,000 events read",
        "36,287 events read",
        "155 rejects",
        "rejects weighings",
        "archive/weighings",
        "look around",
    ] {
        assert!(out.contains(text), "no `{text}` in\n{out}");
    }
    let landed = crate::common::visible_files(&project.path("tarrow/archive/weighings"));
    let rows: usize = landed.iter().map(|p| crate::common::parquet_texts(p).len()).sum();
    assert_eq!(rows, 58_621);
    assert!(landed[0].to_str().unwrap().contains("2026/04/01/"));
    // The demo again: the same project continues with one more day.
    let (out, _) = project.expect(0, &["demo"]);
    assert!(out.contains("one more day") && out.contains("12,000 events read"), "{out}");
    let overview = project.json(&["--project", "tarrow"]);
    let [passages, weighings] = [&overview["pipelines"][0], &overview["pipelines"][1]];
    assert_eq!((&weighings["name"], &weighings["totals"]["read"]), (&"weighings".into(), &72_000.into()));
    assert_eq!(weighings["behind"]["bytes"], 0);
    // The passages of both runs, each once, are pairs or without a toll, and counted by lock.
    assert_eq!((&passages["name"], &passages["behind"]["bytes"]), (&"passages".into(), &0.into()));
    let office = rusqlite::Connection::open(project.path("tarrow/office.db")).unwrap();
    let counted = office.query_row("select sum(passages), count(distinct lock_name) from lock_quarter", [], |r| {
        Ok((r.get::<_, u64>(0)?, r.get::<_, u64>(1)?))
    });
    assert_eq!(counted.unwrap(), (24_000, 5));
    let pairs = crate::common::visible_files(&project.path("tarrow/archive/paid"));
    let pairs: usize = pairs.iter().map(|p| crate::common::parquet_texts(p).len()).sum();
    assert!(pairs >= 24_000, "{pairs}");
}

#[test]
fn the_demo_leaves_other_folders_alone() {
    let project = TestProject::empty();
    project.write("tarrow/own.txt", "mine");
    let (_, err) = project.expect(3, &["demo"]);
    assert!(err.contains("nothing was changed"), "{err}");
    assert_eq!(std::fs::read_dir(project.path("tarrow")).unwrap().count(), 1);
}

#[test]
fn by_hand_from_an_empty_folder() {
    let project = TestProject::empty();
    let (out, _) = project.expect(0, &[]);
    assert!(out.contains("sluice init") && out.contains("sluice demo"), "{out}");
    project.expect(0, &["init", ".", "--name", "tolls"]);
    let (_, err) = project.expect(0, &["check"]);
    assert!(err.contains("sluice draft"), "{err}");
    project.write("pipelines/weighings.toml", WEIGHINGS);
    for name in ["sluice.toml", "pipelines/weighings.toml"] {
        let text = std::fs::read_to_string(project.path(name)).unwrap();
        let schema = text.lines().next().unwrap().strip_prefix("#:schema ").unwrap();
        let place = project.path(name).parent().unwrap().join(schema);
        serde_json::from_str::<serde_json::Value>(&std::fs::read_to_string(place).unwrap()).unwrap();
    }
    let (_, err) = project.expect(3, &["init"]);
    assert!(err.contains("nothing was changed"), "{err}");
    let (_, err) = project.expect(0, &["check"]);
    assert!(err.contains("no file in") && err.contains("1 warning"), "{err}");
    let ticket = |n: u32| {
        format!(
            "{{\"ticket\":\"A{n}\",\"depot\":\"Arlen\",\"weighed_at\":\"2026-04-01T08:00:00Z\",\"gross_kg\":{}}}\n",
            n * 100
        )
    };
    project.write("inbox/a.jsonl", (0..4).map(ticket).collect::<String>() + "broken\n");
    let (out, _) = project.expect(0, &[]);
    assert!(out.contains("never ran") && out.contains("sluice run weighings --until-caught-up"), "{out}");
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let (out, _) = project.expect(0, &[]);
    assert!(out.contains("at rest") && out.contains("caught up") && out.contains("sluice rejects weighings"), "{out}");
    let (out, _) = project.expect(0, &["rejects", "weighings"]);
    assert!(out.contains("not_json") && out.contains("a.jsonl") && out.contains("broken"), "{out}");
    let (out, _) = project.expect(0, &["rejects", "weighings", "--raw"]);
    assert_eq!(out, "broken\n");
    let (out, _) = project.expect(0, &["ledger", "weighings"]);
    assert!(out.contains("settled") && out.contains("weighing.0.0"), "{out}");
    let (out, _) = project.expect(0, &["ledger", "weighings", "--batch", "1"]);
    assert!(out.contains("weighings/2026/04/01/") && out.contains("a.jsonl"), "{out}");
}

#[test]
fn json_output_is_versioned() {
    let project = TestProject::empty();
    project.expect(0, &["init"]);
    project.write("pipelines/weighings.toml", WEIGHINGS);
    project.write("inbox/a.jsonl", "{\"ticket\":\"A1\",\"weighed_at\":\"2026-04-01T08:00:00Z\"}\n");
    for (arguments, kind) in [
        (vec![], "overview"),
        (vec!["check"], "check"),
        (vec!["peek", "inbox:*"], "peek"),
        (vec!["peek", "weighings.weighing.archive"], "peek"),
        (vec!["peek", "weighing", "weighing.archive"], "peek"),
        (vec!["rehearse", "weighings"], "rehearse"),
        (vec!["rehearse", "weighings", "--trace", "1"], "trace"),
        (vec!["draft", "others", "inbox:*"], "draft"),
        (vec!["run", "weighings", "--until-caught-up"], "run"),
        (vec!["ledger", "weighings"], "ledger"),
        (vec!["rejects", "weighings"], "rejects"),
    ] {
        let found = project.json(&arguments);
        assert_eq!((&found["sluice"], &found["version"]), (&kind.into(), &1.into()));
    }
    let output = project.run(&["run", "nothing", "--output", "json"]);
    let found: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((&found["kind"], &found["exit"]), (&"configuration".into(), &3.into()));
}

#[test]
fn without_a_project_commands_say_how_to_make_one() {
    let (_, err) = TestProject::empty().expect(3, &["run", "x"]);
    assert!(err.contains("no sluice.toml") && err.contains("sluice init"), "{err}");
}

#[test]
fn wrong_usage_has_its_own_code() {
    let (_, err) = TestProject::empty().expect(2, &["chekc"]);
    assert!(err.contains("'check'"), "{err}");
}

#[test]
fn completions_know_the_names_of_the_project() {
    let project = TestProject::empty();
    project.expect(0, &["init"]);
    project.write("pipelines/weighings.toml", WEIGHINGS);
    for shell in ["bash", "zsh", "fish"] {
        let (out, _) = project.expect(0, &["completions", shell]);
        assert!(out.contains("SLUICE_COMPLETE"), "{shell}: {out}");
    }
    let complete = |words: &[&str]| {
        let mut command = project.command(&[&["--", "sluice"], words].concat());
        command.env("SLUICE_COMPLETE", "fish").env("_CLAP_COMPLETE_INDEX", words.len().to_string());
        let out = String::from_utf8(command.output().unwrap().stdout).unwrap();
        out.lines().map(|l| l.split('\t').next().unwrap().to_string()).collect::<Vec<_>>()
    };
    assert!(complete(&[""]).contains(&"rehearse".to_string()));
    assert_eq!(complete(&["run", "we"]), ["weighings"]);
    assert_eq!(complete(&["rehearse", "weighings", "--landing", "w"]), ["weighing.archive"]);
    assert_eq!(complete(&["peek", "w"]), ["weighings.weighing", "weighings.weighing.archive"]);
    assert_eq!(complete(&["draft", "x", "in"]), ["inbox:"]);
}

#[test]
fn man_pages_are_written() {
    let project = TestProject::empty();
    project.expect(0, &["manual", "--man", "man"]);
    let page = std::fs::read_to_string(project.path("man/sluice-peek.1")).unwrap();
    assert!(page.contains("PLACE") && page.contains(".SH OPTIONS"), "{page}");
    assert!(std::fs::read_to_string(project.path("man/sluice-types.7")).unwrap().contains("timestamptz"));
}

#[test]
fn the_reference_pages_are_those_of_the_code() {
    let project = TestProject::empty();
    project.expect(0, &["manual", "--pages", "pages"]);
    let kept = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference");
    let names = |folder: &std::path::Path| {
        let mut names: Vec<_> = std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().file_name()).collect();
        names.sort();
        names
    };
    let made = project.path("pages");
    assert_eq!(names(&kept), names(&made));
    for name in names(&made) {
        let (kept, made) = (std::fs::read_to_string(kept.join(&name)), std::fs::read_to_string(made.join(&name)));
        assert!(kept.unwrap() == made.unwrap(), "{name:?} is old: run sluice manual --pages docs/reference");
    }
}

#[test]
fn the_manual_answers_also_to_mistyped_words() {
    let project = TestProject::empty();
    let (out, _) = project.expect(0, &["manual", "date_trnc"]);
    assert!(out.contains("date_trunc(unit, moment [, zone])") && out.contains("gives 2026-04-01T08:00:00Z"), "{out}");
    for (word, form) in
        [("like", "% is any text"), ("->>", "the same as text"), ("~", "regular expression"), ("md5", "MD5")]
    {
        let (out, _) = project.expect(0, &["manual", "--", word]);
        assert!(out.contains(form) && !out.contains("nothing is named"), "{out}");
    }
    let (_, err) = project.expect(3, &["manual", "qqqqqqqqqq"]);
    assert!(err.contains("knows nothing of"), "{err}");
    assert!(project.json(&["manual"])["entries"].as_array().unwrap().len() > 60);
}

/// The examples at the end of each command's help do what they say, in the project that the demo makes.
#[test]
fn the_examples_of_help_work_in_the_demo() {
    let project = TestProject::empty();
    project.expect(0, &["demo", "tarrow"]);
    let inside = |line: &str| {
        let mut command = std::process::Command::new("sh");
        let folder = assert_cmd::cargo::cargo_bin!("sluice").parent().unwrap();
        let path = format!("{}:/usr/bin:/bin", folder.display());
        command.args(["-c", line]).current_dir(project.path("tarrow")).env_clear().env("PATH", path);
        command.output().unwrap()
    };
    let mut tried = 0;
    for command in [
        "peek",
        "draft",
        "check",
        "rehearse",
        "run",
        "status",
        "ledger",
        "rejects",
        "positions",
        "replay",
        "manual",
        "emit",
    ] {
        let (help, _) = project.expect(0, &[command, "--help"]);
        let (_, examples) = help.split_once("Examples:\n").unwrap();
        let lines: Vec<&str> = examples.lines().map(str::trim).take_while(|l| l.starts_with("sluice ")).collect();
        assert!(lines.len() >= 2, "{command}: {examples}");
        // A broker, a database and what goes on for ever are not part of the demo.
        let elsewhere = ["lock-broker", "permits", "passages", "--follow", "kept.jsonl --expect", "run --all"];
        for line in
            lines.into_iter().filter(|l| !elsewhere.iter().any(|word| l.contains(word)) || l.contains("emit passages"))
        {
            let output = inside(line);
            assert!(output.status.success(), "{line}: {output:?}");
            tried += 1;
        }
    }
    assert!(tried >= 20, "{tried}");
}
