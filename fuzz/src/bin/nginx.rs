//! Fuzzes the reading of nginx's configurations and the plans made on them: whatever is planned is read again, and then nothing more
//! is to be done.
#![no_main]

use eskort_fuzz::all_wishes;
use eskort_core::names::Identifier;
use eskort_siteconf::nginx::{Config, Sites, load, plan};
use eskort_siteconf::{SitePlan, TlsTarget};
use std::path::{Path, PathBuf};

fn read(bytes: &[u8]) -> Option<Config> {
    let main = Path::new("/n/nginx.conf");
    load(main, &mut |pattern| Ok(if pattern == main { vec![(PathBuf::from(pattern), bytes.to_vec())] } else { Vec::new() })).ok()
}

fn planned(config: &Config) -> Option<SitePlan> {
    let names = ["lampholm.example", "www.lampholm.example"].map(|name| Identifier::parse(name).expect("a name"));
    let target = TlsTarget { wishes: all_wishes(), hsts_age: 300, ..TlsTarget::new(&names, Path::new("/s/b.pem"), Path::new("/s/k.pem")) };
    plan(config, &Sites::find(config), &target).ok()
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some(plan) = read(bytes).and_then(|config| planned(&config)) else { return };
    let Some(change) = plan.changes.first() else { return };
    let again = read(&change.new).expect("what is written can be read");
    let again = planned(&again).expect("what was planned can be planned again");
    assert!(again.changes.is_empty(), "{}", String::from_utf8_lossy(&change.new));
});
