//! Landings that get in each other's way, or in their own.

use std::collections::HashMap;

use super::Plan;
use crate::config::{EventConfig, LandingConfig, PipelineConfig};
use crate::problem::{Problem, Problems};

/// Finds landings of several pipelines that write to one place, and those that write where they are read.
pub fn check_overlaps(pipelines: &[(&PipelineConfig, &Plan)], problems: &mut Problems) {
    let mut taken: HashMap<String, String> = HashMap::new();
    for (config, _) in pipelines {
        for event in &config.events {
            for landing in &event.landings {
                circle(event, landing, problems);
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
