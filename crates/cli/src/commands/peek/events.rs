//! Events as they arrive.

use std::borrow::Cow;

use arrow_array::RecordBatch;
use serde_json::json;
use sluice_core::failure::Outcome;
use sluice_core::profile::Profile;
use sluice_core::run::Stop;
use sluice_core::sample::Sample;
use sluice_core::units::{show_count, show_many, show_size};

use super::question::{Answer, Question};
use super::{wanted, window};
use crate::args::{Arguments, OutputKind, PeekArgs};
use crate::output::rows::cut;
use crate::output::table::screen_width;
use crate::output::{self, profile, style};
use crate::sampling::Source;

pub(super) fn events(arguments: &Arguments, args: &PeekArgs, source: &mut Source, stop: &Stop) -> Outcome<()> {
    let sample = source.sample(wanted(args), window(args), stop)?;
    if args.raw {
        raw(&sample, source);
        return Ok(());
    }
    if args.when.is_some() || args.columns.is_some() {
        let (answer, broken) = ask(args, source, &sample)?;
        let of = format!("{} looked at", show_many(sample.events, "event"));
        answer.show(arguments, &source.label, &of, broken);
        return Ok(());
    }
    let found = source.profile(&sample);
    match arguments.output {
        OutputKind::Json => as_json(args, source, &sample, &found),
        OutputKind::Text => output::print(&as_text(args, source, &sample, &found)),
    }
    Ok(())
}

/// The events' rows under the contract, or under what the events look like; and how many are none.
pub(super) fn rows(
    source: &Source,
    sample: &Sample,
) -> (Vec<sluice_core::columns::OutputColumn>, Vec<RecordBatch>, u64) {
    let (contract, mut decoder) = match source.contract() {
        Some(contract) => (contract.clone(), source.format().decoder(contract)),
        None => {
            let found = source.profile(sample);
            let contract = found.contract();
            let decoder = source.format().fitted(&found).decoder(&contract);
            (contract, decoder)
        }
    };
    let mut columns = contract.columns();
    if contract.extra == sluice_core::config::ExtraFields::Keep {
        let ty = sluice_core::types::SqlType::Json;
        columns.push(sluice_core::columns::OutputColumn { name: "extra".into(), ty, nullable: true, limit: None });
    }
    let (mut batches, mut broken) = (Vec::new(), 0);
    for chunk in &sample.chunks {
        let decoded = decoder.decode(chunk);
        broken += decoded.rejects.len() as u64;
        batches.push(decoded.rows.batch);
    }
    (columns, batches, broken)
}

fn ask(args: &PeekArgs, source: &Source, sample: &Sample) -> Outcome<(Answer, u64)> {
    let (columns, batches, broken) = rows(source, sample);
    let mut question = Question::new(args, &columns)?;
    batches.iter().for_each(|batch| question.add(batch));
    Ok((question.answer(), broken))
}

/// The records of a sample as they are, or as text where they are none; the header row first, where there is one.
fn records<'s>(sample: &'s Sample, source: &Source) -> Vec<Cow<'s, [u8]>> {
    let mut found = Vec::new();
    for chunk in &sample.chunks {
        if let Some(messages) = &chunk.messages {
            match source.format().spelled(chunk) {
                Some(text) => {
                    let each = text.messages.as_deref().map_or(&[][..], |m| &m.each);
                    found.extend(each.iter().map(|m| Cow::Owned(m.span.of(&text.bytes).to_vec())));
                }
                None => found.extend(messages.each.iter().map(|m| Cow::Borrowed(m.span.of(&chunk.bytes)))),
            }
            continue;
        }
        let head = if chunk.from.major == 0 { chunk.head.as_ref().map_or(0, |h| h.len()) } else { 0 };
        let mut rest = &chunk.bytes[head.min(chunk.bytes.len())..];
        while !rest.trim_ascii().is_empty() {
            let cut = source.format().cut(rest, 1);
            let end = if cut.records == 1 { cut.bytes } else { rest.len() };
            found.push(Cow::Borrowed(rest[..end].trim_ascii()));
            rest = &rest[end..];
        }
    }
    found
}

fn raw(sample: &Sample, source: &Source) {
    let head = sample.chunks.first().and_then(|c| c.head.as_deref()).map(<[u8]>::trim_ascii);
    for record in head.map(Cow::Borrowed).into_iter().chain(records(sample, source)) {
        if output::raw(&[&record[..], b"\n"].concat()).is_err() {
            return;
        }
    }
}

fn as_text(args: &PeekArgs, source: &Source, sample: &Sample, found: &Profile) -> String {
    let width = screen_width();
    let mut place = source.what.clone();
    if let Some(files) = source.files.filter(|n| *n > 1) {
        place.push_str(&format!(", {}", show_many(files as u64, "file")));
    }
    if let Some(partitions) = source.partitions {
        place.push_str(&format!(", {}", show_many(partitions, "partition")));
    }
    if let Some(bytes) = source.bytes {
        place.push_str(&format!(", {}", show_size(bytes)));
    }
    let mut out = format!("{}: {place}\n", style::bold(&source.label));
    let all = if sample.more { "a sample of" } else { "all" };
    match found.broken_count {
        0 if found.events == 0 => out.push_str("no events yet"),
        0 => out.push_str(&format!("{all} {}", show_many(found.events, "event"))),
        bad => {
            let records = show_many(found.events + bad, "record");
            out.push_str(&format!("{all} {records}, {} of them events", show_count(found.events)));
        }
    }
    if sample.looked_at > sample.events {
        out.push_str(&format!(" of the window, {} looked at", show_count(sample.looked_at)));
    }
    out.push('\n');
    if found.events == 0 && !found.root.children.is_empty() {
        let names: Vec<&str> = found.root.children.iter().map(|child| child.name.as_str()).collect();
        let what = if found.declared.is_empty() { "header row" } else { "schema" };
        out.push_str(&format!("the {what} names {}\n", cut(&names.join(", "), width - 22)));
    }
    if found.events > 0 {
        out.push('\n');
        out.push_str(&profile::render(found, source.contract(), None, width));
    }
    if sample.without_time > 0 {
        let text =
            format!("{} without a time that can be read were left out", show_many(sample.without_time, "record"));
        out.push_str(&format!(" {} {text}\n", style::warn("!")));
    }
    for remark in sample.remarks.iter().chain(&found.notes) {
        out.push_str(&format!(" {} {remark}\n", style::warn("!")));
    }
    if found.broken_count > 0 {
        out.push_str(&format!(
            "\n{}\n",
            style::warn(&format!("{} that cannot be read:", show_many(found.broken_count, "record")))
        ));
        for broken in &found.broken {
            let bytes = String::from_utf8_lossy(&broken.bytes);
            out.push_str(&format!(
                "  number {}: {}\n    {}\n",
                broken.number,
                broken.message,
                style::dim(&cut(&bytes, width - 5))
            ));
        }
    }
    if args.show > 0 && found.events > 0 {
        out.push_str(&format!("\n{}\n", style::dim("as they are:")));
        for record in records(sample, source).iter().take(args.show) {
            out.push_str(&format!("  {}\n", cut(&String::from_utf8_lossy(record), width - 3)));
        }
    }
    out
}

fn as_json(args: &PeekArgs, source: &Source, sample: &Sample, found: &Profile) {
    let first: Vec<String> =
        records(sample, source).iter().take(args.show).map(|r| String::from_utf8_lossy(r).into_owned()).collect();
    let broken: Vec<_> = found
        .broken
        .iter()
        .map(|b| json!({ "number": b.number, "message": b.message, "bytes": String::from_utf8_lossy(&b.bytes) }))
        .collect();
    output::json(
        "peek",
        json!({
            "place": source.label,
            "what": source.what,
            "bytes": source.bytes,
            "files": source.files,
            "events": found.events,
            "more": sample.more,
            "looked_at": sample.looked_at,
            "without_time": sample.without_time,
            "remarks": sample.remarks.iter().chain(&found.notes).collect::<Vec<_>>(),
            "broken": found.broken_count,
            "first_broken": broken,
            "fields": profile::json(found, None),
            "first": first,
        }),
    );
}
