//! One certificate (RFC 5280): what it says, in types the rest of the program uses.

use crate::encoding::base64url;
use crate::encoding::{hex, pem, pem_blocks, printable};
use crate::names::{Identifier, SubjectName};
use crate::{KeyUse, PkiError, der_error, sha256};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc4519::{COMMON_NAME, ORGANIZATION_NAME};
use const_oid::db::rfc5280::{ANY_EXTENDED_KEY_USAGE, ID_AD_CA_ISSUERS, ID_AD_OCSP};
use const_oid::db::rfc5912;
use der::asn1::{Ia5String, OctetString};
use der::{Decode, Encode};
use jiff::Timestamp;
use std::fmt;
use std::net::IpAddr;
use x509_cert::ext::pkix::name::{DistributionPointName, GeneralName};
use x509_cert::ext::pkix::{
    AuthorityInfoAccessSyntax, AuthorityKeyIdentifier, BasicConstraints, CrlDistributionPoints, ExtendedKeyUsage,
    KeyUsage, SubjectAltName, SubjectKeyIdentifier,
};
use x509_cert::name::Name;

/// id-pe-tlsfeature.
pub(crate) const TLS_FEATURE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.1.24");

/// ecdsa-with-SHA1 (RFC 3279 section 2.2.3).
const ECDSA_WITH_SHA_1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.1");
/// The extension by which a certificate announces another one (RFC 6962 section 3.1).
const POISON: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.11129.2.4.3");

/// What a look at a signature shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SignatureCheck {
    /// The key has made it.
    Valid,
    /// The key has not made it, or it cannot be read.
    Invalid,
    /// Its algorithm is not known here.
    Unknown(ObjectIdentifier),
}

/// The SHA-256 digest of a certificate's DER form.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Fingerprint([u8; 32]);

impl Fingerprint {
    /// Returns the fingerprint of a certificate in DER.
    pub fn of(der: &[u8]) -> Self {
        Fingerprint(sha256(der))
    }

    pub(crate) fn bytes(self) -> [u8; 32] {
        self.0
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&hex(&self.0))
    }
}

impl fmt::Debug for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// A certificate and the facts read from it. All text in it is stripped of control characters.
#[derive(Clone, PartialEq, Eq)]
pub struct Certificate {
    der: Vec<u8>,
    /// The DNS names and addresses that it is for, in its order.
    pub names: Vec<SubjectName>,
    /// The common name of its subject, or what else of the subject comes first; may be empty.
    pub subject: String,
    /// The common name of its issuer, or what else of the issuer comes first.
    pub issuer: String,
    /// The first instant of its validity.
    pub not_before: Timestamp,
    /// The last instant of its validity.
    pub not_after: Timestamp,
    /// The serial number in lower-case hexadecimal.
    pub serial: String,
    /// Whether it may sign other certificates (basicConstraints, RFC 5280 section 4.2.1.9).
    pub is_ca: bool,
    /// Whether it only announces a certificate (RFC 6962 section 3.1).
    pub is_precertificate: bool,
    /// Whether its servers have to staple a revocation answer (RFC 7633).
    pub must_staple: bool,
    subject_der: Vec<u8>,
    issuer_der: Vec<u8>,
    spki_der: Vec<u8>,
    /// Identifiers of its key and of its issuer's (RFC 5280 sections 4.2.1.2 and 4.2.1.1).
    key_id: Option<Vec<u8>>,
    issuer_key_id: Option<Vec<u8>>,
}

impl fmt::Debug for Certificate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Certificate({} by {}, {})", self.subject, self.issuer, self.fingerprint())
    }
}

impl Certificate {
    /// Reads a certificate in DER.
    ///
    /// # Errors
    /// [`PkiError::Der`] when the bytes are not one certificate.
    pub fn from_der(der: &[u8]) -> Result<Self, PkiError> {
        let fail = der_error("certificate");
        let parsed = x509_cert::Certificate::from_der(der).map_err(&fail)?;
        let tbs = parsed.tbs_certificate();
        let names = match tbs.get_extension::<SubjectAltName>().map_err(&fail)? {
            Some((_, alt)) => names_of(&alt),
            None => Vec::new(),
        };
        let is_ca = tbs.get_extension::<BasicConstraints>().map_err(&fail)?.is_some_and(|(_, c)| c.ca);
        let has = |oid| tbs.extensions().into_iter().flatten().any(|extension| extension.extn_id == oid);
        let key_id = tbs.get_extension::<SubjectKeyIdentifier>().ok().flatten().map(|(_, id)| id.0.as_bytes().to_vec());
        let issuer_key =
            tbs.get_extension::<AuthorityKeyIdentifier>().ok().flatten().and_then(|(_, id)| id.key_identifier);
        Ok(Certificate {
            names,
            subject: short_name(tbs.subject()),
            issuer: short_name(tbs.issuer()),
            not_before: timestamp(tbs.validity().not_before),
            not_after: timestamp(tbs.validity().not_after),
            serial: hex(tbs.serial_number().as_bytes()),
            is_ca,
            must_staple: has(TLS_FEATURE),
            is_precertificate: has(POISON),
            key_id,
            issuer_key_id: issuer_key.map(|id| id.as_bytes().to_vec()),
            subject_der: tbs.subject().to_der().map_err(&fail)?,
            issuer_der: tbs.issuer().to_der().map_err(&fail)?,
            spki_der: tbs.subject_public_key_info().to_der().map_err(&fail)?,
            der: der.to_vec(),
        })
    }

    /// Reads every `CERTIFICATE` block of a PEM text, in order; text around them and other blocks are passed over.
    ///
    /// # Errors
    /// When a block cannot be read.
    pub fn all_from_pem(text: &str) -> Result<Vec<Self>, PkiError> {
        pem_blocks(text, "CERTIFICATE")?.iter().map(|der| Certificate::from_der(der)).collect()
    }

    /// Returns the DER bytes.
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// Returns the certificate as one PEM block.
    pub fn to_pem(&self) -> String {
        pem("CERTIFICATE", &self.der)
    }

    /// Returns the SHA-256 fingerprint.
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(&self.der)
    }

    /// Returns the DER SubjectPublicKeyInfo.
    pub fn public_key(&self) -> &[u8] {
        &self.spki_der
    }

    /// Returns what it is called where its authority says when to renew it (RFC 9773 section 4.1); `None` without the identifier of its
    /// issuer's key.
    pub fn renewal_id(&self) -> Option<String> {
        let key_id = self.issuer_key_id.as_ref()?;
        let parsed = x509_cert::Certificate::from_der(&self.der).ok()?;
        let mut serial = parsed.tbs_certificate().serial_number().as_bytes().to_vec();
        // As an INTEGER in DER has it: a number that is not negative does not begin with a set bit.
        if serial.first().is_none_or(|first| first & 0x80 != 0) {
            serial.insert(0, 0);
        }
        Some(format!("{}.{}", base64url(key_id), base64url(&serial)))
    }

    /// Returns what people call it: its first name, else its subject.
    pub fn title(&self) -> String {
        self.names.first().map_or_else(|| self.subject.clone(), ToString::to_string)
    }

    /// Returns its subject; what people call it where that is empty.
    pub fn subject_or_title(&self) -> String {
        if self.subject.is_empty() { self.title() } else { self.subject.clone() }
    }

    /// Returns the web addresses at which it says that its issuer's certificate is (RFC 5280 section 4.2.2.1).
    pub fn issuer_addresses(&self) -> Vec<String> {
        self.access_addresses(ID_AD_CA_ISSUERS)
    }

    /// Returns the web addresses at which it says that it is told whether it was revoked (OCSP, the same section).
    pub fn responder_addresses(&self) -> Vec<String> {
        self.access_addresses(ID_AD_OCSP)
    }

    /// Returns the web addresses at which it says that lists of revoked certificates are (RFC 5280 section 4.2.1.13).
    pub fn list_addresses(&self) -> Vec<String> {
        let parsed = x509_cert::Certificate::from_der(&self.der).ok();
        let points = parsed.and_then(|c| c.tbs_certificate().get_extension::<CrlDistributionPoints>().ok().flatten());
        // One that somebody else signs, or that is for some reasons only, is another matter.
        let plain = points.into_iter().flat_map(|(_, points)| points.0);
        let plain = plain.filter(|point| point.reasons.is_none() && point.crl_issuer.is_none());
        let names = plain.filter_map(|point| match point.distribution_point? {
            DistributionPointName::FullName(names) => Some(names),
            DistributionPointName::NameRelativeToCRLIssuer(_) => None,
        });
        names.flatten().filter_map(|name| web_address(&name)).collect()
    }

    fn access_addresses(&self, method: ObjectIdentifier) -> Vec<String> {
        let parsed = x509_cert::Certificate::from_der(&self.der).ok();
        let access =
            parsed.and_then(|c| c.tbs_certificate().get_extension::<AuthorityInfoAccessSyntax>().ok().flatten());
        let wanted = access.into_iter().flat_map(|(_, access)| access.0).filter(|a| a.access_method == method);
        wanted.filter_map(|a| web_address(&a.access_location)).collect()
    }

    /// Returns those of some uses of its key that it does not allow. Where it says nothing, it allows all.
    pub fn forbids(&self, wanted: &[KeyUse]) -> Vec<KeyUse> {
        let Ok(parsed) = x509_cert::Certificate::from_der(&self.der) else { return wanted.to_vec() };
        let tbs = parsed.tbs_certificate();
        let usage = tbs.get_extension::<KeyUsage>().ok().flatten().map(|(_, usage)| usage);
        let extended = tbs.get_extension::<ExtendedKeyUsage>().ok().flatten().map(|(_, extended)| extended.0);
        let allows = |wanted: &KeyUse| match (wanted.usage(), wanted.extended()) {
            (Some(flag), _) => usage.as_ref().is_none_or(|usage| usage.0.contains(flag)),
            (_, Some(oid)) => {
                extended.as_ref().is_none_or(|all| all.contains(&oid) || all.contains(&ANY_EXTENDED_KEY_USAGE))
            }
            (None, None) => true,
        };
        wanted.iter().copied().filter(|usage| !allows(usage)).collect()
    }

    /// Returns what is too weak about it for today's visitors: a short RSA key, a signature over SHA-1 or MD5. A signature by oneself
    /// is not looked at.
    pub fn weaknesses(&self) -> Vec<String> {
        let bits = spki::SubjectPublicKeyInfoOwned::from_der(&self.spki_der).ok().and_then(|key| rsa_bits(&key));
        let short = bits.filter(|bits| *bits < SHORTEST_RSA).map(|bits| format!("RSA with {bits} bits"));
        let mut found: Vec<String> = short.into_iter().collect();
        let algorithm = x509_cert::Certificate::from_der(&self.der).ok().map(|c| c.signature_algorithm().oid);
        let by_sha1 = [rfc5912::SHA_1_WITH_RSA_ENCRYPTION, ECDSA_WITH_SHA_1, rfc5912::MD_5_WITH_RSA_ENCRYPTION];
        if !self.is_self_issued() && algorithm.is_some_and(|oid| by_sha1.contains(&oid)) {
            found.push("a signature over an old digest (SHA-1 or MD5)".to_owned());
        }
        found
    }

    /// Returns whether it is signed with the key of `issuer` (RFC 5280 section 4.1.1.3), whatever names stand in it.
    pub fn is_signed_by(&self, issuer: &Certificate) -> bool {
        self.check_signature(&issuer.spki_der) == SignatureCheck::Valid
    }

    /// Checks its signature with a public key, a DER SubjectPublicKeyInfo.
    pub fn check_signature(&self, spki: &[u8]) -> SignatureCheck {
        signed_by(&self.der, spki).unwrap_or(SignatureCheck::Invalid)
    }

    /// Returns whether its key is the one that `issued` names as its issuer's; `None` where either says nothing.
    pub(crate) fn fits_key_id(&self, issued: &Certificate) -> Option<bool> {
        Some(self.key_id.as_ref()? == issued.issuer_key_id.as_ref()?)
    }

    /// Returns whether `other`'s subject is this certificate's issuer, byte for byte.
    pub fn names_issuer(&self, other: &Certificate) -> bool {
        self.issuer_der == other.subject_der
    }

    /// Returns the subject's name in DER.
    pub fn subject_der(&self) -> &[u8] {
        &self.subject_der
    }

    /// Returns the issuer's name in DER.
    pub(crate) fn issuer_der(&self) -> &[u8] {
        &self.issuer_der
    }

    /// Returns whether issuer and subject are the same name, as in a root.
    pub fn is_self_issued(&self) -> bool {
        self.issuer_der == self.subject_der
    }

    /// Returns whether the certificate is good for a host, a DNS name or an address.
    pub fn covers(&self, host: &str) -> bool {
        self.names.iter().filter_map(SubjectName::usable).any(|own| own.covers(host))
    }
}

/// Makes a name for a subjectAltName extension (RFC 5280 section 4.2.1.6).
///
/// # Errors
/// Only those of the encoder.
pub fn general_name(name: &Identifier) -> Result<GeneralName, PkiError> {
    let fail = der_error("DNS name");
    Ok(match name {
        Identifier::Ip(IpAddr::V4(ip)) => GeneralName::IpAddress(OctetString::new(ip.octets()).map_err(fail)?),
        Identifier::Ip(IpAddr::V6(ip)) => GeneralName::IpAddress(OctetString::new(ip.octets()).map_err(fail)?),
        Identifier::Dns(_) => GeneralName::DnsName(Ia5String::new(&name.to_string()).map_err(fail)?),
    })
}

/// Returns the DNS names and addresses of a subjectAltName extension; other kinds of name are passed over.
pub(crate) fn names_of(alt: &SubjectAltName) -> Vec<SubjectName> {
    let address = |ip: IpAddr| SubjectName::Usable(Identifier::Ip(ip));
    let name = |name: &GeneralName| match name {
        GeneralName::DnsName(dns) => Some(SubjectName::from_dns(dns.as_str())),
        GeneralName::IpAddress(octets) => match octets.as_bytes() {
            b if b.len() == 4 => <[u8; 4]>::try_from(b).ok().map(|b| address(b.into())),
            b => <[u8; 16]>::try_from(b).ok().map(|b| address(b.into())),
        },
        _ => None,
    };
    alt.0.iter().filter_map(name).collect()
}

fn short_name(name: &Name) -> String {
    let text =
        |oid| name.iter().find(|a| a.oid == oid).and_then(|a| std::str::from_utf8(a.value.value()).ok()).map(printable);
    text(COMMON_NAME).or_else(|| text(ORGANIZATION_NAME)).unwrap_or_else(|| printable(&name.to_string()))
}

/// Returns a name that is an address of the web.
fn web_address(name: &GeneralName) -> Option<String> {
    let GeneralName::UniformResourceIdentifier(address) = name else { return None };
    let address = printable(address.as_str());
    (address.starts_with("http://") || address.starts_with("https://")).then_some(address)
}

fn timestamp(time: x509_cert::time::Time) -> Timestamp {
    let seconds = i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX);
    Timestamp::from_second(seconds).unwrap_or(Timestamp::MAX)
}

/// Checks a certificate's signature with a public key; `None` when either cannot be read.
fn signed_by(certificate: &[u8], spki: &[u8]) -> Option<SignatureCheck> {
    use der::Reader;
    let parsed = x509_cert::Certificate::from_der(certificate).ok()?;
    // The bytes that were signed, just as they came.
    let signed = der::SliceReader::new(certificate).ok()?.sequence(|reader: &mut der::SliceReader<'_>| {
        let signed = reader.tlv_bytes()?;
        reader.tlv_bytes()?;
        reader.tlv_bytes()?;
        Ok::<_, der::Error>(signed)
    });
    verify(parsed.signature_algorithm(), spki, signed.ok()?, parsed.signature().as_bytes()?)
}

/// Checks a signature with a public key, a DER SubjectPublicKeyInfo; `None` when the key cannot be read.
pub(crate) fn verify(
    algorithm: &spki::AlgorithmIdentifierOwned,
    spki: &[u8],
    signed: &[u8],
    signature: &[u8],
) -> Option<SignatureCheck> {
    use aws_lc_rs::signature as verify;
    use const_oid::db::rfc5912 as oid;
    let key = spki::SubjectPublicKeyInfoOwned::from_der(spki).ok()?;
    let curve = key.algorithm.parameters.as_ref().and_then(|p| p.decode_as::<ObjectIdentifier>().ok());
    // Shorter keys and older digests than are any good: that they are weak is another matter than a signature that is not valid.
    let known: Option<&'static dyn verify::VerificationAlgorithm> = match (algorithm.oid, curve) {
        (oid::ECDSA_WITH_SHA_256, Some(oid::SECP_256_R_1)) => Some(&verify::ECDSA_P256_SHA256_ASN1),
        (oid::ECDSA_WITH_SHA_384, Some(oid::SECP_256_R_1)) => Some(&verify::ECDSA_P256_SHA384_ASN1),
        (oid::ECDSA_WITH_SHA_512, Some(oid::SECP_256_R_1)) => Some(&verify::ECDSA_P256_SHA512_ASN1),
        (oid::ECDSA_WITH_SHA_256, Some(oid::SECP_384_R_1)) => Some(&verify::ECDSA_P384_SHA256_ASN1),
        (oid::ECDSA_WITH_SHA_384, Some(oid::SECP_384_R_1)) => Some(&verify::ECDSA_P384_SHA384_ASN1),
        (oid::ECDSA_WITH_SHA_512, Some(oid::SECP_384_R_1)) => Some(&verify::ECDSA_P384_SHA512_ASN1),
        (oid::ECDSA_WITH_SHA_256, Some(oid::SECP_521_R_1)) => Some(&verify::ECDSA_P521_SHA256_ASN1),
        (oid::ECDSA_WITH_SHA_384, Some(oid::SECP_521_R_1)) => Some(&verify::ECDSA_P521_SHA384_ASN1),
        (oid::ECDSA_WITH_SHA_512, Some(oid::SECP_521_R_1)) => Some(&verify::ECDSA_P521_SHA512_ASN1),
        (oid::SHA_1_WITH_RSA_ENCRYPTION, _) => Some(&verify::RSA_PKCS1_1024_8192_SHA1_FOR_LEGACY_USE_ONLY),
        (oid::SHA_256_WITH_RSA_ENCRYPTION, _) => Some(&verify::RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY),
        (oid::SHA_384_WITH_RSA_ENCRYPTION, _) => Some(&verify::RSA_PKCS1_2048_8192_SHA384),
        (oid::SHA_512_WITH_RSA_ENCRYPTION, _) => Some(&verify::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY),
        (oid::ID_RSASSA_PSS, _) => match pss_digest(algorithm) {
            Some(oid::ID_SHA_256) => Some(&verify::RSA_PSS_2048_8192_SHA256),
            Some(oid::ID_SHA_384) => Some(&verify::RSA_PSS_2048_8192_SHA384),
            Some(oid::ID_SHA_512) => Some(&verify::RSA_PSS_2048_8192_SHA512),
            _ => None,
        },
        (const_oid::db::rfc8410::ID_ED_25519, _) => Some(&verify::ED25519),
        _ => None,
    };
    let Some(known) = known else { return Some(SignatureCheck::Unknown(algorithm.oid)) };
    let bits = key.subject_public_key.raw_bytes();
    let valid = verify::UnparsedPublicKey::new(known, bits).verify(signed, signature).is_ok();
    Some(if valid { SignatureCheck::Valid } else { SignatureCheck::Invalid })
}

/// Returns the digest of RSASSA-PSS parameters (RFC 4055 section 3.1): the first of them, explicitly tagged.
fn pss_digest(algorithm: &spki::AlgorithmIdentifierOwned) -> Option<ObjectIdentifier> {
    let parameters = algorithm.parameters.as_ref()?.value();
    let first =
        der::asn1::AnyRef::from_der(der::Reader::tlv_bytes(&mut der::SliceReader::new(parameters).ok()?).ok()?).ok()?;
    let is_digest =
        der::Tagged::tag(&first) == der::Tag::ContextSpecific { constructed: true, number: der::TagNumber(0) };
    let digest = spki::AlgorithmIdentifierOwned::from_der(first.value()).ok().filter(|_| is_digest)?;
    Some(digest.oid)
}

/// RSA keys with fewer bits are taken by no authority and refused by visitors.
const SHORTEST_RSA: usize = 2048;

/// Returns how many bits the modulus of an RSA key has; `None` for other keys, and where it cannot be read.
fn rsa_bits(key: &spki::SubjectPublicKeyInfoOwned) -> Option<usize> {
    use der::Reader;
    if key.algorithm.oid != rfc5912::RSA_ENCRYPTION {
        return None;
    }
    let bits = der::SliceReader::new(key.subject_public_key.raw_bytes()).and_then(|mut reader| {
        reader.sequence(|inside: &mut der::SliceReader<'_>| {
            let modulus = der::asn1::UintRef::decode(inside)?;
            der::asn1::UintRef::decode(inside)?;
            Ok::<_, der::Error>(modulus.as_bytes().len() * 8)
        })
    });
    bits.ok()
}

/// Returns what kind of key a DER SubjectPublicKeyInfo valid, in words: `P-256`, `RSA with 2048 bits`; and that it is too
/// short, where it is.
pub fn key_words(spki: &[u8]) -> String {
    use const_oid::db::rfc5912 as oid;
    let Ok(key) = spki::SubjectPublicKeyInfoOwned::from_der(spki) else { return "a key that cannot be read".into() };
    let curve = key.algorithm.parameters.as_ref().and_then(|p| p.decode_as::<const_oid::ObjectIdentifier>().ok());
    match (key.algorithm.oid, curve) {
        (oid::ID_EC_PUBLIC_KEY, Some(oid::SECP_256_R_1)) => "P-256".into(),
        (oid::ID_EC_PUBLIC_KEY, Some(oid::SECP_384_R_1)) => "P-384".into(),
        (oid::ID_EC_PUBLIC_KEY, Some(oid::SECP_521_R_1)) => "P-521".into(),
        (oid::ID_EC_PUBLIC_KEY, Some(curve)) => format!("the curve {curve}"),
        (oid::RSA_ENCRYPTION, _) => match rsa_bits(&key) {
            None => "RSA with an odd modulus".into(),
            Some(bits @ ..SHORTEST_RSA) => format!("RSA with {bits} bits: too short, no authority accepts it"),
            Some(bits) => format!("RSA with {bits} bits"),
        },
        (const_oid::db::rfc8410::ID_ED_25519, _) => "Ed25519".into(),
        (other, _) => format!("the algorithm {other}"),
    }
}
