//! Sample data of the Tarrow Navigation: weighbridge tickets of three depots, passages and tolls. Invented, and the same on every machine.

mod passages;

use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use sluice_core::failure::{Failure, Outcome};
use sluice_core::values::time::{self, DAY};

use crate::random::Random;

pub(crate) use passages::{FOLDERS, write_passages};

/// A depot with a weighbridge.
pub(crate) struct Depot {
    /// Its folder.
    pub folder: &'static str,
    name: &'static str,
    letters: &'static str,
}

/// The depots.
pub(crate) const DEPOTS: &[Depot] = &[
    Depot { folder: "arlen-basin", name: "Arlen Basin", letters: "ARB" },
    Depot { folder: "corve-wharf", name: "Corve Wharf", letters: "CVW" },
    Depot { folder: "ostrey-cut", name: "Ostrey Cut", letters: "OSC" },
];

const CARGO: &[(&str, &str)] =
    &[("gravel", "B"), ("barley", "A"), ("salt", "A"), ("clay", "C"), ("timber", "B"), ("slate", "A")];
const OPERATORS: &[&str] = &["M. Vale", "T. Orrin", "K. Ashby", "R. Šumava", "L. 林", "D. O'Keel"];

/// 2026-04-01, the first day.
const FIRST_DAY: i64 = 20_544;

/// Writes the tickets of one depot and day; returns the bytes. About one line in 400 is bad in one of six ways.
pub(crate) fn write_day(folder: &Path, depot: usize, day: u32, count: u32) -> Outcome<u64> {
    let depot_folder = folder.join(DEPOTS[depot].folder);
    fs::create_dir_all(&depot_folder).map_err(|e| Failure::io("make the folder", &depot_folder, &e))?;
    let date = time::show_date(i32::try_from(FIRST_DAY + i64::from(day)).unwrap_or(0));
    let path = depot_folder.join(format!("{date}.jsonl"));
    let bytes = tickets(depot, day, count);
    fs::write(&path, &bytes).map_err(|e| Failure::io("write", &path, &e))?;
    Ok(bytes.len() as u64)
}

fn tickets(depot: usize, day: u32, count: u32) -> Vec<u8> {
    let mut random = Random::new((u64::from(day) << 8) + depot as u64);
    let mut out = Vec::new();
    for number in 0..count {
        // The bridges are open from 05:00 to 21:00.
        let second = 18_000 + u64::from(number) * 57_600 / u64::from(count.max(1)) + random.below(12);
        let at = (FIRST_DAY + i64::from(day)) * DAY + i64::try_from(second).unwrap_or(0) * 1_000_000;
        let line = ticket(&mut random, &DEPOTS[depot], day, number, &time::show_timestamp(at));
        match random.below(2400) {
            0 => out.extend_from_slice(&line.as_bytes()[..line.len() * 2 / 3]),
            1 => out.extend_from_slice(
                line.replace("\"gross_kg\":", "\"gross_kg\":\"over ").replace(",\"tare", "\",\"tare").as_bytes(),
            ),
            2 => out.extend_from_slice(line.replacen("\"ticket\"", "\"tikcet\"", 1).as_bytes()),
            3 => out.extend_from_slice(line.replacen("Z\",\"vehicle", "\",\"vehicle", 1).as_bytes()),
            4 => {
                // Written in another encoding than UTF-8.
                let at = line.find("\"operator\":\"").map_or(0, |i| i + 12);
                out.extend_from_slice(&line.as_bytes()[..at]);
                out.push(0xdc);
                out.extend_from_slice(&line.as_bytes()[at..]);
            }
            5 => out.extend_from_slice(line.replacen("\"bridge\":", "\"bridge\":30000000000", 1).as_bytes()),
            _ => out.extend_from_slice(line.as_bytes()),
        }
        out.push(b'\n');
    }
    out
}

fn ticket(random: &mut Random, depot: &Depot, day: u32, number: u32, at: &str) -> String {
    let (kind, grade) = *random.pick(CARGO);
    let tare = 9_000 + random.below(5_000);
    // One vehicle in 50 leaves empty.
    let load = if random.below(50) == 0 { 0 } else { 2_000 + random.below(26_000) };
    let mut line = String::with_capacity(320);
    let _ = write!(
        line,
        "{{\"ticket\":\"{}-{day:03}-{number:05}\",\"depot\":\"{}\",\"bridge\":{},\"weighed_at\":\"{at}\",\
         \"vehicle\":\"TW {:04}\",\"cargo\":{{\"kind\":\"{kind}\",\"grade\":\"{grade}\"}},\"gross_kg\":{},\"tare_kg\":{tare},\
         \"toll\":{}.{:02},\"operator\":\"{}\",\"seals\":[{},{}]}}",
        depot.letters,
        depot.name,
        1 + random.below(3),
        random.below(10_000),
        tare + load,
        load / 1_000,
        random.below(100),
        random.pick(OPERATORS),
        random.below(900),
        random.below(900),
    );
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tickets_are_the_same_each_time_and_few_are_bad() {
        let (a, b) = (tickets(1, 2, 4000), tickets(1, 2, 4000));
        assert_eq!(a, b);
        let lines: Vec<&[u8]> = a.split(|c| *c == b'\n').filter(|l| !l.is_empty()).collect();
        assert_eq!(lines.len(), 4000);
        let broken = lines.iter().filter(|l| serde_json::from_slice::<serde_json::Value>(l).is_err()).count();
        assert!((1..20).contains(&broken), "{broken}");
    }

    #[test]
    fn the_first_day_is_in_april() {
        assert_eq!(time::show_date(i32::try_from(FIRST_DAY).unwrap()), "2026-04-01");
    }
}
