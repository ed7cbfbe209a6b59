//! Columns of what lands.

use crate::limit::{self, Limit};
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
    /// What narrows its values.
    pub limit: Option<Limit>,
}

impl OutputColumn {
    /// Its type as it is shown.
    pub fn type_shown(&self) -> String {
        limit::shown(self.ty, self.limit)
    }
}
