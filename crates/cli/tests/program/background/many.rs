//! Several pipelines at a terminal, and many in the background.

use super::{Kept, kill, status, wait_settled, wait_state};
use crate::common::TestProject;
use crate::common::running::wait_for;

/// Pipelines that read one folder each.
fn project(count: usize) -> Kept {
    let project = TestProject::empty();
    let mut text = "[project]\nname = \"tarrow\"\n[connection.archive]\nurl = \"file:archive\"\n".to_string();
    for k in 0..count {
        text.push_str(&format!("[connection.lock-{k}]\nurl = \"file:lock-{k}\"\n"));
        project.write(&format!("lock-{k}/a.jsonl"), rows(0, 40));
        project.write(
            &format!("pipelines/lock-{k}.toml"),
            format!(
                "pipeline = \"lock-{k}\"\nbatch = {{ rows = 10, every = \"200ms\" }}\n[event.passage]\n\
                 fields = \"n integer not null\"\n[event.passage.arrives]\nat = \"lock-{k}\"\nmatch = \"*.jsonl\"\n\
                 [event.passage.lands.all]\nat = \"archive\"\npath = \"lock-{k}\"\nformat = \"jsonl\"\n"
            ),
        );
    }
    project.write("sluice.toml", text);
    Kept(project)
}

fn rows(from: usize, to: usize) -> String {
    (from..to).map(|n| format!("{{\"n\":{n}}}\n")).collect()
}

/// What has landed of a pipeline, in order.
fn landed(project: &TestProject, k: usize) -> Vec<u64> {
    let files = crate::common::visible_files(&project.path(&format!("archive/lock-{k}")));
    let texts = files.iter().map(|file| std::fs::read_to_string(file).unwrap());
    let mut found: Vec<u64> = texts
        .flat_map(|text| text.lines().map(str::to_string).collect::<Vec<_>>())
        .map(|line| serde_json::from_str::<serde_json::Value>(&line).unwrap()["n"].as_u64().unwrap())
        .collect();
    found.sort_unstable();
    found
}

#[test]
fn several_run_beside_each_other_until_caught_up() {
    let project = project(4);
    let found = project.json(&["run", "--all", "--until-caught-up"]);
    let runs = found["runs"].as_array().unwrap();
    assert_eq!(runs.len(), 4);
    assert!(runs.iter().all(|run| run["read"] == 40 && run["exit"] == 0), "{found:#}");
    (0..4).for_each(|k| assert_eq!(landed(&project, k), (0..40).collect::<Vec<u64>>()));
    // One that fails is told with its exit; the others have landed.
    (0..4).for_each(|k| project.write(&format!("lock-{k}/b.jsonl"), rows(40, 50)));
    std::fs::remove_dir_all(project.path("lock-2")).unwrap();
    let (out, err) =
        project.expect(5, &["run", "lock-1", "lock-2", "lock-3", "lock-1", "--until-caught-up", "--log", "off"]);
    assert!(out.contains("lock-1: 10 events read") && out.contains("lock-3: 10 events read"), "{out}");
    assert!(err.contains("lock-2 does not exist"), "{err}");
    assert_eq!((landed(&project, 1).len(), landed(&project, 0).len()), (50, 40));
}

#[test]
fn names_are_needed_or_all() {
    let project = project(1);
    project.expect(2, &["run"]);
    project.expect(2, &["run", "lock-0", "--all"]);
    let (_, said) = project.expect(3, &["run", "lock-0", "lock-9", "--until-caught-up"]);
    assert!(said.contains("there is no pipeline `lock-9`"), "{said}");
    assert_eq!(landed(&project, 0).len(), 0);
}

/// What runs at a terminal for ever is found by commands, and settled by a signal.
#[test]
fn those_at_a_terminal_are_found_by_commands() {
    let project = project(3);
    let mut child = project.command(&["run", "--all", "--log", "off"]).spawn().unwrap();
    (0..3).for_each(|k| wait_settled(&project, &format!("lock-{k}"), 40));
    assert_eq!(status(&project, "lock-1")["background"]["doing"], "runs");
    project.expect(0, &["stop", "lock-1"]);
    assert_eq!(wait_state(&project, "lock-1", "at_rest")["background"]["doing"], "ended");
    super::signal(child.id().into(), "INT");
    assert!(child.wait().unwrap().success());
    assert_eq!(super::process(&project), None);
}

/// Twenty: the process is killed, one has a broken source, one is edited. All others go on undisturbed, and nothing is lost or
/// doubled.
#[test]
fn many_go_on_whatever_happens_to_one() {
    const MANY: usize = 20;
    let project = project(MANY);
    std::fs::rename(project.path("lock-3"), project.path("away")).unwrap();
    project.expect(0, &["start"]);
    wait_state(&project, "lock-3", "waits");
    (0..MANY).filter(|k| *k != 3).for_each(|k| wait_settled(&project, &format!("lock-{k}"), 40));
    let text = std::fs::read_to_string(project.path("pipelines/lock-5.toml")).unwrap();
    project.write("pipelines/lock-5.toml", text.replace("rows = 10", "rows = 7"));
    (0..MANY).filter(|k| *k != 3).for_each(|k| project.write(&format!("lock-{k}/b.jsonl"), rows(40, 90)));
    project.expect(0, &["renew", "lock-5"]);
    project.expect(0, &["stop", "lock-7"]);
    wait_for(|| landed(&project, 11).len() > 45);
    kill(&project);
    project.expect(0, &["start"]);
    std::fs::rename(project.path("away"), project.path("lock-3")).unwrap();
    wait_settled(&project, "lock-3", 40);
    (0..MANY).filter(|k| *k != 3).for_each(|k| wait_settled(&project, &format!("lock-{k}"), 90));
    project.expect(0, &["stop", "--all"]);
    for k in 0..MANY {
        let end = if k == 3 { 40 } else { 90 };
        assert_eq!(landed(&project, k), (0..end).collect::<Vec<u64>>(), "lock-{k}");
    }
}
