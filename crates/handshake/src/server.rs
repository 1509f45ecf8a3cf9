//! What a server answers, up to where it waits for the visitor.

use crate::{Exchange, Group, Suite, Version};

/// No server says more before it waits: long chains are a few kilobytes.
pub(crate) const MOST_BYTES: usize = 256 * 1024;
/// The random number of a server that wants another key (RFC 8446 section 4.1.3).
const RETRY: [u8; 32] = [
    0xcf, 0x21, 0xad, 0x74, 0xe5, 0x9a, 0x61, 0x11, 0xbe, 0x1d, 0x8c, 0x02, 0x1e, 0x65, 0xb8, 0x91, 0xc2, 0xa2, 0x11,
    0x16, 0x7a, 0xbb, 0x8c, 0x5e, 0x07, 0x9e, 0x09, 0xe2, 0xc8, 0xa8, 0x33, 0x9c,
];

/// What is no answer of a TLS server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("what it answers is not TLS")]
pub struct Malformed;

/// What a server has chosen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServerHello {
    /// The version.
    pub version: Version,
    /// The cipher suite.
    pub suite: Suite,
    /// The group that it wants a key of (TLS 1.3).
    pub group: Option<Group>,
    /// The way to compress; 0 for none.
    pub compression: u8,
    /// Whether it would know the session again by a number.
    pub has_session: bool,
    /// The extensions that it answers with, by their numbers.
    extensions: Vec<(u16, Vec<u8>)>,
    /// The message as it came, with its head.
    message: Vec<u8>,
}

impl ServerHello {
    fn extension(&self, kind: u16) -> Option<&[u8]> {
        self.extensions.iter().find(|(found, _)| *found == kind).map(|(_, content)| content.as_slice())
    }

    fn has(&self, kind: u16) -> bool {
        self.extension(kind).is_some()
    }

    /// The promises of logs that it sends along before TLS 1.3 (RFC 6962 section 3.3.1); empty for none.
    pub fn log_proofs(&self) -> &[u8] {
        self.extension(18).unwrap_or_default()
    }

    /// Its key in the group, in TLS 1.3; `None` when it wants another one first.
    pub fn share(&self) -> Option<&[u8]> {
        Reader(self.extension(51)?).skip(2)?.block::<2>()
    }

    /// The message as it came, with its head: keys depend on it.
    pub fn message(&self) -> &[u8] {
        &self.message
    }

    /// Whether it renegotiates in a safe way (RFC 5746).
    pub fn renegotiates_safely(&self) -> bool {
        self.has(0xff01)
    }

    /// Whether the secrets are bound to the whole handshake (RFC 7627).
    pub fn has_extended_secret(&self) -> bool {
        self.has(23)
    }

    /// Whether it gives tickets to resume with (RFC 5077).
    pub fn gives_tickets(&self) -> bool {
        self.has(35)
    }
}

/// The server's part of the agreement on a key, before TLS 1.3.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyExchange {
    /// On a curve.
    Curve(Group),
    /// Diffie-Hellman with a prime of so many bits.
    Prime(usize),
}

/// What a server said before it waited.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Flight {
    /// What it has chosen; `None` when it refuses.
    pub hello: Option<ServerHello>,
    /// Its certificates, the leaf first, in DER; none in TLS 1.3, where they are encrypted.
    pub certificates: Vec<Vec<u8>>,
    /// The stapled answer, in DER.
    pub staple: Vec<u8>,
    /// Its part of the agreement.
    pub key_exchange: Option<KeyExchange>,
    /// The algorithm that it has signed that with (RFC 5246 section 7.4.1.4.1).
    pub signature: Option<u16>,
    /// The alert that it sent (RFC 8446 section 6), where it did.
    pub alert: Option<u8>,
}

/// The five bytes that a record begins with.
pub type RecordHead = [u8; 5];

/// Takes a record from the front of bytes: its head and its content; `None` while it is not whole.
///
/// # Errors
/// When it is none.
pub fn take_record(bytes: &mut Vec<u8>) -> Result<Option<(RecordHead, Vec<u8>)>, Malformed> {
    let Some(head) = bytes.first_chunk::<5>().copied() else { return Ok(None) };
    let length = usize::from(u16::from_be_bytes([head[3], head[4]]));
    if !(20..=23).contains(&head[0]) || head[1] != 3 || length > (1 << 14) + 2048 {
        return Err(Malformed);
    }
    if bytes.len() < 5 + length {
        return Ok(None);
    }
    Ok(Some((head, bytes.drain(..5 + length).skip(5).collect())))
}

/// Reads a server's answer as it comes.
#[derive(Debug, Default)]
pub struct ServerReader {
    records: Vec<u8>,
    messages: Vec<u8>,
    taken: usize,
    flight: Flight,
    is_done: bool,
}

impl ServerReader {
    /// Takes what has come. Returns whether the server has said all that it says before it waits.
    ///
    /// # Errors
    /// When it is no TLS, or without an end.
    pub fn take(&mut self, bytes: &[u8]) -> Result<bool, Malformed> {
        self.taken += bytes.len();
        if self.taken > MOST_BYTES {
            return Err(Malformed);
        }
        self.records.extend_from_slice(bytes);
        while !self.is_done {
            let Some((head, content)) = take_record(&mut self.records)? else { break };
            match head[0] {
                21 => {
                    // A warning is followed by something.
                    let [level, alert] = content[..] else { return Err(Malformed) };
                    if level != 1 || alert == 0 {
                        self.flight.alert = Some(alert);
                        self.is_done = true;
                    }
                }
                22 => {
                    self.messages.extend(content);
                    self.take_messages()?;
                }
                // What follows is encrypted.
                _ => self.is_done = true,
            }
        }
        Ok(self.is_done)
    }

    /// Returns what was said.
    pub fn finish(self) -> Flight {
        self.flight
    }

    /// Returns what was said, and the bytes that came behind it.
    pub fn finish_with_rest(self) -> (Flight, Vec<u8>) {
        (self.flight, self.records)
    }

    fn take_messages(&mut self) -> Result<(), Malformed> {
        while !self.is_done {
            let Some(head) = self.messages.first_chunk::<4>() else { break };
            let (kind, length) = (head[0], u32::from_be_bytes([0, head[1], head[2], head[3]]));
            let length = usize::try_from(length).map_err(|_| Malformed)?;
            if self.messages.len() < 4 + length {
                break;
            }
            let message: Vec<u8> = self.messages.drain(..4 + length).collect();
            let body = &message[4..];
            let read = match kind {
                2 => self.take_hello(&message),
                11 => self.take_certificates(body),
                12 => self.take_key_exchange(body),
                22 => Reader(body).skip(1).and_then(|mut reader| reader.block::<3>()).map(|staple| {
                    self.flight.staple = staple.to_vec();
                }),
                14 => {
                    self.is_done = true;
                    Some(())
                }
                _ => Some(()),
            };
            read.ok_or(Malformed)?;
            if kind == 2 && self.flight.hello.as_ref().is_some_and(|hello| hello.version == Version::Tls13) {
                self.is_done = true;
            }
        }
        Ok(())
    }

    fn take_hello(&mut self, message: &[u8]) -> Option<()> {
        let mut reader = Reader(message).skip(4)?;
        let named = reader.number()?;
        let random = reader.bytes(32)?;
        let session = reader.block::<1>()?;
        let suite = Suite(reader.number()?);
        let compression = *reader.bytes(1)?.first()?;
        let mut extensions = Vec::new();
        if !reader.0.is_empty() {
            let mut inner = Reader(reader.block::<2>()?);
            while !inner.0.is_empty() {
                extensions.push((inner.number()?, inner.block::<2>()?.to_vec()));
            }
        }
        let of = |kind: u16| extensions.iter().find(|(found, _)| *found == kind).map(|(_, content)| content.as_slice());
        let number = |content: &[u8]| content.first_chunk::<2>().map(|bytes| u16::from_be_bytes(*bytes));
        let version = Version::from_code(of(43).and_then(number).unwrap_or(named))?;
        let is_retry = random == RETRY;
        let group = of(51).and_then(number).filter(|_| is_retry || version == Version::Tls13).map(Group);
        let has_session = !session.is_empty() && version < Version::Tls13;
        let message = message.to_vec();
        self.flight.hello = Some(ServerHello { version, suite, group, compression, has_session, extensions, message });
        Some(())
    }

    fn take_certificates(&mut self, body: &[u8]) -> Option<()> {
        let mut all = Reader(Reader(body).block::<3>()?);
        while !all.0.is_empty() {
            self.flight.certificates.push(all.block::<3>()?.to_vec());
        }
        Some(())
    }

    fn take_key_exchange(&mut self, body: &[u8]) -> Option<()> {
        let hello = self.flight.hello.as_ref()?;
        let mut reader = Reader(body);
        let exchange = match hello.suite.exchange() {
            Exchange::Ecdhe => {
                // A curve by its name; others were never in use.
                if reader.bytes(1)? != [3] {
                    return Some(());
                }
                let group = Group(reader.number()?);
                reader.block::<1>()?;
                KeyExchange::Curve(group)
            }
            Exchange::Dhe => {
                let prime = reader.block::<2>()?;
                reader.block::<2>()?;
                reader.block::<2>()?;
                let zeros = prime.iter().take_while(|byte| **byte == 0).count();
                let first = prime.get(zeros).map_or(0, |byte| byte.leading_zeros());
                KeyExchange::Prime((prime.len() - zeros) * 8 - usize::try_from(first).ok()?)
            }
            Exchange::Separate | Exchange::Static => return Some(()),
        };
        self.flight.key_exchange = Some(exchange);
        if hello.version == Version::Tls12 && !hello.suite.is_anonymous() {
            self.flight.signature = Some(reader.number()?);
        }
        Some(())
    }
}

/// Reads numbers and blocks from the front.
pub(crate) struct Reader<'a>(pub(crate) &'a [u8]);

impl<'a> Reader<'a> {
    fn bytes(&mut self, count: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.0.split_at_checked(count)?;
        self.0 = rest;
        Some(taken)
    }

    pub(crate) fn skip(mut self, count: usize) -> Option<Self> {
        self.bytes(count).map(|_| self)
    }

    pub(crate) fn number(&mut self) -> Option<u16> {
        self.bytes(2).map(|bytes| u16::from_be_bytes([bytes[0], bytes[1]]))
    }

    /// Reads what stands behind a length of `N` bytes.
    pub(crate) fn block<const N: usize>(&mut self) -> Option<&'a [u8]> {
        let length = self.bytes(N)?.iter().fold(0, |length, byte| length << 8 | usize::from(*byte));
        self.bytes(length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(kind: u8, content: &[u8]) -> Vec<u8> {
        let length = u16::try_from(content.len()).unwrap().to_be_bytes();
        [&[kind, 3, 3][..], &length, content].concat()
    }

    fn message(kind: u8, body: &[u8]) -> Vec<u8> {
        let length = u32::try_from(body.len()).unwrap().to_be_bytes();
        [&[kind][..], &length[1..], body].concat()
    }

    fn hello(version: u16, random: [u8; 32], suite: u16, extensions: &[u8]) -> Vec<u8> {
        let length = u16::try_from(extensions.len()).unwrap().to_be_bytes();
        let head = [&version.to_be_bytes()[..], &random, &[0], &suite.to_be_bytes(), &[0]].concat();
        message(2, &[&head[..], &length, extensions].concat())
    }

    #[test]
    fn a_server_of_tls_1_2_says_everything_in_the_clear() {
        let renegotiation = [0xff, 0x01, 0, 1, 0];
        let curve = [&[3, 0, 29, 2, 7, 7][..], &[0x04, 0x03, 0, 1, 9]].concat();
        let messages = [
            hello(0x0303, [7; 32], 0xc02b, &renegotiation),
            message(11, &[0, 0, 5, 0, 0, 2, 0xaa, 0xbb]),
            message(22, &[1, 0, 0, 1, 0xcc]),
            message(12, &curve),
            message(14, &[]),
        ]
        .concat();
        // Cut into records and reads of every size.
        for size in [1, 3, 50, 4096] {
            let records: Vec<u8> = messages.chunks(17).flat_map(|part| record(22, part)).collect();
            let mut reader = ServerReader::default();
            let done = records.chunks(size).map(|part| reader.take(part).unwrap()).filter(|done| *done).count();
            assert!(done >= 1, "{size}");
            let flight = reader.finish();
            let hello = flight.hello.unwrap();
            assert!(hello.renegotiates_safely() && !hello.gives_tickets());
            assert_eq!((hello.version, hello.suite), (Version::Tls12, Suite(0xc02b)));
            assert_eq!((flight.certificates, flight.staple), (vec![vec![0xaa, 0xbb]], vec![0xcc]));
            assert_eq!((flight.key_exchange, flight.signature), (Some(KeyExchange::Curve(Group(29))), Some(0x0403)));
        }
    }

    #[test]
    fn a_server_of_tls_1_3_names_the_group_that_it_would_like() {
        let extensions = [0, 43, 0, 2, 3, 4, 0, 51, 0, 2, 0x11, 0xec];
        let mut reader = ServerReader::default();
        assert!(reader.take(&record(22, &hello(0x0303, RETRY, 0x1301, &extensions))).unwrap());
        let hello = reader.finish().hello.unwrap();
        assert_eq!((hello.version, hello.group), (Version::Tls13, Some(Group(0x11ec))));
        assert!(hello.group.unwrap().is_post_quantum());
    }

    #[test]
    fn primes_alerts_and_noise() {
        for (prime, bits) in [(&[0x80, 0][..], 16), (&[0, 0x01, 0][..], 9), (&[][..], 0)] {
            let length = u16::try_from(prime.len()).unwrap().to_be_bytes();
            let exchange = [&length[..], prime, &[0, 1, 2, 0, 1, 5, 4, 1]].concat();
            let messages = [hello(0x0303, [7; 32], 0x0033, &[]), message(12, &exchange)].concat();
            let mut reader = ServerReader::default();
            assert!(!reader.take(&record(22, &messages)).unwrap());
            assert_eq!(reader.finish().key_exchange, Some(KeyExchange::Prime(bits)));
        }
        let mut reader = ServerReader::default();
        assert!(!reader.take(&record(21, &[1, 112])).unwrap(), "a warning is followed by something");
        assert!(reader.take(&record(21, &[2, 70])).unwrap());
        assert_eq!(reader.finish().alert, Some(70));
        for noise in [&b"HTTP/1.1 400 Bad Request"[..], &[22, 3, 1, 0xff, 0xff], &record(21, &[1])] {
            assert_eq!(ServerReader::default().take(noise), Err(Malformed), "{noise:?}");
        }
        let mut endless = ServerReader::default();
        assert!((0..200).any(|_| endless.take(&record(22, &[0; 4096])).is_err()), "there is an end");
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(0..=255_u8, 0..200)) {
            let _ = ServerReader::default().take(&bytes);
            let _ = ServerReader::default().take(&record(22, &message(2, &bytes)));
        }
    }
}
