use rstest::rstest;

use super::*;

fn minutes(n: u64) -> Duration {
    Duration::from_secs(60 * n)
}

fn behind(age: Duration) -> Observed {
    Observed { behind: Some(age), ..Observed::default() }
}

fn kind(verdict: &Verdict) -> &'static str {
    match verdict {
        Verdict::Same => "same",
        Verdict::Begins { .. } => "begins",
        Verdict::Over { .. } => "over",
    }
}

#[rstest]
#[case(5, false, "same")]
#[case(10, false, "same")]
#[case(11, false, "begins")]
#[case(11, true, "same")]
#[case(9, true, "same")]
#[case(7, true, "over")]
#[case(0, true, "over")]
fn a_delay_begins_above_its_limit_and_ends_well_below(#[case] age: u64, #[case] open: bool, #[case] expected: &str) {
    let verdict = judge("tolls", &Condition::Behind(minutes(10)), &behind(minutes(age)), open);
    assert_eq!(kind(&verdict), expected);
}

#[rstest]
#[case(0, 0, false, "same")]
#[case(0, 1, false, "begins")]
#[case(0, 1, true, "same")]
#[case(0, 0, true, "over")]
#[case(100, 100, false, "same")]
#[case(100, 101, false, "begins")]
#[case(100, 80, true, "same")]
#[case(100, 79, true, "over")]
#[case(1, 1, true, "same")]
#[case(1, 0, true, "over")]
#[case(u64::MAX, u64::MAX, false, "same")]
fn rejects_begin_above_their_limit(#[case] limit: u64, #[case] found: u64, #[case] open: bool, #[case] expected: &str) {
    let seen = Observed { rejects: Some(found), ..Observed::default() };
    assert_eq!(kind(&judge("tolls", &Condition::Rejects(limit, minutes(60)), &seen, open)), expected);
}

/// Whatever the limit: each value begins it, keeps it, or ends it, and none does two of these.
#[test]
fn no_value_both_begins_and_ends_a_notice() {
    for limit in 0..60_u64 {
        for found in 0..80 {
            let seen = Observed { events_behind: Some(found), ..Observed::default() };
            let condition = Condition::EventsBehind(limit);
            let begins = kind(&judge("tolls", &condition, &seen, false)) == "begins";
            let ends = kind(&judge("tolls", &condition, &seen, true)) == "over";
            assert!(!(begins && ends), "limit {limit}, found {found}");
        }
        let nothing = Observed { events_behind: Some(0), ..Observed::default() };
        assert_eq!(kind(&judge("tolls", &Condition::EventsBehind(limit), &nothing, true)), "over");
    }
}

#[rstest]
#[case(Condition::Behind(minutes(1)))]
#[case(Condition::EventsBehind(1))]
#[case(Condition::Silent(minutes(1)))]
#[case(Condition::Rejects(1, minutes(1)))]
#[case(Condition::Unreachable(minutes(1)))]
#[case(Condition::Stopped)]
#[case(Condition::Schema)]
fn what_is_not_known_changes_nothing(#[case] condition: Condition) {
    for open in [false, true] {
        assert_eq!(judge("tolls", &condition, &Observed::default(), open), Verdict::Same);
    }
}

#[test]
fn failures_begin_at_the_third_and_end_when_it_works() {
    let seen = |subject: Subject| Observed { failure: Some(subject), ..Observed::default() };
    let fails = |times| seen(Subject::Fails { times, reason: "tolls-db rejected the login".into() });
    let now = |observed: &Observed, open| judge("tolls", &Condition::Stopped, observed, open);
    assert_eq!(now(&fails(1), false), Verdict::Same);
    assert_eq!(now(&fails(2), false), Verdict::Same);
    let Verdict::Begins { message, help } = now(&fails(3), false) else { panic!("it begins") };
    assert_eq!(message, "tolls failed 3 times: tolls-db rejected the login");
    assert!(help.contains("sluice status tolls"));
    assert_eq!(now(&fails(4), true), Verdict::Same);
    // A retry that begins again is no success: the one who looks says whether it works.
    assert_eq!(kind(&now(&seen(Subject::Works), true)), "over");
    let stopped = seen(Subject::Stopped { reason: "too many rejects".into() });
    assert_eq!(kind(&now(&stopped, false)), "begins");
    assert_eq!(kind(&now(&stopped, true)), "same");
}

#[test]
fn a_source_is_away_for_longer_than_the_limit() {
    let seen = |list: &[(&str, u64)]| Observed {
        away: Some(list.iter().map(|(what, m)| ((*what).to_string(), minutes(*m))).collect()),
        ..Observed::default()
    };
    let now = |observed: &Observed, open| judge("tolls", &Condition::Unreachable(minutes(2)), observed, open);
    assert_eq!(now(&seen(&[("lock-broker does not answer", 1)]), false), Verdict::Same);
    let Verdict::Begins { message, .. } = now(&seen(&[("a", 1), ("lock-broker does not answer", 3)]), false) else {
        panic!("it begins")
    };
    assert_eq!(message, "tolls: lock-broker does not answer, for 3 min 0 s");
    assert_eq!(now(&seen(&[("a", 1)]), true), Verdict::Same);
    assert_eq!(kind(&now(&seen(&[]), true)), "over");
}

#[test]
fn a_field_that_changes_is_told_until_it_is_as_before() {
    let seen = |drift: Option<&str>| Observed { drift: Some(drift.map(str::to_string)), ..Observed::default() };
    let now = |observed: &Observed, open| judge("tolls", &Condition::Schema, observed, open);
    let Verdict::Begins { message, .. } = now(&seen(Some("toll: new field `rebate`")), false) else {
        panic!("it begins")
    };
    assert_eq!(message, "tolls: toll: new field `rebate`");
    assert_eq!(now(&seen(Some("toll: new field `rebate`")), true), Verdict::Same);
    assert_eq!(now(&seen(None), false), Verdict::Same);
    assert_eq!(kind(&now(&seen(None), true)), "over");
}
