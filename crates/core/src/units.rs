//! Sizes, durations, counts and shares, as written in files and as shown to people.

use std::time::Duration;

/// Parses a size in bytes: `4096`, `64KiB`, `1.5 GiB`, `10MB`. Units of 1024 end in `iB`, units of 1000 in `B`.
///
/// # Errors
/// Says in words what is wrong with the text.
pub fn parse_size(text: &str) -> Result<u64, String> {
    let (number, unit) = split(text)?;
    let factor: f64 = match unit {
        "" | "B" => 1.0,
        "kB" | "KB" => 1e3,
        "MB" => 1e6,
        "GB" => 1e9,
        "KiB" => 1024.0,
        "MiB" => 1_048_576.0,
        "GiB" => 1_073_741_824.0,
        other => return Err(format!("`{other}` is not a unit of size (B, KiB, MiB, GiB, kB, MB, GB)")),
    };
    whole(number * factor).ok_or_else(|| format!("`{text}` is too large"))
}

/// Parses a duration: `100ms`, `5s`, `2.5m`, `1h`, `7d`.
///
/// # Errors
/// Says in words what is wrong with the text.
pub fn parse_duration(text: &str) -> Result<Duration, String> {
    let (number, unit) = split(text)?;
    let seconds = match unit {
        "ms" => number / 1e3,
        "s" => number,
        "m" => number * 60.0,
        "h" => number * 3600.0,
        "d" => number * 86_400.0,
        "" => return Err(format!("`{text}` needs a unit: ms, s, m, h or d")),
        other => return Err(format!("`{other}` is not a unit of time (ms, s, m, h, d)")),
    };
    Duration::try_from_secs_f64(seconds).map_err(|_| format!("`{text}` is too long"))
}

/// Parses a share: `5%`, `0.5 %` or `0.05`.
///
/// # Errors
/// Says in words what is wrong with the text.
pub fn parse_share(text: &str) -> Result<f64, String> {
    let (number, unit) = split(text)?;
    let share = match unit {
        "%" => number / 100.0,
        "" => number,
        other => return Err(format!("`{other}` is not a unit of a share (%)")),
    };
    if (0.0..=1.0).contains(&share) { Ok(share) } else { Err(format!("`{text}` is not between 0 % and 100 %")) }
}

fn split(text: &str) -> Result<(f64, &str), String> {
    let text = text.trim();
    let end = text.find(|c: char| !(c.is_ascii_digit() || c == '.' || c == '_')).unwrap_or(text.len());
    let number: f64 =
        text[..end].replace('_', "").parse().map_err(|_| format!("`{text}` does not start with a number"))?;
    Ok((number, text[end..].trim()))
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounds are checked just before")]
fn whole(number: f64) -> Option<u64> {
    (number.is_finite() && (0.0..9e18).contains(&number)).then(|| number.round() as u64)
}

/// A size for people: three digits and a unit of 1024.
pub fn show_size(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["B", "KiB", "MiB", "GiB", "TiB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 1024.0 && unit < UNITS.len() - 1 {
        value /= 1024.0;
        unit += 1;
    }
    match (unit, value) {
        (0, _) => format!("{bytes} B"),
        (_, v) if v < 10.0 => format!("{v:.2} {}", UNITS[unit]),
        (_, v) if v < 100.0 => format!("{v:.1} {}", UNITS[unit]),
        (_, v) => format!("{v:.0} {}", UNITS[unit]),
    }
}

/// A count for people: digits in groups of three.
pub fn show_count(count: u64) -> String {
    let digits = count.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

/// A count with its noun, in the plural where needed: `1 file`, `2 files`, `3 batches`, `4 retries`.
pub fn show_many(count: u64, noun: &str) -> String {
    let plural = match noun {
        n if count == 1 => n.to_string(),
        n if n.ends_with("ch") || n.ends_with('s') => format!("{n}es"),
        n if n.ends_with("ry") => format!("{}ies", n.trim_end_matches('y')),
        n => format!("{n}s"),
    };
    format!("{} {plural}", show_count(count))
}

/// A duration for people.
pub fn show_duration(duration: Duration) -> String {
    let seconds = duration.as_secs_f64();
    match seconds {
        s if s < 0.001 => format!("{} µs", duration.as_micros()),
        s if s < 1.0 => format!("{} ms", duration.as_millis()),
        s if s < 10.0 => format!("{s:.2} s"),
        s if s < 60.0 => format!("{s:.1} s"),
        s if s < 3600.0 => format!("{} min {} s", duration.as_secs() / 60, duration.as_secs() % 60),
        s if s < 172_800.0 => format!("{} h {} min", duration.as_secs() / 3600, duration.as_secs() / 60 % 60),
        _ => format!("{} days", duration.as_secs() / 86_400),
    }
}

/// A duration in microseconds for people.
pub fn show_micros(micros: i64) -> String {
    show_duration(Duration::from_micros(micros.unsigned_abs()))
}

/// A duration as files spell it, to the microsecond.
pub fn spelled(duration: Duration) -> String {
    spell_micros(i64::try_from(duration.as_micros()).unwrap_or(i64::MAX))
}

/// A duration in microseconds as files spell it, without rounding.
pub fn spell_micros(micros: i64) -> String {
    const UNITS: [(i64, &str); 5] =
        [(86_400_000_000, "d"), (3_600_000_000, "h"), (60_000_000, "m"), (1_000_000, "s"), (1_000, "ms")];
    let whole = |(unit, _): &&(i64, &str)| micros != 0 && micros % unit == 0;
    match UNITS.iter().find(whole) {
        Some((unit, name)) => format!("{}{name}", micros / unit),
        None => format!("{micros}us"),
    }
}

/// A share for people: `2.5 %`, and never `0 %` for what is not nothing.
pub fn show_share(share: f64) -> String {
    match share * 100.0 {
        0.0 => "0 %".into(),
        p if p < 0.01 => "< 0.01 %".into(),
        p if p < 1.0 => format!("{p:.2} %"),
        p if p < 10.0 => format!("{p:.1} %"),
        p if p > 99.0 && p < 100.0 => format!("{:.1} %", (p * 10.0).floor() / 10.0),
        p => format!("{p:.0} %"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("4096", 4096)]
    #[case("64KiB", 65_536)]
    #[case("1.5 MiB", 1_572_864)]
    #[case("10MB", 10_000_000)]
    #[case("100_000", 100_000)]
    fn sizes(#[case] text: &str, #[case] bytes: u64) {
        assert_eq!(parse_size(text), Ok(bytes));
    }

    #[rstest]
    #[case("64 mb")]
    #[case("")]
    #[case("-1")]
    #[case("99999999999GiB")]
    fn wrong_sizes(#[case] text: &str) {
        assert!(parse_size(text).is_err());
    }

    #[rstest]
    #[case("100ms", 100)]
    #[case("5s", 5_000)]
    #[case("2.5m", 150_000)]
    #[case("1h", 3_600_000)]
    #[case("7d", 604_800_000)]
    fn durations(#[case] text: &str, #[case] millis: u64) {
        assert_eq!(parse_duration(text), Ok(Duration::from_millis(millis)));
    }

    #[test]
    fn a_duration_needs_a_unit() {
        assert!(parse_duration("5").unwrap_err().contains("needs a unit"));
    }

    #[rstest]
    #[case("5%", 0.05)]
    #[case("0.05", 0.05)]
    #[case("100 %", 1.0)]
    fn shares(#[case] text: &str, #[case] share: f64) {
        assert_eq!(parse_share(text), Ok(share));
    }

    #[test]
    fn more_than_all_is_no_share() {
        assert!(parse_share("101%").is_err());
    }

    #[rstest]
    #[case(0, "0 B")]
    #[case(1023, "1023 B")]
    #[case(1536, "1.50 KiB")]
    #[case(64 << 20, "64.0 MiB")]
    fn shown_sizes(#[case] bytes: u64, #[case] text: &str) {
        assert_eq!(show_size(bytes), text);
    }

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1000, "1,000")]
    #[case(5_000_000, "5,000,000")]
    fn shown_counts(#[case] count: u64, #[case] text: &str) {
        assert_eq!(show_count(count), text);
    }

    #[rstest]
    #[case(1, "batch", "1 batch")]
    #[case(3, "batch", "3 batches")]
    #[case(2, "retry", "2 retries")]
    #[case(2, "key", "2 keys")]
    #[case(0, "file", "0 files")]
    fn plurals(#[case] count: u64, #[case] noun: &str, #[case] text: &str) {
        assert_eq!(show_many(count, noun), text);
    }
}
