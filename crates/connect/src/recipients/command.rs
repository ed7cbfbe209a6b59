//! A recipient that is a program.

use std::io::{Read as _, Write as _};
use std::os::unix::process::{CommandExt as _, ExitStatusExt as _};
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process_group};
use sluice_core::notice::Message;
use sluice_core::threads;
use sluice_core::units::show_duration;

/// The groups of programs that run now.
static RUNNING: Mutex<Vec<Pid>> = Mutex::new(Vec::new());

/// Kills the programs that still run: who started them is about to end, and sends their messages again another time.
pub(super) fn kill_all() {
    for group in std::mem::take(&mut *running()) {
        let _ = kill_process_group(group, Signal::KILL);
    }
}

fn running() -> MutexGuard<'static, Vec<Pid>> {
    RUNNING.lock().unwrap_or_else(PoisonError::into_inner)
}

/// How often is looked whether it has ended.
const AGAIN: Duration = Duration::from_millis(20);

/// So much of what it writes to standard error is kept, in bytes.
const KEPT: usize = 4096;

/// Runs the program in the project's folder, with the message as JSON on its standard input. It has the message once the program has
/// ended with 0.
pub(super) fn run(command: &[String], message: &Message, root: &Path, patience: Duration) -> Result<(), String> {
    let Some((program, arguments)) = command.split_first() else { return Err("it names no program".into()) };
    let mut child = Command::new(program)
        .args(arguments)
        .current_dir(root)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        // A group of its own: what it starts is ended with it, and Ctrl-C at our terminal is not meant for it.
        .process_group(0)
        .spawn()
        .map_err(|error| format!("cannot run {program}: {error}"))?;
    if let Some(mut input) = child.stdin.take() {
        let text = format!("{}\n", message.as_json());
        // A program that reads nothing may end before all is written.
        threads::spawn("recipient", move || _ = input.write_all(text.as_bytes()));
    }
    let said = listen(&mut child);
    let group = i32::try_from(child.id()).ok().and_then(Pid::from_raw);
    running().extend(group);
    let ended = wait(&mut child, group, patience);
    running().retain(|known| Some(*known) != group);
    match ended {
        Ok(Some(status)) if status.success() => Ok(()),
        Ok(Some(status)) => {
            let said = said.recv_timeout(Duration::from_millis(200)).unwrap_or_default();
            let said = if said.trim().is_empty() { String::new() } else { format!(": {}", said.trim()) };
            Err(format!("{program} {}{said}", how(status)))
        }
        Ok(None) => Err(format!("{program} did not end within {} and was killed", show_duration(patience))),
        Err(error) => Err(format!("cannot wait for {program}: {error}")),
    }
}

fn how(status: ExitStatus) -> String {
    match (status.code(), status.signal()) {
        (Some(code), _) => format!("ended with exit code {code}"),
        (None, Some(signal)) => format!("was ended by signal {signal}"),
        (None, None) => "ended".into(),
    }
}

/// The beginning of what it says on standard error. The rest is read too, so that it is not held up.
fn listen(child: &mut Child) -> Receiver<String> {
    let (sender, receiver) = channel();
    if let Some(mut errors) = child.stderr.take() {
        threads::spawn("recipient", move || {
            let mut kept = Vec::new();
            let mut part = [0; 1024];
            while let Ok(read @ 1..) = errors.read(&mut part) {
                kept.extend_from_slice(&part[..read.min(KEPT - kept.len())]);
            }
            let _ = sender.send(String::from_utf8_lossy(&kept).into_owned());
        });
    }
    receiver
}

/// Waits for its end; None where it took too long and was killed.
fn wait(child: &mut Child, group: Option<Pid>, patience: Duration) -> std::io::Result<Option<ExitStatus>> {
    let started = Instant::now();
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(Some(status));
        }
        if started.elapsed() > patience {
            if let Some(group) = group {
                let _ = kill_process_group(group, Signal::KILL);
            }
            child.wait()?;
            return Ok(None);
        }
        std::thread::sleep(AGAIN);
    }
}
