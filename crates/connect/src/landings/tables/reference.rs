//! Our types in each kind of store, for the reference: what a new column gets, and which columns that are there fit.

use sluice_core::columns::OutputColumn;
use sluice_core::config::{ConnectionConfig, Options};
use sluice_core::kinds::Settings;
use sluice_core::limit::Limit;
use sluice_core::problem::{Place, SourceText};
use sluice_core::secret::{Secret, SecretRef, SecretStore};
use sluice_core::table::{TableColumn, TypeFit};
use sluice_core::types::SqlType;
use std::sync::Arc;

use super::Store;
use super::shape::TableName;
use crate::landings::{clickhouse::Clickhouse, mariadb::Mariadb, postgres::Postgres, sqlite::Sqlite};

/// One of our types in one kind of store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TypeInStore {
    /// The kind.
    pub kind: &'static str,
    /// Our type.
    pub ours: String,
    /// The type of a column that is made for it.
    pub becomes: String,
    /// Precision, zone and range.
    pub remark: &'static str,
    /// Columns that take every value as it is.
    pub whole: Vec<&'static str>,
    /// Columns that refuse some rows, each with the reason.
    pub refuse: Vec<(&'static str, String)>,
    /// Columns that would change values, so that `check` refuses them, each with the reason.
    pub lose: Vec<(&'static str, String)>,
}

/// Narrower types, as far as stores have columns of their own for them.
const LIMITED: &[Limit] = &[
    Limit::Smallint,
    Limit::Real,
    Limit::Varchar(12),
    Limit::Char(3),
    Limit::Uuid,
    Limit::Bytea,
    Limit::Time,
    Limit::List(SqlType::Text),
];

const OURS: &[SqlType] = &[
    SqlType::Text,
    SqlType::Boolean,
    SqlType::Integer,
    SqlType::Bigint,
    SqlType::Double,
    SqlType::Decimal { precision: 8, scale: 2 },
    SqlType::Date,
    SqlType::Timestamptz,
    SqlType::Json,
];

/// All our types in all kinds of stores.
pub fn types_in_stores() -> Vec<TypeInStore> {
    let mut all = of::<Postgres>();
    all.extend(of::<Mariadb>());
    all.extend(of::<Sqlite>());
    all.extend(of::<Clickhouse>());
    all
}

struct Nothing;

impl SecretStore for Nothing {
    fn read(&self, _: &SecretRef) -> Result<Secret, String> {
        Err("there are no secrets here".into())
    }
}

fn of<S: Store>() -> Vec<TypeInStore> {
    let place = Place::new(&SourceText::new("", ""), 0..0);
    let options = || Options::empty(vec![crate::databases::OPTIONS], place.clone());
    let settings = Settings {
        root: std::path::PathBuf::new(),
        work: std::path::PathBuf::new(),
        connection: ConnectionConfig {
            name: String::new(),
            scheme: S::SCHEME.into(),
            target: String::new(),
            options: options(),
            place: None,
        },
        options: options(),
        secrets: Arc::new(Nothing),
        label: String::new(),
        contract: None,
        stop: Arc::default(),
        computed: Vec::new(),
        mirror_keys: Vec::new(),
    };
    let dialect = S::dialect(&TableName { schema: None, name: "t".into() }, &settings);
    let one = |(ty, limit): (SqlType, Option<Limit>)| {
        let lands = OutputColumn { name: String::new(), ty, nullable: true, limit };
        let mut found = TypeInStore {
            kind: S::NAME,
            ours: lands.type_shown(),
            becomes: dialect.spell_column(&lands, false),
            remark: limit.map_or_else(|| S::remark(ty), remark_of),
            whole: Vec::new(),
            refuse: Vec::new(),
            lose: Vec::new(),
        };
        for name in S::COLUMNS {
            let column = TableColumn {
                name: String::new(),
                ty: (*name).into(),
                base: (*name).into(),
                nullable: true,
                filled: false,
                computed: false,
                collation: None,
            };
            match dialect.fit_column(&lands, &column) {
                TypeFit::Whole => found.whole.push(name),
                TypeFit::MayRefuse(why) => found.refuse.push((name, why)),
                TypeFit::Loses(how) => found.lose.push((name, how)),
                TypeFit::Unfit => {}
            }
        }
        found
    };
    let plain = OURS.iter().map(|ty| (*ty, None));
    plain.chain(LIMITED.iter().map(|limit| (limit.base(), Some(*limit)))).map(one).collect()
}

fn remark_of(limit: Limit) -> &'static str {
    match limit {
        Limit::Smallint => "checked to have 16 bits where it arrives",
        Limit::Real => "rounded to 32 bits where it arrives",
        Limit::Varchar(_) | Limit::Char(_) => "checked to be no longer where it arrives",
        Limit::Uuid => "in its usual spelling",
        Limit::Bytea => "as bytes, or in a column of text in hexadecimal digits after \\x",
        Limit::Time => "microseconds",
        Limit::List(_) => "as a list where the store has one, else as JSON",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_has_a_column_in_every_store_and_a_word_on_its_range() {
        let all = types_in_stores();
        assert_eq!(all.len(), 4 * (OURS.len() + LIMITED.len()));
        for one in &all {
            assert!(!one.remark.is_empty(), "{one:?}");
            assert!(!one.whole.is_empty() || !one.refuse.is_empty(), "{one:?}");
        }
    }
}
