use sluice_core::config::notice::Condition;

use super::*;
use crate::crew::figures::Moved;

const SECOND: i64 = 1_000_000;

fn empty() -> Seen {
    Seen {
        read: 0,
        last_read: 0,
        rejected: 0,
        rejects: VecDeque::new(),
        away: BTreeMap::new(),
        behind_since: None,
        failed: None,
        drifts: None,
    }
}

fn report(doing: Doing, moved: Moved) -> MemberReport {
    MemberReport { pipeline: "tolls".into(), doing, since: 0, retries: 0, texts: String::new(), schedule: None, moved }
}

fn waits(failures: u32) -> Doing {
    Doing::Waits { until: 0, failures, reason: "tolls-db rejected the login".into() }
}

/// A pipeline that is seen at the end of each second.
struct Watched {
    memory: Memory,
    now: i64,
}

impl Watched {
    fn new() -> Self {
        Self { memory: Memory([("tolls".to_string(), empty())].into()), now: 0 }
    }

    fn see(&mut self, condition: Condition, doing: &Doing, moved: &Moved) -> Observed {
        self.now += SECOND;
        let report = report(doing.clone(), moved.clone());
        self.memory.0.get_mut("tolls").unwrap().note(&report, (self.now - 100 * SECOND, self.now));
        self.memory.observed(condition, &report, self.now)
    }
}

#[test]
fn rejects_are_counted_over_the_time_before() {
    let mut watched = Watched::new();
    let condition = Condition::Rejects(0, Duration::from_secs(10));
    let mut counts = Vec::new();
    for second in 0..30_u64 {
        // Three a second for ten seconds, then none; then the process counts from zero again.
        let rejected = if second < 10 {
            3 * (second + 1)
        } else if second < 20 {
            30
        } else {
            1
        };
        let moved = Moved { rejected, ..Moved::default() };
        counts.push(watched.see(condition, &Doing::Runs, &moved).rejects.unwrap());
    }
    assert_eq!(counts[9], 30);
    assert_eq!(counts[15], 15);
    assert_eq!(counts[20], 1);
    assert_eq!(counts[29], 1);
}

#[test]
fn silence_is_counted_from_the_last_event() {
    let mut watched = Watched::new();
    let condition = Condition::Silent(Duration::from_secs(3));
    let mut seconds = Vec::new();
    for second in 0..10_u64 {
        let moved = Moved { read: if second < 5 { second } else { 4 }, ..Moved::default() };
        seconds.push(watched.see(condition, &Doing::Runs, &moved).silent.unwrap().as_secs());
    }
    assert_eq!(seconds[4], 0);
    assert_eq!(seconds[9], 5);
    let stopped = Doing::Stopped { reason: String::new() };
    assert_eq!(watched.see(condition, &stopped, &Moved::default()).silent, None);
}

#[test]
fn what_is_away_is_known_since_when() {
    let mut watched = Watched::new();
    let condition = Condition::Unreachable(Duration::from_secs(1));
    let away = Moved { away: vec!["lock-broker does not answer".into()], ..Moved::default() };
    watched.see(condition, &Doing::Runs, &away);
    let found = watched.see(condition, &Doing::Runs, &away).away.unwrap();
    assert_eq!(found, [("lock-broker does not answer".to_string(), Duration::from_secs(1))]);
    let back = Moved { read: 1, ..Moved::default() };
    assert_eq!(watched.see(condition, &Doing::Runs, &back).away, Some(Vec::new()));
    // One that fails for it is away too; when it is tried again, nobody knows yet.
    watched.see(condition, &waits(1), &back);
    assert_eq!(watched.see(condition, &waits(1), &back).away.unwrap().len(), 1);
    assert_eq!(watched.see(condition, &Doing::Runs, &back).away, None);
    let more = Moved { read: 2, ..Moved::default() };
    assert_eq!(watched.see(condition, &Doing::Runs, &more).away, Some(Vec::new()));
}

#[test]
fn a_retry_works_once_it_has_moved_something() {
    let mut watched = Watched::new();
    let nothing = Moved::default();
    let mut see = |doing: &Doing, moved: &Moved| watched.see(Condition::Stopped, doing, moved).failure;
    assert_eq!(see(&Doing::Runs, &nothing), Some(Subject::Works));
    assert!(matches!(see(&waits(1), &nothing), Some(Subject::Fails { times: 1, .. })));
    assert_eq!(see(&Doing::Runs, &nothing), None);
    assert!(matches!(see(&waits(2), &nothing), Some(Subject::Fails { times: 2, .. })));
    assert_eq!(see(&Doing::Runs, &nothing), None);
    assert_eq!(see(&Doing::Runs, &Moved { read: 5, ..Moved::default() }), Some(Subject::Works));
    // What says nothing for a minute works too.
    see(&waits(1), &nothing);
    let quiet: Vec<bool> = (0..70).map(|_| see(&Doing::Runs, &nothing).is_some()).collect();
    assert_eq!(quiet.iter().position(|works| *works), Some(60));
}
