//! Reads a list whole, and again when it may have changed.

use std::sync::Arc;
use std::time::{Duration, Instant};

use sluice_core::event::{Chunk, ListPart, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, Read, ReadLimit};

use super::{ListSource, Version};

/// How soon a list is looked at again that is being written, or could not be read.
const SOON: Duration = Duration::from_secs(1);

/// How long a reader that has nothing yet waits at a time.
const PAUSE: Duration = Duration::from_millis(20);

/// Reads the list of an arrival.
pub(crate) struct ListReader {
    source: Arc<dyn ListSource>,
    again: Duration,
    /// The number of the last reading that was begun.
    number: u64,
    reading: Option<Reading>,
    /// What the list looked like when it was last read whole.
    known: Option<Version>,
    /// When it is looked at next.
    due: Instant,
}

/// A reading that is under way.
struct Reading {
    reader: Box<dyn LaneReader>,
    version: Version,
    /// The last chunk, without its records.
    last: Option<Chunk>,
}

impl ListReader {
    /// A reader of a list of which `read` readings were begun before.
    pub(crate) fn new(source: Arc<dyn ListSource>, again: Duration, read: u64) -> Self {
        Self { source, again, number: read, reading: None, known: None, due: Instant::now() }
    }

    /// Looks whether the list is to be read, and begins.
    fn begin(&mut self) -> Outcome<Option<Read>> {
        if Instant::now() < self.due {
            return Ok(Some(self.at_rest()));
        }
        let version = self.source.version()?;
        match &version {
            Version::Absent(why) => {
                self.due = Instant::now() + SOON;
                return Ok(Some(Read::Away(why.clone())));
            }
            Version::Unfinished => {
                self.due = Instant::now() + SOON;
                return Ok(Some(self.at_rest()));
            }
            Version::Known(_) if self.known.as_ref() == Some(&version) => {
                self.due = Instant::now() + self.again;
                return Ok(Some(self.at_rest()));
            }
            Version::Known(_) | Version::Unknown => {}
        }
        self.number += 1;
        self.reading = Some(Reading { reader: self.source.open()?, version, last: None });
        Ok(None)
    }

    /// Nothing to read: what was read before still counts, where there is such.
    fn at_rest(&self) -> Read {
        if self.known.is_some() {
            return Read::CaughtUp;
        }
        std::thread::sleep(PAUSE);
        Read::Pending
    }

    fn part(&self, is_end: bool) -> ListPart {
        ListPart { reading: self.number, is_end }
    }

    /// The reading has come to its end: it counts, unless the list has changed meanwhile.
    fn end(&mut self) -> Outcome<Read> {
        let Some(reading) = self.reading.take() else { return Ok(self.at_rest()) };
        if reading.version != Version::Unknown && self.source.version()? != reading.version {
            self.due = Instant::now() + SOON;
            return Ok(self.at_rest());
        }
        self.known = Some(reading.version);
        self.due = Instant::now() + self.again;
        let list = Some(self.part(true));
        let at = |position: Position| Position { minor: self.number, ..position };
        Ok(Read::Chunk(match reading.last {
            Some(last) => Chunk { from: last.to, list, ..last },
            None => Chunk {
                partition: "list".into(),
                from: at(Position::default()),
                to: at(Position::default()),
                list,
                ..Chunk::default()
            },
        }))
    }

    /// The list cannot be read. What was read whole before still counts, and it is tried again where waiting may help.
    fn failed(&mut self, failure: Failure) -> Outcome<Read> {
        self.reading = None;
        self.due = Instant::now() + self.again.clamp(SOON, SOON * 30);
        match (failure.passing, &self.known) {
            (true, _) => Ok(Read::Away(failure.message)),
            (false, Some(_)) => Ok(Read::Halt(failure)),
            (false, None) => Err(failure),
        }
    }

    fn next(&mut self, limit: ReadLimit) -> Outcome<Read> {
        if self.reading.is_none()
            && let Some(nothing) = self.begin()?
        {
            return Ok(nothing);
        }
        let list = Some(self.part(false));
        let number = self.number;
        let Some(reading) = &mut self.reading else { return Ok(self.at_rest()) };
        let at = |position: Position| Position { minor: number, ..position };
        match reading.reader.read(limit)? {
            Read::Chunk(chunk) => {
                let chunk = Chunk { from: at(chunk.from), to: at(chunk.to), list, ..chunk };
                let (partition, identity) = (Arc::clone(&chunk.partition), chunk.identity.clone());
                let (to, head) = (chunk.to, chunk.head.clone());
                reading.last = Some(Chunk { partition, identity, to, head, ..Chunk::default() });
                Ok(Read::Chunk(chunk))
            }
            Read::CaughtUp => self.end(),
            Read::Pending => Ok(Read::Pending),
            Read::Halt(failure) | Read::Stuck(failure) => self.failed(failure),
            Read::Away(what) => self.failed(Failure::away(what)),
        }
    }
}

impl LaneReader for ListReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        match self.next(limit) {
            Err(failure) => self.failed(failure),
            read => read,
        }
    }

    fn remarks(&self) -> Vec<String> {
        self.reading.as_ref().map_or_else(Vec::new, |reading| reading.reader.remarks())
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;
    use rstest::rstest;

    /// A list whose readings a test has written down: `c` a chunk, `p` pending, `a` away, `x` an error.
    struct Script {
        readings: Mutex<Vec<&'static str>>,
        version: Mutex<Version>,
    }

    /// What is left of a reading, and where it stands.
    struct Steps(&'static str, u64);

    impl LaneReader for Steps {
        fn read(&mut self, _: ReadLimit) -> Outcome<Read> {
            let Some(first) = self.0.chars().next() else { return Ok(Read::CaughtUp) };
            self.0 = &self.0[1..];
            let from = Position::at(self.1);
            self.1 += 10;
            Ok(match first {
                'c' => Read::Chunk(Chunk { partition: "a".into(), from, to: Position::at(self.1), ..Chunk::default() }),
                'p' => Read::Pending,
                'a' => Read::Away("away".into()),
                _ => return Err(Failure::unreachable("broken")),
            })
        }
    }

    impl ListSource for Script {
        fn version(&self) -> Outcome<Version> {
            Ok(self.version.lock().unwrap().clone())
        }

        fn open(&self) -> Outcome<Box<dyn LaneReader>> {
            let steps = self.readings.lock().unwrap().remove(0);
            Ok(Box::new(Steps(steps, 0)))
        }

        fn sample(&self, _: u64) -> Outcome<Box<dyn LaneReader>> {
            self.open()
        }
    }

    fn shown(read: Outcome<Read>) -> String {
        match read {
            Ok(Read::Chunk(chunk)) => {
                let end = if chunk.list.unwrap().is_end { " end" } else { "" };
                format!("{}..{}{end}", chunk.from, chunk.to)
            }
            Ok(Read::CaughtUp) => "caught up".into(),
            Ok(Read::Pending) => "pending".into(),
            Ok(Read::Away(what)) => what,
            Ok(Read::Halt(failure) | Read::Stuck(failure)) => format!("halt: {}", failure.message),
            Err(failure) => format!("error: {}", failure.message),
        }
    }

    #[rstest]
    #[case::whole(Version::Unknown, &["cc"], &["0.8..10.8", "10.8..20.8", "20.8..20.8 end", "caught up"])]
    #[case::empty(Version::Unknown, &[""], &["0.8..0.8 end", "caught up"])]
    #[case::pending(Version::Unknown, &["pc"], &["pending", "10.8..20.8", "20.8..20.8 end"])]
    #[case::away(Version::Unknown, &["ca"], &["0.8..10.8", "away", "pending"])]
    #[case::broken(Version::Unknown, &["cx"], &["0.8..10.8", "error: broken"])]
    #[case::absent(Version::Absent("not there".into()), &[], &["not there", "pending"])]
    #[case::unfinished(Version::Unfinished, &[], &["pending", "pending"])]
    #[case::known(Version::Known("v".into()), &["c"], &["0.8..10.8", "10.8..10.8 end", "caught up"])]
    fn a_list_is_read_to_its_end(
        #[case] version: Version,
        #[case] readings: &[&'static str],
        #[case] expected: &[&str],
    ) {
        let source = Script { readings: Mutex::new(readings.to_vec()), version: Mutex::new(version) };
        let mut reader = ListReader::new(Arc::new(source), Duration::from_secs(60), 7);
        let limit = ReadLimit { records: 1, bytes: 1, ends: false };
        let found: Vec<String> = expected.iter().map(|_| shown(reader.read(limit))).collect();
        assert_eq!(found, expected);
    }

    /// Reads until a list has been read again, from one version to the next.
    #[rstest]
    #[case::changed("v2", &["0.2..10.2", "10.2..10.2 end"])]
    #[case::unchanged("v1", &["caught up", "caught up"])]
    fn it_is_read_again_when_it_has_changed(#[case] later: &str, #[case] expected: &[&str]) {
        let version = Mutex::new(Version::Known("v1".into()));
        let source = Arc::new(Script { readings: Mutex::new(vec!["c", "c"]), version });
        let again: Arc<dyn ListSource> = source.clone();
        let mut reader = ListReader::new(again, Duration::ZERO, 0);
        let limit = ReadLimit { records: 1, bytes: 1, ends: false };
        assert_eq!([shown(reader.read(limit)), shown(reader.read(limit))], ["0.1..10.1", "10.1..10.1 end"]);
        *source.version.lock().unwrap() = Version::Known(later.into());
        let found: Vec<String> = expected.iter().map(|_| shown(reader.read(limit))).collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn a_reading_during_which_it_was_written_does_not_count() {
        let version = Mutex::new(Version::Known("v1".into()));
        let source = Arc::new(Script { readings: Mutex::new(vec!["c"]), version });
        let again: Arc<dyn ListSource> = source.clone();
        let mut reader = ListReader::new(again, Duration::from_secs(60), 0);
        let limit = ReadLimit { records: 1, bytes: 1, ends: false };
        assert_eq!(shown(reader.read(limit)), "0.1..10.1");
        *source.version.lock().unwrap() = Version::Known("v2".into());
        assert_eq!(shown(reader.read(limit)), "pending", "no end: the list that was read is none");
    }

    #[test]
    fn what_was_read_before_counts_while_it_cannot_be_read() {
        let source = Script { readings: Mutex::new(vec!["c", "a", "x"]), version: Mutex::new(Version::Unknown) };
        let mut reader = ListReader::new(Arc::new(source), Duration::ZERO, 0);
        let limit = ReadLimit { records: 1, bytes: 1, ends: false };
        let found: Vec<String> = (0..4).map(|_| shown(reader.read(limit))).collect();
        assert_eq!(found, ["0.1..10.1", "10.1..10.1 end", "away", "caught up"]);
    }
}
