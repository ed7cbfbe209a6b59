//! `status --follow` at a terminal: a screen that follows pipelines. It looks in one thread and draws in another; it draws only what has
//! changed, and ends with its terminal.

mod ansi;
mod draw;
mod looking;
mod view;

use std::io::{self, IsTerminal as _};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use ratatui::DefaultTerminal;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::run::Stop;
use sluice_core::threads;

use crate::exit::Exit;

use self::looking::Looking;
use self::view::View;

/// How long a key is waited for until something else is looked at.
const PATIENCE: Duration = Duration::from_millis(250);

/// How often is looked whether the terminal is still there.
const ALIVE: Duration = Duration::from_secs(1);

/// Shows pipelines until somebody leaves: all of the project, or the one that is named.
pub(crate) fn follow(root: PathBuf, pipeline: Option<String>, stop: &Arc<Stop>) -> Outcome<()> {
    let looking = Looking::start(root, pipeline, stop);
    looking.wait_first()?;
    let failed = |error: io::Error| Failure::unreachable(format!("the terminal cannot be used: {error}"));
    leave_with_terminal(stop);
    let mut terminal = ratatui::try_init().map_err(failed)?;
    let ended = show(&mut terminal, &looking, stop);
    stop.settle();
    // A terminal that is gone cannot be restored.
    let _ = ratatui::try_restore();
    match ended {
        Err(error) if is_there() => Err(failed(error)),
        _ => Ok(()),
    }
}

/// Ends the process once its terminal is gone, or it was told to end and does not: waiting for a key of a terminal that has gone never
/// returns. The process only looks, so there is nothing to settle.
fn leave_with_terminal(stop: &Arc<Stop>) {
    let stop = Arc::clone(stop);
    threads::spawn("terminal", move || {
        while is_there() && !stop.is_settling() {
            stop.wait(ALIVE);
        }
        std::thread::sleep(ALIVE);
        let _ = ratatui::try_restore();
        std::process::exit(i32::from(Exit::Fine.code()));
    });
}

/// Whether the terminal is still there.
fn is_there() -> bool {
    io::stdout().is_terminal() && io::stdin().is_terminal()
}

fn show(terminal: &mut DefaultTerminal, looking: &Looking, stop: &Stop) -> io::Result<()> {
    let mut view = View::default();
    let (mut drawn, mut looked) = (None, Instant::now());
    loop {
        if stop.is_settling() {
            return Ok(());
        }
        if looked.elapsed() >= ALIVE {
            if !is_there() {
                return Ok(());
            }
            looked = Instant::now();
        }
        let (number, snapshot) = looking.newest();
        if drawn != Some(number) {
            view.bound(&snapshot);
            terminal.draw(|frame| draw::draw(frame, &snapshot, &mut view))?;
            drawn = Some(number);
        }
        if !event::poll(PATIENCE)? {
            continue;
        }
        let changed = match event::read()? {
            Event::Key(key) if key.kind != KeyEventKind::Release => {
                if leaves(key) {
                    return Ok(());
                }
                view.press(key.code, &snapshot)
            }
            Event::Resize(..) => true,
            _ => false,
        };
        if changed {
            looking.select(view.selected(&snapshot), view.page);
            drawn = None;
        }
    }
}

fn leaves(key: KeyEvent) -> bool {
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    matches!(key.code, KeyCode::Char('q') | KeyCode::Esc) || (control && matches!(key.code, KeyCode::Char('c' | 'd')))
}
