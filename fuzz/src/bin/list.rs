//! Fuzzes the reading of lists of revoked certificates, up to their signature.
#![no_main]

use eskort_pki::RevocationList;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = RevocationList::read(bytes, &[]);
});
