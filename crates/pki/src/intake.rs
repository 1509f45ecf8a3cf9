//! Takes in what an authority or a person hands over, in whatever shape: certificates, and keys beside them.

use crate::chain::pem_blocks_lenient;
use crate::locked::costs_too_much;
use crate::{Certificate, Fingerprint, PkiError, PrivateKey, Secret};
use base64::Engine;
use cms::cert::CertificateChoices;
use cms::content_info::ContentInfo;
use cms::signed_data::SignedData;
use const_oid::db::rfc5911::ID_SIGNED_DATA;
use der::{Decode, Encode};
use p12_keystore::Pkcs12Archive;
use std::collections::BTreeSet;
use std::io::{Cursor, Read};

/// No more than this is taken in at once, unpacked: 64 MiB.
pub const LARGEST_INTAKE: usize = 64 << 20;
const MOST_FILES: usize = 10_000;

/// What was found.
#[derive(Debug, Default)]
pub struct Intake {
    /// The certificates, each once, in the order in which they were met.
    pub certificates: Vec<Certificate>,
    /// The private keys.
    pub keys: Vec<PrivateKey>,
    /// What was passed over, in words.
    pub passed_over: Vec<String>,
    seen: BTreeSet<Fingerprint>,
}

/// Why nothing could be taken in.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum IntakeError {
    /// Nothing that is a certificate or a key.
    #[error("there is no certificate in {0}")]
    Nothing(String),
    /// A container that wants a password.
    #[error("{0} is protected with a password")]
    NeedsPassword(String),
    /// A password that does not open it.
    #[error("the password does not open {0}")]
    WrongPassword(String),
    /// More than can be taken in.
    #[error("there is more in {0} than in any bundle of certificates")]
    TooMuch(String),
    /// An archive that cannot be read.
    #[error("{name} cannot be unpacked: {what}")]
    Archive {
        /// Its name.
        name: String,
        /// What is wrong with it.
        what: String,
    },
}

impl Intake {
    /// Takes in the bytes of a file, whatever they are: PEM with or without text around it, DER, base64 without its lines,
    /// PKCS#7 (RFC 5652), PKCS#12 (RFC 7292), or a zip of such files. `name` is for messages; it decides nothing.
    ///
    /// # Errors
    /// An [`IntakeError`]. What is in a file beside certificates and keys is passed over and noted.
    pub fn take(&mut self, name: &str, bytes: &[u8], password: Option<&Secret<String>>) -> Result<(), IntakeError> {
        if bytes.len() > LARGEST_INTAKE {
            return Err(IntakeError::TooMuch(name.to_owned()));
        }
        let before = (self.certificates.len(), self.keys.len());
        let known = self.duplicates();
        if bytes.starts_with(b"PK\x03\x04") {
            self.take_zip(name, bytes, password)?;
        } else {
            self.take_file(name, bytes, password)?;
        }
        if (self.certificates.len(), self.keys.len()) == before && self.duplicates() == known {
            return Err(IntakeError::Nothing(name.to_owned()));
        }
        Ok(())
    }

    fn duplicates(&self) -> usize {
        self.passed_over.iter().filter(|text| text.starts_with(DUPLICATE)).count()
    }

    fn take_zip(&mut self, name: &str, bytes: &[u8], password: Option<&Secret<String>>) -> Result<(), IntakeError> {
        let fail = |e: &dyn std::fmt::Display| IntakeError::Archive { name: name.to_owned(), what: e.to_string() };
        let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|e| fail(&e))?;
        if archive.len() > MOST_FILES {
            return Err(IntakeError::TooMuch(name.to_owned()));
        }
        let mut left = LARGEST_INTAKE as u64;
        for index in 0..archive.len() {
            let file = archive.by_index(index).map_err(|e| fail(&e))?;
            if !file.is_file() {
                continue;
            }
            // Its name is only said, never written to.
            let inner = file.name().map_or_else(|_| "a file".to_owned(), |inner| printable(&inner));
            let inner = format!("{name}: {inner}");
            let mut content = Vec::new();
            file.take(left + 1).read_to_end(&mut content).map_err(|e| fail(&e))?;
            left = left.checked_sub(content.len() as u64).ok_or_else(|| IntakeError::TooMuch(name.to_owned()))?;
            match self.take_file(&inner, &content, password) {
                Ok(()) => {}
                Err(IntakeError::Nothing(_)) => self.passed_over.push(inner),
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    fn take_file(&mut self, name: &str, bytes: &[u8], password: Option<&Secret<String>>) -> Result<(), IntakeError> {
        if bytes.first() == Some(&0x30) {
            return self.take_der(name, bytes, password);
        }
        let text = text_of(bytes);
        if text.contains("-----BEGIN ") {
            return self.take_pem(name, &text, password);
        }
        match bare_base64(&text) {
            Some(der) => self.take_der(name, &der, password),
            None => Err(IntakeError::Nothing(name.to_owned())),
        }
    }

    fn take_pem(&mut self, name: &str, text: &str, password: Option<&Secret<String>>) -> Result<(), IntakeError> {
        let (mut found, mut locked) = (false, false);
        for (label, der) in pem_blocks_lenient(text) {
            match label.as_str() {
                "CERTIFICATE" | "X509 CERTIFICATE" | "TRUSTED CERTIFICATE" | "PKCS7" | "CMS" => {
                    found |= self.take_der(name, &der, password).is_ok();
                }
                label if label.ends_with("PRIVATE KEY") => match PrivateKey::from_block(label, &der, password) {
                    Some(Ok(key)) => {
                        self.keys.push(key);
                        found = true;
                    }
                    Some(Err(PkiError::WrongPassword)) => return Err(IntakeError::WrongPassword(name.to_owned())),
                    Some(Err(PkiError::EncryptedKey)) => {
                        locked = true;
                        self.passed_over.push(format!("{name}: a key that is protected with a password"));
                    }
                    Some(Err(error)) => self.passed_over.push(format!("{name}: {error}")),
                    None => self.passed_over.push(format!("{name}: a key of an unknown kind")),
                },
                other => self.passed_over.push(format!("{name}: a block `{}`", printable(other))),
            }
        }
        match (found, locked) {
            (true, _) => Ok(()),
            (false, true) => Err(IntakeError::NeedsPassword(name.to_owned())),
            (false, false) => Err(IntakeError::Nothing(name.to_owned())),
        }
    }

    fn take_der(&mut self, name: &str, der: &[u8], password: Option<&Secret<String>>) -> Result<(), IntakeError> {
        if let Ok(certificate) = Certificate::from_der(whole(der)) {
            self.add(name, certificate);
            return Ok(());
        }
        if let Some(certificates) = pkcs7(whole(der)) {
            certificates.into_iter().for_each(|certificate| self.add(name, certificate));
            return Ok(());
        }
        if is_pkcs12(der) {
            return self.take_pkcs12(name, whole(der), password);
        }
        Err(IntakeError::Nothing(name.to_owned()))
    }

    fn take_pkcs12(&mut self, name: &str, der: &[u8], password: Option<&Secret<String>>) -> Result<(), IntakeError> {
        if costs_too_much(der) {
            return Err(IntakeError::TooMuch(name.to_owned()));
        }
        let word = password.map_or("", |p| p.reveal().as_str());
        let archive = Pkcs12Archive::from_pkcs12(der, word).map_err(|_| match password {
            None => IntakeError::NeedsPassword(name.to_owned()),
            Some(_) => IntakeError::WrongPassword(name.to_owned()),
        })?;
        for bag in &archive.certs {
            match Certificate::from_der(bag.cert.as_der()) {
                Ok(certificate) => self.add(name, certificate),
                Err(error) => self.passed_over.push(format!("{name}: {error}")),
            }
        }
        for bag in &archive.keys {
            match PrivateKey::from_pkcs8_der(bag.key.as_der()) {
                Ok(key) => self.keys.push(key),
                Err(error) => self.passed_over.push(format!("{name}: {error}")),
            }
        }
        Ok(())
    }

    fn add(&mut self, name: &str, certificate: Certificate) {
        if self.seen.insert(certificate.fingerprint()) {
            self.certificates.push(certificate);
        } else {
            self.passed_over.push(format!("{DUPLICATE} `{}` in {name}", certificate.title()));
        }
    }
}

const DUPLICATE: &str = "a second copy of";

/// Decodes the body of a PEM block that was copied without its first and last line.
pub(crate) fn bare_base64(text: &str) -> Option<Vec<u8>> {
    let bare: String = text.chars().filter(|c| !c.is_whitespace()).collect();
    base64::engine::general_purpose::STANDARD.decode(&bare).ok().filter(|der| der.first() == Some(&0x30))
}

/// Reads text in UTF-8 or UTF-16, with or without a byte-order mark.
pub(crate) fn text_of(bytes: &[u8]) -> String {
    let wide = |from: fn([u8; 2]) -> u16| {
        let units: Vec<u16> = bytes[2..].chunks_exact(2).map(|pair| from([pair[0], pair[1]])).collect();
        String::from_utf16_lossy(&units)
    };
    match bytes {
        [0xff, 0xfe, ..] => wide(u16::from_le_bytes),
        [0xfe, 0xff, ..] => wide(u16::from_be_bytes),
        _ => String::from_utf8_lossy(bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes)).into_owned(),
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
pub fn read_pkcs7(bytes: &[u8]) -> Option<Vec<Certificate>> {
    if bytes.first() == Some(&0x30) { pkcs7(whole(bytes)) } else { pkcs7(&bare_base64(&text_of(bytes))?) }
}

fn pkcs7(der: &[u8]) -> Option<Vec<Certificate>> {
    let info = ContentInfo::from_der(der).ok().filter(|info| info.content_type == ID_SIGNED_DATA)?;
    let signed: SignedData = info.content.decode_as().ok()?;
    let certificate = |choice: &CertificateChoices| match choice {
        CertificateChoices::Certificate(c) => Certificate::from_der(&c.to_der().ok()?).ok(),
        CertificateChoices::Other(_) => None,
    };
    Some(signed.certificates.iter().flat_map(|set| set.0.iter()).filter_map(certificate).collect())
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

fn printable(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(120).collect()
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
