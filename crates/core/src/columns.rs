//! Columns of what lands.

use crate::types::SqlType;

/// One column of what lands or is made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OutputColumn {
    /// The name.
    pub name: String,
    /// The type.
    pub ty: SqlType,
    /// Whether it can be null.
    pub nullable: bool,
}
