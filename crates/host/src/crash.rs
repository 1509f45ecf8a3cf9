//! Points at which tests cut the program off, to see that the next run goes on from there.

/// Panics when the test-only variable `ESKORT_PANIC_AT` names this point. Nothing in a release build.
///
/// # Panics
/// In tests, on demand.
pub fn panic_point(name: &str) {
    let wanted = cfg!(debug_assertions) && std::env::var_os("ESKORT_PANIC_AT").is_some_and(|at| at == name);
    assert!(!wanted, "asked for at {name}");
}

/// Aborts the program when the test-only variable `ESKORT_CRASH_AT` names this point. Nothing in a release build.
pub fn crash_point(name: &str) {
    if cfg!(debug_assertions) && std::env::var_os("ESKORT_CRASH_AT").is_some_and(|at| at == name) {
        std::process::abort();
    }
}
