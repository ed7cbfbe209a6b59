//! Topics that change under their reader: recreated, deleted, expired, compacted, grown, slow, silent, moved. Nothing is
//! skipped, nothing is doubled, and what is lost is reported.

use crate::common::running::{Running, wait_for};
use crate::common::topics;
use crate::common::topics::{StandIn, admin, lines, numbers, produce, set_up, simple};
use rstest::rstest;

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];
const WATCH: &[&str] = &["run", "weighings"];
const TOPIC: &str = "depot.weighings";

fn every(more: &str) -> String {
    simple(more).replace("batch = { rows = 100 }", "batch = { rows = 10000, every = \"100ms\" }")
}

/// A broker with a topic, a project, and a run that has landed the numbers 0 to 100 and waits.
fn waiting(topic: &str) -> Option<(StandIn, crate::common::TestProject, Running)> {
    let (broker, project) = set_up(topic, &every(""))?;
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    let run = Running::start(&project, WATCH);
    wait_for(|| numbers(&project, "archive/all").len() == 100);
    Some((broker, project, run))
}

/// The first messages of the new topic have the offsets of the old ones, and would be skipped.
#[rstest]
fn a_topic_recreated_under_a_run_that_waits_stops_it(
    #[values("recreate depot.weighings", "forget")] word: &str,
    #[values(true, false)] asleep: bool,
) {
    let Some((broker, project, run)) = waiting("depot.weighings:1") else { return };
    let exchange = || {
        assert_eq!(broker.command(word), "done");
        if word == "forget" {
            broker.command("cut");
        }
        produce(&broker.address, TOPIC, &lines(1_000, 1_150), &[]);
    };
    match asleep {
        true => run.asleep(exchange),
        false => exchange(),
    }
    let (code, said) = run.end();
    assert_eq!(code, 6, "{said}");
    assert!(said.contains("depot.weighings/0") && said.contains("offset 100"), "{said}");
    assert_eq!(numbers(&project, "archive/all"), (0..100).collect::<Vec<u64>>());
    // A second run stops as well, and the documented remedy reads everything that is there.
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("--set earliest"), "{err}");
    project.expect(0, &["positions", "weighings", "--set", "earliest", "--reason", "recreated", "--yes"]);
    project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), (0..100).chain(1_000..1_150).collect::<Vec<u64>>());
}

/// At full speed, too: a batch with messages of both topics is not sealed.
#[test]
fn a_topic_recreated_while_it_is_read_stops_the_run() {
    let Some((broker, project)) = set_up("depot.weighings:1", &every("")) else { return };
    produce(&broker.address, TOPIC, &lines(0, 40_000), &[]);
    let run = Running::start(&project, WATCH);
    wait_for(|| !numbers(&project, "archive/all").is_empty());
    broker.command("recreate depot.weighings");
    produce(&broker.address, TOPIC, &lines(100_000, 160_000), &[]);
    let (code, said) = run.end();
    assert_eq!(code, 6, "{said}");
    let landed = numbers(&project, "archive/all");
    assert_eq!(landed, (0..landed.len() as u64).collect::<Vec<u64>>(), "of the old topic alone, without a gap");
    assert!(said.contains(&format!("was read up to offset {}, but", landed.len())), "{} landed: {said}", landed.len());
}

/// Events of the batch that was open are lost with the old topic, and are not reported as read.
#[test]
fn what_was_read_into_an_open_batch_of_a_recreated_topic_is_reported_as_lost() {
    let text = simple("").replace("batch = { rows = 100 }", "batch = { rows = 100, every = \"1h\" }");
    let Some((broker, project)) = set_up("depot.weighings:1", &text) else { return };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    let run = Running::start(&project, WATCH);
    wait_for(|| numbers(&project, "archive/all").len() == 100);
    produce(&broker.address, TOPIC, &lines(100, 150), &[]);
    // The open batch has no sign of its own to wait for.
    std::thread::sleep(std::time::Duration::from_millis(1_500));
    assert_eq!(broker.command("recreate depot.weighings"), "done");
    let (code, said) = run.end();
    assert_eq!(code, 6, "{said}");
    assert!(said.contains("was read up to offset 100, but"), "{said}");
    assert_eq!(numbers(&project, "archive/all"), (0..100).collect::<Vec<u64>>());
}

/// As many messages as before: only the messages themselves show the change.
#[test]
fn a_topic_recreated_while_nothing_runs_is_noticed() {
    let Some((broker, project)) = set_up("depot.weighings:1", &every("")) else { return };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    project.expect(0, RUN);
    broker.command("recreate depot.weighings");
    produce(&broker.address, TOPIC, &lines(1_000, 1_100), &[]);
    project.expect(6, RUN);
    assert_eq!(numbers(&project, "archive/all").len(), 100);
}

#[rstest]
#[case(false)]
#[case(true)]
fn data_that_expires_unread_is_reported_and_what_was_read_lands(#[case] asleep: bool) {
    let Some((broker, project, run)) = waiting("depot.weighings:1") else { return };
    let expire = || {
        produce(&broker.address, TOPIC, &lines(100, 30_000), &[]);
        broker.command("expire depot.weighings 0 25000");
    };
    match asleep {
        true => run.asleep(expire),
        false => {
            broker.command("silence");
            std::thread::sleep(std::time::Duration::from_millis(200));
            broker.command("speak");
            run.asleep(expire);
        }
    }
    let (code, said) = run.end();
    assert_eq!(code, 6, "{said}");
    let landed = numbers(&project, "archive/all");
    let next = landed.len() as u64;
    assert_eq!(landed, (0..next).collect::<Vec<u64>>());
    let begins = broker.command("ends depot.weighings").split("..").next().unwrap().parse::<u64>().unwrap();
    assert!(begins > next, "some expired unread");
    let reported = format!(
        "{} events from offset {next} on expired before they were read",
        sluice_core::units::show_count(begins - next)
    );
    assert!(said.contains(&reported), "{reported}: {said}");
    let (out, _) = project.expect(0, &["positions", "weighings"]);
    assert!(out.contains("expired unread") && !out.contains("caught up"), "{out}");
}

#[rstest]
#[case("topic = \"depot.weighings\"")]
#[case("topic = \"depot.w*\"")]
fn a_topic_that_is_deleted_is_noticed_in_seconds(#[case] topic: &str) {
    let Some((broker, project)) = set_up("depot.weighings:2", &every("").replace("topic = \"depot.weighings\"", topic))
    else {
        return;
    };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    let run = Running::start(&project, WATCH);
    wait_for(|| numbers(&project, "archive/all").len() == 100);
    let started = std::time::Instant::now();
    broker.command("delete depot.weighings");
    let (code, said) = run.end();
    assert_eq!(code, 6, "{said}");
    assert!(said.contains("no longer exists"), "{said}");
    assert!(started.elapsed().as_secs() < 20, "{:?}", started.elapsed());
}

#[test]
fn compaction_is_no_change_of_the_topic() {
    let Some((broker, project, run)) = waiting("depot.weighings:1") else { return };
    run.asleep(|| {
        // The last message that was read is deleted, too.
        produce(&broker.address, TOPIC, &lines(99, 100), &[]);
        produce(&broker.address, TOPIC, &lines(200, 300), &[]);
        assert_eq!(broker.command("compact depot.weighings"), "1");
    });
    wait_for(|| numbers(&project, "archive/all").len() == 201);
    let (code, said) = run.settle();
    assert_eq!(code, 0, "{said}");
}

/// Whatever the broker does to its connections, everything lands once.
#[rstest]
#[case("cut")]
#[case("refuse 3")]
#[case("twice 5")]
#[case("delay 120")]
#[case("silence")]
#[case("move depot.weighings 0")]
fn a_broker_on_a_bad_day_loses_and_doubles_nothing(#[case] word: &str) {
    let Some((broker, project, run)) = waiting("depot.weighings:2") else { return };
    broker.command(word);
    if word.starts_with("refuse") {
        broker.command("cut");
        // The run reconnects without help; so late that the broker does not refuse the independent client below.
        std::thread::sleep(std::time::Duration::from_secs(3));
    }
    if !matches!(word, "silence" | "move depot.weighings 0") {
        produce(&broker.address, TOPIC, &lines(100, 200), &[]);
    } else {
        std::thread::sleep(std::time::Duration::from_secs(2));
        broker.command("speak");
        broker.command("moved depot.weighings 0");
        produce(&broker.address, TOPIC, &lines(100, 200), &[]);
    }
    wait_for(|| numbers(&project, "archive/all").len() >= 200);
    let (code, said) = run.settle();
    assert_eq!(code, 0, "{said}");
    assert_eq!(numbers(&project, "archive/all"), (0..200).collect::<Vec<u64>>());
}

/// A broker that was killed, or that is deleting messages, may report an earlier end for a moment. Nothing was lost by that.
#[rstest]
#[case::while_it_follows(true)]
#[case::when_it_starts(false)]
fn an_earlier_end_that_is_reported_for_a_moment_is_not_believed(#[case] runs: bool) {
    let Some((broker, project)) = set_up("depot.weighings:1", &every("")) else { return };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    let mut run = Running::start(&project, WATCH);
    wait_for(|| numbers(&project, "archive/all").len() == 100);
    if !runs {
        run.settle();
        broker.command("shorten depot.weighings 0 60 4");
        run = Running::start(&project, WATCH);
    } else {
        broker.command("shorten depot.weighings 0 60 4");
    }
    wait_for(|| broker.command("reported depot.weighings 0") == "100" || !run.goes_on());
    produce(&broker.address, TOPIC, &lines(100, 200), &[]);
    wait_for(|| numbers(&project, "archive/all").len() >= 200 || !run.goes_on());
    let (code, said) = run.settle();
    assert_eq!(code, 0, "{said}");
    assert_eq!(numbers(&project, "archive/all"), (0..200).collect::<Vec<u64>>());
    broker.command("shorten depot.weighings 0 60");
    let (_, said) = project.expect(6, WATCH);
    assert!(said.contains("was read up to offset 200, but the partition ends before it now"), "{said}");
}

/// There are brokers that count the last batch of messages as one: where they end, they say an earlier end, for ever. The message
/// before the position proves that nothing is missing.
#[rstest]
#[case::while_it_follows(true)]
#[case::when_it_starts(false)]
fn an_end_that_is_always_understated_is_not_believed(#[case] runs: bool) {
    let Some((broker, project)) = set_up("depot.weighings:1", &every("")) else { return };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    if !runs {
        project.expect(0, RUN);
    }
    broker.command("understate depot.weighings 0 60");
    let run = Running::following(&project, WATCH);
    // Longer than a partition may be quiet before its end is asked for.
    std::thread::sleep(std::time::Duration::from_secs(7));
    let said = run.said();
    produce(&broker.address, TOPIC, &lines(100, 200), &[]);
    wait_for(|| numbers(&project, "archive/all").len() == 200);
    let (code, later) = run.settle();
    assert_eq!(code, 0, "{said}{later}");
    assert_eq!(numbers(&project, "archive/all"), (0..200).collect::<Vec<u64>>());
    // Another topic of the same name is recognised by the message that is missing.
    broker.command("recreate depot.weighings");
    broker.command("understate depot.weighings 0 60");
    produce(&broker.address, TOPIC, &lines(1_000, 1_250), &[]);
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("was read up to offset 200, but another message is there now"), "{said}");
    assert_eq!(numbers(&project, "archive/all"), (0..200).collect::<Vec<u64>>());
}

/// Reading begins behind messages that nobody reads: the one before it proves which topic it is, or where the partition begins does.
#[rstest]
#[case::at_the_end("latest", false, "another message is there now")]
#[case::behind_what_expired("earliest", true, "it began at offset 100 then, and begins at 0 now")]
fn a_topic_recreated_before_anything_of_it_was_read_is_noticed(
    #[case] start: &str,
    #[case] expires: bool,
    #[case] how: &str,
    #[values(true, false)] runs: bool,
) {
    let text = every("").replace("topic = ", &format!("start = \"{start}\"\ntopic = "));
    let Some((broker, project)) = set_up("depot.weighings:1", &text) else { return };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    if expires {
        broker.command("expire depot.weighings 0 100");
    }
    project.expect(0, RUN);
    let exchange = || {
        broker.command("recreate depot.weighings");
        produce(&broker.address, TOPIC, &lines(1_000, 1_150), &[]);
    };
    let (code, said) = match runs {
        true => {
            let run = Running::following(&project, WATCH);
            run.asleep(exchange);
            run.end()
        }
        false => {
            exchange();
            let (_, said) = project.expect(6, RUN);
            (6, said)
        }
    };
    assert_eq!(code, 6, "{said}");
    assert!(said.contains("was read up to offset 100"), "{said}");
    // A run that waits may find the new topic while it is still empty.
    assert!(said.contains(how) || (runs && said.contains("ends before it now")), "{said}");
    assert!(numbers(&project, "archive/all").is_empty());
}

/// A position that was set by hand is guarded by the message before it.
#[test]
fn a_topic_recreated_after_a_position_was_set_is_noticed() {
    let Some((broker, project)) = set_up("depot.weighings:1", &every("")) else { return };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    project.expect(0, RUN);
    project.expect(0, &["positions", "weighings", "--set", "depot.weighings/0=40", "--reason", "again", "--yes"]);
    broker.command("recreate depot.weighings");
    produce(&broker.address, TOPIC, &lines(1_000, 1_150), &[]);
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("was read up to offset 40, but another message is there now"), "{said}");
}

/// Where no message was read that could prove which topic it is, an earlier end is believed at once: a topic that was recreated could have
/// grown beyond the position before the broker is asked again, and its first messages would be skipped.
#[test]
fn an_earlier_end_is_believed_where_no_message_was_read() {
    let Some((broker, project)) = set_up("depot.weighings:1", &every("")) else { return };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    // Reading begins at 100, and nothing stands before it.
    broker.command("expire depot.weighings 0 100");
    project.expect(0, RUN);
    broker.command("recreate depot.weighings");
    produce(&broker.address, TOPIC, &lines(1_000, 1_150), &[]);
    // The run finds the topic empty, and grown when it asks again.
    broker.command("shorten depot.weighings 0 0 1");
    let (_, said) = project.expect(6, WATCH);
    assert!(said.contains("was read up to offset 100, but"), "{said}");
    assert!(numbers(&project, "archive/all").is_empty());
}

/// A run that is asked to settle does not wait for clients with open requests to a silent broker.
#[rstest]
#[case("silence", 0)]
#[case("silence", 3)]
#[case("refuse 1000", 0)]
fn a_run_whose_broker_is_silent_settles_when_asked(#[case] word: &str, #[case] seconds: u64) {
    let into_topic = "[event.weighing.lands.onward]\nat = \"lock-broker\"\ntopic = \"depot.landed\"\n";
    let Some((broker, project)) = set_up("depot.weighings:2", &(every("") + into_topic)) else { return };
    produce(&broker.address, TOPIC, &lines(0, 100), &[]);
    let run = Running::start(&project, WATCH);
    wait_for(|| numbers(&project, "archive/all").len() == 100);
    produce(&broker.address, TOPIC, &lines(100, 200), &[]);
    broker.command(word);
    if word != "silence" {
        broker.command("cut");
    }
    std::thread::sleep(std::time::Duration::from_secs(seconds));
    let (code, said) = run.settle();
    assert!([0, 5].contains(&code), "{said}");
    broker.command("speak");
    broker.command("refuse 0");
    let (_, err) = project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), (0..200).collect::<Vec<u64>>(), "{said}{err}");
    let sent = topics::consume(&broker.address, "depot.landed", "%s\\n");
    assert_eq!(sent.len(), 200, "{said}{err}");
}

/// Nor does it wait where the broker falls silent while a batch is being sent to a topic.
#[test]
fn a_run_whose_broker_falls_silent_while_it_sends_settles_when_asked() {
    let into_topic = "[event.weighing.lands.onward]\nat = \"lock-broker\"\ntopic = \"depot.landed\"\n";
    let Some((broker, project)) = set_up("depot.weighings:2", &(every("") + into_topic)) else { return };
    produce(&broker.address, TOPIC, &lines(0, 3_000), &[]);
    let run = Running::start_with(&project, WATCH, &[("SLUICE_STOP_AT", "publish.topic_begun:1")]);
    wait_for(|| run.is_stopped());
    broker.command("silence");
    run.signal("CONT");
    let (code, said) = run.settle();
    assert!([0, 5].contains(&code), "{said}");
    broker.command("speak");
    let (_, err) = project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), (0..3_000).collect::<Vec<u64>>(), "{said}{err}");
    let sent = topics::consume(&broker.address, "depot.landed", "%s\\n");
    assert_eq!(sent.len(), 3_000, "{said}{err}");
}

/// A topic that is created while the pipeline is stopped is read from its beginning, wherever the others started.
#[rstest]
#[case(true)]
#[case(false)]
fn a_topic_that_a_pattern_finds_later_is_read_from_its_beginning(#[case] one_was_there: bool) {
    let pipeline = every("start = \"latest\"").replace("topic = \"depot.weighings\"", "topic = \"lock.*\"");
    let Some((broker, project)) = set_up("depot.weighings:1", &pipeline) else { return };
    let client = &broker.address;
    if one_was_there {
        admin::make(client, "lock.old", 1);
        produce(client, "lock.old", &lines(0, 10), &[]);
    }
    project.expect(0, RUN);
    assert!(numbers(&project, "archive/all").is_empty(), "latest");
    admin::make(client, "lock.new", 2);
    produce(client, "lock.new", &lines(10, 60), &[]);
    project.expect(0, RUN);
    assert_eq!(numbers(&project, "archive/all"), (10..60).collect::<Vec<u64>>());
}

/// Messages behind an open transaction exist, and cannot be read yet.
#[test]
fn messages_behind_an_open_transaction_are_reported() {
    let Some((broker, project)) = set_up("depot.weighings:1", &every("")) else { return };
    produce(&broker.address, TOPIC, &lines(0, 10), &[]);
    project.expect(0, RUN);
    let open = admin::open_transaction(&broker.address, TOPIC, &["{\"n\":10}", "{\"n\":11}"]);
    produce(&broker.address, TOPIC, &lines(12, 20), &[]);
    let (out, err) = project.expect(0, RUN);
    assert!(
        format!("{out}{err}").contains("10 messages from offset 10 on wait behind an open transaction of `stays-open`"),
        "{out}{err}"
    );
    for command in [&["positions", "weighings"][..], &["status", "weighings"], &["peek", "lock-broker:depot.weighings"]]
    {
        let (out, _) = project.expect(0, command);
        assert!(out.contains("an open transaction of `stays-open`"), "{command:?}: {out}");
    }
    assert!(project.expect(0, &[]).0.contains("behind an open transaction"));
    let reported = project.json(&["positions", "weighings"])["arrivals"][0]["partitions"][0]["waiting"].clone();
    assert_eq!((reported["events"].as_u64(), reported["from"].as_u64()), (Some(10), Some(10)), "{reported}");
    assert!(reported["since"].is_string(), "{reported}");
    assert_eq!(reported["writers"][0]["transactional_id"], "stays-open", "{reported}");
    open.commit();
    let (out, err) = project.expect(0, RUN);
    assert!(!format!("{out}{err}").contains("transaction"), "{out}{err}");
    assert_eq!(numbers(&project, "archive/all"), (0..20).collect::<Vec<u64>>());
}

#[test]
fn positions_that_have_been_read_are_not_called_unread() {
    let Some((broker, project)) = set_up("depot.weighings:1", &every("")) else { return };
    produce(&broker.address, TOPIC, &lines(0, 10), &[]);
    project.expect(0, RUN);
    project.expect(0, &["positions", "weighings", "--set", "earliest", "--reason", "x", "--yes"]);
    let (out, _) = project.expect(3, &["positions", "weighings", "--set", "depot.weighings/0=5", "--reason", "x"]);
    assert!(out.contains("5 positions are skipped") && !out.contains("never"), "{out}");
}
