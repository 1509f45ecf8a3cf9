//! The built program against real servers and the practice world.
//!
//! Each test has a folder, ports and servers of its own. A server that is not installed fails its test:
//! `scripts/test` installs what is missing.

#![expect(clippy::unwrap_used, reason = "a test stops at the first thing that is not as it should be")]

mod accounts;
mod add;
mod bind;
mod budgets;
mod commands;
mod crash;
mod databases;
mod desk;
mod docs;
mod endpoints;
mod est;
mod faults;
mod guides;
mod hosts;
mod house;
mod https;
mod install;
mod inventory;
mod json;
mod links;
mod looks;
mod machines;
mod network;
mod nginx;
mod notices;
mod obstacles;
mod office;
mod pebble;
mod ports;
mod rating;
mod records;
mod rehearse;
mod renewals;
mod revoke;
mod rights;
mod rooms;
mod runtime;
mod schedule;
mod serving;
mod side;
mod starttls;
mod stops;
mod survey;
mod systemd;
mod tlsa;
mod troubles;
mod undo;
mod upkeep;
mod uploads;
mod world;
mod zones;

#[test]
fn no_test_file_is_forgotten() {
    let main = include_str!("main.rs");
    for entry in std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/tests")).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        let module = name.trim_end_matches(".rs");
        assert!(module == "main" || main.contains(&format!("mod {module};")), "{name} is not in main.rs");
    }
}
