//! What identifies the rows of a table, at the source and in its mirrors.

use std::collections::BTreeSet;

use sluice_core::failure::{Failure, FailureKind};
use sluice_core::kinds::{MirrorKey, Settings};
use sluice_core::names::shown;
use sluice_core::problem::Problem;

/// Mirrors whose rows are identified by other columns than those of the source's primary key. The log reports how a row changed
/// by its primary key alone: such a mirror would keep rows under keys that they have no more.
fn others<'s>(key: &[String], settings: &'s Settings) -> impl Iterator<Item = &'s MirrorKey> {
    let key: BTreeSet<String> = key.iter().cloned().collect();
    settings.mirror_keys.iter().filter(move |mirror| mirror.columns != key)
}

fn words(table: &str, key: &[String], mirror: &MirrorKey) -> (String, String) {
    let list = |names: &mut dyn Iterator<Item = &String>| names.map(|n| shown(n)).collect::<Vec<_>>().join(", ");
    let own = list(&mut mirror.columns.iter());
    let (table, landing) = (shown(table), &mirror.landing);
    if key.is_empty() {
        let message = format!("{landing} mirrors {table}, which has no primary key, by ({own})");
        return (message, "add a primary key at the source, or let its changes land: mode = \"changes\"".into());
    }
    let there = list(&mut key.iter());
    let message = format!("{landing} keeps rows by ({own}), and the primary key of {table} is ({there})");
    let help = format!(
        "rows whose ({own}) changes would stay there under the old one: use the columns of the primary key as the key"
    );
    (message, help)
}

/// The problems of mirrors that identify rows in another way than the source.
pub(crate) fn problems(table: &str, key: &[String], settings: &Settings) -> Vec<Problem> {
    let one = |mirror: &MirrorKey| {
        let (message, help) = words(table, key, mirror);
        Problem::error("feed.identity", message, mirror.place.clone()).with_help(help)
    };
    others(key, settings).map(one).collect()
}

/// The failure of the first of them.
pub(crate) fn refuse(table: &str, key: &[String], settings: &Settings) -> Option<Failure> {
    let (message, help) = words(table, key, others(key, settings).next()?);
    Some(Failure::new(FailureKind::Configuration, message).with_help(help))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use sluice_core::problem::{Place, SourceText};

    #[rstest]
    #[case(&["id"], &["id"], "")]
    #[case(&["b", "a"], &["a", "b"], "")]
    #[case(&["code"], &["id"], "t.copy keeps rows by (code), and the primary key of office.t is (id)")]
    #[case(&["id", "code"], &["id"], "t.copy keeps rows by (code, id), and the primary key of office.t is (id)")]
    #[case(&["id"], &["a", "b"], "t.copy keeps rows by (id), and the primary key of office.t is (a, b)")]
    #[case(&["id"], &[], "t.copy mirrors office.t, which has no primary key, by (id)")]
    fn a_mirror_has_the_key_of_its_source(#[case] mirror: &[&str], #[case] key: &[&str], #[case] expected: &str) {
        let mut settings = super::super::trial::settings(std::path::Path::new(""));
        settings.mirror_keys.push(MirrorKey {
            landing: "t.copy".into(),
            columns: mirror.iter().map(ToString::to_string).collect(),
            place: Place::new(&SourceText::new("p.toml", ""), 0..0),
        });
        let key: Vec<String> = key.iter().map(ToString::to_string).collect();
        let said = refuse("office.t", &key, &settings).map_or(String::new(), |f| f.message);
        assert_eq!(said, expected);
        assert_eq!(problems("office.t", &key, &settings).len(), usize::from(!expected.is_empty()));
    }
}
