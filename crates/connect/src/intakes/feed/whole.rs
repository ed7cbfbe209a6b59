//! Tables without a key. Nothing shows which of their rows have been read, so all are read in one transaction, as they are
//! at one place in the log, into a file; once that is whole they are taken in from there, while the log waits. A reading
//! that breaks off starts again; taking in goes on where it was, also after a crash.
//!
//! Changes that were committed before that place are in the rows already, and are left out.

use std::collections::{HashMap, VecDeque};
use std::fs::File;
use std::io::{BufRead as _, BufReader, BufWriter, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Sender, TryRecvError, bounded};
use sha2::{Digest as _, Sha256};
use sluice_core::change::ChangeKind;
use sluice_core::durable::Disk;
use sluice_core::event::Position;
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{ReadLimit, Settings};
use sluice_core::private;
use sluice_core::problem::{Place, Problem};

use super::FeedTable;
use super::gather::{ChangeDetails, ChunkBuilder};
use super::rows::FeedRows;
use super::state::{State, TableState, WholeTableState};

/// How long to wait for a server that does not answer.
const AGAIN: Duration = Duration::from_millis(500);

const BUFFER: usize = 1 << 18;

/// Why a reading ends whose rows nobody takes.
const UNWANTED: &str = "nobody wants the rows any more";

/// The folder of a feed's files.
pub(crate) fn folder(settings: &Settings) -> PathBuf {
    settings.work.join("whole").join(&settings.label)
}

/// The file of a table as it is at a place in the log: different ones never have the same.
fn file(folder: &Path, table: &str, at: u64) -> PathBuf {
    let digest: String = Sha256::digest(table.as_bytes()).iter().take(4).map(|b| format!("{b:02x}")).collect();
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '.' { c } else { '_' };
    folder.join(format!("{}-{digest}-{at:x}", table.chars().take(80).map(plain).collect::<String>()))
}

/// Removes the files of tables whose rows have all settled.
///
/// # Errors
/// Where the disk refuses.
pub(crate) fn forget(folder: &Path, state: &State) -> Outcome<()> {
    for (name, load) in state.tables.iter().filter_map(|(name, t)| Some((name, t.load.as_ref()?))) {
        let Some(whole) = load.whole.as_ref().filter(|_| load.done) else { continue };
        let path = file(folder, name, whole.at);
        if path.exists() {
            Disk::default().remove_file(&path)?;
        }
    }
    Ok(())
}

/// Removes what an earlier run left and nobody needs, by what the ledger has.
///
/// # Errors
/// Where the disk refuses.
pub(crate) fn clear(folder: &Path, state: &State) -> Outcome<()> {
    let failed = |e: &std::io::Error| Failure::io("look into", folder, e);
    if !folder.exists() {
        return Ok(());
    }
    let needed = |(name, table): (&String, &TableState)| {
        let load = table.load.as_ref().filter(|l| !l.done)?;
        load.whole.as_ref().filter(|w| w.taken > 0).map(|w| file(folder, name, w.at))
    };
    let needed: Vec<PathBuf> = state.tables.iter().filter_map(needed).collect();
    for entry in std::fs::read_dir(folder).map_err(|e| failed(&e))? {
        let path = entry.map_err(|e| failed(&e))?.path();
        if !needed.contains(&path) {
            Disk::default().remove_file(&path)?;
        }
    }
    Ok(())
}

/// What `check` says of a table without a key.
pub(crate) fn warning(table: &str, place: Place) -> Problem {
    let message = format!("{table} has no primary key: its rows are read in one transaction, while the log waits");
    Problem::warning("feed.identity", message, place).with_help(
        "a reading that fails starts again, and the rows are kept on local disk until they have landed. A primary key lets \
         them be read in portions; load = \"never\" reads the changes alone",
    )
}

/// Where the rows of a table go that is being read.
enum RowTarget {
    /// Into a file, which gets its name once it is whole.
    File(PathBuf, BufWriter<File>),
    /// To a reader that takes them as they come.
    Reader(Sender<FeedRows>),
}

/// Keeps the rows of a table that is being read.
pub(crate) struct Keeper {
    out: RowTarget,
    shared: Arc<ReaderState>,
    since: Instant,
    /// Rows a second, at most about.
    rate: Option<u64>,
}

/// What the one that reads tells, and hears.
#[derive(Default)]
struct ReaderState {
    rows: AtomicU64,
    stop: AtomicBool,
}

impl Keeper {
    fn create(folder: &Path, shared: &Arc<ReaderState>, rate: Option<u64>) -> Outcome<Self> {
        let part = folder.join(format!("{}.part", uuid::Uuid::new_v4()));
        let file = private::create(&part)?;
        shared.rows.store(0, Ordering::SeqCst);
        let out = RowTarget::File(part, BufWriter::with_capacity(BUFFER, file));
        Ok(Self { out, shared: Arc::clone(shared), since: Instant::now(), rate })
    }

    /// One that hands rows on.
    pub(crate) fn for_reader(reader: Sender<FeedRows>, rate: Option<u64>) -> Self {
        Self { out: RowTarget::Reader(reader), shared: Arc::default(), since: Instant::now(), rate }
    }

    /// Keeps rows, and forgets them there.
    ///
    /// # Errors
    /// Where the disk refuses, or nobody wants them any more.
    pub(crate) fn keep(&mut self, rows: &mut FeedRows) -> Outcome<()> {
        let count = rows.len();
        match &mut self.out {
            RowTarget::File(part, out) => {
                for row in 0..usize::try_from(count).unwrap_or(0) {
                    let written = out.write_all(rows.object(row)).and_then(|()| out.write_all(b"\n"));
                    written.map_err(|e| Failure::io("write", part, &e))?;
                }
                rows.clear();
            }
            RowTarget::Reader(reader) => {
                reader.send(std::mem::take(rows)).map_err(|_| Failure::internal(UNWANTED))?;
            }
        }
        let read = self.shared.rows.fetch_add(count, Ordering::SeqCst) + count;
        let due = self.rate.map_or(Duration::ZERO, |rate| Duration::from_secs_f64(read as f64 / rate as f64));
        while self.since.elapsed() < due && !self.is_stopped() {
            std::thread::sleep(Duration::from_millis(10));
        }
        if self.is_stopped() {
            return Err(Failure::internal(UNWANTED));
        }
        Ok(())
    }

    fn is_stopped(&self) -> bool {
        self.shared.stop.load(Ordering::SeqCst)
    }

    /// The file gets its name once its bytes are durable.
    fn finish(self, path: &Path, disk: &Disk) -> Outcome<()> {
        let RowTarget::File(part, out) = self.out else { return Ok(()) };
        let file = out.into_inner().map_err(|e| Failure::io("write", &part, e.error()))?;
        disk.sync_file(&file, &part)?;
        disk.rename(&part, path)?;
        path.parent().map_or(Ok(()), |folder| disk.sync_folder(folder))
    }
}

/// Reads one table into a keeper; gives the place in the log at which it is as it was read.
pub(crate) type ReadTable = Box<dyn FnMut(&mut Keeper) -> Outcome<u64> + Send>;

/// A table that is being read on a thread of its own. Dropping it ends that by and by.
struct WholeReading {
    done: Receiver<Outcome<u64>>,
    shared: Arc<ReaderState>,
}

impl WholeReading {
    fn start(folder: PathBuf, table: Arc<str>, rate: Option<u64>, mut read: ReadTable) -> Self {
        let (send, done) = bounded(1);
        let shared = Arc::new(ReaderState::default());
        let own = Arc::clone(&shared);
        sluice_core::threads::spawn("whole table", move || {
            let mut once = || {
                let mut keeper = Keeper::create(&folder, &own, rate)?;
                let at = read(&mut keeper)?;
                keeper.finish(&file(&folder, &table, at), &Disk::default()).map(|()| at)
            };
            loop {
                let read = once();
                if own.stop.load(Ordering::SeqCst) {
                    return;
                }
                match read {
                    Err(failure) if failure.passing => std::thread::sleep(AGAIN),
                    other => return drop(send.send(other)),
                }
            }
        });
        Self { done, shared }
    }
}

impl Drop for WholeReading {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::SeqCst);
    }
}

enum LoadStep {
    Nothing,
    Reading(WholeReading),
    Taking(BufReader<File>),
}

/// The places in the log at which tables were read whole, by their numbers: changes before them are in those rows.
pub(crate) fn read_at(tables: &[FeedTable], state: &State) -> HashMap<u32, u64> {
    let at = |table: &FeedTable| state.tables.get(&*table.name)?.load.as_ref()?.whole.as_ref().map(|w| w.at);
    (0..).zip(tables).filter_map(|(number, table)| Some((number, at(table)?))).collect()
}

/// What has become of the tables without a key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum WholeStep {
    /// Nothing is left of them to read.
    Done,
    /// One is being read.
    Wait,
    /// Rows have been gathered, or one has been taken in whole.
    Rows,
}

/// What rows are taken into.
pub(crate) struct RowSink<'f> {
    pub tables: &'f [FeedTable],
    /// Of each table.
    pub settings: &'f [Settings],
    pub state: &'f mut State,
    pub gather: &'f mut ChunkBuilder,
    pub at: &'f mut Position,
}

/// The tables without a key that are to be read, one after the other.
pub(crate) struct WholeTables {
    folder: PathBuf,
    waiting: VecDeque<u32>,
    now: LoadStep,
}

impl WholeTables {
    /// Those of a state that have not been taken in.
    pub(crate) fn new(folder: PathBuf, tables: &[FeedTable], state: &State) -> Self {
        let numbers = 0..u32::try_from(tables.len()).unwrap_or(0);
        let is_waiting = |table: &FeedTable| {
            let load = state.tables.get(&*table.name).and_then(|t| t.load.as_ref());
            load.is_some_and(|l| !l.done && l.whole.is_some())
        };
        let waiting = numbers.zip(tables).filter(|(_, t)| is_waiting(t)).map(|(n, _)| n).collect();
        Self { folder, waiting, now: LoadStep::Nothing }
    }

    /// Whether some are to be read still.
    pub(crate) fn is_waiting(&self) -> bool {
        !self.waiting.is_empty()
    }

    /// Reads on. `begin` gives what reads a table.
    ///
    /// # Errors
    /// Where a table cannot be read, or its file is gone.
    pub(crate) fn step(
        &mut self,
        into: &mut RowSink<'_>,
        limit: ReadLimit,
        begin: impl Fn(FeedTable, Settings) -> ReadTable,
    ) -> Outcome<WholeStep> {
        loop {
            let Some(number) = self.waiting.front().copied() else { return Ok(WholeStep::Done) };
            let place = usize::try_from(number).unwrap_or(usize::MAX);
            let name = Arc::clone(&into.tables[place].name);
            let load = into.state.tables.get_mut(&*name).and_then(|t| t.load.as_mut());
            let Some(load) = load else {
                self.waiting.pop_front();
                continue;
            };
            let whole = load.whole.get_or_insert_default();
            let path = |at| file(&self.folder, &name, at);
            match std::mem::replace(&mut self.now, LoadStep::Nothing) {
                LoadStep::Nothing if whole.taken > 0 => {
                    self.now = LoadStep::Taking(open(&path(whole.at), &name, whole.taken)?)
                }
                LoadStep::Nothing => {
                    Disk::private().make_folders(&self.folder)?;
                    let settings = into.settings[place].clone();
                    let rate =
                        settings.options.is_set("load_rate").then(|| settings.options.integer("load_rate").max(1));
                    let read = begin(into.tables[place].clone(), settings);
                    self.now =
                        LoadStep::Reading(WholeReading::start(self.folder.clone(), Arc::clone(&name), rate, read));
                }
                LoadStep::Reading(reading) => {
                    load.rows = reading.shared.rows.load(Ordering::SeqCst);
                    match reading.done.try_recv() {
                        Err(TryRecvError::Empty) => {
                            self.now = LoadStep::Reading(reading);
                            return Ok(WholeStep::Wait);
                        }
                        Err(TryRecvError::Disconnected) => {
                            return Err(Failure::internal(format!("the reader of {name} ended without a result")));
                        }
                        Ok(at) => whole.at = at?,
                    }
                    reach("feed.whole");
                    self.now = LoadStep::Taking(open(&path(whole.at), &name, 0)?);
                }
                LoadStep::Taking(mut file) => {
                    let path = path(whole.at);
                    let is_whole = take(&mut file, (number, whole, &mut load.replaces), into.gather, into.at, limit)
                        .map_err(|e| Failure::io("read", &path, &e))?;
                    if is_whole {
                        load.done = true;
                        self.waiting.pop_front();
                    } else {
                        self.now = LoadStep::Taking(file);
                    }
                    return Ok(WholeStep::Rows);
                }
            }
        }
    }
}

fn open(path: &Path, table: &str, from: u64) -> Outcome<BufReader<File>> {
    let opened = File::open(path).and_then(|mut file| file.seek(SeekFrom::Start(from)).map(|_| file));
    let file = opened.map_err(|e| {
        Failure::findings(format!("the rows of {table}, which were read whole, cannot be read again: {e}"))
            .with_help(format!("a part of them has landed; put {} back", path.display()))
    })?;
    Ok(BufReader::with_capacity(BUFFER, file))
}

/// Takes rows in until the chunk is full; whether that was all.
fn take(
    file: &mut BufReader<File>,
    (table, whole, replaces): (u32, &mut WholeTableState, &mut bool),
    gather: &mut ChunkBuilder,
    at: &mut Position,
    limit: ReadLimit,
) -> std::io::Result<bool> {
    let mut reported = |kind| {
        let reported = ChangeDetails { table, kind, position: *at, transaction: None, time: None };
        at.minor += 1;
        reported
    };
    if std::mem::take(replaces) {
        gather.add(reported(ChangeKind::Truncated), |out| out.extend_from_slice(b"{}"), |_| {}, |_| {});
    }
    let mut line = Vec::new();
    while !gather.is_full(limit) {
        line.clear();
        whole.taken += file.read_until(b'\n', &mut line)? as u64;
        let Some((b'\n', row)) = line.split_last() else { return Ok(true) };
        gather.add(reported(ChangeKind::Loaded), |out| out.extend_from_slice(row), |_| {}, |_| {});
    }
    Ok(false)
}

#[cfg(test)]
mod tests {
    use super::super::json::{Spelling, member_name};
    use super::super::rows::RowWriter;
    use super::super::state::{Load, TableState};
    use super::*;

    const LIMIT: ReadLimit = ReadLimit { records: 2, bytes: 1 << 20, ends: false };

    fn settings() -> Settings {
        super::super::trial::settings(Path::new(""))
    }

    fn tables() -> Vec<FeedTable> {
        vec![FeedTable { name: "office.log".into(), key: Vec::new(), contract: None }]
    }

    fn state(whole: WholeTableState) -> State {
        let load = Load { whole: Some(whole), ..Load::default() };
        let table = TableState { load: Some(load), ..TableState::default() };
        State { tables: [("office.log".to_string(), table)].into(), ..State::default() }
    }

    /// Reads five rows; the first time the server goes away in the middle.
    fn begin(_: FeedTable, _: Settings) -> ReadTable {
        let mut tries = 0;
        let read = move |keeper: &mut Keeper| {
            tries += 1;
            let mut writer = RowWriter::new(vec![(member_name("n"), Spelling::Number)], Vec::new());
            for n in 0..5 {
                writer.row(|cell| *cell = Some(n.to_string().into_bytes()));
                keeper.keep(&mut writer.rows)?;
                if tries == 1 && n == 2 {
                    return Err(Failure::away("gone"));
                }
            }
            Ok(700)
        };
        Box::new(read)
    }

    /// What is taken in from there on, chunk by chunk; the state after the first `stop` chunks.
    fn taken(folder: &Path, mut state: State, stop: usize) -> (Vec<String>, State) {
        let (tables, settings, mut at) = (tables(), [settings()], Position::at(9));
        let mut wholes = WholeTables::new(folder.to_path_buf(), &tables, &state);
        let mut gather = ChunkBuilder::new(vec!["office.log".into()]);
        let mut chunks = Vec::new();
        while chunks.len() < stop {
            let mut into =
                RowSink { tables: &tables, settings: &settings, state: &mut state, gather: &mut gather, at: &mut at };
            match wholes.step(&mut into, LIMIT, begin).unwrap() {
                WholeStep::Done => break,
                WholeStep::Wait => std::thread::sleep(Duration::from_millis(5)),
                WholeStep::Rows => {
                    let chunk = gather.chunk(at, at, String::new(), false);
                    let words = chunk.changes.unwrap().each.iter().map(|c| c.kind.word()).collect::<Vec<_>>();
                    chunks.push(format!("{}{}", words.join(" "), String::from_utf8_lossy(&chunk.bytes)));
                }
            }
        }
        (chunks, state)
    }

    #[test]
    fn a_reading_that_broke_off_starts_again_and_taking_in_goes_on_where_it_was() {
        let folder = tempfile::tempdir().unwrap();
        let (first, after) = taken(folder.path(), state(WholeTableState::default()), 1);
        clear(folder.path(), &after).unwrap();
        assert_eq!(first, ["loaded loaded{\"n\":0}\n{\"n\":1}\n"]);
        let whole = after.tables["office.log"].load.as_ref().unwrap().whole.clone().unwrap();
        assert_eq!((whole.at, whole.taken), (700, 16));
        let (rest, after) = taken(folder.path(), after, 9);
        assert_eq!(rest, ["loaded loaded{\"n\":2}\n{\"n\":3}\n", "loaded{\"n\":4}\n"]);
        assert!(after.tables["office.log"].load.as_ref().unwrap().done);
        forget(folder.path(), &after).unwrap();
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    }

    #[test]
    fn rows_that_are_read_again_replace_those_that_were_there() {
        let folder = tempfile::tempdir().unwrap();
        let mut state = state(WholeTableState::default());
        state.replace_all();
        let (chunks, _) = taken(folder.path(), state, 9);
        assert_eq!(chunks[0], "truncated loaded{}\n{\"n\":0}\n");
        // The last is empty, and tells that the file has ended.
        assert_eq!(chunks.len(), 4);
    }

    #[test]
    fn a_file_that_is_gone_after_some_of_it_landed_stops_the_run() {
        let folder = tempfile::tempdir().unwrap();
        let (tables, settings, mut state) =
            (tables(), [settings()], state(WholeTableState { taken: 8, ..WholeTableState::default() }));
        let mut wholes = WholeTables::new(folder.path().to_path_buf(), &tables, &state);
        let (mut gather, mut at) = (ChunkBuilder::new(Vec::new()), Position::at(9));
        let mut into =
            RowSink { tables: &tables, settings: &settings, state: &mut state, gather: &mut gather, at: &mut at };
        let failure = wholes.step(&mut into, LIMIT, begin).unwrap_err();
        assert!(failure.message.contains("office.log") && failure.help.unwrap().contains("put "));
    }
}
