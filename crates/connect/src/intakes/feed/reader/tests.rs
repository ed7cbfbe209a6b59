use std::path::Path;

use sluice_core::change::ChangeKind;

use super::*;
use crate::intakes::feed::gather::ChangeDetails;
use crate::intakes::feed::loader::{Job, Loader, Sink};
use crate::intakes::feed::rows::RowWriter;
use crate::intakes::feed::state::TableState;

const LIMIT: ReadLimit = ReadLimit { records: 1000, bytes: 1 << 20, ends: false };

/// What a log that is written by a test has.
#[derive(Clone, Copy, Debug)]
enum Entry {
    Begin(u64),
    Row,
    End(u64),
    Lost,
    /// Nothing comes for a while.
    Quiet,
}
use Entry::{Begin, End, Lost, Quiet, Row};

/// A log that says what a test has written down, for each connection.
struct Written {
    tables: Vec<FeedTable>,
    settings: Vec<Settings>,
    connections: VecDeque<Vec<Entry>>,
    now: Option<VecDeque<Entry>>,
    loader: Option<Loader<()>>,
    portion: Option<u64>,
}

impl Written {
    fn new(folder: &Path, connections: &[&[Entry]]) -> Self {
        let table = FeedTable { name: "office.permit".into(), key: vec!["id".into()], contract: None };
        Self {
            tables: vec![table],
            settings: vec![crate::intakes::feed::trial::settings(folder)],
            connections: connections.iter().map(|c| c.to_vec()).collect(),
            now: None,
            loader: None,
            portion: None,
        }
    }

    /// With a row that is to be loaded, at a place in the log.
    fn loading(self, portion: u64) -> Self {
        Self { portion: Some(portion), ..self }
    }
}

impl Log for Written {
    type Detail = ();

    const PATIENCE: Duration = Duration::ZERO;

    fn tables(&self) -> &[FeedTable] {
        &self.tables
    }

    fn settings(&self) -> &[Settings] {
        &self.settings
    }

    fn label(&self) -> &str {
        &self.settings[0].label
    }

    fn whole_folder(&self) -> PathBuf {
        self.settings[0].work.join("whole")
    }

    fn connect(&mut self, _: &mut Reading) -> Outcome<()> {
        self.now = Some(self.connections.pop_front().unwrap_or_default().into());
        Ok(())
    }

    fn is_connected(&self) -> bool {
        self.now.is_some()
    }

    fn disconnect(&mut self, _: &mut Reading) {
        self.now = None;
    }

    fn receive(&mut self, reading: &mut Reading, _: Duration) -> Outcome<Step> {
        let order = &mut reading.order;
        match self.now.as_mut().and_then(VecDeque::pop_front) {
            None | Some(Quiet) => return Ok(Step::Flush),
            Some(Lost) => {
                reading.lose("it went away".into());
                return Ok(Step::Flush);
            }
            Some(Begin(place)) => order.begin(place),
            Some(End(place)) => {
                order.end();
                order.see(place);
            }
            Some(Row) => {
                if let Some(position) = order.position() {
                    let reported =
                        ChangeDetails { table: 0, kind: ChangeKind::Inserted, position, transaction: None, time: None };
                    order.gather.add(reported, |out| out.extend_from_slice(b"{}"), |_| {}, |_| {});
                }
            }
        }
        Ok(Step::GoOn)
    }

    fn wait(&self, _: Duration) {}

    fn begin_loads(&mut self, _: &State) {
        let Some(mark) = self.portion else { return };
        let job: Job<()> = Box::new(move |sink: &Sink<()>| {
            let mut writer =
                RowWriter::new(vec![(b"\"id\"".to_vec(), crate::intakes::feed::json::Spelling::Number)], vec![0]);
            writer.row(|cell| *cell = Some(b"7".to_vec()));
            sink.give(Portion { table: 0, rows: writer.rows, mark, done: true, detail: () });
            Ok(())
        });
        self.loader = Some(Loader::start(vec![job], 1));
    }

    fn end_loading(&mut self) {
        self.loader = None;
    }

    fn next_portion(&mut self) -> Outcome<Option<Portion<()>>> {
        self.loader.as_ref().map_or(Ok(None), Loader::next)
    }

    fn outdated<'s>(&'s self, _: &'s Portion<()>) -> Outdated<'s> {
        Outdated::Keys(Default::default())
    }

    fn advance(&self, load: &mut Load, portion: &Portion<()>, last: usize) {
        load.after = Some(portion.rows.key_parts(last));
    }

    fn end_portion(&mut self, reading: &mut Reading, portion: &Portion<()>) {
        if let Some(load) = reading.load_of("office.permit") {
            load.done = portion.done;
        }
    }

    fn read_whole(&self, _: FeedTable, _: Settings) -> ReadTable {
        Box::new(|_| Ok(0))
    }
}

fn state(load: Option<Load>) -> State {
    let mut state = State { read: 10, ..State::default() };
    state.add("office.permit", TableState { load, ..TableState::default() });
    state
}

fn reader(folder: &Path, connections: &[&[Entry]], target: u64) -> FeedReader<Written> {
    let mut reader = FeedReader::new(Written::new(folder, connections), Position::at(9), state(None), target).unwrap();
    reader.skip_pauses();
    reader
}

impl FeedReader<Written> {
    /// As if the log had been quiet for long, and the connection been down for long.
    fn skip_pauses(&mut self) {
        let long_ago = |at: &mut Instant| *at = at.checked_sub(Duration::from_secs(2)).unwrap_or(*at);
        long_ago(&mut self.quiet_since);
        if let Link::Down(since, _) = &mut self.reading.link {
            long_ago(since);
        }
    }

    /// What the next look brings, in a word.
    fn next(&mut self) -> String {
        let read = self.read(LIMIT).unwrap();
        self.skip_pauses();
        match read {
            Read::Chunk(chunk) => {
                let state = State::read(&chunk.identity).unwrap();
                let within = if chunk.is_within() { " within" } else { "" };
                format!("{} to {}.{} read {}{within}", chunk.records, chunk.to.major, chunk.to.minor, state.read)
            }
            Read::CaughtUp => "caught up".into(),
            Read::Pending => "pending".into(),
            Read::Away(_) => "away".into(),
            Read::Halt(failure) => failure.message,
            _ => "other".into(),
        }
    }
}

#[test]
fn whole_transactions_are_handed_on_and_then_it_has_caught_up() {
    let folder = tempfile::tempdir().unwrap();
    let mut reader = reader(folder.path(), &[&[Begin(20), Row, Row, End(25), Quiet]], 25);
    assert_eq!(reader.next(), "2 to 20.2 read 25");
    assert_eq!(reader.next(), "caught up");
}

#[test]
fn a_reader_within_a_torn_transaction_has_not_caught_up() {
    let folder = tempfile::tempdir().unwrap();
    let first = [Begin(20), Row, End(25), Begin(30), Row, Quiet, Lost];
    // The transaction before it comes once more, and then nothing for a while.
    let second = [Begin(20), Row, End(25), Quiet, Quiet, Begin(30), Row, Row, End(35), Quiet];
    let mut reader = reader(folder.path(), &[&first, &second], 15);
    assert_eq!(reader.next(), "2 to 30.1 read 30 within");
    // The connection is lost; then twice nothing is there.
    let next: Vec<String> = (0..3).map(|_| reader.next()).collect();
    assert_eq!(next, ["pending", "pending", "pending"]);
    assert_eq!(reader.next(), "1 to 30.2 read 35");
    assert_eq!(reader.next(), "caught up");
}

/// A stop within a transaction goes on at that transaction, not at the one before it.
#[test]
fn a_transaction_that_has_begun_is_where_the_log_is_read_again() {
    let folder = tempfile::tempdir().unwrap();
    let mut reader = reader(folder.path(), &[&[Begin(20), Row, End(25), Begin(30), Quiet, Row, End(35)]], 35);
    assert_eq!(reader.next(), "1 to 20.1 read 30 within");
    assert_eq!(reader.next(), "1 to 30.1 read 35");
}

#[test]
fn what_the_log_does_not_have_yet_is_awaited() {
    let folder = tempfile::tempdir().unwrap();
    let mut reader = reader(folder.path(), &[&[Begin(20), Row, End(25), Quiet, Quiet, Begin(30), Row, End(40)]], 40);
    assert_eq!(reader.next(), "1 to 20.1 read 25");
    assert_eq!(reader.next(), "pending");
    assert_eq!(reader.next(), "1 to 30.1 read 40");
    assert_eq!(reader.next(), "caught up");
}

#[test]
fn rows_of_a_table_enter_between_transactions_once_their_place_has_been_passed() {
    let folder = tempfile::tempdir().unwrap();
    let script = [Begin(20), Row, Quiet, Row, End(25), Quiet, Begin(30), Row, End(40), Quiet];
    let log = Written::new(folder.path(), &[&script]).loading(38);
    let mut reader = FeedReader::new(log, Position::at(9), state(Some(Load::default())), 40).unwrap();
    let mut seen: Vec<String> = Vec::new();
    while seen.last().is_none_or(|last| last != "caught up") {
        let next = reader.next();
        if next == "pending" {
            std::thread::sleep(Duration::from_millis(1));
        } else {
            seen.push(next);
        }
    }
    assert_eq!(
        seen,
        ["1 to 20.1 read 20 within", "1 to 20.2 read 25", "1 to 30.1 read 40", "1 to 37.1 read 40", "caught up"]
    );
    let load = reader.reading.state.tables["office.permit"].load.clone().unwrap();
    assert_eq!((load.rows, load.done, load.after), (1, true, Some(vec!["7".to_string()])));
}
