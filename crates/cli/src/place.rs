//! Places to look at, as they are named on the command line.

use std::path::{Path, PathBuf};

use sluice_core::config::{ConnectionConfig, OptionValue, Options, pipeline};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats;
use sluice_core::kinds::Settings;
use sluice_core::names;
use sluice_core::problem::{Place as FilePlace, SourceText};

use crate::output::problems;
use crate::project::{LoadedPipeline, Project};

/// A place to look at.
pub(crate) enum Place {
    /// Standard input.
    Stdin,
    /// A file.
    File(PathBuf),
    /// The files or topics of a connection that match a pattern.
    Files(Box<Settings>),
    /// Where an event arrives: the arrival's place in the plan.
    Arrival(Box<LoadedPipeline>, usize),
    /// A landing: its place in the plan.
    Landing(Box<LoadedPipeline>, usize),
}

const HELP: &str =
    "a place is a file, `-` for standard input, CONNECTION:PATTERN, PIPELINE.EVENT, or PIPELINE.EVENT.LANDING";

/// Finds the place that a text names.
pub(crate) fn find(project: Option<&Project>, text: &str) -> Outcome<Place> {
    if text == "-" {
        return Ok(Place::Stdin);
    }
    let path = PathBuf::from(text);
    if let Some(project) = project {
        if let Some((name, pattern)) = text.split_once(':')
            && !path.exists()
        {
            return connection(project, name, pattern);
        }
        if !path.is_file()
            && let Some(found) = by_name(project, text)?
        {
            return Ok(found);
        }
    }
    if path.exists() {
        return Ok(Place::File(path));
    }
    let failure = Failure::new(FailureKind::Configuration, format!("there is no place `{text}`"));
    let known = project.map_or_else(Vec::new, known_names);
    match names::nearest(text, known.iter().map(String::as_str)) {
        Some(near) => Err(failure.with_help(format!("did you mean `{near}`?"))),
        None if project.is_none() && !text.contains(['/', '.']) => {
            Err(failure.with_help(format!("{HELP}; names need a project, and there is no sluice.toml here or above")))
        }
        None => Err(failure.with_help(HELP)),
    }
}

fn known_names(project: &Project) -> Vec<String> {
    let mut known: Vec<String> = project.config.connections.iter().map(|c| format!("{}:", c.name)).collect();
    for pipeline in project.pipelines().unwrap_or_default() {
        let name = &pipeline.config.name;
        known.push(name.clone());
        known.extend(pipeline.plan.events.iter().map(|e| format!("{name}.{}", e.name)));
        known.extend(pipeline.plan.landings.iter().map(|l| format!("{name}.{}", l.label)));
    }
    known
}

fn connection(project: &Project, name: &str, pattern: &str) -> Outcome<Place> {
    let known = project.config.connections.iter().map(|c| c.name.as_str());
    let Some(connection) = project.config.connection(name) else {
        let failure = Failure::new(FailureKind::Configuration, format!("there is no connection `{name}`"));
        let help = names::remedy(name, "connections", known);
        return Err(match help {
            Some(help) => failure.with_help(help),
            None => failure.with_help(HELP),
        });
    };
    Ok(Place::Files(Box::new(settings(project, connection, pattern)?)))
}

/// The settings of an arrival of a connection's files that match a pattern.
pub(crate) fn settings(project: &Project, connection: &ConnectionConfig, pattern: &str) -> Outcome<Settings> {
    let kind = project.registry.intake(&connection.scheme).ok_or_else(|| {
        Failure::new(
            FailureKind::Configuration,
            format!("nothing arrives from `{}`, a `{}:` connection", connection.name, connection.scheme),
        )
        .with_help("name another connection")
    })?;
    let place = FilePlace::new(&SourceText::new("", ""), 0..0);
    let mut options = Options::empty(vec![pipeline::ARRIVAL_OPTIONS, formats::OPTIONS, kind.options()], place.clone());
    match kind.has_messages() {
        true => options.set("topic", OptionValue::Texts(topics(pattern)), place),
        false if !pattern.is_empty() => options.set("match", OptionValue::Text(pattern.into()), place),
        false => {}
    }
    Ok(project.surroundings().settings(connection, &options))
}

/// A path as it is from the project's folder, or whole where it lies elsewhere.
pub(crate) fn from_root(project: &Project, path: &Path) -> String {
    let root = project.root.canonicalize().unwrap_or_else(|_| project.root.clone());
    match path.strip_prefix(&root) {
        Ok(below) if below.as_os_str().is_empty() => ".".into(),
        Ok(below) => below.to_string_lossy().into_owned(),
        Err(_) => path.to_string_lossy().into_owned(),
    }
}

/// Topics that are listed with commas between; none means all.
fn topics(pattern: &str) -> Vec<String> {
    match pattern {
        "" => vec!["*".into()],
        some => some.split(',').map(|t| t.trim().to_string()).collect(),
    }
}

/// An event or landing by its name: PIPELINE, EVENT, PIPELINE.EVENT, EVENT.LANDING or PIPELINE.EVENT.LANDING.
fn by_name(project: &Project, text: &str) -> Outcome<Option<Place>> {
    let parts: Vec<&str> = text.split('.').collect();
    let mut found: Vec<(LoadedPipeline, bool, usize)> = Vec::new();
    for pipeline in project.pipelines()?.into_iter().map(LoadedPipeline::for_looking) {
        let name = pipeline.config.name.clone();
        let rest = match parts.split_first() {
            Some((first, rest)) if *first == name => Some(rest),
            _ => None,
        };
        let arrival =
            |event: &str| pipeline.plan.arrivals.iter().position(|a| pipeline.plan.events[a.event].name == event);
        let landing = |label: &str| pipeline.plan.landings.iter().position(|l| l.label == label);
        let hit = match (rest, parts.as_slice()) {
            (Some([]), _) if !pipeline.plan.arrivals.is_empty() => Some((false, 0)),
            (Some([event]), _) if arrival(event).is_some() => arrival(event).map(|a| (false, a)),
            (Some([event, name]), _) => landing(&format!("{event}.{name}")).map(|l| (true, l)),
            (_, [event]) => arrival(event).map(|a| (false, a)),
            (_, [event, name]) => landing(&format!("{event}.{name}")).map(|l| (true, l)),
            _ => None,
        };
        if let Some((is_landing, index)) = hit {
            found.push((pipeline, is_landing, index));
        }
    }
    if found.len() > 1 {
        let names: Vec<String> = found.iter().map(|(p, _, _)| format!("{}.{text}", p.config.name)).collect();
        return Err(Failure::new(FailureKind::Configuration, format!("several pipelines have `{text}`"))
            .with_help(format!("name one of {}", names.join(", "))));
    }
    let Some((pipeline, is_landing, index)) = found.pop() else { return Ok(None) };
    refuse_mistakes(&pipeline)?;
    let pipeline = Box::new(pipeline);
    Ok(Some(if is_landing { Place::Landing(pipeline, index) } else { Place::Arrival(pipeline, index) }))
}

fn refuse_mistakes(pipeline: &LoadedPipeline) -> Outcome<()> {
    if !pipeline.problems.has_errors() {
        return Ok(());
    }
    problems::show_errors(pipeline.problems.clone());
    Err(Failure::new(FailureKind::Configuration, format!("{} has mistakes", pipeline.config.name))
        .with_help("fix the underlined text, or name the files as CONNECTION:PATTERN"))
}
