//! Files that are replaced, renamed, rotated or linked, and files that cannot be read.

use std::os::unix::fs::{PermissionsExt as _, symlink};

use super::*;

fn path(folder: &Folder, name: &str) -> PathBuf {
    folder.0.path().join("in").join(name)
}

/// Positions as the ledger has them after all chunks of a reader: each takes the place of the one before.
fn positions(reader: &mut dyn LaneReader, mut known: Vec<PartitionPosition>) -> Vec<PartitionPosition> {
    while let Read::Chunk(c) = reader.read(ALL).unwrap() {
        known.retain(|p| p.partition != c.partition);
        known.push(PartitionPosition { partition: c.partition, position: c.to, identity: c.identity });
    }
    known
}

fn lines(from: u32, to: u32) -> String {
    (from..to).map(|n| format!("{{\"a\":{n:06}}}\n")).collect()
}

fn texts(found: &[(String, u64, u64, String, u64)]) -> Vec<(&str, u64, u64)> {
    found.iter().map(|c| (c.0.as_str(), c.1, c.4)).collect()
}

/// A file with the same first bytes and at least the same length is another one all the same.
#[rstest]
#[case::at_the_next_run(false)]
#[case::while_it_runs(true)]
fn a_full_dump_under_the_same_name_is_noticed(#[case] running: bool) {
    let folder = Folder::new();
    folder.write("dump.jsonl", &lines(0, 2000));
    let mut reader = folder.reader(Vec::new()).unwrap();
    let known = positions(reader.as_mut(), Vec::new());
    // The first 8 KiB are the same, then every line differs.
    fs::write(path(&folder, "dump.jsonl"), lines(0, 600) + &lines(5000, 9000)).unwrap();
    if !running {
        reader = folder.reader(known).unwrap();
    }
    std::thread::sleep(FRESH);
    let failure = stuck(reader.as_mut());
    assert!(failure.message.contains("is not the file that was read"), "{failure}");
}

#[rstest]
#[case::at_the_next_run(false)]
#[case::while_it_runs(true)]
fn a_rotated_log_loses_and_doubles_nothing(
    #[case] running: bool,
    #[values("app.1.jsonl", "app.jsonl.1", "done/app.jsonl.old")] rotated: &str,
) {
    let folder = Folder::new();
    folder.write("app.jsonl", &lines(0, 3));
    let mut reader = folder.reader(Vec::new()).unwrap();
    let known = positions(reader.as_mut(), Vec::new());
    // Written after the last look, before the rotation.
    folder.write("app.jsonl", &lines(3, 4));
    fs::create_dir_all(path(&folder, rotated).parent().unwrap()).unwrap();
    fs::rename(path(&folder, "app.jsonl"), path(&folder, rotated)).unwrap();
    folder.write("app.jsonl", &lines(10, 12));
    if !running {
        reader = folder.reader(known).unwrap();
    }
    std::thread::sleep(FRESH);
    let found = drain(reader.as_mut(), ALL);
    // The note of the new name, what was left of the old file, and the new one from its beginning.
    assert_eq!(texts(&found), [(rotated, 39, 0), (rotated, 39, 1), ("app.jsonl", 0, 2)]);
    std::thread::sleep(FRESH);
    assert!(drain(reader.as_mut(), ALL).is_empty());
}

#[test]
fn a_renamed_file_is_noted_under_its_new_name_although_nothing_is_left_to_read() {
    let folder = Folder::new();
    folder.write("a.jsonl", &lines(0, 3));
    let known = positions(folder.reader(Vec::new()).unwrap().as_mut(), Vec::new());
    fs::rename(path(&folder, "a.jsonl"), path(&folder, "done-a.jsonl")).unwrap();
    let mut reader = folder.reader(known.clone()).unwrap();
    let known = positions(reader.as_mut(), known);
    assert!(known.iter().any(|p| &*p.partition == "done-a.jsonl" && p.position.major == 39));
    // The next run knows it, also once another file has the old name.
    folder.write("a.jsonl", &lines(7, 8));
    let found = drain(folder.reader(known).unwrap().as_mut(), ALL);
    assert_eq!(texts(&found), [("a.jsonl", 0, 1)]);
}

/// What is in a file does not make it the same one: small files are often alike.
#[test]
fn a_new_file_that_is_alike_is_read() {
    let folder = Folder::new();
    folder.write("beat-1.jsonl", "{\"ok\":true}\n");
    let known = positions(folder.reader(Vec::new()).unwrap().as_mut(), Vec::new());
    fs::remove_file(path(&folder, "beat-1.jsonl")).unwrap();
    folder.write("beat-2.jsonl", "{\"ok\":true}\n");
    let found = drain(folder.reader(known.clone()).unwrap().as_mut(), ALL);
    assert_eq!(texts(&found), [("beat-2.jsonl", 0, 1)]);
    // Neither is a second name of a file that still has its first one.
    folder.write("c.jsonl", &lines(0, 2));
    let known = positions(folder.reader(Vec::new()).unwrap().as_mut(), known);
    fs::hard_link(path(&folder, "c.jsonl"), path(&folder, "d.jsonl")).unwrap();
    let found = drain(folder.reader(known).unwrap().as_mut(), ALL);
    assert_eq!(texts(&found), [("d.jsonl", 0, 2)]);
}

#[test]
fn lanes_agree_on_a_renamed_file() {
    let folder = Folder::new();
    for n in 0..8 {
        folder.write(&format!("{n}.jsonl"), &lines(n, n + 1));
    }
    let intake = Files.open(&[settings(folder.0.path(), "*.jsonl", 1000)]).unwrap();
    let mut readers: Vec<_> = (0..3).map(|lane| intake.lane(lane, 3, Vec::new()).unwrap()).collect();
    let mut read = 0;
    for reader in &mut readers {
        read += drain(reader.as_mut(), ALL).iter().map(|c| c.4).sum::<u64>();
    }
    assert_eq!(read, 8);
    for n in 0..8 {
        fs::rename(path(&folder, &format!("{n}.jsonl")), path(&folder, &format!("moved-{n}.jsonl"))).unwrap();
    }
    std::thread::sleep(FRESH);
    for reader in &mut readers {
        read += drain(reader.as_mut(), ALL).iter().map(|c| c.4).sum::<u64>();
    }
    assert_eq!(read, 8, "nothing was read again");
}

#[test]
fn one_file_that_cannot_be_read_does_not_keep_the_others_back() {
    // A user with all rights can read everything.
    let folder = Folder::new();
    folder.write("a.jsonl", &lines(0, 1)).write("b.jsonl", &lines(0, 2));
    fs::set_permissions(path(&folder, "a.jsonl"), fs::Permissions::from_mode(0o0)).unwrap();
    let readable = fs::File::open(path(&folder, "a.jsonl")).is_ok();
    let mut reader = folder.reader(Vec::new()).unwrap();
    let found = drain(reader.as_mut(), ALL);
    if readable {
        assert_eq!(found.len(), 2);
        return;
    }
    assert_eq!(texts(&found), [("b.jsonl", 0, 2)]);
    let failure = stuck(reader.as_mut());
    assert!(failure.passing && failure.message.contains("a.jsonl"), "{failure}");
}

#[rstest]
#[case(false, &["data/a.jsonl"])]
#[case(true, &["data/a.jsonl", "link.jsonl", "other/b.jsonl"])]
fn links_are_followed_only_where_an_option_says_so_and_never_in_a_circle(
    #[case] follow: bool,
    #[case] expected: &[&str],
) {
    let folder = Folder::new();
    folder.write("data/a.jsonl", "{}\n");
    let outside = tempfile::tempdir().unwrap();
    fs::write(outside.path().join("b.jsonl"), "{}\n").unwrap();
    symlink(".", path(&folder, "l")).unwrap();
    symlink("..", path(&folder, "data/up")).unwrap();
    symlink("data", path(&folder, "again")).unwrap();
    symlink(outside.path(), path(&folder, "other")).unwrap();
    symlink("data/a.jsonl", path(&folder, "link.jsonl")).unwrap();
    symlink("nowhere", path(&folder, "lost.jsonl")).unwrap();
    let mut settings = settings(folder.0.path(), "**/*.jsonl", 1000);
    let place = settings.options.place.clone();
    settings.options.set("follow_links", OptionValue::Flag(follow), place);
    let mut reader = Files.open(std::slice::from_ref(&settings)).unwrap().lane(0, 1, Vec::new()).unwrap();
    let found = drain(reader.as_mut(), ALL);
    assert_eq!(found.iter().map(|c| c.0.as_str()).collect::<Vec<_>>(), expected);
    assert_eq!(reader.remarks().iter().any(|r| r.contains("follow_links")), !follow);
}

#[test]
fn a_look_at_very_many_files_ends_when_somebody_asks() {
    let folder = Folder::new();
    for n in 0..600 {
        folder.write(&format!("{n}.txt"), "");
    }
    let settings = settings(folder.0.path(), "*.jsonl", 1000);
    settings.stop.settle();
    let mut reader = Files.open(std::slice::from_ref(&settings)).unwrap().lane(0, 1, Vec::new()).unwrap();
    assert!(matches!(reader.read(ALL).unwrap(), Read::Pending));
}
