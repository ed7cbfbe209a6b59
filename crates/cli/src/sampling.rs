//! Takes samples from places: opened without joining or moving anything.

use std::io::Read as _;
use std::path::Path;
use std::sync::Arc;

use sluice_connect::intakes::files;
use sluice_connect::intakes::topics::TopicsIntake;
use sluice_connect::look::{self, BytesReader, Form};
use sluice_connect::packed::Packing;
use sluice_core::config::{OptionSpec, OptionValue, Options};
use sluice_core::contract::Contract;
use sluice_core::event::{RegisteredSchema, SchemaLanguage};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::avro::{self, Avro};
use sluice_core::formats::protobuf::{self, Protobuf};
use sluice_core::formats::recognise::{Recognised, recognise};
use sluice_core::formats::{self, Format, JsonLines};
use sluice_core::kinds::{IntakeKind as _, IntakeView, LaneReader, Mark, Part, Read, ReadLimit, Settings};
use sluice_core::plan::Surroundings;
use sluice_core::problem::{Place as FilePlace, SourceText};
use sluice_core::profile::{DeclaredField, Profile};
use sluice_core::run::Stop;
use sluice_core::sample::{Sample, TimeFilter, Window, take};
use sluice_core::types::SqlType;

use crate::progress::CountingReader;
use crate::project::LoadedPipeline;

/// A longer record is not an event: the default of `max_record`, in bytes.
const MAX_RECORD: u64 = 16 << 20;

/// Bytes of standard input that are read at most.
const STDIN: usize = 256 << 20;

/// Events from somewhere, ready to be read.
pub(crate) struct Source {
    /// Where they come from, for people.
    pub label: String,
    /// How they are written, for people.
    pub what: String,
    /// Bytes of the whole, where known.
    pub bytes: Option<u64>,
    /// How many files they are, where they are files.
    pub files: Option<usize>,
    /// How many partitions they are, where they are topics.
    pub partitions: Option<u64>,
    /// The header row of the first file, where its format has one.
    head: Option<Vec<u8>>,
    reader: Box<dyn LaneReader>,
    format: Arc<dyn Format>,
    contract: Option<(Contract, Option<usize>)>,
    /// Whether their time is the broker's.
    by_broker: bool,
    /// The fields whose types a file declares.
    declared: Vec<DeclaredField>,
}

impl Source {
    /// What the events of a sample look like; of none, what the header row names.
    pub(crate) fn profile(&self, sample: &Sample) -> Profile {
        let mut profile = Profile { declared: self.declared.clone(), ..Profile::default() };
        sample.chunks.iter().for_each(|chunk| profile.add_chunk(chunk, self.format.as_ref()));
        if let Some(head) = self.head.as_ref().filter(|_| profile.events == 0) {
            profile.name_fields(&self.format.header_names(head));
        }
        if profile.events == 0 {
            profile.name_declared();
        }
        profile
    }

    /// The contract, where there is one.
    pub(crate) fn contract(&self) -> Option<&Contract> {
        self.contract.as_ref().map(|(c, _)| c)
    }

    /// The format.
    pub(crate) fn format(&self) -> &dyn Format {
        self.format.as_ref()
    }

    /// Takes events, those within the window; without a contract their time is the first field that is one.
    pub(crate) fn sample(&mut self, events: u64, window: Window, stop: &Stop) -> Outcome<Sample> {
        if window.is_open() {
            return take(&mut CountingReader::new(self.reader.as_mut()), events, None, stop);
        }
        if self.by_broker {
            let filter = TimeFilter::by_broker(window);
            return take(&mut CountingReader::new(self.reader.as_mut()), events, Some(filter), stop);
        }
        let no_time = || {
            Failure::new(FailureKind::Configuration, "--since and --until need a field with the event time")
                .with_help("name it in the pipeline file: time = \"FIELD\"")
        };
        if let Some((contract, time)) = &self.contract {
            let time = time.ok_or_else(no_time)?;
            let filter = TimeFilter::new(self.format.as_ref(), contract, time, window);
            return take(&mut CountingReader::new(self.reader.as_mut()), events, Some(filter), stop);
        }
        // What the fields are is guessed from the first events, which then go through the filter too.
        let first = take(self.reader.as_mut(), 1_000, None, stop)?;
        let contract = self.profile(&first).contract();
        let is_time = |t: SqlType| matches!(t, SqlType::Timestamptz | SqlType::Date);
        let time = contract.fields.iter().position(|f| is_time(f.ty)).ok_or_else(no_time)?;
        self.what.push_str(&format!(", time by `{}`", contract.fields[time].name));
        let filter = || TimeFilter::new(self.format.as_ref(), &contract, time, window);
        let mut again = Replay { chunks: first.chunks.into_iter() };
        let mut sample = take(&mut again, events, Some(filter()), stop)?;
        if sample.events < events && first.more {
            let mut reader = CountingReader::new(self.reader.as_mut());
            let more = take(&mut reader, events - sample.events, Some(filter()), stop)?;
            drop(reader);
            sample.events += more.events;
            sample.looked_at += more.looked_at;
            sample.without_time += more.without_time;
            sample.more = more.more;
            sample.chunks.extend(more.chunks);
        }
        Ok(sample)
    }
}

/// Chunks that were read already.
struct Replay {
    chunks: std::vec::IntoIter<sluice_core::event::Chunk>,
}

impl LaneReader for Replay {
    fn read(&mut self, _: sluice_core::kinds::ReadLimit) -> Outcome<sluice_core::kinds::Read> {
        Ok(self.chunks.next().map_or(sluice_core::kinds::Read::CaughtUp, sluice_core::kinds::Read::Chunk))
    }
}

/// What a file or standard input is that holds no events, with its remedy.
fn no_events(name: &str, recognised: &Recognised) -> Failure {
    Failure::new(FailureKind::Configuration, format!("{name} has no events: {}", recognised.describe()))
        .with_help(recognised.remedy())
}

fn describe(recognised: &Recognised, packing: Packing) -> String {
    match packing {
        Packing::Plain => recognised.describe(),
        packed => format!("{}, packed by {}", recognised.describe(), packed.name()),
    }
}

/// A file of events.
pub(crate) fn open_file(path: &Path) -> Outcome<Source> {
    let found = look::look(path)?;
    let name = path.display().to_string();
    let format = found.recognised.format().ok_or_else(|| no_events(&name, &found.recognised))?;
    Ok(Source {
        what: describe(&found.recognised, found.packing),
        bytes: Some(found.bytes),
        files: Some(1),
        reader: files::read_file(path, Arc::clone(format), MAX_RECORD)?,
        declared: look::declared(path, format.as_ref())?,
        format: Arc::clone(format),
        head: found.head,
        contract: None,
        partitions: None,
        by_broker: false,
        label: name,
    })
}

/// Which events of a place are taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum SampleChoice {
    /// The first ones, from all over.
    First,
    /// The last ones.
    Last,
    /// Those from a moment of the broker on.
    Since(i64),
}

/// A reader of an opened intake.
fn reader(intake: &dyn IntakeView, events: u64, take: SampleChoice) -> Outcome<Box<dyn LaneReader>> {
    let found = match take {
        SampleChoice::First => return intake.sample(events),
        SampleChoice::Last => intake.sample_part(&Part::Last(events))?,
        SampleChoice::Since(at) => intake.sample_part(&Part::From(Mark::Time(at)))?,
    };
    found.ok_or_else(|| {
        Failure::new(FailureKind::Configuration, "only topics can be read from their end")
            .with_help("take the first events, without --newest")
    })
}

/// The topics of a connection; what their messages are is recognised by the first of them.
pub(crate) fn open_topics(settings: &Settings, events: u64, take: SampleChoice) -> Outcome<Source> {
    let mut intake = TopicsIntake::new(settings)?;
    let names = settings.options.texts("topic");
    let label = format!("{}:{}", settings.connection.name, names.join(","));
    let partitions = intake.behind(&[])?.partitions;
    let mut first = Vec::new();
    let mut look = intake.sample(20)?;
    while first.len() < 20 {
        let Read::Chunk(chunk) = look.read(ReadLimit { records: 20, bytes: 1 << 20, ends: false })? else { break };
        let messages = chunk.messages.as_ref().map_or(&[][..], |m| &m.each);
        first.extend(messages.iter().map(|m| m.span.of(&chunk.bytes).to_vec()));
    }
    let mut settings = settings.clone();
    let names_schemas = !first.is_empty() && first.iter().all(|m| avro::schema_number(m).is_some());
    let is_spelled = formats::WITH_SCHEMAS.iter().any(|format| settings.options.is_set(format));
    let mut named = None;
    if names_schemas && settings.connection.options.text("registry").is_some() && !is_spelled {
        // The registry knows the schemas, and says of which language they are.
        by_registry(&mut settings, "avro", avro::OPTIONS);
        intake = TopicsIntake::new(&settings)?;
        named = named_schema(&intake)?;
        if named.as_ref().is_some_and(|named| named.language == SchemaLanguage::Protobuf) {
            by_registry(&mut settings, "protobuf", protobuf::OPTIONS);
            intake = TopicsIntake::new(&settings)?;
        }
    } else if names_schemas && is_spelled && registry_names(&settings) {
        named = named_schema(&intake)?;
    }
    let is_json = |m: &Vec<u8>| m.trim_ascii_start().first() == Some(&b'{');
    let text = settings
        .options
        .text("format")
        .filter(|format| formats::WITH_SCHEMAS.contains(&format.as_str()) && settings.options.is_set(format));
    let (spelled, declared): (Option<Arc<dyn Format>>, _) = match text.as_deref() {
        Some("avro") => {
            let format = Avro::of_messages(&settings.options.table("avro"), &first);
            let declared = match &named {
                Some(named) => avro::inlined(named)
                    .and_then(|text| Avro::of_schema("", &text))
                    .map_or_else(|_| Vec::new(), |schema| schema.declared()),
                None => format.declared(),
            };
            (Some(Arc::new(format)), declared)
        }
        Some("protobuf") => {
            let format = Protobuf::of_options(&settings.options.table("protobuf"));
            let declared = match (&named, first.first()) {
                (Some(named), Some(message)) => Protobuf::declared_by(named, message),
                _ => format.declared(),
            };
            (Some(Arc::new(format)), declared)
        }
        _ => (None, Vec::new()),
    };
    let format: Arc<dyn Format> = match spelled {
        Some(format) => format,
        None if first.iter().all(is_json) => Arc::new(JsonLines),
        None => {
            let mut text = first.join(&b'\n');
            text.push(b'\n');
            recognise(&text, true, "").format().map_or_else(|| Arc::new(JsonLines) as _, |format| format.of_messages())
        }
    };
    Ok(Source {
        label,
        what: format!(
            "messages of {}",
            if format.kind().names()[0] == "jsonl" { "JSON" } else { format.kind().title() }
        ),
        bytes: None,
        files: None,
        partitions: Some(partitions),
        head: None,
        reader: reader(&intake, events, take)?,
        format,
        contract: None,
        by_broker: matches!(take, SampleChoice::Since(_)),
        declared,
    })
}

/// Says that a registry knows the schemas of messages.
fn by_registry(settings: &mut Settings, format: &'static str, specs: &'static [OptionSpec]) {
    let place = FilePlace::new(&SourceText::new("", ""), 0..0);
    let mut table = Options::empty(vec![specs], place.clone());
    table.set("framing", OptionValue::Text(avro::REGISTRY.into()), place.clone());
    settings.options.set("format", OptionValue::Text(format.into()), place.clone());
    settings.options.set(format, OptionValue::Table(table), place);
}

/// Whether a registry knows the schemas of messages.
fn registry_names(settings: &Settings) -> bool {
    let format = settings.options.text("format").unwrap_or_default();
    formats::WITH_SCHEMAS.contains(&format.as_str())
        && settings.options.table(&format).text("framing").as_deref() == Some(avro::REGISTRY)
}

/// The schema that the first message names.
fn named_schema(intake: &TopicsIntake) -> Outcome<Option<Arc<RegisteredSchema>>> {
    let Read::Chunk(chunk) = intake.sample(1)?.read(ReadLimit { records: 1, bytes: 1 << 20, ends: false })? else {
        return Ok(None);
    };
    Ok(chunk.schemas.iter().flat_map(|schemas| schemas.values()).find_map(|schema| schema.as_ref().ok()).cloned())
}

/// The files of a connection, all in the format of the first.
pub(crate) fn open_files(settings: &Settings, events: u64, take: SampleChoice) -> Outcome<Source> {
    if settings.connection.scheme == "kafka" {
        return open_topics(settings, events, take);
    }
    let there = files::files(settings)?;
    let pattern = settings.options.text("match").unwrap_or_default();
    let label = format!("{}:{pattern}", settings.connection.name);
    let Some((_, first)) = there.first() else {
        return Err(Failure::unreachable(format!("no file of {label} is there"))
            .with_help("? and * stand for letters of a name, ** for any folders: \"**/*.jsonl\""));
    };
    let found = look::look(first)?;
    let mut settings = settings.clone();
    if let Some(format) = found.recognised.format() {
        set_format(&mut settings.options, format.as_ref());
    }
    let format = formats::format(&settings.options)
        .filter(|_| found.recognised.format().is_some())
        .ok_or_else(|| no_events(&first.display().to_string(), &found.recognised))?;
    let declared = look::declared(first, format.as_ref())?;
    let reader = files::Files.view(std::slice::from_ref(&settings))?.sample(events)?;
    Ok(Source {
        label,
        what: describe(&found.recognised, found.packing),
        bytes: Some(there.iter().filter_map(|(_, p)| std::fs::metadata(p).ok()).map(|m| m.len()).sum()),
        files: Some(there.len()),
        head: found.head,
        reader,
        format,
        contract: None,
        partitions: None,
        by_broker: false,
        declared,
    })
}

/// Writes a format into the keys of an arrival.
pub(crate) fn set_format(options: &mut Options, format: &dyn Format) {
    let place = FilePlace::new(&SourceText::new("", ""), 0..0);
    let kind = format.kind();
    let name = kind.names()[0];
    options.set("format", OptionValue::Text(name.into()), place.clone());
    if kind.options().is_empty() {
        return;
    }
    let mut table = Options::empty(vec![kind.options()], place.clone());
    for (key, value) in format.spelling() {
        table.set(key, value, place.clone());
    }
    options.set(name, OptionValue::Table(table), place);
}

/// Standard input, as far as it is needed.
pub(crate) fn open_stdin(events: u64) -> Outcome<Source> {
    let mut bytes = Vec::new();
    let mut input = std::io::stdin().lock();
    let mut piece = vec![0; 64 << 10];
    let (mut lines, mut whole) = (0, true);
    loop {
        let read =
            input.read(&mut piece).map_err(|e| Failure::unreachable(format!("cannot read standard input: {e}")))?;
        if read == 0 {
            break;
        }
        bytes.extend_from_slice(&piece[..read]);
        lines += piece[..read].iter().filter(|b| **b == b'\n').count() as u64;
        let is_plain = Packing::of(&bytes) == Packing::Plain && !bytes.starts_with(b"PAR1");
        if bytes.len() >= STDIN || (is_plain && lines > events) {
            whole = false;
            break;
        }
    }
    let packing = Packing::of(&bytes);
    if packing == Packing::Zip {
        return Err(Failure::new(FailureKind::Configuration, "an archive cannot be read from standard input")
            .with_help("save it into a file and name that: the list of what it holds is at its end"));
    }
    let unpacked = packing.unpack(bytes, STDIN).map_err(|e| Failure::unreachable(format!("standard input: {e}")))?;
    let (bytes, whole) = (unpacked.0, whole && unpacked.1);
    let recognised = recognise(&bytes[..bytes.len().min(256 << 10)], whole, "");
    let format = recognised.format().ok_or_else(|| no_events("standard input", &recognised))?;
    if format.whole().is_some() {
        let what = recognised.describe();
        return Err(Failure::new(FailureKind::Configuration, format!("{what} cannot be read from standard input"))
            .with_help("save it into a file and name that: it is read as a whole"));
    }
    let head = look::header_row(&recognised, &bytes);
    Ok(Source {
        label: "standard input".into(),
        what: describe(&recognised, packing),
        bytes: whole.then_some(bytes.len() as u64),
        files: None,
        reader: Box::new(BytesReader::new("-", bytes, Arc::clone(format))),
        format: Arc::clone(format),
        head,
        contract: None,
        partitions: None,
        by_broker: false,
        declared: Vec::new(),
    })
}

/// Where an event of a pipeline arrives.
pub(crate) fn open_arrival(
    pipeline: &LoadedPipeline,
    arrival: usize,
    around: &Surroundings,
    events: u64,
    take: SampleChoice,
) -> Outcome<Source> {
    let plan = &pipeline.plan;
    let arrival = &plan.arrivals[arrival];
    let event = &plan.events[arrival.event];
    let contract =
        event.contract.clone().ok_or_else(|| Failure::internal(format!("{} has no contract", arrival.label)))?;
    let format = arrival.format()?;
    Ok(Source {
        label: format!("{}.{}", plan.pipeline, event.name),
        what: format!("{} from {} ({})", format.describe(), arrival.connection.name, arrival.kind.name()),
        bytes: None,
        files: None,
        head: None,
        reader: reader(arrival.view(around)?.as_ref(), events, take)?,
        format,
        contract: Some((contract, event.time)),
        partitions: None,
        by_broker: matches!(take, SampleChoice::Since(_)),
        declared: Vec::new(),
    })
}

/// The form of stored rows that a file holds.
pub(crate) fn stored_form(path: &Path) -> Outcome<Form> {
    let found = look::look(path)?;
    Form::recognised(&found.recognised).ok_or_else(|| no_events(&path.display().to_string(), &found.recognised))
}
