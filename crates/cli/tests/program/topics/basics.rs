//! Topics: read from, written to, positions, replay. The broker is the stand-in; kcat is the independent client.

use std::io::{BufRead as _, BufReader};
use std::net::TcpListener;
use std::process::Stdio;
use std::time::Duration;

use crate::common::Expected;
use crate::common::running::{Running, wait_for};
use crate::common::topics;
use crate::common::topics::{
    Proxy, StandIn, admin, consume, has, keyed, latest, lines, numbers, produce, rows, set_up, simple,
};
use rdkafka::topic_partition_list::Offset;
use rstest::rstest;
use serde_json::{Value, json};

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

#[test]
fn a_topic_lands_once_and_the_group_follows() {
    let Some((broker, project)) = set_up("depot.weighings:3", &topics::pipeline(false)) else { return };
    let mut expected = Expected::default();
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(0, 500)), &[]);
    project.expect(0, RUN);
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(500, 300)), &[]);
    project.expect(0, RUN);
    expected.check(&project);
    let (out, _) = project.expect(0, RUN);
    assert_eq!(out, "weighings: nothing new to read\n");
    for (partition, end) in (0..3).zip(latest(&broker.address, "depot.weighings", 3)) {
        let reported = admin::committed(&broker.address, "sluice.weighings.weighing.0", "depot.weighings", partition);
        assert_eq!(reported, Offset::Offset(i64::try_from(end).unwrap()));
    }
}

#[test]
fn what_the_broker_reports_can_be_named() {
    let pipeline = simple("").replace(
        "path = \"all\"",
        "path = \"all\"\ncolumns = \"n, origin.topic, origin.partition as part, origin.offset as at, origin.key, origin.headers, origin.time is not null as timed\"",
    );
    let Some((broker, project)) = set_up("depot.weighings:2", &pipeline) else { return };
    produce(&broker.address, "depot.weighings", "scale-1\t{\"n\":1}\n", &["-p", "1", "-H", "depot=ostrey"]);
    project.expect(0, RUN);
    let expected = json!({
        "n": 1, "topic": "depot.weighings", "part": 1, "at": 0, "key": "scale-1",
        "headers": { "depot": "ostrey" }, "timed": true,
    });
    assert_eq!(rows(&project, "archive/all"), [expected]);
    project.write("pipelines/weighings.toml", pipeline.replace("origin.offset", "origin.ofset"));
    let (_, err) = project.expect(3, &["check", "--offline"]);
    assert!(err.contains("origin.offset"), "{err}");
}

#[rstest]
#[case("earliest", &[0, 1, 2, 3, 4, 5], &[])]
#[case("latest", &[4, 5], &[4, 5])]
#[case("2030-01-01T00:00:00Z", &[4, 5], &[4, 5])]
fn the_first_start(#[case] start: &str, #[case] all: &[u64], #[case] later: &[u64]) {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple(&format!("start = \"{start}\""))) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 4), &[]);
    project.expect(0, RUN);
    if !later.is_empty() {
        assert_eq!(numbers(&project, "archive/all"), Vec::<u64>::new());
    }
    // The start of reading was recorded although nothing was read.
    produce(&broker.address, "depot.weighings", &lines(4, 6), &[]);
    project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), all);
}

#[test]
fn a_start_at_positions_wants_them_set() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("start = \"positions\"")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 6), &[]);
    let (_, err) = project.expect(3, RUN);
    assert!(err.contains("--set"), "{err}");
    let set = ["positions", "weighings", "--set", "depot.weighings/0=4", "--reason", "a trial", "--yes"];
    project.expect(0, &set);
    project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), [4, 5]);
    let changes = project.json(&["positions", "weighings", "--changes"])["changes"].clone();
    assert_eq!((changes[0]["to"]["major"].clone(), changes[0]["reason"].clone()), (json!(4), json!("a trial")));
}

#[test]
fn tombstones_are_counted_or_rejected() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", "a\t{\"n\":1}\nb\t\nc\t{\"n\":2}\n", &["-Z"]);
    let report = project.json(RUN);
    assert_eq!((report["read"].clone(), report["stations"][0]["filtered"].clone()), (json!(3), json!(1)));
    assert_eq!(numbers(&project, "archive/all"), [1, 2]);
    project.write("pipelines/weighings.toml", simple("tombstones = \"reject\""));
    produce(&broker.address, "depot.weighings", "b\t\n", &["-Z"]);
    assert_eq!(project.json(RUN)["rejected"], 1);
    project.write("pipelines/weighings.toml", simple("tombstones = \"null\"").replace("not null", ""));
    produce(&broker.address, "depot.weighings", "b\t\nc\t{\"n\":3}\n", &["-Z"]);
    let report = project.json(RUN);
    assert_eq!((report["rejected"].clone(), report["stations"][0]["output"].clone()), (json!(0), json!(2)));
    let as_csv = simple("csv = { header = false }\ntombstones = \"null\"")
        .replace("format = \"json\"", "format = \"csv\"")
        .replace("not null", "from '1'");
    project.write("pipelines/weighings.toml", as_csv);
    let (out, err) = project.expect(3, RUN);
    assert!(format!("{out}{err}").contains("only where `format` is json"), "{out}{err}");
}

#[test]
fn only_committed_messages_are_read() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("")) else { return };
    let all: &[(&[&str], bool)] =
        &[(&[r#"{"n":1}"#, r#"{"n":2}"#], true), (&[r#"{"n":98}"#, r#"{"n":99}"#], false), (&[r#"{"n":3}"#], true)];
    admin::transactions(&broker.address, "depot.weighings", all);
    project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), [1, 2, 3]);
    // Only the marker of its transaction follows the last message: the lag is 0.
    let standing = project.json(&["positions", "weighings"]);
    assert_eq!(standing["arrivals"][0]["behind"]["events"], 0);
    assert_eq!(project.expect(0, RUN).0, "weighings: nothing new to read\n");
}

#[test]
fn new_partitions_are_noticed_while_running() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("start = \"latest\"")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 3), &[]);
    let run = ["run", "weighings", "--stop-after", "2"];
    let running = Running::following(&project, &run);
    produce(&broker.address, "depot.weighings", &lines(3, 103), &[]);
    admin::add_partitions(&broker.address, "depot.weighings", 3);
    produce(&broker.address, "depot.weighings", &lines(103, 203), &["-p", "2"]);
    let (code, said) = running.end();
    assert_eq!(code, 0, "{said}");
    assert_eq!(numbers(&project, "archive/all"), (3..203).collect::<Vec<_>>());
}

#[test]
fn a_recreated_topic_stops_the_run() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 5), &[]);
    project.expect(0, RUN);
    admin::recreate(&broker.address, "depot.weighings", 1);
    let (_, shorter) = project.expect(6, RUN);
    produce(&broker.address, "depot.weighings", &lines(50, 60), &[]);
    let (_, longer) = project.expect(6, RUN);
    assert!(longer.contains("depot.weighings/0") && longer.contains("was recreated"), "{longer}");
    assert!(shorter.contains("depot.weighings/0") && shorter.contains("positions"), "{shorter}");
    project.expect(0, &["positions", "weighings", "--set", "earliest", "--reason", "a new topic", "--yes"]);
    project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), [0, 1, 2, 3, 4].into_iter().chain(50..60).collect::<Vec<_>>());
}

#[test]
fn what_expired_unread_stops_the_run() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 5), &[]);
    project.expect(0, RUN);
    produce(&broker.address, "depot.weighings", &lines(5, 20), &[]);
    admin::delete_before(&broker.address, "depot.weighings", 0, 12);
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("7 events") && err.contains("offset 5"), "{err}");
    project.expect(0, &["positions", "weighings", "--set", "earliest", "--reason", "lost", "--yes"]);
    project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), (0..5).chain(12..20).collect::<Vec<_>>());
}

#[test]
fn a_broker_that_is_away_at_the_start_is_named() {
    let address = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    let project = topics::project(&address, &simple(""));
    let (_, err) = project.expect(5, RUN);
    assert!(err.contains(&address) && err.contains("Connection refused"), "{err}");
    let (_, err) = project.expect(3, &["check"]);
    assert!(err.contains(&address), "{err}");
}

#[test]
fn a_broker_that_goes_away_is_waited_for() {
    if !has("kcat") {
        return;
    }
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let reported = listener.local_addr().unwrap().to_string();
    let broker =
        StandIn::start(&["--topic", "depot.weighings:2", "--topic", "depot.landed:2", "--advertise", &reported]);
    let proxy = Proxy::start(listener, broker.address.clone());
    let pipeline = topics::pipeline(true).replace("every = \"1h\"", "every = \"200ms\"");
    let project = topics::project(&proxy.address, &pipeline);
    let mut expected = Expected::default();
    produce(&proxy.address, "depot.weighings", &keyed(&expected.lines(0, 300)), &[]);
    let run = ["run", "weighings"];
    let mut child = project.command(&run).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let mut said = BufReader::new(child.stderr.take().unwrap()).lines();
    wait_for(|| project.archived().len() == expected.archive.len());
    proxy.cut();
    let away = said.find_map(|line| line.ok().filter(|line| line.contains("does not answer"))).unwrap();
    assert!(away.contains("does not answer") && away.contains("waiting") && !away.contains("end of"), "{away}");
    std::thread::sleep(Duration::from_secs(3));
    proxy.fix();
    produce(&proxy.address, "depot.weighings", &keyed(&expected.lines(1000, 300)), &[]);
    assert!(said.any(|line| line.unwrap().contains("answers again")));
    wait_for(|| project.archived().len() == expected.archive.len());
    let _ = std::process::Command::new("kill").args(["-TERM", &child.id().to_string()]).status();
    assert!(child.wait().unwrap().success());
    expected.check(&project);
    assert_eq!(topics::tickets(&broker.address, "depot.landed"), expected.archive);
}

#[test]
fn keys_headers_and_partitions_reach_the_topic() {
    let pipeline = simple("")
        + "[event.weighing.lands.onward]\nat = \"lock-broker\"\ntopic = \"depot.landed\"\nkey = \"'scale-' || cast(n % 3 as text)\"\n\
           headers = \"n as number, origin.key as source\"\npartition = \"n % 2\"\nformat = \"json\"\n";
    let Some((broker, project)) = set_up("depot.weighings:1", &pipeline) else { return };
    produce(&broker.address, "depot.weighings", &lines(1, 4), &[]);
    project.expect(0, RUN);
    let mut found = consume(&broker.address, "depot.landed", "%p %k %h %s\\n");
    found.sort();
    assert_eq!(
        found,
        [
            r#"0 scale-2 number=2,source=k2 {"n":2}"#,
            r#"1 scale-0 number=3,source=k3 {"n":3}"#,
            r#"1 scale-1 number=1,source=k1 {"n":1}"#,
        ]
    );
    let (out, _) = project.expect(0, &["peek", "weighings.weighing.onward"]);
    assert!(out.contains("depot.landed") && out.contains("all 3 events"), "{out}");
    project.write("pipelines/weighings.toml", pipeline.replace("\"n % 2\"", "\"n\""));
    produce(&broker.address, "depot.weighings", &lines(7, 8), &[]);
    project.expect(0, RUN);
    let (out, _) = project.expect(0, &["rejects", "weighings"]);
    assert!(out.contains("unfit") && out.contains("partitions 0 to 1"), "{out}");
}

#[test]
fn a_missing_topic_is_shown_and_made_on_request() {
    let landing = |create: &str| {
        simple("") + &format!("[event.weighing.lands.onward]\nat = \"lock-broker\"\ntopic = \"depot.new\"\n{create}\n")
    };
    let Some((broker, project)) = set_up("depot.weighings:1", &landing("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 3), &[]);
    let (_, err) = project.expect(3, &["check"]);
    assert!(err.contains("there is no topic `depot.new`") && err.contains("create ="), "{err}");
    project.expect(5, RUN);
    assert_eq!(numbers(&project, "archive/all"), Vec::<u64>::new(), "nothing moves before all ends are there");
    project.write("pipelines/weighings.toml", landing("create = { partitions = 3, retention = \"2d\" }"));
    project.expect(0, &["check"]);
    project.expect(0, RUN);
    assert_eq!(consume(&broker.address, "depot.new", "%s\\n").len(), 3);
    assert_eq!(latest(&broker.address, "depot.new", 3).len(), 3);
}

#[test]
fn two_ledgers_cannot_write_to_one_landing() {
    let Some((broker, project)) = set_up("depot.weighings:1", &topics::pipeline(true)) else { return };
    let mut expected = Expected::default();
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(0, 50)), &[]);
    project.expect(0, RUN);
    let rival = topics::project(&broker.address, &topics::pipeline(true));
    let (_, err) = rival.expect(6, RUN);
    assert!(err.contains("another ledger") && err.contains("--adopt"), "{err}");
    rival.expect(0, &[RUN, &["--adopt"]].concat());
    assert_eq!(topics::tickets(&broker.address, "depot.landed"), expected.archive);
}

#[test]
fn looking_moves_nothing() {
    let Some((broker, project)) = set_up("depot.weighings:2", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 100), &[]);
    let raw = |arguments: &[&str]| {
        let (out, _) = project.expect(0, &[&["peek", "lock-broker:depot.weighings", "--raw"], arguments].concat());
        let number = |l: &str| serde_json::from_str::<Value>(l).unwrap()["n"].as_u64().unwrap();
        let mut found: Vec<u64> = out.lines().map(number).collect();
        found.sort_unstable();
        found
    };
    assert_eq!(raw(&["--events", "1000"]), (0..100).collect::<Vec<_>>());
    let last = raw(&["--newest", "--events", "10"]);
    assert_eq!(last.len(), 10);
    assert!(last.iter().all(|n| *n >= 60), "{last:?}");
    assert_eq!(raw(&["--since", "1h", "--events", "1000"]).len(), 100);
    assert_eq!(raw(&["--until", "2020-01-01", "--events", "1000"]).len(), 0);
    let rehearsed = project.json(&["rehearse", "weighings", "--newest", "--events", "10"]);
    assert_eq!(rehearsed["landings"][0]["rows"], 10, "{rehearsed}");
    assert!(!project.path(".sluice/ledger.db").exists(), "looking made a ledger");
    let reported = admin::committed(&broker.address, "sluice.look", "depot.weighings", 0);
    assert_eq!(reported, Offset::Invalid);
    project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all").len(), 100);
}

#[test]
fn kept_messages_are_rehearsed_as_they_came() {
    let pipeline = simple("").replace(
        "path = \"all\"",
        "path = \"all\"\ncolumns = \"n, origin.key, origin.partition, origin.offset, origin.time, origin.headers\"",
    );
    let Some((broker, project)) = set_up("depot.weighings:2", &pipeline) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 20), &["-H", "depot=ostrey"]);
    produce(&broker.address, "depot.weighings", "bad\tno json\n", &[]);
    project.expect(0, &["rehearse", "weighings", "--keep", "kept.jsonl"]);
    project.expect(0, &["rehearse", "weighings", "--expect", "kept.jsonl"]);
    project.write("pipelines/weighings.toml", pipeline.replace("origin.key,", "upper(origin.key) as key,"));
    let (out, _) = project.expect(6, &["rehearse", "weighings", "--expect", "kept.jsonl"]);
    assert!(out.contains("K7"), "{out}");
}

#[test]
fn a_live_look_shows_what_arrives() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 5), &[]);
    let look = ["peek", "lock-broker:depot.weighings", "--live", "--events", "2", "--output", "json"];
    let mut child = project.command(&look).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut said = BufReader::new(child.stderr.take().unwrap()).lines();
    assert!(said.next().unwrap().unwrap().contains("waiting"));
    produce(&broker.address, "depot.weighings", &lines(5, 7), &[]);
    let document: Value = serde_json::from_reader(child.stdout.take().unwrap()).unwrap();
    let seen = document["events"].as_array().unwrap();
    assert_eq!(seen.len(), 2);
    assert_eq!((seen[0]["offset"].clone(), seen[1]["key"].clone()), (json!(5), json!("k6")));
    assert!(child.wait().unwrap().success());
}

#[test]
fn events_are_emitted_into_a_topic() {
    let Some((broker, project)) = set_up("depot.weighings:4", &simple("")) else { return };
    let emit = ["emit", "tolls", "--into", "lock-broker:depot.weighings", "--count", "500", "--seed", "7"];
    project.expect(0, &emit);
    let found = consume(&broker.address, "depot.weighings", "%p %k\\n");
    assert_eq!(found.len(), 500);
    let mut partitions = std::collections::BTreeMap::new();
    for line in &found {
        let (partition, key) = line.split_once(' ').unwrap();
        assert!(!key.is_empty());
        let known = partitions.entry(key.to_string()).or_insert(partition.to_string());
        assert_eq!(known, partition, "one key has one partition");
    }
    let (_, err) = project.expect(5, &["emit", "tolls", "--into", "lock-broker:depot.weighing", "--count", "1"]);
    assert!(err.contains("did you mean `depot.weighings`") && err.contains("--partitions"), "{err}");
    let mut child = project
        .command(&["emit", "-", "--into", "lock-broker:depot.lines", "--partitions", "2", "--key", "n"])
        .stdin(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), b"{\"n\":1}\n\n{\"n\":2}").unwrap();
    assert!(child.wait().unwrap().success());
    let mut sent = consume(&broker.address, "depot.lines", "%k %s\\n");
    sent.sort();
    assert_eq!(sent, ["1 {\"n\":1}", "2 {\"n\":2}"]);
}

#[rstest]
fn a_login_is_asked_for_and_never_shown(#[values("plain", "scram-sha-256", "scram-sha-512")] login: &str) {
    if !has("kcat") {
        return;
    }
    let broker = StandIn::start(&["--topic", "depot.weighings:1", "--user", "sluice"]);
    let mechanism = format!("sasl.mechanism={}", login.to_uppercase());
    let options = ["security.protocol=sasl_plaintext", &mechanism, "sasl.username=sluice", "sasl.password=gate-7"];
    let options: Vec<&str> = options.iter().flat_map(|o| ["-X", *o]).collect();
    produce(&broker.address, "depot.weighings", &lines(0, 3), &options);
    let project = topics::project(&broker.address, &simple(""));
    project.append("sluice.toml", format!("user = \"sluice\"\nlogin = \"{login}\"\npassword = {{ env = \"GATE\" }}\n"));
    let run = |password: &str| project.command(RUN).env("GATE", password).output().unwrap();
    let refused = run("gate-8");
    let said = String::from_utf8(refused.stderr).unwrap();
    assert_eq!(refused.status.code(), Some(5), "{said}");
    assert!(said.contains("refuses the login") && !said.contains("gate-8"), "{said}");
    let allowed = run("gate-7");
    assert!(allowed.status.success(), "{allowed:?}");
    assert_eq!(numbers(&project, "archive/all"), [0, 1, 2]);
    let (_, err) = project.expect(3, RUN);
    assert!(err.contains("GATE"), "{err}");
}

/// Clients are dropped while they still log in; they used to read memory that OpenSSL frees at the end of the program.
#[test]
fn a_program_that_ends_while_it_logs_in_ends_well() {
    let broker = StandIn::start(&["--topic", "depot.weighings:8", "--user", "sluice"]);
    let try_it = || {
        let project = topics::project(&broker.address, &simple(""));
        project.append("sluice.toml", "user = \"sluice\"\nlogin = \"scram-sha-512\"\npassword = { env = \"GATE\" }\n");
        for attempt in 0..10 {
            let output = project.command(RUN).env("GATE", "gate-7").output().unwrap();
            assert!(output.status.success(), "attempt {attempt}: {output:?}");
        }
    };
    // Each waits for the broker most of the time.
    std::thread::scope(|scope| (0..2).for_each(|_| drop(scope.spawn(try_it))));
}

#[test]
fn a_connection_is_encrypted_and_its_other_end_proven() {
    if !has("kcat") || !has("socat") || !has("openssl") {
        return;
    }
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let reported = format!("localhost:{port}");
    let broker = StandIn::start(&["--topic", "depot.weighings:1", "--advertise", &reported]);
    let project = topics::project(&reported, &simple(""));
    let (key, certificate) = (project.path("key.pem"), project.path("lock.pem"));
    let made = std::process::Command::new("openssl")
        .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost"])
        .args(["-addext", "subjectAltName=DNS:localhost", "-addext", "basicConstraints=critical,CA:FALSE", "-keyout"])
        .arg(&key)
        .arg("-out")
        .arg(&certificate)
        .output()
        .unwrap();
    assert!(made.status.success());
    let listen = format!(
        "OPENSSL-LISTEN:{port},bind=127.0.0.1,reuseaddr,fork,verify=0,cert={},key={}",
        certificate.display(),
        key.display()
    );
    let mut tunnel = std::process::Command::new("socat")
        .args([listen, format!("TCP:{}", broker.address)])
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    wait_for(|| std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
    let authority = format!("ssl.ca.location={}", certificate.display());
    produce(&reported, "depot.weighings", &lines(0, 3), &["-X", "security.protocol=ssl", "-X", &authority]);
    project.append("sluice.toml", "tls = true\n");
    let (_, unknown) = project.expect(5, RUN);
    project.append("sluice.toml", "authority = \"lock.pem\"\n");
    project.expect(0, RUN);
    // Questions that the client library cannot ask are encrypted too.
    let trusted = certificate.display().to_string();
    let options = [("bootstrap.servers", &*reported), ("security.protocol", "ssl"), ("ssl.ca.location", &trusted)];
    let open = admin::open_transaction_with(&options, "depot.weighings", &["{\"n\":3}"]);
    let (positions, _) = project.expect(0, &["positions", "weighings"]);
    drop(open);
    let _ = tunnel.kill();
    let _ = tunnel.wait();
    assert!(positions.contains("an open transaction of `stays-open`"), "{positions}");
    assert!(unknown.contains("encrypted"), "{unknown}");
    assert_eq!(numbers(&project, "archive/all"), [0, 1, 2]);
}

#[test]
fn a_draft_is_made_from_a_topic() {
    let Some((broker, project)) = set_up("depot.weighings:2", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 50), &[]);
    project.expect(0, &["draft", "drafted", "lock-broker:depot.weighings"]);
    let text = std::fs::read_to_string(project.path("pipelines/drafted.toml")).unwrap();
    assert!(text.contains("topic  = \"depot.weighings\"\nformat = \"json\""), "{text}");
    project.expect(0, &["run", "drafted", "--until-caught-up"]);
    assert_eq!(project.json(&["ledger", "drafted"])["batches"][0]["read"], 50);
}
