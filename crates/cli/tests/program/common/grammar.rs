//! Tables of random types, keys and forms on both servers, and random work on them.

use crate::common::work::Random;

/// A type, and expressions for values of it; `#` is a number that is new each time.
type Type = (&'static str, &'static [&'static str]);

const POSTGRES: &[Type] = &[
    ("smallint", &["# % 30000", "-32768", "32767"]),
    ("integer", &["#", "-2147483648"]),
    ("bigint", &["# * 10000000007", "9223372036854775807"]),
    ("numeric(12,3)", &["# / 7.0", "-0.001", "999999999.999"]),
    ("numeric", &["# / 7.0", "'NaN'", "1e30"]),
    ("real", &["# / 10.0", "'Infinity'", "1e-37"]),
    ("double precision", &["# / 3.0", "'NaN'", "-1e300", "0.1"]),
    ("boolean", &["# % 2 = 0"]),
    ("text", &["'t' || #", "''", "E'a\\tb\\\\c\\nd'", "'ü🚢 ' || #", "repeat('long', 800 + # % 900)"]),
    ("varchar(40)", &["'v' || #", "' '"]),
    ("char(8)", &["'c' || # % 9999", "''"]),
    ("bytea", &["decode(md5(#::text), 'hex')", "'\\x00'", "''"]),
    ("uuid", &["md5(#::text)::uuid"]),
    ("date", &["date '2026-01-01' + # % 9999", "'0001-01-01'"]),
    ("timestamp", &["timestamp '2026-01-01' + # * interval '1.000001 s'", "'9999-12-31 23:59:59.999999'"]),
    ("timestamptz", &["timestamptz '2026-01-01 00:00+05:45' + # * interval '1.000001 s'"]),
    ("time", &["time '00:00' + # * interval '0.001 s'", "'24:00'"]),
    ("interval", &["# * interval '1 day 0.5 s'", "'-3 mons'"]),
    ("json", &["json_build_object('n', #, 'x', null)", "'[1, 2.50]'", "'\"t\"'"]),
    ("jsonb", &["jsonb_build_object('b', #, 'a', '[]'::jsonb)", "'null'"]),
    ("inet", &["inet '10.0.0.0' + # % 100000", "'::1/64'"]),
    ("macaddr", &["'08:00:2b:01:02:03'"]),
    ("bit(5)", &["(# % 32)::bit(5)"]),
    ("bit varying", &["(#)::bit(40)::bit varying", "B''"]),
    ("integer[]", &["array[#, null, -1]", "'{}'"]),
    ("text[]", &["array['a,b', 'NULL', '\"' || #]", "'{}'"]),
    ("point", &["point(#, 0.5)"]),
    ("int4range", &["int4range(# % 1000000, # % 1000000 + 5)", "'empty'"]),
    ("feeling", &["(array['calm', 'high water', '\"']::feeling[])[1 + # % 3]"]),
];

/// Types of keys: the value of `#` is another one for each number.
const POSTGRES_KEYS: &[(&str, &str)] = &[
    ("integer", "#"),
    ("bigint", "# * 4000000007 - 77"),
    ("text", "'k ' || #"),
    ("text", "E'\\\\\\'' || # || E'\\t;--'"),
    ("text collate \"C\"", "repeat('a', # % 3) || 'B' || #"),
    ("uuid", "md5(#::text)::uuid"),
    ("numeric", "# / 7.0"),
    ("numeric(20,5)", "# / 8.0 + 0.00001"),
    ("date", "date '1999-12-31' + #"),
    ("timestamptz", "timestamptz '2026-03-29 01:59:59+01' + # * interval '0.000001 s'"),
    ("timestamp", "timestamp '2026-01-01' + # * interval '1 h'"),
    ("time", "time '00:00' + (# % 80000000) * interval '0.001 s'"),
    ("inet", "inet '10.0.0.0' + #"),
    ("bytea", "decode(md5(#::text), 'hex')"),
    ("double precision", "# / 10.0"),
    ("bit(30)", "(#)::bit(30)"),
    ("char(12)", "'c' || #"),
];

const MARIADB: &[Type] = &[
    ("tinyint unsigned", &["# % 256"]),
    ("int", &["#", "-2147483648"]),
    ("int(9) zerofill", &["# % 1000"]),
    ("bigint unsigned", &["18446744073709551615 - #"]),
    ("decimal(12,3)", &["# / 7", "-0.001"]),
    ("decimal(38,10)", &["# / 7"]),
    ("float", &["# / 10"]),
    ("double", &["# / 3", "-1e300"]),
    ("bit(9)", &["# % 512"]),
    ("year", &["2000 + # % 99"]),
    ("date", &["'2026-01-01' + interval # % 999 day", "'1000-01-01'"]),
    ("datetime(6)", &["'2026-01-01' + interval # * 1000001 microsecond"]),
    ("timestamp(3) null", &["from_unixtime(1000000 + # / 8)"]),
    ("time(2)", &["sec_to_time(# / 4)", "'-01:00:00.5'"]),
    ("char(9)", &["concat('c', # % 999)", "'ä  '"]),
    ("varchar(30)", &["concat('v', #, ' ')", "''", "'\\\\\\t\\n'"]),
    ("varchar(20) character set latin1", &["concat('äß€', #)"]),
    ("longtext", &["repeat('ü', # % 3000)", "''"]),
    ("binary(6)", &["unhex(hex(#))", "x'0100'"]),
    ("varbinary(40)", &["unhex(md5(#))", "''"]),
    ("uuid", &["concat(left(md5(#), 8), '-1234-1abc-8def-', right(md5(#), 12))"]),
    ("inet6", &["concat('2001:db8::', hex(# % 65000))", "'::1.2.3.4'"]),
    ("enum('a','b c','ü')", &["1 + # % 3"]),
    ("set('x','y','ü')", &["# % 8"]),
    ("json", &["json_object('n', #, 'x', null)", "'[1, 2.50]'"]),
    ("int as (length(k0) % 7) stored", &["default"]),
    ("int invisible", &["#"]),
];

const MARIADB_KEYS: &[(&str, &str)] = &[
    ("int", "#"),
    ("bigint unsigned", "18446744073709551615 - #"),
    ("varchar(30) collate utf8mb4_bin", "concat(if(# % 2, 'A', 'a'), #)"),
    ("varchar(60) collate utf8mb4_bin", "concat('\\\\', char(39), ' or 1=0; -- ', #)"),
    ("varchar(30) character set latin1 collate latin1_bin", "concat('Ä', #)"),
    ("decimal(30,10)", "# / 7 - 100"),
    ("binary(16)", "unhex(md5(#))"),
    ("varbinary(40)", "concat(x'00', unhex(md5(#)))"),
    ("uuid", "concat(left(md5(#), 8), '-1234-1abc-8def-', right(md5(#), 12))"),
    ("inet6", "concat('2001:db8::', hex(# % 65536), ':', hex(# div 65536))"),
    ("datetime(6)", "'2026-01-01' + interval # * 1000001 microsecond"),
    ("date", "'1999-12-31' + interval # day"),
    ("bit(30)", "#"),
];

/// What one server can do and how it says so.
#[derive(Clone, Copy)]
pub struct Dialect {
    types: &'static [Type],
    keys: &'static [(&'static str, &'static str)],
    pub is_postgres: bool,
}

pub const OF_POSTGRES: Dialect = Dialect { types: POSTGRES, keys: POSTGRES_KEYS, is_postgres: true };
pub const OF_MARIADB: Dialect = Dialect { types: MARIADB, keys: MARIADB_KEYS, is_postgres: false };

/// A table: its columns with their types, its key before them.
struct Table {
    name: String,
    keys: Vec<&'static (&'static str, &'static str)>,
    columns: Vec<(String, &'static Type)>,
}

pub struct Grammar {
    dialect: Dialect,
    pub random: Random,
    tables: Vec<Table>,
    next: u64,
    /// Whether the store has numbers that are not finite.
    infinite: bool,
}

impl Grammar {
    pub fn new(dialect: Dialect, seed: u64) -> Self {
        let infinite = seed % 3 == 1;
        let mut grammar = Self { dialect, random: Random::of(seed), tables: Vec::new(), next: 100, infinite };
        for number in 0..2 + grammar.random.below(2) {
            let keys: Vec<_> =
                (0..1 + grammar.random.below(2)).map(|_| grammar.random.pick(grammar.dialect.keys)).collect();
            let columns = (0..1 + grammar.random.below(6))
                .map(|n| (format!("c{n}"), grammar.random.pick(grammar.dialect.types)))
                .collect();
            grammar.tables.push(Table { name: format!("t{number}"), keys, columns });
        }
        grammar
    }

    fn number(&mut self) -> String {
        self.next += 1;
        self.next.to_string()
    }

    /// One of the values that the store can hold.
    fn value<'a>(random: &mut Random, all: &'a [&'static str], infinite: bool) -> &'a &'static str {
        let value = random.pick(all);
        if !infinite && matches!(*value, "'NaN'" | "'Infinity'") { &all[0] } else { value }
    }

    /// The statements that make the tables, each with some rows.
    pub fn schema(&mut self) -> String {
        let mut sql = String::new();
        if self.dialect.is_postgres {
            sql.push_str("create type feeling as enum ('calm', 'high water', '\"');\n");
        }
        for number in 0..self.tables.len() {
            let table = &self.tables[number];
            let keys: Vec<String> = (0..table.keys.len()).map(|n| format!("k{n}")).collect();
            let key = |(name, (ty, _)): (&String, &&(&str, &str))| format!("{name} {ty} not null");
            let mut columns: Vec<String> = keys.iter().zip(&table.keys).map(key).collect();
            columns.extend(table.columns.iter().map(|(name, (ty, _))| format!("{name} {ty}")));
            columns.push(format!("primary key ({})", keys.join(", ")));
            let name = table.name.clone();
            // Bits have no hashes.
            let parted = self.random.once_in(4) && !table.keys[0].0.starts_with("bit");
            let full = self.random.once_in(3);
            let more = match (self.dialect.is_postgres, parted) {
                (true, true) => " partition by hash (k0)",
                (false, true) => " partition by key () partitions 3",
                (true, false) => "",
                (false, false) => " character set utf8mb4",
            };
            sql.push_str(&format!("create table {name} ({}){more};\n", columns.join(", ")));
            if self.dialect.is_postgres && parted {
                for part in 0..2 {
                    sql.push_str(&format!(
                        "create table {name}_{part} partition of {name} for values with (modulus 2, remainder {part});\n"
                    ));
                }
            } else if self.dialect.is_postgres && full {
                sql.push_str(&format!("alter table {name} replica identity full;\n"));
            }
            for _ in 0..3 {
                let rows = 40 + self.random.below(200);
                sql.push_str(&self.insert(number, rows));
            }
        }
        sql
    }

    /// Several rows with new keys.
    fn insert(&mut self, table: usize, rows: u64) -> String {
        let ignore = if self.dialect.is_postgres { "" } else { "ignore " };
        let from = self.next + 1;
        self.next += rows;
        let Table { name, keys, columns } = &self.tables[table];
        let number = if self.dialect.is_postgres { "g" } else { "seq" };
        let mut values: Vec<String> = keys.iter().map(|(_, value)| value.replace('#', number)).collect();
        let mut names: Vec<String> = (0..keys.len()).map(|n| format!("k{n}")).collect();
        for (column, (_, all)) in columns {
            let value = Self::value(&mut self.random, all, self.infinite);
            if *value != "default" {
                names.push(column.clone());
                values.push(if self.random.once_in(5) { "null".into() } else { value.replace('#', number) });
            }
        }
        let rows = match self.dialect.is_postgres {
            true => format!("generate_series({from}, {}) g on conflict do nothing", from + rows - 1),
            false => format!("seq_{from}_to_{}", from + rows - 1),
        };
        format!("insert {ignore}into {name} ({}) select {} from {rows};\n", names.join(", "), values.join(", "))
    }

    /// A condition for a few rows of a table.
    fn some(&mut self) -> String {
        let (of, is) = (self.random.below(29) + 3, self.random.below(30));
        match self.dialect.is_postgres {
            true => format!("abs(hashtext(k0::text)) % {of} = {is}"),
            false => format!("crc32(k0) % {of} = {is}"),
        }
    }

    fn rows(&mut self) -> String {
        let table = usize::try_from(self.random.below(self.tables.len() as u64)).unwrap();
        let (name, some, number) = (self.tables[table].name.clone(), self.some(), self.number());
        let settable: Vec<(String, &Type)> =
            self.tables[table].columns.iter().filter(|(_, (_, values))| values[0] != "default").cloned().collect();
        match self.random.below(7) {
            0 | 1 => {
                let rows = self.random.below(30) + 1;
                self.insert(table, rows)
            }
            2 => format!("delete from {name} where {some};\n"),
            // A key moves.
            3 => {
                let (_, value) = self.tables[table].keys[0];
                let one = match self.dialect.is_postgres {
                    true => format!("k0 = (select k0 from {name} order by k0 limit 1)"),
                    false => "true order by k0 limit 1".into(),
                };
                format!("update {name} set k0 = {} where {one};\n", value.replace('#', &number))
            }
            _ if settable.is_empty() => self.insert(table, 3),
            _ => {
                let (column, (_, values)) = self.random.pick(&settable).clone();
                let value = Self::value(&mut self.random, values, self.infinite).replace('#', &number);
                format!("update {name} set {column} = {value} where {some};\n")
            }
        }
    }

    fn transaction(&mut self) -> String {
        let mut sql = String::from("begin;\n");
        for _ in 0..1 + self.random.below(5) {
            let rows = self.rows();
            let release = if self.dialect.is_postgres { "release s" } else { "release savepoint s" };
            sql.push_str(&match self.random.below(6) {
                0 => format!("savepoint s;\n{rows}rollback to s;\n"),
                1 => format!("savepoint s;\n{rows}{release};\n"),
                _ => rows,
            });
        }
        sql + if self.random.once_in(4) { "rollback;\n" } else { "commit;\n" }
    }

    /// A transaction in two phases, of a server that only this test has.
    fn two_phases(&mut self) -> String {
        let (rows, number) = (self.rows(), self.number());
        let is_kept = !self.random.once_in(3);
        let between = self.rows();
        if self.dialect.is_postgres {
            let end = if is_kept { "commit" } else { "rollback" };
            // Work between the phases must not wait for what is prepared.
            let other = self.insert(0, 3);
            return format!(
                "begin;\n{rows}prepare transaction 'p{number}';\n{other}{end} prepared 'p{number}';\n{between}"
            );
        }
        let end = if is_kept { "commit" } else { "rollback" };
        format!(
            "xa start 'x{number}';\n{rows}xa end 'x{number}';\nxa prepare 'x{number}';\nxa {end} 'x{number}';\n{between}"
        )
    }

    /// A table changes its columns.
    fn form(&mut self) -> String {
        let table = usize::try_from(self.random.below(self.tables.len() as u64)).unwrap();
        let name = self.tables[table].name.clone();
        let number = self.number();
        match self.random.below(7) {
            // Where a reference cannot be had, the statement fails.
            6 => {
                let ty = self.tables[0].keys[0].0;
                let rules = if self.dialect.is_postgres { " on delete cascade on update cascade" } else { "" };
                let first = "select k0 from t0 order by k0 limit 1";
                format!(
                    "alter table {name} add column f{number} {ty} null, add foreign key (f{number}) references t0 (k0){rules};\n\
                     update {name} set f{number} = ({first}) where {};\n",
                    self.some()
                )
            }
            0 => format!("truncate {name};\n{}", self.insert(table, 20)),
            1 | 2 => {
                let ty = self.random.pick(self.dialect.types);
                let column = format!("d{number}");
                self.tables[table].columns.push((column.clone(), ty));
                format!("alter table {name} add column {column} {};\n{}", ty.0, self.rows())
            }
            3 if self.tables[table].columns.len() > 1 => {
                let at = usize::try_from(self.random.below(self.tables[table].columns.len() as u64)).unwrap();
                let (column, _) = self.tables[table].columns.remove(at);
                format!("alter table {name} drop column {column};\n{}", self.rows())
            }
            4 => {
                let ty = self.random.pick(self.dialect.types);
                let (column, default) = (format!("e{number}"), ty.1[0].replace('#', &number));
                if default == "default" || ty.0.contains("invisible") {
                    return self.rows();
                }
                // A value for all rows that are there.
                let add = match self.dialect.is_postgres {
                    true => format!("alter table {name} add column {column} {0} default ({default})::{0};\n", ty.0),
                    false => format!("alter table {name} add column {column} {} default ({default});\n", ty.0),
                };
                self.tables[table].columns.push((column, ty));
                add
            }
            _ => format!("alter table {name} rename to {name}_x;\nalter table {name}_x rename to {name};\n"),
        }
    }

    /// What is done in one round: statements that belong together stand together.
    pub fn script(&mut self, two_phases: bool) -> Vec<String> {
        let pieces = 2 + self.random.below(5);
        let piece = |_| match self.random.below(9) {
            0 => self.form(),
            1 if two_phases => self.two_phases(),
            1..=3 => self.rows(),
            _ => self.transaction(),
        };
        (0..pieces).map(piece).collect()
    }
}
