//! Fuzzes what a name server may answer.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Some(found) = eskort_dns::read_answer("_acme-challenge.lampholm.example", bytes) {
        // Nothing in a packet is told twice: what is found is no larger than what can be packed into it.
        let size: usize = found.texts.iter().map(String::len).sum();
        assert!(size <= 3 * bytes.len(), "{size} of {}", bytes.len());
        assert!(found.texts.is_empty() || found.remembers_none_for.is_none());
    }
});
