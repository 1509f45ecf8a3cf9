//! Takes in what an authority or a person hands over, in whatever shape: certificates, and keys beside them.

use crate::armour::{self, Block, bare_base64, text_of};
use crate::ber;
use crate::container::{self, ContainerError};
use crate::encoding::printable;
use crate::encrypted_key::exceeds_kdf_limit;
use crate::{Certificate, Fingerprint, PkiError, PrivateKey, Secret};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5911::ID_SIGNED_DATA;
use der::asn1::AnyRef;
use der::{Decode, Tagged};
use std::collections::BTreeSet;
use std::io::{Cursor, Read};

/// No more than this is taken in at once, unpacked: 64 MiB.
pub const LARGEST_INTAKE: usize = 64 << 20;
const MOST_FILES: usize = 10_000;
/// So many archives may be inside one another.
const DEEPEST: u8 = 3;

/// What was found.
#[derive(Debug, Default)]
pub struct Intake {
    /// The certificates, each once, in the order in which they were met.
    pub certificates: Vec<Certificate>,
    /// The private keys.
    pub keys: Vec<PrivateKey>,
    /// What was left aside.
    pub left_aside: Vec<LeftAside>,
    seen: BTreeSet<Fingerprint>,
}

/// Something that was brought and left aside.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LeftAside {
    /// A certificate that is there already.
    Duplicate {
        /// What it is for.
        title: String,
        /// Where it stood.
        file: String,
    },
    /// A file with neither certificate nor key.
    Other {
        /// The file.
        file: String,
    },
    /// Something that a password protects, and none was given.
    Locked {
        /// The file.
        file: String,
    },
    /// Something that the password does not open.
    WrongPassword {
        /// The file.
        file: String,
    },
    /// A beginning without its end.
    CutOff {
        /// The file.
        file: String,
    },
    /// A certificate, key or container that cannot be read.
    Unreadable {
        /// The file.
        file: String,
        /// What is wrong.
        what: String,
    },
    /// A PEM block of another kind.
    Block {
        /// The file.
        file: String,
        /// What it is called.
        label: String,
    },
    /// A certificate that the chain does not need.
    NotNeeded {
        /// What it is for.
        title: String,
    },
}

impl std::fmt::Display for LeftAside {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            LeftAside::Duplicate { title, file } => write!(f, "a second copy of `{title}` in {file}"),
            LeftAside::Other { file } => write!(f, "{file}"),
            LeftAside::Locked { file } => write!(f, "{file}: protected with a password"),
            LeftAside::WrongPassword { file } => write!(f, "{file}: the password does not open it"),
            LeftAside::CutOff { file } => write!(f, "{file}: cut off before its end"),
            LeftAside::Unreadable { file, what } => write!(f, "{file}: {what}"),
            LeftAside::Block { file, label } => write!(f, "{file}: a block `{label}`"),
            LeftAside::NotNeeded { title } => write!(f, "`{title}`, which this chain does not need"),
        }
    }
}

/// Why nothing could be taken in.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, thiserror::Error)]
pub enum IntakeError {
    /// Nothing was brought.
    #[error("there is no file in what was named")]
    Empty,
    /// Nothing that is a certificate or a key.
    #[error("there is no certificate in {0}")]
    Nothing(String),
    /// Something that cannot be read.
    #[error("{name} cannot be read: {what}")]
    Unreadable {
        /// Its name.
        name: String,
        /// What is wrong with it.
        what: String,
    },
    /// More than can be taken in.
    #[error("there is more in {0} than in any bundle of certificates")]
    TooMuch(String),
    /// A beginning without its end.
    #[error("{0} is cut off before its end")]
    CutOff(String),
    /// A password that does not open it.
    #[error("the password does not open {0}")]
    WrongPassword(String),
    /// A container that wants a password.
    #[error("{0} is protected with a password")]
    NeedsPassword(String),
}

impl Intake {
    /// Takes in several files; those that hold nothing of use are left aside.
    ///
    /// # Errors
    /// When none of them holds a certificate or a key: the [`IntakeError`] that says most.
    pub fn take_all<'f>(
        &mut self,
        files: impl IntoIterator<Item = (&'f str, &'f [u8])>,
        password: Option<&Secret<String>>,
    ) -> Result<(), IntakeError> {
        let mut worst = IntakeError::Empty;
        for (name, bytes) in files {
            if let Err(error) = self.take(name, bytes, password) {
                if matches!(error, IntakeError::Nothing(_) | IntakeError::TooMuch(_)) {
                    self.left_aside.push(LeftAside::Other { file: name.to_owned() });
                }
                worst = worst.max(error);
            }
        }
        if self.certificates.is_empty() && self.keys.is_empty() { Err(worst) } else { Ok(()) }
    }

    /// Returns what a password would open, or another one, of that which was left aside.
    pub fn encrypted(&self) -> Option<IntakeError> {
        self.left_aside.iter().find_map(|what| match what {
            LeftAside::Locked { file } => Some(IntakeError::NeedsPassword(file.clone())),
            LeftAside::WrongPassword { file } => Some(IntakeError::WrongPassword(file.clone())),
            _ => None,
        })
    }

    /// Takes in the bytes of a file, whatever they are: PEM with or without text around it, DER, base64 without its lines,
    /// PKCS#7 (RFC 5652) in BER too, PKCS#12 (RFC 7292), or a zip of such files. `name` is for messages; it decides nothing.
    ///
    /// # Errors
    /// An [`IntakeError`] when nothing in it is of use. What else is in it is left aside.
    pub fn take(&mut self, name: &str, bytes: &[u8], password: Option<&Secret<String>>) -> Result<(), IntakeError> {
        if bytes.len() > LARGEST_INTAKE {
            return Err(IntakeError::TooMuch(name.to_owned()));
        }
        let before = (self.certificates.len(), self.keys.len());
        let aside = self.left_aside.len();
        let mut left = LARGEST_INTAKE as u64;
        self.take_any(name, bytes, password, &mut left, DEEPEST)?;
        let new = &self.left_aside[aside..];
        let is_known = new.iter().any(|what| matches!(what, LeftAside::Duplicate { .. }));
        if (self.certificates.len(), self.keys.len()) != before || is_known {
            return Ok(());
        }
        let why = |what: &LeftAside| match what {
            LeftAside::Locked { file } => Some(IntakeError::NeedsPassword(file.clone())),
            LeftAside::WrongPassword { file } => Some(IntakeError::WrongPassword(file.clone())),
            LeftAside::CutOff { file } => Some(IntakeError::CutOff(file.clone())),
            LeftAside::Unreadable { file, what } => {
                Some(IntakeError::Unreadable { name: file.clone(), what: what.clone() })
            }
            _ => None,
        };
        Err(new.iter().filter_map(why).max().unwrap_or_else(|| IntakeError::Nothing(name.to_owned())))
    }

    /// Takes in a file or an archive; `left` is how much may still be unpacked, `depth` how many archives may be inside.
    fn take_any(
        &mut self,
        name: &str,
        bytes: &[u8],
        password: Option<&Secret<String>>,
        left: &mut u64,
        depth: u8,
    ) -> Result<(), IntakeError> {
        let Some(depth) = depth.checked_sub(1).filter(|_| bytes.starts_with(b"PK\x03\x04")) else {
            if !self.take_file(name, bytes, password) {
                self.left_aside.push(LeftAside::Other { file: name.to_owned() });
            }
            return Ok(());
        };
        let unreadable = |file: &str, what: String| LeftAside::Unreadable { file: file.to_owned(), what };
        let mut archive = match zip::ZipArchive::new(Cursor::new(bytes)) {
            Ok(archive) if archive.len() > MOST_FILES => return Err(IntakeError::TooMuch(name.to_owned())),
            Ok(archive) => archive,
            Err(error) => {
                self.left_aside.push(unreadable(name, error.to_string()));
                return Ok(());
            }
        };
        for index in 0..archive.len() {
            // Its name is only said, never written to.
            let said = archive
                .name_for_index(index)
                .and_then(Result::ok)
                .map_or_else(|| "a file".to_owned(), |said| printable(&said));
            let inner: String = format!("{name}: {said}").chars().take(300).collect();
            let file = match archive.by_index(index) {
                Ok(file) if !file.is_file() => continue,
                Ok(file) => file,
                Err(zip::result::ZipError::UnsupportedArchive(zip::result::ZipError::PASSWORD_REQUIRED)) => {
                    self.left_aside.push(LeftAside::Locked { file: inner });
                    continue;
                }
                Err(error) => {
                    self.left_aside.push(unreadable(&inner, error.to_string()));
                    continue;
                }
            };
            let mut content = Vec::new();
            let read = file.take(*left + 1).read_to_end(&mut content);
            *left = left.checked_sub(content.len() as u64).ok_or_else(|| IntakeError::TooMuch(name.to_owned()))?;
            match read {
                Ok(_) => self.take_any(&inner, &content, password, left, depth)?,
                Err(error) => self.left_aside.push(unreadable(&inner, error.to_string())),
            }
        }
        Ok(())
    }

    /// Takes in one file; false when there is nothing in it that was ever of this kind.
    fn take_file(&mut self, name: &str, bytes: &[u8], password: Option<&Secret<String>>) -> bool {
        if bytes.first() == Some(&0x30) {
            return self.take_der(name, bytes, password);
        }
        let text = text_of(bytes);
        let blocks = armour::blocks(&text);
        if !blocks.is_empty() {
            blocks.into_iter().for_each(|block| self.take_block(name, block, password));
            return true;
        }
        bare_base64(&text).is_some_and(|der| self.take_der(name, &der, password))
    }

    fn take_block(&mut self, name: &str, block: Block, password: Option<&Secret<String>>) {
        let file = || name.to_owned();
        let Block { label, bytes, is_cut, is_encrypted } = block;
        let is_certificate =
            matches!(&*label, "CERTIFICATE" | "X509 CERTIFICATE" | "TRUSTED CERTIFICATE" | "PKCS7" | "CMS");
        let is_key = label.ends_with("PRIVATE KEY");
        let aside = match bytes {
            _ if !is_certificate && !is_key => LeftAside::Block { file: file(), label: printable(&label) },
            _ if is_encrypted => LeftAside::Unreadable {
                file: file(),
                what: "a key that is encrypted in the old way; `openssl pkcs8 -topk8` makes it a new one".into(),
            },
            None if is_cut => LeftAside::CutOff { file: file() },
            None => LeftAside::Unreadable { file: file(), what: format!("a block `{label}` that is not base64") },
            Some(der) if is_certificate => {
                if self.take_der(name, &der, password) {
                    return;
                }
                match is_cut || ber::is_cut(&der) {
                    true => LeftAside::CutOff { file: file() },
                    false => LeftAside::Unreadable { file: file(), what: format!("a block `{label}` that is none") },
                }
            }
            Some(der) => match PrivateKey::from_block(&label, &der, password) {
                Some(Ok(key)) => return self.keys.push(key),
                Some(Err(PkiError::WrongPassword)) => LeftAside::WrongPassword { file: file() },
                Some(Err(PkiError::EncryptedKey)) => LeftAside::Locked { file: file() },
                Some(Err(_)) if is_cut || ber::is_cut(&der) => LeftAside::CutOff { file: file() },
                Some(Err(error)) => LeftAside::Unreadable { file: file(), what: error.to_string() },
                None => LeftAside::Unreadable { file: file(), what: "a key of an unknown kind".into() },
            },
        };
        self.left_aside.push(aside);
    }

    fn take_der(&mut self, name: &str, der: &[u8], password: Option<&Secret<String>>) -> bool {
        if let Ok(certificate) = Certificate::from_der(whole(der)) {
            self.add(name, certificate);
            return true;
        }
        let bag = pkcs7(whole(der));
        let definite = if bag.is_none() { ber::to_der(der) } else { None };
        let der = definite.as_deref().unwrap_or(der);
        if let Some(certificates) = bag.or_else(|| pkcs7(definite.as_deref()?)) {
            certificates.into_iter().for_each(|certificate| self.add(name, certificate));
            return true;
        }
        if ber::is_cut(der) {
            self.left_aside.push(LeftAside::CutOff { file: name.to_owned() });
            return true;
        }
        if is_pkcs12(der) {
            self.take_pkcs12(name, whole(der), password);
            return true;
        }
        false
    }

    fn take_pkcs12(&mut self, name: &str, der: &[u8], password: Option<&Secret<String>>) {
        let file = || name.to_owned();
        if exceeds_kdf_limit(der) {
            let what = "checking its password would take too long (more than a million rounds)".to_owned();
            return self.left_aside.push(LeftAside::Unreadable { file: file(), what });
        }
        let word = password.map_or("", |p| p.reveal().as_str());
        let unreadable = |what| LeftAside::Unreadable { file: file(), what };
        let opened = match container::open(der, word) {
            Ok(opened) => opened,
            Err(error) => {
                return self.left_aside.push(match error {
                    ContainerError::WrongPassword if password.is_none() => LeftAside::Locked { file: file() },
                    ContainerError::WrongPassword => LeftAside::WrongPassword { file: file() },
                    ContainerError::Unknown(how) => {
                        unreadable(format!("it is encrypted in a way that is not known here ({how})"))
                    }
                    ContainerError::Damaged(error) => unreadable(error.to_string()),
                });
            }
        };
        for der in &opened.certificates {
            match Certificate::from_der(der) {
                Ok(certificate) => self.add(name, certificate),
                Err(error) => self.left_aside.push(unreadable(error.to_string())),
            }
        }
        for der in &opened.keys {
            match PrivateKey::from_pkcs8_der(der) {
                Ok(key) => self.keys.push(key),
                Err(error) => self.left_aside.push(unreadable(error.to_string())),
            }
        }
    }

    fn add(&mut self, name: &str, certificate: Certificate) {
        if self.seen.insert(certificate.fingerprint()) {
            self.certificates.push(certificate);
        } else {
            let title = certificate.title();
            self.left_aside.push(LeftAside::Duplicate { title, file: name.to_owned() });
        }
    }
}

/// Returns the first DER value of some bytes: line ends behind it are no part of it.
fn whole(bytes: &[u8]) -> &[u8] {
    let mut reader = match der::SliceReader::new(bytes) {
        Ok(reader) => reader,
        Err(_) => return bytes,
    };
    use der::Reader;
    reader.tlv_bytes().unwrap_or(bytes)
}

/// Returns the certificates of a PKCS#7 bag (RFC 5652) in DER or base64, in the order in which it has them; `None` when it is
/// none.
pub fn parse_pkcs7(bytes: &[u8]) -> Option<Vec<Certificate>> {
    if bytes.first() == Some(&0x30) { pkcs7(whole(bytes)) } else { pkcs7(&bare_base64(&text_of(bytes))?) }
}

/// Takes the bag apart by hand: a set of ten thousand certificates is not put in order again for being read (RFC 5652 section 5.1).
fn pkcs7(der: &[u8]) -> Option<Vec<Certificate>> {
    use der::Reader;
    let inside = |der| AnyRef::from_der(der).ok().filter(|any| any.tag().is_constructed()).map(|any| any.value());
    let mut info = der::SliceReader::new(inside(der)?).ok()?;
    ObjectIdentifier::decode(&mut info).ok().filter(|kind| *kind == ID_SIGNED_DATA)?;
    let signed = inside(inside(info.tlv_bytes().ok()?)?)?;
    let mut parts = der::SliceReader::new(signed).ok()?;
    let mut found = Vec::new();
    while !parts.is_finished() {
        let part = parts.tlv_bytes().ok()?;
        // The certificates are the part with the tag [0].
        if part.first() != Some(&0xa0) {
            continue;
        }
        let mut set = der::SliceReader::new(inside(part)?).ok()?;
        while !set.is_finished() {
            found.extend(Certificate::from_der(set.tlv_bytes().ok()?));
        }
    }
    Some(found)
}

/// RFC 7292 section 4: a sequence that begins with the version 3.
fn is_pkcs12(der: &[u8]) -> bool {
    let head = match der.get(1) {
        Some(length) if *length < 0x80 => 2,
        Some(length) => 2 + usize::from(length & 0x7f),
        None => return false,
    };
    der.get(head..head + 3) == Some(&[2, 1, 3])
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn any_bytes_are_taken_in_or_refused(head in 0..5_usize, body in proptest::collection::vec(0..=255_u8, 0..200)) {
            let heads: [&[u8]; 5] = [b"", b"PK\x03\x04", b"\x30\x82\x01\x00\x02\x01\x03", b"-----BEGIN CERTIFICATE-----\n", b"\xff\xfe"];
            let bytes = [heads[head], &body].concat();
            let mut intake = Intake::default();
            let taken = intake.take("noise", &bytes, None);
            proptest::prop_assert!(taken.is_err() || !intake.certificates.is_empty());
        }
    }

    #[test]
    fn an_archive_that_swells_is_refused_before_it_fills_the_memory() {
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        let options = zip::write::SimpleFileOptions::default();
        let nothing = vec![0; 1 << 20];
        zip.start_file("swells", options).unwrap();
        for _ in 0..=(LARGEST_INTAKE >> 20) {
            std::io::Write::write_all(&mut zip, &nothing).unwrap();
        }
        let bytes = zip.finish().unwrap().into_inner();
        assert!(bytes.len() < 1 << 20);
        let refused = Intake::default().take("big.zip", &bytes, None);
        assert_eq!(refused, Err(IntakeError::TooMuch("big.zip".into())));
    }
}
