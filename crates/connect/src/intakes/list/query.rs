//! Intakes `postgres query`, `mariadb query`, `sqlite query`, `clickhouse query`: the rows of a query, as a list.

use std::marker::PhantomData;
use std::sync::Arc;

use sluice_core::config::{ConnectionConfig, OptionSpec, Options, ValueKind};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{Intake, IntakeKind, IntakeView, LaneReader, Settings, only, place_of};
use sluice_core::problem::Problem;
use sluice_core::table::TableColumn;

use super::rows::{ListColumn, RowsReader, failure_of};
use super::{ListIntake, ListSource, SHORTEST, Version};
use crate::landings::tables::Store;
use crate::landings::tables::session::Session;

const QUERY: &str = "query";

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::required(
        QUERY,
        ValueKind::Text,
        "a select whose rows are a list: all of them are read, again and again, for a `reference`; rows that it does not \
         give any more are gone",
    ),
    OptionSpec::with_default(
        "again",
        ValueKind::Duration,
        "15m",
        "how long after a reading the next one begins (at least 1s)",
    )
    .with(&[QUERY]),
];

/// The intake kind of a kind of store.
pub(crate) struct QueryKind<S> {
    name: &'static str,
    about: &'static str,
    store: PhantomData<fn() -> S>,
}

impl<S> QueryKind<S> {
    pub(crate) const fn new(name: &'static str, about: &'static str) -> Self {
        Self { name, about, store: PhantomData }
    }
}

impl<S: Store> IntakeKind for QueryKind<S> {
    fn name(&self) -> &'static str {
        self.name
    }

    fn scheme(&self) -> &'static str {
        S::SCHEME
    }

    fn about(&self) -> &'static str {
        self.about
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn formats(&self) -> &'static [&'static str] {
        &["jsonl"]
    }

    fn told_by(&self) -> Option<&'static str> {
        Some(QUERY)
    }

    fn is_list(&self, _: &Options) -> bool {
        true
    }

    fn place(&self, connection: &ConnectionConfig, options: &Options) -> (String, String) {
        (place_of(self.scheme(), &connection.target), options.text(QUERY).unwrap_or_default())
    }

    fn check(&self, settings: &Settings) -> Vec<Problem> {
        let list = match QueryList::<S>::new(settings) {
            Ok(list) => list,
            Err(failure) => return vec![problem(settings, "at", "place.missing", failure)],
        };
        let mut session = match S::connect(settings) {
            Ok(session) => session,
            Err(error) => return vec![problem(settings, "at", "place.missing", failure_of(error))],
        };
        match session.query(&format!("{} where 1 = 0", list.sql(session.as_ref()))) {
            Ok(_) => Vec::new(),
            Err(error) => vec![problem(settings, QUERY, "table.differs", failure_of(error))],
        }
    }

    fn open(&self, settings: &[Settings]) -> Outcome<Box<dyn Intake>> {
        let settings = only(settings)?;
        let source = Arc::new(QueryList::<S>::new(settings)?);
        Ok(Box::new(ListIntake { source, again: settings.options.duration("again").max(SHORTEST) }))
    }

    fn view(&self, settings: &[Settings]) -> Outcome<Box<dyn IntakeView>> {
        let settings = only(settings)?;
        let source = Arc::new(QueryList::<S>::new(settings)?);
        Ok(Box::new(ListIntake { source, again: SHORTEST }))
    }
}

fn problem(settings: &Settings, key: &str, code: &'static str, failure: Failure) -> Problem {
    let problem = Problem::error(code, failure.message, settings.options.place_of(key));
    match failure.help {
        Some(help) => problem.with_help(help),
        None => problem,
    }
}

/// The rows of a query.
struct QueryList<S> {
    settings: Settings,
    query: String,
    columns: Vec<ListColumn>,
    store: PhantomData<fn() -> S>,
}

impl<S: Store> QueryList<S> {
    fn new(settings: &Settings) -> Outcome<Self> {
        let contract = settings.contract.as_ref().ok_or_else(|| {
            Failure::new(FailureKind::Configuration, "rows of a query can only be read for an event of a pipeline")
        })?;
        S::is_there(settings)?;
        let query = settings.options.text(QUERY).unwrap_or_default();
        let query = query.trim().trim_end_matches(';').trim_end().to_string();
        Ok(Self { settings: settings.clone(), query, columns: ListColumn::of(contract), store: PhantomData })
    }

    /// The query for the columns of the contract, each as text.
    fn sql(&self, session: &dyn Session) -> String {
        let quote = session.spelling().quote;
        let text = |column: &ListColumn| {
            let column = TableColumn {
                name: column.name.clone(),
                ty: "text".into(),
                base: "text".into(),
                nullable: true,
                filled: false,
                computed: false,
                collation: None,
            };
            // Without its table, an unknown name in double quotes would be a text in SQLite.
            S::as_text(&format!("sluice_list.{}", quote(&column.name)), &column)
        };
        let columns: Vec<String> = self.columns.iter().map(text).collect();
        // A line end ends a comment.
        format!("select {} from (\n{}\n) as sluice_list", columns.join(", "), self.query)
    }

    fn ask(&self, events: u64) -> Outcome<Box<dyn LaneReader>> {
        let session = S::connect(&self.settings).map_err(failure_of)?;
        let sql = self.sql(session.as_ref());
        Ok(Box::new(RowsReader::ask(session, sql, &self.columns, events)))
    }
}

impl<S: Store> ListSource for QueryList<S> {
    fn version(&self) -> Outcome<Version> {
        Ok(Version::Unknown)
    }

    fn open(&self) -> Outcome<Box<dyn LaneReader>> {
        self.ask(u64::MAX)
    }

    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>> {
        self.ask(events)
    }
}
