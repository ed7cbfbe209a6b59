//! Looks words up in the manual, also mistyped ones and words of the explanations.

use sluice_core::names;

use super::{CHAPTERS, Entry};

/// What a look-up found.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum SearchFound {
    /// A whole chapter.
    Chapter(Vec<Entry>),
    /// Entries of this name.
    Named(Vec<Entry>),
    /// Entries with a name near to it.
    Near(Vec<Entry>),
    /// Entries that speak of it.
    Mentioned(Vec<Entry>),
    /// Nothing.
    Nothing,
}

/// The heading of the operators of expressions.
pub(super) const OPERATORS: &str = "operators";

/// Looks a word up: as a chapter, as a name, within names and explanations, and at last as a mistyped name.
pub(crate) fn search(all: &[Entry], word: &str) -> SearchFound {
    let word = word.trim().to_lowercase();
    let taken = |keep: &dyn Fn(&Entry) -> bool| all.iter().filter(|e| keep(e)).cloned().collect::<Vec<Entry>>();
    if CHAPTERS.iter().any(|(c, _)| *c == word) {
        return SearchFound::Chapter(taken(&|e| e.chapter == word));
    }
    let named = taken(&|e| {
        let name = e.name.to_lowercase();
        // Several operators stand in one entry: `like, not like`.
        let is_operator = e.context == OPERATORS && name.split([',', ' ', '(']).any(|part| part == word);
        name == word || is_operator || name.starts_with(&format!("{word}("))
    });
    if !named.is_empty() {
        return SearchFound::Named(named);
    }
    let mentions = |e: &Entry| {
        let text = [&e.name, &e.form, &e.about, &e.context].map(|t| t.to_lowercase());
        text.iter().any(|t| t.contains(&word)) || e.notes.iter().any(|n| n.to_lowercase().contains(&word))
    };
    let mentioned = taken(&mentions);
    if word.len() >= 3 && !mentioned.is_empty() {
        return SearchFound::Mentioned(mentioned);
    }
    match names::nearest(&word, all.iter().map(|e| e.name.as_str())) {
        Some(near) => SearchFound::Near(taken(&|e| e.name == near)),
        None => SearchFound::Nothing,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::manual::entries;
    use rstest::rstest;

    fn names(found: &SearchFound) -> Vec<&str> {
        match found {
            SearchFound::Chapter(e) | SearchFound::Named(e) | SearchFound::Near(e) | SearchFound::Mentioned(e) => {
                e.iter().map(|e| e.name.as_str()).collect()
            }
            SearchFound::Nothing => Vec::new(),
        }
    }

    #[rstest]
    #[case("round", "round")]
    #[case("ROUND", "round")]
    #[case("rouund", "round")]
    #[case("decimal", "decimal(p, s)")]
    #[case("digest", "sha256")]
    #[case("max_recrod", "max_record")]
    #[case("not_json", "not_json")]
    #[case("130", "130")]
    #[case("lag", "lag")]
    #[case("backfill", "replay")]
    #[case("dead letter", "reject")]
    #[case("checkpoint", "batch")]
    #[case("cdc", "change feed")]
    #[case("sink", "landing")]
    #[case("bookmark", "position")]
    #[case("offset", "origin.offset")]
    #[case("env", "secret")]
    #[case("schedule", "schedule")]
    #[case("snapshot", "snapshot, load")]
    #[case("header", "header")]
    fn words_find_their_entry(#[case] word: &str, #[case] name: &str) {
        let found = search(&entries(), word);
        assert!(names(&found).contains(&name), "{found:?}");
    }

    #[test]
    fn what_is_nowhere_finds_nothing() {
        assert_eq!(search(&entries(), "qqqqqqqqqqqq"), SearchFound::Nothing);
    }
}
