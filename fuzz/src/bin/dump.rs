//! Fuzzes the change of addresses in dumps: however it is cut, the same comes of it, and a second change finds nothing.
#![no_main]

use eskort_pages::{DumpMender, Hosts};
use std::io::Read;

/// Gives a dump in pieces.
struct Pieces<'a>(&'a [u8], usize);

impl Read for Pieces<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let (piece, rest) = self.0.split_at(self.0.len().min(self.1).min(buffer.len()));
        buffer[..piece.len()].copy_from_slice(piece);
        self.0 = rest;
        Ok(piece.len())
    }
}

fn mend(dump: &[u8], size: usize) -> Option<(Vec<u8>, u64)> {
    let hosts = Hosts::new(["lampholm.example".to_owned()]);
    let (mut mender, mut out) = (DumpMender::new(&hosts), Vec::new());
    mender.pass(&mut Pieces(dump, size), &mut out).ok()?;
    Some((out, mender.tally.changed))
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((whole, _)) = mend(bytes, usize::MAX) else { return };
    assert_eq!(mend(bytes, 5).map(|(out, _)| out).as_ref(), Some(&whole));
    assert_eq!(mend(&whole, usize::MAX).map(|(out, changed)| (out == whole, changed)), Some((true, 0)));
});
