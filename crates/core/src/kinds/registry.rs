//! The registry in which kinds are found by name.

use std::sync::Arc;

use super::{ConnectionKind, IntakeKind, Landing, LandingKind};
use crate::failure::Outcome;

/// The kinds there are.
#[derive(Default, Clone)]
pub struct Registry {
    connections: Vec<Arc<ConnectionKind>>,
    intakes: Vec<Arc<dyn IntakeKind>>,
    landings: Vec<Arc<dyn LandingKind>>,
    rejects: Option<OpenRejects>,
}

/// Opens the landing of a pipeline's rejects, given the project's folder and the pipeline's name.
pub type OpenRejects = fn(&std::path::Path, &str) -> Outcome<Box<dyn Landing>>;

impl Registry {
    /// Sets where rejects are kept.
    pub fn keep_rejects(&mut self, open: OpenRejects) {
        self.rejects = Some(open);
    }

    /// Opens the landing of a pipeline's rejects.
    ///
    /// # Errors
    /// Where their folder cannot be reached.
    pub fn open_rejects(&self, root: &std::path::Path, pipeline: &str) -> Outcome<Box<dyn Landing>> {
        let open =
            self.rejects.ok_or_else(|| crate::failure::Failure::internal("no place for rejects is registered"))?;
        open(root, pipeline)
    }

    /// Adds a scheme of connections.
    pub fn add_connection(&mut self, kind: ConnectionKind) {
        self.connections.push(Arc::new(kind));
    }

    /// Adds a kind of intake.
    pub fn add_intake(&mut self, kind: impl IntakeKind + 'static) {
        self.intakes.push(Arc::new(kind));
    }

    /// Adds a kind of landing.
    pub fn add_landing(&mut self, kind: impl LandingKind + 'static) {
        self.landings.push(Arc::new(kind));
    }

    /// The scheme of that name.
    pub fn connection(&self, scheme: &str) -> Option<&ConnectionKind> {
        self.connections.iter().find(|c| c.scheme == scheme).map(Arc::as_ref)
    }

    /// The intake that reads connections of a scheme without a key that tells it from others.
    pub fn intake(&self, scheme: &str) -> Option<Arc<dyn IntakeKind>> {
        self.intakes.iter().find(|k| k.scheme() == scheme && k.told_by().is_none()).cloned()
    }

    /// The intake of an arrival that has some keys. Where no key tells, it is the first of its scheme.
    pub fn intake_with(&self, scheme: &str, has: impl Fn(&str) -> bool) -> Option<Arc<dyn IntakeKind>> {
        let of_scheme = || self.intakes.iter().filter(|k| k.scheme() == scheme);
        let told = of_scheme().find(|k| k.told_by().is_some_and(&has)).cloned();
        told.or_else(|| self.intake(scheme)).or_else(|| of_scheme().next().cloned())
    }

    /// The landing that writes connections of a scheme.
    pub fn landing(&self, scheme: &str) -> Option<Arc<dyn LandingKind>> {
        self.landings.iter().find(|k| k.scheme() == scheme).cloned()
    }

    /// All schemes.
    pub fn connections(&self) -> impl Iterator<Item = &ConnectionKind> {
        self.connections.iter().map(Arc::as_ref)
    }

    /// All kinds of intakes.
    pub fn intakes(&self) -> impl Iterator<Item = &dyn IntakeKind> {
        self.intakes.iter().map(Arc::as_ref)
    }

    /// All kinds of landings.
    pub fn landings(&self) -> impl Iterator<Item = &dyn LandingKind> {
        self.landings.iter().map(Arc::as_ref)
    }
}
