//! Where a load stands: the key of the last row, part by part, spelled so that it is compared in the order of its index.
//!
//! A number is written as one, a text as its bytes with the column's own character set and order. Nothing of a value gets
//! into a statement but digits, hexadecimal digits and the few characters of moments and addresses.

use super::catalog::{MariadbColumn, MariadbTable};
use crate::databases::mariadb::quote;

/// A column of the key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct KeyColumn {
    name: String,
    form: KeyForm,
}

/// How a value is asked for, and written into a query.
#[derive(Clone, Debug, PartialEq, Eq)]
enum KeyForm {
    /// A whole number; enumerations and sets stand in the index as the numbers of their words.
    WholeTableState,
    Decimal,
    Double,
    /// Its bytes, in a character set and an order.
    Text(String, String),
    Bytes,
    /// A moment or an address, as the server spells it.
    Plain,
}

impl KeyColumn {
    pub(super) fn of(column: &MariadbColumn) -> Self {
        let form = match (column.base.as_str(), &column.characters, &column.order) {
            ("tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "bit" | "year" | "enum" | "set", ..) => {
                KeyForm::WholeTableState
            }
            ("decimal", ..) => KeyForm::Decimal,
            ("float" | "double", ..) => KeyForm::Double,
            (_, Some(set), Some(order)) if is_word(set) && is_word(order) => KeyForm::Text(set.clone(), order.clone()),
            ("date" | "datetime" | "timestamp" | "time" | "uuid" | "inet4" | "inet6", ..) => KeyForm::Plain,
            _ => KeyForm::Bytes,
        };
        Self { name: quote(&column.name), form }
    }

    /// Its name in quotes.
    pub(super) fn name(&self) -> &str {
        &self.name
    }

    /// The expression that gives the value.
    pub(super) fn ask(&self) -> String {
        let name = &self.name;
        match self.form {
            KeyForm::WholeTableState => format!("{name} + 0"),
            KeyForm::Decimal | KeyForm::Plain => name.clone(),
            KeyForm::Double => format!("cast({name} as double)"),
            KeyForm::Text(..) | KeyForm::Bytes => format!("hex({name})"),
        }
    }

    /// The value as it was given, in a query; None for one that was never given so.
    fn write(&self, value: &str) -> Option<String> {
        let only =
            |allowed: &str| !value.is_empty() && value.chars().all(|c| c.is_ascii_digit() || allowed.contains(c));
        match &self.form {
            KeyForm::WholeTableState | KeyForm::Decimal => only("-.").then(|| value.to_string()),
            // With an exponent it is not a decimal, which would be compared otherwise.
            KeyForm::Double => {
                only("-+.e").then(|| if value.contains('e') { value.to_string() } else { format!("{value}e0") })
            }
            KeyForm::Text(set, order) => {
                is_hexadecimal(value).then(|| format!("convert(x'{value}' using {set}) collate {order}"))
            }
            KeyForm::Bytes => is_hexadecimal(value).then(|| format!("x'{value}'")),
            KeyForm::Plain => only("-:. abcdef").then(|| format!("'{value}'")),
        }
    }
}

fn is_word(text: &str) -> bool {
    !text.is_empty() && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
}

fn is_hexadecimal(text: &str) -> bool {
    text.len().is_multiple_of(2) && text.chars().all(|c| c.is_ascii_hexdigit())
}

/// The columns of a table's key.
pub(super) fn key_columns(table: &MariadbTable, key: &[String]) -> Vec<KeyColumn> {
    key.iter().filter_map(|name| table.column(name)).map(KeyColumn::of).collect()
}

/// The condition for rows after a key: of the first part equal and the rest after, or the first part after. None where the
/// key was spelled otherwise, for another type of a column.
pub(super) fn beyond(key: &[KeyColumn], after: &[String]) -> Option<String> {
    if key.len() != after.len() || key.is_empty() {
        return None;
    }
    let values: Vec<String> =
        key.iter().zip(after).map(|(column, value)| column.write(value)).collect::<Option<_>>()?;
    let mut any = Vec::new();
    for place in 0..key.len() {
        let equal = (0..place).map(|i| format!("{} = {}", key[i].name, values[i]));
        let greater = std::iter::once(format!("{} > {}", key[place].name, values[place]));
        any.push(equal.chain(greater).collect::<Vec<_>>().join(" and "));
    }
    // The first part bounds the rows that are looked at.
    Some(format!(" where {} >= {} and (({}))", key[0].name, values[0], any.join(") or (")))
}

/// The keys of some rows, one after the other.
#[derive(Debug, Default)]
pub(super) struct Cursors {
    bytes: String,
    /// Where each part ends.
    ends: Vec<usize>,
    /// Parts of a key.
    width: usize,
}

impl Cursors {
    pub(super) fn new(width: usize) -> Self {
        Self { width, ..Self::default() }
    }

    /// Adds a part; the parts of a row come one after the other.
    pub(super) fn add(&mut self, part: &[u8]) {
        self.bytes.push_str(&String::from_utf8_lossy(part));
        self.ends.push(self.bytes.len());
    }

    /// The key of a row.
    pub(super) fn get(&self, row: usize) -> Option<Vec<String>> {
        let parts = row * self.width..(row + 1) * self.width;
        let start = |part: usize| part.checked_sub(1).map_or(0, |before| self.ends[before]);
        let all = self.width > 0 && parts.end <= self.ends.len();
        all.then(|| parts.map(|part| self.bytes[start(part)..self.ends[part]].to_string()).collect())
    }

    /// The key of the last row.
    pub(super) fn last(&self) -> Option<Vec<String>> {
        self.ends.len().checked_div(self.width)?.checked_sub(1).and_then(|last| self.get(last))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn column(name: &str, base: &str, set: Option<&str>) -> KeyColumn {
        KeyColumn::of(&MariadbColumn {
            name: name.into(),
            base: base.into(),
            ty: base.into(),
            characters: set.map(str::to_string),
            order: set.map(|set| format!("{set}_bin")),
            ..MariadbColumn::default()
        })
    }

    #[test]
    fn the_rows_after_a_key_of_two_parts() {
        let key = [column("a", "enum", Some("latin1")), column("b`", "varchar", Some("utf8mb4"))];
        let asked: Vec<String> = key.iter().map(KeyColumn::ask).collect();
        assert_eq!(asked, ["`a` + 0", "hex(`b```)"]);
        let after = ["2".to_string(), "5C27".into()];
        assert_eq!(
            beyond(&key, &after).unwrap(),
            " where `a` >= 2 and ((`a` > 2) or (`a` = 2 and `b``` > convert(x'5C27' using utf8mb4) collate utf8mb4_bin))"
        );
        assert_eq!(beyond(&key, &after[..1]), None);
    }

    #[rstest]
    #[case("int", "-7", Some("-7"))]
    #[case("decimal", "12.50", Some("12.50"))]
    #[case("double", "1.5", Some("1.5e0"))]
    #[case("double", "-1e20", Some("-1e20"))]
    #[case("varbinary", "00FF", Some("x'00FF'"))]
    #[case("varbinary", "", Some("x''"))]
    #[case("datetime", "2026-11-28 07:00:00.5", Some("'2026-11-28 07:00:00.5'"))]
    #[case("uuid", "12345678-1234-1abc-8def-0123456789ab", Some("'12345678-1234-1abc-8def-0123456789ab'"))]
    #[case("int", "1 or 1=1", None)]
    #[case("varbinary", "0' or 1=0; drop table secret; -- ", None)]
    #[case("datetime", "2026'", None)]
    #[case("int", "", None)]
    fn nothing_but_a_value_gets_into_a_question(
        #[case] base: &str,
        #[case] value: &str,
        #[case] written: Option<&str>,
    ) {
        assert_eq!(column("k", base, None).write(value).as_deref(), written);
    }

    #[test]
    fn keys_of_rows_are_kept_apart() {
        let mut cursors = Cursors::new(2);
        [&b"1"[..], b"", b"22", b"x"].iter().for_each(|part| cursors.add(part));
        assert_eq!(cursors.get(0).unwrap(), ["1", ""]);
        assert_eq!(cursors.last().unwrap(), ["22", "x"]);
        assert_eq!(cursors.get(2), None);
        assert_eq!(Cursors::new(1).last(), None);
    }
}
