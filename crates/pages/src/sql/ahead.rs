//! Reads a dump ahead of whoever goes through it, and finds where addresses may stand: two processors share the work.

use crate::address::addresses_in;
use std::collections::VecDeque;
use std::io::{self, Read};
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::thread::Scope;

/// So much is read at once.
const PIECE: usize = 1 << 18;
/// In front of each piece there is room for what is left of the one before.
const ROOM: usize = 1 << 16;
/// So many pieces are read ahead.
const AHEAD: usize = 3;
/// So many bytes before the place of an address show that it is one.
const BEFORE: usize = 3;

/// What was read at once.
struct Piece {
    /// Room, and what was read.
    bytes: Vec<u8>,
    /// Where what was read ends.
    end: usize,
    /// Where addresses may stand, from the beginning of the dump.
    addresses: Vec<u64>,
}

/// A dump, as far as it was read and is not done yet.
pub(super) struct Ahead {
    pieces: Receiver<io::Result<Piece>>,
    used: Sender<Vec<u8>>,
    bytes: Vec<u8>,
    from: usize,
    end: usize,
    /// Where what is there stands in the dump.
    at: u64,
    addresses: VecDeque<u64>,
}

impl Ahead {
    /// Begins to read, on a thread of its own.
    pub(super) fn begin<'s>(old: &'s mut (dyn Read + Send), scope: &'s Scope<'s, '_>) -> Self {
        let (read, pieces) = sync_channel(AHEAD);
        let (used, free) = channel();
        scope.spawn(move || read_all(old, &read, &free));
        Ahead { pieces, used, bytes: Vec::new(), from: 0, end: 0, at: 0, addresses: VecDeque::new() }
    }

    /// Returns what is there.
    pub(super) fn there(&self) -> &[u8] {
        &self.bytes[self.from..self.end]
    }

    /// Whether an address may stand in a part of what is there. Parts are asked for in order.
    pub(super) fn any_in(&mut self, from: usize, length: usize) -> bool {
        let at = self.at + from as u64;
        while self.addresses.front().is_some_and(|address| *address < at) {
            self.addresses.pop_front();
        }
        self.addresses.front().is_some_and(|address| *address < at + length as u64)
    }

    /// Drops what is done, and waits for more; returns whether there was more. What is long is not given again with each piece: it comes
    /// with as much as it has already.
    ///
    /// # Errors
    /// What reading says.
    pub(super) fn more(&mut self, done: usize) -> io::Result<bool> {
        self.from += done;
        self.at += done as u64;
        let left = self.end - self.from;
        let mut came = 0;
        while let Ok(piece) = self.pieces.recv() {
            let Piece { mut bytes, end, addresses } = piece?;
            self.addresses.extend(addresses);
            came += end - ROOM;
            if left <= ROOM {
                bytes[ROOM - left..ROOM].copy_from_slice(&self.bytes[self.from..self.end]);
                let used = std::mem::replace(&mut self.bytes, bytes);
                (self.from, self.end) = (ROOM - left, end);
                if used.len() == ROOM + PIECE {
                    // Who reads may be done.
                    let _ = self.used.send(used);
                }
                return Ok(true);
            }
            self.bytes.truncate(self.end);
            self.bytes.drain(..self.from);
            self.bytes.extend_from_slice(&bytes[ROOM..end]);
            (self.from, self.end) = (0, self.bytes.len());
            if came >= left {
                return Ok(true);
            }
        }
        Ok(came > 0)
    }
}

/// Reads to the end, or until nobody wants more.
fn read_all(old: &mut dyn Read, read: &SyncSender<io::Result<Piece>>, free: &Receiver<Vec<u8>>) {
    let (mut at, mut before) = (0, [0; BEFORE]);
    loop {
        let mut bytes = free.try_recv().unwrap_or_else(|_| vec![0; ROOM + PIECE]);
        let piece = match old.read(&mut bytes[ROOM..]) {
            Ok(0) => return,
            Ok(count) => {
                let (begin, end) = (ROOM - BEFORE, ROOM + count);
                bytes[begin..ROOM].copy_from_slice(&before);
                let addresses = addresses_in(&bytes[begin..end], BEFORE).map(|found| at + (found - BEFORE) as u64);
                let addresses = addresses.collect();
                before.copy_from_slice(&bytes[end - BEFORE..end]);
                at += count as u64;
                Ok(Piece { bytes, end, addresses })
            }
            Err(error) => Err(error),
        };
        let failed = piece.is_err();
        if read.send(piece).is_err() || failed {
            return;
        }
    }
}
