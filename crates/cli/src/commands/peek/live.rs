//! Events as they arrive, from now on.

use serde_json::json;
use sluice_core::context::key_text;
use sluice_core::event::{Chunk, Message, Messages};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::{self, Format};
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
    let (intake, format) = match (place, project) {
        (Place::Files(settings), Some(project)) => {
            let kind = project.registry.intake(&settings.connection.scheme).ok_or_else(only_topics)?;
            (kind.view(std::slice::from_ref(settings))?, formats::format(&settings.options))
        }
        (Place::Arrival(pipeline, arrival), Some(project)) => {
            let arrival = &pipeline.plan.arrivals[*arrival];
            (arrival.view(&project.surroundings())?, Some(arrival.format()?))
        }
        _ => return Err(only_topics()),
    };
    let format = format.as_deref();
    let mut reader = intake.sample_part(&Part::Live)?.ok_or_else(only_topics)?;
    output::note("waiting for events; Ctrl-C ends\n");
    if arguments.output == OutputKind::Json {
        output::begin_json();
        let _ = output::print_json(&format!(r#"{{"sluice":"peek-live","version":{},"events":["#, output::VERSION));
        let ended = show_events(arguments, args, (reader.as_mut(), format), stop);
        let _ = output::print_json("\n]}\n");
        return ended;
    }
    show_events(arguments, args, (reader.as_mut(), format), stop)
}

/// Prints each event as it comes; in JSON as an element of the document's list.
fn show_events(
    arguments: &Arguments,
    args: &PeekArgs,
    (reader, format): (&mut dyn LaneReader, Option<&dyn Format>),
    stop: &Stop,
) -> Outcome<()> {
    let limit = args.events.unwrap_or(u64::MAX);
    let mut shown = 0;
    while shown < limit && !stop.is_settling() {
        match reader.read(ReadLimit { records: limit - shown, bytes: 1 << 20, ends: false })? {
            Read::Chunk(chunk) => {
                let Some(messages) = chunk.messages.clone() else { continue };
                let text = format.and_then(|format| format.spelled(&chunk));
                for message in &messages.each {
                    shown += 1;
                    let value = value_of(&chunk, text.as_ref(), message);
                    let written = match (args.raw, arguments.output) {
                        (true, _) => output::raw(&[value, b"\n"].concat()),
                        (false, OutputKind::Json) => {
                            let comma = if shown > 1 { "," } else { "" };
                            output::print_json(&format!("{comma}\n{}", as_json(&chunk, &messages, message, value)))
                        }
                        (false, OutputKind::Text) => output::try_print(&as_text(&chunk, &messages, message, value)),
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

/// The value of a message as text, where its format has one for it; else its bytes.
fn value_of<'c>(chunk: &'c Chunk, text: Option<&'c Chunk>, message: &Message) -> &'c [u8] {
    let spelled = text.and_then(|text| {
        let each = &text.messages.as_ref()?.each;
        let place = each.binary_search_by_key(&message.offset, |m| m.offset).ok()?;
        Some(each[place].span.of(&text.bytes))
    });
    spelled.unwrap_or_else(|| message.span.of(&chunk.bytes))
}

fn as_json(chunk: &Chunk, messages: &Messages, message: &Message, value: &[u8]) -> String {
    json!({
        "partition": chunk.partition,
        "offset": message.offset,
        "time": message.time.map(show_timestamp),
        "key": key_text(messages, message),
        "value": String::from_utf8_lossy(value),
    })
    .to_string()
}

fn as_text(chunk: &Chunk, messages: &Messages, message: &Message, value: &[u8]) -> String {
    let time = message.time.map(show_timestamp).unwrap_or_default();
    let key = key_text(messages, message).unwrap_or_else(|| "∅".into());
    let place = style::dim(&format!("{} {} {time}", chunk.partition, message.offset));
    let value = String::from_utf8_lossy(value);
    format!("{place} {} {}\n", style::bold(&printable::line(&key)), printable::line(&value))
}
