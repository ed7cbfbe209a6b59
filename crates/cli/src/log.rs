//! The log of a run: where standard error is not a terminal, one line for each thing that happens.
//!
//! On a terminal, a line of progress takes its place ([`crate::progress`]).

use std::io::{self, IsTerminal as _, Write};
use std::sync::OnceLock;

use clap::ValueEnum;
use sluice_core::printable;
use tracing::level_filters::LevelFilter;
use tracing_subscriber::fmt::MakeWriter;

use crate::args::LogArgs;
use crate::output;

/// How the log is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum LogForm {
    /// One line of text for each event
    Text,
    /// One JSON object for each event
    Json,
    /// Nothing
    Off,
}

/// The least severe events that are logged.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum LogLevel {
    /// Only what stops a run
    Error,
    /// Also what a run waits for
    Warn,
    /// Also each batch
    Info,
    /// Also what is read
    Debug,
}

static FORM: OnceLock<LogForm> = OnceLock::new();

/// Whether anything is logged.
pub(crate) fn is_on() -> bool {
    !matches!(FORM.get(), None | Some(LogForm::Off))
}

/// Whether standard error holds JSON lines and nothing else.
pub(crate) fn is_json() -> bool {
    FORM.get() == Some(&LogForm::Json)
}

/// Begins to log, as the options say; by default as text where standard error is not a terminal.
pub(crate) fn start(args: &LogArgs) {
    let by_default = if io::stderr().is_terminal() { LogForm::Off } else { LogForm::Text };
    let form = args.log.unwrap_or(by_default);
    if FORM.set(form).is_err() {
        return;
    }
    let level = match args.log_level {
        LogLevel::Error => LevelFilter::ERROR,
        LogLevel::Warn => LevelFilter::WARN,
        LogLevel::Info => LevelFilter::INFO,
        LogLevel::Debug => LevelFilter::DEBUG,
    };
    let plain = tracing_subscriber::fmt().with_max_level(level).with_target(false).with_ansi(false).with_writer(Lines);
    // Another subscriber cannot be there: nothing else sets one.
    match form {
        LogForm::Text => plain.init(),
        LogForm::Json => plain.json().flatten_event(true).init(),
        LogForm::Off => {}
    }
}

/// Standard error, through the gate of all output.
struct Lines;

impl<'w> MakeWriter<'w> for Lines {
    type Writer = Line;

    fn make_writer(&'w self) -> Line {
        Line(Vec::new())
    }
}

/// One line, written whole.
struct Line(Vec<u8>);

impl Write for Line {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drop for Line {
    fn drop(&mut self) {
        // A reason of several lines cannot pass for the lines that follow it.
        let text = String::from_utf8_lossy(&self.0);
        output::note(&format!("{}\n", printable::line(text.trim_end())));
    }
}
