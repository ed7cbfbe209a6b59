//! `sluice peek`: what do real events look like, and what has landed?

mod beside;
mod events;
mod live;
mod question;
mod stored;

use std::sync::Arc;

use sluice_connect::look;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::whole::WholeFile;
use sluice_core::kinds::{Settings, Stored};
use sluice_core::plan::LandingPlan;
use sluice_core::run::Stop;
use sluice_core::sample::Window;

use crate::args::{Arguments, OutputKind, PeekArgs};
use crate::exit::Exit;
use crate::output;
use crate::place::{self, Place};
use crate::project::Project;
use crate::sampling::{self, SampleChoice, Source};
use crate::schemas::{NamedSchema, with_schema};
use crate::signals;

/// What a place holds.
pub(super) enum Opened {
    /// Events as they arrive.
    Events(Box<Source>),
    /// Rows that have landed.
    Stored(String, Box<dyn Stored>),
}

pub(crate) fn peek(arguments: &Arguments, args: &PeekArgs) -> Outcome<Exit> {
    if args.raw && arguments.output == OutputKind::Json {
        return Err(output::one_document("--raw"));
    }
    let project = Project::find(arguments.project.as_deref())?;
    let stop = Arc::new(Stop::new());
    signals::end_on_signals(&stop);
    if let [first, second] = args.places.as_slice() {
        beside::beside(arguments, args, project.as_ref(), (first, second), &stop)?;
    } else {
        let found = place::find(project.as_ref(), &args.places[0])?;
        let named = NamedSchema { file: args.schema.as_deref(), message: args.message.as_deref() };
        let place = with_schema(project.as_ref(), found, named)?;
        if args.live {
            live::live(arguments, args, project.as_ref(), &place, &stop)?;
            return Ok(Exit::Fine);
        }
        match open(project.as_ref(), place, args)? {
            Opened::Events(mut source) => events::events(arguments, args, &mut source, &stop)?,
            Opened::Stored(label, mut rows) => stored::stored(arguments, args, &label, rows.as_mut(), &stop)?,
        }
    }
    Ok(if stop.is_settling() { Exit::Interrupted } else { Exit::Fine })
}

/// How many events are looked at.
fn wanted(args: &PeekArgs) -> u64 {
    args.events.unwrap_or(if args.raw { 10 } else { 1_000 })
}

/// Which events are taken: of topics, a window begins at its first moment.
fn part(args: &PeekArgs, has_messages: bool) -> SampleChoice {
    match (args.newest, has_messages && !window(args).is_open()) {
        (true, _) => SampleChoice::Last,
        (false, true) => SampleChoice::Since(args.since.unwrap_or(0)),
        (false, false) => SampleChoice::First,
    }
}

fn window(args: &PeekArgs) -> Window {
    Window { since: args.since, until: args.until }
}

/// Opens a place.
pub(super) fn open(project: Option<&Project>, place: Place, args: &PeekArgs) -> Outcome<Opened> {
    // A window of time may lie anywhere: every event is looked at until enough are found.
    let events = if window(args).is_open() { wanted(args) } else { u64::MAX };
    let asks = args.when.is_some() || args.columns.is_some();
    match place {
        Place::Stdin => Ok(Opened::Events(Box::new(sampling::open_stdin(events)?))),
        Place::File(path) => {
            let found = look::look(&path)?.recognised;
            let whole = found.format().and_then(|format| format.whole());
            let is_parquet = whole == Some(WholeFile::Parquet);
            // A query is about all rows of the file, not about a sample.
            if !is_parquet && (whole.is_some() || !asks || !window(args).is_open()) {
                return Ok(Opened::Events(Box::new(sampling::open_file(&path)?)));
            }
            let form = sampling::stored_form(&path)?;
            Ok(Opened::Stored(path.display().to_string(), look::open(vec![look::one_file(&path)?], &form, None)?))
        }
        Place::Files(settings) => {
            let has_messages = settings.connection.scheme == "kafka";
            // The last ones are counted from the end, whatever else is asked.
            let events = if args.newest { wanted(args) } else { events };
            Ok(Opened::Events(Box::new(sampling::open_files(&settings, events, part(args, has_messages))?)))
        }
        Place::Arrival(pipeline, arrival) => {
            let around = need(project)?.surroundings();
            let plan = &pipeline.plan;
            let by_broker = plan.events[plan.arrivals[arrival].event].time.is_none();
            let has_messages = plan.arrivals[arrival].kind.has_messages() && by_broker;
            let events = if args.newest { wanted(args) } else { events };
            let take = part(args, has_messages);
            Ok(Opened::Events(Box::new(sampling::open_arrival(&pipeline, arrival, &around, events, take)?)))
        }
        Place::Landing(pipeline, landing) => {
            let project = need(project)?;
            let around = project.surroundings();
            let landing = &pipeline.plan.landings[landing];
            // What landed in a topic is there as messages, like any other.
            if let Some(topic) = topic_of(landing) {
                let settings = place::settings(project, &landing.connection, &topic)?;
                let events = if args.newest { wanted(args) } else { events };
                return Ok(Opened::Events(Box::new(sampling::open_files(&settings, events, part(args, true))?)));
            }
            let label = format!("{}.{}", pipeline.plan.pipeline, landing.label);
            let settings = Settings { label: label.clone(), ..around.settings(&landing.connection, &landing.options) };
            match landing.kind.look(&settings, landing.columns())? {
                Some(stored) => Ok(Opened::Stored(label, stored)),
                None => Err(Failure::new(
                    FailureKind::Configuration,
                    format!(
                        "{label} lands in `{}`, which keeps nothing that could be looked at",
                        landing.connection.name
                    ),
                )
                .with_help("peek at the source instead: sluice peek PIPELINE.EVENT")),
            }
        }
    }
}

/// The topic of a landing that writes one.
fn topic_of(landing: &LandingPlan) -> Option<String> {
    (landing.connection.scheme == "kafka").then(|| landing.options.text("topic")).flatten()
}

fn need(project: Option<&Project>) -> Outcome<&Project> {
    project.ok_or_else(|| Failure::internal("a pipeline was named, but there is no project"))
}
