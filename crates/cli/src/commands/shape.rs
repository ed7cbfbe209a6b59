//! `sluice manual --shape`: what an event looks like where it arrives or lands, for those who write or read it.

use serde_json::{Value, json};
use sluice_core::columns::OutputColumn;
use sluice_core::contract::{Contract, json_schema, json_schema_of_rows, sql_table};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::{avro, protobuf};
use sluice_core::names;

use crate::args::{Arguments, OutputKind, ShapeForm};
use crate::exit::Exit;
use crate::output;
use crate::project::{LoadedPipeline, Project};

/// What is described: an event where it arrives, or its rows in a landing.
enum Shape<'p> {
    Event(&'p str, &'p Contract),
    Rows(&'p str, Vec<OutputColumn>),
}

pub(super) fn shape(arguments: &Arguments, name: &str, form: ShapeForm) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    let (pipeline, rest) = name.split_once('.').map_or((name, None), |(pipeline, rest)| (pipeline, Some(rest)));
    let loaded = project.pipeline(pipeline)?;
    if loaded.problems.has_errors() || project.problems.has_errors() {
        return Err(Failure::new(FailureKind::Configuration, format!("{pipeline} has errors"))
            .with_help("`sluice check` shows them"));
    }
    let shape = find(&loaded, rest)?;
    let text = match (&shape, form) {
        (Shape::Event(title, contract), ShapeForm::Json) => pretty(&json_schema(title, contract)),
        (Shape::Rows(title, columns), ShapeForm::Json) => pretty(&json_schema_of_rows(title, columns)),
        (_, ShapeForm::Sql) => sql_table(shape.title(), &shape.columns()),
        (_, ShapeForm::Protobuf) => message(&shape)?,
        (_, ShapeForm::Avro) => pretty(&avro_record(&shape)?),
    };
    match arguments.output {
        OutputKind::Json => output::json("manual-shape", json!({ "name": name, "as": form.word(), "text": text })),
        OutputKind::Text => output::print(&text),
    }
    Ok(Exit::Fine)
}

impl Shape<'_> {
    fn title(&self) -> &str {
        match self {
            Self::Event(title, _) | Self::Rows(title, _) => title,
        }
    }

    fn columns(&self) -> Vec<OutputColumn> {
        match self {
            Self::Event(_, contract) => contract.columns(),
            Self::Rows(_, columns) => columns.clone(),
        }
    }
}

fn pretty(value: &Value) -> String {
    format!("{value:#}\n")
}

/// Names of both languages have the same form.
fn check_names(title: &str, columns: &[OutputColumn], language: &str) -> Outcome<()> {
    match columns.iter().map(|c| c.name.as_str()).chain([title]).find(|name| !avro::is_name(name)) {
        None => Ok(()),
        Some(name) => {
            let message = format!("`{}` cannot be a name in {language}", names::shown(name));
            Err(Failure::new(FailureKind::Configuration, message)
                .with_help("names have letters, digits and underscores, and no digit first"))
        }
    }
}

fn message(shape: &Shape<'_>) -> Outcome<String> {
    let columns = shape.columns();
    let title: String = shape.title().split(['_', '-']).map(capitalised).collect();
    check_names(&title, &columns, "Protobuf")?;
    Ok(protobuf::message_of(&title, &columns))
}

fn capitalised(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

fn avro_record(shape: &Shape<'_>) -> Outcome<Value> {
    let columns = shape.columns();
    // Files of a landing have this name for all their records.
    let title = if matches!(shape, Shape::Event(..)) { shape.title().replace('-', "_") } else { avro::ROW.into() };
    check_names(&title, &columns, "Avro")?;
    let mut record: Value = serde_json::from_str(&avro::record_of(&columns))
        .map_err(|e| Failure::internal(format!("an Avro schema that is no JSON: {e}")))?;
    record["name"] = json!(title);
    Ok(record)
}

/// The event, or the landing of one, that a name means.
fn find<'p>(pipeline: &'p LoadedPipeline, rest: Option<&str>) -> Outcome<Shape<'p>> {
    let plan = &pipeline.plan;
    let (event, landing) = match rest {
        Some(rest) => rest.split_once('.').map_or((Some(rest), None), |(event, landing)| (Some(event), Some(landing))),
        None => (None, None),
    };
    let event = match (event, plan.events.as_slice()) {
        (None, [only]) => Some(only),
        (None, _) => None,
        (Some(name), events) => events.iter().find(|e| e.name == name),
    };
    let known = || {
        let events = plan.events.iter().map(|e| format!("{}.{}", plan.pipeline, e.name));
        let landings =
            plan.landings.iter().map(|l| format!("{}.{}.{}", plan.pipeline, plan.events[l.event].name, l.name));
        events.chain(landings).collect::<Vec<String>>()
    };
    let unknown = |what: String| {
        Failure::new(FailureKind::Configuration, what).with_help(format!("there are: {}", known().join(", ")))
    };
    let Some(event) = event else {
        return Err(unknown(format!("which event of {}?", plan.pipeline)));
    };
    match (landing, &event.contract) {
        (Some(name), _) => {
            match plan.landings.iter().find(|l| l.name == name && plan.events[l.event].name == event.name) {
                Some(landing) => {
                    // Keys and headers of messages are no part of their values.
                    let is_value = |c: &&OutputColumn| !c.name.starts_with('@');
                    Ok(Shape::Rows(&event.name, landing.columns().iter().filter(is_value).cloned().collect()))
                }
                None => Err(unknown(format!("event `{}` has no landing `{}`", event.name, names::shown(name)))),
            }
        }
        (None, Some(contract)) => Ok(Shape::Event(&event.name, contract)),
        (None, None) => Ok(Shape::Rows(&event.name, event.columns.clone())),
    }
}
