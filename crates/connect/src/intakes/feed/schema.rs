//! What matters when the columns of a table change.

use super::FeedTable;

/// Whether a contract names a column.
fn names(table: &FeedTable, column: &str) -> bool {
    let fields = table.contract.as_ref().map_or(&[][..], |c| &c.fields);
    fields.iter().any(|f| f.path.first().is_some_and(|name| name == column))
}

/// What matters of a difference: a new column that the contract does not name, one that went and that it names, another
/// type. Both lists hold the name of a column and then its type.
pub(crate) fn differences(known: &[String], now: &[String], table: &FeedTable) -> Vec<String> {
    compare(known, now, &|column| names(table, column), table.contract.is_some())
}

fn compare(known: &[String], now: &[String], is_named: &dyn Fn(&str) -> bool, has_contract: bool) -> Vec<String> {
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
    use super::compare;
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
        assert_eq!(compare(&owned(known), &owned(now), &is_named, true), expected);
        assert!(compare(&owned(known), &owned(now), &is_named, false).is_empty());
    }
}
