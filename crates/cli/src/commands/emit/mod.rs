//! `sluice emit`: invented events at a rate, for trying things.

mod lines;
mod sink;

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::names;
use sluice_core::problem::{Problems, SourceText};
use sluice_core::run::Stop;
use sluice_core::units::{show_count, show_duration, show_many, show_size};

use crate::args::{Arguments, EmitArgs, EmitFormat, OutputKind};
use crate::emit::{EmitOptions, Emitted, Emitter, SHAPES, Shape};
use crate::exit::Exit;
use crate::output::{self, problems, style, times};
use crate::progress::Counting;
use crate::signals;
use sink::{Sink, Written};

/// Events are made in slices of this time, so that a rate is kept evenly.
const SLICE: Duration = Duration::from_millis(20);

/// Events of a slice where no rate is asked for.
const AT_ONCE: u64 = 2_000;

pub(crate) fn emit(arguments: &Arguments, args: &EmitArgs) -> Outcome<Exit> {
    let stop = Arc::new(Stop::new());
    if arguments.output == OutputKind::Json && args.into.is_none() {
        return Err(Failure::new(
            FailureKind::Configuration,
            "standard output cannot hold both the events and the JSON",
        )
        .with_help("leave out `--output json`, or send the events elsewhere with `--into`"));
    }
    if args.shape == "-" {
        let mut sink = Sink::open(args, arguments.project.as_deref(), "lines", &[])?;
        signals::end_on_signals(&stop);
        let started = Instant::now();
        let emitted = lines::send(args, &mut sink, &stop)?;
        report(arguments, args, "lines", &sink, emitted, started.elapsed());
        return Ok(Exit::Fine);
    }
    let shape = shape(&args.shape)?;
    if args.count.is_none() && args.lasting.is_none() && args.rate.is_none() {
        return Err(Failure::new(FailureKind::Configuration, "without a rate, a limit is required")
            .with_help("use --count N or --for DURATION, or --rate N to send until Ctrl-C"));
    }
    let manner = EmitOptions {
        seed: args.seed,
        keys: args.keys,
        bad: args.bad,
        late: args.late,
        late_by: i64::try_from(args.late_by.as_micros()).unwrap_or(i64::MAX),
    };
    let name = shape.name.clone();
    let mut emitter = Emitter::new(shape, manner);
    if let Some(field) = args.key.as_ref().filter(|field| !emitter.key_by(field)) {
        let fields = emitter.fields();
        let failure = Failure::new(FailureKind::Configuration, format!("the shape {name} has no field `{field}`"));
        let help = names::remedy(field, "fields", fields.iter().map(String::as_str));
        return Err(failure.with_help(help.unwrap_or_else(|| fields.join(", "))));
    }
    let mut sink = Sink::open(args, arguments.project.as_deref(), &name, &emitter.fields())?;
    signals::end_on_signals(&stop);
    let started = Instant::now();
    let written = invented(args, &mut emitter, &mut sink, &stop)?;
    if written == Written::Enough {
        return Ok(Exit::Fine);
    }
    report(arguments, args, &name, &sink, emitter.emitted, started.elapsed());
    let cut_short = stop.is_settling() && (args.count.is_some() || args.lasting.is_some());
    Ok(if cut_short { Exit::Interrupted } else { Exit::Fine })
}

/// Emits invented events until there are enough.
fn invented(args: &EmitArgs, emitter: &mut Emitter, sink: &mut Sink, stop: &Stop) -> Outcome<Written> {
    let started = Instant::now();
    let counting = Counting::new("events emitted");
    let (mut out, mut keys) = (Vec::new(), Vec::new());
    let is_topic = matches!(sink, Sink::Topic(..));
    if args.format == EmitFormat::Csv && !is_topic && sink.write(emitter.head().as_bytes(), &[])? == Written::Enough {
        return Ok(Written::Enough);
    }
    while !stop.is_settling() {
        let passed = started.elapsed();
        if args.lasting.is_some_and(|end| passed >= end) || args.count.is_some_and(|n| emitter.emitted.events >= n) {
            break;
        }
        let done = emitter.emitted.events;
        let due = args.rate.map_or(done + AT_ONCE, |rate| {
            u64::try_from(u128::from(rate) * passed.as_micros() / 1_000_000).unwrap_or(u64::MAX) + 1
        });
        let due = args.count.map_or(due, |n| due.min(n));
        out.clear();
        keys.clear();
        for number in done..due {
            let at = time_of(args, number);
            match args.format {
                EmitFormat::Jsonl => emitter.json(at, &mut out),
                EmitFormat::Csv => emitter.csv(at, &mut out),
            }
            if is_topic {
                keys.push((Some(emitter.key.clone()).filter(|k| !k.is_empty()), args.starting.map(|_| at)));
            }
        }
        if sink.write(&out, &keys)? == Written::Enough {
            return Ok(Written::Enough);
        }
        counting.at(emitter.emitted.events);
        if args.rate.is_some() {
            stop.wait(SLICE);
        }
    }
    counting.finish();
    sink.finish()?;
    Ok(Written::GoOn)
}

/// A shape by its name, or from a file.
fn shape(wanted: &str) -> Outcome<Shape> {
    let built_in = SHAPES.iter().find(|(name, _, _)| *name == wanted);
    let text = match built_in {
        Some((_, text, _)) => (*text).to_string(),
        None if Path::new(wanted).is_file() => {
            std::fs::read_to_string(wanted).map_err(|e| Failure::io("read", Path::new(wanted), &e))?
        }
        None => {
            let failure = Failure::new(FailureKind::Configuration, format!("there is no shape `{wanted}`"));
            return Err(match names::remedy(wanted, "shapes", SHAPES.iter().map(|(name, _, _)| *name)) {
                Some(help) => failure.with_help(format!("{help}; or name a file of a shape")),
                None => failure,
            });
        }
    };
    let mut found = Problems::new();
    let shape = Shape::read(&SourceText::new(wanted, text), &mut found);
    if !found.has_errors() {
        return Ok(shape);
    }
    problems::show_errors(found);
    Err(Failure::new(FailureKind::Configuration, format!("the shape {wanted} has mistakes"))
        .with_help("fix the underlined text; `sluice manual shape` lists the keys"))
}

/// The time of an event: now, or counted from a moment, so that events of one seed are the same each time.
fn time_of(args: &EmitArgs, number: u64) -> i64 {
    let Some(since) = args.starting else { return times::now() };
    let step = args.rate.map_or(1_000_000, |rate| (1_000_000 / rate).max(1));
    since.saturating_add(i64::try_from(number.saturating_mul(step)).unwrap_or(i64::MAX))
}

fn report(arguments: &Arguments, args: &EmitArgs, name: &str, sink: &Sink, emitted: Emitted, took: Duration) {
    if arguments.output == OutputKind::Json && !matches!(sink, Sink::Stdout) {
        let topic = matches!(sink, Sink::Topic(..) | Sink::Table(_)).then(|| sink.shown());
        output::json(
            "emit",
            json!({
                "shape": name, "seed": args.seed, "events": emitted.events, "bad": emitted.bad, "late": emitted.late,
                "bytes": emitted.bytes, "changes": sink.changes(), "file": sink.file(), "topic": topic, "seconds": took.as_secs_f64(),
            }),
        );
        return;
    }
    let place = sink.shown();
    let mut text = format!(
        "{}: {} ({}) in {} to {place}",
        style::bold(name),
        show_many(emitted.events, "event"),
        show_size(emitted.bytes),
        show_duration(took),
    );
    if let Some([inserted, updated, deleted]) = sink.changes() {
        let [inserted, updated, deleted] = [inserted, updated, deleted].map(show_count);
        text.push_str(&format!(": {inserted} inserted, {updated} updated, {deleted} deleted"));
    }
    if emitted.bad > 0 {
        text.push_str(&format!(", {} of them bad", show_count(emitted.bad)));
    }
    if emitted.late > 0 {
        text.push_str(&format!(", {} late", show_count(emitted.late)));
    }
    output::note(&format!("{text}\n"));
}
