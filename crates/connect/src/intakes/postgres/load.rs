//! Reads the rows that a table has already, some at a time and without a long transaction.
//!
//! Each portion is one short query by the key. It comes with the snapshot under which it was asked: which transactions
//! it saw, and a place in the log before which all of those were committed. The reader lets the log run to that place and
//! then takes the portion's rows in, less those whose keys were changed by transactions that the snapshot did not see.
//! Compared are the numbers of transactions, not places in the log, since a commit is in the log a little before others
//! see it.

use std::collections::HashSet;
use std::time::Duration;

use futures_util::TryStreamExt as _;
use sluice_core::failure::{Failure, Outcome};
use tokio_postgres::error::SqlState;

use super::applier::Recent;
use super::catalog::{Catalog, SourceColumn, SourceTable, parse_lsn, spelling_of, wanted};
use crate::databases::postgres::{literal, quote};
use crate::databases::wait;
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::json::member_name;
use crate::intakes::feed::loader::{LoadTask, Outdated, Pace, Portion, Sink, dropped};
use crate::intakes::feed::rows::RowWriter;

/// Which transactions a query saw.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct PortionSnapshot {
    /// All before this one had ended.
    min: u64,
    /// This one and all after it had not begun.
    max: u64,
    /// Those between that had not ended.
    open: Vec<u64>,
}

impl PortionSnapshot {
    /// Reads `min:max:open,…`.
    fn parse(text: &str) -> Option<Self> {
        let mut parts = text.split(':');
        let (min, max) = (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
        let open = parts.next().unwrap_or_default();
        let open = open.split(',').filter(|o| !o.is_empty()).map(|o| o.parse().ok()).collect::<Option<_>>()?;
        Some(Self { min, max, open })
    }

    /// Whether it saw a transaction. The log names only the lower half of its number.
    pub(super) fn sees(&self, xid: u32) -> bool {
        // The number nearest to the snapshot's that ends in these digits.
        let base = self.max & !0xffff_ffff;
        let candidates = [base.checked_sub(1 << 32), Some(base), base.checked_add(1 << 32)];
        let full = candidates.into_iter().flatten().map(|b| b | u64::from(xid)).min_by_key(|n| n.abs_diff(self.max));
        let full = full.unwrap_or(u64::from(xid));
        full < self.min || (full < self.max && !self.open.contains(&full))
    }
}

/// What is known of a portion beside its rows.
pub(super) struct Detail {
    pub snapshot: PortionSnapshot,
    /// Whether they are rows that were read before, by their keys.
    pub again: bool,
}

impl Detail {
    /// The rows whose keys were changed by transactions that the query did not see.
    pub(super) fn outdated<'r>(&self, recent: &'r [Recent]) -> Outdated<'r> {
        let later = recent.iter().filter(|r| !self.snapshot.sees(r.xid));
        // No key: the table was emptied, and with it all that the query saw.
        let keys: Option<HashSet<&[u8]>> = later.map(|change| change.key.as_deref()).collect();
        keys.map_or(Outdated::All, Outdated::Keys)
    }
}

/// Reads a table. With `seeing` a transaction must have ended for others too.
pub(super) fn load(task: &mut LoadTask, seeing: Option<u32>, sink: &Sink<Detail>) -> Outcome<()> {
    let catalog = Catalog::open(&task.settings)?;
    let name = &task.feed.name;
    let mut table = there(&catalog, name)?;
    let types = table_types(&table, &task.feed.key);
    let limit = task.settings.options.integer("load_rows").max(1);
    let mut pace = Pace::of(&task.settings);
    while !sink.is_stopped() {
        let columns = wanted(&table, task.feed.contract.as_deref());
        let query = query(&table.quoted(), &columns, &task.feed.key, &types, task.load.after.as_ref(), limit);
        let portion = match ask(&catalog, (task.table, &task.feed), &columns, &query, limit) {
            Ok(portion) => portion,
            Err(Broken::Reshaped) => {
                table = reshaped(&catalog, name)?;
                continue;
            }
            Err(Broken::Failed(failure)) => return Err(failure),
        };
        if seeing.is_some_and(|xid| !portion.detail.snapshot.sees(xid)) {
            std::thread::sleep(Duration::from_millis(20));
            continue;
        }
        task.load.after = portion.rows.last_key().or(task.load.after.take());
        let (rows, done) = (portion.rows.len(), portion.done);
        if !sink.give(portion) || done {
            return Ok(());
        }
        pace.wait(rows, sink);
    }
    Ok(())
}

/// Reads rows by their keys.
pub(super) fn load_again(task: &LoadTask, keys: &[Vec<String>], sink: &Sink<Detail>) -> Outcome<()> {
    let catalog = Catalog::open(&task.settings)?;
    let name = &task.feed.name;
    let mut table = there(&catalog, name)?;
    let types = table_types(&table, &task.feed.key);
    let one = |key: &Vec<String>| {
        let parts: Vec<String> = key.iter().zip(&types).map(|(v, ty)| format!("{}::{ty}", literal(v))).collect();
        format!("({})", parts.join(", "))
    };
    let keys: Vec<String> = keys.iter().map(one).collect();
    let list = |names: &mut dyn Iterator<Item = &String>| names.map(|n| quote(n)).collect::<Vec<_>>().join(", ");
    while !sink.is_stopped() {
        let columns = wanted(&table, task.feed.contract.as_deref());
        let query = format!(
            "copy (select {} from {} where ({}) in ({})) to stdout",
            list(&mut columns.iter().map(|c| &c.name)),
            table.quoted(),
            list(&mut task.feed.key.iter()),
            keys.join(", ")
        );
        match ask(&catalog, (task.table, &task.feed), &columns, &query, u64::MAX) {
            Ok(mut portion) => {
                portion.detail.again = true;
                portion.done = false;
                sink.give(portion);
                return Ok(());
            }
            Err(Broken::Reshaped) => table = reshaped(&catalog, name)?,
            Err(Broken::Failed(failure)) => return Err(failure),
        }
    }
    Ok(())
}

/// The table as it is now.
fn there(catalog: &Catalog, name: &str) -> Outcome<SourceTable> {
    catalog.table(name)?.ok_or_else(|| dropped(name))
}

/// The table after its columns changed between looking at them and reading them.
fn reshaped(catalog: &Catalog, name: &str) -> Outcome<SourceTable> {
    catalog.run("rollback")?;
    std::thread::sleep(Duration::from_millis(20));
    there(catalog, name)
}

/// The types of the key's columns.
fn table_types(table: &SourceTable, key: &[String]) -> Vec<String> {
    key.iter().map(|k| table.column(k).map_or_else(|| "text".to_string(), |c| c.ty.clone())).collect()
}

/// The query for the rows after a key, in the order of keys.
fn query(
    table: &str,
    columns: &[&SourceColumn],
    key: &[String],
    types: &[String],
    after: Option<&Vec<String>>,
    limit: u64,
) -> String {
    let list = |names: &mut dyn Iterator<Item = &String>| names.map(|n| quote(n)).collect::<Vec<_>>().join(", ");
    let keys = list(&mut key.iter());
    let beyond = after.map_or(String::new(), |after| {
        let values: Vec<String> = after.iter().zip(types).map(|(v, ty)| format!("{}::{ty}", literal(v))).collect();
        format!(" where ({keys}) > ({})", values.join(", "))
    });
    let names = list(&mut columns.iter().map(|c| &c.name));
    format!("copy (select {names} from {table}{beyond} order by {keys} limit {limit}) to stdout")
}

/// Some rows of a table, for looking.
pub(super) fn first_rows(catalog: &Catalog, number: u32, feed: &FeedTable, limit: u64) -> Outcome<Portion<Detail>> {
    let table = catalog.table(&feed.name)?;
    let table = table.ok_or_else(|| Failure::unreachable(format!("there is no table {}", feed.name)))?;
    let columns = wanted(&table, None);
    let names: Vec<String> = columns.iter().map(|c| quote(&c.name)).collect();
    let query = format!("copy (select {} from {} limit {limit}) to stdout", names.join(", "), table.quoted());
    ask(catalog, (number, feed), &columns, &query, limit).map_err(|broken| broken.failure(catalog))
}

/// Why rows could not be read.
pub(super) enum Broken {
    /// A column is not there that was there a moment before.
    Reshaped,
    /// Anything else.
    Failed(Failure),
}

impl From<Failure> for Broken {
    fn from(failure: Failure) -> Self {
        Self::Failed(failure)
    }
}

impl Broken {
    /// As the failure of somebody who does not look again.
    pub(super) fn failure(self, catalog: &Catalog) -> Failure {
        match self {
            Self::Reshaped => {
                Failure::away(format!("{}: the columns of a table changed while it was read", catalog.shown))
            }
            Self::Failed(failure) => failure,
        }
    }
}

/// Begins a transaction that sees the tables as they are; gives its snapshot, and a place in the log before which all that
/// it sees was committed.
pub(super) fn begin(catalog: &Catalog) -> Outcome<(PortionSnapshot, u64)> {
    // One statement for both: the place is asked for after the snapshot was taken.
    let answer = catalog.rows(
        "begin isolation level repeatable read read only; select pg_current_snapshot(), pg_current_wal_insert_lsn()",
    )?;
    let text = |i: usize| answer.first().and_then(|row| row.get(i).cloned().flatten()).unwrap_or_default();
    let found = PortionSnapshot::parse(&text(0)).zip(parse_lsn(&text(1)));
    found.ok_or_else(|| Failure::internal("the server does not report its snapshot"))
}

fn ask(
    catalog: &Catalog,
    (table, feed): (u32, &FeedTable),
    columns: &[&SourceColumn],
    query: &str,
    limit: u64,
) -> Result<Portion<Detail>, Broken> {
    let (snapshot, mark) = begin(catalog)?;
    let mut writer = writer(columns, feed, true);
    copy_rows(catalog, query, &mut writer, |_| Ok(()))?;
    catalog.run("commit")?;
    let done = writer.rows.len() < limit;
    Ok(Portion { table, rows: writer.rows, mark, done, detail: Detail { snapshot, again: false } })
}

/// A writer of rows with these columns.
pub(super) fn writer(columns: &[&SourceColumn], feed: &FeedTable, keyed: bool) -> RowWriter {
    let member = |c: &&SourceColumn| (member_name(&c.name), spelling_of(&c.ty));
    let place = |k: &String| columns.iter().position(|c| c.name == *k);
    let key = feed.key.iter().filter(|_| keyed).filter_map(place).collect();
    let missing = feed.missing(columns.iter().map(|c| c.name.as_str()));
    RowWriter::new(columns.iter().map(member).collect(), key).with_missing(missing)
}

/// Writes the rows of a query; `each` is called after every part of them.
pub(super) fn copy_rows(
    catalog: &Catalog,
    query: &str,
    writer: &mut RowWriter,
    mut each: impl FnMut(&mut RowWriter) -> Outcome<()>,
) -> Result<(), Broken> {
    let broken = |e: &tokio_postgres::Error| match e.code() {
        Some(code) if *code == SqlState::UNDEFINED_COLUMN => Broken::Reshaped,
        _ => Broken::Failed(catalog.failed(e)),
    };
    wait(async {
        let rows = catalog.in_time(catalog.client().copy_out(query), |e| broken(&e)).await?;
        let mut rows = std::pin::pin!(rows);
        while let Some(part) = catalog.in_time(rows.try_next(), |e| broken(&e)).await? {
            lines(&part).for_each(|one| line(writer, one));
            each(writer)?;
        }
        Ok(())
    })
}

/// The lines of a part, each of which is a row: an empty one has a single empty text.
fn lines(part: &[u8]) -> impl Iterator<Item = &[u8]> {
    part.strip_suffix(b"\n").unwrap_or(part).split(|b| *b == b'\n')
}

/// Reads lines of COPY's text form.
fn line(writer: &mut RowWriter, line: &[u8]) {
    let mut raws = line.split(|b| *b == b'\t');
    writer.row(|cell| match raws.next() {
        None | Some(b"\\N") => *cell = None,
        Some(raw) => {
            let text = cell.get_or_insert_default();
            text.clear();
            unescape(raw, text);
        }
    });
}

/// Takes the escapes of COPY's text form out.
fn unescape(raw: &[u8], out: &mut Vec<u8>) {
    let Some(first) = memchr::memchr(b'\\', raw) else { return out.extend_from_slice(raw) };
    out.extend_from_slice(&raw[..first]);
    let mut rest = &raw[first..];
    while let Some((byte, after)) = rest.split_first() {
        rest = after;
        if *byte != b'\\' {
            out.push(*byte);
            continue;
        }
        let Some((escaped, after)) = rest.split_first() else { return };
        rest = after;
        out.push(match escaped {
            b'b' => 8,
            b'f' => 12,
            b'n' => b'\n',
            b'r' => b'\r',
            b't' => b'\t',
            b'v' => 11,
            other => *other,
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::intakes::feed::json::Spelling;
    use rstest::rstest;

    #[rstest]
    #[case("a\tb\nc\td\n", &["a\tb", "c\td"])]
    #[case("\n", &[""])]
    #[case("a\n\n", &["a", ""])]
    fn every_line_is_a_row(#[case] part: &str, #[case] expected: &[&str]) {
        let found: Vec<_> = lines(part.as_bytes()).map(|line| std::str::from_utf8(line).unwrap()).collect();
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case("100:110:103,105", 99, true)]
    #[case("100:110:103,105", 103, false)]
    #[case("100:110:103,105", 104, true)]
    #[case("100:110:103,105", 110, false)]
    #[case("100:100:", 100, false)]
    // Numbers beyond 32 bits: the log names their lower half.
    #[case("4294967300:4294967310:", 2, true)]
    #[case("4294967300:4294967310:", 4_294_967_290, true)]
    #[case("4294967290:4294967294:", 3, false)]
    fn a_snapshot_sees_what_had_ended(#[case] snapshot: &str, #[case] xid: u32, #[case] expected: bool) {
        assert_eq!(PortionSnapshot::parse(snapshot).unwrap().sees(xid), expected);
    }

    #[test]
    fn lines_become_objects_with_their_keys() {
        let columns = vec![
            (member_name("id"), Spelling::Number),
            (member_name("note"), Spelling::Text),
            (member_name("open"), Spelling::Truth),
        ];
        let mut writer = RowWriter::new(columns, vec![0]);
        line(&mut writer, b"7\ta\\tb\\\\N\tt");
        line(&mut writer, b"8\t\\N\t\\N");
        let text = |row: usize| String::from_utf8(writer.rows.object(row).to_vec()).unwrap();
        assert_eq!(text(0), r#"{"id":7,"note":"a\tb\\N","open":true}"#);
        assert_eq!(text(1), r#"{"id":8,"note":null,"open":null}"#);
        assert_eq!(writer.rows.key_json(0), b"{\"id\":7}");
        assert_eq!(writer.rows.last_key(), Some(vec!["8".to_string()]));
    }

    #[test]
    fn the_question_goes_on_after_a_key() {
        let column = |name: &str| SourceColumn {
            name: name.into(),
            ty: "integer".into(),
            signature: String::new(),
            may_be_apart: false,
            is_computed: false,
            is_filled: false,
        };
        let (a, b) = (column("a"), column("b"));
        let types = ["integer".to_string(), "text".to_string()];
        let after = vec!["1".to_string(), "x'y".into()];
        assert_eq!(
            query("t", &[&a, &b], &["a".into(), "b".into()], &types, Some(&after), 5),
            "copy (select \"a\", \"b\" from t where (\"a\", \"b\") > ('1'::integer, 'x''y'::text) order by \"a\", \"b\" limit 5) \
             to stdout"
        );
    }

    #[test]
    fn rows_that_changed_unseen_are_outdated() {
        let snapshot = PortionSnapshot::parse("100:110:105").unwrap();
        let detail = Detail { snapshot, again: false };
        let change = |xid, key: &str| Recent { xid, key: Some(key.as_bytes().to_vec()) };
        let recent = [change(99, "a"), change(105, "b"), change(111, "c")];
        let keys = |keys: &[&'static str]| Outdated::Keys(keys.iter().map(|k| k.as_bytes()).collect());
        assert_eq!(detail.outdated(&recent), keys(&["b", "c"]));
        assert_eq!(detail.outdated(&[Recent { xid: 120, key: None }]), Outdated::All);
        assert_eq!(detail.outdated(&[Recent { xid: 99, key: None }]), keys(&[]));
    }
}
