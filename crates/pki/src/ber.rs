//! What older authorities' tools write: BER with lengths that are only known at the end (X.690 section 8.1.3.6), turned into DER.

use crate::encoding::tlv_with;

/// Values inside values: PKCS#7 and PKCS#12 have some twenty.
const DEEPEST: usize = 60;

/// Returns the first value of some bytes with definite lengths, and with strings that came in pieces put together; `None` when the
/// bytes are none, or nothing in them has to change.
pub(crate) fn to_der(bytes: &[u8]) -> Option<Vec<u8>> {
    let mut changed = false;
    let mut out = Vec::with_capacity(bytes.len());
    value(bytes, &mut out, &mut changed, DEEPEST)?;
    changed.then_some(out)
}

/// Reads one value, writes it, and returns what stands behind it.
fn value<'b>(bytes: &'b [u8], out: &mut Vec<u8>, changed: &mut bool, depth: usize) -> Option<&'b [u8]> {
    let depth = depth.checked_sub(1)?;
    let tag = tag(bytes)?;
    let (length, mut rest) = length(&bytes[tag.len()..])?;
    let constructed = tag[0] & 0x20 != 0;
    let inside = match length {
        Some(length) => {
            let inside = rest.get(..length)?;
            rest = &rest[length..];
            Some(inside)
        }
        None if constructed => None,
        None => return None,
    };
    if !constructed {
        out.extend(tlv_with(tag, inside?));
        return Some(rest);
    }
    *changed |= inside.is_none();
    let mut parts = Vec::new();
    let mut left = inside.unwrap_or(rest);
    loop {
        match (inside, left) {
            (Some(_), []) => break,
            (None, [0, 0, behind @ ..]) => {
                rest = behind;
                break;
            }
            (None, []) => return None,
            _ => left = value(left, &mut parts, changed, depth)?,
        }
    }
    if tag == [0x24] {
        // An octet string in pieces is one in DER.
        *changed = true;
        out.extend(tlv_with(&[0x04], &joined(&parts)?));
    } else {
        out.extend(tlv_with(tag, &parts));
    }
    Some(rest)
}

/// Returns what the pieces of an octet string, now in DER, hold together.
fn joined(mut parts: &[u8]) -> Option<Vec<u8>> {
    let mut all = Vec::new();
    while !parts.is_empty() {
        let tag = tag(parts).filter(|tag| *tag == [0x04])?;
        let (length, rest) = length(&parts[tag.len()..])?;
        all.extend(rest.get(..length?)?);
        parts = &rest[length?..];
    }
    Some(all)
}

fn tag(bytes: &[u8]) -> Option<&[u8]> {
    let first = *bytes.first()?;
    if first & 0x1f != 0x1f {
        return Some(&bytes[..1]);
    }
    let more = bytes[1..].iter().take(4).take_while(|b| **b & 0x80 != 0).count();
    bytes.get(..more + 2)
}

/// Returns a length, `None` for one that is not said, and what stands behind it.
fn length(bytes: &[u8]) -> Option<(Option<usize>, &[u8])> {
    let (first, rest) = bytes.split_first()?;
    match first {
        0x80 => Some((None, rest)),
        0..0x80 => Some((Some(usize::from(*first)), rest)),
        _ => {
            let count = usize::from(first & 0x7f);
            let digits = rest.get(..count).filter(|_| count <= 8)?;
            let length = digits.iter().fold(0_u64, |all, byte| all << 8 | u64::from(*byte));
            Some((Some(usize::try_from(length).ok()?), &rest[count..]))
        }
    }
}

/// Returns whether bytes begin a DER value that goes on behind their end.
pub(crate) fn is_cut(bytes: &[u8]) -> bool {
    let Some(tag) = tag(bytes).filter(|tag| *tag == [0x30]) else { return false };
    match length(&bytes[tag.len()..]) {
        Some((Some(length), rest)) => length > rest.len() && length < 1 << 32,
        Some((None, _)) => false,
        None => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_become_definite_and_pieces_are_joined() {
        let indefinite = [0x30, 0x80, 0x24, 0x80, 4, 1, b'a', 4, 1, b'b', 0, 0, 2, 1, 7, 0, 0, 0xff];
        assert_eq!(to_der(&indefinite).unwrap(), [0x30, 7, 4, 2, b'a', b'b', 2, 1, 7]);
        assert_eq!(to_der(&[0x30, 3, 2, 1, 7]), None, "it is DER already");
        for cut in 1..17 {
            assert_eq!(to_der(&indefinite[..cut]), None, "{cut}");
        }
        let deep = [0x30, 0x80].repeat(100_000);
        assert_eq!(to_der(&deep), None);
        assert!(is_cut(&[0x30, 0x82, 0x01]) && is_cut(&[0x30, 3, 2, 1]) && !is_cut(&[0x30, 3, 2, 1, 7]));
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(proptest::sample::select(vec![0x30, 0x80, 0x24, 4, 1, 0, 2, 0x82, 0x1f, 0xff]), 0..60)) {
            let _ = (to_der(&bytes), is_cut(&bytes));
        }
    }
}
