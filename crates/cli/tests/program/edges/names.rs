//! New names of events, arrivals and pipelines; names of folders; types of columns.

use super::*;

#[test]
fn an_event_with_a_new_name_goes_on_where_it_was() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..100));
    project.expect(0, RUN);
    let renamed = File { event: "weigh_ticket", ..File::default() };
    project.write("pipelines/tickets.toml", renamed.text());
    project.append("depots/a.jsonl", good(100..120));
    project.expect(0, RUN);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..120), once(0..120)));
    // What landed under its old name is replaced under its new one.
    project.expect(0, &["replay", "tickets", "--batches", "1-", "--yes"]);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..120), once(0..120)));
}

/// A pipeline's name is part of what its landings hold: under another one it is not read from the beginning unasked.
#[test]
fn a_pipeline_with_a_new_name_waits_for_a_choice() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..50));
    project.expect(0, RUN);
    let text = File::default().text();
    project.write("pipelines/tickets.toml", text.replace("pipeline = \"tickets\"", "pipeline = \"weighing\""));
    let run = &["run", "weighing", "--until-caught-up"];
    let (_, err) = project.expect(6, run);
    assert!(err.contains("may be the same pipeline under a new name") && err.contains("--as-new"), "{err}");
    assert_eq!(in_folder(&project, "archive/all"), once(0..50));
    // A second pipeline beside it is independent.
    project.write("pipelines/tickets.toml", &text);
    let second = text
        .replace("pipeline = \"tickets\"", "pipeline = \"weighing\"")
        .replace("path = \"all\"", "path = \"second\"");
    project.write("pipelines/second.toml", second.replace("table = \"ticket\"", "table = \"second\""));
    project.expect(0, run);
    assert_eq!((in_folder(&project, "archive/all"), in_folder(&project, "archive/second")), (once(0..50), once(0..50)));
}

#[test]
fn an_arrival_put_before_another_changes_no_positions() {
    let two = |first: &str, second: &str| {
        let text = File::default().text().replace("[event.ticket.arrives]\nat = \"depots\"\nmatch = \"*.jsonl\"\n", "");
        let arrival = |pattern: &str| format!("[[event.ticket.arrives]]\nat = \"depots\"\nmatch = \"{pattern}\"\n");
        let (before, after) = text.split_once("[event.ticket.lands.all]").unwrap();
        format!("{before}{}{}[event.ticket.lands.all]{after}", arrival(first), arrival(second))
    };
    let project = project(&File::default());
    project.write("pipelines/tickets.toml", two("east-*.jsonl", "west-*.jsonl"));
    project.write("depots/east-a.jsonl", good(0..50));
    project.write("depots/west-a.jsonl", good(50..100));
    project.expect(0, RUN);
    project.write("pipelines/tickets.toml", two("west-*.jsonl", "east-*.jsonl"));
    project.append("depots/east-a.jsonl", good(100..110));
    project.expect(0, RUN);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..110), once(0..110)));
}

#[rstest]
#[case::taken_over("--take-over", "ticket.0=ticket.0", 100..110)]
#[case::as_a_new_one("--as-new", "ticket.0", 0..110)]
fn an_arrival_from_another_place_waits_for_a_choice(
    #[case] option: &str,
    #[case] value: &str,
    #[case] lands: std::ops::Range<u32>,
) {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..100));
    project.expect(0, RUN);
    fs::create_dir(project.path("elsewhere")).unwrap();
    fs::rename(project.path("depots/a.jsonl"), project.path("elsewhere/a.jsonl")).unwrap();
    project.append("elsewhere/a.jsonl", good(100..110));
    project.write("sluice.toml", PROJECT.replace("file:depots", "file:elsewhere"));
    let before = in_folder(&project, "archive/all");
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("file:elsewhere") && err.contains("file:depots") && err.contains("--take-over"), "{err}");
    assert_eq!(in_folder(&project, "archive/all"), before);
    let (_, err) = project.expect(3, &["positions", "tickets", option, value, "--yes"]);
    assert!(err.contains("--reason"), "{err}");
    project.expect(0, &["positions", "tickets", option, value, "--reason", "the folder moved", "--yes"]);
    project.expect(0, RUN);
    let mut expected = once(0..100);
    lands.for_each(|n| *expected.entry(u64::from(n)).or_default() += 1);
    assert_eq!(in_folder(&project, "archive/all"), expected);
    // The question is not asked again.
    project.expect(0, RUN);
}

#[test]
fn a_folder_name_that_cannot_be_made_is_a_reject_and_blocks_nothing() {
    let project = project(&File::default());
    let text = "pipeline = \"tickets\"\nbatch = { rows = 20 }\nrejects = { share = \"100%\", least = 1000 }\n[event.ticket]\n\
                fields = \"a text not null, b text not null\"\n[event.ticket.arrives]\nat = \"depots\"\n\
                [event.ticket.lands.all]\nat = \"archive\"\npath = \"{a}-{b}\"\nformat = \"jsonl\"\n";
    project.write("pipelines/tickets.toml", text);
    let line = |length: usize| format!("{{\"a\":\"{0}\",\"b\":\"{0}\"}}\n", "x".repeat(length));
    project.write("depots/a.jsonl", line(10) + &line(180) + &line(20));
    project.expect(0, RUN);
    let rejects = project.json(&["rejects", "tickets"]);
    assert_eq!((&rejects["total"], &rejects["groups"][0]["reason"]), (&1.into(), &"path".into()), "{rejects}");
    assert_eq!(visible_files(&project.path("archive")).len(), 2);
    project.write("pipelines/tickets.toml", text.replace("{a}-{b}", "{a}/{b}"));
    project.expect(0, &["rejects", "tickets", "--retry", "--yes"]);
    assert_eq!(visible_files(&project.path("archive")).len(), 3);
}

#[test]
fn null_and_the_text_null_have_folders_of_their_own() {
    let project = project(&File::default());
    let pipeline = "pipeline = \"tickets\"\n[event.ticket]\nfields = \"n integer not null, lock text\"\n\
                    [event.ticket.arrives]\nat = \"depots\"\n[event.ticket.lands.all]\nat = \"archive\"\npath = \
                    \"lock={lock}\"\nformat = \"jsonl\"\n";
    project.write("pipelines/tickets.toml", pipeline);
    let values = ["null", "\"null\"", "\"none\"", "\"%null\"", "\"\"", "\"a=b\"", "\"Upper\"", "\"upper\""];
    let text: String =
        values.iter().enumerate().map(|(n, value)| format!("{{\"n\":{n},\"lock\":{value}}}\n")).collect();
    project.write("depots/a.jsonl", text);
    project.expect(0, RUN);
    let mut folders: Vec<String> = fs::read_dir(project.path("archive"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| !name.starts_with('.'))
        .collect();
    folders.sort();
    let expected = [
        "lock=%25null",
        "lock=%empty",
        "lock=%null",
        "lock=Upper",
        "lock=a%3Db",
        "lock=none",
        "lock=null",
        "lock=upper",
    ];
    assert_eq!(folders, expected);
}

/// One folder of Parquet files has one type a column.
#[test]
fn a_column_with_another_type_lands_in_a_folder_of_its_own_or_not_at_all() {
    let project = project(&File::default());
    let text = |ty: &str, more: &str| {
        format!(
            "pipeline = \"tickets\"\n[event.ticket]\nfields = \"n text not null, kg {ty}\"\n[event.ticket.arrives]\nat = \
             \"depots\"\n[event.ticket.lands.all]\nat = \"archive\"\npath = \"all\"\n{more}"
        )
    };
    let parquet = |folder: &str| -> usize {
        visible_files(&project.path(folder)).iter().map(|path| crate::common::parquet_texts(path).len()).sum()
    };
    project.write("pipelines/tickets.toml", text("integer", ""));
    project.write("depots/a.jsonl", "{\"n\":\"a\",\"kg\":1}\n");
    project.expect(0, RUN);
    project.append("depots/a.jsonl", "{\"n\":\"b\",\"kg\":2}\n");
    project.write("pipelines/tickets.toml", text("bigint", ""));
    let (_, err) = project.expect(3, RUN);
    assert!(err.contains("`kg` landed as Int32 and is Int64 now") && err.contains("new_folder"), "{err}");
    let (out, err) = project.expect(3, &["check"]);
    assert!(format!("{out}{err}").contains("files.types"), "{out}{err}");
    assert_eq!(parquet("archive/all"), 1);
    // An additional column does not change a type.
    project.write("pipelines/tickets.toml", text("integer, bridge integer", ""));
    project.expect(0, RUN);
    assert_eq!(parquet("archive/all"), 2);
    project.write("pipelines/tickets.toml", text("bigint", "new_types = \"new_folder\"\n"));
    project.append("depots/a.jsonl", "{\"n\":\"c\",\"kg\":3}\n");
    project.expect(0, RUN);
    project.append("depots/a.jsonl", "{\"n\":\"d\",\"kg\":4}\n");
    project.expect(0, RUN);
    assert_eq!((parquet("archive/all"), parquet("archive/all-2")), (2, 2));
    assert_eq!(project.json(&["peek", "tickets.ticket.all"])["rows"], 2);
}
