//! Intake kind `topics`: topics of a broker that speaks the Kafka protocol, one partition each. A position is an
//! offset.
//!
//! Partitions are assigned, never joined as a group: the ledger's positions are the truth. The offsets that the group
//! has committed at the broker follow what has settled, for other tools to look at. Only committed messages of
//! transactional writers are read. The end of a partition is what fetching says, not an offset that was asked for.
//!
//! A position is guarded by the cluster's name and a digest of the last message that was read: where another message
//! stands there, the topic was recreated, and the run stops.

mod assigned;
mod gather;
mod identity;
mod partitions;
mod proof;
mod quiet;
mod reader;
mod sample;
mod schemas;
mod states;
mod waiting;

use std::sync::{Arc, OnceLock};

use rdkafka::consumer::{CommitMode, Consumer as _};
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use sluice_core::batch::{Range, Ranges};
use sluice_core::config::{ConnectionConfig, OptionSpec, Options, ValueKind};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{
    Behind, Intake, IntakeKind, IntakeView, LaneReader, Mark, Misplaced, Part, PartitionPosition, PartitionState,
    Settings, only, place_of,
};
use sluice_core::names;
use sluice_core::problem::Problem;
use sluice_core::values::time::parse_timestamp;

use crate::broker::registry::Registry;
use crate::broker::{Broker, Consumer, let_go};
use partitions::{Partition, Wanted};
use proof::Prover;
use reader::{Ends, TopicsReader};
use schemas::WithSchemas;

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::required(
        "topic",
        ValueKind::Texts,
        "the topic, or a list of topics; ? and * match characters of names",
    ),
    OptionSpec::with_default(
        "start",
        ValueKind::Text,
        "earliest",
        "where reading starts the first time: earliest, latest, an RFC 3339 time, or positions that were set; topics that a \
         pattern finds later are read from their beginning",
    ),
    OptionSpec::with_default(
        "tombstones",
        ValueKind::Choice(&["skip", "reject", "null"]),
        "skip",
        "what happens to messages without a value (tombstones): they are skipped and counted as filtered, rejected, or read \
         as events in which every field is null",
    ),
    OptionSpec::with_default(
        "key_as",
        ValueKind::Choice(&["text", "base64"]),
        "text",
        "how `origin.key` shows the key: as text, or as base64 of its bytes",
    ),
    OptionSpec::optional(
        "group",
        ValueKind::Text,
        "the consumer group whose offsets follow what has settled; default sluice.PIPELINE.EVENT.NUMBER",
    ),
];

/// The kind.
pub struct Topics;

impl IntakeKind for Topics {
    fn name(&self) -> &'static str {
        "topics"
    }

    fn scheme(&self) -> &'static str {
        "kafka"
    }

    fn about(&self) -> &'static str {
        "topics of a broker, read from the beginning, the end or a time; each message is an event"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn place(&self, connection: &ConnectionConfig, options: &Options) -> (String, String) {
        (place_of(self.scheme(), &connection.target), options.texts("topic").join(" "))
    }

    fn formats(&self) -> &'static [&'static str] {
        sluice_core::formats::IN_MESSAGES
    }

    fn has_messages(&self) -> bool {
        true
    }

    fn check(&self, settings: &Settings) -> Vec<Problem> {
        let place = |key: &str| settings.options.place_of(key);
        let away = |failure: Failure| {
            let problem = Problem::error("place.missing", failure.message, place("at"));
            vec![match failure.help {
                Some(help) => problem.with_help(help),
                None => problem,
            }]
        };
        if let Err(problem) = start_of(settings).map(drop).and(tombstone_of(settings).map(drop)) {
            return vec![*problem];
        }
        let intake = match TopicsIntake::new(settings) {
            Ok(intake) => intake,
            Err(failure) => return away(failure),
        };
        if let Some(registry) = &intake.registry
            && let Err(failure) = registry.look()
        {
            return away(failure);
        }
        let there = match intake.broker.topics(&intake.look) {
            Ok(there) => there,
            Err(failure) => return away(failure),
        };
        let mut found = Vec::new();
        for wanted in settings.options.texts("topic") {
            let pattern = Wanted::new(std::slice::from_ref(&wanted));
            if there.iter().any(|t| pattern.takes(&t.name)) {
                continue;
            }
            let message = format!("there is no topic `{wanted}` at {}", intake.broker.shown());
            let problem = match names::remedy(&wanted, "topics", there.iter().map(|t| t.name.as_str())) {
                _ if Wanted::is_pattern(&wanted) => Problem::warning("place.missing", message, place("topic"))
                    .with_help("topics that are created later will be read"),
                Some(help) => Problem::error("place.missing", message, place("topic"))
                    .with_label("binds to nothing")
                    .with_help(help),
                None => {
                    Problem::error("place.missing", message, place("topic")).with_help("the broker has no topics yet")
                }
            };
            found.push(problem);
        }
        found
    }

    fn open(&self, settings: &[Settings]) -> Outcome<Box<dyn Intake>> {
        Ok(Box::new(TopicsIntake::new(only(settings)?)?))
    }

    fn view(&self, settings: &[Settings]) -> Outcome<Box<dyn IntakeView>> {
        Ok(Box::new(TopicsIntake::new(only(settings)?)?))
    }
}

/// Where partitions without a position start.
#[derive(Clone, Debug, PartialEq)]
enum Start {
    At(Mark),
    /// Only where somebody set positions.
    Positions,
}

fn start_of(settings: &Settings) -> Result<Start, Box<Problem>> {
    let text = settings.options.text("start").unwrap_or_default();
    match text.as_str() {
        "earliest" => Ok(Start::At(Mark::Earliest)),
        "latest" => Ok(Start::At(Mark::Latest)),
        "positions" => Ok(Start::Positions),
        other => parse_timestamp(other.as_bytes()).map(|at| Start::At(Mark::Time(at))).ok_or_else(|| {
            let message = format!("`{other}` is not a valid start");
            Box::new(
                Problem::error("value.type", message, settings.options.place_of("start"))
                    .with_help("use earliest, latest, positions, or a time such as 2026-11-23T06:00:00Z"),
            )
        }),
    }
}

/// What a message without a value is read as; None skips it.
fn tombstone_of(settings: &Settings) -> Result<Option<&'static [u8]>, Box<Problem>> {
    match settings.options.text("tombstones").as_deref() {
        Some("reject") => Ok(Some(b"")),
        Some("null") if !matches!(settings.options.text("format").as_deref(), None | Some("json" | "jsonl")) => Err(Box::new(
            Problem::error(
                "value.type",
                "messages without a value can be read as events in which every field is null only where `format` is json",
                settings.options.place_of("tombstones"),
            )
            .with_help("use tombstones = \"skip\" or \"reject\""),
        )),
        Some("null") => Ok(Some(b"{}")),
        _ => Ok(None),
    }
}

/// The registry of messages that name their schemas; None of others.
fn registry_of(settings: &Settings) -> Outcome<Option<Arc<Registry>>> {
    let named = |format: &&str| sluice_core::formats::WITH_SCHEMAS.contains(format);
    let format = settings.options.text("format");
    let framing = format.as_deref().filter(named).and_then(|format| settings.options.table(format).text("framing"));
    let asks = framing.as_deref() == Some(sluice_core::formats::avro::REGISTRY);
    asks.then(|| Registry::new(settings).map(Arc::new)).transpose()
}

/// How messages are taken.
#[derive(Clone, Copy, Debug)]
struct MessageOptions {
    /// What messages without a value are read as; None skips them.
    tombstone: Option<&'static [u8]>,
    /// Whether keys are shown in base64.
    keys_as_base64: bool,
    /// Bytes of the largest value that is taken.
    max_record: usize,
}

/// An opened intake.
pub struct TopicsIntake {
    broker: Broker,
    wanted: Wanted,
    start: Start,
    group: String,
    manner: MessageOptions,
    /// For proofs; it reads nothing.
    look: Arc<Consumer>,
    /// For reporting what has settled.
    tell: OnceLock<Consumer>,
    /// Where messages name their schemas: the registry that knows them.
    registry: Option<Arc<Registry>>,
}

impl TopicsIntake {
    /// Reaches nothing yet.
    ///
    /// # Errors
    /// Where the configuration does not hold.
    pub fn new(settings: &Settings) -> Outcome<Self> {
        let broker = Broker::new(settings)?;
        let group = match settings.options.text("group") {
            Some(group) => group,
            None if settings.label.is_empty() => "sluice.look".into(),
            None => format!("sluice.{}", settings.label),
        };
        let configured = |p: Box<Problem>| Failure::new(FailureKind::Configuration, p.message.clone());
        let start = start_of(settings).map_err(configured)?;
        let max_record = settings.options.size("max_record").clamp(1, 1 << 30);
        Ok(Self {
            look: Arc::new(broker.consumer("sluice.look")?),
            broker,
            wanted: Wanted::new(&settings.options.texts("topic")),
            start,
            group,
            manner: MessageOptions {
                tombstone: tombstone_of(settings).map_err(configured)?,
                keys_as_base64: settings.options.text("key_as").as_deref() == Some("base64"),
                max_record: usize::try_from(max_record).unwrap_or(1 << 30),
            },
            tell: OnceLock::new(),
            registry: registry_of(settings)?,
        })
    }

    /// The partitions that there are now.
    ///
    /// # Errors
    /// Where no broker answers, or a topic is not there.
    fn partitions(&self) -> Outcome<Vec<Partition>> {
        let there = self.broker.topics(&self.look)?;
        if let Some(missing) = self.wanted.missing(&there) {
            let failure = Failure::unreachable(format!("there is no topic `{missing}` at {}", self.broker.shown()));
            let help = names::remedy(missing, "topics", there.iter().map(|t| t.name.as_str()));
            return Err(failure.with_help(help.unwrap_or_else(|| "make it, or name another topic".into())));
        }
        Ok(self.wanted.partitions(&there))
    }

    /// A reader that hands on schemas where messages name theirs.
    fn with_schemas(&self, reader: Box<dyn LaneReader>) -> Box<dyn LaneReader> {
        match &self.registry {
            Some(registry) => Box::new(WithSchemas::new(reader, Arc::clone(registry))),
            None => reader,
        }
    }

    /// A reader for so many partitions.
    fn reader(&self, group: &str, partitions: usize) -> Outcome<TopicsReader> {
        let consumer = self.broker.consumer_of(group, partitions)?;
        TopicsReader::new(self.broker.clone(), consumer, Arc::clone(&self.look), self.manner)
    }

    /// The first offset of each partition, and the one after the last.
    fn bounds(&self, partitions: &[Partition]) -> Outcome<Vec<(u64, u64)>> {
        self.broker.bounds(&self.look, &named(partitions))
    }

    /// The offset of a mark in each partition. A broker may name the beginning of the block in which a moment lies: then
    /// events of a little before come first.
    fn offsets(&self, partitions: &[Partition], mark: &Mark) -> Outcome<Vec<u64>> {
        let bounds = self.bounds(partitions)?;
        let Mark::Time(at) = mark else {
            return Ok(bounds.iter().map(|(low, high)| if *mark == Mark::Earliest { *low } else { *high }).collect());
        };
        // Brokers keep milliseconds: the first that is not before the moment.
        let millis = at.div_euclid(1_000) + i64::from(at.rem_euclid(1_000) > 0);
        let found = self.broker.offsets(&self.look, &named(partitions), Offset::Offset(millis.max(0)))?;
        Ok(found.into_iter().zip(bounds).map(|(found, (_, high))| found.unwrap_or(high)).collect())
    }

    /// A mark as positions.
    fn marked(&self, partitions: &[Partition], mark: &Mark) -> Outcome<Vec<PartitionPosition>> {
        let mut offsets = self.offsets(partitions, mark)?;
        if let Mark::Time(at) = mark {
            sample::refine(self, partitions, &mut offsets, *at)?;
        }
        self.guarded(partitions, &offsets)
    }

    /// Positions with what tells another partition of the same name: the message before each, else where the partition begins.
    fn guarded(&self, partitions: &[Partition], offsets: &[u64]) -> Outcome<Vec<PartitionPosition>> {
        let cluster = self.broker.cluster(&self.look);
        let bounds = self.bounds(partitions)?;
        let places = || partitions.iter().zip(offsets.iter().copied()).zip(&bounds);
        let with_messages = places().filter(|((_, at), (low, _))| at > low);
        let with_messages: Vec<(Partition, u64)> = with_messages.map(|((p, at), _)| (p.clone(), at)).collect();
        let mut digests = Prover::new(self.broker.clone()).digests_before(&with_messages)?.into_iter();
        let mut one = |((partition, at), (low, _)): ((&Partition, u64), &(u64, u64))| {
            let digest = if at > *low { digests.next().flatten() } else { None };
            PartitionPosition {
                partition: partition.name(),
                position: Position::at(at),
                identity: match digest {
                    Some(digest) => identity::of(&cluster, Some(&digest)),
                    None => identity::of_beginning(&cluster, *low),
                },
            }
        };
        Ok(places().map(&mut one).collect())
    }
}

impl Drop for TopicsIntake {
    fn drop(&mut self) {
        let_go((Arc::clone(&self.look), self.tell.take()));
    }
}

/// Partitions as the broker's proofs take them.
fn named(partitions: &[Partition]) -> Vec<(&str, i32)> {
    partitions.iter().map(Partition::named).collect()
}

impl Intake for TopicsIntake {
    fn lane(&self, lane: u32, lanes: u32, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>> {
        let cluster = self.broker.cluster(&self.look);
        let partitions: Vec<Partition> = self.partitions()?.into_iter().filter(|p| p.lane(lanes) == lane).collect();
        let mut reader = self.reader(&self.group, partitions.len())?;
        for (partition, bounds) in partitions.iter().zip(self.bounds(&partitions)?) {
            let known = positions.iter().find(|p| p.partition == partition.name());
            reader.add(partition, known, bounds.0, &cluster)?;
        }
        reader.watch(self.wanted.clone(), (lane, lanes), cluster);
        Ok(self.with_schemas(Box::new(reader)))
    }

    fn starts(&self, known: &[PartitionPosition], has_begun: bool) -> Outcome<Vec<PartitionPosition>> {
        let is_known = |p: &Partition| known.iter().any(|k| k.partition == p.name());
        let new: Vec<Partition> = self.partitions()?.into_iter().filter(|p| !is_known(p)).collect();
        // A partition that came later is read from its beginning, wherever the others started: a new one of a topic that
        // is known, and one of a topic that nobody named, which a pattern has found since.
        let is_later =
            |p: &Partition| known.iter().any(|k| p.is_of(&k.partition)) || (has_begun && !self.wanted.names(&p.topic));
        let (later, first): (Vec<Partition>, Vec<Partition>) = new.into_iter().partition(is_later);
        let mut starts = self.marked(&later, &Mark::Earliest)?;
        match (&self.start, first.first()) {
            (_, None) => {}
            (Start::At(mark), _) => starts.extend(self.marked(&first, mark)?),
            (Start::Positions, Some(partition)) => {
                let message = format!("{} has no position, and start = \"positions\" sets none", partition.name());
                return Err(Failure::new(FailureKind::Configuration, message)
                    .with_help("set it: sluice positions PIPELINE --set earliest --reason \"…\""));
            }
        }
        Ok(starts)
    }

    fn settled(&self, ranges: &Ranges) -> Outcome<()> {
        let mut offsets = TopicPartitionList::new();
        for range in &ranges.0 {
            let Some(partition) = Partition::parse(&range.partition) else { continue };
            let offset = Offset::Offset(i64::try_from(range.to.major).unwrap_or(i64::MAX));
            let _ = offsets.add_partition_offset(&partition.topic, partition.number, offset);
        }
        if self.tell.get().is_none() {
            let _ = self.tell.set(self.broker.consumer(&self.group)?);
        }
        let Some(tell) = self.tell.get() else { return Ok(()) };
        while tell.poll(std::time::Duration::ZERO).is_some() {}
        tell.commit(&offsets, CommitMode::Async).map_err(|e| {
            Failure::unreachable(format!("settled offsets could not be committed to {}: {e}", self.broker.shown()))
        })
    }
}

impl IntakeView for TopicsIntake {
    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>> {
        Ok(self.with_schemas(sample::reader(self, &Mark::Earliest, events, false)?))
    }

    fn sample_part(&self, part: &Part) -> Outcome<Option<Box<dyn LaneReader>>> {
        match part {
            Part::From(mark) => sample::reader(self, mark, u64::MAX, false),
            Part::Last(events) => sample::last(self, *events),
            Part::Live => sample::reader(self, &Mark::Latest, u64::MAX, true),
        }
        .map(|reader| Some(self.with_schemas(reader)))
    }

    fn states(&self, positions: &[PartitionPosition]) -> Outcome<Vec<PartitionState>> {
        states::look(self, positions)
    }

    fn find(&self, mark: &Mark) -> Outcome<Option<Vec<PartitionPosition>>> {
        self.marked(&self.partitions()?, mark).map(Some)
    }

    fn guard(&self, position: PartitionPosition) -> Outcome<PartitionPosition> {
        let Some(partition) = Partition::parse(&position.partition) else { return Ok(position) };
        let guarded = self.guarded(&[partition], &[position.position.major])?;
        Ok(guarded.into_iter().next().unwrap_or(position))
    }

    fn ranges(&self, ranges: &Ranges) -> Outcome<Box<dyn LaneReader>> {
        let mut reader = self.reader("sluice.look", ranges.0.len())?;
        let parse = |r: &Range| {
            Partition::parse(&r.partition)
                .ok_or_else(|| Failure::internal(format!("{} is not a partition of a topic", r.partition)))
        };
        let partitions = ranges.0.iter().map(parse).collect::<Outcome<Vec<_>>>()?;
        let mut once = partitions.clone();
        once.dedup();
        let low: Vec<(Partition, u64)> =
            once.iter().cloned().zip(self.bounds(&once)?.into_iter().map(|(low, _)| low)).collect();
        for (partition, range) in partitions.iter().zip(&ranges.0) {
            let low = low.iter().find(|(p, _)| p == partition).map_or(0, |(_, low)| *low);
            reader.add_range(partition, range, low)?;
        }
        Ok(self.with_schemas(Box::new(Ends(reader))))
    }

    fn behind(&self, positions: &[PartitionPosition]) -> Outcome<Behind> {
        let mut behind = Behind::default();
        let partitions = self.partitions()?;
        let bounds = self.bounds(&partitions)?;
        let ends: Vec<u64> = bounds.iter().map(|(_, high)| *high).collect();
        behind.waiting = waiting::count(&self.broker, &partitions, &ends)?;
        for (partition, (low, high)) in partitions.iter().zip(bounds) {
            let read = positions.iter().find(|p| p.partition == partition.name()).map_or(low, |p| p.position.major);
            let unread = high.saturating_sub(read.max(low));
            behind.partitions += 1;
            behind.events += unread;
            behind.unread_partitions += u64::from(unread > 0);
            behind.misplaced += u64::from(Misplaced::of(read, low, high).is_some());
        }
        Ok(behind)
    }
}

/// The names of a connection's topics, for looking and completing.
///
/// # Errors
/// Where no broker answers.
pub fn topics(settings: &Settings) -> Outcome<Vec<crate::broker::Topic>> {
    let broker = Broker::new(settings)?;
    broker.topics(&broker.consumer("sluice.look")?)
}

/// Shared by readers: wakes who waits for messages.
type Bell = Arc<(std::sync::Mutex<bool>, std::sync::Condvar)>;

#[cfg(test)]
mod tests;
