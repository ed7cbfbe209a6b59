//! What tests of kinds share.

use std::path::Path;
use std::sync::Arc;

use sluice_core::config::{ConnectionConfig, Options};
use sluice_core::kinds::Settings;
use sluice_core::problem::{Place, SourceText};
use sluice_core::secret::{Secret, SecretRef, SecretStore};

/// The place of what stands in no file.
pub(crate) fn nowhere() -> Place {
    Place::new(&SourceText::new("p.toml", ""), 0..0)
}

/// Settings of a connection to the folder `in` of a project.
pub(crate) fn folder_settings(root: &Path, options: Options) -> Settings {
    let connection = ConnectionConfig {
        name: "depots".into(),
        scheme: "file".into(),
        target: "in".into(),
        options: Options::empty(Vec::new(), nowhere()),
        place: None,
    };
    Settings {
        root: root.into(),
        work: root.into(),
        connection,
        options,
        secrets: Arc::new(NoSecrets),
        label: String::new(),
        contract: None,
        stop: Arc::default(),
        computed: Vec::new(),
        mirror_keys: Vec::new(),
    }
}

/// A store without secrets.
pub(crate) struct NoSecrets;

impl SecretStore for NoSecrets {
    fn read(&self, _: &SecretRef) -> Result<Secret, String> {
        Err("no secrets here".into())
    }
}
