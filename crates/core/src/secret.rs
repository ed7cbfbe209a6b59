//! Secrets: passwords and keys that are used and never shown.

use std::fmt;

/// Where a secret is kept. The secret itself is read only when a connection is opened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SecretRef {
    /// An environment variable.
    Env(String),
    /// A file whose first line is the secret; relative to the project.
    File(String),
}

/// A secret's text. It never shows itself, not even when debugged.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Wraps a secret.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// The text, for the one place that sends it to its service.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("***")
    }
}

/// How secrets are looked up. The command line reads the environment and files; tests give a table.
pub trait SecretStore: Send + Sync {
    /// Reads one secret.
    ///
    /// # Errors
    /// Says which variable or file is missing, never any part of a secret.
    fn read(&self, place: &SecretRef) -> Result<Secret, String>;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_does_not_show_itself() {
        let secret = Secret::new("hunter-gate-7");
        assert_eq!(format!("{secret:?}"), "***");
        assert_eq!(secret.reveal(), "hunter-gate-7");
    }
}
