//! Contracts: the fields and types that an event must have.

mod described;
mod parse;

use std::sync::Arc;

use arrow_schema::{Schema, SchemaRef};

use crate::columns::OutputColumn;
use crate::config::ExtraFields;
use crate::limit::Limit;
use crate::problem::Place;
use crate::types::SqlType;
use crate::values::bytes::BytesSpelling;
use crate::values::time::TimeFormat;

pub use described::{json_schema, json_schema_of_rows, sql_table};
pub use parse::{join_path, parse_fields, split_path, sql_type};

/// The column that holds fields which the contract does not name, with `extra = "keep"`.
pub const EXTRA_COLUMN: &str = "extra";

/// One field of a contract.
#[derive(Clone, Debug)]
pub struct ContractField {
    /// Its name as a column.
    pub name: String,
    /// Its type.
    pub ty: SqlType,
    /// What narrows its values.
    pub limit: Option<Limit>,
    /// Whether an event without it is rejected.
    pub not_null: bool,
    /// Where it stands in the event: the names of nested objects, then its own.
    pub path: Vec<String>,
    /// How a date or timestamp is spelled.
    pub format: Option<TimeFormat>,
    /// How bytes are spelled.
    pub spelling: BytesSpelling,
    /// Where it is declared.
    pub place: Place,
}

impl ContractField {
    /// The field as a column.
    pub fn column(&self) -> OutputColumn {
        OutputColumn { name: self.name.clone(), ty: self.ty, nullable: !self.not_null, limit: self.limit }
    }
}

/// What an event must look like.
#[derive(Clone, Debug)]
pub struct Contract {
    /// The fields in the order of their declaration.
    pub fields: Vec<ContractField>,
    /// What becomes of other fields.
    pub extra: ExtraFields,
    /// Whether any field may be absent, as of changes of which not every value is reported.
    pub may_lack: bool,
}

impl Contract {
    /// The fields as columns.
    pub fn columns(&self) -> Vec<OutputColumn> {
        self.fields.iter().map(ContractField::column).collect()
    }

    /// The Arrow schema of decoded events: the fields, then `extra` where it is kept.
    pub fn schema(&self) -> SchemaRef {
        let mut fields: Vec<_> =
            self.fields.iter().map(|f| f.ty.field(&f.name, !f.not_null || self.may_lack)).collect();
        if self.extra == ExtraFields::Keep {
            fields.push(SqlType::Json.field(EXTRA_COLUMN, true));
        }
        Arc::new(Schema::new(fields))
    }
}
