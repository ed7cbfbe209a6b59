//! Joins of two events, compared with what SQLite computes over all events at once.

use std::collections::BTreeSet;

use super::{START, balanced, project, rejected, rows};
use crate::common::TestProject;
use crate::common::work::Random;
use rstest::rstest;
use serde_json::Value;

pub(super) const RUN: &[&str] = &["run", "passages", "--until-caught-up"];

pub(super) const EVENTS: &str = r#"
pipeline = "passages"
batch = { rows = 300 }
rejects = { share = "90%", least = 100000 }
[event.passage]
fields = "passage_id integer not null, lock_id text not null, vessel_no text, passed_at timestamptz not null"
time = "passed_at"
[event.passage.arrives]
at = "locks"
match = "p*.jsonl"
[event.passage.lands.all]
at = "archive"
path = "all"
format = "jsonl"
[event.toll]
fields = "toll_id integer not null, vessel_no text, paid_at timestamptz not null, cents integer"
time = "paid_at"
[event.toll.arrives]
at = "locks"
match = "t*.jsonl"
[event.toll.lands.tolls]
at = "office"
table = "toll"
mode = "upsert"
key = "toll_id"
columns = "toll_id, vessel_no"
create = true
"#;

/// A join of both, with a window over its rows.
pub(super) fn join(near: &str, more: &str) -> String {
    format!(
        "[event.paid]\ntime = \"passed_at\"\n[event.paid.made]\nof = \"passage\"\nlate = \"20m\"\nidle = \"1h\"\n{more}\n\
         join = {{ event = \"toll\", on = \"toll.vessel_no = passage.vessel_no and toll.cents > 50\", {near} }}\n\
         columns = \"passage.*, toll.toll_id, toll.cents\"\n\
         [event.paid.lands.archive]\nat = \"archive\"\npath = \"paid\"\nformat = \"jsonl\"\n"
    )
}

/// Passages and tolls at random, out of order by up to some minutes; kept in SQLite as well.
pub(super) struct Crossings {
    pub(super) random: Random,
    engine: rusqlite::Connection,
    passages: u64,
    tolls: u64,
}

fn moment(second: u64) -> String {
    let time = chrono::DateTime::from_timestamp(i64::try_from(second).unwrap(), 0).unwrap();
    time.format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

impl Crossings {
    pub(super) fn new(seed: u64) -> Self {
        let engine = rusqlite::Connection::open_in_memory().unwrap();
        let tables = "create table p (id integer, vessel text, t integer); create table t (id integer, vessel text, t integer, cents integer);
                      create index tv on t (vessel); create index pv on p (vessel)";
        engine.execute_batch(tables).unwrap();
        Self { random: Random::of(seed), engine, passages: 0, tolls: 0 }
    }

    fn vessel(&mut self) -> Option<String> {
        let vessel = self.random.below(60);
        (vessel > 0).then(|| format!("V{vessel}"))
    }

    pub(super) fn passages(&mut self, count: u64) -> String {
        let mut text = String::new();
        for n in self.passages..self.passages + count {
            let behind = if self.random.below(40) == 0 { 300 + self.random.below(500) } else { self.random.below(60) };
            let (second, vessel) = (START + n * 2 - behind, self.vessel());
            self.engine.execute("insert into p values (?1, ?2, ?3)", (n, &vessel, second)).unwrap();
            let lock = format!("L{}", n % 5);
            let line = serde_json::json!({ "passage_id": n, "lock_id": lock, "vessel_no": vessel, "passed_at": moment(second) });
            text.push_str(&format!("{line}\n"));
        }
        self.passages += count;
        text
    }

    pub(super) fn tolls(&mut self, count: u64) -> String {
        let mut text = String::new();
        for n in self.tolls..self.tolls + count {
            let (second, vessel) = (START + n * 2 + self.random.below(300) - 150, self.vessel());
            let cents = self.random.below(200);
            self.engine.execute("insert into t values (?1, ?2, ?3, ?4)", (n, &vessel, second, cents)).unwrap();
            let line =
                serde_json::json!({ "toll_id": n, "vessel_no": vessel, "paid_at": moment(second), "cents": cents });
            text.push_str(&format!("{line}\n"));
        }
        self.tolls += count;
        text
    }

    /// The pairs, by SQLite; `near` is a condition on `p.t` and `t.t`.
    fn pairs(&self, near: &str) -> BTreeSet<(Option<i64>, Option<i64>)> {
        let sql = format!("select p.id, t.id from p join t on p.vessel = t.vessel and t.cents > 50 and {near}");
        let mut statement = self.engine.prepare(&sql).unwrap();
        statement.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect()
    }

    /// The passages without a pair whose last partner would be before a moment, in seconds since 1970; None takes all.
    fn alone(&self, near: &str, last: &str, before: Option<u64>) -> BTreeSet<(Option<i64>, Option<i64>)> {
        let before = before.unwrap_or(u64::from(u32::MAX) * 2);
        let sql = format!(
            "select p.id from p where {last} < {before} and not exists
             (select 1 from t where p.vessel = t.vessel and t.cents > 50 and {near})"
        );
        let mut statement = self.engine.prepare(&sql).unwrap();
        statement.query_map([], |r| Ok((Some(r.get(0)?), None))).unwrap().map(Result::unwrap).collect()
    }

    /// How far time has come: the newest passage or the newest toll, whichever is older.
    fn watermark(&self) -> u64 {
        let sql = "select min((select max(t) from p), (select max(t) from t))";
        self.engine.query_row(sql, [], |r| r.get(0)).unwrap()
    }
}

pub(super) fn landed(project: &TestProject) -> BTreeSet<(Option<i64>, Option<i64>)> {
    let mut found = BTreeSet::new();
    for row in rows(project, "paid") {
        let pair = (row["passage_id"].as_i64(), row["toll_id"].as_i64());
        assert!(found.insert(pair), "{pair:?} landed twice");
    }
    found
}

/// Pairs within two minutes before and ten after, and passages without one.
pub(super) const WITHIN: &str = "from = \"-2m\", to = \"10m\", unmatched = \"left\"";

/// Compares everything that has landed with what SQLite computes.
pub(super) fn check(project: &TestProject, crossings: &Crossings, is_closed: bool) {
    let near = "t.t - p.t between -120 and 600";
    let before = (!is_closed).then(|| crossings.watermark() - 1_200);
    let mut expected = crossings.pairs(near);
    let alone = crossings.alone(near, "p.t + 600", before);
    let is_long = crossings.passages > 1_500;
    assert!(expected.len() > 50 && (alone.len() > 5 || !is_long), "{} {}", expected.len(), alone.len());
    expected.extend(alone);
    let found = landed(project);
    let missing: Vec<_> = expected.difference(&found).take(9).collect();
    let strange: Vec<_> = found.difference(&expected).take(9).collect();
    assert!(missing.is_empty() && strange.is_empty(), "missing {missing:?}, strange {strange:?}");
    assert_eq!(rejected(project), Vec::<String>::new());
    let numbers = |folder: &str, key: &str| -> Vec<i64> {
        let mut all: Vec<i64> = rows(project, folder).iter().map(|row| row[key].as_i64().unwrap()).collect();
        all.sort_unstable();
        all
    };
    assert_eq!(numbers("all", "passage_id"), (0..i64::try_from(crossings.passages).unwrap()).collect::<Vec<_>>());
    assert_eq!(tolls(project), crossings.tolls);
    balanced(project);
}

fn tolls(project: &TestProject) -> u64 {
    let office = rusqlite::Connection::open(project.path("office.db")).unwrap();
    office.query_row("select count(*) from toll", [], |r| r.get(0)).unwrap()
}

pub(super) fn joined(near: &str, more: &str) -> TestProject {
    project(&[EVENTS, &join(near, more)].concat())
}

#[rstest]
#[case::at_once(1, 2_000)]
#[case::in_many_runs(6, 350)]
fn every_pair_lands_once_and_passages_without_one_when_time_has_passed(#[case] runs: u64, #[case] each: u64) {
    let project = joined(WITHIN, "");
    let mut crossings = Crossings::new(runs);
    for _ in 0..runs {
        project.append("locks/p.jsonl", crossings.passages(each));
        project.append("locks/t.jsonl", crossings.tolls(each));
        project.expect(0, RUN);
        check(&project, &crossings, false);
    }
}

#[rstest]
#[case("within = \"3m\"", "abs(t.t - p.t) <= 180")]
#[case("window = \"10m\"", "t.t / 600 = p.t / 600")]
#[case("from = \"1m\", to = \"2m\"", "t.t - p.t between 60 and 120")]
fn pairs_are_near_as_the_file_says(#[case] near: &str, #[case] condition: &str) {
    let project = joined(&format!("{near}, unmatched = \"both\""), "close = \"caught_up\"");
    let mut crossings = Crossings::new(5);
    project.append("locks/p.jsonl", crossings.passages(1_500));
    project.append("locks/t.jsonl", crossings.tolls(1_400));
    project.expect(0, RUN);
    let found = landed(&project);
    let mut expected = crossings.pairs(condition);
    assert!(expected.len() > 20);
    expected.extend(crossings.alone(condition, "0", None));
    let with_passage: BTreeSet<_> = found.iter().filter(|(passage, _)| passage.is_some()).copied().collect();
    assert_eq!(with_passage, expected);
    let met: BTreeSet<i64> = expected.iter().filter_map(|(_, toll)| *toll).collect();
    let alone: BTreeSet<i64> = found.iter().filter(|(p, _)| p.is_none()).filter_map(|(_, toll)| *toll).collect();
    let all: BTreeSet<i64> = (0..i64::try_from(crossings.tolls).unwrap()).collect();
    assert_eq!(alone, all.difference(&met).copied().collect());
    balanced(&project);
}

#[test]
fn a_window_counts_the_rows_of_a_join() {
    let window = "[event.hour.made]\nof = \"paid\"\nwindow = { length = \"10m\" }\ngroup = \"lock_id\"\nlate = \"0s\"\n\
                  close = \"caught_up\"\ncolumns = \"lock_id, window_start, count(*) as passages, count(toll_id) as paid\"\n\
                  [event.hour.lands.archive]\nat = \"archive\"\npath = \"hours\"\nformat = \"jsonl\"\n";
    let project = project(&[EVENTS, &join(WITHIN, "close = \"caught_up\""), window].concat());
    let mut crossings = Crossings::new(8);
    project.append("locks/p.jsonl", crossings.passages(2_500));
    project.append("locks/t.jsonl", crossings.tolls(2_500));
    project.expect(0, RUN);
    check(&project, &crossings, true);
    let sum = |key: &str| rows(&project, "hours").iter().map(|row| row[key].as_u64().unwrap()).sum::<u64>();
    let paid = landed(&project);
    assert_eq!(sum("passages"), paid.len() as u64);
    assert_eq!(sum("paid"), paid.iter().filter(|(_, toll)| toll.is_some()).count() as u64);
}

#[test]
fn a_join_that_comes_later_and_goes_again_moves_no_position() {
    let project = project(EVENTS);
    let mut crossings = Crossings::new(11);
    let numbers = |count: u64| usize::try_from(count).unwrap();
    let grow = |crossings: &mut Crossings| {
        project.append("locks/p.jsonl", crossings.passages(400));
        project.append("locks/t.jsonl", crossings.tolls(400));
        project.expect(0, RUN);
        let all: BTreeSet<i64> = rows(&project, "all").iter().map(|row| row["passage_id"].as_i64().unwrap()).collect();
        assert_eq!(
            (all.len(), rows(&project, "all").len()),
            (numbers(crossings.passages), numbers(crossings.passages))
        );
        assert_eq!(tolls(&project), crossings.tolls);
        balanced(&project);
    };
    grow(&mut crossings);
    project.write("pipelines/passages.toml", [EVENTS, &join(WITHIN, "")].concat());
    grow(&mut crossings);
    grow(&mut crossings);
    assert!(
        landed(&project).iter().all(|(passage, toll)| *passage >= Some(400) && toll.is_none_or(|toll| toll >= 400))
    );
    project.write("pipelines/passages.toml", EVENTS);
    grow(&mut crossings);
    let listed = project.json(&["positions", "passages"])["arrivals"].clone();
    let behind = |arrival: &Value| arrival["partitions"][0]["behind"]["bytes"].as_u64();
    assert_eq!(listed.as_array().unwrap().iter().map(behind).collect::<Vec<_>>(), [Some(0), Some(0)]);
}

#[test]
fn events_that_were_read_together_are_read_again_each_from_its_place() {
    let project = joined(WITHIN, "");
    let mut crossings = Crossings::new(12);
    project.append("locks/p.jsonl", crossings.passages(500) + "{\"passage_id\": 9000}\n");
    project.append("locks/t.jsonl", crossings.tolls(500) + "{\"toll_id\": 9000}\n");
    project.expect(0, RUN);
    let replay = |landing: &str| {
        project
            .expect(0, &["replay", "passages", "--batches", "1-", "--landing", landing, "--reason", "again", "--yes"])
    };
    let before = (rows(&project, "all").len(), tolls(&project));
    let (out, _) = replay("passage.all");
    assert!(out.contains("500") || out.contains("501"), "{out}");
    replay("toll.tolls");
    assert_eq!((rows(&project, "all").len(), tolls(&project)), before);
    let open = project.json(&["rejects", "passages"]);
    assert_eq!(open["total"], 2, "{open}");
    // The contracts take them now.
    let text = [EVENTS, &join(WITHIN, "")].concat();
    let text =
        text.replace("lock_id text not null", "lock_id text").replace("_at timestamptz not null", "_at timestamptz");
    project.write("pipelines/passages.toml", text);
    let pairs = landed(&project);
    project.expect(0, &["rejects", "passages", "--retry", "--yes"]);
    assert_eq!(landed(&project), pairs, "a join does not take what comes so late");
    assert_eq!((rows(&project, "all").len(), tolls(&project)), (501, 501));
}

#[test]
fn a_lane_that_has_become_another_one_is_refused_where_a_window_remembers_it() {
    let window = "[event.tolls_of_hour.made]\nof = \"toll\"\nwindow = { length = \"1h\" }\ncolumns = \"window_start, count(*) as tolls\"\n\
                  [event.tolls_of_hour.lands.archive]\nat = \"archive\"\npath = \"hours\"\nformat = \"jsonl\"\n";
    let project = project(&[EVENTS, window].concat());
    let mut crossings = Crossings::new(13);
    project.append("locks/p.jsonl", crossings.passages(100));
    project.append("locks/t.jsonl", crossings.tolls(100));
    project.expect(0, RUN);
    project.write("pipelines/passages.toml", [EVENTS, window, &join(WITHIN, "")].concat());
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("`tolls_of_hour` remembers events of lane toll.0.0") && err.contains("another name"), "{err}");
    project.write("pipelines/passages.toml", [EVENTS, window].concat());
    project.expect(0, RUN);
}

#[rstest]
#[case::no_equation("toll.vessel_no < passage.vessel_no", WITHIN, "needs an equation between both events")]
#[case::one_side_alone("toll.vessel_no = toll.cents", WITHIN, "types do not go together")]
#[case::other_types("toll.cents = passage.vessel_no", WITHIN, "types do not go together")]
#[case::unknown("toll.vesel_no = passage.vessel_no", WITHIN, "there is no column `toll.vesel_no`")]
#[case::without_event("vessel_no = toll.vessel_no", WITHIN, "there is no column `vessel_no`")]
#[case::no_time("toll.vessel_no = passage.vessel_no", "unmatched = \"left\"", "how near the times of both events are")]
#[case::two_ways("toll.vessel_no = passage.vessel_no", "within = \"1m\", window = \"1m\"", "in one way alone")]
#[case::turned("toll.vessel_no = passage.vessel_no", "from = \"2m\", to = \"1m\"", "`from` is later than `to`")]
#[case::half("toll.vessel_no = passage.vessel_no", "from = \"2m\"", "`from` and `to` stand together")]
#[case::no_duration("toll.vessel_no = passage.vessel_no", "from = \"soon\", to = \"1m\"", "soon")]
fn mistakes_in_joins_are_named(#[case] on: &str, #[case] near: &str, #[case] expected: &str) {
    let text = join(near, "").replace("toll.vessel_no = passage.vessel_no and toll.cents > 50", on);
    let project = project(&[EVENTS, &text].concat());
    let (out, err) = project.expect(3, &["check", "--offline"]);
    assert!(format!("{out}{err}").contains(expected), "{out}{err}");
}

#[rstest]
#[case::itself("event = \"toll\"", "event = \"passage\"", "an event is joined with itself")]
#[case::nobody("event = \"toll\"", "event = \"tol\"", "there is no event `tol`")]
#[case::condition("late = \"20m\"", "when = \"passage_id > 3\"", "`join` and `when` stand in one event")]
#[case::star("columns = \"passage.*", "columns = \"*", "a star needs the name of an event here")]
#[case::unknown_star("columns = \"passage.*", "columns = \"pasage.*", "no event `pasage` is joined here")]
#[case::no_columns("columns = \"passage.*, toll.toll_id, toll.cents\"", "", "a join needs the key `columns`")]
#[case::group("late = \"20m\"", "group = \"lock_id\"", "`group` belongs to `window`")]
fn mistakes_beside_joins_are_named(#[case] from: &str, #[case] to: &str, #[case] expected: &str) {
    let text = join(WITHIN, "");
    assert!(text.contains(from));
    let project = project(&[EVENTS, &text.replace(from, to)].concat());
    let (out, err) = project.expect(3, &["check", "--offline"]);
    assert!(format!("{out}{err}").contains(expected), "{out}{err}");
}

#[test]
fn an_event_without_a_time_cannot_be_joined() {
    let project = project(&[&EVENTS.replace("time = \"paid_at\"\n", ""), join(WITHIN, "").as_str()].concat());
    let (out, err) = project.expect(3, &["check", "--offline"]);
    assert!(format!("{out}{err}").contains("a join needs the time of its events, and `toll` has none"), "{out}{err}");
}

/// The partners that traces show of each passage are the pairs that the rehearsal makes.
fn pairs_are_those_of_the_rehearsal(project: &TestProject) {
    let made = project.json(&["rehearse", "passages", "--show", "100000"]);
    let landing = made["landings"].as_array().unwrap().iter().find(|l| l["name"] == "paid.archive").unwrap();
    let number = |value: &Value| value.to_string().trim_matches('"').parse::<u64>().unwrap();
    let pair = |row: &Value| (number(&row["passage_id"]), number(&row["toll_id"]));
    let paired =
        landing["first"].as_array().unwrap().iter().map(|row| &row["out"]).filter(|row| !row["toll_id"].is_null());
    let expected: BTreeSet<(u64, u64)> = paired.map(pair).collect();
    let mut found = BTreeSet::new();
    for event in (1..=60).chain(301..=360) {
        let trace = project.json(&["rehearse", "passages", "--trace", &event.to_string()]);
        let stations = trace["stations"].as_array().unwrap();
        let join = stations.iter().find(|s| s["station"] == "paid").unwrap();
        let id = |values: &Value, name: &str| {
            let value = values.as_array().unwrap().iter().find(|v| v["name"] == name).map(|v| number(&v["value"]));
            value.unwrap_or_else(|| panic!("no {name} in {values}"))
        };
        let partners = join["partners"].as_array().unwrap();
        assert_eq!(join["partner_count"].as_u64().unwrap().min(5), partners.len() as u64);
        for partner in partners {
            let own = |name: &str| id(&stations[0]["values"], name);
            let pair = match event < 301 {
                true => (own("passage_id"), id(&partner["values"], "toll_id")),
                false => (id(&partner["values"], "passage_id"), own("toll_id")),
            };
            assert!(expected.contains(&pair), "{pair:?} of event {event}");
            found.insert(pair);
        }
        let all = expected
            .iter()
            .filter(|(passage, toll)| if event < 301 { *passage + 1 == event } else { *toll + 301 == event });
        assert_eq!(all.count() as u64, join["partner_count"].as_u64().unwrap(), "event {event}");
    }
    assert!(found.len() > 20, "{found:?}");
}

#[test]
fn a_rehearsal_shows_pairs_and_numbers_events_as_they_arrived() {
    let project = joined(WITHIN, "");
    let mut crossings = Crossings::new(14);
    project.append("locks/p.jsonl", crossings.passages(300));
    project.append("locks/t.jsonl", crossings.tolls(300));
    let (out, _) = project.expect(0, &["rehearse", "passages"]);
    assert!(out.contains("600 events") && out.contains("unmatched") && out.contains("paid: 600 in"), "{out}");
    let (out, _) = project.expect(0, &["rehearse", "passages", "--trace", "301"]);
    assert!(out.contains("event toll") && out.contains("takes part in the join with"), "{out}");
    pairs_are_those_of_the_rehearsal(&project);
    project.expect(0, &["rehearse", "passages", "--keep", "kept/j", "--yes"]);
    project.expect(0, &["rehearse", "passages", "--expect", "kept/j"]);
}
