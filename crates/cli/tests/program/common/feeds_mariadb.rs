//! A MariaDB source whose table is changed at random, the pipeline that follows it, and what must be there in the end.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use crate::common::TestProject;

pub const COLUMNS: &str = "permit_id, class, tons, issued_at, note, kind, opened";

const SCHEMA: &str = "
create table permit (permit_id int, class char(3), tons decimal(12,3), issued_at timestamp(6) null, note longtext,
    kind enum('barge','tug','ferry'), opened date, clerk text, primary key (class, permit_id))
    character set utf8mb4 collate utf8mb4_bin;
insert into permit select seq, concat('C', seq % 3), seq / 7, now(6), repeat('ä', seq % 500), 'tug', '2026-11-23', 'x'
    from seq_1_to_3000;
create table other (id int primary key);
";

/// Source and target, two databases of one server.
pub struct Office {
    port: String,
    pub source: String,
    pub target: String,
    random: u64,
    next: u64,
    /// A server that only this test has.
    pub server: Option<OwnServer>,
}

/// A server that a test may kill.
pub struct OwnServer {
    folder: tempfile::TempDir,
    child: Child,
    port: u16,
}

impl Office {
    /// None where no server is there.
    pub fn new(seed: u64) -> Option<Self> {
        let address = std::env::var("SLUICE_TEST_MARIADB").ok();
        assert!(address.is_some() || std::env::var_os("SLUICE_TEST_SERVICES").is_none());
        let Some(address) = address else {
            eprintln!("skipped: SLUICE_TEST_MARIADB is not set");
            return None;
        };
        Some(Self::at(address.rsplit(':').next().unwrap().to_string(), seed, None))
    }

    /// Both without any table.
    pub fn empty(seed: u64) -> Option<Self> {
        let office = Self::new(seed)?;
        office.sql(&office.source, "drop table permit, other");
        Some(office)
    }

    /// A project that takes every table of the source into SQLite.
    pub fn whole(&self, mode: &str, changes: &str) -> TestProject {
        let project = TestProject::empty();
        project.write(
            "sluice.toml",
            format!(
                "[project]\nname = \"tarrow\"\n[connection.office]\nurl = \"mariadb://127.0.0.1:{}/{}\"\nuser = \
                 \"sluice\"\n[connection.desk]\nurl = \"sqlite:mirror.db\"\n",
                self.port, self.source
            ),
        );
        project.write(
            "pipelines/office.toml",
            format!(
                "pipeline = \"office\"\nbatch = {{ every = \"150ms\" }}\n[each.office]\ntables = \"*\"\n\
                 [each.office.arrives]\nat = \"office\"\nschema_change = \"{changes}\"\nload_rows = 300\n\
                 [each.office.lands.copy]\nat = \"desk\"\nmode = \"{mode}\"\ncreate = true\n"
            ),
        );
        project
    }

    /// Lands what a project takes in the other database instead.
    pub fn land_in_mariadb(&self, project: &TestProject) {
        let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
        let url = format!("url = \"mariadb://127.0.0.1:{}/{}\"\nuser = \"sluice\"", self.port, self.target);
        project.write("sluice.toml", text.replace("url = \"sqlite:mirror.db\"", &url));
    }

    /// Drops the databases.
    pub fn end(&self) {
        self.sql("mysql", &format!("drop database {}; drop database {}", self.source, self.target));
    }

    /// Both on a server of their own.
    pub fn on_own_server(seed: u64) -> Option<Self> {
        // The others' address shows that MariaDB is there at all.
        std::env::var_os("SLUICE_TEST_MARIADB")?;
        let server = OwnServer::make();
        Some(Self::at(server.port.to_string(), seed, Some(server)))
    }

    fn at(port: String, seed: u64, server: Option<OwnServer>) -> Self {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let name = format!("feed_{}_{}", std::process::id(), NUMBER.fetch_add(1, Ordering::SeqCst));
        let office = Self { port, source: format!("{name}_source"), target: name, random: seed, next: 10_000, server };
        office.sql("mysql", &format!("create database {}; create database {}", office.source, office.target));
        office.sql(&office.source, SCHEMA);
        office
    }

    /// Waits until the server answers.
    pub fn wait(&self) {
        let answers = || self.try_sql("mysql", "select 1").status.success();
        let found = (0..300).any(|_| {
            std::thread::sleep(Duration::from_millis(100));
            answers()
        });
        assert!(found, "the server does not answer");
    }

    /// Runs SQL; gives the rows.
    pub fn sql(&self, database: &str, sql: &str) -> String {
        let output = self.try_sql(database, sql);
        assert!(output.status.success(), "{sql}: {output:?}");
        String::from_utf8(output.stdout).unwrap()
    }

    /// Runs a script in which a statement may fail.
    pub fn sql_with_failures(&self, database: &str, sql: &str) {
        let mut child = Command::new("mariadb")
            .args(["--force", "-h", "127.0.0.1", "-P", &self.port, "-u", "sluice"])
            .args(["--default-character-set=utf8mb4", database])
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let _ = child.stdin.take().unwrap().write_all(sql.as_bytes());
        child.wait().unwrap();
    }

    /// HOST:PORT.
    pub fn address(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }

    /// The keys of a connection to a database.
    pub fn connection(&self, database: &str) -> String {
        format!("url = \"mariadb://127.0.0.1:{}/{database}\"\nuser = \"sluice\"", self.port)
    }

    fn try_sql(&self, database: &str, sql: &str) -> std::process::Output {
        let mut child = Command::new("mariadb")
            .args([
                "-h",
                "127.0.0.1",
                "-P",
                &self.port,
                "-u",
                "sluice",
                "-N",
                "-B",
                "--default-character-set=utf8mb4",
                database,
            ])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        // A server that ends closes the pipe.
        let _ = child.stdin.take().unwrap().write_all(sql.as_bytes());
        child.wait_with_output().unwrap()
    }

    pub fn project(&self) -> TestProject {
        let project = TestProject::empty();
        let connection = |name: &str, database: &str| {
            format!(
                "[connection.{name}]\nurl = \"mariadb://127.0.0.1:{}/{database}\"\nuser = \"sluice\"\n\n",
                self.port
            )
        };
        let both = connection("office", &self.source) + &connection("warehouse", &self.target);
        project.write("sluice.toml", format!("[project]\nname = \"tarrow\"\n\n{both}"));
        project.write(
            "pipelines/office.toml",
            "pipeline = \"office\"\nbatch = { rows = 700, every = \"150ms\" }\n\n[event.permit]\nfields = \"\"\"permit_id \
             integer not null, class text not null, tons decimal(12,3), issued_at timestamptz, note text, kind text, opened \
             date\"\"\"\n[event.permit.arrives]\nat = \"office\"\ntable = \"permit\"\nload_rows = 300\nschema_change = \
             \"ignore\"\n[event.permit.lands.copy]\nat = \"warehouse\"\ntable = \"permit\"\nmode = \"mirror\"\nkey = [\"class\", \
             \"permit_id\"]\n[event.permit.lands.log]\nat = \"warehouse\"\ntable = \"permit_log\"\nmode = \"changes\"\ncreate = \
             true\n",
        );
        // Keys of MariaDB need a length.
        let lands = "permit_id int, class varchar(9), tons decimal(12,3), issued_at datetime(6), note longtext, kind text, \
                     opened date, _source text, _position bigint, _batch bigint, primary key (class, permit_id)";
        self.sql(&self.target, &format!("create table permit ({lands}) character set utf8mb4 collate utf8mb4_bin"));
        project
    }

    fn below(&mut self, n: u64) -> u64 {
        self.random = self.random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.random >> 33) % n
    }

    fn statement(&mut self) -> String {
        let (id, tons) = (self.below(3000) + 1, self.below(90_000));
        self.next += 1;
        let next = self.next;
        match self.below(10) {
            0 | 1 => format!(
                "insert into permit values ({next}, 'C9', -{tons}.125, now(6), repeat('ü\\n', {id}), 'ferry', null, 'x');"
            ),
            2..=4 => {
                format!("update permit set tons = {tons}, kind = 'barge' where permit_id between {id} and {id} + 2;")
            }
            5 => format!("update permit set permit_id = {next} where permit_id = {id};"),
            6 => format!("delete from permit where permit_id = {id};"),
            7 => format!("insert into other values ({next});"),
            8 => format!("update permit set note = null, issued_at = '2001-02-03 04:05:06.5' where permit_id = {id};"),
            _ => "update permit set tons = tons + 1 where class = 'C1';".into(),
        }
    }

    /// Changes the source; whether all of it was done.
    pub fn change(&mut self, transactions: u64, round: u64) -> bool {
        let mut sql = String::new();
        for _ in 0..transactions {
            sql.push_str("begin;\n");
            for _ in 0..self.below(5) + 1 {
                sql.push_str(&self.statement());
            }
            if self.below(4) == 0 {
                sql.push_str("savepoint s; delete from permit where permit_id % 2 = 0; rollback to savepoint s;\n");
            }
            sql.push_str(if self.below(6) == 0 { "rollback;\n" } else { "commit;\n" });
        }
        match round % 9 {
            4 => sql.push_str(&format!("alter table permit add column more_{round} int default 7 first;\n")),
            7 => sql.push_str(
                "truncate permit; insert into permit select seq, 'C1', 1, null, 'n', 'tug', null, 'x' \
                               from seq_1_to_800;\n"
                    .replace("select seq", "(permit_id, class, tons, issued_at, note, kind, opened, clerk) select seq")
                    .as_str(),
            ),
            _ => {}
        }
        let sql = sql.replace(
            "insert into permit values",
            "insert into permit (permit_id, class, tons, issued_at, note, kind, opened, clerk) values",
        );
        self.try_sql(&self.source.clone(), &sql).status.success()
    }

    /// The mirror equals the table, and so do the changes, played again by themselves.
    pub fn check(&self) {
        let rows = |database: &str| {
            let text = self.sql(database, &format!("set time_zone = '+00:00'; select {COLUMNS} from permit"));
            let mut rows: Vec<String> = text.lines().map(str::to_string).collect();
            rows.sort();
            rows
        };
        let (source, mirror) = (rows(&self.source), rows(&self.target));
        assert_eq!(mirror.len(), source.len());
        assert_eq!(source.iter().zip(&mirror).find(|(a, b)| a != b), None);
        let log =
            self.sql(&self.target, &format!("select _change, {COLUMNS} from permit_log order by _position, _within"));
        let mut played: BTreeMap<String, String> = BTreeMap::new();
        for line in log.lines() {
            let (change, row) = line.split_once('\t').unwrap();
            let mut cells = row.split('\t');
            let id = format!("{} {}", cells.next().unwrap(), cells.next().unwrap());
            match change {
                "truncated" => played.clear(),
                "deleted" => drop(played.remove(&id)),
                _ => drop(played.insert(id, row.to_string())),
            }
        }
        let mut played: Vec<String> = played.into_values().collect();
        played.sort();
        assert_eq!(source.iter().zip(&played).find(|(a, b)| a != b), None);
        assert_eq!(played.len(), source.len());
        self.sql("mysql", &format!("drop database {}; drop database {}", self.source, self.target));
    }
}

/// A program that refuses to run as root.
fn unprivileged(program: &str) -> Command {
    let id = Command::new("id").arg("-u").output().unwrap();
    if String::from_utf8_lossy(&id.stdout).trim() != "0" {
        return Command::new(program);
    }
    let mut command = Command::new("setpriv");
    command.args(["--reuid=65534", "--regid=65534", "--clear-groups", program]);
    command
}

impl OwnServer {
    fn make() -> Self {
        let folder = tempfile::Builder::new().prefix("server").tempdir().unwrap();
        std::fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
        for name in ["data", "tmp"] {
            assert!(unprivileged("mkdir").arg(folder.path().join(name)).status().unwrap().success());
        }
        // Servers that are set up at the same time would take each other's temporary tables away.
        let made = unprivileged("mariadb-install-db")
            .env("TMPDIR", folder.path().join("tmp"))
            .args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", "--datadir"])
            .arg(folder.path().join("data"))
            .output()
            .unwrap();
        assert!(made.status.success(), "{made:?}");
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let child = Self::start(folder.path(), port);
        let server = Self { folder, child, port };
        let sql = "create user sluice@'127.0.0.1'; grant all on *.* to sluice@'127.0.0.1' with grant option";
        let socket = format!("--socket={}", server.folder.path().join("socket").display());
        let asked =
            || Command::new("mariadb").args(["--no-defaults", &socket, "-u", "root", "-e", sql]).output().unwrap();
        let answers = (0..300).any(|_| {
            std::thread::sleep(Duration::from_millis(100));
            asked().status.success()
        });
        assert!(answers, "the server does not answer");
        server
    }

    fn start(folder: &std::path::Path, port: u16) -> Child {
        let log = std::fs::File::options().create(true).append(true).open(folder.join("log")).unwrap();
        unprivileged("/usr/sbin/mariadbd")
            .arg("--no-defaults")
            .arg(format!("--datadir={}", folder.join("data").display()))
            .arg(format!("--socket={}", folder.join("socket").display()))
            // A server that starts removes the temporary tables of others in the same folder.
            .arg(format!("--tmpdir={}", folder.join("tmp").display()))
            .args(["--bind-address=127.0.0.1", &format!("--port={port}"), "--skip-name-resolve", "--server-id=9"])
            .args(["--log-bin=binlog", "--binlog-format=ROW", "--binlog-row-image=FULL", "--binlog-row-metadata=FULL"])
            .args(["--sync-binlog=1", "--innodb-flush-log-at-trx-commit=1"])
            .args(folder.join("server.crt").exists().then(|| format!("--ssl-cert={}/server.crt", folder.display())))
            .args(folder.join("server.key").exists().then(|| format!("--ssl-key={}/server.key", folder.display())))
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .unwrap()
    }

    /// Starts it again with a certificate of its own for `localhost`, which is written to `authority` as well.
    pub fn encrypt(&mut self, authority: &std::path::Path) {
        let made = unprivileged("openssl")
            .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost"])
            .args(["-addext", "subjectAltName=DNS:localhost", "-addext", "basicConstraints=critical,CA:FALSE"])
            .arg("-keyout")
            .arg(self.folder.path().join("server.key"))
            .arg("-out")
            .arg(self.folder.path().join("server.crt"))
            .output()
            .unwrap();
        assert!(made.status.success(), "{made:?}");
        std::fs::copy(self.folder.path().join("server.crt"), authority).unwrap();
        self.crash(Duration::ZERO);
    }

    /// Stops its process, or lets it go on.
    pub fn freeze(&self, frozen: bool) {
        let signal = if frozen { "-STOP" } else { "-CONT" };
        assert!(Command::new("kill").args([signal, &self.child.id().to_string()]).status().unwrap().success());
    }

    /// Kills it, and starts it again after a pause.
    pub fn crash(&mut self, pause: Duration) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        std::thread::sleep(pause);
        self.child = Self::start(self.folder.path(), self.port);
    }
}

impl Drop for OwnServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
