//! What statements in the log mean for tables: it reports them as they were written.

use super::words::{Modes, Word, words};

/// What a statement does to tables, each with its database.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Statement {
    /// They were truncated.
    pub emptied: Vec<String>,
    /// They were dropped.
    pub dropped: Vec<String>,
    /// Databases that were dropped with all of their tables.
    pub databases: Vec<String>,
    /// They are not there under their names any more: dropped and renamed ones.
    pub lost: Vec<String>,
    /// Their rows are others now, which the log does not tell: they are to be read again.
    pub replaced: Vec<String>,
    /// Their primary keys may be others.
    pub keyed: Vec<String>,
    /// It changes rows, or may: the databases that it could touch.
    pub touches: Vec<String>,
}

/// Statements that change no rows of tables.
const HARMLESS: &[&str] = &[
    "analyze",
    "binlog",
    "cache",
    "change",
    "check",
    "checksum",
    "deallocate",
    "describe",
    "do",
    "explain",
    "flush",
    "get",
    "grant",
    "help",
    "install",
    "kill",
    "lock",
    "optimize",
    "purge",
    "release",
    "reset",
    "resignal",
    "revoke",
    "set",
    "show",
    "shutdown",
    "signal",
    "start",
    "stop",
    "uninstall",
    "unlock",
    "use",
];

/// Reads a statement. `database` is where names without one stand.
pub(super) fn read(text: &str, database: &str, modes: Modes) -> Statement {
    let words = words(text, modes);
    let mut said = StatementReader { rest: &words, database, said: Statement::default() };
    said.statement();
    said.said
}

/// The name of a savepoint: what follows the words that set it or go back to it.
pub(super) fn savepoint(text: &str, modes: Modes) -> Option<(bool, String)> {
    let words = words(text, modes);
    let last = || words.last().and_then(Word::name).map(str::to_lowercase);
    match words.as_slice() {
        [first, _] if first.is("savepoint") => last().map(|name| (false, name)),
        [first, .., before, _] if first.is("rollback") && (before.is("to") || before.is("savepoint")) => {
            last().map(|name| (true, name))
        }
        _ => None,
    }
}

struct StatementReader<'w> {
    rest: &'w [Word],
    database: &'w str,
    said: Statement,
}

impl<'w> StatementReader<'w> {
    fn statement(&mut self) {
        let Some(verb) = self.take() else { return };
        match verb.name().unwrap_or_default().to_ascii_lowercase().as_str() {
            // SET STATEMENT … FOR: another statement follows.
            "set" if self.skip(&["statement"]) => {
                let mut depth = 0;
                while let Some(word) = self.take() {
                    match word {
                        Word::Sign('(') => depth += 1,
                        Word::Sign(')') => depth -= 1,
                        word if depth == 0 && word.is("for") => return self.statement(),
                        _ => {}
                    }
                }
            }
            "truncate" => {
                self.skip(&["table"]);
                let name = self.full();
                self.said.emptied.extend(name);
            }
            "drop" => self.drop(),
            "rename" => self.rename(),
            "create" => self.create(),
            "alter" => self.alter(),
            "repair" if self.skip(&["no_write_to_binlog", "local", "table", "tables"]) => {
                self.said.replaced = self.list();
            }
            verb if HARMLESS.contains(&verb) => {}
            _ => self.touches(),
        }
    }

    fn take(&mut self) -> Option<&'w Word> {
        let (first, rest) = self.rest.split_first()?;
        self.rest = rest;
        Some(first)
    }

    /// Goes over words of a list; whether one stood there.
    fn skip(&mut self, words: &[&str]) -> bool {
        let mut any = false;
        while self.rest.first().is_some_and(|w| words.iter().any(|word| w.is(word))) {
            self.rest = &self.rest[1..];
            any = true;
        }
        any
    }

    fn has(&self, word: &str) -> bool {
        self.rest.iter().any(|w| w.is(word))
    }

    /// A name, with its database.
    fn full(&mut self) -> Option<String> {
        let first = self.take()?.name()?.to_string();
        if self.rest.first() != Some(&Word::Sign('.')) {
            return Some(format!("{}.{first}", self.database));
        }
        self.take();
        let second = self.take()?.name()?;
        Some(format!("{first}.{second}"))
    }

    /// Names between commas.
    fn list(&mut self) -> Vec<String> {
        let mut all = Vec::new();
        while let Some(name) = self.full() {
            all.push(name);
            if self.rest.first() != Some(&Word::Sign(',')) {
                break;
            }
            self.take();
        }
        all
    }

    fn drop(&mut self) {
        if self.skip(&["database", "schema"]) {
            self.skip(&["if", "exists"]);
            let name = self.take().and_then(Word::name).map(str::to_string);
            self.said.databases.extend(name);
            return;
        }
        let is_temporary = self.skip(&["temporary"]);
        if !self.skip(&["table", "tables"]) || is_temporary {
            return;
        }
        self.skip(&["if", "exists"]);
        self.said.dropped = self.list();
        self.said.lost.clone_from(&self.said.dropped);
    }

    fn rename(&mut self) {
        if !self.skip(&["table", "tables"]) {
            return;
        }
        self.skip(&["if", "exists"]);
        while let Some(from) = self.full() {
            self.said.lost.push(from);
            // WAIT 5, NOWAIT
            while self.rest.first().is_some_and(|w| !w.is("to")) {
                self.take();
            }
            self.take();
            let to = self.full();
            self.said.replaced.extend(to);
            if self.rest.first() != Some(&Word::Sign(',')) {
                break;
            }
            self.take();
        }
    }

    fn create(&mut self) {
        let replaces = self.rest.first().is_some_and(|w| w.is("or"));
        self.skip(&["or", "replace"]);
        let is_temporary = self.skip(&["temporary"]);
        if !self.skip(&["table"]) {
            return;
        }
        self.skip(&["if", "not", "exists"]);
        let Some(name) = self.full() else { return };
        if is_temporary {
            return;
        }
        // Rows of a table that is made of a query follow, unless the session logs statements.
        if self.has("select") || self.has("with") && self.has("as") {
            self.touches();
        }
        if replaces {
            self.said.emptied.push(name);
        }
    }

    fn alter(&mut self) {
        self.skip(&["online", "ignore"]);
        if !self.skip(&["table"]) {
            return;
        }
        self.skip(&["if", "exists"]);
        let Some(name) = self.full() else { return };
        while let Some(word) = self.take() {
            let then = |words: &[&str]| self.rest.first().is_some_and(|w| words.iter().any(|word| w.is(word)));
            if word.is("rename") && !then(&["column", "index", "key"]) {
                self.skip(&["to", "as"]);
                let to = self.full();
                self.said.lost.push(name.clone());
                self.said.replaced.extend(to);
            } else if word.is("exchange") && then(&["partition"]) {
                while self.take().is_some_and(|w| !w.is("table")) {}
                let other = self.full();
                self.said.replaced.extend(other);
                self.said.replaced.push(name.clone());
            } else if (word.is("primary") && then(&["key"])) || (word.is("add") && then(&["primary"])) {
                self.said.keyed.push(name.clone());
            } else if word.is("modify")
                || word.is("change")
                || (word.is("convert") && then(&["to", "partition", "table"]))
                || ((word.is("drop") || word.is("truncate")) && then(&["partition"]))
                || (word.is("import") && then(&["tablespace"]))
                || (word.is("drop") && then(&["system"]))
            {
                self.said.replaced.push(name.clone());
            }
        }
    }

    /// Rows change by a statement, or may: of tables in the databases that it names, and of that of its session.
    fn touches(&mut self) {
        self.said.touches.push(self.database.to_string());
        for pair in self.rest.windows(2) {
            if let (Some(name), Word::Sign('.')) = (pair[0].name(), &pair[1]) {
                self.said.touches.push(name.to_string());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("truncate table `permit`", "emptied office.permit")]
    #[case("TRUNCATE other.permit", "emptied other.permit")]
    #[case("/* a */ truncate /*! table */ permit -- b", "emptied office.permit")]
    #[case("set statement max_statement_time=5, sort_buffer_size=(1+2) for truncate permit", "emptied office.permit")]
    #[case("alter table permit add x int, add index (x), comment 'primary key'", "")]
    #[case("alter table permit rename column a to b, rename key k to l", "")]
    #[case("ALTER TABLE `permit` RENAME TO licence", "lost office.permit, replaced office.licence")]
    #[case("alter table if exists other.permit rename licence", "lost other.permit, replaced office.licence")]
    #[case(
        "rename table permit to licence, `toll`.`due` to x",
        "lost office.permit, lost toll.due, replaced office.licence, replaced office.x"
    )]
    #[case(
        "rename table a to t, b to a, t to b",
        "lost office.a, lost office.b, lost office.t, replaced office.t, replaced office.a, replaced office.b"
    )]
    #[case(
        "DROP TABLE IF EXISTS `per``mit`,other.b /* generated by server */",
        "dropped office.per`mit, dropped other.b, lost office.per`mit, lost other.b"
    )]
    #[case("drop temporary table if exists permit", "")]
    #[case("drop database if exists `office`", "database office")]
    #[case("drop index i on permit", "")]
    #[case("create table t (a int)", "")]
    #[case("create or replace table permit (a int)", "emptied office.permit")]
    #[case("create or replace temporary table permit (a int)", "")]
    #[case("create or replace view v as select 1", "")]
    #[case("create table t select * from a.b", "touches office, touches a")]
    #[case("alter table permit drop partition p0", "replaced office.permit")]
    #[case("alter table permit truncate partition all", "replaced office.permit")]
    #[case("alter table permit exchange partition p with table other.x", "replaced other.x, replaced office.permit")]
    #[case("alter table permit modify a enum('x')", "replaced office.permit")]
    #[case("alter table permit convert to character set utf8mb4", "replaced office.permit")]
    #[case(
        "alter table permit drop primary key, add primary key (b)",
        "keyed office.permit, keyed office.permit, keyed office.permit"
    )]
    #[case("alter table permit add partition (partition p values less than (9))", "")]
    #[case("insert into permit values (1)", "touches office")]
    #[case("update other.permit p set p.a = 1", "touches office, touches other, touches p")]
    #[case("something new", "touches office")]
    #[case("grant select on office.* to x", "")]
    #[case("", "")]
    fn tables_are_found(#[case] text: &str, #[case] expected: &str) {
        let said = read(text, "office", Modes::default());
        let lists = [
            ("emptied", &said.emptied),
            ("dropped", &said.dropped),
            ("database", &said.databases),
            ("lost", &said.lost),
            ("replaced", &said.replaced),
            ("keyed", &said.keyed),
            ("touches", &said.touches),
        ];
        let found: Vec<String> =
            lists.iter().flat_map(|(word, names)| names.iter().map(move |n| format!("{word} {n}"))).collect();
        assert_eq!(found.join(", "), expected);
    }

    #[rstest]
    #[case("SAVEPOINT `a b`", Some((false, "a b")))]
    #[case("savepoint X", Some((false, "x")))]
    #[case("ROLLBACK TO `a b`", Some((true, "a b")))]
    #[case("rollback work to savepoint x", Some((true, "x")))]
    #[case("ROLLBACK", None)]
    fn savepoints_have_names(#[case] text: &str, #[case] expected: Option<(bool, &str)>) {
        assert_eq!(savepoint(text, Modes::default()), expected.map(|(back, name)| (back, name.to_string())));
    }
}
