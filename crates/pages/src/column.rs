//! What a column of a database takes, and the change of a value in it.

use crate::address::{Hosts, Left, Tally, mend_text};
use crate::value::{may_be_structured, mend_value};

/// What a column takes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Column {
    /// Whether it is for bytes, not for text.
    pub is_binary: bool,
    /// How many characters it takes at the most.
    pub characters: Option<usize>,
    /// How many bytes it takes at the most.
    pub bytes: Option<usize>,
}

impl Column {
    pub(crate) fn has_limits(self) -> bool {
        self.characters.is_some() || self.bytes.is_some()
    }

    pub(crate) fn holds(self, text: &[u8]) -> bool {
        // In a text each byte but those that go on with a character is one.
        let characters = || text.iter().filter(|byte| **byte & 0xc0 != 0x80).count();
        self.characters.is_none_or(|most| characters() <= most) && self.bytes.is_none_or(|most| text.len() <= most)
    }
}

/// Changes the addresses of the hosts in a value of a column; `None` when none was, or when it would no longer fit.
pub fn mend_cell(value: &[u8], column: Column, hosts: &Hosts, tally: &mut Tally) -> Option<Vec<u8>> {
    if column.is_binary {
        return None;
    }
    let mut own = Tally::default();
    let mended = match may_be_structured(value) {
        false => mend_text(value, hosts, &mut own),
        true => mend_value(value, hosts, &mut own),
    };
    keep_what_fits(mended, |mended| column.holds(mended), own, tally)
}

/// Leaves a changed value out that would no longer fit, and counts what was done.
pub(crate) fn keep_what_fits(
    mended: Option<Vec<u8>>,
    fits: impl FnOnce(&[u8]) -> bool,
    mut own: Tally,
    tally: &mut Tally,
) -> Option<Vec<u8>> {
    let kept = mended.filter(|mended| fits(mended));
    if kept.is_none() {
        let changed = std::mem::take(&mut own.changed);
        own.leave(Left::TooLong, changed);
    }
    tally.add(own);
    kept
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_changes_as_far_as_its_column_lets_it() {
        let hosts = Hosts::new(["lampholm.example".to_owned()]);
        let text = b"http://lampholm.example/";
        for (column, fits) in [
            (Column::default(), true),
            (Column { characters: Some(25), ..Column::default() }, true),
            (Column { characters: Some(24), ..Column::default() }, false),
            (Column { bytes: Some(24), ..Column::default() }, false),
            (Column { is_binary: true, ..Column::default() }, false),
        ] {
            let mut tally = Tally::default();
            assert_eq!(mend_cell(text, column, &hosts, &mut tally).is_some(), fits, "{column:?}");
            let too_long = u64::from(!fits && !column.is_binary);
            assert_eq!(
                (tally.changed, tally.left.get(&Left::TooLong).copied().unwrap_or(0)),
                (u64::from(fits), too_long)
            );
        }
        let mut tally = Tally::default();
        let mended = mend_cell(b"s:24:\"http://lampholm.example/\";", Column::default(), &hosts, &mut tally);
        assert_eq!(mended.as_deref(), Some(&b"s:25:\"https://lampholm.example/\";"[..]));
    }
}
