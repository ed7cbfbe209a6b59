//! Kinds of connections, intakes and landings, and the registry in which they are found by name.
//!
//! Core knows no kind. `sluice-connect` registers each, and everything here speaks through these traits.

mod fit;
mod intake;
mod landing;
mod registry;

use std::path::PathBuf;
use std::sync::Arc;

use crate::config::{ConnectionConfig, OptionSpec, Options};
use crate::contract::Contract;
use crate::problem::Place;
use crate::run::Stop;
use crate::secret::SecretStore;

pub use fit::*;
pub use intake::*;
pub use landing::*;
pub use registry::*;

/// A scheme of connection URLs.
pub struct ConnectionKind {
    /// What stands before the colon of the URL.
    pub scheme: &'static str,
    /// One line on what it is.
    pub about: &'static str,
    /// Keys beyond `url`.
    pub options: &'static [OptionSpec],
}

/// What an intake or a landing is opened with.
#[derive(Clone)]
pub struct Settings {
    /// The project's folder; relative places start here.
    pub root: PathBuf,
    /// The project's folder for what is only Sluice's: spools, staging.
    pub work: PathBuf,
    /// The connection.
    pub connection: ConnectionConfig,
    /// The checked keys of the arrival or landing.
    pub options: Options,
    /// Where secrets are read.
    pub secrets: Arc<dyn SecretStore>,
    /// The name of the arrival or landing with its pipeline; empty where something is only looked at.
    pub label: String,
    /// Of an arrival from a change feed, or of a list, the event's contract.
    pub contract: Option<Arc<Contract>>,
    /// And what is computed from several of its columns.
    pub computed: Vec<Computed>,
    /// And by which columns its mirrors identify rows.
    pub mirror_keys: Vec<MirrorKey>,
    /// Asks who works for long to leave.
    pub stop: Arc<Stop>,
}

/// By which columns a mirror identifies the rows of an event.
#[derive(Clone, Debug)]
pub struct MirrorKey {
    /// The landing.
    pub landing: String,
    /// The columns that its key is computed from, as the source names them.
    pub columns: std::collections::BTreeSet<String>,
    /// Where the key stands.
    pub place: Place,
}

/// An expression that needs several columns of an event.
#[derive(Clone, Debug)]
pub struct Computed {
    /// One of the columns, as the source names it.
    pub column: String,
    /// The expression.
    pub text: String,
    /// Where it stands.
    pub place: Place,
}
