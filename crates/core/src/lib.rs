//! What Eskort knows without touching the world: the inventory, names, the journey's stages, renewal rules, findings.
//!
//! Everything here is a function of its arguments. Time comes in as a [`jiff::Timestamp`]; nothing reads a clock, a file
//! or the environment (`clippy.toml` beside this crate's manifest enforces it).

pub mod budget;
pub mod caa;
pub mod challenge;
pub mod confinement;
pub mod context;
pub mod debt;
pub mod decision;
pub mod deployment;
pub mod event;
pub mod finding;
pub mod firewall;
pub mod https;
pub mod inventory;
pub mod journey;
pub mod keeping;
pub mod manual;
pub mod news;
pub mod page;
pub mod progress;
pub mod rating;
pub mod recipe;
pub mod record;
pub mod renewal;
pub mod report;
pub mod revocation;
pub mod schedule;
pub mod software;
mod suffixes;
pub mod words;

pub use suffixes::{is_public_suffix, registered_domain};

pub use eskort_pki as pki;
pub use eskort_pki::names;

/// Returns the future of an `async fn` in a box. So its body is compiled once, in its own crate, and not in each that awaits it.
pub use async_recursion::async_recursion as boxed;
