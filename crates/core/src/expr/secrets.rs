//! Secrets that expressions use, by their names in sluice.toml. They are read when a pipeline begins to work, and never shown.

use std::sync::OnceLock;

use crate::config::{OptionSpec, ValueKind};
use crate::failure::{Failure, FailureKind, Outcome};
use crate::secret::{Secret, SecretRef, SecretStore};

/// Keys of `[secret.NAME]` of sluice.toml.
pub const SECRET_OPTIONS: &[OptionSpec] = &[OptionSpec::required(
    "from",
    ValueKind::Secret,
    "where it is read: { env = \"VARIABLE\" } or { file = \"PATH\" }",
)];

/// A secret that is declared.
#[derive(Debug)]
pub struct ExpressionSecret {
    /// Its name.
    pub name: String,
    from: SecretRef,
    text: OnceLock<Secret>,
}

impl ExpressionSecret {
    pub(crate) fn new(name: String, from: SecretRef) -> Self {
        Self { name, from, text: OnceLock::new() }
    }

    /// Reads it, where that was not done.
    ///
    /// # Errors
    /// Where it cannot be read, or is empty.
    pub fn read(&self, store: &dyn SecretStore) -> Outcome<()> {
        if self.text.get().is_some() {
            return Ok(());
        }
        let wrong = |why: &str| {
            Failure::new(FailureKind::Configuration, format!("the secret `{}` cannot be used: {why}", self.name))
                .with_help(format!(
                    "set the variable, or make the file, that [secret.{}] names in sluice.toml",
                    self.name
                ))
        };
        let secret = store.read(&self.from).map_err(|reason| wrong(&reason))?;
        if secret.reveal().is_empty() {
            return Err(wrong("it is empty"));
        }
        let _ = self.text.set(secret);
        Ok(())
    }

    /// Its text, once it has been read.
    pub(super) fn text(&self) -> Option<&str> {
        self.text.get().map(Secret::reveal)
    }
}
