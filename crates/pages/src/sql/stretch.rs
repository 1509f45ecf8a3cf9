//! Goes through a dump in stretches, two side by side. The second begins where a statement seems to begin, and counts only if one does.

use super::{DumpMender, Statement};
use memchr::memmem;
use std::io::{self, Write};
use std::sync::{Arc, mpsc};

/// Reads bytes of a dump from a place on, and returns how many: none at its end.
pub type ReadAt<'a> = dyn Fn(&mut [u8], u64) -> io::Result<usize> + Sync + 'a;

/// How a dump is cut.
#[derive(Clone, Copy)]
pub(super) struct Cut {
    /// So much is read at once. It stays in the nearest memory while it is gone through.
    pub(super) piece: usize,
    /// So long is a stretch.
    pub(super) stretch: u64,
}

/// What was gone through.
pub(super) struct Gone {
    /// Where it ends.
    pub(super) end: u64,
    /// Whether that is not the end of the dump.
    pub(super) goes_on: bool,
}

/// The second stretch of two, with all that came of it.
struct Second<'a> {
    mender: DumpMender<'a>,
    written: Option<Vec<u8>>,
    gone: Gone,
}

impl DumpMender<'_> {
    /// Goes through two stretches; where the guess is wrong at which the second begins, through one.
    pub(super) fn pair(&mut self, old: &ReadAt<'_>, from: u64, new: &mut Option<&mut dyn Write>) -> io::Result<Gone> {
        let (length, guess) = (self.cut.stretch, self.guess());
        let (statement, tables) = (guess.statement.clone(), Arc::clone(&guess.tables));
        let (tell, told) = mpsc::channel();
        let keeps = new.is_some();
        std::thread::scope(|scope| {
            let second = scope.spawn(move || -> io::Result<Option<Second<'_>>> {
                let mut mender = guess;
                let begin = mender.next_beginning(old, from + length);
                // The other one looks at nothing else.
                let _ = tell.send(begin.as_ref().ok().copied().flatten());
                let Some(begin) = begin? else { return Ok(None) };
                let mut written = keeps.then(Vec::new);
                let mut to = written.as_mut().map(|written| written as &mut dyn Write);
                let gone = mender.stretch(old, begin, begin + (begin - from), &mut to)?;
                Ok(Some(Second { mender, written, gone }))
            });
            let mut first = self.stretch(old, from, from + length, new)?;
            let Ok(Some(begin)) = told.recv() else { return Ok(first) };
            if first.goes_on && first.end < begin {
                first = self.stretch(old, first.end, begin, new)?;
            }
            let is_right = first.end == begin && self.statement == statement && self.words.trim_ascii().is_empty();
            if !is_right || !Arc::ptr_eq(&self.tables, &tables) {
                return Ok(first);
            }
            let Ok(second) = second.join() else {
                return Err(io::Error::other("a stretch of it was not gone through"));
            };
            let Some(Second { mender, written, gone }) = second? else { return Ok(first) };
            if let (Some(new), Some(written)) = (new, written) {
                new.write_all(&written)?;
            }
            let mut tally = std::mem::take(&mut self.tally);
            tally.add(mender.tally);
            *self = DumpMender { tally, hosts: self.hosts, ..mender };
            Ok(gone)
        })
    }

    /// Returns what goes on where the second stretch begins: in the rows that this one is in, too, or at a statement.
    fn guess(&self) -> Self {
        let statement = match &self.statement {
            Statement::Copies(columns) => Statement::Copies(columns.clone()),
            _ => Statement::Begins,
        };
        let tables = Arc::clone(&self.tables);
        DumpMender { statement, tables, dialect: self.dialect, cut: self.cut, ..DumpMender::new(self.hosts) }
    }

    /// Returns where, from a place on, a statement with rows seems to begin, or a line of them.
    fn next_beginning(&self, old: &ReadAt<'_>, from: u64) -> io::Result<Option<u64>> {
        let (mark, begin) = match self.statement {
            Statement::Copies(_) => (&b"\n"[..], 1),
            _ => (&b";\nINSERT INTO "[..], 2),
        };
        let (find, mut bytes) = (memmem::Finder::new(mark), vec![0; self.cut.piece + mark.len()]);
        let (mut at, mut kept) = (from, 0);
        while at < from + self.cut.stretch {
            let count = old(&mut bytes[kept..], at + kept as u64)?;
            if count == 0 {
                break;
            }
            if let Some(found) = find.find(&bytes[..kept + count]) {
                return Ok(Some(at + (found + begin) as u64));
            }
            let end = kept + count;
            kept = end.min(mark.len() - 1);
            bytes.copy_within(end - kept..end, 0);
            at += (end - kept) as u64;
        }
        Ok(None)
    }

    /// Goes on from one place to another, or further where something goes over that that is longer than the whole.
    fn stretch(&mut self, old: &ReadAt<'_>, from: u64, to: u64, new: &mut Option<&mut dyn Write>) -> io::Result<Gone> {
        let (mut bytes, mut left, mut at) = (vec![0; 2 * self.cut.piece], 0, from);
        loop {
            let read = at + left as u64;
            // What is long is not looked at again with each piece.
            let most = self.cut.piece.max(left);
            let wanted = usize::try_from(to.saturating_sub(read))
                .map_or(most, |rest| if rest == 0 { most } else { rest.min(most) });
            if bytes.len() < left + wanted {
                bytes.resize(left + wanted, 0);
            }
            let count = old(&mut bytes[left..left + wanted], read)?;
            let (end, last) = (left + count, count == 0);
            let done = self.go_on(&bytes[..end], last, new)?;
            if last {
                // A literal without an end, or less than a line.
                if let Some(new) = new {
                    new.write_all(&bytes[done..end])?;
                }
                return Ok(Gone { end: read, goes_on: false });
            }
            at += done as u64;
            bytes.copy_within(done..end, 0);
            left = end - done;
            if at + left as u64 >= to && at > from {
                return Ok(Gone { end: at, goes_on: true });
            }
        }
    }
}
