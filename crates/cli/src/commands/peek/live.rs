//! Events as they arrive, from now on.

use serde_json::json;
use sluice_core::context::key_text;
use sluice_core::event::{Chunk, Message, Messages};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{LaneReader, Part, Read, ReadLimit};
use sluice_core::printable;
use sluice_core::run::Stop;
use sluice_core::values::time::show_timestamp;

use crate::args::{Arguments, OutputKind, PeekArgs};
use crate::output::{self, style};
use crate::place::Place;
use crate::project::Project;

/// Shows events until enough have come, or somebody stops it.
pub(super) fn live(
    arguments: &Arguments,
    args: &PeekArgs,
    project: Option<&Project>,
    place: &Place,
    stop: &Stop,
) -> Outcome<()> {
    let only_topics = || {
        Failure::new(FailureKind::Configuration, "only topics can be looked at as events arrive")
            .with_help("name one: sluice peek CONNECTION:TOPIC --live")
    };
    let intake = match (place, project) {
        (Place::Files(settings), Some(project)) => {
            let kind = project.registry.intake(&settings.connection.scheme).ok_or_else(only_topics)?;
            kind.view(std::slice::from_ref(settings))?
        }
        (Place::Arrival(pipeline, arrival), Some(project)) => {
            pipeline.plan.arrivals[*arrival].view(&project.surroundings())?
        }
        _ => return Err(only_topics()),
    };
    let mut reader = intake.sample_part(&Part::Live)?.ok_or_else(only_topics)?;
    output::note("waiting for events; Ctrl-C ends\n");
    if arguments.output == OutputKind::Json {
        output::begin_json();
        let _ = output::print_json(&format!(r#"{{"sluice":"peek-live","version":{},"events":["#, output::VERSION));
        let ended = show_events(arguments, args, reader.as_mut(), stop);
        let _ = output::print_json("\n]}\n");
        return ended;
    }
    show_events(arguments, args, reader.as_mut(), stop)
}

/// Prints each event as it comes; in JSON as an element of the document's list.
fn show_events(arguments: &Arguments, args: &PeekArgs, reader: &mut dyn LaneReader, stop: &Stop) -> Outcome<()> {
    let limit = args.events.unwrap_or(u64::MAX);
    let mut shown = 0;
    while shown < limit && !stop.is_settling() {
        match reader.read(ReadLimit { records: limit - shown, bytes: 1 << 20, ends: false })? {
            Read::Chunk(chunk) => {
                let Some(messages) = chunk.messages.clone() else { continue };
                for message in &messages.each {
                    shown += 1;
                    let value = message.span.of(&chunk.bytes);
                    let written = match (args.raw, arguments.output) {
                        (true, _) => output::raw(&[value, b"\n"].concat()),
                        (false, OutputKind::Json) => {
                            let comma = if shown > 1 { "," } else { "" };
                            output::print_json(&format!("{comma}\n{}", as_json(&chunk, &messages, message)))
                        }
                        (false, OutputKind::Text) => output::try_print(&as_text(&chunk, &messages, message)),
                    };
                    if written.is_err() {
                        return Ok(());
                    }
                }
            }
            Read::Away(reason) => return Err(Failure::away(reason)),
            Read::Halt(failure) | Read::Stuck(failure) => return Err(failure),
            Read::CaughtUp => stop.wait(std::time::Duration::from_millis(50)),
            Read::Pending => {}
        }
    }
    Ok(())
}

fn as_json(chunk: &Chunk, messages: &Messages, message: &Message) -> String {
    json!({
        "partition": chunk.partition,
        "offset": message.offset,
        "time": message.time.map(show_timestamp),
        "key": key_text(messages, message),
        "value": String::from_utf8_lossy(message.span.of(&chunk.bytes)),
    })
    .to_string()
}

fn as_text(chunk: &Chunk, messages: &Messages, message: &Message) -> String {
    let time = message.time.map(show_timestamp).unwrap_or_default();
    let key = key_text(messages, message).unwrap_or_else(|| "∅".into());
    let place = style::dim(&format!("{} {} {time}", chunk.partition, message.offset));
    let value = String::from_utf8_lossy(message.span.of(&chunk.bytes));
    format!("{place} {} {}\n", style::bold(&printable::line(&key)), printable::line(&value))
}
