//! A database of its own for one test, an independent client for it, and the changes that land there with what must be
//! there in the end.

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use crate::common::TestProject;

/// A database of PostgreSQL that ends with the test.
pub struct Database {
    /// What psql is called with.
    pub url: String,
    admin: Option<String>,
    name: String,
    /// A server of its own.
    pub server: Option<OwnServer>,
}

/// A server that a test may kill.
pub struct OwnServer {
    folder: tempfile::TempDir,
    child: Child,
    port: u16,
    bin: PathBuf,
}

fn variable(name: &str) -> Option<String> {
    let found = std::env::var(name).ok();
    assert!(found.is_some() || std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "{name} is not set");
    if found.is_none() {
        eprintln!("skipped: {name} is not set");
    }
    found
}

/// Runs SQL by psql; gives the rows, values with tabs between.
pub fn psql(url: &str, sql: &str) -> Vec<String> {
    let output = Command::new("psql")
        .args(["-X", "-q", "-At", "-F", "\t", "-v", "ON_ERROR_STOP=1", url, "-c", sql])
        .output()
        .unwrap();
    assert!(output.status.success(), "{sql}: {output:?}");
    String::from_utf8(output.stdout).unwrap().lines().map(str::to_string).collect()
}

impl Database {
    /// None where no server is there.
    pub fn new() -> Option<Self> {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let admin = variable("SLUICE_TEST_POSTGRES")?;
        let name = format!("test_{}_{}", std::process::id(), NUMBER.fetch_add(1, Ordering::SeqCst));
        psql(&admin, &format!("create database {name}"));
        let url = format!("{}/{name}", admin.rsplit_once('/').unwrap().0);
        Some(Self { url, admin: Some(admin), name, server: None })
    }

    /// A database on a server that only this test has.
    pub fn on_own_server() -> Option<Self> {
        let bin = PathBuf::from(variable("SLUICE_TEST_POSTGRES_BIN")?);
        let folder = tempfile::Builder::new().prefix("server").tempdir().unwrap();
        std::fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
        let data = folder.path().join("data");
        let done = unprivileged(&bin.join("initdb"))
            .args(["--username=sluice", "--auth=trust", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync", "--pgdata"])
            .arg(&data)
            .output()
            .unwrap();
        assert!(done.status.success(), "{done:?}");
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let child = start(&bin, folder.path(), port);
        let url = format!("postgres://sluice@127.0.0.1:{port}/postgres");
        let server = OwnServer { folder, child, port, bin };
        let database = Self { url, admin: None, name: "postgres".into(), server: Some(server) };
        database.wait();
        Some(database)
    }

    /// Waits until the server answers.
    pub fn wait(&self) {
        wait_for_answer(&self.url);
    }

    /// HOST:PORT.
    pub fn address(&self) -> String {
        self.url.split('@').nth(1).unwrap().split('/').next().unwrap().to_string()
    }

    pub fn rows(&self, sql: &str) -> Vec<String> {
        psql(&self.url, sql)
    }

    /// The part of sluice.toml that names it.
    pub fn connection(&self, address: &str) -> String {
        let name = &self.name;
        format!("[connection.toll]\nurl = \"postgres://{address}/{name}\"\nuser = \"sluice\"\n")
    }
}

fn wait_for_answer(url: &str) {
    let answers = (0..300).any(|_| {
        std::thread::sleep(Duration::from_millis(100));
        Command::new("psql").args(["-X", "-q", url, "-c", "select 1"]).output().unwrap().status.success()
    });
    assert!(answers, "the server does not answer");
}

fn start(bin: &std::path::Path, folder: &std::path::Path, port: u16) -> Child {
    let log = std::fs::File::options().create(true).append(true).open(folder.join("log")).unwrap();
    unprivileged(&bin.join("postgres"))
        .arg("-D")
        .arg(folder.join("data"))
        .args([
            "-p",
            &port.to_string(),
            "-c",
            "listen_addresses=127.0.0.1",
            "-c",
            "wal_level=logical",
            "-c",
            "max_prepared_transactions=8",
            "-k",
        ])
        .arg(folder)
        .stdout(Stdio::null())
        .stderr(log)
        .spawn()
        .unwrap()
}

/// A program that refuses to run as root.
fn unprivileged(program: &std::path::Path) -> Command {
    let id = Command::new("id").arg("-u").output().unwrap();
    if String::from_utf8_lossy(&id.stdout).trim() != "0" {
        return Command::new(program);
    }
    let mut command = Command::new("setpriv");
    command.args(["--reuid=65534", "--regid=65534", "--clear-groups"]).arg(program);
    command
}

impl OwnServer {
    /// Ends it at once, as a crash does, and starts it again after a pause.
    pub fn crash(&mut self, pause: Duration) {
        // SIGQUIT: no shutdown, recovery at the next start.
        let _ = Command::new("kill").args(["-QUIT", &self.child.id().to_string()]).status();
        let _ = self.child.wait();
        std::thread::sleep(pause);
        self.child = start(&self.bin, self.folder.path(), self.port);
    }
}

impl OwnServer {
    /// Ends it in order.
    pub fn stop(&mut self) {
        let _ = Command::new("kill").args(["-INT", &self.child.id().to_string()]).status();
        let _ = self.child.wait();
    }

    /// Starts it, and waits until it answers.
    pub fn start(&mut self) {
        self.child = start(&self.bin, self.folder.path(), self.port);
        wait_for_answer(&format!("postgres://sluice@127.0.0.1:{}/postgres", self.port));
    }

    /// Keeps a copy of its data as they are; it must be at rest.
    pub fn keep_copy(&self) {
        self.copy("data", "copy");
    }

    /// Takes the copy for its data; it must be at rest.
    pub fn take_copy(&self) {
        std::fs::remove_dir_all(self.folder.path().join("data")).unwrap();
        self.copy("copy", "data");
    }

    fn copy(&self, from: &str, to: &str) {
        let mut copy = unprivileged(std::path::Path::new("cp"));
        let done = copy.arg("-a").arg(self.folder.path().join(from)).arg(self.folder.path().join(to)).status();
        assert!(done.unwrap().success());
    }

    /// Starts it, which is at rest, as a standby, and lets it take over: its log continues on another timeline.
    pub fn take_over(&mut self) {
        let signal = self.folder.path().join("data/standby.signal");
        assert!(unprivileged(std::path::Path::new("touch")).arg(&signal).status().unwrap().success());
        self.start();
        let url = format!("postgres://sluice@127.0.0.1:{}/postgres", self.port);
        let promoted = (0..300).any(|_| {
            std::thread::sleep(Duration::from_millis(100));
            let ask =
                Command::new("psql").args(["-X", "-q", "-At", &url, "-c", "select pg_promote()"]).output().unwrap();
            ask.status.success()
        });
        assert!(promoted, "the standby does not take over");
    }
}

impl OwnServer {
    /// Gives it a certificate for localhost, which clients find at `authority`, and wants passwords of `clerk`.
    pub fn encrypt(&mut self, authority: &std::path::Path) {
        let data = self.folder.path().join("data");
        let (key, certificate) = (data.join("server.key"), data.join("server.crt"));
        let made = unprivileged(std::path::Path::new("openssl"))
            .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost"])
            .args(["-addext", "subjectAltName=DNS:localhost", "-addext", "basicConstraints=critical,CA:FALSE"])
            .arg("-keyout")
            .arg(&key)
            .arg("-out")
            .arg(&certificate)
            .output()
            .unwrap();
        assert!(made.status.success(), "{made:?}");
        std::fs::copy(&certificate, authority).unwrap();
        let add = |name: &str, text: &str| {
            let path = data.join(name);
            let old = std::fs::read_to_string(&path).unwrap();
            std::fs::write(&path, format!("{text}{old}")).unwrap();
        };
        add("postgresql.conf", "ssl = on\n");
        add("pg_hba.conf", "hostssl all clerk all scram-sha-256\n");
        self.crash(Duration::ZERO);
    }
}

impl Drop for OwnServer {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-QUIT", &self.child.id().to_string()]).status();
        let _ = self.child.wait();
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        if let Some(admin) = &self.admin {
            let _ = Command::new("psql")
                .args(["-X", "-q", admin, "-c", &format!("drop database {} with (force)", self.name)])
                .output();
        }
    }
}

/// Changes of permits: appended as they are, by key, and as a mirror. A check constraint refuses some in the first.
pub const PIPELINE: &str = r#"
pipeline = "permits"
batch    = { rows = 100, every = "1h" }
rejects  = { share = "90%", least = 100000 }

[event.permit]
fields = "permit text not null, n integer not null, holder text, fee decimal(8,2), changed timestamptz not null, action text not null"

[event.permit.arrives]
at    = "depots"
match = "*.jsonl"

[event.permit.lands.log]
at      = "toll"
table   = "permit_log"
columns = "permit, n, holder, fee, changed, action"

[event.permit.lands.latest]
at     = "toll"
table  = "permit_latest"
mode   = "upsert"
key    = "permit"
create = true

[event.permit.lands.twin]
at     = "toll"
table  = "permit_twin"
mode   = "mirror"
key    = "permit"
change = "action"
create = true
"#;

/// Every 97th change breaks it.
pub const LOG_TABLE: &str = "create table permit_log (permit text not null, n integer not null, holder text, \
    fee numeric(8,2), changed timestamptz not null, action text not null, constraint fee_paid check (n % 97 <> 5))";

/// A project whose pipeline lands in a database at an address.
pub fn project(database: &Database, address: &str) -> TestProject {
    let project = TestProject::empty();
    project.write(
        "sluice.toml",
        format!(
            "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n{}",
            database.connection(address)
        ),
    );
    project.write("pipelines/permits.toml", PIPELINE);
    std::fs::create_dir_all(project.path("depots")).unwrap();
    project
}

/// What must be there in the end, computed from the changes alone.
#[derive(Default)]
pub struct Expected {
    log: BTreeMap<i64, String>,
    latest: BTreeMap<String, String>,
    twin: BTreeMap<String, String>,
    pub refused: Vec<String>,
}

impl Expected {
    /// Some more changes, with all numbers different.
    pub fn lines(&mut self, from: i64, count: i64) -> String {
        let mut text = String::new();
        for n in from..from + count {
            let mixed = (n.wrapping_mul(2_654_435_761) >> 7).rem_euclid(1_000_003);
            let permit = format!("P{:03}", mixed % 170);
            let action = if mixed % 5 == 0 { "deleted" } else { "updated" };
            let (holder, fee) = (format!("holder {n} 'é'"), format!("{}.{:02}", mixed % 900, n % 100));
            let line = format!(
                "{{\"permit\":\"{permit}\",\"n\":{n},\"holder\":\"{holder}\",\"fee\":{fee},\"changed\":\"2026-07-01T00:00:{:02}Z\",\"action\":\"{action}\"}}",
                n % 60
            );
            let row = format!("{permit}\t{n}\t{holder}\t{fee}");
            if n % 97 == 5 {
                self.refused.push(line.clone());
            } else {
                self.log.insert(n, row.clone());
            }
            self.latest.insert(permit.clone(), row.clone());
            match action {
                "deleted" => self.twin.remove(&permit),
                _ => self.twin.insert(permit, row),
            };
            text.push_str(&line);
            text.push('\n');
        }
        text
    }

    /// The tables equal the computation, every refused row is a reject once, the store's own record agrees.
    pub fn check(&self, project: &TestProject, database: &Database) {
        let select = |table: &str, order: &str| {
            database.rows(&format!("select permit, n, holder, fee from {table} order by {order}"))
        };
        same(&select("permit_log", "n"), self.log.values(), "permit_log");
        same(&select("permit_latest", "permit collate \"C\""), self.latest.values(), "permit_latest");
        same(&select("permit_twin", "permit collate \"C\""), self.twin.values(), "permit_twin");
        let mut rejected: Vec<String> = crate::common::visible_files(&project.path("rejects/permits"))
            .iter()
            .flat_map(|p| std::fs::read_to_string(p).unwrap().lines().map(str::to_string).collect::<Vec<_>>())
            .map(|line| {
                serde_json::from_str::<serde_json::Value>(&line).unwrap()["bytes"].as_str().unwrap().to_string()
            })
            .collect();
        rejected.sort();
        let mut refused = self.refused.clone();
        refused.sort();
        assert_eq!(rejected, refused, "rejects");
        let counted = database.rows(
            "select sum(landed), sum(refused) from sluice_batch b join sluice_lane l on l.id = b.lane \
             where l.landing = 'permits.permit.log'",
        );
        assert_eq!(counted, [format!("{}\t{}", self.log.len(), self.refused.len())]);
        let batches = project.json(&["ledger", "permits", "--show", "1000000"])["batches"].clone();
        let mut read = 0;
        for batch in batches.as_array().unwrap() {
            assert_eq!(batch["state"], "settled");
            read += batch["read"].as_u64().unwrap();
        }
        assert_eq!(read, (self.log.len() + self.refused.len()) as u64);
        assert_eq!(crate::common::visible_files(&project.path(".sluice/spool")), Vec::<PathBuf>::new());
    }
}

fn same<'e>(found: &[String], expected: impl Iterator<Item = &'e String>, what: &str) {
    let expected: Vec<&String> = expected.collect();
    let strange: Vec<_> = found.iter().filter(|row| !expected.contains(row)).take(3).collect();
    let missing: Vec<_> = expected.iter().filter(|row| !found.contains(row)).take(3).collect();
    assert!(strange.is_empty() && missing.is_empty(), "{what}: strange {strange:?}, missing {missing:?}");
    assert_eq!(found.len(), expected.len(), "{what}: something is there twice");
}

/// Where a proxy cuts a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cut {
    /// While the rows of a COPY are on their way.
    InCopy,
    /// The commit does not reach the server.
    BeforeCommit,
    /// The commit is done, and its answer is lost.
    AfterCommit,
}

/// Stands before a server and cuts the connection once, at the `number`-th place of a kind.
pub fn cutting_proxy(to: String, cut: Cut, number: u32) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let seen = std::sync::Arc::new(AtomicU32::new(0));
    std::thread::spawn(move || {
        for client in listener.incoming().flatten() {
            let Ok(server) = TcpStream::connect(&to) else { continue };
            let (back_from, mut back_to) = (server.try_clone().unwrap(), client.try_clone().unwrap());
            std::thread::spawn(move || {
                let mut from = back_from;
                let _ = std::io::copy(&mut from, &mut back_to);
                let _ = back_to.shutdown(Shutdown::Both);
            });
            let seen = std::sync::Arc::clone(&seen);
            std::thread::spawn(move || forward(client, server, cut, number, &seen));
        }
    });
    address
}

fn forward(mut client: TcpStream, mut server: TcpStream, cut: Cut, number: u32, seen: &AtomicU32) {
    let mut bytes = vec![0; 1 << 16];
    while let Ok(n) = client.read(&mut bytes) {
        if n == 0 {
            break;
        }
        let part = &bytes[..n];
        let has = |text: &[u8]| part.windows(text.len()).any(|w| w == text);
        let is_place = match cut {
            // The signature that stands before the rows.
            Cut::InCopy => has(b"PGCOPY\n\xff"),
            Cut::BeforeCommit | Cut::AfterCommit => has(b"commit\0"),
        };
        let now = is_place && seen.fetch_add(1, Ordering::SeqCst) + 1 == number;
        match (now, cut) {
            (true, Cut::BeforeCommit) => break,
            (true, Cut::AfterCommit) => {
                // The server's answers are not passed on any more.
                let _ = client.shutdown(Shutdown::Both);
                let _ = server.write_all(part);
                std::thread::sleep(Duration::from_millis(300));
                break;
            }
            (true, Cut::InCopy) => {
                let _ = server.write_all(&part[..n / 2]);
                break;
            }
            _ if server.write_all(part).is_err() => break,
            _ => {}
        }
    }
    let _ = server.shutdown(Shutdown::Both);
    let _ = client.shutdown(Shutdown::Both);
}
