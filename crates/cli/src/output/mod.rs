//! What people and scripts read.

pub(crate) mod failure;
pub(crate) mod problems;
pub(crate) mod profile;
pub(crate) mod rows;
pub(crate) mod style;
pub(crate) mod table;
pub(crate) mod times;

use std::io::{self, Write as _};

/// The version of all JSON shapes. It grows when a field changes its meaning or goes away; new fields may come.
pub(crate) const VERSION: u32 = 1;

/// Writes one JSON document on standard output: `{"sluice": KIND, "version": 1, …}`.
pub(crate) fn json(kind: &str, mut body: serde_json::Value) {
    if let Some(object) = body.as_object_mut() {
        object.insert("sluice".into(), kind.into());
        object.insert("version".into(), VERSION.into());
    }
    let text = serde_json::to_string_pretty(&body).unwrap_or_default();
    print(&format!("{text}\n"));
}

/// Writes on standard output. A closed pipe ends nothing: nobody reads any more.
pub(crate) fn print(text: &str) {
    let _ = anstream::stdout().lock().write_all(text.as_bytes());
    let _ = io::stdout().flush();
}

/// Clears a terminal; elsewhere nothing.
pub(crate) fn clear() {
    if io::IsTerminal::is_terminal(&io::stdout()) {
        print("\x1b[H\x1b[2J\x1b[3J");
    }
}

/// Writes on standard error.
pub(crate) fn note(text: &str) {
    let _ = anstream::stderr().lock().write_all(text.as_bytes());
}
