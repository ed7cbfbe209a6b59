//! Columns of what lands.

use arrow_schema::Field;

use crate::limit::{self, Limit};
use crate::types::SqlType;

/// The key of a field's metadata that says the kind of its values, where it is one of its own.
const KIND_KEY: &str = "sluice.kind";

/// The kind of a field's values, where it is one of its own.
pub fn kind_of(field: &Field) -> Option<Limit> {
    let kind = field.metadata().get(KIND_KEY)?;
    match kind.strip_suffix("[]") {
        Some(item) => {
            ITEMS.iter().find(|ty| ty.to_string() == item).copied().or_else(|| decimal(item)).map(Limit::List)
        }
        None => [Limit::Bytea, Limit::Time].into_iter().find(|limit| limit.to_string() == *kind),
    }
}

/// Types of items that are spelled without numbers.
const ITEMS: &[SqlType] = &[
    SqlType::Text,
    SqlType::Boolean,
    SqlType::Integer,
    SqlType::Bigint,
    SqlType::Double,
    SqlType::Date,
    SqlType::Timestamptz,
];

fn decimal(spelled: &str) -> Option<SqlType> {
    let (precision, scale) = spelled.strip_prefix("decimal(")?.strip_suffix(')')?.split_once(',')?;
    Some(SqlType::Decimal { precision: precision.parse().ok()?, scale: scale.parse().ok()? })
}

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
    /// The column as a field of Arrow. One of a kind of its own, such as bytes, is marked.
    pub fn field(&self) -> Field {
        let field = self.ty.field(&self.name, self.nullable);
        match self.limit.filter(|limit| limit.is_own()) {
            Some(limit) => {
                let mut metadata = field.metadata().clone();
                metadata.insert(KIND_KEY.to_string(), limit.to_string());
                field.with_metadata(metadata)
            }
            None => field,
        }
    }

    /// Its type as it is shown.
    pub fn type_shown(&self) -> String {
        limit::shown(self.ty, self.limit)
    }
}
