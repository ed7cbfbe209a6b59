//! How notices reach their recipients: a program, a file, a request, or mail.
//!
//! Each sends one message and says whether it has arrived. Who calls tries again: a message that is sent twice has the same id.

mod command;
mod file;
mod mail;
mod post;

use std::path::Path;
use std::time::Duration;

use sluice_core::config::notice::{Channel, Recipient};
use sluice_core::notice::Message;
use sluice_core::printable;
use sluice_core::secret::SecretStore;

/// How long one try may take, all in all.
const PATIENCE: Duration = Duration::from_secs(30);

/// So much of what a recipient answers is repeated, in characters.
const REPEATED: usize = 300;

/// Sends one message; returns once the recipient has it.
///
/// # Errors
/// Says why it did not arrive, cleaned, without secrets.
pub fn send(recipient: &Recipient, message: &Message, root: &Path, secrets: &dyn SecretStore) -> Result<(), String> {
    let sent = match &recipient.channel {
        Channel::Command(command) => command::run(command, message, root, PATIENCE),
        Channel::File(path) => file::append(&root.join(path), message),
        Channel::Post { url, body, token } => post::post(url, body, token.as_ref(), message, secrets),
        Channel::Mail(mail) => mail::send(mail, message, root, secrets),
    };
    sent.map_err(|why| short(&why))
}

/// Ends what is still being sent by programs, where the process is about to end. Such messages have not arrived.
pub fn end() {
    command::kill_all();
}

/// A text of somebody else, cleaned and cut.
fn short(text: &str) -> String {
    let line = printable::line(text.trim()).into_owned();
    match line.char_indices().nth(REPEATED) {
        Some((end, _)) => format!("{}…", &line[..end]),
        None => line,
    }
}

/// An error with what lies behind it.
fn causes(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(inner) = cause {
        let said = inner.to_string();
        if !text.contains(&said) {
            text.push_str(&format!(": {said}"));
        }
        cause = inner.source();
    }
    text
}

#[cfg(test)]
mod tests;
