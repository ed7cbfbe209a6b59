//! Threads with names, for debuggers and the lists of a system.

use std::thread::{Builder, JoinHandle, Scope, ScopedJoinHandle};

const REFUSED: &str = "the system has room for one more thread";

/// Starts a thread. Linux shows the first 15 characters of its name.
///
/// # Panics
/// Where the system refuses, as [`std::thread::spawn`] does.
pub fn spawn<T: Send + 'static>(name: &str, work: impl FnOnce() -> T + Send + 'static) -> JoinHandle<T> {
    Builder::new().name(name.into()).spawn(work).expect(REFUSED)
}

/// Starts a thread that ends within a scope.
///
/// # Panics
/// Where the system refuses, as [`Scope::spawn`] does.
pub fn spawn_scoped<'scope, T: Send + 'scope>(
    scope: &'scope Scope<'scope, '_>,
    name: &str,
    work: impl FnOnce() -> T + Send + 'scope,
) -> ScopedJoinHandle<'scope, T> {
    Builder::new().name(name.into()).spawn_scoped(scope, work).expect(REFUSED)
}
