//! What the ledger keeps of a change feed beside its position: which server and log it is, which tables have been loaded
//! how far, and which columns they had.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::PartitionPosition;

use crate::intakes::postgres::silent::TableStorage;

/// The state of a feed at a position.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct State {
    /// The server, by what it says of itself that no other server says.
    pub system: String,
    /// The timeline of its log.
    #[serde(default)]
    pub timeline: u32,
    /// What keeps the log for us there.
    pub slot: String,
    /// When the last transaction before the position was committed, in microseconds since 1970.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<i64>,
    /// The global transactions before that place, for a source that numbers them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gtid: Option<String>,
    /// From where the log is to be read on: behind the last transaction that was read whole, or at the beginning of one
    /// that was not.
    #[serde(default)]
    pub read: u64,
    /// The tables, with their schemas.
    #[serde(default)]
    pub tables: BTreeMap<String, TableState>,
    /// Names of tables that were read once and are not any more: what landed of them may still be there.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub former: BTreeSet<String>,
    /// Distributed transactions that are prepared and not ended, by their names: where each begins in the log.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub prepared: BTreeMap<String, u64>,
}

/// One table.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct TableState {
    /// Its number at the source, which it keeps when it is renamed; 0 where tables have none.
    #[serde(default)]
    pub id: u32,
    /// Its columns, each its name and then its type as the log reports it.
    pub columns: Vec<String>,
    /// How it is stored, where that tells of changes that the log does not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub form: Option<TableStorage>,
    /// How far it has been loaded; None where it never is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load: Option<Load>,
}

/// How far a table has been loaded.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Load {
    /// The key of the last row that was read; None before the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Vec<String>>,
    /// The same, part by part as the source compares it, where that is another spelling.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<Vec<String>>,
    /// Changes of the table that the log has reported meanwhile.
    #[serde(default)]
    pub changed: u64,
    /// Rows that were read.
    pub rows: u64,
    /// About how many there are.
    pub about: u64,
    /// Keys of rows that changed meanwhile without all of their values: they are read again.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub again: Vec<Vec<String>>,
    /// Whether all have been read.
    #[serde(default)]
    pub done: bool,
    /// When it began, in microseconds since 1970.
    #[serde(default)]
    pub since: i64,
    /// Whether its rows take the place of others that were there, which is reported before the first of them.
    // Ledgers of earlier versions have it as `anew`.
    #[serde(default, alias = "anew", skip_serializing_if = "std::ops::Not::not")]
    pub replaces: bool,
    /// Of a table without a key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub whole: Option<WholeTableState>,
}

/// How far a table without a key has been taken in.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct WholeTableState {
    /// The place in the log at which its rows are as they were read; 0 before that.
    pub at: u64,
    /// Bytes of the file with its rows that have been taken in.
    pub taken: u64,
}

impl TableState {
    /// Has the table loaded once more, where it is loaded at all. Rows with a key take the places of those that were there;
    /// others are reported to be gone first.
    pub(crate) fn restart(&mut self, about: u64) {
        let since = chrono::Utc::now().timestamp_micros();
        let again = |load: Load| {
            let (replaces, whole) = (load.whole.is_some(), load.whole.map(|_| WholeTableState::default()));
            Load { about, since, replaces, whole, ..Load::default() }
        };
        self.load = self.load.take().map(again);
    }
}

impl State {
    /// Reads what the ledger has.
    pub(crate) fn read(identity: &str) -> Outcome<Self> {
        serde_json::from_str(identity)
            .map_err(|e| Failure::internal(format!("the ledger's state of a change feed cannot be read: {e}")))
    }

    /// The note for the ledger.
    pub(crate) fn note(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// Adds a table, or takes another one for it. Rows that have landed under its name are replaced.
    pub(crate) fn add(&mut self, name: &str, mut table: TableState) {
        let was_read = self.former.remove(name) || self.tables.contains_key(name);
        if let Some(load) = table.load.as_mut() {
            load.replaces |= was_read;
        }
        self.tables.insert(name.to_string(), table);
    }

    /// Leaves out tables that are not read any more.
    pub(crate) fn retain(&mut self, is_read: impl Fn(&str) -> bool) {
        let gone: Vec<String> = self.tables.keys().filter(|name| !is_read(name)).cloned().collect();
        self.tables.retain(|name, _| is_read(name));
        self.former.extend(gone);
    }

    /// The position from which rows of a table are loaded again: those with the keys, or all in the place of those that
    /// landed, where no keys are given. Gives also whether it is all.
    ///
    /// # Errors
    /// Where there is no such table, it is never loaded, or it is being loaded still.
    pub(crate) fn load_again(
        known: &PartitionPosition,
        table: &str,
        keys: &[Vec<String>],
    ) -> Outcome<(PartitionPosition, bool)> {
        let mut state = Self::read(&known.identity)?;
        let found = state.tables.get_mut(table);
        let found = found.ok_or_else(|| Failure::findings(format!("{table} has not been read yet")))?;
        let Some(load) = found.load.as_mut() else {
            return Err(Failure::findings(format!("{table} is read with load = \"never\": its rows are not loaded"))
                .with_help("with load = \"first\" the table is loaded, and can be loaded again"));
        };
        if !load.done {
            return Err(
                Failure::findings(format!("{table} is being loaded")).with_help("`sluice run` continues loading it")
            );
        }
        // Without the last key a load would begin at the first row.
        let is_all = keys.is_empty() || (load.after.is_none() && load.cursor.is_none());
        if is_all {
            let about = load.rows.max(load.about);
            found.restart(about);
            found.load.iter_mut().for_each(|load| load.replaces = true);
        } else {
            load.again.extend_from_slice(keys);
            load.done = false;
        }
        Ok((PartitionPosition { identity: state.note(), ..known.clone() }, is_all))
    }

    /// Has every table that is loaded take the place of what has landed of it.
    pub(crate) fn replace_all(&mut self) {
        self.tables.values_mut().filter_map(|t| t.load.as_mut()).for_each(|load| load.replaces = true);
    }

    /// The tables that are still being loaded.
    pub(crate) fn loading(&self) -> impl Iterator<Item = (&String, &Load)> {
        self.tables.iter().filter_map(|(name, table)| Some((name, table.load.as_ref()?))).filter(|(_, l)| !l.done)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn what_is_noted_is_read_again() {
        let load = Load { after: Some(vec!["P-1".into()]), rows: 7, about: 9, ..Load::default() };
        let table = TableState { id: 4, columns: vec!["id text".into()], load: Some(load), ..TableState::default() };
        let mut state = State { system: "71".into(), slot: "s".into(), ..State::default() };
        state.tables.insert("public.permit".into(), table);
        let again = State::read(&state.note()).unwrap();
        assert_eq!(again, state);
        assert_eq!(again.loading().map(|(name, _)| name.as_str()).collect::<Vec<_>>(), ["public.permit"]);
        assert!(State::read("cluster").is_err());
    }

    #[rstest]
    #[case(&["7"], false, (1, false, true))]
    #[case(&[], true, (0, true, false))]
    fn rows_are_loaded_again_by_their_keys_or_with_their_table(
        #[case] keys: &[&str],
        #[case] is_all: bool,
        #[case] expected: (usize, bool, bool),
    ) {
        let load = Load { after: Some(vec!["9".into()]), rows: 9, done: true, ..Load::default() };
        let table = TableState { load: Some(load), ..TableState::default() };
        let mut state = State::default();
        state.tables.insert("public.permit".into(), table);
        let known = PartitionPosition {
            partition: "log".into(),
            position: sluice_core::event::Position::at(5),
            identity: state.note(),
        };
        let keys: Vec<Vec<String>> = keys.iter().map(|key| vec![(*key).to_string()]).collect();
        let (again, all) = State::load_again(&known, "public.permit", &keys).unwrap();
        assert_eq!((again.position, all), (known.position, is_all));
        let load = State::read(&again.identity).unwrap().tables["public.permit"].load.clone().unwrap();
        assert_eq!(
            (load.again.len(), load.replaces, load.after.is_some(), load.done),
            (expected.0, expected.1, expected.2, false)
        );
        // Not while that is under way, and not for another table.
        assert!(State::load_again(&again, "public.permit", &keys).is_err());
        assert!(State::load_again(&known, "public.berth", &keys).is_err());
    }

    #[test]
    fn a_table_that_comes_back_replaces_the_rows_that_landed_before() {
        let table = || TableState { load: Some(Load::default()), ..TableState::default() };
        let is_replacing = |state: &State, name: &str| state.tables[name].load.as_ref().unwrap().replaces;
        let mut state = State::default();
        state.add("public.permit", table());
        state.add("public.berth", table());
        assert!(!is_replacing(&state, "public.permit"));
        state.retain(|name| name == "public.berth");
        let mut state = State::read(&state.note()).unwrap();
        assert_eq!(state.former.iter().collect::<Vec<_>>(), ["public.permit"]);
        state.add("public.permit", table());
        assert!(
            is_replacing(&state, "public.permit") && !is_replacing(&state, "public.berth") && state.former.is_empty()
        );
        // Another table under the same name.
        state.add("public.berth", table());
        assert!(is_replacing(&state, "public.berth"));
    }
}
