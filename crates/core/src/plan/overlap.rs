//! Landings that get in each other's way, or in their own.

use std::collections::HashMap;

use super::Plan;
use crate::config::each::fits;
use crate::config::{ArrivalConfig, EventConfig, LandingConfig, PipelineConfig};
use crate::problem::{Problem, Problems};

/// Finds landings of several pipelines that write to one place, and those that write where they are read.
pub fn check_overlaps(pipelines: &[(&PipelineConfig, &Plan)], problems: &mut Problems) {
    let mut taken: HashMap<String, String> = HashMap::new();
    for (config, _) in pipelines {
        tables_twice(config, problems);
        for event in &config.events {
            read_twice(event, problems);
            for landing in &event.landings {
                circle(event, landing, problems);
                topic_circle(event, landing, problems);
                let (Some(kind), Some(connection)) = (&landing.kind, &landing.connection) else { continue };
                let Some(place) = kind.exclusive_place(connection, &landing.options) else { continue };
                let name = format!("{}: {}.{}", config.source.name, event.name, landing.name);
                if let Some(other) = taken.get(&place) {
                    problems.add(
                        Problem::error(
                            "landing.overlap",
                            format!("this landing writes where {other} writes"),
                            landing.place.clone(),
                        )
                        .with_label("same place")
                        .with_help("give each landing a path of its own"),
                    );
                    continue;
                }
                taken.insert(place, name);
            }
        }
    }
}

/// What a message broker is asked for: topics by their names or patterns. Empty for other kinds.
fn topics(arrival: &ArrivalConfig) -> Vec<String> {
    let (Some(kind), Some(connection)) = (&arrival.kind, &arrival.connection) else { return Vec::new() };
    if !kind.has_messages() {
        return Vec::new();
    }
    let (place, names) = kind.place(connection, &arrival.options);
    names.split_whitespace().map(|name| format!("{place} {name}")).collect()
}

/// Two arrivals of one event that read the same: all of it would land twice.
fn read_twice(event: &EventConfig, problems: &mut Problems) {
    let same = |a: &str, b: &str| fits(a.as_bytes(), b.as_bytes()) || fits(b.as_bytes(), a.as_bytes());
    for (number, arrival) in event.arrivals.iter().enumerate() {
        let names = topics(arrival);
        let mut before = event.arrivals[..number].iter().flat_map(topics);
        let Some(other) = before.find(|other| names.iter().any(|name| same(name, other))) else { continue };
        let other = other.rsplit(' ').next().unwrap_or_default();
        problems.add(
            Problem::error(
                "arrival.overlap",
                format!("another arrival of `{}` reads `{other}` too: each message would land twice", event.name),
                arrival.options.place_of("topic"),
            )
            .with_label("read already")
            .with_help("name each topic in one arrival only"),
        );
    }
}

/// Two events of one table: each change of it comes once.
fn tables_twice(config: &PipelineConfig, problems: &mut Problems) {
    let mut known: HashMap<(&str, String), &str> = HashMap::new();
    for (event, arrival) in config.events.iter().flat_map(|event| event.arrivals.iter().map(move |a| (event, a))) {
        if !arrival.kind.as_ref().is_some_and(|kind| kind.is_feed()) {
            continue;
        }
        let (Some(connection), Some(table)) = (&arrival.connection, arrival.options.text("table")) else { continue };
        let bare = table.strip_prefix("public.").map_or(table.clone(), str::to_string);
        let Some(other) = known.insert((connection.name.as_str(), bare), event.name.as_str()) else { continue };
        problems.add(
            Problem::error(
                "arrival.overlap",
                format!("`{other}` has the changes of {table} already, and each of them comes once"),
                arrival.options.place_of("table"),
            )
            .with_label("read already")
            .with_help(format!("make this event of that one: [event.{}.made] of = \"{other}\"", event.name)),
        );
    }
}

/// A topic that is read and written by one event grows for ever.
fn topic_circle(event: &EventConfig, landing: &LandingConfig, problems: &mut Problems) {
    let (Some(kind), Some(connection)) = (&landing.kind, &landing.connection) else { return };
    let Some(topic) = kind.options().iter().any(|o| o.key == "topic").then(|| landing.options.text("topic")).flatten()
    else {
        return;
    };
    let same_broker = |a: &&ArrivalConfig| a.connection.as_ref().is_some_and(|c| c.target == connection.target);
    let mut read = event.arrivals.iter().filter(same_broker).flat_map(topics);
    if read.any(|name| name.rsplit(' ').next().is_some_and(|name| fits(name.as_bytes(), topic.as_bytes()))) {
        problems.add(
            Problem::error(
                "landing.overlap",
                "this landing writes into a topic that its event is read from",
                landing.options.place_of("topic"),
            )
            .with_label("the same topic")
            .with_help("every message would be read and written again, without end; name another topic"),
        );
    }
}

/// A table whose changes land in itself would never come to rest.
fn circle(event: &EventConfig, landing: &LandingConfig, problems: &mut Problems) {
    let bare = |name: String| name.strip_prefix("public.").map(str::to_string).unwrap_or(name);
    let Some(connection) = &landing.connection else { return };
    let declares = landing.kind.as_ref().is_some_and(|k| k.options().iter().any(|o| o.key == "table"));
    let table = if declares { landing.options.text("table").map(bare) } else { None };
    let feeds = event.arrivals.iter().filter(|a| a.kind.as_ref().is_some_and(|k| k.is_feed()));
    let mut same = feeds.filter(|a| a.connection.as_ref().is_some_and(|c| c.name == connection.name));
    if table.is_some() && same.any(|a| a.options.text("table").map(bare) == table) {
        problems.add(
            Problem::error(
                "landing.overlap",
                "this landing writes into the table that it is read from",
                landing.place.clone(),
            )
            .with_label("the same table")
            .with_help("land in another connection, or name another `table`"),
        );
    }
}
