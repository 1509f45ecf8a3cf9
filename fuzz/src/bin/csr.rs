//! Fuzzes the reading of CSRs.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Some(der) = eskort_pki::find_csr(bytes) {
        let _ = (eskort_pki::parse_csr_unverified(&der), eskort_pki::parse_csr(&der));
    }
});
