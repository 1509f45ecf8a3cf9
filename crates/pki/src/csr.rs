//! Certificate signing requests (PKCS#10, RFC 2986).

use crate::certificate::{SignatureCheck, TLS_FEATURE, names_of, verify};
use crate::encoding::{hex, pem, printable, tlv};
use crate::key_use::KeyUse;
use crate::names::{Identifier, SubjectName};
use crate::{PkiError, PrivateKey, der_error};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::{ID_CE_BASIC_CONSTRAINTS, ID_CE_EXT_KEY_USAGE, ID_CE_KEY_USAGE, ID_CE_SUBJECT_ALT_NAME};
use const_oid::db::rfc5912::ID_EXTENSION_REQ;
use der::asn1::{Any, BitString};
use der::flagset::FlagSet;
use der::{Decode, Encode, Tag};
use spki::DynSignatureAlgorithmIdentifier;
use std::net::IpAddr;
use x509_cert::attr::AttributeTypeAndValue;
use x509_cert::builder::{Builder, RequestBuilder};
use x509_cert::ext::pkix::{ExtendedKeyUsage, KeyUsage, KeyUsages, SubjectAltName};
use x509_cert::name::{Name, RdnSequence, RelativeDistinguishedName};
use x509_cert::request::ExtensionReq;

/// A PKCS#10 request.
type Request = <RequestBuilder as Builder>::Output;

/// Who a certificate is for, beside its names. Authorities that prove names only leave all of this out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Subject {
    /// The first name again, for software that looks there.
    pub common_name: Option<String>,
    /// The organization.
    pub organization: Option<String>,
    /// A unit of it.
    pub unit: Option<String>,
    /// The place.
    pub locality: Option<String>,
    /// The state or province.
    pub state: Option<String>,
    /// The country: two letters (ISO 3166).
    pub country: Option<String>,
    /// A mail address.
    pub mail: Option<String>,
}

impl Subject {
    /// Returns its parts with their types, in the usual order.
    fn parts(&self) -> Vec<(ObjectIdentifier, &str)> {
        use const_oid::db::{rfc3280, rfc4519};
        let all = [
            (rfc4519::COUNTRY_NAME, &self.country),
            (rfc4519::ST, &self.state),
            (rfc4519::LOCALITY_NAME, &self.locality),
            (rfc4519::ORGANIZATION_NAME, &self.organization),
            (rfc4519::ORGANIZATIONAL_UNIT_NAME, &self.unit),
            (rfc4519::COMMON_NAME, &self.common_name),
            (rfc3280::EMAIL_ADDRESS, &self.mail),
        ];
        all.into_iter().filter_map(|(oid, value)| Some((oid, value.as_deref()?))).collect()
    }

    fn to_name(&self) -> Result<Name, PkiError> {
        let fail = der_error("subject");
        let mut rdns = Vec::new();
        for (oid, text) in self.parts() {
            let (tag, bytes) = match oid {
                const_oid::db::rfc4519::COUNTRY_NAME => (Tag::PrintableString, text.as_bytes()),
                const_oid::db::rfc3280::EMAIL_ADDRESS => (Tag::Ia5String, text.as_bytes()),
                _ => (Tag::Utf8String, text.as_bytes()),
            };
            let value = Any::new(tag, bytes).map_err(&fail)?;
            let part = AttributeTypeAndValue { oid, value };
            rdns.push(RelativeDistinguishedName::try_from(vec![part]).map_err(&fail)?);
        }
        Ok(Name::hazmat_from_rdn_sequence(RdnSequence::from(rdns)))
    }
}

/// An extension to ask for, by its object identifier.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedExtension {
    oid: ObjectIdentifier,
    value: Vec<u8>,
}

impl WantedExtension {
    /// Reads an extension: the object identifier in figures and dots, and the DER of its value in hexadecimal.
    ///
    /// # Errors
    /// [`PkiError::Extension`]; also for those that the names and the specification itself make.
    pub fn parse(oid: &str, hex: &str) -> Result<Self, PkiError> {
        let fail = |why| PkiError::Extension { given: printable(&format!("{oid} = {hex}")), why };
        let made_here =
            [ID_CE_SUBJECT_ALT_NAME, ID_CE_KEY_USAGE, ID_CE_EXT_KEY_USAGE, ID_CE_BASIC_CONSTRAINTS, TLS_FEATURE];
        let oid = ObjectIdentifier::new(oid.trim()).map_err(|_| fail("the first part is no object identifier"))?;
        if made_here.contains(&oid) {
            return Err(fail("names, usages and stapling have options of their own"));
        }
        let bare: String = hex.chars().filter(|c| !c.is_whitespace() && *c != ':').collect();
        let byte = |at: usize| u8::from_str_radix(bare.get(at..at + 2)?, 16).ok();
        let bytes: Option<Vec<u8>> = (0..bare.len()).step_by(2).map(byte).collect();
        let value = bytes.ok_or_else(|| fail("the value is no hexadecimal"))?;
        Any::from_der(&value).map_err(|_| fail("the value is no DER"))?;
        Ok(WantedExtension { oid, value })
    }
}

/// What a request is to ask for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CsrSpecification {
    /// Who it is for.
    pub subject: Subject,
    /// A subject in DER that stands there instead, byte for byte: that of a certificate to be renewed.
    pub same_subject: Option<Vec<u8>>,
    /// Whether servers have to staple a revocation answer (RFC 7633).
    pub must_staple: bool,
    /// What the key is to be used for; empty to leave that to the authority.
    pub usages: Vec<KeyUse>,
    /// Other extensions.
    pub extensions: Vec<WantedExtension>,
}

impl CsrSpecification {
    /// Returns all of it in one line of text: two specifications ask for the same exactly when it is the same. Empty for the plain one.
    pub fn words(&self) -> String {
        let mut words: Vec<String> = Vec::new();
        words.extend(self.must_staple.then(|| "must-staple".to_owned()));
        words.extend(self.subject.parts().into_iter().map(|(oid, text)| format!("subject {oid}={text:?}")));
        let mut usages: Vec<&str> = self.usages.iter().map(|usage| usage.word()).collect();
        usages.sort_unstable();
        words.extend(usages.into_iter().map(|word| format!("usage {word}")));
        words.extend(self.extensions.iter().map(|e| format!("extension {}={}", e.oid, hex(&e.value))));
        words.join("; ")
    }

    /// Returns the extensions to ask for in DER (RFC 5280 section 4.1): a sequence of sequences.
    fn extensions(&self, names: &[Identifier], subject: &[u8]) -> Result<Vec<u8>, PkiError> {
        let fail = der_error("CSR extensions");
        let mut all = Vec::new();
        let mut add = |oid: ObjectIdentifier, critical: bool, value: &[u8]| {
            let oid = tlv(0x06, oid.as_bytes());
            let critical: &[u8] = if critical { &[0x01, 0x01, 0xff] } else { &[] };
            all.extend(tlv(0x30, &[&oid, critical, &tlv(0x04, value)].concat()));
        };
        let mut alt_names = Vec::new();
        for name in names {
            alt_names.extend(alt_name(name));
        }
        // RFC 5280 section 4.2.1.6: critical where there is no subject beside it.
        add(ID_CE_SUBJECT_ALT_NAME, subject == EMPTY_NAME, &tlv(0x30, &alt_names));
        let mut usages = self.usages.iter().filter_map(|usage| usage.usage());
        if let Some(first) = usages.next() {
            let usages = KeyUsage(usages.fold(first.into(), |all: FlagSet<KeyUsages>, one| all | one));
            add(ID_CE_KEY_USAGE, true, &usages.to_der().map_err(&fail)?);
        }
        let extended: Vec<ObjectIdentifier> = self.usages.iter().filter_map(|usage| usage.extended()).collect();
        if !extended.is_empty() {
            add(ID_CE_EXT_KEY_USAGE, false, &ExtendedKeyUsage(extended).to_der().map_err(&fail)?);
        }
        if self.must_staple {
            add(TLS_FEATURE, false, STATUS_REQUEST);
        }
        self.extensions.iter().for_each(|WantedExtension { oid, value }| add(*oid, false, value));
        Ok(tlv(0x30, &all))
    }
}

/// Writes a DNS name or an address as it stands among alternative names: context-specific tags 2 and 7.
fn alt_name(name: &Identifier) -> Vec<u8> {
    match name {
        Identifier::Ip(IpAddr::V4(ip)) => tlv(0x87, &ip.octets()),
        Identifier::Ip(IpAddr::V6(ip)) => tlv(0x87, &ip.octets()),
        Identifier::Dns(_) => tlv(0x82, name.to_string().as_bytes()),
    }
}

/// Makes a request for DNS names and addresses in DER. The names stand in the subjectAltName extension, where RFC 8555
/// section 7.4 looks for them.
///
/// # Errors
/// When a part of the subject cannot be written, or the crypto library fails.
pub fn make_csr(key: &PrivateKey, names: &[Identifier], specification: &CsrSpecification) -> Result<Vec<u8>, PkiError> {
    let fail = der_error("CSR");
    let failed = PkiError::Crypto { job: "making a CSR" };
    let subject = match &specification.same_subject {
        Some(subject) => subject.clone(),
        None => specification.subject.to_name()?.to_der().map_err(&fail)?,
    };
    let extensions = tlv(0x31, &specification.extensions(names, &subject)?);
    let attribute = tlv(0x30, &[tlv(0x06, ID_EXTENSION_REQ.as_bytes()), extensions].concat());
    // RFC 2986 section 4: version 0, subject, key, attributes.
    let parts = [vec![0x02, 0x01, 0x00], subject, key.public_key_der(), tlv(0xa0, &attribute)];
    let body = tlv(0x30, &parts.concat());
    let Ok(algorithm) = key.signature_algorithm_identifier() else { return Err(failed) };
    let Ok(signature) = key.sign_x509(&body) else { return Err(failed) };
    let algorithm = algorithm.to_der().map_err(&fail)?;
    let signature = BitString::from_bytes(&signature).and_then(|bits| bits.to_der()).map_err(&fail)?;
    Ok(tlv(0x30, &[body, algorithm, signature].concat()))
}

/// A sequence of nothing.
const EMPTY_NAME: &[u8] = &[0x30, 0x00];
/// A sequence of one integer, 5.
const STATUS_REQUEST: &[u8] = &[0x30, 0x03, 0x02, 0x01, 0x05];

/// Returns a request in DER as one PEM block (RFC 7468 section 7).
pub fn request_pem(der: &[u8]) -> String {
    pem("CERTIFICATE REQUEST", der)
}

/// What a request says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CsrFacts {
    /// Its subject: types and values in words, in its order.
    pub subject: Vec<(String, String)>,
    /// The DNS names and addresses of its subjectAltName extension, in its order.
    pub names: Vec<SubjectName>,
    /// The key it is for, a DER SubjectPublicKeyInfo.
    pub public_key: Vec<u8>,
    /// Whether its own signature is valid (RFC 2986 section 3); `None` when the algorithm is not known here.
    pub signature_valid: Option<bool>,
    /// Whether it asks for a certificate whose servers have to staple (RFC 7633).
    pub must_staple: bool,
    /// What it wants to use the key for, in words.
    pub usages: Vec<String>,
    /// The other extensions that it asks for, in words where they are known.
    pub extensions: Vec<String>,
}

impl CsrFacts {
    /// Returns its names, when visitors can ask for all of them.
    pub fn identifiers(&self) -> Option<Vec<Identifier>> {
        self.names.iter().map(|name| name.usable().cloned()).collect()
    }
}

/// Reads a DER request and checks that it is signed by the key it names (RFC 2986 section 3).
///
/// # Errors
/// When the bytes are no request, or the signature is not valid.
pub fn parse_csr(der: &[u8]) -> Result<CsrFacts, PkiError> {
    let facts = parse_csr_unverified(der)?;
    if facts.signature_valid == Some(true) { Ok(facts) } else { Err(PkiError::BadRequestSignature) }
}

/// Reads a DER request, whether its signature is valid or not.
///
/// # Errors
/// When the bytes are no request.
pub fn parse_csr_unverified(der: &[u8]) -> Result<CsrFacts, PkiError> {
    let request = Request::from_der(der).map_err(der_error("CSR"))?;
    let info = request.info.to_der().map_err(der_error("CSR"))?;
    let public_key = request.info.public_key.to_der().map_err(der_error("public key"))?;
    let signature = request.signature.as_bytes().unwrap_or_default();
    let signature_valid = match verify(&request.algorithm, &public_key, &info, signature) {
        Some(SignatureCheck::Valid) => Some(true),
        Some(SignatureCheck::Invalid) => Some(false),
        Some(SignatureCheck::Unknown(_)) | None => None,
    };
    let word = |oid: ObjectIdentifier| const_oid::db::DB.by_oid(&oid).map_or(oid.to_string(), str::to_owned);
    let value = |value: &Any| printable(&String::from_utf8_lossy(value.value()));
    let subject = request.info.subject.iter().map(|part| (word(part.oid), value(&part.value))).collect();
    let mut facts = CsrFacts {
        subject,
        names: Vec::new(),
        public_key,
        signature_valid,
        must_staple: false,
        usages: Vec::new(),
        extensions: Vec::new(),
    };
    for attribute in request.info.attributes.iter().filter(|a| a.oid == ID_EXTENSION_REQ) {
        for value in attribute.values.iter() {
            let extensions: ExtensionReq = value.decode_as().map_err(der_error("CSR extensions"))?;
            for extension in &extensions.0 {
                match extension.extn_id {
                    ID_CE_SUBJECT_ALT_NAME => {
                        let alt =
                            SubjectAltName::from_der(extension.extn_value.as_bytes()).map_err(der_error("names"))?;
                        facts.names.extend(names_of(&alt));
                    }
                    TLS_FEATURE => facts.must_staple |= extension.extn_value.as_bytes() == STATUS_REQUEST,
                    ID_CE_KEY_USAGE => {
                        let asked = KeyUsage::from_der(extension.extn_value.as_bytes()).map_err(der_error("usages"))?;
                        let asked_for = |usage: &KeyUse| usage.usage().is_some_and(|flag| asked.0.contains(flag));
                        facts.usages.extend(KeyUse::ALL.iter().filter(|u| asked_for(u)).map(|u| u.word().to_owned()));
                    }
                    ID_CE_EXT_KEY_USAGE => {
                        let asked =
                            ExtendedKeyUsage::from_der(extension.extn_value.as_bytes()).map_err(der_error("usages"))?;
                        let known = |oid| KeyUse::ALL.iter().find(|usage| usage.extended() == Some(oid));
                        let name = |oid| known(oid).map_or_else(|| word(oid), |usage| usage.word().to_owned());
                        facts.usages.extend(asked.0.into_iter().map(name));
                    }
                    other => facts.extensions.push(word(other)),
                }
            }
        }
    }
    Ok(facts)
}

/// Finds a request in what somebody pasted: PEM with text, blanks or Windows line ends around it, DER, or base64 without its
/// first and last line. Returns it in DER.
pub fn find_csr(bytes: &[u8]) -> Option<Vec<u8>> {
    let is_request = |der: &Vec<u8>| Request::from_der(der).is_ok();
    if bytes.first() == Some(&0x30) {
        return Some(bytes.to_vec()).filter(is_request);
    }
    let text = crate::armour::text_of(bytes);
    let mut blocks = crate::armour::blocks(&text).into_iter().filter_map(|block| block.bytes);
    blocks.find(is_request).or_else(|| crate::armour::bare_base64(&text).filter(is_request))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::KeyKind;

    #[test]
    fn what_is_made_reads_back() {
        for kind in [KeyKind::P256, KeyKind::P384, KeyKind::Rsa2048, KeyKind::Ed25519] {
            let key = PrivateKey::generate(kind).unwrap();
            let names = ["lampholm.example", "*.archive.lampholm.example", "192.0.2.7", "2001:db8::7"];
            let names = names.map(|name| name.parse().unwrap());
            let facts = parse_csr(&make_csr(&key, &names, &CsrSpecification::default()).unwrap()).unwrap();
            assert_eq!(facts.identifiers().unwrap(), names);
            assert!(key.fits(&facts.public_key));
        }
    }

    #[test]
    fn what_it_asks_for_beside_the_names_reads_back() {
        let key = PrivateKey::generate(KeyKind::P256).unwrap();
        let specification = CsrSpecification {
            must_staple: true,
            usages: KeyUse::ALL.to_vec(),
            extensions: vec![WantedExtension::parse("1.3.6.1.4.1.311.20.2", "0c:02 68 69").unwrap()],
            ..CsrSpecification::default()
        };
        let facts =
            parse_csr(&make_csr(&key, &["lampholm.example".parse().unwrap()], &specification).unwrap()).unwrap();
        assert_eq!(facts.usages, KeyUse::ALL.map(KeyUse::word));
        assert_eq!((facts.must_staple, facts.extensions), (true, vec!["1.3.6.1.4.1.311.20.2".to_owned()]));
        for (oid, hex, why) in [
            ("lamp", "0500", "no object identifier"),
            ("1.2.3.4", "05", "no DER"),
            ("1.2.3.4", "0500x", "no hexadecimal"),
            ("1.2.3.4", "ä500", "no hexadecimal"),
            ("2.5.29.17", "3000", "options of their own"),
        ] {
            let said = WantedExtension::parse(oid, hex).unwrap_err().to_string();
            assert!(said.contains(why), "{oid} {hex}: {said}");
        }
    }

    #[test]
    fn a_subject_is_taken_over_byte_for_byte() {
        let key = PrivateKey::generate(KeyKind::P256).unwrap();
        let subject = Subject { organization: Some("Trust".into()), ..Subject::default() };
        let same = subject.to_name().unwrap().to_der().unwrap();
        let specification = CsrSpecification { same_subject: Some(same), ..CsrSpecification::default() };
        let facts =
            parse_csr(&make_csr(&key, &["lampholm.example".parse().unwrap()], &specification).unwrap()).unwrap();
        assert_eq!(facts.subject, [("o".to_owned(), "Trust".to_owned())]);
    }

    #[test]
    fn a_changed_request_is_refused() {
        let key = PrivateKey::generate(KeyKind::P256).unwrap();
        let mut der = make_csr(&key, &["lampholm.example".parse().unwrap()], &CsrSpecification::default()).unwrap();
        let at = der.windows(8).position(|w| w == b"lampholm").unwrap();
        der[at] = b'c';
        assert!(matches!(parse_csr(&der), Err(PkiError::BadRequestSignature)));
        assert!(matches!(parse_csr(b"lamp"), Err(PkiError::Der { .. })));
    }
}
