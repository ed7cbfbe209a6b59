//! A landing kind for a kind of store.

use std::marker::PhantomData;

use sluice_core::columns::OutputColumn;
use sluice_core::config::{ConnectionConfig, OptionSpec, Options};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{ChangeSupport, Landing, LandingKind, Settings, Stored};
use sluice_core::problem::{Problem, Severity};
use sluice_core::table::{TableReport, Verdict};

use super::shape::{self, Mode, Shape, TableName};
use super::{Store, TableLanding, compare_with, look, publish};
use crate::databases::StoreError;

/// The landing kind of a store.
pub(crate) struct TableKind<S>(PhantomData<fn() -> S>);

impl<S> TableKind<S> {
    pub(crate) const fn new() -> Self {
        Self(PhantomData)
    }
}

impl<S: Store> LandingKind for TableKind<S> {
    fn name(&self) -> &'static str {
        S::NAME
    }

    fn scheme(&self) -> &'static str {
        S::SCHEME
    }

    fn about(&self) -> &'static str {
        S::ABOUT
    }

    fn guarantee(&self) -> &'static str {
        S::GUARANTEE
    }

    fn guarantee_of(&self, options: &Options) -> &'static str {
        if options.flag("lineage") { S::GUARANTEE } else { S::GUARANTEE_UNTRACED }
    }

    fn options(&self) -> &'static [OptionSpec] {
        if S::MODES.contains(&"upsert") { shape::OPTIONS } else { shape::ADDING_OPTIONS }
    }

    fn expressions(&self) -> &'static [(&'static str, bool)] {
        &[("change", false)]
    }

    fn can_replace(&self, options: &Options) -> Result<(), String> {
        publish::can_replace(Mode::read(options), options.flag("lineage"))
    }

    fn takes(&self, options: &Options) -> ChangeSupport {
        match Mode::read(options) {
            Mode::Append => ChangeSupport::Rows,
            Mode::Changes => ChangeSupport::Changes,
            Mode::Mirror => ChangeSupport::Mirror,
            Mode::Upsert => ChangeSupport::NoDeletes,
        }
    }

    fn stops_at_refused(&self, options: &Options) -> bool {
        Mode::read(options) == Mode::Mirror && shape::stops(options, Mode::Mirror)
    }

    fn wants_origin(&self) -> bool {
        true
    }

    fn exclusive_place(&self, _: &ConnectionConfig, _: &Options) -> Option<String> {
        // Rows of several landings live together in a table; keyed ones meet there on purpose.
        None
    }

    fn check_keys(&self, options: &Options, columns: &[OutputColumn]) -> Vec<Problem> {
        shape::check_keys(options, columns)
    }

    fn check(&self, settings: &Settings, columns: &[OutputColumn]) -> Vec<Problem> {
        match self.table(settings, columns) {
            Ok(Some(report)) => problems(settings, &report),
            Ok(None) => Vec::new(),
            Err(failure) => {
                let problem = Problem::error("place.missing", failure.message, settings.options.place_of("at"));
                vec![match failure.help {
                    Some(help) => problem.with_help(help),
                    None => problem,
                }]
            }
        }
    }

    fn table(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<TableReport>> {
        let table = TableName::read(&settings.options);
        let shape = Shape::read(&settings.options, columns);
        let mut session = S::connect(settings).map_err(reached)?;
        let dialect = S::dialect(&table, settings);
        compare_with(session.as_mut(), dialect.as_ref(), &table, &shape).map(Some).map_err(reached)
    }

    fn apply(&self, settings: &Settings, statements: &[String]) -> Outcome<()> {
        let mut session = S::connect(settings).map_err(reached)?;
        for statement in statements {
            session.execute(statement).map_err(|error| match error {
                StoreError::Refused { message, .. } | StoreError::Changed(message) => {
                    Failure::findings(format!("{}: {message}", settings.connection.name))
                        .with_help(format!("this statement was refused: {statement}"))
                }
                other => other.into_failure(),
            })?;
        }
        Ok(())
    }

    fn look(&self, settings: &Settings, _: &[OutputColumn]) -> Outcome<Option<Box<dyn Stored>>> {
        look::open::<S>(settings).map(Some)
    }

    fn mirrored(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Box<dyn Stored>>> {
        match Mode::read(&settings.options) {
            Mode::Mirror => look::mirrored::<S>(settings, columns).map(Some),
            Mode::Append | Mode::Changes | Mode::Upsert => Ok(None),
        }
    }

    fn open(&self, settings: &Settings, label: &str, columns: &[OutputColumn]) -> Outcome<Box<dyn Landing>> {
        Ok(Box::new(TableLanding::open::<S>(settings, label, columns)?))
    }
}

/// Looking waits for nobody.
fn reached(error: StoreError) -> Failure {
    let failure = error.into_failure();
    Failure { passing: false, help: failure.help.filter(|h| !h.starts_with("what is sealed")), ..failure }
}

/// What is said of a table beside the pipeline file.
fn problems(settings: &Settings, report: &TableReport) -> Vec<Problem> {
    let place = || settings.options.place_of("table");
    let mut found = Vec::new();
    if report.has_errors() {
        let grows = settings.options.flag("create") && report.is_only_growth();
        let name = &settings.connection.name;
        let differences = report.difference();
        // The whole difference stands beside the table.
        let first = match differences.as_slice() {
            [first, others @ ..] if !others.is_empty() => format!("{first}; and {} more", others.len()),
            all => all.join("; "),
        };
        let message = match report.exists {
            false => format!("{first} in {name}"),
            true => format!("{} in {name} does not fit the rows that will land: {first}", report.table),
        };
        let mut problem = Problem::error("table.differs", message, place());
        if grows {
            problem.severity = Severity::Warning;
            problem = problem.with_help("`run` adds the missing parts, because of `create = true`");
        } else if report.statements.is_empty() && report.for_an_administrator.is_empty() {
            problem = problem.with_help("correct `columns` in the pipeline file, or the table; both are shown below");
        } else {
            problem = problem.with_help("the statements below fix it; `sluice check --apply` runs them");
        }
        found.push(problem.with_label("does not match the rows that will land"));
    }
    for line in report.lines.iter().filter(|l| l.verdict == Verdict::MayRefuse) {
        let message = format!("{}.{}: {}", report.table, line.column, line.says);
        found.push(
            Problem::warning("table.refuses", message, place())
                .with_help("such rows are rejected with the message of the store"),
        );
    }
    found
}
