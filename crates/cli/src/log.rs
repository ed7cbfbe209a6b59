//! The log of a run: where standard error is not a terminal, one line for each thing that happens.
//!
//! On a terminal, a line of progress takes its place ([`crate::progress`]).

use std::io::{self, IsTerminal as _, Write};
use std::path::Path;
use std::sync::{Mutex, OnceLock, PoisonError};

use clap::ValueEnum;
use sluice_core::failure::Outcome;
use sluice_core::printable;
use tracing::level_filters::LevelFilter;
use tracing_subscriber::fmt::MakeWriter;

use crate::args::LogArgs;
use crate::output;
use crate::rotating::RotatingFile;

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

/// The files that everything is written to which would go to standard error, where there is no terminal to write to.
static FILES: OnceLock<Mutex<RotatingFile>> = OnceLock::new();

/// A file of the log is closed when it is larger than this.
const FILE_BYTES: u64 = 10 << 20;

/// So many closed files are kept.
const FILE_COUNT: u32 = 9;

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
    begin(args.log.unwrap_or(by_default), args.log_level);
}

/// Begins to log into files that follow each other, `sluice.log` and the closed ones `sluice.log.1` to `sluice.log.9`; so do all
/// texts that would go to standard error.
///
/// # Errors
/// Where the file cannot be written.
pub(crate) fn start_file(args: &LogArgs, path: &Path) -> Outcome<()> {
    let files = RotatingFile::open(path, FILE_BYTES, FILE_COUNT)?;
    let _ = FILES.set(Mutex::new(files));
    begin(args.log.unwrap_or(LogForm::Text), args.log_level);
    Ok(())
}

/// Writes text into the files of the log; false where there are none.
pub(crate) fn to_files(text: &str) -> bool {
    let Some(files) = FILES.get() else { return false };
    let mut files = files.lock().unwrap_or_else(PoisonError::into_inner);
    // A full disk is said by what cannot be moved; that it cannot be logged stops nothing.
    let _ = files.write(text.as_bytes());
    true
}

fn begin(form: LogForm, level: LogLevel) {
    if FORM.set(form).is_err() {
        return;
    }
    let level = match level {
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
