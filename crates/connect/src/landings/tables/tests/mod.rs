//! Tables of every kind of store, on the real servers that `scripts/services` starts.
//!
//! A kind whose server is not there is skipped and says so; with `SLUICE_TEST_SERVICES` its absence is a failure.

mod keyed;
mod landing;
mod types;

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use arrow_array::{ArrayRef, RecordBatch};
use sluice_core::columns::OutputColumn;
use sluice_core::config::{ConnectionConfig, OptionValue, Options};
use sluice_core::event::LandingRows;
use sluice_core::kinds::{Landing, LandingKind, Published, Registry, Settings, StagedWork};
use sluice_core::plan::transform::schema_of;
use sluice_core::problem::{Place, SourceText};
use sluice_core::types::SqlType;

use super::Store as _;
use super::session::Session;
use super::shape;
use crate::databases;
use crate::landings::suite::{identity, order, origin, ranges};
use crate::landings::{clickhouse, mariadb, postgres, sqlite};
use crate::testing::NoSecrets;

/// A kind of store.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Postgres,
    Mariadb,
    Sqlite,
    Clickhouse,
}

/// A table of one kind under a name of its own, and the keys of a landing in it.
pub(super) struct TestTable {
    pub(super) folder: tempfile::TempDir,
    pub(super) kind: Kind,
    pub(super) name: String,
    target: String,
    user: Option<&'static str>,
    pub(super) keys: Vec<(&'static str, OptionValue)>,
    pub(super) columns: Vec<OutputColumn>,
}

pub(super) fn text(text: &str) -> OptionValue {
    OptionValue::Text(text.into())
}

pub(super) fn column(name: &str, ty: SqlType, nullable: bool) -> OutputColumn {
    OutputColumn { name: name.into(), ty, nullable, limit: None }
}

impl TestTable {
    /// None where the server is not there.
    pub(super) fn new(kind: Kind, columns: &[OutputColumn]) -> Option<Self> {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let number = NUMBER.fetch_add(1, Ordering::SeqCst);
        let server = |variable: &str| {
            let found = std::env::var(variable).ok();
            assert!(found.is_some() || std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "{variable} is not set");
            if found.is_none() {
                eprintln!("skipped: {variable} is not set");
            }
            found
        };
        let (target, user) = match kind {
            Kind::Sqlite => ("tolls.db".to_string(), None),
            Kind::Postgres => {
                let url = server("SLUICE_TEST_POSTGRES")?;
                (format!("//{}", url.split('@').nth(1).unwrap()), Some("sluice"))
            }
            Kind::Mariadb => (format!("//{}/tarrow", server("SLUICE_TEST_MARIADB")?), Some("sluice")),
            Kind::Clickhouse => (format!("//{}/tarrow", server("SLUICE_TEST_CLICKHOUSE")?), None),
        };
        Some(Self {
            folder: tempfile::tempdir().unwrap(),
            kind,
            name: format!("t{}_{number}", std::process::id()),
            target,
            user,
            keys: Vec::new(),
            columns: columns.to_vec(),
        })
    }

    #[must_use]
    pub(super) fn with(mut self, key: &'static str, value: OptionValue) -> Self {
        self.keys.push((key, value));
        self
    }

    #[must_use]
    pub(super) fn created(self) -> Self {
        self.with("create", OptionValue::Flag(true))
    }

    fn scheme(&self) -> &'static str {
        match self.kind {
            Kind::Postgres => postgres::Postgres::SCHEME,
            Kind::Mariadb => mariadb::Mariadb::SCHEME,
            Kind::Sqlite => sqlite::Sqlite::SCHEME,
            Kind::Clickhouse => clickhouse::Clickhouse::SCHEME,
        }
    }

    pub(super) fn settings(&self) -> Settings {
        let place = Place::new(&SourceText::new("p.toml", ""), 0..0);
        let mut connection = Options::empty(vec![databases::OPTIONS], place.clone());
        if let Some(user) = self.user {
            connection.set("user", text(user), place.clone());
        }
        let mut options = Options::empty(vec![shape::OPTIONS], place.clone());
        options.set("table", text(&self.name), place.clone());
        for (key, value) in &self.keys {
            options.set(key, value.clone(), place.clone());
        }
        Settings {
            root: self.folder.path().into(),
            work: self.folder.path().into(),
            connection: ConnectionConfig {
                name: "toll".into(),
                scheme: self.scheme().into(),
                target: self.target.clone(),
                options: connection,
                place: None,
            },
            options,
            secrets: Arc::new(NoSecrets),
            label: self.label(),
            contract: None,
            stop: Arc::default(),
            computed: Vec::new(),
            mirror_keys: Vec::new(),
        }
    }

    pub(super) fn label(&self) -> String {
        format!("p.{}.store", self.name)
    }

    pub(super) fn landing_kind(&self) -> Arc<dyn LandingKind> {
        let mut registry = Registry::default();
        postgres::register(&mut registry);
        mariadb::register(&mut registry);
        sqlite::register(&mut registry);
        clickhouse::register(&mut registry);
        registry.landing(self.scheme()).unwrap()
    }

    pub(super) fn open(&self) -> Box<dyn Landing> {
        self.landing_kind().open(&self.settings(), &self.label(), &self.columns).unwrap()
    }

    pub(super) fn session(&self) -> Box<dyn Session> {
        match self.kind {
            Kind::Postgres => postgres::Postgres::connect(&self.settings()),
            Kind::Mariadb => mariadb::Mariadb::connect(&self.settings()),
            Kind::Sqlite => sqlite::Sqlite::connect(&self.settings()),
            Kind::Clickhouse => clickhouse::Clickhouse::connect(&self.settings()),
        }
        .unwrap()
    }

    /// Runs a statement; `{t}` stands for the table.
    pub(super) fn execute(&self, sql: &str) {
        self.session().execute(&sql.replace("{t}", &self.name)).unwrap();
    }

    /// The rows of an answer, each with its values joined by `|`.
    pub(super) fn rows(&self, sql: &str) -> Vec<String> {
        let rows = self.session().query(&sql.replace("{t}", &self.name)).unwrap();
        let value = |v: Option<String>| v.unwrap_or_else(|| "∅".into());
        rows.into_iter().map(|row| row.into_iter().map(value).collect::<Vec<_>>().join("|")).collect()
    }

    /// Stages rows as a batch. The events are the numbers of the rows, as text.
    pub(super) fn stage(&self, landing: &dyn Landing, number: u64, columns: Vec<ArrayRef>) -> StagedWork {
        let rows = columns[0].len();
        let events: Vec<String> = (0..rows).map(|i| format!("event {i}")).collect();
        let events: Vec<&str> = events.iter().map(String::as_str).collect();
        let schema =
            schema_of(&self.columns.iter().map(|c| OutputColumn { nullable: true, ..c.clone() }).collect::<Vec<_>>());
        let batch = RecordBatch::try_new(schema, columns).unwrap();
        let mut stage = landing.stage(&identity(number), &order(number)).unwrap();
        stage.write(LandingRows { origin: Some(origin(&events)), marks: None, folder: "".into(), batch }).unwrap();
        stage.finish().unwrap()
    }

    /// Stages and publishes a batch.
    pub(super) fn land(&self, landing: &dyn Landing, number: u64, columns: Vec<ArrayRef>) -> Published {
        let work = self.stage(landing, number, columns);
        landing.publish(&identity(number), &ranges(number), &work).unwrap()
    }
}
