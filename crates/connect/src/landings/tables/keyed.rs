//! The statements of keyed modes: from a table of incoming rows into the table that lands.
//!
//! An older change never overwrites a newer one. A version column decides which is newer; a change without a version is
//! older than any with one. Without such a column the source decides: within one partition of an arrival the higher
//! position; else the change whose batch was opened later; within one batch the partition whose name comes later. A
//! change that is read again counts where it was read first. Keys that a mirror deletes are kept in a table beside it
//! with the same stamp, so that an older change cannot bring them back.

use arrow_array::RecordBatch;
use arrow_array::cast::AsArray as _;
use sluice_core::failure::{Failure, FailureKind};

use super::book::LANE_BITS;
use super::session::{Session, Spelling, Target, number};
use super::shape::{BATCH, DELETED, LACKS, POSITION, SOURCE, WAS};
use crate::databases::{StoreError, StoreResult};

/// The table of incoming rows, which only a session sees.
pub(crate) const INCOMING: &str = "sluice_incoming";

/// Fills in what incoming rows lack: values that the source did not send, since they are those that the table has.
pub(crate) fn fill(session: &mut dyn Session, target: &Target, rows: &[RecordBatch]) -> StoreResult<()> {
    let mut lacking = vec![false; target.columns.len()];
    for part in rows {
        let Some(lacks) = part.column_by_name(LACKS).and_then(|c| c.as_string_opt::<i32>()) else { return Ok(()) };
        for text in lacks.iter().flatten() {
            text.bytes().zip(&mut lacking).for_each(|(byte, any)| *any |= byte == b'1');
        }
    }
    if !lacking.contains(&true) {
        return Ok(());
    }
    let keyed = KeyedStatements { spelling: session.spelling(), target };
    let unknown = number(&session.query(&keyed.unknown())?).unwrap_or(0);
    if unknown > 0 && target.early {
        session.execute(&KeyedStatements { spelling: session.spelling(), target }.leave_unknown())?;
    } else if unknown > 0 {
        let message = format!(
            "{unknown} changed rows come without large values that did not change, and are not in {}",
            target.table.name
        );
        let failure = Failure::new(FailureKind::BadData, message).with_help(
            "a row enters a condition by an update, or the table was changed by others: the source sends every value \
             after alter table … replica identity full",
        );
        return Err(StoreError::Failed(failure));
    }
    let columns: Vec<usize> = (0..lacking.len()).filter(|i| lacking[*i]).collect();
    for place in columns {
        let statement = KeyedStatements { spelling: session.spelling(), target }.fill(place);
        session.execute(&statement)?;
    }
    Ok(())
}

/// Whether rows of a mirror have deletes among them.
pub(crate) fn has_deletes(rows: &[RecordBatch]) -> bool {
    let any = |part: &RecordBatch| {
        part.column_by_name(DELETED).and_then(|c| c.as_boolean_opt()).is_some_and(|deleted| deleted.true_count() > 0)
    };
    rows.iter().any(any)
}

/// Spells the statements for one target.
pub(crate) struct KeyedStatements<'t> {
    pub spelling: Spelling,
    pub target: &'t Target,
}

impl KeyedStatements<'_> {
    fn quote(&self, name: &str) -> String {
        (self.spelling.quote)(name)
    }

    fn table(&self) -> String {
        self.spelling.table(&self.target.table)
    }

    fn gone(&self) -> String {
        self.spelling.table(&self.target.gone())
    }

    /// The table of incoming rows within a statement.
    pub(crate) fn incoming(&self) -> String {
        self.quote(INCOMING)
    }

    /// All columns that are loaded, with commas between; `of` stands before each.
    pub(crate) fn columns(&self, of: &str) -> String {
        self.list(self.target.columns.iter().map(|(name, _)| name.as_str()), of)
    }

    fn list<'n>(&self, names: impl Iterator<Item = &'n str>, of: &str) -> String {
        let names: Vec<String> = names.map(|n| format!("{of}{}", self.quote(n))).collect();
        names.join(", ")
    }

    /// The columns by which changes of a row are ordered.
    pub(crate) fn stamp(&self) -> Vec<&str> {
        match &self.target.version {
            Some(version) => vec![version.as_str()],
            None => vec![SOURCE, POSITION, BATCH],
        }
    }

    /// The columns of the table of deleted keys.
    pub(crate) fn gone_columns(&self) -> Vec<&str> {
        let key = self.target.key.iter().map(String::as_str);
        let stamp = self.stamp().into_iter().filter(|s| !self.target.key.iter().any(|k| k == s));
        key.chain(stamp).collect()
    }

    fn same_key(&self, a: &str, b: &str) -> String {
        let same: Vec<String> =
            self.target.key.iter().map(|k| format!("{a}.{q} = {b}.{q}", q = self.quote(k))).collect();
        same.join(" and ")
    }

    /// Whether a change may take the place of what is there.
    pub(crate) fn may_replace(&self, there: &str, new: &str) -> String {
        if let Some(version) = &self.target.version {
            let v = self.quote(version);
            return format!("({there}.{v} is null or ({new}.{v} is not null and {new}.{v} >= {there}.{v}))");
        }
        let (s, p, b) = (self.quote(SOURCE), self.quote(POSITION), self.quote(BATCH));
        let (old_source, new_source) =
            ((self.spelling.by_bytes)(&format!("{there}.{s}")), (self.spelling.by_bytes)(&format!("{new}.{s}")));
        // The lane distinguishes arrivals whose partitions have the same names.
        let lane = format!("% {}", 1_i64 << LANE_BITS);
        format!(
            "({there}.{b} is null or case when {there}.{s} = {new}.{s} and {there}.{b} {lane} = {new}.{b} {lane} then \
             {new}.{p} >= {there}.{p} when {there}.{b} = {new}.{b} then {new_source} >= {old_source} else {new}.{b} > \
             {there}.{b} end)"
        )
    }

    fn set(&self, names: &[&str]) -> String {
        let set: Vec<String> = names.iter().map(|n| format!("{q} = excluded.{q}", q = self.quote(n))).collect();
        set.join(", ")
    }

    /// The hidden columns, each with a comma before it.
    pub(crate) fn hidden(&self) -> String {
        self.target.hidden.iter().map(|(name, _)| format!(", {}", self.quote(name))).collect()
    }

    /// The hidden columns of an empty table of incoming rows, each with a comma before it.
    pub(crate) fn no_hidden(&self, empty_text: &str) -> String {
        let one = |(name, _): &(String, _)| match name.strip_prefix(WAS) {
            Some(key) => format!(", {} as {}", self.quote(key), self.quote(name)),
            None => format!(", {empty_text} as {}", self.quote(name)),
        };
        self.target.hidden.iter().map(one).collect()
    }

    /// The row of the table that has the values which an incoming row `s` lacks.
    fn was(&self) -> String {
        self.was_of("s")
    }

    fn was_of(&self, incoming: &str) -> String {
        let same = |key: &String| format!("t.{} = {incoming}.{}", self.quote(key), self.quote(&format!("{WAS}{key}")));
        self.target.key.iter().map(same).collect::<Vec<_>>().join(" and ")
    }

    /// Fills in what incoming rows lack in one column, by its place among those that land.
    pub(crate) fn fill(&self, place: usize) -> String {
        let column = self.quote(&self.target.columns[place].0);
        format!(
            "update {i} as s set {column} = (select t.{column} from {t} t where {was}) where substr(s.{lacks}, {at}, 1) \
             = '1'",
            i = self.incoming(),
            t = self.table(),
            was = self.was(),
            lacks = self.quote(LACKS),
            at = place + 1,
        )
    }

    /// Leaves out incoming rows that lack values and have no row in the table.
    pub(crate) fn leave_unknown(&self) -> String {
        format!(
            "delete from {i} where {lacks} is not null and not exists (select 1 from {t} t where {was})",
            i = self.incoming(),
            t = self.table(),
            lacks = self.quote(LACKS),
            was = self.was_of(&self.incoming()),
        )
    }

    /// Counts incoming rows that lack values and have no row in the table.
    pub(crate) fn unknown(&self) -> String {
        format!(
            "select count(*) from {i} s where s.{lacks} is not null and not exists (select 1 from {t} t where {was})",
            i = self.incoming(),
            t = self.table(),
            lacks = self.quote(LACKS),
            was = self.was(),
        )
    }

    /// Takes out incoming changes of keys that a newer change has deleted.
    pub(crate) fn drop_outdated(&self) -> String {
        format!(
            "delete from {i} as s where exists (select 1 from {g} g where {same} and not {newer})",
            i = self.incoming(),
            g = self.gone(),
            same = self.same_key("g", "s"),
            newer = self.may_replace("g", "s"),
        )
    }

    /// Deletes the rows whose keys are deleted.
    pub(crate) fn delete(&self) -> String {
        format!(
            "delete from {t} as t where exists (select 1 from {i} s where s.{d} and {same} and {newer})",
            t = self.table(),
            i = self.incoming(),
            d = self.quote(DELETED),
            same = self.same_key("t", "s"),
            newer = self.may_replace("t", "s"),
        )
    }

    /// Takes out deletes of rows that are still there: a newer change has written them.
    pub(crate) fn drop_outlived(&self) -> String {
        format!(
            "delete from {i} as s where s.{d} and exists (select 1 from {t} t where {same})",
            i = self.incoming(),
            t = self.table(),
            d = self.quote(DELETED),
            same = self.same_key("t", "s"),
        )
    }

    /// Notes the deleted keys.
    pub(crate) fn note_gone(&self) -> String {
        let columns = self.gone_columns();
        let stamp: Vec<&str> = self.stamp();
        format!(
            "insert into {g} as t ({names}) select {of} from {i} s where s.{d} on conflict ({key}) do update set {set} \
             where {newer}",
            g = self.gone(),
            names = self.list(columns.iter().copied(), ""),
            of = self.list(columns.iter().copied(), "s."),
            i = self.incoming(),
            d = self.quote(DELETED),
            key = self.list(self.target.key.iter().map(String::as_str), ""),
            set = self.set(&stamp),
            newer = self.may_replace("t", "excluded"),
        )
    }

    /// Writes rows, new and changed. `only` is a condition on incoming rows `s`.
    pub(crate) fn upsert(&self, only: &str) -> String {
        let is_key = |name: &&str| self.target.key.iter().any(|k| k == name);
        let mut others: Vec<&str> =
            self.target.columns.iter().map(|(n, _)| n.as_str()).filter(|n| !is_key(n)).collect();
        if others.is_empty() {
            others = self.target.key.iter().map(String::as_str).collect();
        }
        format!(
            "insert into {t} as t ({names}) select {of} from {i} s where {only} on conflict ({key}) do update set \
             {set} where {newer}",
            t = self.table(),
            names = self.columns(""),
            of = self.columns("s."),
            i = self.incoming(),
            key = self.list(self.target.key.iter().map(String::as_str), ""),
            set = self.set(&others),
            newer = self.may_replace("t", "excluded"),
        )
    }

    /// Keys that are written are not deleted any more.
    pub(crate) fn forget_gone(&self) -> String {
        format!(
            "delete from {g} as g where exists (select 1 from {i} s where not s.{d} and {same})",
            g = self.gone(),
            i = self.incoming(),
            d = self.quote(DELETED),
            same = self.same_key("g", "s"),
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::landings::tables::shape::{Mode, TableName};
    use sluice_core::types::SqlType;

    fn spelling() -> Spelling {
        Spelling {
            quote: |n| n.to_string(),
            literal: |t| format!("'{t}'"),
            bytes: |_| String::new(),
            insert_new: |into, values| format!("insert into {into} values {values}"),
            landed_micros: "",
            by_bytes: |x| x.to_string(),
        }
    }

    fn target(version: Option<&str>) -> Target {
        Target {
            table: TableName { schema: None, name: "permit".into() },
            mode: Mode::Mirror,
            columns: vec![("id".into(), SqlType::Text), ("v".into(), SqlType::Bigint)],
            key: vec!["id".into()],
            version: version.map(Into::into),
            hidden: Vec::new(),
            early: false,
        }
    }

    #[test]
    fn a_version_decides_where_there_is_one() {
        let target = target(Some("v"));
        let keyed = KeyedStatements { spelling: spelling(), target: &target };
        assert_eq!(
            keyed.upsert("true"),
            "insert into permit as t (id, v) select s.id, s.v from sluice_incoming s where true on conflict (id) do \
             update set v = excluded.v where (t.v is null or (excluded.v is not null and excluded.v >= t.v))"
        );
        assert_eq!(keyed.gone_columns(), ["id", "v"]);
    }

    #[test]
    fn without_one_the_position_decides_within_a_partition_and_the_order_of_opening_beyond() {
        let target = target(None);
        let keyed = KeyedStatements { spelling: spelling(), target: &target };
        assert_eq!(
            keyed.may_replace("t", "s"),
            "(t._batch is null or case when t._source = s._source and t._batch % 1048576 = s._batch % 1048576 then \
             s._position >= t._position when t._batch = s._batch then s._source >= t._source else s._batch > t._batch \
             end)"
        );
        assert_eq!(keyed.gone_columns(), ["id", "_source", "_position", "_batch"]);
    }
}
