//! Fuzzes the change of addresses in dumps: however it is cut, the same comes of it, and a second change finds nothing.
#![no_main]

use eskort_pages::{DumpMender, Hosts};

/// Changes a dump that is read in pieces of a size, and gone through in stretches of another.
fn mend(dump: &[u8], piece: usize, stretch: u64) -> Option<(Vec<u8>, u64)> {
    let hosts = Hosts::new(["lampholm.example".to_owned()]);
    let (mut mender, mut out) = (DumpMender::new(&hosts), Vec::new());
    mender.cut_into(piece, stretch);
    let read = |buffer: &mut [u8], at: u64| {
        let rest = &dump[dump.len().min(at as usize)..];
        let count = rest.len().min(buffer.len());
        buffer[..count].copy_from_slice(&rest[..count]);
        Ok(count)
    };
    mender.pass(&read, Some(&mut out)).ok()?;
    Some((out, mender.tally.changed))
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((whole, _)) = mend(bytes, 1 << 16, 1 << 20) else { return };
    assert_eq!(mend(bytes, 5, 30).map(|(out, _)| out).as_ref(), Some(&whole));
    assert_eq!(mend(&whole, 1 << 16, 1 << 20).map(|(out, changed)| (out == whole, changed)), Some((true, 0)));
});
