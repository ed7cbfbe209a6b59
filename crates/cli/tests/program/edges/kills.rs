//! The real program, killed at each point and at random.

use super::*;

/// Positions are set all together or not at all.
#[rstest]
#[case("positions.before", 20)]
#[case("positions.after", 40)]
fn setting_positions_survives_kills(#[case] point: &str, #[case] lands: usize) {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..20));
    project.expect(0, RUN);
    let set = &["positions", "tickets", "--set", "a.jsonl=0", "--reason", "a test", "--yes"];
    let killed = project.command(set).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
    assert_eq!(killed.status.code(), None, "{killed:?}");
    project.expect(0, RUN);
    let found = in_folder(&project, "archive/all");
    assert_eq!(found.values().map(|n| usize::try_from(*n).unwrap()).sum::<usize>(), lands);
}

/// A store that rows land in, read by a client of its own.
struct Store {
    name: &'static str,
    table: String,
}

impl Store {
    fn address(&self) -> Option<String> {
        let variable = match self.name {
            "mariadb" => "SLUICE_TEST_MARIADB",
            "clickhouse" => "SLUICE_TEST_CLICKHOUSE",
            _ => return Some("office.db".into()),
        };
        let found = std::env::var(variable).ok();
        assert!(found.is_some() || std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "{variable} is not set");
        found
    }

    fn connection(&self) -> Option<String> {
        let address = self.address()?;
        let user = "user = \"sluice\"";
        Some(match self.name {
            "sqlite" => format!("[connection.office]\nurl = \"sqlite:{address}\"\n"),
            "mariadb" => format!("[connection.office]\nurl = \"mariadb://{address}/tarrow\"\n{user}\n"),
            name => format!("[connection.office]\nurl = \"{name}://{address}/tarrow\"\n"),
        })
    }

    /// How often each number is there.
    fn numbers(&self, project: &TestProject) -> BTreeMap<u64, u32> {
        let sql = format!("select n, count(*) from {} group by n order by n", self.table);
        let text = match self.name {
            "sqlite" => {
                let office = rusqlite::Connection::open(project.path("office.db")).unwrap();
                let mut rows = office.prepare(&sql).unwrap();
                return rows.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect();
            }
            "mariadb" => {
                let address = self.address().unwrap();
                let (host, port) = address.split_once(':').unwrap();
                let output = std::process::Command::new("mariadb")
                    .args(["--no-defaults", "-h", host, "-P", port, "-u", "sluice", "-N", "-B", "tarrow", "-e", &sql])
                    .output()
                    .unwrap();
                assert!(output.status.success(), "{output:?}");
                String::from_utf8(output.stdout).unwrap()
            }
            _ => {
                use std::io::{Read as _, Write as _};
                let mut server = std::net::TcpStream::connect(self.address().unwrap()).unwrap();
                let request = format!("POST /?database=tarrow HTTP/1.0\r\nContent-Length: {}\r\n\r\n{sql}", sql.len());
                server.write_all(request.as_bytes()).unwrap();
                let mut answer = String::new();
                server.read_to_string(&mut answer).unwrap();
                assert!(answer.contains(" 200 "), "{answer}");
                answer.split_once("\r\n\r\n").unwrap().1.to_string()
            }
        };
        let row = |line: &str| {
            let (n, count) = line.split_once('\t').unwrap();
            (n.parse().unwrap(), count.trim().parse().unwrap())
        };
        text.lines().map(row).collect()
    }
}

/// Every named step of the stores that share their code with PostgreSQL, killed.
#[rstest]
fn stores_survive_kills_at_every_point(
    #[values("sqlite", "mariadb", "clickhouse")] store: &'static str,
    #[values("append", "upsert")] mode: &str,
) {
    use sluice_core::fail_points::{COMMON, TABLES};
    if store == "clickhouse" && mode == "upsert" {
        return;
    }
    for (i, point) in COMMON.iter().chain(TABLES).enumerate() {
        // Without transactions the batch is recorded last.
        if store == "clickhouse" && *point == "publish.table_noted" {
            continue;
        }
        let store = Store { name: store, table: format!("kill_{}_{mode}_{i}", std::process::id()) };
        let Some(connection) = store.connection() else { return };
        let project = project(&File::default());
        project.write("sluice.toml", PROJECT.split("[connection.office]").next().unwrap().to_string() + &connection);
        let key = if mode == "upsert" { "key = \"n\"\n" } else { "" };
        // The servers are those of all tests.
        let name = format!("p_{}", store.table);
        let run = &["run", name.as_str(), "--until-caught-up"];
        project.write(
            "pipelines/tickets.toml",
            format!(
                "pipeline = \"{name}\"\nbatch = {{ rows = 20, every = \"1h\" }}\n[event.ticket]\nfields = \"n integer not \
                 null, kg integer\"\n[event.ticket.arrives]\nat = \"depots\"\n[event.ticket.lands.desk]\nat = \
                 \"office\"\ntable = \"{}\"\nmode = \"{mode}\"\n{key}lineage = true\ncreate = true\ncolumns = \"n\"\n",
                store.table
            ),
        );
        for count in 1..=2 {
            project.append("depots/a.jsonl", good((count - 1) * 50..count * 50));
            if point.starts_with("recover.") {
                project.command(run).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
            }
            let once = point.starts_with("recover.") || *point == "stage.first_rows";
            let nth = if once { 1 } else { count };
            let killed = project.command(run).env("SLUICE_KILL_AT", format!("{point}:{nth}")).output().unwrap();
            assert_eq!(killed.status.code(), None, "{point}:{nth} was not reached: {killed:?}");
        }
        project.expect(0, run);
        assert_eq!(store.numbers(&project), once(0..100), "{point}");
    }
}

/// Random sequences with the real program, killed at random steps; in the end everything is there once.
#[rstest]
fn random_sequences_leave_what_one_reading_leaves(#[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] seed: u64) {
    use sluice_core::fail_points::{COMMON, FILES, REPLAY, TABLES};
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut below = |bound: u64| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 11) % bound
    };
    let points: Vec<&str> = COMMON.iter().chain(FILES).chain(TABLES).chain(REPLAY).copied().collect();
    let mut file = File { rows: 15, ..File::default() };
    let project = project(&file);
    let mut produced = 0;
    let mut did: Vec<String> = Vec::new();
    // Exit codes that a user meets in such a sequence: a refused command changes nothing.
    let mut step = |arguments: &[&str], kill: Option<String>| {
        did.push(format!("{arguments:?} {kill:?}"));
        let mut command = project.command(arguments);
        if let Some(kill) = &kill {
            command.env("SLUICE_KILL_AT", kill);
        }
        let output = command.output().unwrap();
        let code = output.status.code();
        let err = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(matches!(code, None | Some(0 | 3 | 6)), "{did:#?}\n{code:?} {err}");
    };
    for _ in 0..14 {
        let kill = (below(3) == 0).then(|| {
            let point = points[usize::try_from(below(points.len() as u64)).unwrap()];
            format!("{point}:{}", 1 + below(3))
        });
        match below(10) {
            0..=2 => {
                let count = 10 + u32::try_from(below(40)).unwrap();
                project.append("depots/a.jsonl", lines(produced..produced + count));
                produced += count;
            }
            3..=5 => step(RUN, kill),
            6 => {
                file.fixed = !file.fixed;
                project.write("pipelines/tickets.toml", file.text());
            }
            7 => step(&["rejects", "tickets", "--retry", "--yes"], kill),
            8 => {
                let batches = format!("{}..", 1 + below(3));
                step(&["replay", "tickets", "--batches", &batches, "--yes"], kill);
            }
            _ => {
                file.third = true;
                project.write("pipelines/tickets.toml", file.text());
                step(&["replay", "tickets", "--batches", "1-2", "--landing", "third", "--yes"], kill);
            }
        }
    }
    (file.fixed, file.third) = (true, true);
    project.write("pipelines/tickets.toml", file.text());
    step(RUN, None);
    step(&["rejects", "tickets", "--retry", "--yes"], None);
    step(&["replay", "tickets", "--batches", "1-", "--landing", "third", "--yes"], None);
    let expected = once(0..produced);
    assert_eq!(in_folder(&project, "archive/all"), expected, "{did:#?}");
    assert_eq!(in_table(&project), expected, "{did:#?}");
    assert_eq!(in_folder(&project, "archive/third"), expected, "{did:#?}");
    assert_eq!(project.json(&["rejects", "tickets"])["total"], 0, "{did:#?}");
}
