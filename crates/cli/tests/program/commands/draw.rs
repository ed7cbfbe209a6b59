//! Pictures of pipelines, and the page with all of them.

use crate::common::{Expected, PIPELINE, TestProject};

fn with_batches() -> TestProject {
    let project = TestProject::new(PIPELINE);
    project.write("depots/a.jsonl", Expected::default().lines(0, 230));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    project
}

fn read(project: &TestProject, name: &str) -> String {
    std::fs::read_to_string(project.path(name)).unwrap()
}

/// Every element that is opened is closed, in order.
fn assert_well_formed(text: &str) {
    let mut open: Vec<&str> = Vec::new();
    for part in text.split('<').skip(1) {
        let (tag, _) = part.split_once('>').expect("a tag ends");
        let name = tag.trim_start_matches('/').split([' ', '/']).next().unwrap();
        match (tag.starts_with('/'), tag.ends_with('/') || tag.starts_with('!') || name == "meta") {
            (true, _) => assert_eq!(open.pop(), Some(name), "{tag}"),
            (false, true) => {}
            (false, false) => open.push(name),
        }
    }
    assert!(open.is_empty(), "{open:?}");
}

#[test]
fn a_pipeline_is_drawn_with_its_counts() {
    let project = with_batches();
    let (said, _) = project.expect(0, &["draw", "weighings"]);
    assert_eq!(said, "weighings.svg\n");
    let text = read(&project, "weighings.svg");
    assert_well_formed(&text);
    for part in ["depots", "weighing.archive", "weighing.heavy", ">230<", "225 out", "5 rejected", "3 batches"] {
        assert!(text.contains(part), "{part}\n{text}");
    }
    project.expect(0, &["draw", "weighings", "--batches", "1", "--into", "one.svg"]);
    assert!(read(&project, "one.svg").contains(">100<"));
    let (_, said) = project.expect(3, &["draw", "weighings", "--batches", "9"]);
    assert!(said.contains("has no batches 9"), "{said}");
    let (_, said) = project.expect(3, &["draw", "weighings", "--into", "w.gif"]);
    assert!(said.contains("does not end with .svg"), "{said}");
    // One that never ran has a picture too.
    let empty = TestProject::new(PIPELINE);
    empty.expect(0, &["draw", "weighings"]);
    assert!(read(&empty, "weighings.svg").contains("no batches yet"));
}

#[test]
fn figures_over_time_are_drawn() {
    let project = with_batches();
    project.expect(0, &["draw", "weighings", "--over", "12h", "--into", "over.svg"]);
    let text = read(&project, "over.svg");
    assert_well_formed(&text);
    assert!(text.contains("events read") && text.contains(">230<") && text.contains("longest batch"), "{text}");
    for wrong in ["0s", "3y", "400d", "soon"] {
        let (_, said) = project.expect(3, &["draw", "weighings", "--over", wrong]);
        assert!(said.contains("--over"), "{said}");
    }
}

#[test]
fn the_page_has_all_pipelines_and_nothing_from_elsewhere() {
    let project = with_batches();
    let text = read(&project, "pipelines/weighings.toml").replace("pipeline = \"weighings\"", "pipeline = \"broken\"");
    let text = text.replace("path = \"all", "path = \"broken").replace("path    = \"heavy\"", "path    = \"light\"");
    project.write("pipelines/broken.toml", text.replace("at    = \"depots\"", "at    = \"depot\""));
    let found = project.json(&["draw", "--page", "page.html"]);
    assert_eq!(found["file"], "page.html");
    let page = read(&project, "page.html");
    assert_well_formed(&page);
    assert!(page.contains("<h2>weighings</h2>") && page.contains("at rest") && page.contains("<h2>broken</h2>"));
    assert!(page.contains("has errors") && !page.contains("<script") && !page.contains("refresh"), "{page}");
    assert!(!page.replace("http://www.w3.org/2000/svg", "").contains("http"), "{page}");
}
