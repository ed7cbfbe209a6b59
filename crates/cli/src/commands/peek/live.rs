//! Events as they arrive, from now on.

use std::io::Write as _;

use serde_json::json;
use sluice_core::context::key_text;
use sluice_core::event::{Chunk, Message, Messages};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{Part, Read, ReadLimit};
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
            kind.open(settings)?
        }
        (Place::Arrival(pipeline, arrival), Some(project)) => {
            pipeline.plan.arrivals[*arrival].open(&project.surroundings())?
        }
        _ => return Err(only_topics()),
    };
    let mut reader = intake.sample_part(&Part::Live)?.ok_or_else(only_topics)?;
    output::note("waiting for events; Ctrl-C ends\n");
    let limit = args.events.unwrap_or(u64::MAX);
    let mut shown = 0;
    while shown < limit && !stop.is_settling() {
        match reader.read(ReadLimit { records: limit - shown, bytes: 1 << 20, ends: false })? {
            Read::Chunk(chunk) => {
                let Some(messages) = chunk.messages.clone() else { continue };
                let mut out = std::io::stdout().lock();
                for message in &messages.each {
                    shown += 1;
                    let line = line(arguments, args, &chunk, &messages, message);
                    if out.write_all(&line).and_then(|()| out.flush()).is_err() {
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

fn line(arguments: &Arguments, args: &PeekArgs, chunk: &Chunk, messages: &Messages, message: &Message) -> Vec<u8> {
    let value = message.span.of(&chunk.bytes);
    let mut line = match (args.raw, arguments.output) {
        (true, _) => value.to_vec(),
        (false, OutputKind::Json) => json!({
            "partition": chunk.partition,
            "offset": message.offset,
            "time": message.time.map(show_timestamp),
            "key": key_text(messages, message),
            "value": String::from_utf8_lossy(value),
        })
        .to_string()
        .into_bytes(),
        (false, OutputKind::Text) => {
            let time = message.time.map(show_timestamp).unwrap_or_default();
            let key = key_text(messages, message).unwrap_or_else(|| "∅".into());
            let place = style::dim(&format!("{} {} {time}", chunk.partition, message.offset));
            format!("{place} {} {}", style::bold(&key), String::from_utf8_lossy(value)).into_bytes()
        }
    };
    line.push(b'\n');
    line
}
