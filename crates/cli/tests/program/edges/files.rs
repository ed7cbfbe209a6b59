//! Files that are replaced, rotated or linked, and header rows without the fields.

use super::*;

#[test]
fn a_replaced_dump_stops_and_a_rotated_log_does_not() {
    let project = project(&File { rows: 100_000, ..File::default() });
    project.write("depots/dump.jsonl", good(0..5_000));
    project.write("depots/app.jsonl", good(10_000..10_100));
    project.expect(0, RUN);
    fs::rename(project.path("depots/app.jsonl"), project.path("depots/app.jsonl.1")).unwrap();
    project.write("depots/app.jsonl", good(10_100..10_200));
    project.expect(0, RUN);
    let mut expected = once(0..5_000);
    expected.extend(once(10_000..10_200));
    assert_eq!(in_folder(&project, "archive/all"), expected);
    // The same first 4 KiB, other lines after them, and longer than before.
    project.write("depots/dump.jsonl", good(0..500) + &good(20_000..30_000));
    project.write("depots/late.jsonl", good(40_000..40_010));
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("dump.jsonl is not the file that was read"), "{err}");
    // The other files were still read.
    expected.extend(once(40_000..40_010));
    assert_eq!(in_folder(&project, "archive/all"), expected);
    // The reason for the stop can be read afterwards.
    let (out, _) = project.expect(0, &[]);
    assert!(out.contains("stopped") && out.contains("dump.jsonl"), "{out}");
    assert_eq!(project.json(&["status", "tickets"])["pipelines"][0]["last_end"]["kind"], "findings");
    fs::remove_file(project.path("depots/dump.jsonl")).unwrap();
    project.expect(0, RUN);
    assert_eq!(project.json(&["status", "tickets"])["pipelines"][0]["last_end"], Value::Null);
}

#[test]
fn links_are_passed_over_and_said() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..5));
    symlink(".", project.path("depots/l")).unwrap();
    symlink("..", project.path("depots/up")).unwrap();
    let text = File::default().text().replace("match = \"*.jsonl\"", "match = \"**/*.jsonl\"");
    project.write("pipelines/tickets.toml", &text);
    let (out, _) = project.expect(0, RUN);
    assert!(out.contains("2 symbolic links passed over") && out.contains("follow_links"), "{out}");
    assert_eq!(in_folder(&project, "archive/all"), once(0..5));
    project.write("pipelines/tickets.toml", text.replace("match =", "follow_links = true\nmatch ="));
    project.expect(0, &["run", "tickets", "--until-caught-up"]);
    let found = in_folder(&project, "archive/all");
    assert!(found.values().all(|n| *n == 1), "a circle is walked once: {found:?}");
}

#[rstest]
#[case::other_delimiter("n;kg\n1;2\n", 4, "delimiter = \";\"")]
#[case::other_names("number,weight\n1,2\n", 4, "names none of the event's fields")]
#[case::one_is_missing("n,weight\n1,2\n", 0, "does not name `kg`")]
fn a_header_row_without_the_fields_is_said(#[case] text: &str, #[case] code: i32, #[case] said: &str) {
    let project = project(&File::default());
    let pipeline = "pipeline = \"tickets\"\n[event.ticket]\nfields = \"n integer, kg integer\"\n[event.ticket.arrives]\nat = \
                    \"depots\"\nformat = \"csv\"\n[event.ticket.lands.all]\nat = \"archive\"\npath = \"all\"\nformat = \
                    \"jsonl\"\n";
    project.write("pipelines/tickets.toml", pipeline);
    project.write("depots/a.csv", text);
    let (out, err) = project.expect(code, RUN);
    assert!(format!("{out}{err}").contains(said) && format!("{out}{err}").contains("a.csv"), "{out}{err}");
    assert_eq!(visible_files(&project.path("archive")).is_empty(), code != 0);
}
