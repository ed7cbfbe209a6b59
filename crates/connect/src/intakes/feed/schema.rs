//! What it means when the columns of a table change: which differences matter, and what is done about them.
//!
//! A column is described by its name and its type, one text: `name type detail`. Where the type is not known, `?`
//! stands for both.

use sluice_core::config::ExtraFields;
use sluice_core::failure::Failure;
use sluice_core::kinds::Settings;

use super::FeedTable;

/// What stands for a type that is not known.
pub(crate) const UNKNOWN: &str = "? ?";

/// What becomes of a table whose columns change: the words of `schema_change`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Policy {
    /// Stop there and show the difference.
    Stop,
    /// Land the new columns too.
    Follow,
    /// Go on with those that the contract names.
    Ignore,
}

impl Policy {
    pub(crate) fn of(settings: &Settings) -> Self {
        match settings.options.text("schema_change").as_deref() {
            Some("follow") => Self::Follow,
            Some("ignore") => Self::Ignore,
            _ => Self::Stop,
        }
    }
}

/// A column that a table has now, at the source.
#[derive(Clone, Debug)]
pub(crate) struct CurrentColumn {
    pub name: String,
    /// The type of contracts that takes its values.
    pub ty: String,
    /// Whether rows from before it was added have a value of it.
    pub is_filled: bool,
}

/// What follows from a difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum SchemaVerdict {
    /// Reading goes on. Where `refill`, rows got values that the log does not report: they are read again.
    GoOn { refill: bool },
    /// The run stops, for somebody to decide. In words, why.
    Stop(String),
    /// The pipeline is to be written out again. In words, why.
    Renew(String),
}

/// How the columns of a table differ from those that were known.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Difference {
    came: Vec<String>,
    went: Vec<String>,
    retyped: Vec<String>,
}

impl Difference {
    /// Compares two lists of columns.
    pub(crate) fn between(known: &[String], now: &[String]) -> Self {
        let mut found = Self::default();
        if known.is_empty() {
            return found;
        }
        for column in now {
            let (own, ty) = parts(column);
            match known.iter().map(|c| parts(c)).find(|(name, _)| *name == own) {
                None => found.came.push(own.to_string()),
                Some((_, before)) if before != ty && before != UNKNOWN && ty != UNKNOWN => {
                    found.retyped.push(own.to_string());
                }
                Some(_) => {}
            }
        }
        let is_there = |name: &str| now.iter().any(|c| parts(c).0 == name);
        found.went = known.iter().map(|c| parts(c).0.to_string()).filter(|name| !is_there(name)).collect();
        found
    }

    pub(crate) fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// What follows from it, given what is there now.
    pub(crate) fn judge(&self, table: &FeedTable, policy: Policy, there: &[CurrentColumn]) -> SchemaVerdict {
        let Some(contract) = &table.contract else { return SchemaVerdict::GoOn { refill: false } };
        let field = |column: &str| contract.fields.iter().find(|f| f.path.first().is_some_and(|name| name == column));
        let is_read = |column: &str| field(column).is_some() || contract.extra != ExtraFields::Ignore;
        let now = |column: &str| there.iter().find(|c| c.name == column);
        // A column that was dropped again meanwhile, or that the server computes, cannot be read.
        let news: Vec<&String> = self.came.iter().filter(|c| field(c).is_none() && now(c).is_some()).collect();
        let fits = |column: &str| match (field(column), now(column)) {
            (Some(field), Some(there)) => field.ty.to_string() == there.ty,
            _ => true,
        };
        let retyped: Vec<&String> = self.retyped.iter().filter(|c| !fits(c)).collect();
        let went: Vec<&String> = self.went.iter().filter(|c| field(c).is_some() && now(c).is_none()).collect();
        let mut words: Vec<String> = news.iter().map(|c| format!("column {c} was added")).collect();
        words.extend(retyped.iter().map(|c| format!("column {c} was retyped")));
        words.extend(went.iter().map(|c| format!("column {c} was dropped")));
        let words = words.join("; ");
        match policy {
            Policy::Stop if !words.is_empty() => return SchemaVerdict::Stop(words),
            Policy::Follow if !words.is_empty() => return SchemaVerdict::Renew(words),
            _ => {}
        }
        // A renamed column keeps its values; an added one may have values; a new type may change them.
        let is_filled = |column: &&String| now(column).is_some_and(|c| c.is_filled || !self.went.is_empty());
        let came = self.came.iter().filter(|c| is_read(c)).any(|c| is_filled(&c));
        SchemaVerdict::GoOn { refill: came || self.retyped.iter().any(|c| is_read(c)) }
    }
}

/// Why a pipeline that follows its tables has to be written out again before a table is read: the table has other columns by
/// now. Rows that are loaded would lack the new ones, and nothing would say so.
pub(crate) fn outdated(table: &FeedTable, policy: Policy, there: &[CurrentColumn]) -> Option<Failure> {
    let contract = table.contract.as_ref().filter(|_| policy == Policy::Follow)?;
    let is_named = |column: &str| contract.fields.iter().any(|f| f.path.first().is_some_and(|name| name == column));
    let is_there = |column: &str| there.iter().any(|c| c.name == column);
    let added = there.iter().map(|c| c.name.as_str()).filter(|c| !is_named(c)).map(|c| format!("column {c} was added"));
    let names = contract.fields.iter().filter_map(|f| f.path.first()).filter(|c| !is_there(c));
    let words: Vec<String> = added.chain(names.map(|c| format!("column {c} was dropped"))).collect();
    (!words.is_empty()).then(|| {
        Failure::renewing(format!("{} changed while the pipeline was written out: {}", table.name, words.join("; ")))
    })
}

/// Name and type of a column.
fn parts(column: &str) -> (&str, &str) {
    let mut blanks = column.rmatch_indices(' ');
    let at = blanks.nth(1).map_or(column.len(), |(at, _)| at);
    (&column[..at], column.get(at + 1..).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use rstest::rstest;
    use sluice_core::contract::{Contract, ContractField};
    use sluice_core::problem::{Place, SourceText};
    use sluice_core::types::SqlType;
    use sluice_core::values::bytes::BytesSpelling;

    /// A table whose contract names `id` and `note`.
    fn table() -> FeedTable {
        let place = Place::new(&SourceText::new("x", ""), 0..0);
        let field = |name: &str, ty| ContractField {
            name: name.into(),
            path: vec![name.into()],
            ty,
            limit: None,
            spelling: BytesSpelling::default(),
            not_null: false,
            format: None,
            place: place.clone(),
        };
        let fields = vec![field("id", SqlType::Integer), field("note", SqlType::Text)];
        let contract = Contract { fields, extra: ExtraFields::Ignore, may_lack: true };
        FeedTable { name: "permit".into(), key: vec!["id".into()], contract: Some(Arc::new(contract)) }
    }

    fn there(columns: &[(&str, &str, bool)]) -> Vec<CurrentColumn> {
        let one = |(name, ty, is_filled): &(&str, &str, bool)| CurrentColumn {
            name: (*name).into(),
            ty: (*ty).into(),
            is_filled: *is_filled,
        };
        columns.iter().map(one).collect()
    }

    fn difference(known: &[&str], now: &[&str]) -> Difference {
        let owned = |list: &[&str]| list.iter().map(|c| (*c).to_string()).collect::<Vec<_>>();
        Difference::between(&owned(known), &owned(now))
    }

    const BOTH: &[(&str, &str, bool)] = &[("id", "integer", false), ("note", "text", false)];

    #[rstest]
    #[case(Policy::Follow, &["id", "note"], "")]
    #[case(Policy::Follow, &["id", "note", "tons"], "column tons was added")]
    #[case(Policy::Follow, &["id", "tons"], "column tons was added; column note was dropped")]
    #[case(Policy::Stop, &["id", "tons"], "")]
    #[case(Policy::Ignore, &["id", "tons"], "")]
    fn a_pipeline_that_was_written_out_for_other_columns_is_not_read(
        #[case] policy: Policy,
        #[case] columns: &[&str],
        #[case] expected: &str,
    ) {
        let columns: Vec<(&str, &str, bool)> = columns.iter().map(|c| (*c, "text", false)).collect();
        let failure = outdated(&table(), policy, &there(&columns));
        assert!(failure.iter().all(|f| f.renews));
        let words = failure.map_or(String::new(), |f| f.message);
        assert_eq!(words.split_once(": ").map_or("", |(_, words)| words), expected);
    }

    #[rstest]
    #[case(&["id 23 -1", "note 25 -1"], &["id 23 -1", "note 25 -1"], "")]
    #[case(&["id 23 -1"], &["id 23 -1", "tons 23 -1"], "column tons was added")]
    // The contract names it already.
    #[case(&["id 23 -1"], &["id 23 -1", "note 25 -1"], "")]
    #[case(&["id 23 -1", "tons 23 -1"], &["id 23 -1"], "")]
    #[case(&["id 23 -1", "note 25 -1"], &["id 23 -1", "note 1043 24"], "")]
    #[case(&["id 23 -1", "note 25 -1"], &["id 23 -1", "note 3802 -1"], "")]
    #[case(&["id 23 -1", "of it 25 -1"], &["id 23 -1", "of it 25 -1"], "")]
    #[case(&["id 23 -1", "note ? ?"], &["id 23 -1", "note 25 -1"], "")]
    // It is not there any more.
    #[case(&["id 23 -1"], &["id 23 -1", "berth 25 -1"], "")]
    #[case(&[], &["id 23 -1", "tons 23 -1"], "")]
    fn what_matters_is_reported(#[case] known: &[&str], #[case] now: &[&str], #[case] words: &str) {
        let there = there(&[BOTH[0], BOTH[1], ("tons", "integer", false)]);
        let found = difference(known, now);
        let found_words = match found.judge(&table(), Policy::Stop, &there) {
            SchemaVerdict::Stop(words) => words,
            _ => String::new(),
        };
        assert_eq!(found_words, words);
        let is_same = |verdict| matches!(verdict, SchemaVerdict::GoOn { .. });
        assert_eq!(is_same(found.judge(&table(), Policy::Follow, &there)), words.is_empty());
        assert!(is_same(found.judge(&table(), Policy::Ignore, &there)));
    }

    #[test]
    fn dropped_and_retyped_columns_are_reported() {
        let found = difference(&["id 23 -1", "note 25 -1"], &["id 20 -1", "remark 25 -1"]);
        let there = there(&[("id", "bigint", false), ("remark", "text", false)]);
        let words = "column remark was added; column id was retyped; column note was dropped";
        assert_eq!(found.judge(&table(), Policy::Stop, &there), SchemaVerdict::Stop(words.into()));
        assert_eq!(found.judge(&table(), Policy::Follow, &there), SchemaVerdict::Renew(words.into()));
    }

    #[rstest]
    // Nothing stands in the rows that were there.
    #[case(&["id 23 -1"], &["id 23 -1", "note 25 -1"], false, false)]
    // A default does.
    #[case(&["id 23 -1"], &["id 23 -1", "note 25 -1"], true, true)]
    // It had another name.
    #[case(&["id 23 -1", "remark 25 -1"], &["id 23 -1", "note 25 -1"], false, true)]
    // Values may be others.
    #[case(&["id 23 -1", "note 1043 24"], &["id 23 -1", "note 25 -1"], false, true)]
    // Nobody reads it.
    #[case(&["id 23 -1", "note 25 -1"], &["id 23 -1", "note 25 -1", "tons 23 -1"], true, false)]
    #[case(&["id 23 -1", "note 25 -1", "tons 23 -1"], &["id 23 -1", "note 25 -1"], true, false)]
    fn values_that_the_log_does_not_report_are_read_again(
        #[case] known: &[&str],
        #[case] now: &[&str],
        #[case] is_filled: bool,
        #[case] refill: bool,
    ) {
        let there = there(&[BOTH[0], ("note", "text", is_filled), ("tons", "integer", true)]);
        let found = difference(known, now);
        assert_eq!(found.judge(&table(), Policy::Ignore, &there), SchemaVerdict::GoOn { refill });
        let bare = FeedTable { contract: None, ..table() };
        assert_eq!(found.judge(&bare, Policy::Stop, &there), SchemaVerdict::GoOn { refill: false });
    }
}
