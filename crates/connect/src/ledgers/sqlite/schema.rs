//! The ledger's schema and its migrations. `pragma user_version` holds the version.

use std::path::Path;

use rusqlite::{Connection, TransactionBehavior, params};
use sluice_core::failure::{Failure, FailureKind, Outcome};

/// One script a version, each applied in a transaction with its version number.
const MIGRATIONS: &[&str] = &[
    include_str!("migrations/1.sql"),
    include_str!("migrations/2.sql"),
    include_str!("migrations/3.sql"),
    include_str!("migrations/4.sql"),
    include_str!("migrations/5.sql"),
    include_str!("migrations/6.sql"),
    include_str!("migrations/7.sql"),
    include_str!("migrations/8.sql"),
    include_str!("migrations/9.sql"),
    include_str!("migrations/10.sql"),
];

/// Brings a ledger up to date; returns its UUID.
pub(super) fn migrate(connection: &mut Connection, path: &Path) -> Outcome<String> {
    let failed = |e: &rusqlite::Error| {
        Failure::unreachable(format!("cannot bring the ledger {} up to date: {e}", path.display()))
    };
    // Two processes may open a new ledger at once: the first one makes it.
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(|e| failed(&e))?;
    let version: usize = transaction.query_row("pragma user_version", [], |r| r.get(0)).map_err(|e| failed(&e))?;
    if version > MIGRATIONS.len() {
        return Err(Failure::new(
            FailureKind::Configuration,
            format!("the ledger {} has version {version}, this sluice knows {}", path.display(), MIGRATIONS.len()),
        )
        .with_help("it was written by a newer sluice: use that one"));
    }
    for (i, script) in MIGRATIONS.iter().enumerate().skip(version) {
        transaction.execute_batch(script).map_err(|e| failed(&e))?;
        transaction.pragma_update(None, "user_version", i + 1).map_err(|e| failed(&e))?;
    }
    if version == 0 {
        let id = uuid::Uuid::new_v4().to_string();
        let sql = "insert into ledger (id, created_at) values (?1, unixepoch() * 1000000)";
        transaction.execute(sql, params![id]).map_err(|e| failed(&e))?;
    }
    let id = transaction.query_row("select id from ledger", [], |r| r.get(0)).map_err(|e| failed(&e))?;
    transaction.commit().map_err(|e| failed(&e))?;
    Ok(id)
}
