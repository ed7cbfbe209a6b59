//! Servers that lie, hang or redirect, passwords that would be sent unencrypted, and files that others could read.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use crate::common::feeds_mariadb::Office;
use crate::common::running::{Running, wait_for};
use crate::common::{PIPELINE, TestProject};
use rstest::rstest;

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

const LANDING: &str = r#"
pipeline = "weighings"
[event.weighing]
fields = "ticket text not null"
[event.weighing.arrives]
at    = "depots"
match = "*.jsonl"
[event.weighing.lands.desk]
at     = "store"
table  = "weighing"
create = true
"#;

/// A project with one event that lands in a table of `store`.
fn project(store: &str) -> TestProject {
    let project = TestProject::new(LANDING);
    project.append("sluice.toml", format!("[connection.store]\n{store}\n"));
    project.write("depots/a.jsonl", "{\"ticket\":\"A1\"}\n");
    project
}

/// A server that does the same to each client; gives its port and how many there were.
fn server(each: impl Fn(TcpStream) + Send + 'static) -> (u16, Arc<AtomicU32>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let count = Arc::new(AtomicU32::new(0));
    let clients = Arc::clone(&count);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            clients.fetch_add(1, Ordering::SeqCst);
            each(stream);
        }
    });
    (port, count)
}

#[rstest]
#[case("postgres://db.tarrow.example/office")]
#[case("mariadb://10.7.7.7:3306/office")]
#[case("clickhouse://db.tarrow.example:8123/office")]
fn a_password_is_not_sent_unencrypted_to_another_host(#[case] url: &str) {
    let secret = "user = \"clerk\"\npassword = { env = \"OFFICE\" }";
    let project = project(&format!("url = \"{url}\"\n{secret}"));
    let with = |arguments: &[&str]| {
        let output = project.command(arguments).env("OFFICE", "gate-7").output().unwrap();
        let text = [output.stdout, output.stderr].map(|bytes| String::from_utf8(bytes).unwrap()).concat();
        assert!(!text.contains("gate-7"), "{text}");
        (output.status.code().unwrap(), text)
    };
    for arguments in [&["check", "--offline"], RUN, &["peek", "weighings.weighing.desk"]] {
        let (code, said) = with(arguments);
        assert_eq!(code, 3, "{arguments:?}: {said}");
        assert!(said.contains("without encryption") && said.contains("tls = true"), "{arguments:?}: {said}");
    }
    // With the option it is a warning, and on this machine it is neither.
    let file = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", format!("{file}tls = false\n"));
    let (code, said) = with(&["check", "--offline"]);
    assert!(code == 0 && said.contains("! line") && said.contains("secret.unencrypted"), "{code} {said}");
    project.write("sluice.toml", file.replace("db.tarrow.example", "localhost").replace("10.7.7.7", "127.0.0.1"));
    let (code, said) = with(&["check", "--offline"]);
    assert!(code == 0 && !said.contains("encrypt"), "{code} {said}");
}

#[test]
fn nor_to_brokers_of_which_one_is_elsewhere() {
    let project = TestProject::new(PIPELINE);
    let broker = "[connection.b]\nurl = \"kafka://127.0.0.1:1,b7.tarrow.example:9092\"\nuser = \"x\"\npassword = { env = \"P\" }\n";
    project.append("sluice.toml", broker);
    let (_, err) = project.expect(3, &["check", "--offline"]);
    assert!(err.contains("b7.tarrow.example:9092 without encryption"), "{err}");
}

#[test]
fn redirects_are_not_followed() {
    let (elsewhere, seen) = server(drop);
    let (port, _) = server(move |mut stream| {
        let mut request = [0; 4096];
        let _ = stream.read(&mut request);
        let _ =
            write!(stream, "HTTP/1.1 307 Go\r\nLocation: http://127.0.0.1:{elsewhere}/\r\nContent-Length: 0\r\n\r\n");
    });
    let project =
        project(&format!("url = \"clickhouse://127.0.0.1:{port}/office\"\nuser = \"u\"\npassword = {{ env = \"P\" }}"));
    let output = project.command(RUN).env("P", "gate-7").output().unwrap();
    let err = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(5), "{err}");
    assert!(err.contains("redirects to http://127.0.0.1"), "{err}");
    assert_eq!(seen.load(Ordering::SeqCst), 0, "nobody was sent anything");
}

#[rstest]
#[case("postgres")]
#[case("mariadb")]
#[case("clickhouse")]
fn a_server_that_says_nothing_is_given_up(#[case] scheme: &str) {
    // Clients are kept, and never answered.
    let (port, _) = server(std::mem::forget);
    let project = project(&format!("url = \"{scheme}://127.0.0.1:{port}/office\"\nanswer_within = \"1s\""));
    let (_, err) = project.expect(5, &["peek", "weighings.weighing.desk"]);
    assert!(err.contains("answer"), "{err}");
}

#[test]
fn a_server_that_stops_answering_is_waited_for() {
    let Some(office) = Office::on_own_server(5) else { return };
    let project = project(&format!("{}\nanswer_within = \"1s\"", office.connection(&office.target)));
    project.expect(0, RUN);
    let server = office.server.as_ref().unwrap();
    // Its session is open, and idle.
    let running = Running::following(&project, &RUN[..2]);
    server.freeze(true);
    project.write("depots/b.jsonl", "{\"ticket\":\"A2\"}\n");
    wait_for(|| running.said().contains("nothing is lost"));
    server.freeze(false);
    assert!(running.said().contains("no answer within 1"), "{}", running.said());
    let landed = (0..200).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(100));
        office.sql(&office.target, "select count(*) from weighing").trim() == "2"
    });
    running.settle();
    assert!(landed);
}

#[test]
fn mariadb_trusts_what_the_connection_names_and_nothing_else() {
    let Some(mut office) = Office::on_own_server(6) else { return };
    let project = project("url = \"mariadb://localhost/x\"");
    let mut server = office.server.take().unwrap();
    server.encrypt(&project.path("office.pem"));
    office.server = Some(server);
    office.wait();
    let connection = office.connection(&office.target).replace("127.0.0.1", "localhost");
    let depots = crate::common::PROJECT;
    let run = |more: &str| {
        project.write("sluice.toml", format!("{depots}[connection.store]\n{connection}\ntls = true\n{more}"));
        let output = project.run(RUN);
        (output.status.code().unwrap(), String::from_utf8(output.stderr).unwrap())
    };
    // A certificate of nobody that the system, or the library, knows.
    let (code, err) = run("");
    assert!(matches!(code, 3 | 5) && err.to_lowercase().contains("certificate"), "{code} {err}");
    let (code, err) = run("authority = \"missing.pem\"");
    assert!(code == 3 && err.contains("missing.pem"), "{code} {err}");
    let (code, err) = run("authority = \"office.pem\"");
    assert_eq!(code, 0, "{err}");
    assert_eq!(office.sql(&office.target, "select ticket from weighing").trim(), "A1");
}

fn mode(path: &Path) -> u32 {
    std::fs::metadata(path).unwrap().permissions().mode() & 0o777
}

/// Fails where others have rights on a folder or anything in it.
fn assert_private(path: &Path) {
    let allowed = if path.is_dir() { 0o700 } else { 0o600 };
    assert_eq!(mode(path) & !allowed, 0, "{} has the mode {:o}", path.display(), mode(path));
    if path.is_dir() {
        std::fs::read_dir(path).unwrap().for_each(|entry| assert_private(&entry.unwrap().path()));
    }
}

#[test]
fn what_holds_events_is_for_its_owner_alone() {
    let project = TestProject::empty();
    project.expect(0, &["init", "."]);
    project.write("sluice.toml", crate::common::PROJECT);
    let more = "[event.weighing.lands.shown]\nat = \"screen\"\n[event.weighing.lands.desk]\nat = \"desk\"\ntable = \"weighing\"\ncreate = true\n";
    project.append("sluice.toml", "[connection.desk]\nurl = \"sqlite:desk.db\"\n");
    project.write("pipelines/weighings.toml", format!("{PIPELINE}\n{more}"));
    project.write("depots/a.jsonl", "{\"ticket\":\"A1\",\"day\":\"2026-04-01\",\"gross_kg\":700}\nbroken\n");
    let mut command = std::process::Command::new("sh");
    let program = assert_cmd::cargo::cargo_bin!("sluice");
    let line = format!("umask 000; exec {} run weighings --until-caught-up", program.display());
    let output = command.args(["-c", &line]).current_dir(project.path(".")).env_clear().output().unwrap();
    let err = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.success(), "{err}");
    assert!(!err.contains("could read"), "{err}");
    assert_private(&project.path(".sluice"));
    assert_private(&project.path("rejects"));
    // What lands has the rights that the user's umask gives.
    let landed = crate::common::visible_files(&project.path("archive/all"));
    assert_eq!(mode(&landed[0]), 0o666);

    // Rights that an older version left too wide are corrected, and that is reported once.
    for folder in [".sluice", "rejects"] {
        std::fs::set_permissions(project.path(folder), std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    let (_, err) = project.expect(0, &["status"]);
    assert!(err.contains(".sluice/") && err.contains("rejects/"), "{err}");
    assert_eq!([".sluice", "rejects"].map(|folder| mode(&project.path(folder))), [0o700, 0o700]);
    let (_, err) = project.expect(0, &["status"]);
    assert_eq!(err, "");
}
