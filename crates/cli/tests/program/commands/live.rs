//! The live screen at a terminal of its own: keys, hostile names, and its end.

use std::io::{Read as _, Write as _};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use crate::common::running::wait_for;
use crate::common::{Expected, PIPELINE, TestProject};

/// `status --follow` at a terminal of 120 columns and 40 lines.
fn follow(project: &TestProject) -> Child {
    let program = assert_cmd::cargo::cargo_bin!("sluice");
    let line = format!("stty rows 40 cols 120; exec {} status --follow", program.display());
    Command::new("script")
        .args(["-qec", &line, "/dev/null"])
        .current_dir(project.path("."))
        .env_clear()
        .envs([("TERM", "xterm-256color"), ("PATH", "/usr/bin:/bin"), ("SHELL", "/bin/sh")])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap()
}

fn with_landed(pipeline: &str) -> TestProject {
    let project = TestProject::new(pipeline);
    project.write("depots/a.jsonl", Expected::default().lines(0, 230));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    project
}

/// Presses keys, one after the other, and gives what the terminal was sent.
fn press(project: &TestProject, keys: &[&str]) -> String {
    let mut child = follow(project);
    let mut input = child.stdin.take().unwrap();
    for key in keys {
        std::thread::sleep(Duration::from_millis(1500));
        input.write_all(key.as_bytes()).unwrap();
        input.flush().unwrap();
    }
    let mut text = Vec::new();
    child.stdout.take().unwrap().read_to_end(&mut text).unwrap();
    assert!(child.wait().unwrap().success());
    String::from_utf8_lossy(&text).into_owned()
}

#[test]
fn keys_turn_pages_and_leave() {
    let project = with_landed(PIPELINE);
    let text = press(&project, &["\t", "\t", "q"]);
    // Between words the cursor moves.
    for part in ["tarrow", "weighings", "rest", "caught up", "weighing.archive", "settled", "manual"] {
        assert!(text.contains(part), "{part}\n{text}");
    }
    // The terminal is as it was before: its own screen, with a cursor.
    assert!(text.contains("\u{1b}[?1049h") && text.contains("\u{1b}[?1049l") && text.contains("\u{1b}[?25h"), "{text}");
    assert!(press(&project, &["\u{3}"]).contains("weighings"));
}

/// Names and values of others reach the terminal without what it would obey.
#[test]
fn what_comes_from_outside_is_not_obeyed() {
    let project = with_landed(PIPELINE);
    let harm = "\u{1b}]52;c;c2x1aWNl\u{7}\u{202e}";
    let line = serde_json::json!({ "ticket": harm, "day": harm, "gross_kg": 7, harm: 1 });
    project.write("depots/b.jsonl", format!("{line}\n").repeat(40));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let text = press(&project, &["\t", "q"]);
    assert!(
        text.contains("weighings") && !text.contains("\u{1b}]52") && !text.contains(['\u{202e}', '\u{7}']),
        "{text}"
    );
}

/// The processes that a process has started, as the system lists them.
fn children(of: u32) -> Vec<u32> {
    let is_child = |process: &u32| {
        let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
        // After the name, which stands in brackets: the state, and the parent.
        stat.rsplit(')').next().and_then(|rest| rest.split_whitespace().nth(1)) == Some(of.to_string().as_str())
    };
    let names = std::fs::read_dir("/proc").unwrap().map(|entry| entry.unwrap().file_name());
    names.filter_map(|name| name.to_str()?.parse().ok()).filter(is_child).collect()
}

/// The terminal goes without a word: what was shown on it ends too.
#[test]
fn it_ends_with_its_terminal() {
    let project = with_landed(PIPELINE);
    let mut terminal = follow(&project);
    let mut shown = terminal.stdout.take().unwrap();
    let mut part = [0; 64];
    assert!(shown.read(&mut part).unwrap() > 0);
    std::thread::sleep(Duration::from_secs(2));
    let own = children(terminal.id());
    assert!(!own.is_empty());
    terminal.kill().unwrap();
    terminal.wait().unwrap();
    drop(shown);
    wait_for(|| own.iter().all(|child| !crate::background::is_alive(u64::from(*child))));
}
