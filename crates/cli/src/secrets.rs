//! Secrets from the environment and from files.

use std::path::PathBuf;

use sluice_core::secret::{Secret, SecretRef, SecretStore};

/// Reads secrets for a project.
pub(crate) struct ProjectSecrets {
    /// The project's folder.
    pub root: PathBuf,
}

impl SecretStore for ProjectSecrets {
    fn read(&self, place: &SecretRef) -> Result<Secret, String> {
        match place {
            SecretRef::Env(name) => {
                std::env::var(name).map(Secret::new).map_err(|_| format!("the variable {name} is not set"))
            }
            SecretRef::File(path) => {
                let full = self.root.join(path);
                let text =
                    std::fs::read_to_string(&full).map_err(|e| format!("cannot read {}: {e}", full.display()))?;
                Ok(Secret::new(text.lines().next().unwrap_or_default()))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_missing_secret_names_its_place() {
        let store = ProjectSecrets { root: PathBuf::from("/nowhere") };
        let missing = store.read(&SecretRef::Env("SLUICE_NO_SUCH".into())).unwrap_err();
        assert!(missing.contains("SLUICE_NO_SUCH"));
        assert!(store.read(&SecretRef::File("key".into())).unwrap_err().contains("/nowhere/key"));
    }

    #[test]
    fn a_secret_file_gives_its_first_line() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("key"), "gate-7\n\n").unwrap();
        let store = ProjectSecrets { root: folder.path().into() };
        assert_eq!(store.read(&SecretRef::File("key".into())).unwrap().reveal(), "gate-7");
    }
}
