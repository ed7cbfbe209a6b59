//! Lines of standard input, sent as they are.

use std::io::{BufRead as _, BufReader};
use std::time::{Duration, Instant};

use sluice_core::failure::{Failure, Outcome};
use sluice_core::run::Stop;

use super::sink::{Sink, Written};
use crate::args::EmitArgs;
use crate::emit::Emitted;
use crate::progress::Counting;

/// Sends lines until there are no more, or enough; gives what was sent.
///
/// # Errors
/// Where standard input cannot be read, or the outside refuses.
pub(super) fn send(args: &EmitArgs, sink: &mut Sink, stop: &Stop) -> Outcome<Emitted> {
    let mut input = BufReader::with_capacity(1 << 16, std::io::stdin().lock());
    let mut emitted = Emitted::default();
    let counting = Counting::new("lines sent");
    let started = Instant::now();
    let mut line = Vec::new();
    while !stop.is_settling()
        && args.count.is_none_or(|n| emitted.events < n)
        && args.lasting.is_none_or(|end| started.elapsed() < end)
    {
        if let Some(rate) = args.rate {
            let due = Duration::from_secs_f64(emitted.events as f64 / rate as f64);
            stop.wait(due.saturating_sub(started.elapsed()));
        }
        line.clear();
        let read = input.read_until(b'\n', &mut line);
        if read.map_err(|e| Failure::unreachable(format!("cannot read standard input: {e}")))? == 0 {
            break;
        }
        if line.trim_ascii().is_empty() {
            continue;
        }
        if !line.ends_with(b"\n") {
            line.push(b'\n');
        }
        let key = args.key.as_ref().and_then(|field| key_of(&line, field));
        emitted.events += 1;
        emitted.bytes += line.len() as u64;
        if sink.write(&line, &[(key, None)])? == Written::Enough {
            break;
        }
        counting.at(emitted.events);
    }
    counting.finish();
    sink.finish()?;
    Ok(emitted)
}

/// The value of a field of a line of JSON, as text.
fn key_of(line: &[u8], field: &str) -> Option<String> {
    let object: serde_json::Value = serde_json::from_slice(line).ok()?;
    let value = field.split('.').try_fold(&object, |value, part| value.get(part))?;
    match value {
        serde_json::Value::Null => None,
        serde_json::Value::String(text) => Some(text.clone()),
        other => Some(other.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::key_of;
    use rstest::rstest;

    #[rstest]
    #[case(r#"{"lock_id":"L-1"}"#, Some("L-1"))]
    #[case(r#"{"lock_id":7}"#, Some("7"))]
    #[case(r#"{"lock_id":null}"#, None)]
    #[case("no json", None)]
    fn keys_of_lines(#[case] line: &str, #[case] expected: Option<&str>) {
        assert_eq!(key_of(line.as_bytes(), "lock_id").as_deref(), expected);
    }
}
