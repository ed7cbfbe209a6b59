//! Reading again: replays, retries, and giving up batches that cannot be finished.

use super::*;

#[test]
fn reading_again_twice_or_in_another_order_doubles_nothing() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..100));
    project.expect(0, RUN);
    project.write("pipelines/tickets.toml", File { third: true, ..File::default() }.text());
    let into = &["replay", "tickets", "--batches", "1-", "--landing", "third", "--yes"];
    let in_place = &["replay", "tickets", "--batches", "2-3", "--yes"];
    for again in [into.as_slice(), into, in_place, into, in_place] {
        project.expect(0, again);
        assert_eq!(in_folder(&project, "archive/third"), once(0..100), "{again:?}");
        assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..100), once(0..100)));
    }
}

#[test]
fn rejects_that_were_read_again_are_not_doubled_by_a_replay_of_their_batch() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", lines(0..11));
    project.expect(0, RUN);
    assert_eq!(in_folder(&project, "archive/all").len(), 9);
    let fixed = File { fixed: true, ..File::default() };
    project.write("pipelines/tickets.toml", fixed.text());
    let retry = &["rejects", "tickets", "--retry", "--yes"];
    let replay = &["replay", "tickets", "--batches", "1", "--yes"];
    for again in [retry.as_slice(), replay, retry, replay, replay] {
        project.expect(0, again);
        assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..11), once(0..11)), "{again:?}");
        assert_eq!(project.json(&["rejects", "tickets"])["total"], 0);
    }
    // The events are broken again and rejected again: each is one reject, however often it was read.
    project.write("pipelines/tickets.toml", File { third: true, ..File::default() }.text());
    project.expect(0, replay);
    project.expect(0, &["replay", "tickets", "--batches", "1", "--landing", "third", "--yes"]);
    assert_eq!(project.json(&["rejects", "tickets"])["total"], 2);
    project.write("pipelines/tickets.toml", File { third: true, fixed: true, ..File::default() }.text());
    project.expect(0, retry);
    for folder in ["archive/all", "archive/third"] {
        assert_eq!(in_folder(&project, folder), once(0..11), "{folder}");
    }
    assert_eq!(in_table(&project), once(0..11));
}

#[cfg(feature = "failpoints")]
#[test]
fn a_sealed_batch_that_cannot_be_finished_has_a_way_out() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", lines(0..20));
    let killed = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
    assert_eq!(killed.status.code(), None);
    // A file is put where the folder was.
    fs::remove_dir_all(project.path("archive/all")).unwrap();
    project.write("archive/all", "in the way");
    project.append("depots/a.jsonl", lines(20..40));
    for _ in 0..2 {
        project.expect(5, RUN);
    }
    let report = project.json(&["rejects", "tickets", "--unfinished", "--yes"]);
    assert_eq!(report["given_up"][0]["landing"], "ticket.all", "{report}");
    fs::remove_file(project.path("archive/all")).unwrap();
    project.expect(0, RUN);
    let good: BTreeMap<u64, u32> = once(0..40).into_iter().filter(|(n, _)| n % 7 != 3).collect();
    assert_eq!(in_table(&project), good);
    let rejects = project.json(&["rejects", "tickets"]);
    let unfinished = rejects["groups"].as_array().unwrap().iter().find(|g| g["reason"] == "unfinished").unwrap();
    assert_eq!(unfinished["count"], (0..20).filter(|n| n % 7 != 3).count(), "{rejects}");
    project.expect(0, &["rejects", "tickets", "--retry", "--yes"]);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (good.clone(), good));
    project.expect(0, &["rejects", "tickets", "--unfinished", "--yes"]);
}

/// One folder of a batch has its file already, and that of the other cannot get its name: nothing of the batch stays
/// visible beside its rejects.
#[cfg(feature = "failpoints")]
#[test]
fn what_a_batch_that_is_given_up_shows_in_part_is_removed() {
    let project = project(&File::default());
    project.write("pipelines/tickets.toml", File::default().text().replace("path = \"all\"", "path = \"all/{kg}\""));
    let numbers: String = (0..20).map(|n| format!("{{\"n\":{n},\"kg\":{}}}\n", n % 2)).collect();
    project.write("depots/a.jsonl", numbers);
    let killed = project.command(RUN).env("SLUICE_KILL_AT", "publish.file_renamed:1").output().unwrap();
    assert_eq!(killed.status.code(), None);
    assert_eq!(in_folder(&project, "archive/all").len(), 10, "one of two files");
    let is_empty = |kg: &&&str| visible_files(&project.path(format!("archive/all/{kg}").as_str())).is_empty();
    let other = format!("archive/all/{}", ["0", "1"].iter().find(is_empty).unwrap());
    fs::remove_dir(project.path(&other)).unwrap();
    project.write(&other, "in the way");
    project.expect(5, RUN);
    project.expect(0, &["rejects", "tickets", "--unfinished", "--yes"]);
    fs::remove_file(project.path(&other)).unwrap();
    assert_eq!(in_folder(&project, "archive/all"), BTreeMap::new());
    project.expect(0, RUN);
    project.expect(0, &["rejects", "tickets", "--retry", "--yes"]);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..20), once(0..20)));
    // A new ledger finds no unfinished work.
    forget(&project);
    project.expect(0, ADOPT);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..20), once(0..20)));
}

#[cfg(feature = "failpoints")]
#[rstest]
fn giving_up_survives_kills(#[values("give_up.withdrawn", "give_up.kept", "give_up.landed")] point: &str) {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..20));
    let killed = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
    assert_eq!(killed.status.code(), None);
    fs::remove_dir_all(project.path("archive/all")).unwrap();
    project.write("archive/all", "in the way");
    let give_up = &["rejects", "tickets", "--unfinished", "--yes"];
    let killed = project.command(give_up).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
    assert_eq!(killed.status.code(), None, "{killed:?}");
    // What was in the way is gone now, so that the batch could be published if it were still whole.
    fs::remove_file(project.path("archive/all")).unwrap();
    project.command(RUN).output().unwrap();
    project.expect(0, give_up);
    project.expect(0, RUN);
    project.expect(0, &["rejects", "tickets", "--retry", "--yes"]);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..20), once(0..20)));
    assert_eq!(project.json(&["rejects", "tickets"])["total"], 0);
}
