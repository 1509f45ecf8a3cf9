//! What a server of TLS 1.3 says once everything is encrypted, up to its certificates; whoever has the keys has opened it.

use crate::Malformed;
use crate::server::{MOST_BYTES, Reader};

/// What a server of TLS 1.3 shows (RFC 8446 section 4.4.2).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Shown {
    /// Its certificates, the leaf first, in DER.
    pub certificates: Vec<Vec<u8>>,
    /// The answer stapled to the leaf, in DER; empty for none.
    pub staple: Vec<u8>,
    /// The promises of logs about the leaf (RFC 6962 section 3.3.1); empty for none.
    pub log_proofs: Vec<u8>,
}

/// Reads the messages of the handshake as they come.
#[derive(Debug, Default)]
pub struct EncryptedReader(Vec<u8>);

impl EncryptedReader {
    /// Takes what has come; returns what is shown once it is there.
    ///
    /// # Errors
    /// When it is no such handshake, or without an end.
    pub fn take(&mut self, content: &[u8]) -> Result<Option<Shown>, Malformed> {
        self.0.extend_from_slice(content);
        if self.0.len() > MOST_BYTES {
            return Err(Malformed);
        }
        loop {
            let Some(head) = self.0.first_chunk::<4>() else { return Ok(None) };
            let (kind, length) = (head[0], u32::from_be_bytes([0, head[1], head[2], head[3]]));
            let end = 4 + usize::try_from(length).map_err(|_| Malformed)?;
            let Some(body) = self.0.get(4..end) else { return Ok(None) };
            match kind {
                11 => return shown(body).ok_or(Malformed).map(Some),
                // Extensions, and the wish for a visitor's certificate.
                8 | 13 => drop(self.0.drain(..end)),
                _ => return Err(Malformed),
            }
        }
    }
}

fn shown(body: &[u8]) -> Option<Shown> {
    let mut reader = Reader(body);
    reader.block::<1>()?;
    let mut entries = Reader(reader.block::<3>()?);
    let mut shown = Shown::default();
    while !entries.0.is_empty() {
        let certificate = entries.block::<3>()?.to_vec();
        let mut extensions = Reader(entries.block::<2>()?);
        while !extensions.0.is_empty() {
            let (kind, content) = (extensions.number()?, extensions.block::<2>()?);
            match kind {
                _ if !shown.certificates.is_empty() => {}
                5 => shown.staple = Reader(content).skip(1)?.block::<3>()?.to_vec(),
                18 => shown.log_proofs = content.to_vec(),
                _ => {}
            }
        }
        shown.certificates.push(certificate);
    }
    Some(shown)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn message(kind: u8, body: &[u8]) -> Vec<u8> {
        let length = u32::try_from(body.len()).unwrap().to_be_bytes();
        [&[kind][..], &length[1..], body].concat()
    }

    #[test]
    fn a_leaf_comes_with_an_answer_and_with_promises() {
        let extensions = [&[0, 5, 0, 5, 1, 0, 0, 1, 0xcc][..], &[0, 18, 0, 2, 7, 8], &[0, 99, 0, 0]].concat();
        let leaf = [&[0, 0, 2, 0xaa, 0xbb, 0, 19][..], &extensions].concat();
        let other = [0, 0, 1, 0xdd, 0, 6, 0, 18, 0, 2, 9, 9];
        let entries = [&leaf[..], &other].concat();
        let length = u8::try_from(entries.len()).unwrap();
        let certificates = message(11, &[&[0, 0, 0, length][..], &entries].concat());
        let all = [message(8, &[0, 0]), message(13, &[0, 0, 0]), certificates].concat();
        for size in [1, 5, 500] {
            let mut reader = EncryptedReader::default();
            let found = all.chunks(size).find_map(|part| reader.take(part).unwrap());
            let wanted =
                Shown { certificates: vec![vec![0xaa, 0xbb], vec![0xdd]], staple: vec![0xcc], log_proofs: vec![7, 8] };
            assert_eq!(found, Some(wanted), "{size}");
        }
        for noise in [message(20, &[]), message(11, &[0, 0, 0, 9]), message(11, &[1])] {
            assert_eq!(EncryptedReader::default().take(&noise), Err(Malformed), "{noise:?}");
        }
        let mut endless = EncryptedReader::default();
        assert!((0..100).any(|_| endless.take(&message(11, &[0; 4096])[..4000]).is_err()), "there is an end");
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(0..=255_u8, 0..200)) {
            let _ = EncryptedReader::default().take(&bytes);
            let _ = EncryptedReader::default().take(&message(11, &bytes));
        }
    }
}
