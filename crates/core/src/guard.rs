//! Calls of libraries that read what comes from outside: a panic within one is an error of what was read, and not a fault of ours.

use std::any::Any;
use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Whether the thread is within a guarded call: whoever reports panics leaves such ones to the caller.
pub fn is_guarded() -> bool {
    GUARDED.get()
}

/// Calls a library that decodes bytes from outside. Whatever the call worked on must not be used again after an error.
///
/// # Errors
/// Where it panics: its message.
pub fn guarded<T>(call: impl FnOnce() -> T) -> Result<T, String> {
    let before = GUARDED.replace(true);
    let result = catch_unwind(AssertUnwindSafe(call));
    GUARDED.set(before);
    result.map_err(|panic| message(panic.as_ref()))
}

fn message(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<String>().map(String::as_str).or_else(|| panic.downcast_ref::<&str>().copied());
    format!("its bytes make no sense ({})", text.unwrap_or("no reason given"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_an_error() {
        assert_eq!(guarded(|| 1), Ok(1));
        let inner = guarded(|| (is_guarded(), guarded(|| panic!("offset {}", 3))));
        assert_eq!(inner, Ok((true, Err::<(), _>("its bytes make no sense (offset 3)".into()))));
        assert!(!is_guarded());
    }
}
