//! Pipelines that run in the background, and beside each other.

mod many;
mod noticing;
mod renewing;
mod schedules;
mod starting;
mod watching;

use std::time::Duration;

use crate::common::TestProject;
use crate::common::running::wait_for;
use serde_json::Value;

/// A project whose background process ends with the test, however that ends.
struct Kept(TestProject);

impl std::ops::Deref for Kept {
    type Target = TestProject;

    fn deref(&self) -> &TestProject {
        &self.0
    }
}

impl Drop for Kept {
    fn drop(&mut self) {
        if let Some(process) = process(&self.0) {
            signal(process, "KILL");
        }
    }
}

/// The background process that holds the lock, as the lock says.
fn process(project: &TestProject) -> Option<u64> {
    let text = std::fs::read_to_string(project.path(".sluice/background/lock")).ok()?;
    serde_json::from_str::<Value>(&text).ok()?["process"].as_u64()
}

fn signal(process: u64, name: &str) {
    let _ = std::process::Command::new("kill").args([&format!("-{name}"), &process.to_string()]).status();
}

/// Kills the background process, and waits until it is gone.
fn kill(project: &TestProject) {
    let own = process(project).unwrap();
    signal(own, "KILL");
    wait_for(|| !is_alive(own));
}

pub(crate) fn is_alive(process: u64) -> bool {
    // What its parent has not asked about yet is dead too.
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    stat.rsplit(')').next().is_some_and(|rest| !rest.is_empty() && !rest.trim_start().starts_with('Z'))
}

/// A pipeline as `status` has it.
fn status(project: &TestProject, pipeline: &str) -> Value {
    project.json(&["status", pipeline])["pipelines"][0].clone()
}

/// Waits until the state of a pipeline is this one.
fn wait_state(project: &TestProject, pipeline: &str, state: &str) -> Value {
    let mut now = Value::Null;
    for _ in 0..600 {
        now = status(project, pipeline);
        if now["state"] == state {
            return now;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    panic!("{pipeline} is not `{state}`: {now:#}");
}

/// Waits until a pipeline has settled everything that was there.
fn wait_settled(project: &TestProject, pipeline: &str, events: u64) {
    wait_for(|| {
        let totals = project.json(&[])["pipelines"].clone();
        let own = totals.as_array().unwrap().iter().find(|p| p["name"] == pipeline).unwrap().clone();
        own["totals"]["read"].as_u64().unwrap() >= events && own["totals"]["unfinished"] == 0
    });
}
