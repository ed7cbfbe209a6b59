//! The program, running in the background.

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::TestProject;

/// Waits until something is so.
pub fn wait_for(mut done: impl FnMut() -> bool) {
    let started = Instant::now();
    while !done() {
        assert!(started.elapsed() < Duration::from_secs(180), "it did not come");
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// Sets a scene and starts a run in it that stops at a point. Where another thread of the run was just then writing to the ledger,
/// nobody else could write: then all is done over again.
pub fn stopped_at<T>(arguments: &[&str], point: &str, scene: impl Fn() -> (TestProject, T)) -> (TestProject, T, Child) {
    for _ in 0..20 {
        let (project, more) = scene();
        let mut command = project.command(arguments);
        command.env("SLUICE_STOP_AT", point).stdout(Stdio::null()).stderr(Stdio::null());
        let mut child = command.spawn().unwrap();
        let stat = format!("/proc/{}/stat", child.id());
        wait_for(|| {
            assert!(child.try_wait().unwrap().is_none(), "it ended before {point}");
            let stat = std::fs::read_to_string(&stat).unwrap_or_default();
            stat.rsplit(')').next().is_some_and(|rest| rest.trim_start().starts_with('T'))
        });
        let ledger = rusqlite::Connection::open(project.path(".sluice/ledger.db")).unwrap();
        ledger.busy_timeout(Duration::from_millis(100)).unwrap();
        if ledger.execute_batch("begin immediate; rollback").is_ok() {
            return (project, more, child);
        }
        child.kill().unwrap();
        child.wait().unwrap();
    }
    panic!("it always wrote to the ledger when it was stopped");
}

/// A run in the background.
pub struct Running {
    child: Child,
    output: std::path::PathBuf,
}

impl Running {
    pub fn start(project: &TestProject, arguments: &[&str]) -> Self {
        Self::start_with(project, arguments, &[])
    }

    /// Starts it with variables of the environment.
    pub fn start_with(project: &TestProject, arguments: &[&str], variables: &[(&str, &str)]) -> Self {
        let output = project.path("run.out");
        let file = std::fs::File::create(&output).unwrap();
        let mut command = project.command(arguments);
        command.envs(variables.iter().copied()).stdout(file.try_clone().unwrap()).stderr(file);
        Self { child: command.spawn().unwrap(), output }
    }

    /// Starts it, and waits until it follows its source. Before that, a source that fails ends it, and one that changes is
    /// read again.
    pub fn following(project: &TestProject, arguments: &[&str]) -> Self {
        let mut running = Self::start(project, arguments);
        wait_for(|| {
            let said = running.said();
            assert!(running.goes_on(), "it has ended: {said}");
            said.contains("caught up") || said.contains("batch settled")
        });
        running
    }

    /// What it has written so far.
    pub fn said(&self) -> String {
        std::fs::read_to_string(&self.output).unwrap()
    }

    pub fn goes_on(&mut self) -> bool {
        self.child.try_wait().unwrap().is_none()
    }

    /// Whether a signal has stopped it.
    pub fn is_stopped(&self) -> bool {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap_or_default();
        status.lines().any(|line| line.starts_with("State:\tT"))
    }

    pub fn signal(&self, name: &str) {
        let done = Command::new("kill").args([format!("-{name}"), self.child.id().to_string()]).status().unwrap();
        assert!(done.success());
    }

    /// Stops its process, so that it sees later events only when it continues.
    pub fn asleep(&self, work: impl FnOnce()) {
        self.signal("STOP");
        work();
        self.signal("CONT");
    }

    /// Its exit code, if it has ended.
    pub fn ended(mut self) -> Result<(i32, String), Self> {
        match self.child.try_wait().unwrap() {
            Some(status) => Ok((status.code().unwrap_or(-1), self.said())),
            None => Err(self),
        }
    }

    /// Waits for its end; returns its exit code and its output.
    pub fn end(mut self) -> (i32, String) {
        let started = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return (status.code().unwrap_or(-1), self.said());
            }
            assert!(started.elapsed() < Duration::from_secs(180), "it does not end: {}", self.said());
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    /// Asks it to settle, and waits. Whoever runs the tests in the background has SIGINT ignored until the program handles
    /// it: one that was sent before would have no effect.
    pub fn settle(self) -> (i32, String) {
        let status = format!("/proc/{}/status", self.child.id());
        let handles = |line: &str| {
            let mask = line.strip_prefix("SigCgt:").and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok());
            mask.is_some_and(|mask| mask & 2 > 0)
        };
        // An ended process has no mask.
        wait_for(|| {
            let text = std::fs::read_to_string(&status).unwrap_or_default();
            text.lines().any(handles) || text.contains("zombie")
        });
        self.signal("INT");
        self.end()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
