//! Fuzzes the change of addresses in values within values: a second change finds nothing, and nothing new is broken.
#![no_main]

use eskort_pages::{Hosts, Left, Tally, mend_value};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let hosts = Hosts::new(["lampholm.example".to_owned()]);
    let mut first = Tally::default();
    if let Some(new) = mend_value(bytes, &hosts, &mut first) {
        let mut second = Tally::default();
        assert_eq!(mend_value(&new, &hosts, &mut second), None);
        assert_eq!((second.changed, second.left.get(&Left::Broken)), (0, first.left.get(&Left::Broken)));
    }
});
