//! What tests of kinds share.

use sluice_core::secret::{Secret, SecretRef, SecretStore};

/// A store without secrets.
pub(crate) struct NoSecrets;

impl SecretStore for NoSecrets {
    fn read(&self, _: &SecretRef) -> Result<Secret, String> {
        Err("no secrets here".into())
    }
}
