//! Archives of files, as another program packs them.

use serde_json::json;

use crate::common::topics::rows;
use crate::common::{TestProject, python};

const PIPELINE: &str = "pipeline = \"weighings\"\nbatch = { rows = 40 }\n[event.weighing]\nfields = \"id bigint not null, depot \
                        text\"\n[event.weighing.arrives]\nat = \"depots\"\nmatch = \"*.zip\"\nformat = \
                        \"csv\"\n[event.weighing.lands.archive]\nat = \"archive\"\npath = \"all\"\nformat = \"jsonl\"\n";

/// Writes an archive of files of 100 weighings each, as `TYPE NAME…`.
const PACK: &str = "
import sys, zipfile
path, first, *names = sys.argv[1:]
with zipfile.ZipFile(path, 'w') as archive:
    archive.writestr('2026/', '')
    archive.writestr('__MACOSX/._a', 'junk')
    for place, name in enumerate(names):
        start = int(first) + 100 * place
        rows = '\\r\\n'.join(f'{n},Depot {n % 3}' for n in range(start, start + 100))
        archive.writestr(name, 'id,depot\\r\\n' + rows, [zipfile.ZIP_DEFLATED, zipfile.ZIP_STORED][place % 2])
";

fn pack(project: &TestProject, name: &str, first: &str, files: &[&str]) -> Option<()> {
    let path = project.path(name).to_string_lossy().into_owned();
    let arguments: Vec<&str> = [path.as_str(), first].into_iter().chain(files.iter().copied()).collect();
    python(project, PACK, &arguments).map(drop)
}

#[test]
fn the_files_of_an_archive_are_read_as_one() {
    let project = TestProject::new(PIPELINE);
    project.write("depots/.keep", "");
    if pack(&project, "depots/a.zip", "0", &["2026/a.csv", "2026/b.csv", "c.csv"]).is_none() {
        return;
    }
    let looked = project.json(&["peek", "depots/a.zip"]);
    assert!(looked.to_string().contains("packed by zip"), "{looked}");
    project.expect(0, &["check", "weighings"]);
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let numbers = || {
        let mut found: Vec<i64> = rows(&project, "archive/all").iter().map(|row| row["id"].as_i64().unwrap()).collect();
        found.sort_unstable();
        found
    };
    assert_eq!(numbers(), (0..300).collect::<Vec<_>>(), "{}", project.json(&["rejects", "weighings"]));
    assert!(rows(&project, "archive/all").contains(&json!({ "id": 299, "depot": "Depot 2" })));
    // Nothing is read twice, and another archive beside it is read.
    pack(&project, "depots/b.zip", "300", &["d.csv"]).unwrap();
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    assert_eq!(numbers(), (0..400).collect::<Vec<_>>());
    assert_eq!(project.json(&["rejects", "weighings"])["total"], 0);
}

#[test]
fn an_archive_that_is_not_whole_is_read_once_it_is() {
    let project = TestProject::new(PIPELINE);
    project.write("depots/.keep", "");
    if pack(&project, "whole.zip", "0", &["a.csv"]).is_none() {
        return;
    }
    let whole = std::fs::read(project.path("whole.zip")).unwrap();
    std::fs::write(project.path("depots/a.zip"), &whole[..whole.len() - 30]).unwrap();
    let output = project.run(&["run", "weighings", "--until-caught-up"]);
    let err = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(!output.status.success(), "{err}");
    assert!(err.contains("a.zip") && err.contains("not yet whole"), "{err}");
    std::fs::write(project.path("depots/a.zip"), whole).unwrap();
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    assert_eq!(rows(&project, "archive/all").len(), 100);
}
