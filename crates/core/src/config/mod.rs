//! Project and pipeline files: from text to checked options, with every mistake at its place.
//!
//! Reading opens nothing: it neither connects nor looks at folders. Whether names bind is decided in [`crate::plan`].

pub mod each;
pub mod embedded;
pub mod made;
pub mod notice;
pub mod options;
pub mod pipeline;
pub mod project;
mod protection;
pub mod reader;
pub mod schema;

pub use each::EachConfig;
pub use embedded::EmbeddedText;
pub use made::{JoinConfig, MadeConfig, OF_CLOSING, OF_WINDOWS};
pub use options::{Located, OptionSpec, OptionValue, Options, ValueKind};
pub use pipeline::{ArrivalConfig, EventConfig, ExtraFields, LandingConfig, PipelineConfig};
pub use project::{ConnectionConfig, ProjectConfig};
pub use protection::refuse_unencrypted_password;
