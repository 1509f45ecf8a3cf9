//! Ports for servers that tests start.

use std::fs::{DirBuilder, File, OpenOptions};
use std::net::{Ipv4Addr, TcpListener};
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::sync::Mutex;

/// Below those that the system gives to connections (32768 and above): no connection takes one.
const PORTS: std::ops::Range<u16> = 10_000..30_000;

/// The locks on the ports of this process, until it ends.
static HELD: Mutex<Vec<File>> = Mutex::new(Vec::new());

/// Returns a port that nobody listens on, and that no other test gets as long as this process lives.
pub(crate) fn free_port() -> u16 {
    let user = std::fs::metadata("/proc/self").unwrap().uid();
    let folder = std::env::temp_dir().join(format!("eskort-test-ports-{user}"));
    DirBuilder::new().recursive(true).mode(0o700).create(&folder).unwrap();
    let mut held = HELD.lock().unwrap();
    let ports = u32::from(PORTS.end - PORTS.start);
    let first = std::process::id().wrapping_mul(37) % ports;
    for step in 0..ports {
        let port = PORTS.start + u16::try_from((first + step) % ports).unwrap();
        let lock = OpenOptions::new().create(true).append(true).open(folder.join(port.to_string())).unwrap();
        if lock.try_lock().is_ok() && TcpListener::bind((Ipv4Addr::UNSPECIFIED, port)).is_ok() {
            held.push(lock);
            return port;
        }
    }
    panic!("no port is free");
}
