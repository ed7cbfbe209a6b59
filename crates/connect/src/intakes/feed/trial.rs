//! Settings of a feed for tests.

use std::path::Path;
use std::sync::Arc;

use sluice_core::config::{ConnectionConfig, Options};
use sluice_core::kinds::Settings;
use sluice_core::problem::{Place, SourceText};

use crate::testing::NoSecrets;

/// Those of a feed that keeps its files in a folder.
pub(crate) fn settings(work: &Path) -> Settings {
    let place = Place::new(&SourceText::new("p.toml", ""), 0..0);
    let connection = ConnectionConfig {
        name: "office".into(),
        scheme: "postgres".into(),
        target: String::new(),
        options: Options::empty(Vec::new(), place.clone()),
        place: None,
    };
    Settings {
        root: work.into(),
        work: work.into(),
        connection,
        options: Options::empty(vec![super::TABLE_OPTIONS], place),
        secrets: Arc::new(NoSecrets),
        label: "copy.office".into(),
        contract: None,
        stop: Arc::default(),
        computed: Vec::new(),
        mirror_keys: Vec::new(),
    }
}
