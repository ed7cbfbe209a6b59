//! Figures and health over HTTP, and what limits a pipeline.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::time::Duration;

use super::{Kept, kill, status, wait_settled, wait_state};
use crate::common::running::wait_for;
use crate::common::{Expected, PIPELINE, TestProject};

/// The status and the body of an answer; None where nobody listens.
fn ask(port: u16, path: &str, more: &str) -> Option<(u16, String)> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    write!(stream, "GET {path} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n{more}\r\n").unwrap();
    let mut text = String::new();
    stream.read_to_string(&mut text).unwrap();
    let status = text.split(' ').nth(1).unwrap().parse().unwrap();
    Some((status, text.split_once("\r\n\r\n").unwrap().1.to_string()))
}

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

fn watched(pipeline: &str, port: u16, more: &str) -> Kept {
    let project = TestProject::new(pipeline);
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    let watch = format!("name = \"tarrow\"\nwatch = \"127.0.0.1:{port}\"\n{more}");
    project.write("sluice.toml", text.replace("name = \"tarrow\"\n", &watch));
    Kept(project)
}

/// The value of a metric of the one pipeline.
fn value(text: &str, name: &str) -> f64 {
    let line = text.lines().find(|line| line.starts_with(&format!("{name}{{pipeline=\"weighings\"}} ")));
    line.unwrap_or_else(|| panic!("{name}\n{text}")).rsplit(' ').next().unwrap().parse().unwrap()
}

#[test]
fn figures_and_health_are_served() {
    let port = free_port();
    let project = watched(&PIPELINE.replace("every = \"1h\"", "every = \"200ms\""), port, "");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 500));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 500);
    let (status_code, text) = ask(port, "/metrics", "").unwrap();
    assert_eq!(status_code, 200);
    assert!(text.ends_with("# EOF\n"), "{text}");
    let of = |name: &str| value(&text, name);
    assert_eq!(
        (of("sluice_up"), of("sluice_events_read_total"), of("sluice_events_rejected_total")),
        (1.0, 500.0, 10.0)
    );
    assert_eq!(of("sluice_rows_landed_total"), (expected.archive.len() + expected.heavy.len()) as f64);
    assert_eq!(of("sluice_batches_settled_total"), of("sluice_batch_duration_seconds_count"));
    assert_eq!(ask(port, "/alive", ""), Some((200, "alive\n".into())));
    assert_eq!(ask(port, "/ready?now", ""), Some((200, "ready\n".into())));
    assert_eq!(ask(port, "/nothing", "").unwrap().0, 404);
    let (status_code, page) = ask(port, "/", "").unwrap();
    assert!(status_code == 200 && page.contains("<h2>weighings</h2>") && page.contains("weighing.archive"), "{page}");
    assert!(page.contains("http-equiv=\"refresh\"") && page.contains("runs, caught up"), "{page}");
    // Its source is gone: it lives, and is not ready.
    project.expect(0, &["stop", "weighings"]);
    wait_for(|| ask(port, "/alive", "").is_none());
    std::fs::rename(project.path("depots"), project.path("away")).unwrap();
    project.expect(0, &["start"]);
    wait_state(&project, "weighings", "waits");
    wait_for(|| ask(port, "/alive", "").is_some());
    let (status_code, text) = ask(port, "/ready", "").unwrap();
    assert!(status_code == 503 && text.contains("weighings: ") && text.contains("depots does not exist"), "{text}");
    assert_eq!(value(&ask(port, "/metrics", "").unwrap().1, "sluice_up"), 0.0);
}

#[test]
fn a_token_is_asked_for_and_never_shown() {
    let port = free_port();
    let project = watched(PIPELINE, port, "watch_token = { file = \"token\" }\n");
    let (_, said) = project.expect(3, &["start"]);
    assert!(said.contains("token of `watch` cannot be read"), "{said}");
    let (said, _) = project.expect(0, &["status"]);
    assert!(!said.contains("without settling"), "{said}");
    project.write("token", "\n");
    let (_, said) = project.expect(3, &["start"]);
    assert!(said.contains("it is empty"), "{said}");
    project.write("token", "gate-7\n");
    project.expect(0, &["start"]);
    wait_for(|| ask(port, "/alive", "").is_some());
    for wrong in ["", "Authorization: Bearer gate-8\r\n", "Authorization: gate-7\r\n"] {
        let (status_code, text) = ask(port, "/metrics", wrong).unwrap();
        assert!(status_code == 401 && !text.contains("gate-7") && !text.contains("sluice_"), "{wrong}: {text}");
    }
    assert_eq!(ask(port, "/metrics", "authorization: Bearer gate-7\r\n").unwrap().0, 200);
    let log = std::fs::read_to_string(project.path(".sluice/log/sluice.log")).unwrap();
    assert!(!log.contains("gate-7"), "{log}");
}

/// Who sends nonsense, or nothing, keeps nobody else from an answer and no pipeline from its work.
#[test]
fn nonsense_disturbs_nobody() {
    let port = free_port();
    let project = watched(&PIPELINE.replace("every = \"1h\"", "every = \"200ms\""), port, "");
    project.expect(0, &["start"]);
    wait_for(|| ask(port, "/alive", "").is_some());
    let silent: Vec<TcpStream> = (0..40).map(|_| TcpStream::connect(("127.0.0.1", port)).unwrap()).collect();
    for said in [
        &b"\xff\xfe\x00\r\n\r\n"[..],
        b"GET\r\n\r\n",
        b"POST /metrics HTTP/1.1\r\nContent-Length: 99999999999\r\n\r\n",
        &[b'x'; 200_000],
    ] {
        let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
        let _ = stream.write_all(said);
    }
    assert_eq!(ask(port, "/alive", "").unwrap().0, 200);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 100));
    wait_settled(&project, "weighings", 100);
    drop(silent);
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}

/// An address that is taken stops no pipeline; it is served once it is free.
#[test]
fn an_address_that_is_taken_is_tried_again() {
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = taken.local_addr().unwrap().port();
    let project = watched(PIPELINE, port, "");
    project.expect(0, &["start"]);
    wait_state(&project, "weighings", "runs");
    let log = || std::fs::read_to_string(project.path(".sluice/log/sluice.log")).unwrap();
    wait_for(|| log().contains("cannot serve metrics"));
    drop(taken);
    wait_for(|| log().contains("serving metrics"));
    assert_eq!(ask(port, "/alive", "").unwrap().0, 200);
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", text.replace(&format!("127.0.0.1:{port}"), "localhost"));
    let (_, said) = project.expect(3, &["check", "--offline"]);
    assert!(said.contains("not an address with a port") && said.contains("127.0.0.1:9464"), "{said}");
    kill(&project);
}

/// The work that takes most of the time is named.
#[test]
fn what_limits_a_pipeline_is_named() {
    let project = Kept(TestProject::new(&format!("at_most = {{ events = 40 }}\n{PIPELINE}")));
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 5000));
    project.expect(0, &["start"]);
    wait_for(|| status(&project, "weighings")["background"]["moved"]["limit"]["work"] == "limited");
    let (said, _) = project.expect(0, &["status"]);
    assert!(said.contains("limited by `at_most`: waiting for it takes"), "{said}");
    project.expect(0, &["stop", "--all"]);
}

/// A program of a monitoring server; None where it is not there.
fn program(name: &str) -> Option<std::process::Command> {
    let there = std::process::Command::new(name).arg("--version").output().is_ok();
    assert!(there || std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "{name} is missing");
    if !there {
        eprintln!("skipped: {name} is not installed");
    }
    there.then(|| std::process::Command::new(name))
}

/// Ends with the test, however that ends.
struct Server(std::process::Child);

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A real server scrapes what is served, with the token, and its own checker takes the rules that come with us.
#[test]
fn a_monitoring_server_scrapes_the_figures() {
    let rules = concat!(env!("CARGO_MANIFEST_DIR"), "/../../packaging/alerts.yml");
    let (Some(mut checker), Some(mut server)) = (program("promtool"), program("prometheus")) else { return };
    let checked = checker.args(["check", "rules", rules]).output().unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    let (port, own) = (free_port(), free_port());
    let project =
        watched(&PIPELINE.replace("every = \"1h\"", "every = \"200ms\""), port, "watch_token = { file = \"token\" }\n");
    project.write("token", "gate-7\n");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 500));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 500);
    project.write(
        "prometheus.yml",
        format!(
            "global:\n  scrape_interval: 1s\nrule_files: ['{rules}']\nscrape_configs:\n  - job_name: sluice\n    \
             authorization: {{ credentials: gate-7 }}\n    static_configs: [{{ targets: ['127.0.0.1:{port}'] }}]\n"
        ),
    );
    let _server = Server(
        server
            .args([
                format!("--config.file={}", project.path("prometheus.yml").display()),
                format!("--storage.tsdb.path={}", project.path("series").display()),
                format!("--web.listen-address=127.0.0.1:{own}"),
            ])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap(),
    );
    // The answer of one value, as text.
    let ask_value = |query: &str| -> Option<f64> {
        let (_, text) = ask(own, &format!("/api/v1/query?query={query}"), "")?;
        let text = text.lines().find(|line| line.starts_with('{'))?.to_string();
        let found: serde_json::Value = serde_json::from_str(&text).ok()?;
        found["data"]["result"][0]["value"][1].as_str()?.parse().ok()
    };
    wait_for(|| ask_value("sluice_events_read_total") == Some(500.0));
    let archived = "sluice_landing_rows_total%7Blanding=%22weighing.archive%22%7D";
    assert_eq!(ask_value(archived), Some(expected.archive.len() as f64));
    assert_eq!(ask_value("sluice_batch_duration_seconds_count"), ask_value("sluice_batches_settled_total"));
    // Each rule can be computed.
    wait_for(|| {
        let (_, text) = ask(own, "/api/v1/rules", "").unwrap_or_default();
        text.contains("\"health\":\"ok\"") && !text.contains("\"health\":\"unknown\"")
    });
    let (_, text) = ask(own, "/api/v1/rules", "").unwrap();
    assert!(!text.contains("\"health\":\"err\""), "{text}");
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}
