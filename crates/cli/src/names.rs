//! Names of the project at hand, for completion. Whatever goes wrong completes nothing.

use clap_complete::CompletionCandidate;
use sluice_core::printable;

use crate::project::{LoadedPipeline, Project};

fn project() -> Option<Project> {
    Project::find(None).ok().flatten()
}

fn loaded() -> Vec<LoadedPipeline> {
    project().and_then(|p| p.pipelines().ok()).unwrap_or_default()
}

fn candidates(found: impl IntoIterator<Item = (String, String)>) -> Vec<CompletionCandidate> {
    // The shell prints them as they are.
    let one = |(name, about): (String, String)| {
        CompletionCandidate::new(printable::line(&name).into_owned())
            .help(Some(printable::line(&about).into_owned().into()))
    };
    found.into_iter().map(one).collect()
}

/// The pipelines.
pub(crate) fn pipelines() -> Vec<CompletionCandidate> {
    candidates(loaded().into_iter().map(|p| (p.config.name.clone(), p.config.about.unwrap_or_default())))
}

/// The landings of all pipelines, as EVENT.LANDING.
pub(crate) fn landings() -> Vec<CompletionCandidate> {
    let of = |p: &LoadedPipeline| {
        p.plan.landings.iter().map(|l| (l.label.clone(), format!("lands in {}", l.connection.name))).collect::<Vec<_>>()
    };
    candidates(loaded().iter().flat_map(of))
}

/// The connections, ready for a pattern.
pub(crate) fn connections() -> Vec<CompletionCandidate> {
    let Some(project) = project() else { return Vec::new() };
    let of = |c: &sluice_core::config::ConnectionConfig| (format!("{}:", c.name), format!("{}:{}", c.scheme, c.target));
    candidates(project.config.connections.iter().filter(|c| c.scheme != "screen").map(of))
}

/// The recipients of notices.
pub(crate) fn recipients() -> Vec<CompletionCandidate> {
    let Some(project) = project() else { return Vec::new() };
    candidates(project.config.recipients.iter().map(|one| (one.name.clone(), String::new())))
}

/// Whatever `peek` can look at: events, landings, connections.
pub(crate) fn places() -> Vec<CompletionCandidate> {
    let of = |p: &LoadedPipeline| {
        let name = &p.config.name;
        let events = p.plan.arrivals.iter().map(|a| {
            let event = &p.plan.events[a.event].name;
            (format!("{name}.{event}"), format!("arrives from {}", a.connection.name))
        });
        let landings =
            p.plan.landings.iter().map(|l| (format!("{name}.{}", l.label), format!("lands in {}", l.connection.name)));
        events.chain(landings).collect::<Vec<_>>()
    };
    let mut found = candidates(loaded().iter().flat_map(of));
    found.extend(connections());
    found
}

/// The shapes of invented events.
pub(crate) fn shapes() -> Vec<CompletionCandidate> {
    candidates(crate::emit::SHAPES.iter().map(|(name, _, about)| ((*name).to_string(), (*about).to_string())))
}
