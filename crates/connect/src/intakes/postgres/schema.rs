//! Notices that a table of the source has changed: columns that came, went or have another type, and another name.

use super::PostgresFeed;
use super::pgoutput::Relation;
use crate::intakes::feed::state::State;

/// A table that the log tells anew.
pub(super) struct Found {
    /// Its name in the pipeline.
    pub table: String,
    /// Its columns with their types.
    pub columns: Vec<String>,
    /// Its number in the feed, where it has another name now.
    pub bound_as: Option<u32>,
    /// What is different in a way that matters to the contract, in words.
    pub difference: Option<String>,
    /// Whether the run is to stop there.
    pub holds: bool,
}

/// Compares a table with what is known of it; None for one that nobody reads.
pub(super) fn compare(feed: &PostgresFeed, state: &State, relation: &Relation) -> Option<Found> {
    let name = format!("{}.{}", relation.schema, relation.name);
    let by_name = feed.tables.iter().position(|t| *t.name == *name);
    let by_id = || {
        let known = state.tables.iter().find(|(_, t)| t.id == relation.id && t.id != 0)?;
        feed.tables.iter().position(|t| *t.name == **known.0)
    };
    let number = by_name.or_else(by_id)?;
    let table = &feed.tables[number];
    let columns: Vec<String> =
        relation.columns.iter().map(|c| format!("{} {} {}", c.name, c.ty, c.modifier)).collect();
    let known = state.tables.get(&*table.name).map_or(&[][..], |t| &t.columns);
    let mut found = differences(known, &columns, &|column| names(table, column), table.contract.is_some());
    if by_name.is_none() {
        found.insert(0, format!("it is called {name} now"));
    }
    let options = &feed.settings[number].options;
    Some(Found {
        table: table.name.to_string(),
        columns,
        bound_as: by_name.is_none().then(|| u32::try_from(number).unwrap_or(u32::MAX)),
        difference: (!found.is_empty()).then(|| found.join("; ")),
        holds: options.text("schema_change").as_deref() != Some("ignore"),
    })
}

/// Whether a contract names a column.
fn names(table: &super::applier::FeedTable, column: &str) -> bool {
    let fields = table.contract.as_ref().map_or(&[][..], |c| &c.fields);
    fields.iter().any(|f| f.path.first().is_some_and(|name| name == column))
}

/// What matters of a difference: a new column that the contract does not name, one that went and that it names, another
/// type. Both lists hold the name of a column and then its type.
fn differences(
    known: &[String],
    now: &[String],
    is_named: &dyn Fn(&str) -> bool,
    has_contract: bool,
) -> Vec<String> {
    if known.is_empty() || !has_contract {
        return Vec::new();
    }
    let name = |column: &str| column.rsplitn(3, ' ').last().unwrap_or_default().to_string();
    let find = |list: &[String], wanted: &str| list.iter().find(|c| name(c) == wanted).cloned();
    let mut found = Vec::new();
    for column in now {
        let own = name(column);
        match find(known, &own) {
            None if !is_named(&own) => found.push(format!("the column {own} came")),
            Some(before) if before != *column && is_named(&own) => {
                found.push(format!("the column {own} has another type"));
            }
            _ => {}
        }
    }
    let gone = known.iter().map(|c| name(c)).filter(|c| find(now, c).is_none() && is_named(c));
    found.extend(gone.map(|column| format!("the column {column} went")));
    found
}

#[cfg(test)]
mod tests {
    use super::differences;
    use rstest::rstest;

    #[rstest]
    #[case(&["id 23 -1", "note 25 -1"], &["id 23 -1", "note 25 -1"], &[])]
    #[case(&["id 23 -1"], &["id 23 -1", "tons 23 -1"], &["the column tons came"])]
    // The contract names it already.
    #[case(&["id 23 -1"], &["id 23 -1", "note 25 -1"], &[])]
    #[case(&["id 23 -1", "note 25 -1"], &["id 23 -1"], &["the column note went"])]
    #[case(&["id 23 -1", "tons 23 -1"], &["id 23 -1"], &[])]
    #[case(&["id 23 -1", "note 25 -1"], &["id 20 -1", "note 25 -1"], &["the column id has another type"])]
    #[case(&["id 23 -1", "note 25 -1"], &["id 23 -1", "remark 25 -1"],
        &["the column remark came", "the column note went"])]
    #[case(&[], &["id 23 -1"], &[])]
    fn what_matters_is_told(#[case] known: &[&str], #[case] now: &[&str], #[case] expected: &[&str]) {
        let owned = |list: &[&str]| list.iter().map(|c| (*c).to_string()).collect::<Vec<_>>();
        let is_named = |column: &str| ["id", "note"].contains(&column);
        assert_eq!(differences(&owned(known), &owned(now), &is_named, true), expected);
        assert!(differences(&owned(known), &owned(now), &is_named, false).is_empty());
    }
}
