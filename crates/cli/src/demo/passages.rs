//! Passages through five locks, their tolls, and the names of the locks.

use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use sluice_core::failure::{Failure, Outcome};
use sluice_core::values::time::{self, DAY};

use super::FIRST_DAY;
use crate::random::Random;

const LOCKS: &[(&str, &str, &str)] = &[
    ("LK1", "Upper Corve", "Corve Reach"),
    ("LK2", "Lower Corve", "Corve Reach"),
    ("LK3", "Arlen", "Arlen Reach"),
    ("LK4", "Ostrey", "Ostrey Cut"),
    ("LK5", "Tarrow Gate", "Ostrey Cut"),
];

/// A second, in microseconds.
const SECOND: i64 = 1_000_000;

/// Folders of passages, tolls and names below a project.
pub(crate) const FOLDERS: [&str; 3] = ["locks", "receipts", "registry"];

/// Lines with the moments at which they are written.
type Lines = Vec<(i64, String)>;

/// Writes the passages and tolls of a day, and the names of the locks; returns the files and bytes.
pub(crate) fn write_passages(root: &Path, day: u32, count: u32) -> Outcome<(u64, u64)> {
    let date = time::show_date(i32::try_from(FIRST_DAY + i64::from(day)).unwrap_or(0));
    let (passages, tolls) = lines(day, count);
    let mut names = String::new();
    for (id, name, reach) in LOCKS {
        let _ = writeln!(names, "{{\"lock_id\":\"{id}\",\"name\":\"{name}\",\"reach\":\"{reach}\"}}");
    }
    let mut bytes = 0;
    let files = [
        (FOLDERS[0], format!("{date}.jsonl"), in_order(passages)),
        (FOLDERS[1], format!("{date}.jsonl"), in_order(tolls)),
        (FOLDERS[2], "locks.jsonl".to_string(), names),
    ];
    let mut written = 0;
    for (folder, name, text) in files {
        let path = root.join(folder).join(name);
        // The names do not change: their file is read once.
        if path.exists() {
            continue;
        }
        fs::write(&path, &text).map_err(|e| Failure::io("write", &path, &e))?;
        bytes += text.len() as u64;
        written += 1;
    }
    Ok((written, bytes))
}

fn in_order(mut lines: Lines) -> String {
    lines.sort_by_key(|(at, _)| *at);
    lines.into_iter().map(|(_, line)| line + "\n").collect()
}

/// One passage in 60 is reported twice, one in 300 an hour late; four of five pay within eight minutes.
fn lines(day: u32, count: u32) -> (Lines, Lines) {
    let mut random = Random::new((u64::from(day) << 8) + 99);
    let signed = |n: u64| i64::try_from(n).unwrap_or(0);
    let (mut passages, mut tolls) = (Vec::new(), Vec::new());
    for number in 0..count {
        // The locks are open from 05:00 to 21:00.
        let second = 18_000 + u64::from(number) * 57_600 / u64::from(count.max(1)) + random.below(12);
        let at = (FIRST_DAY + i64::from(day)) * DAY + signed(second) * SECOND;
        let (lock, vessel) = (random.pick(LOCKS).0, random.below(900));
        let line = format!(
            "{{\"passage_id\":\"P-{day:03}-{number:05}\",\"lock_id\":\"{lock}\",\"vessel_no\":\"TV{vessel:04}\",\"passed_at\":\"{}\",\
             \"draught_cm\":{}}}",
            time::show_timestamp(at),
            40 + random.below(220),
        );
        let delay = if random.below(300) == 0 { 3_600 } else { random.below(20) };
        if random.below(60) == 0 {
            passages.push((at + signed(30 + random.below(200)) * SECOND, line.clone()));
        }
        passages.push((at + signed(delay) * SECOND, line));
        if random.below(5) > 0 {
            let paid = at + signed(random.below(480)) * SECOND;
            let toll = format!(
                "{{\"receipt\":\"R-{day:03}-{number:05}\",\"vessel_no\":\"TV{vessel:04}\",\"paid_at\":\"{}\",\"amount\":{}.{:02}}}",
                time::show_timestamp(paid),
                random.below(60),
                random.below(100),
            );
            tolls.push((paid, toll));
        }
    }
    (passages, tolls)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn passages_are_the_same_each_time_and_some_come_twice_or_late() {
        assert_eq!(lines(1, 500), lines(1, 500));
        let (passages, tolls) = lines(2, 3_000);
        let distinct: BTreeSet<&String> = passages.iter().map(|(_, line)| line).collect();
        assert_eq!(distinct.len(), 3_000);
        assert!((20..120).contains(&(passages.len() - distinct.len())), "{}", passages.len());
        assert!((2_000..2_800).contains(&tolls.len()), "{}", tolls.len());
        let all = passages.iter().chain(&tolls);
        assert!(all.map(|(_, line)| serde_json::from_str::<serde_json::Value>(line)).all(|line| line.is_ok()));
    }
}
