//! `sluice stand-in`: simulated outside services, for trying things and for tests.

use std::sync::Arc;
use std::time::Duration;

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::run::Stop;
use sluice_core::units::parse_duration;
use sluice_standin::broker::{Broker, COMMANDS, Setup, TopicConfig};

use crate::args::{Arguments, BrokerArgs, OutputKind, StandInArgs, StandInService};
use crate::exit::Exit;
use crate::output::{self, style};
use crate::signals;

pub(crate) fn stand_in(arguments: &Arguments, args: &StandInArgs) -> Outcome<Exit> {
    match &args.service {
        StandInService::Broker(args) => broker(arguments, args),
    }
}

fn broker(arguments: &Arguments, args: &BrokerArgs) -> Outcome<Exit> {
    let wrong = |message: String, help: &str| Failure::new(FailureKind::Configuration, message).with_help(help);
    let advertise = match &args.advertise {
        None => None,
        Some(text) => {
            let parts = text.rsplit_once(':').and_then(|(host, port)| Some((host.to_string(), port.parse().ok()?)));
            Some(parts.ok_or_else(|| wrong(format!("`{text}` is not an address"), "write HOST:PORT"))?)
        }
    };
    let login = match &args.user {
        None => None,
        Some(user) => {
            let password = std::env::var("STAND_IN_PASSWORD").map_err(|_| {
                wrong(
                    "the variable STAND_IN_PASSWORD is not set".into(),
                    "set it to the password that clients must give",
                )
            })?;
            Some((user.clone(), password))
        }
    };
    let setup = Setup {
        listen: Some(args.listen),
        advertise,
        cluster: args.cluster.clone(),
        topics: args.topic.iter().map(|text| topic(text)).collect::<Outcome<_>>()?,
        auto_partitions: args.auto,
        login,
        longest_wait: None,
    };
    let broker = Broker::start(setup).map_err(|e| {
        Failure::unreachable(format!("cannot listen on {}: {e}", args.listen)).with_help("take another port: --listen")
    })?;
    let url = format!("kafka://{}", broker.address());
    match arguments.output {
        OutputKind::Json => output::json("stand-in", json!({ "service": "broker", "url": url })),
        OutputKind::Text => output::print(&format!(
            "a broker in memory, forgotten at the end; Ctrl-C ends it\n\n  {}\n  {}\n",
            style::command("[connection.trial]"),
            style::command(&format!("url = \"{url}\"")),
        )),
    }
    // It ends with the program: nobody waits for another line.
    sluice_core::threads::spawn("commands", move || listen(&broker));
    let stop = Arc::new(Stop::new());
    signals::end_on_signals(&stop);
    while !stop.is_settling() {
        stop.wait(Duration::from_secs(3600));
    }
    Ok(Exit::Fine)
}

/// Does what the lines of the standard input say, one after the other, and answers each with a line.
fn listen(broker: &Broker) {
    for line in std::io::stdin().lines() {
        let Ok(line) = line else { return };
        if line.trim().is_empty() {
            continue;
        }
        let known = || COMMANDS.iter().map(|(say, means)| format!("  {say:<30} {means}\n")).collect::<String>();
        match broker.command(&line) {
            _ if line.trim() == "help" => output::print(&known()),
            Ok(reported) => output::print(&format!("{reported}\n")),
            Err(wrong) => {
                output::print(&format!("no: {wrong}\n"));
                output::note(&format!("commands:\n{}", known()));
            }
        }
    }
}

/// NAME, NAME:PARTITIONS or NAME:PARTITIONS:RETENTION.
fn topic(text: &str) -> Outcome<(String, TopicConfig)> {
    let wrong = || {
        Failure::new(FailureKind::Configuration, format!("`{text}` is not a topic"))
            .with_help("write NAME:PARTITIONS:RETENTION, such as lock.passages:4:7d")
    };
    let mut parts = text.splitn(3, ':');
    let name = parts.next().filter(|n| !n.is_empty()).ok_or_else(wrong)?.to_string();
    let partitions = parts.next().map_or(Ok(1), |n| n.parse().map_err(|_| wrong()))?;
    let retention = parts.next().map(|r| parse_duration(r).map_err(|_| wrong())).transpose()?;
    let retention = retention.map(|r| i64::try_from(r.as_millis()).unwrap_or(i64::MAX));
    Ok((name, TopicConfig { retention, ..TopicConfig::of(partitions) }))
}
