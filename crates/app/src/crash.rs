//! Points at which tests cut the program off, to see that the next run goes on from there.

/// Aborts the program when the test-only variable `ESKORT_CRASH_AT` names this point. Nothing in a release build.
pub(crate) fn crash_point(name: &str) {
    if cfg!(debug_assertions) && std::env::var_os("ESKORT_CRASH_AT").is_some_and(|at| at == name) {
        std::process::abort();
    }
}
