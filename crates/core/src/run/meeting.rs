//! Reads arrivals that share a lane, the one whose event time is behind before the others.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{Duration, Instant};

use super::replay::is_left_out;
use crate::batch::{LaneId, Ranges};
use crate::event::Chunk;
use crate::failure::Outcome;
use crate::kinds::{LaneReader, Read, ReadLimit};
use crate::plan::{Meeting, Plan, Surroundings};
use crate::state::NEVER;

/// How long an arrival from which nothing came is left alone while others have something.
const QUIET: Duration = Duration::from_millis(100);

/// How far the event time of each arrival of a lane has come, as far as its chunks have been staged.
pub(super) struct Pace(Vec<AtomicI64>);

impl Pace {
    pub(super) fn new(arrivals: usize) -> Arc<Self> {
        Arc::new(Self((0..arrivals).map(|_| AtomicI64::new(NEVER)).collect()))
    }

    /// Notes the newest event time of each arrival, in microseconds since 1970.
    pub(super) fn note(&self, newest: impl Iterator<Item = i64>) {
        self.0.iter().zip(newest).for_each(|(known, newest)| known.store(newest, Ordering::Relaxed));
    }

    fn of(&self, place: usize) -> i64 {
        self.0.get(place).map_or(NEVER, |newest| newest.load(Ordering::Relaxed))
    }
}

/// One arrival of the lane.
struct Member {
    arrival: String,
    reader: Box<dyn LaneReader>,
    /// The names of its partitions in the lane.
    names: HashMap<Arc<str>, Arc<str>>,
    /// When nothing was there.
    quiet_since: Option<Instant>,
    /// Whether it has been read from: before that it does not know what is there.
    is_known: bool,
    /// Whether its rows are looked up for those of the others.
    is_reference: bool,
    /// Whether all of it has been read once.
    is_loaded: bool,
}

/// An arrival of a lane: its name in the ledger, whether its rows are looked up for the others, and what reads it.
pub(super) type LaneMember = (String, bool, Box<dyn LaneReader>);

pub(super) struct MeetingReader {
    lane: LaneId,
    members: Vec<Member>,
    pace: Arc<Pace>,
    /// The member whose source is within a transaction: the rest of that comes before anything else.
    within: Option<usize>,
}

impl Member {
    fn name(&mut self, lane: &LaneId, partition: &Arc<str>) -> Arc<str> {
        if let Some(name) = self.names.get(partition) {
            return Arc::clone(name);
        }
        let name = lane.partition_of(&self.arrival, partition);
        self.names.insert(Arc::clone(partition), Arc::clone(&name));
        name
    }

    fn is_quiet(&self) -> bool {
        self.quiet_since.is_some_and(|since| since.elapsed() < QUIET)
    }
}

impl MeetingReader {
    /// Reads what the readers of the arrivals give, each named with its arrival. A lane of one arrival reads as ever.
    pub(super) fn over(lane: &LaneId, readers: Vec<LaneMember>, pace: Arc<Pace>) -> Box<dyn LaneReader> {
        let member = |(arrival, is_reference, reader)| Member {
            arrival,
            reader,
            names: HashMap::new(),
            quiet_since: None,
            is_known: false,
            is_reference,
            is_loaded: false,
        };
        let mut members: Vec<Member> = readers.into_iter().map(member).collect();
        match members.pop() {
            Some(one) if members.is_empty() && one.arrival == lane.arrival() => one.reader,
            last => {
                members.extend(last);
                Box::new(Self { lane: lane.clone(), members, pace, within: None })
            }
        }
    }

    /// Reads ranges of a lane again, each from its arrival.
    ///
    /// # Errors
    /// Where the outside cannot be reached, or a range cannot be read any more.
    pub(super) fn ranges(
        (plan, meeting): (&Plan, &Meeting<'_>),
        around: &Surroundings,
        lane: &LaneId,
        ranges: &Ranges,
    ) -> Outcome<Box<dyn LaneReader>> {
        let mut readers = Vec::new();
        for arrival in &meeting.arrivals {
            let own = ranges.of_arrival(lane, &arrival.label);
            if is_left_out(arrival, lane, ranges) {
                continue;
            }
            if !own.0.is_empty() || meeting.arrivals.len() == 1 {
                let is_reference = meeting.is_reference(plan, arrival);
                readers.push((arrival.label.clone(), is_reference, arrival.view(around)?.ranges(&own)?));
            }
        }
        Ok(Self::over(lane, readers, Pace::new(0)))
    }

    /// The members in the order in which they are asked.
    fn order(&self) -> Vec<usize> {
        let mut order: Vec<usize> = (0..self.members.len()).collect();
        order.sort_by_key(|place| {
            let member = &self.members[*place];
            // Rows that are looked up are there before the first event that needs them.
            let is_loading = member.is_reference && !member.is_loaded;
            (!is_loading, member.is_quiet(), !member.is_reference, self.pace.of(*place))
        });
        order
    }
}

impl LaneReader for MeetingReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let (mut pending, mut stuck, mut away) = (false, None, None);
        let order = self.within.map_or_else(|| self.order(), |place| vec![place]);
        for place in order {
            let is_loading = self.members.iter().any(|member| member.is_reference && !member.is_loaded);
            let member = &mut self.members[place];
            if is_loading && !member.is_reference {
                continue;
            }
            member.is_known = true;
            match member.reader.read(limit)? {
                Read::Chunk(chunk) => {
                    member.quiet_since = None;
                    self.within = chunk.is_within().then_some(place);
                    let member = &mut self.members[place];
                    let partition = member.name(&self.lane, &chunk.partition);
                    return Ok(Read::Chunk(Chunk { partition, ..chunk }));
                }
                Read::CaughtUp if self.within.take().is_some() => return Ok(Read::Pending),
                Read::CaughtUp => member.is_loaded = true,
                Read::Pending => pending = true,
                Read::Stuck(failure) => stuck = stuck.or(Some(failure)),
                // Others go on with the rows that were read before.
                Read::Away(what) if member.is_reference && member.is_loaded && self.within.is_none() => {
                    away = away.or(Some(what));
                }
                other @ (Read::Halt(_) | Read::Away(_)) => return Ok(other),
            }
            member.quiet_since = Some(Instant::now());
        }
        Ok(match (away, stuck) {
            (Some(what), _) => Read::Away(what),
            _ if pending => Read::Pending,
            (None, Some(failure)) => Read::Stuck(failure),
            (None, None) => Read::CaughtUp,
        })
    }

    fn confirm(&mut self) -> Outcome<bool> {
        for member in &mut self.members {
            if !member.reader.confirm()? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn ended(&mut self) {
        self.members.iter_mut().for_each(|member| member.reader.ended());
    }

    fn unread(&mut self) -> Arc<[Arc<str>]> {
        let mut all = Vec::new();
        for member in &mut self.members {
            if !member.is_known {
                all.push(self.lane.partition_of(&member.arrival, &Arc::from("")));
            }
            for partition in member.reader.unread().iter() {
                all.push(member.name(&self.lane, partition));
            }
        }
        all.into()
    }

    fn wait(&mut self, at_most: Duration) -> bool {
        let each = at_most / u32::try_from(self.members.len()).unwrap_or(u32::MAX).max(1);
        // All are waited for: a slice of the time each.
        let answers: Vec<bool> = self.members.iter_mut().map(|member| member.reader.wait(each)).collect();
        answers.into_iter().all(|can_tell| can_tell)
    }

    fn remarks(&self) -> Vec<String> {
        self.members.iter().flat_map(|member| member.reader.remarks()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::failure::Failure;
    use rstest::rstest;

    /// Gives what a test has written down: `c` a chunk, `p` pending, `s` stuck, `h` halt, `a` away, and then caught up.
    struct Script(&'static str);

    impl LaneReader for Script {
        fn read(&mut self, _: ReadLimit) -> Outcome<Read> {
            let Some(first) = self.0.chars().next() else { return Ok(Read::CaughtUp) };
            self.0 = &self.0[1..];
            Ok(match first {
                'c' => Read::Chunk(Chunk { partition: "x".into(), ..Chunk::default() }),
                'p' => Read::Pending,
                's' => Read::Stuck(Failure::findings("stuck")),
                'h' => Read::Halt(Failure::findings("halt")),
                'a' => Read::Away("away".into()),
                _ => Read::CaughtUp,
            })
        }

        fn confirm(&mut self) -> Outcome<bool> {
            Ok(!self.0.contains('a'))
        }

        fn unread(&mut self) -> Arc<[Arc<str>]> {
            if self.0.contains('c') { Arc::from([Arc::from("x")]) } else { Arc::from([]) }
        }
    }

    fn reader(scripts: [&'static str; 2], newest: [i64; 2]) -> Box<dyn LaneReader> {
        let pace = Pace::new(2);
        pace.note(newest.into_iter());
        let named = ["passage.0", "toll.0"].map(str::to_string).into_iter();
        let member = |(name, script): (String, &'static str)| {
            let is_reference = script.starts_with('r');
            (name, is_reference, Box::new(Script(script.trim_start_matches('r'))) as Box<dyn LaneReader>)
        };
        let readers = named.zip(scripts).map(member);
        MeetingReader::over(&LaneId::new("passage.0", 0), readers.collect(), pace)
    }

    fn read(reader: &mut dyn LaneReader) -> String {
        match reader.read(ReadLimit { records: 1, bytes: 1, ends: false }).unwrap() {
            Read::Chunk(chunk) => chunk.partition.to_string(),
            Read::CaughtUp => "caught up".into(),
            Read::Pending => "pending".into(),
            Read::Halt(failure) | Read::Stuck(failure) => failure.message,
            Read::Away(what) => what,
        }
    }

    #[rstest]
    #[case::the_one_that_is_behind(["cc", "c"], [5, 3], &["/toll.0/x", "x", "x", "caught up"])]
    #[case::the_first_where_nothing_is_known(["c", "c"], [NEVER, NEVER], &["x", "/toll.0/x", "caught up"])]
    #[case::one_has_nothing(["", "cc"], [3, 5], &["/toll.0/x", "/toll.0/x", "caught up"])]
    #[case::one_is_pending(["p", "c"], [3, 5], &["/toll.0/x", "caught up"])]
    #[case::both_have_nothing_at_present(["p", ""], [3, 5], &["pending", "caught up"])]
    #[case::one_is_stuck_and_the_other_goes_on(["sss", "c"], [3, 5], &["/toll.0/x", "stuck"])]
    #[case::one_halts(["h", "c"], [3, 5], &["halt", "/toll.0/x"])]
    #[case::what_is_looked_up_comes_first(["cc", "rcpc"], [3, 5], &["/toll.0/x", "pending", "/toll.0/x", "x", "x"])]
    #[case::one_is_away(["a", "c"], [3, 5], &["away", "/toll.0/x"])]
    fn arrivals_that_meet_are_read_together(
        #[case] scripts: [&'static str; 2],
        #[case] newest: [i64; 2],
        #[case] expected: &[&str],
    ) {
        let mut reader = reader(scripts, newest);
        let found: Vec<String> = expected.iter().map(|_| read(reader.as_mut())).collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn a_batch_ends_for_all_of_them() {
        struct Counting(Arc<std::sync::atomic::AtomicU32>);

        impl LaneReader for Counting {
            fn read(&mut self, _: ReadLimit) -> Outcome<Read> {
                Ok(Read::CaughtUp)
            }

            fn ended(&mut self) {
                self.0.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
            }
        }

        let count = Arc::new(std::sync::atomic::AtomicU32::new(0));
        let member =
            |name: &str| (name.to_string(), false, Box::new(Counting(Arc::clone(&count))) as Box<dyn LaneReader>);
        let members = vec![member("passage.0"), member("toll.0")];
        let mut reader = MeetingReader::over(&LaneId::new("passage.0", 0), members, Pace::new(2));
        assert!(reader.confirm().unwrap());
        assert_eq!(count.load(std::sync::atomic::Ordering::Relaxed), 0, "it has not ended yet");
        reader.ended();
        assert_eq!(count.load(std::sync::atomic::Ordering::Relaxed), 2);
    }

    #[test]
    fn what_is_unread_and_confirmed_is_that_of_all() {
        let mut reader = reader(["c", "c"], [1, 2]);
        let unread = |reader: &mut dyn LaneReader| reader.unread().iter().map(|p| p.to_string()).collect::<Vec<_>>();
        assert_eq!(unread(reader.as_mut()), ["", "x", "/toll.0/", "/toll.0/x"], "nobody knows what is there yet");
        assert_eq!([read(reader.as_mut()), read(reader.as_mut())], ["x", "/toll.0/x"]);
        assert!(unread(reader.as_mut()).is_empty());
        let mut reader = self::reader(["c", "c"], [1, 2]);
        assert!(reader.confirm().unwrap());
        let mut reader = self::reader(["c", "a"], [1, 2]);
        assert!(!reader.confirm().unwrap());
    }
}
