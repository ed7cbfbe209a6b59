//! What brokers do to their clients on bad days, by command.

use std::time::Duration;

use super::Shared;
use super::log::Log;

/// What can be said to a broker, each with its meaning.
pub const COMMANDS: &[(&str, &str)] = &[
    ("recreate TOPIC", "deletes a topic and recreates it empty"),
    ("delete TOPIC", "deletes a topic"),
    ("forget", "loses all messages and committed offsets, like an in-memory broker that restarts; topics stay"),
    ("expire TOPIC PARTITION OFFSET", "deletes the messages before an offset"),
    ("compact TOPIC", "keeps the last message of each key"),
    ("limit TOPIC BYTES", "sets max.message.bytes"),
    ("move TOPIC PARTITION", "the partition has no leader until `moved`"),
    ("moved TOPIC PARTITION", "the partition has its leader again"),
    ("shorten TOPIC PARTITION OFFSET", "reports an earlier end, like a broker that reads its log again, until `whole`"),
    (
        "shorten TOPIC PARTITION OFFSET COUNT",
        "the same until a fetch was out of range and the end was asked for so often",
    ),
    (
        "understate TOPIC PARTITION OFFSET",
        "reports an earlier end to those who ask, but serves all messages, until `whole`",
    ),
    ("whole TOPIC PARTITION", "reports its end again"),
    ("delay MILLISECONDS", "delays every answer"),
    ("cut", "closes every connection; requests are carried out but not answered"),
    ("refuse COUNT", "closes the next connections at once"),
    ("silence", "keeps connections open but answers nothing until `speak`"),
    ("speak", "answers again"),
    ("twice COUNT", "sends the next answers twice"),
    ("reported TOPIC PARTITION", "prints the end that it reports"),
    ("ends TOPIC", "prints the first offset and the end of each partition"),
];

/// What the broker is about to do.
#[derive(Default)]
pub(crate) struct Faults {
    /// How much longer each answer takes.
    pub delay: Duration,
    /// Whether nothing is answered.
    pub silent: bool,
    /// Connections that are older than this are closed.
    generation: u64,
    refuse: u64,
    twice: u64,
}

impl Faults {
    /// Takes a connection in, and gives its age; None refuses it.
    pub(crate) fn admit(&mut self) -> Option<u64> {
        match self.refuse.checked_sub(1) {
            Some(left) => {
                self.refuse = left;
                None
            }
            None => Some(self.generation),
        }
    }

    /// How often an answer is given to a connection; None closes it instead.
    pub(crate) fn answers(&mut self, born: u64) -> Option<u32> {
        if born < self.generation {
            return None;
        }
        match self.twice.checked_sub(1) {
            Some(left) => {
                self.twice = left;
                Some(2)
            }
            None => Some(1),
        }
    }
}

/// Carries out one command line.
pub(super) fn command(shared: &Shared, line: &str) -> Result<String, String> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let number = |text: &str| text.parse::<u64>().map_err(|_| format!("`{text}` is not a number"));
    let done = || Ok("done".to_string());
    match words.as_slice() {
        ["recreate", topic] => {
            let mut state = shared.state();
            let old = state.topics.remove(*topic).ok_or_else(|| format!("there is no topic {topic}"))?;
            let partitions = u32::try_from(old.logs.len()).unwrap_or(1);
            state.make_topic(topic, super::TopicConfig { partitions, ..old.config });
            done()
        }
        ["delete", topic] => {
            let gone = shared.state().topics.remove(*topic);
            gone.map(|_| "done".to_string()).ok_or_else(|| format!("there is no topic {topic}"))
        }
        ["forget"] => {
            let mut state = shared.state();
            state.committed.clear();
            state.transactions.clear();
            for topic in state.topics.values_mut() {
                topic.id = uuid::Uuid::new_v4();
                topic.logs.iter_mut().for_each(|log| *log = Log::default());
            }
            done()
        }
        ["expire", topic, partition, offset] => {
            let offset = i64::try_from(number(offset)?).unwrap_or(i64::MAX);
            with_log(shared, topic, partition, |log| log.delete_before(offset))?;
            done()
        }
        ["compact", topic] => {
            let mut state = shared.state();
            let topic = state.topics.get_mut(*topic).ok_or_else(|| format!("there is no topic {topic}"))?;
            topic.config.compacts = true;
            Ok(topic.logs.iter_mut().map(Log::compact).sum::<u64>().to_string())
        }
        ["limit", topic, bytes] => {
            let bytes = usize::try_from(number(bytes)?).unwrap_or(usize::MAX);
            let mut state = shared.state();
            let topic = state.topics.get_mut(*topic).ok_or_else(|| format!("there is no topic {topic}"))?;
            topic.config.largest = bytes;
            done()
        }
        ["move", topic, partition] => with_log(shared, topic, partition, |log| log.moves = true).and_then(|()| done()),
        ["moved", topic, partition] => {
            with_log(shared, topic, partition, |log| log.moves = false).and_then(|()| done())
        }
        ["shorten", topic, partition, offset, count @ ..] if count.len() < 2 => {
            let offset = i64::try_from(number(offset)?).unwrap_or(i64::MAX);
            let count = count.first().map(|count| number(count)).transpose()?;
            with_log(shared, topic, partition, |log| {
                (log.reports, log.heals_after, log.was_missed) = (Some(offset), count, false);
            })?;
            shared.news.notify_all();
            done()
        }
        ["understate", topic, partition, offset] => {
            let offset = i64::try_from(number(offset)?).unwrap_or(i64::MAX);
            with_log(shared, topic, partition, |log| log.understates = Some(offset)).and_then(|()| done())
        }
        ["whole", topic, partition] => {
            with_log(shared, topic, partition, |log| (log.reports, log.understates) = (None, None))
                .and_then(|()| done())
        }
        ["delay", milliseconds] => {
            shared.faults().delay = Duration::from_millis(number(milliseconds)?);
            done()
        }
        ["cut"] => {
            shared.faults().generation += 1;
            shared.news.notify_all();
            done()
        }
        ["refuse", count] => {
            shared.faults().refuse = number(count)?;
            done()
        }
        ["silence"] => {
            shared.faults().silent = true;
            done()
        }
        ["speak"] => {
            shared.faults().silent = false;
            done()
        }
        ["twice", count] => {
            shared.faults().twice = number(count)?;
            done()
        }
        ["reported", topic, partition] => {
            let mut end = 0;
            with_log(shared, topic, partition, |log| end = log.reported_end())?;
            Ok(end.to_string())
        }
        ["ends", topic] => {
            let state = shared.state();
            let topic = state.topics.get(*topic).ok_or_else(|| format!("there is no topic {topic}"))?;
            let ends: Vec<String> = topic.logs.iter().map(|log| format!("{}..{}", log.start, log.end)).collect();
            Ok(ends.join(" "))
        }
        _ => Err(format!("`{}` is not known here", line.trim())),
    }
}

fn with_log(shared: &Shared, topic: &str, partition: &str, work: impl FnOnce(&mut Log)) -> Result<(), String> {
    let number: i32 = partition.parse().map_err(|_| format!("`{partition}` is not a number"))?;
    let mut state = shared.state();
    let log = state.log(topic, number).ok_or_else(|| format!("there is no partition {topic}/{number}"))?;
    work(log);
    Ok(())
}
