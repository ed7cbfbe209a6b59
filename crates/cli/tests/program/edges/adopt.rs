//! Adopting the batches of landings, and what a second checkout or a new ledger must not touch.

use super::*;

#[test]
fn adopting_takes_over_every_batch_of_every_file() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..100));
    project.expect(0, RUN);
    project.write("depots/b.jsonl", good(100..200));
    project.expect(0, RUN);
    forget(&project);
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("--adopt"), "{err}");
    project.append("depots/a.jsonl", good(200..230));
    project.expect(0, ADOPT);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..230), once(0..230)));
    project.expect(0, RUN);
    assert_eq!(in_folder(&project, "archive/all"), once(0..230));
    // The number of rows in those batches is unknown, so none is shown.
    let (out, _) = project.expect(0, &["ledger", "tickets", "--batch", "1"]);
    assert!(out.contains("ticket.all: had it when it was adopted") && !out.contains("0 rows"), "{out}");
}

#[test]
fn a_pipeline_that_only_adopted_is_not_one_that_never_ran() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..20));
    project.expect(0, RUN);
    forget(&project);
    project.expect(0, ADOPT);
    let (out, _) = project.expect(0, &[]);
    assert!(out.contains("at rest"), "{out}");
    let (_, err) = project.expect(3, &["positions", "tickets", "--as-new", "ticket.0"]);
    assert!(err.contains("--as-new of tickets needs a reason"), "{err}");
}

/// Files that have their names already when the ledger is lost are in no record yet.
#[cfg(feature = "failpoints")]
#[rstest]
fn adopting_ends_what_was_begun_to_be_published(
    #[values("publish.before", "publish.begun", "publish.file_renamed", "publish.folders_synced", "publish.recorded")]
    point: &str,
    #[values(1, 2, 3)] time: u32,
) {
    let project = project(&File { third: true, ..File::default() });
    project.write("depots/a.jsonl", good(0..100));
    let killed = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:{time}")).output().unwrap();
    assert_eq!(killed.status.code(), None);
    forget(&project);
    project.append("depots/a.jsonl", good(100..130));
    if point == "publish.before" && time == 1 {
        project.expect(0, RUN);
    } else {
        project.expect(6, RUN);
        project.expect(0, ADOPT);
    }
    let third = in_folder(&project, "archive/third");
    assert_eq!((in_folder(&project, "archive/all"), third), (once(0..130), once(0..130)));
}

/// The same pipeline with so many lanes.
fn with_lanes(project: &TestProject, lanes: u32) {
    let keys = format!("match = \"*.jsonl\"\nlanes = {lanes}");
    project.write("pipelines/tickets.toml", File::default().text().replace("match = \"*.jsonl\"", &keys));
}

#[rstest]
#[case(3, 1)]
#[case(1, 3)]
#[case(2, 3)]
fn adopting_knows_how_far_files_were_read_when_lanes_have_changed(#[case] before: u32, #[case] after: u32) {
    let project = project(&File::default());
    for (lanes, start) in [(before, 0), (after, 300), (before, 600)] {
        with_lanes(&project, lanes);
        for file in 0..6 {
            project.append(&format!("depots/{file}.jsonl"), good(start + file * 50..start + file * 50 + 50));
        }
        project.expect(0, RUN);
        forget(&project);
        project.expect(0, ADOPT);
        let expected = once(0..start + 300);
        assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (expected.clone(), expected));
    }
}

/// One of these files is in a lane that the pipeline no longer has.
#[rstest]
fn a_new_ledger_sees_what_lanes_landed_that_are_no_more(#[values("a", "b", "c", "d", "e", "f")] file: &str) {
    let project = project(&File::default());
    with_lanes(&project, 3);
    project.write(&format!("depots/{file}.jsonl"), good(0..100));
    project.expect(0, RUN);
    with_lanes(&project, 1);
    forget(&project);
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("--adopt"), "{err}");
    project.append(&format!("depots/{file}.jsonl"), good(100..130));
    project.expect(0, ADOPT);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..130), once(0..130)));
}

#[test]
fn adopting_refuses_where_two_lanes_have_read_the_same_places() {
    let project = project(&File::default());
    with_lanes(&project, 3);
    (0..6).for_each(|file| project.write(&format!("depots/{file}.jsonl"), good(file * 50..file * 50 + 50)));
    project.expect(0, RUN);
    with_lanes(&project, 1);
    project.expect(0, &["positions", "tickets", "--set", "earliest", "--reason", "read anew", "--yes"]);
    (0..6).for_each(|file| project.append(&format!("depots/{file}.jsonl"), good(300 + file..301 + file)));
    project.expect(0, RUN);
    let landed = in_folder(&project, "archive/all");
    forget(&project);
    let (_, err) = project.expect(6, ADOPT);
    assert!(err.contains("do not show which read them last") && err.contains("nothing was taken over"), "{err}");
    assert_eq!(in_folder(&project, "archive/all"), landed);
}

#[cfg(feature = "failpoints")]
#[rstest]
fn adopting_gives_a_landing_that_was_behind_what_it_lacks(#[values(1, 2, 3)] landed: u32) {
    let project = project(&File { rows: 1_000, ..File::default() });
    project.write("depots/a.jsonl", lines(0..100));
    // Killed after one landing, after two, after the rejects.
    let killed = project.command(RUN).env("SLUICE_KILL_AT", format!("land.after:{landed}")).output().unwrap();
    assert_eq!(killed.status.code(), None);
    forget(&project);
    project.append("depots/a.jsonl", lines(100..150));
    project.expect(0, ADOPT);
    let good = |n: &u64| n % 7 != 3;
    let expected: BTreeMap<u64, u32> = once(0..150).into_iter().filter(|(n, _)| good(n)).collect();
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (expected.clone(), expected));
    // The rejects are complete as well: they land once they are fixed.
    let rejects = project.json(&["rejects", "tickets"]);
    assert_eq!(rejects["total"], (0..150).filter(|n| n % 7 == 3).count());
    project.write("pipelines/tickets.toml", File { fixed: true, rows: 1_000, ..File::default() }.text());
    project.expect(0, &["rejects", "tickets", "--retry", "--yes"]);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..150), once(0..150)));
}

#[cfg(feature = "failpoints")]
#[test]
fn a_second_checkout_refuses_before_it_touches_sealed_work() {
    let first = project(&File::default());
    let second = project(&File::default());
    let shared = format!("file:{}", first.path("archive").display());
    for one in [&first, &second] {
        one.write("sluice.toml", PROJECT.replace("file:archive", &shared));
    }
    first.write("depots/a.jsonl", good(0..20));
    first.expect(0, RUN);
    first.append("depots/a.jsonl", good(20..40));
    let killed = first.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
    assert_eq!(killed.status.code(), None);
    second.write("depots/a.jsonl", good(0..60));
    let (_, err) = second.expect(6, RUN);
    assert!(err.contains("of another ledger") && err.contains("nothing was touched"), "{err}");
    // The first one's staged work is still there.
    first.expect(0, RUN);
    assert_eq!((in_folder(&first, "archive/all"), in_table(&first)), (once(0..40), once(0..40)));
}

/// Adopting is one step of the ledger: killed before or after it, or while a landing gets what it lacks, it is done again.
#[cfg(feature = "failpoints")]
#[rstest]
fn adopting_survives_kills(
    #[values("adopt.before", "adopt.after", "replay.begun", "seal.before", "seal.after", "land.after", "settle.after")]
    point: &str,
) {
    let project = project(&File { rows: 1_000, ..File::default() });
    project.write("depots/a.jsonl", lines(0..60));
    let killed = project.command(RUN).env("SLUICE_KILL_AT", "land.after:1").output().unwrap();
    assert_eq!(killed.status.code(), None);
    forget(&project);
    let killed = project.command(ADOPT).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
    assert_eq!(killed.status.code(), None, "{killed:?}");
    project.append("depots/a.jsonl", lines(60..80));
    project.expect(0, ADOPT);
    let good: BTreeMap<u64, u32> = once(0..80).into_iter().filter(|(n, _)| n % 7 != 3).collect();
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (good.clone(), good));
    assert_eq!(project.json(&["rejects", "tickets"])["total"], (0..80).filter(|n| n % 7 == 3).count());
}
