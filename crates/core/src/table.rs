//! Comparing the columns that land with the table that is there.
//!
//! A store's kind describes its table and says how each of our types fits each of its columns; what follows from that,
//! in words and in statements, is decided here, alike for every kind. Nothing is ever dropped or narrowed.

use serde::Serialize;

use crate::columns::OutputColumn;
use crate::limit::Limit;
use crate::names;
use crate::types::SqlType;

/// How values of one of our types fit a column of a store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TypeFit {
    /// Every value lands as it is.
    Whole,
    /// Every value lands or is refused aloud, row by row. Why, in words.
    MayRefuse(String),
    /// Values would land changed. How, in words.
    Loses(String),
    /// Values cannot land.
    Unfit,
}

/// One column of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableColumn {
    /// Its name.
    pub name: String,
    /// Its type as the store spells it.
    pub ty: String,
    /// What its kind judges it by: the type below a domain, say.
    pub base: String,
    /// Whether it takes null.
    pub nullable: bool,
    /// Whether it has a value where none is given: a default, an identity.
    pub filled: bool,
    /// Whether it is computed by the store and cannot be written.
    pub computed: bool,
    /// Of texts, the order by which the store compares them, where it names one.
    pub collation: Option<String>,
}

/// Texts that a store takes for one and the same.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Merges {
    /// Which, in words.
    pub texts: &'static str,
    /// Whether only keys that end in blanks are meant: such rows are refused one by one.
    pub is_rare: bool,
    /// The type of the column that distinguishes them.
    pub remedy: String,
}

/// A table as its store describes it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StoredTable {
    /// The columns in their order.
    pub columns: Vec<TableColumn>,
    /// The columns of each unique index that can decide which row a key means.
    pub keys: Vec<Vec<String>>,
    /// What we are not allowed and need, in words: `insert`.
    pub denied: Vec<String>,
    /// What it is, where rows cannot be written into it: `a view`.
    pub not_a_table: Option<String>,
}

/// What a store says of the place of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Found {
    /// Not even its schema is there.
    NoSchema,
    /// The schema is there, the table is not.
    NoTable,
    /// It is there.
    Table(StoredTable),
}

/// A column that lands, or that a mode adds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// The column.
    pub column: OutputColumn,
    /// Which mode or key adds it, where the pipeline file does not name it.
    pub added_by: Option<&'static str>,
}

/// What a comparison asks of a kind of store.
pub trait SqlDialect: Send + Sync {
    /// A name within a statement.
    fn quote(&self, name: &str) -> String;
    /// The table with its schema within a statement.
    fn table(&self) -> String;
    /// The statement that makes the schema.
    fn create_schema(&self) -> String {
        String::new()
    }
    /// The type of a new column. Columns of a key may want another.
    fn spell(&self, ty: SqlType, in_key: bool) -> String;
    /// How values of a type fit a column.
    fn fit(&self, ty: SqlType, column: &TableColumn) -> TypeFit;
    /// The type of a new column for values of a narrower type; None where it is that of the wider one.
    fn spell_limited(&self, limit: Limit, in_key: bool) -> Option<String> {
        let _ = (limit, in_key);
        None
    }
    /// How values of a narrower type fit a column, where they fit otherwise than those of the wider one.
    fn fit_limited(&self, limit: Limit, column: &TableColumn) -> Option<TypeFit> {
        let _ = (limit, column);
        None
    }
    /// The type of a new column for one that lands.
    fn spell_column(&self, column: &OutputColumn, in_key: bool) -> String {
        let limited = column.limit.and_then(|limit| self.spell_limited(limit, in_key));
        limited.unwrap_or_else(|| self.spell(column.ty, in_key))
    }
    /// How the values of a column that lands fit a column that is there.
    fn fit_column(&self, lands: &OutputColumn, column: &TableColumn) -> TypeFit {
        let limited = lands.limit.and_then(|limit| self.fit_limited(limit, column));
        limited.unwrap_or_else(|| self.fit(lands.ty, column))
    }
    /// Which different texts the store takes for one and the same in a column; None where it distinguishes all.
    fn merges(&self, column: &TableColumn) -> Option<Merges> {
        let _ = column;
        None
    }
    /// The statements that make the table, given its columns as `name type …` and its key.
    fn create(&self, columns: &[String], key: &[String]) -> Vec<String> {
        let mut inner = columns.to_vec();
        if !key.is_empty() {
            let key: Vec<String> = key.iter().map(|k| self.quote(k)).collect();
            inner.push(format!("primary key ({})", key.join(", ")));
        }
        vec![format!("create table {} (\n  {}\n)", self.table(), inner.join(",\n  "))]
    }
    /// A type with what says whether it takes null.
    fn typed(&self, spelled: &str, nullable: bool) -> String {
        if nullable { spelled.to_string() } else { format!("{spelled} not null") }
    }
    /// A type that holds all that a column holds and all values of `ty` besides; None where there is none.
    fn wider(&self, ty: SqlType, column: &TableColumn) -> Option<String> {
        let _ = (ty, column);
        None
    }
    /// The statement that gives a column the type that lands, which fails where a value of it does not allow that. It is
    /// shown, and never run by us. None where the store has none.
    fn by_hand(&self, ty: SqlType, column: &TableColumn) -> Option<String> {
        let _ = (ty, column);
        None
    }
    /// The statement that gives a column another type; None where the store cannot.
    fn retype(&self, column: &TableColumn, ty: &str) -> Option<String> {
        Some(format!("alter table {} alter column {} type {ty}", self.table(), self.quote(&column.name)))
    }
    /// The statement that makes a key unique; None where the store cannot.
    fn index(&self, key: &[String]) -> Option<String> {
        let key: Vec<String> = key.iter().map(|k| self.quote(k)).collect();
        Some(format!("create unique index on {} ({})", self.table(), key.join(", ")))
    }
    /// The statement that takes null into a column; None where the store cannot.
    fn allow_null(&self, name: &str, ty: &str) -> Option<String> {
        let _ = ty;
        Some(format!("alter table {} alter column {} drop not null", self.table(), self.quote(name)))
    }
    /// The statement that grants a right; None where the store has none.
    fn grant(&self, right: &str) -> Option<String> {
        let _ = right;
        None
    }
}

/// Digits and scale of an exact number that holds two others, each given as digits and scale.
pub fn wider_decimal(a: (u32, u32), b: (u32, u32)) -> (u32, u32) {
    let scale = a.1.max(b.1);
    ((a.0 - a.1).max(b.0 - b.1) + scale, scale)
}

/// What is to be said of one column.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// It is right.
    Fits,
    /// It lands, and some rows may be refused.
    MayRefuse,
    /// It is not in the table.
    Missing,
    /// Its type cannot hold what lands.
    Unfit,
    /// Its type would change what lands.
    Loses,
    /// The table wants a value that does not land.
    Unfilled,
    /// The store computes it.
    Computed,
}

impl Verdict {
    /// Whether nothing can run like that.
    pub fn is_error(self) -> bool {
        !matches!(self, Self::Fits | Self::MayRefuse)
    }
}

/// One line of the comparison.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TableLine {
    /// The column.
    pub column: String,
    /// The type that lands, where something does.
    pub lands: Option<String>,
    /// The type that is there, where the column is.
    pub there: Option<String>,
    /// What is to be said.
    pub verdict: Verdict,
    /// In words; empty where all is right.
    pub says: String,
}

/// The whole comparison.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct TableReport {
    /// The table, with its schema.
    pub table: String,
    /// Whether it is there.
    pub exists: bool,
    /// The nearest name of a table that is there, where this one is not.
    pub near: Option<String>,
    /// The columns that land, then those of the table that stay without a value and may not.
    pub lines: Vec<TableLine>,
    /// What is wrong beyond single columns, in words: a key without a unique index, a right that is missing.
    pub wrong: Vec<String>,
    /// The statements that fix it, as far as statements can.
    pub statements: Vec<String>,
    /// What statements would fix it that need another user's rights.
    pub for_an_administrator: Vec<String>,
}

impl TableReport {
    /// Whether nothing can run like that.
    pub fn has_errors(&self) -> bool {
        !self.exists || !self.wrong.is_empty() || self.lines.iter().any(|l| l.verdict.is_error())
    }

    /// Whether the statements only make a table or add columns, so that `create = true` may run them.
    pub fn is_only_growth(&self) -> bool {
        self.wrong.is_empty()
            && self.lines.iter().all(|l| !l.verdict.is_error() || l.verdict == Verdict::Missing)
            && !self.statements.is_empty()
    }

    /// The lines and words that say what is wrong, for a message.
    pub fn difference(&self) -> Vec<String> {
        let mut out = Vec::new();
        if !self.exists && self.wrong.is_empty() {
            let near = self.near.as_ref().map_or(String::new(), |near| format!("; did you mean {near}?"));
            out.push(format!("there is no table {}{near}", self.table));
            return out;
        }
        out.extend(self.wrong.iter().cloned());
        for line in self.lines.iter().filter(|l| l.verdict.is_error()) {
            out.push(format!("{}: {}", line.column, line.says));
        }
        out
    }
}

/// Compares. `rights` are reported by the table; `key` names columns of `wanted`.
pub fn compare(dialect: &dyn SqlDialect, found: &Found, wanted: &[Wanted], key: &[String]) -> TableReport {
    let exists = matches!(found, Found::Table(_));
    let mut report = TableReport { table: dialect.table(), exists, ..TableReport::default() };
    let spell = |w: &Wanted| dialect.spell_column(&w.column, key.contains(&w.column.name));
    let Found::Table(table) = found else {
        let column = |w: &Wanted| {
            let nullable = w.column.nullable && !key.contains(&w.column.name);
            format!("{} {}", dialect.quote(&w.column.name), dialect.typed(&spell(w), nullable))
        };
        report.lines = wanted.iter().map(|w| line(w, None, Verdict::Missing, "not there")).collect();
        if *found == Found::NoSchema {
            report.statements.push(dialect.create_schema());
        }
        report.statements.extend(dialect.create(&wanted.iter().map(column).collect::<Vec<_>>(), key));
        return report;
    };
    if let Some(what) = &table.not_a_table {
        report.wrong.push(format!("{} is {what}, no table that rows can be written into", report.table));
        return report;
    }
    for want in wanted {
        compare_column(dialect, table, want, (&spell(want), key.contains(&want.column.name)), &mut report);
    }
    for column in &table.columns {
        let lands = wanted.iter().any(|w| w.column.name == column.name);
        if !lands && !column.nullable && !column.filled && !column.computed {
            report.lines.push(TableLine {
                column: column.name.clone(),
                lands: None,
                there: Some(column.ty.clone()),
                verdict: Verdict::Unfilled,
                says: "it may not be null, has no default, and nothing lands in it".into(),
            });
            report.statements.extend(dialect.allow_null(&column.name, &column.ty));
        }
    }
    compare_key(dialect, table, key, &mut report);
    for right in &table.denied {
        report.wrong.push(format!("this user may not {right} there"));
        report.for_an_administrator.extend(dialect.grant(right));
    }
    report
}

fn compare_column(
    dialect: &dyn SqlDialect,
    table: &StoredTable,
    want: &Wanted,
    (spelled, in_key): (&str, bool),
    report: &mut TableReport,
) {
    let name = &want.column.name;
    let Some(column) = table.columns.iter().find(|c| c.name == *name) else {
        let free = table.columns.iter().map(|c| c.name.as_str());
        let near = if want.added_by.is_some() { None } else { names::nearest(name, free) };
        let says = match (near, want.added_by) {
            (Some(near), _) => format!("not there; did you mean `{near}`?"),
            (None, Some(by)) => format!("not there; {by} wants it"),
            (None, None) => "not there".into(),
        };
        report.lines.push(line(want, None, Verdict::Missing, &says));
        // A column that is added later has no value in the rows that are there.
        report.statements.push(format!(
            "alter table {} add column {} {}",
            dialect.table(),
            dialect.quote(name),
            dialect.typed(spelled, true)
        ));
        return;
    };
    if column.computed {
        report.lines.push(line(
            want,
            Some(column),
            Verdict::Computed,
            "the store computes it; take it out of `columns`",
        ));
        return;
    }
    if let Some(merges) = dialect.merges(column).filter(|_| in_key && want.column.ty == SqlType::Text) {
        let order = column.collation.as_deref().unwrap_or_default();
        let says = match merges.is_rare {
            true => format!("keys that end in blanks are refused: {order} takes them for the same without"),
            false => format!("texts that differ in {} alone are one key by {order}", merges.texts),
        };
        let verdict = if merges.is_rare { Verdict::MayRefuse } else { Verdict::Loses };
        report.lines.push(line(want, Some(column), verdict, &says));
        report.statements.extend(dialect.retype(column, &merges.remedy).filter(|_| !merges.is_rare));
        return;
    }
    let null = want.column.nullable && !column.nullable;
    let (verdict, says) = match dialect.fit_column(&want.column, column) {
        TypeFit::Whole if null => (Verdict::MayRefuse, "rows without a value are refused".to_string()),
        TypeFit::Whole => (Verdict::Fits, String::new()),
        TypeFit::MayRefuse(why) if null => (Verdict::MayRefuse, format!("{why}; rows without a value are refused")),
        TypeFit::MayRefuse(why) => (Verdict::MayRefuse, why),
        TypeFit::Loses(how) => (Verdict::Loses, how),
        TypeFit::Unfit => {
            let says = format!("{} does not fit into {}", want.column.type_shown(), column.ty);
            let has_wider = dialect.wider(want.column.ty, column).is_some();
            match dialect.by_hand(want.column.ty, column).filter(|_| !has_wider) {
                Some(statement) => (Verdict::Unfit, format!("{says}; by hand, once its values allow it: {statement};")),
                None => (Verdict::Unfit, says),
            }
        }
    };
    if matches!(verdict, Verdict::Loses | Verdict::Unfit) {
        let wider = dialect.wider(want.column.ty, column);
        report.statements.extend(wider.and_then(|ty| dialect.retype(column, &ty)));
    }
    report.lines.push(line(want, Some(column), verdict, &says));
}

fn compare_key(dialect: &dyn SqlDialect, table: &StoredTable, key: &[String], report: &mut TableReport) {
    let has = |unique: &Vec<String>| unique.len() == key.len() && key.iter().all(|k| unique.contains(k));
    if key.is_empty() || table.keys.iter().any(has) {
        return;
    }
    let Some(statement) = dialect.index(key) else { return };
    report.wrong.push(format!("the key ({}) has no unique index", key.join(", ")));
    report.statements.push(statement);
}

fn line(want: &Wanted, there: Option<&TableColumn>, verdict: Verdict, says: &str) -> TableLine {
    let null = |nullable: bool| if nullable { "" } else { " not null" };
    TableLine {
        column: want.column.name.clone(),
        lands: Some(format!("{}{}", want.column.type_shown(), null(want.column.nullable))),
        there: there.map(|c| format!("{}{}", c.ty, null(c.nullable))),
        verdict,
        says: says.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    struct Plain;

    impl SqlDialect for Plain {
        fn quote(&self, name: &str) -> String {
            format!("\"{name}\"")
        }
        fn table(&self) -> String {
            "toll.passage".into()
        }
        fn spell(&self, ty: SqlType, _: bool) -> String {
            ty.to_string()
        }
        fn wider(&self, ty: SqlType, column: &TableColumn) -> Option<String> {
            (column.ty == "integer").then(|| ty.to_string())
        }
        fn fit(&self, ty: SqlType, column: &TableColumn) -> TypeFit {
            match (ty, column.ty.as_str()) {
                (a, b) if a.to_string() == b => TypeFit::Whole,
                (SqlType::Bigint, "integer") => TypeFit::Loses("64 bits into 32".into()),
                (SqlType::Text, "varchar(3)") => TypeFit::MayRefuse("longer texts are refused".into()),
                _ => TypeFit::Unfit,
            }
        }
        fn grant(&self, right: &str) -> Option<String> {
            Some(format!("grant {right} on {} to us", self.table()))
        }
    }

    fn want(name: &str, ty: SqlType, nullable: bool) -> Wanted {
        Wanted { column: OutputColumn { name: name.into(), ty, nullable, limit: None }, added_by: None }
    }

    fn column(name: &str, ty: &str) -> TableColumn {
        TableColumn {
            name: name.into(),
            ty: ty.into(),
            base: ty.into(),
            nullable: true,
            filled: false,
            computed: false,
            collation: None,
        }
    }

    fn table(columns: Vec<TableColumn>) -> StoredTable {
        StoredTable { columns, ..StoredTable::default() }
    }

    #[test]
    fn a_missing_table_is_made_with_its_key() {
        let wanted = [want("id", SqlType::Text, true), want("n", SqlType::Bigint, true)];
        let report = compare(&Plain, &Found::NoTable, &wanted, &["id".into()]);
        assert_eq!(
            report.statements,
            ["create table toll.passage (\n  \"id\" text not null,\n  \"n\" bigint,\n  primary key (\"id\")\n)"]
        );
        assert!(report.has_errors() && report.is_only_growth());
        assert_eq!(report.difference(), ["there is no table toll.passage"]);
    }

    #[test]
    fn a_wider_number_holds_both() {
        assert_eq!(wider_decimal((10, 1), (6, 2)), (11, 2));
        assert_eq!(wider_decimal((6, 2), (6, 2)), (6, 2));
    }

    #[test]
    fn what_is_alike_has_nothing_to_say() {
        let wanted = [want("id", SqlType::Text, true)];
        let report =
            compare(&Plain, &Found::Table(table(vec![column("id", "text"), column("more", "jsonb")])), &wanted, &[]);
        assert!(!report.has_errors() && report.statements.is_empty());
        assert_eq!(report.lines.len(), 1);
    }

    #[rstest]
    #[case(SqlType::Bigint, "integer", Verdict::Loses, "64 bits into 32", "alter column \"n\" type bigint")]
    #[case(SqlType::Text, "integer", Verdict::Unfit, "text does not fit into integer", "")]
    #[case(SqlType::Text, "varchar(3)", Verdict::MayRefuse, "longer texts are refused", "")]
    fn types_are_judged(
        #[case] ours: SqlType,
        #[case] theirs: &str,
        #[case] verdict: Verdict,
        #[case] says: &str,
        #[case] statement: &str,
    ) {
        let report = compare(&Plain, &Found::Table(table(vec![column("n", theirs)])), &[want("n", ours, true)], &[]);
        assert_eq!((report.lines[0].verdict, report.lines[0].says.as_str()), (verdict, says));
        assert_eq!(report.has_errors(), verdict.is_error());
        assert!(report.statements.join(";").contains(statement));
        assert!(!report.is_only_growth(), "a type is never changed without being asked");
    }

    #[test]
    fn a_new_column_is_added_nullable_and_a_mistyped_one_has_its_neighbour() {
        let there = table(vec![column("lock_id", "text")]);
        let wanted = [want("lock_id", SqlType::Text, false), want("draught", SqlType::Double, false)];
        let report = compare(&Plain, &Found::Table(there.clone()), &wanted, &[]);
        assert_eq!(report.statements, ["alter table toll.passage add column \"draught\" double precision"]);
        assert!(report.is_only_growth());
        let report = compare(&Plain, &Found::Table(there.clone()), &[want("lock_idd", SqlType::Text, false)], &[]);
        assert_eq!(report.lines[0].says, "not there; did you mean `lock_id`?");
    }

    #[test]
    fn a_column_that_stays_empty_and_may_not_is_named() {
        let strict = TableColumn { nullable: false, ..column("berth", "text") };
        let there = table(vec![column("id", "text"), strict.clone()]);
        let report = compare(&Plain, &Found::Table(there.clone()), &[want("id", SqlType::Text, true)], &[]);
        assert_eq!((report.lines[1].verdict, report.lines[1].column.as_str()), (Verdict::Unfilled, "berth"));
        assert!(report.statements[0].ends_with("\"berth\" drop not null"));
        for fine in [TableColumn { filled: true, ..strict.clone() }, TableColumn { computed: true, ..strict }] {
            let there = table(vec![column("id", "text"), fine]);
            assert!(
                !compare(&Plain, &Found::Table(there.clone()), &[want("id", SqlType::Text, true)], &[]).has_errors()
            );
        }
    }

    #[test]
    fn a_key_wants_a_unique_index_of_just_its_columns() {
        let wanted = [want("a", SqlType::Text, false), want("b", SqlType::Text, false)];
        let key = ["a".to_string(), "b".to_string()];
        let mut there = table(vec![column("a", "text"), column("b", "text")]);
        there.keys = vec![vec!["a".into()]];
        let report = compare(&Plain, &Found::Table(there.clone()), &wanted, &key);
        assert_eq!(report.wrong, ["the key (a, b) has no unique index"]);
        assert!(report.has_errors() && !report.is_only_growth());
        there.keys.push(vec!["b".into(), "a".into()]);
        assert!(!compare(&Plain, &Found::Table(there.clone()), &wanted, &key).has_errors());
    }

    #[test]
    fn rights_views_and_computed_columns_stop() {
        let mut there = table(vec![column("a", "text")]);
        there.denied = vec!["insert".into()];
        let report = compare(&Plain, &Found::Table(there.clone()), &[want("a", SqlType::Text, true)], &[]);
        assert_eq!(report.difference(), ["this user may not insert there"]);
        assert_eq!(report.for_an_administrator, ["grant insert on toll.passage to us"]);
        there.not_a_table = Some("a view".into());
        assert!(compare(&Plain, &Found::Table(there.clone()), &[], &[]).difference()[0].contains("is a view"));
        let computed = table(vec![TableColumn { computed: true, ..column("a", "text") }]);
        let report = compare(&Plain, &Found::Table(computed), &[want("a", SqlType::Text, true)], &[]);
        assert_eq!(report.lines[0].verdict, Verdict::Computed);
    }

    #[test]
    fn rows_without_a_value_are_foreseen() {
        let there = table(vec![TableColumn { nullable: false, ..column("a", "text") }]);
        let report = compare(&Plain, &Found::Table(there.clone()), &[want("a", SqlType::Text, true)], &[]);
        assert_eq!(report.lines[0].verdict, Verdict::MayRefuse);
        assert!(!report.has_errors());
    }
}
