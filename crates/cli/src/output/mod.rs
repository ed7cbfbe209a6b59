//! What people and scripts read.
//!
//! Everything that this program prints passes through here. With `--output json` standard output gets exactly one JSON
//! document: the first one that is written. Text goes to standard error then.

pub(crate) mod failure;
mod gate;
pub(crate) mod problems;
pub(crate) mod profile;
pub(crate) mod rows;
pub(crate) mod spark;
pub(crate) mod stations;
pub(crate) mod style;
pub(crate) mod table;
pub(crate) mod times;
pub(crate) mod usage;

use std::io::{self, IsTerminal as _, Write as _};
use std::sync::atomic::{AtomicBool, Ordering};

use sluice_core::failure::{Failure, FailureKind};
use sluice_core::printable;

use crate::exit::Exit;

/// The version of all JSON shapes. It grows when a field changes its meaning or goes away; new fields may come.
pub(crate) const VERSION: u32 = 1;

/// Whether standard output is for one JSON document.
static AS_JSON: AtomicBool = AtomicBool::new(false);

/// Whether that document was written.
static WRITTEN: AtomicBool = AtomicBool::new(false);

/// From now on standard output is for one JSON document.
pub(crate) fn expect_json() {
    AS_JSON.store(true, Ordering::Relaxed);
    sluice_connect::landings::screen::print_on_standard_error();
}

/// Writes the JSON document on standard output: `{"sluice": KIND, "version": 1, …}`.
///
/// Only the first one is written: a failure after it is reported by the exit code and on standard error.
pub(crate) fn json(kind: &str, mut body: serde_json::Value) {
    if let Some(object) = body.as_object_mut() {
        object.insert("sluice".into(), kind.into());
        object.insert("version".into(), VERSION.into());
    }
    if WRITTEN.swap(true, Ordering::Relaxed) {
        return;
    }
    let text = serde_json::to_string_pretty(&body).unwrap_or_default();
    let _ = out(&format!("{}\n", printable::json(&text)));
}

/// The document of a command that had nothing else to say, so that there is one in every case.
pub(crate) fn end(exit: Exit) {
    if AS_JSON.load(Ordering::Relaxed) && !WRITTEN.load(Ordering::Relaxed) {
        json("ended", serde_json::json!({ "exit": exit.code() }));
    }
}

/// Starts a JSON document that is written bit by bit by [`print_json`]: its writer also closes it.
pub(crate) fn begin_json() {
    WRITTEN.store(true, Ordering::Relaxed);
}

/// Writes a bit of a JSON document on standard output.
///
/// # Errors
/// Where nobody reads any more.
pub(crate) fn print_json(text: &str) -> io::Result<()> {
    out(&printable::json(text))
}

/// Writes text on standard output. A closed pipe ends nothing: nobody reads any more.
pub(crate) fn print(text: &str) {
    let _ = try_print(text);
}

/// Writes text on standard output.
///
/// # Errors
/// Where nobody reads any more.
pub(crate) fn try_print(text: &str) -> io::Result<()> {
    if AS_JSON.load(Ordering::Relaxed) {
        note(text);
        return Ok(());
    }
    out(&gate::open(text))
}

/// Writes bytes from outside on standard output: as they are, but to a terminal without what it would obey.
///
/// # Errors
/// Where nobody reads any more.
pub(crate) fn raw(bytes: &[u8]) -> io::Result<()> {
    WRITTEN.store(true, Ordering::Relaxed);
    if io::stdout().is_terminal() {
        return out(&printable::text(&String::from_utf8_lossy(bytes)));
    }
    let mut stdout = io::stdout().lock();
    stdout.write_all(bytes).and_then(|()| stdout.flush())
}

/// Writes text that is safe to print.
fn out(text: &str) -> io::Result<()> {
    let mut stdout = anstream::stdout().lock();
    stdout.write_all(text.as_bytes()).and_then(|()| stdout.flush())
}

/// A text as it may be shown: our colours, and no other control character than the ends of lines.
pub(crate) fn opened(text: &str) -> std::borrow::Cow<'_, str> {
    gate::open(text)
}

/// A text without colours and other control characters, but for the ends of lines.
pub(crate) fn plain(text: &str) -> String {
    anstream::adapter::strip_str(&gate::open(text)).to_string()
}

/// Clears a terminal; elsewhere nothing.
pub(crate) fn clear() {
    if io::stdout().is_terminal() && !AS_JSON.load(Ordering::Relaxed) {
        let _ = out("\x1b[H\x1b[2J\x1b[3J");
    }
}

/// Writes on standard error, or into the log of a process that has none.
pub(crate) fn note(text: &str) {
    let opened = gate::open(text);
    if crate::log::to_files(&anstream::adapter::strip_str(&opened).to_string()) {
        return;
    }
    let _ = anstream::stderr().lock().write_all(opened.as_bytes());
}

/// The failure of an option whose output is not one JSON document.
pub(crate) fn one_document(option: &str) -> Failure {
    Failure::new(FailureKind::Configuration, format!("`{option}` does not print one JSON document"))
        .with_help(format!("leave out `--output json` or `{option}`"))
}
