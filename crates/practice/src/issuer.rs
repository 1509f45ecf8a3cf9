//! Signs certificates: two roots, and one intermediate that both have signed.

use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::{ID_AD_OCSP, ID_CE_CRL_REASONS, ID_KP_CLIENT_AUTH, ID_KP_SERVER_AUTH};
use der::asn1::{AnyRef, GeneralizedTime, Ia5String, OctetString};
use der::{Decode, Encode, Reader, SliceReader};
use eskort_pki::names::Identifier;
use eskort_pki::{Certificate, KeyKind, PrivateKey, Secret, Signature, der_sequence, general_name};
use jiff::{SignedDuration, Timestamp};
use sha1::{Digest, Sha1};
use spki::{
    DynSignatureAlgorithmIdentifier, SignatureBitStringEncoding, SubjectPublicKeyInfoOwned, SubjectPublicKeyInfoRef,
};
use std::str::FromStr;
use x509_cert::builder::profile::BuilderProfile;
use x509_cert::builder::{Builder, CertificateBuilder};
use x509_cert::crl::{CertificateList, RevokedCert, TbsCertList};
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::crl::dp::DistributionPoint;
use x509_cert::ext::pkix::name::{DistributionPointName, GeneralName};
use x509_cert::ext::pkix::{
    AccessDescription, AuthorityInfoAccessSyntax, AuthorityKeyIdentifier, BasicConstraints, CrlDistributionPoints,
    ExtendedKeyUsage, KeyUsage, KeyUsages, SubjectAltName, SubjectKeyIdentifier,
};
use x509_cert::name::Name;
use x509_cert::serial_number::SerialNumber;
use x509_cert::time::{Time, Validity};
use x509_cert::{TbsCertificate, Version};

/// The keys and certificates of a practice authority.
pub struct Issuer {
    root: Certificate,
    old_root: Certificate,
    intermediate_key: PrivateKey,
    intermediate: Certificate,
    cross_signed: Certificate,
    intermediate_name: String,
    /// Where the list of its revoked certificates is, by what they say.
    list_at: Option<String>,
    /// Where one may ask about one of them (OCSP), by what they say.
    responder_at: Option<String>,
}

impl Issuer {
    /// Makes the usual practice issuer.
    ///
    /// # Panics
    /// When the crypto library fails.
    pub fn new(now: Timestamp) -> Self {
        Issuer::named("Lampholm Practice", now)
    }

    /// Makes new roots and an intermediate, good from ten years before to ten years after `now`; `who` begins their names.
    ///
    /// # Panics
    /// When the crypto library fails.
    pub fn named(who: &str, now: Timestamp) -> Self {
        let (root_name, old_root_name) = (format!("{who} Root"), format!("{who} Old Root"));
        let intermediate_name = format!("{who} Issuer 1");
        let key = || PrivateKey::generate(KeyKind::P256).expect("a key can be made");
        let (root_key, old_root_key, intermediate_key) = (key(), key(), key());
        let decade = SignedDuration::from_hours(24 * 3_652);
        let ca = |subject: &str, issuer: &str, public: &PrivateKey, signer: &PrivateKey| {
            let leaf = Subject {
                common_name: subject,
                names: &[],
                public_key: &public.public_key_der(),
                ca: true,
                list_at: None,
                responder_at: None,
            };
            sign(&leaf, issuer, signer, now - decade, now + decade)
        };
        Issuer {
            root: ca(&root_name, &root_name, &root_key, &root_key),
            old_root: ca(&old_root_name, &old_root_name, &old_root_key, &old_root_key),
            intermediate: ca(&intermediate_name, &root_name, &intermediate_key, &root_key),
            cross_signed: ca(&intermediate_name, &old_root_name, &intermediate_key, &old_root_key),
            intermediate_key,
            intermediate_name,
            list_at: None,
            responder_at: None,
        }
    }

    /// Says in all that it issues from now on where one may ask whether it was revoked.
    pub(crate) fn answers_at(&mut self, address: String) {
        self.responder_at = Some(address);
    }

    /// Answers an OCSP request (RFC 6960); `revoked` finds out about the certificate with a serial number, an INTEGER in DER.
    pub(crate) fn answer(
        &self,
        request: &[u8],
        now: Timestamp,
        revoked: impl Fn(&[u8]) -> Option<u64>,
    ) -> Option<Vec<u8>> {
        // OCSPRequest, TBSRequest, requestList, Request: the CertID within.
        let id = (0..4).try_fold(request, |der, _| AnyRef::from_der(der).ok().map(|any| any.value()))?;
        let serial = (0..4).try_fold((id, AnyRef::from_der(id).ok()?.value()), |(_, rest), _| {
            let mut reader = SliceReader::new(rest).ok()?;
            let part = reader.tlv_bytes().ok()?;
            Some((part, &rest[part.len()..]))
        });
        let time = |tag: Option<u8>, at: Timestamp| {
            let seconds = u64::try_from(at.as_second()).unwrap_or(0);
            let time =
                GeneralizedTime::from_unix_duration(std::time::Duration::from_secs(seconds)).ok()?.to_der().ok()?;
            Some(tag.map_or_else(|| time.clone(), |tag| value(tag, &[&time])))
        };
        let status = match revoked(serial?.0) {
            // With the reason, an ENUMERATED.
            Some(reason) => value(0xa1, &[&time(None, now)?, &[0xa0, 3, 0x0a, 1, u8::try_from(reason).ok()?]]),
            None => vec![0x80, 0],
        };
        let next = time(Some(0xa0), now + SignedDuration::from_hours(24 * 3))?;
        let single = value(0x30, &[id, &status, &time(None, now)?, &next]);
        let key = SubjectPublicKeyInfoOwned::from_der(self.intermediate.public_key()).ok()?;
        let digest = Sha1::digest(key.subject_public_key.raw_bytes());
        let responder = value(0xa2, &[&value(4, &[&digest])]);
        let data = value(0x30, &[&responder, &time(None, now)?, &value(0x30, &[&single])]);
        let signed: Signature = signature::Signer::try_sign(&self.intermediate_key, &data).ok()?;
        let algorithm = self.intermediate_key.signature_algorithm_identifier().ok()?.to_der().ok()?;
        let basic = value(0x30, &[&data, &algorithm, &signed.to_bitstring().ok()?.to_der().ok()?]);
        // id-pkix-ocsp-basic, and the status "successful".
        let kind = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.1").to_der().ok()?;
        let bytes = value(0x30, &[&kind, &value(4, &[&basic])]);
        Some(value(0x30, &[&[0x0a, 1, 0], &value(0xa0, &[&bytes])]))
    }

    /// Says in all that it issues from now on where the list of its revoked certificates is.
    pub(crate) fn lists_at(&mut self, address: String) {
        self.list_at = Some(address);
    }

    /// Returns the list of those that are revoked, by the serial number, since when, and with the code of the reason.
    pub(crate) fn list(&self, revoked: &[(&Certificate, Timestamp, u64)], now: Timestamp) -> Vec<u8> {
        self.try_list(revoked, now).expect("a list of our own making can be signed")
    }

    fn try_list(
        &self,
        revoked: &[(&Certificate, Timestamp, u64)],
        now: Timestamp,
    ) -> x509_cert::builder::Result<Vec<u8>> {
        let entry = |(certificate, at, reason): &(&Certificate, Timestamp, u64)| {
            let serial = x509_cert::Certificate::from_der(certificate.der())?.tbs_certificate().serial_number().clone();
            // An ENUMERATED of one byte.
            let reason = OctetString::new([0x0a, 1, u8::try_from(*reason).unwrap_or(0)])?;
            let reason = Extension { extn_id: ID_CE_CRL_REASONS, critical: false, extn_value: reason };
            let (serial_number, revocation_date) = (serial, time(*at)?);
            Ok(RevokedCert { serial_number, revocation_date, crl_entry_extensions: Some(vec![reason]) })
        };
        let entries: x509_cert::builder::Result<Vec<RevokedCert>> = revoked.iter().map(entry).collect();
        let entries = entries?;
        let signature = self.intermediate_key.signature_algorithm_identifier()?;
        let tbs = TbsCertList {
            version: Version::V2,
            signature: signature.clone(),
            issuer: Name::from_str(&format!("CN={},O=Lampholm Lighthouse Trust", self.intermediate_name))?,
            this_update: time(now)?,
            next_update: Some(time(now + SignedDuration::from_hours(24 * 7))?),
            revoked_certificates: Some(entries).filter(|entries| !entries.is_empty()),
            crl_extensions: None,
        };
        let signed: Signature = signature::Signer::try_sign(&self.intermediate_key, &tbs.to_der()?)?;
        let signature_value = signed.to_bitstring()?;
        let list: CertificateList =
            CertificateList { tbs_cert_list: tbs, signature_algorithm: signature, signature: signature_value };
        Ok(list.to_der()?)
    }

    /// Returns the root of the usual chain as PEM.
    pub fn root_pem(&self) -> String {
        self.root.to_pem()
    }

    /// Returns the root of the alternate chain as PEM.
    pub fn old_root_pem(&self) -> String {
        self.old_root.to_pem()
    }

    /// Returns what stands above its certificates: intermediate and root.
    pub(crate) fn above(&self) -> [Certificate; 2] {
        [self.intermediate.clone(), self.root.clone()]
    }

    /// Issues a certificate for DNS names and addresses, and returns the leaf.
    pub fn issue(
        &self,
        names: &[Identifier],
        public_key: &[u8],
        from: Timestamp,
        lifetime: SignedDuration,
    ) -> Certificate {
        self.issue_titled("", names, public_key, from, lifetime)
    }

    /// Issues one with a common name.
    pub(crate) fn issue_titled(
        &self,
        common_name: &str,
        names: &[Identifier],
        public_key: &[u8],
        from: Timestamp,
        lifetime: SignedDuration,
    ) -> Certificate {
        let subject = Subject {
            common_name,
            names,
            public_key,
            ca: false,
            list_at: self.list_at.as_deref(),
            responder_at: self.responder_at.as_deref(),
        };
        sign(&subject, &self.intermediate_name, &self.intermediate_key, from, from + lifetime)
    }

    /// Returns leaf and intermediate as PEM, by the usual or the alternate chain.
    pub fn chain_pem(&self, leaf: &Certificate, alternate: bool) -> String {
        let above = if alternate { &self.cross_signed } else { &self.intermediate };
        leaf.to_pem() + &above.to_pem()
    }
}

/// Makes authorities that have all signed each other, and no root: returns a leaf of the first, and the certificates of all.
///
/// # Panics
/// When the crypto library fails.
pub fn signed_by_each_other(authorities: usize, now: Timestamp) -> Vec<Certificate> {
    let keys: Vec<PrivateKey> =
        (0..authorities).map(|_| PrivateKey::generate(KeyKind::P256).expect("a key can be made")).collect();
    let name = |n: usize| format!("Lampholm CA {n}");
    let (day, year) = (SignedDuration::from_hours(24), SignedDuration::from_hours(24 * 365));
    let make = |subject: &Subject<'_>, by: usize| sign(subject, &name(by), &keys[by], now - day, now + year);
    let names = ["lampholm.example".parse().expect("a name")];
    let leaf = Subject {
        common_name: "",
        names: &names,
        public_key: &keys[0].public_key_der(),
        ca: false,
        list_at: None,
        responder_at: None,
    };
    let mut all = vec![make(&leaf, 0)];
    for (of, by) in (0..authorities).flat_map(|of| (0..authorities).map(move |by| (of, by))).filter(|(of, by)| of != by)
    {
        let subject = Subject {
            common_name: &name(of),
            names: &[],
            public_key: &keys[of].public_key_der(),
            ca: true,
            list_at: None,
            responder_at: None,
        };
        all.push(make(&subject, by));
    }
    all
}

/// The certificate of a service on loopback, by an issuer of its own.
pub(crate) struct ApiCertificate {
    pub(crate) chain: String,
    pub(crate) key: Secret<String>,
    pub(crate) root: String,
}

impl ApiCertificate {
    /// Makes one that is good for a year.
    pub(crate) fn new() -> Self {
        let now = Timestamp::now();
        let issuer = Issuer::new(now);
        let key = PrivateKey::generate(KeyKind::P256).expect("a key can be made");
        let names = ["127.0.0.1", "localhost"].map(|name| name.parse().expect("a name"));
        let (hour, year) = (SignedDuration::from_hours(1), SignedDuration::from_hours(24 * 365));
        let leaf = issuer.issue(&names, &key.public_key_der(), now - hour, year);
        ApiCertificate { chain: issuer.chain_pem(&leaf, false), key: key.to_pem(), root: issuer.root_pem() }
    }
}

struct Subject<'a> {
    common_name: &'a str,
    names: &'a [Identifier],
    public_key: &'a [u8],
    ca: bool,
    list_at: Option<&'a str>,
    responder_at: Option<&'a str>,
}

struct Names {
    subject: Name,
    issuer: Name,
}

impl BuilderProfile for Names {
    fn get_issuer(&self, _subject: &Name) -> Name {
        self.issuer.clone()
    }

    fn get_subject(&self) -> Name {
        self.subject.clone()
    }

    fn build_extensions(
        &self,
        _: SubjectPublicKeyInfoRef<'_>,
        _: SubjectPublicKeyInfoRef<'_>,
        _: &TbsCertificate,
    ) -> x509_cert::builder::Result<Vec<Extension>> {
        Ok(Vec::new())
    }
}

fn sign(subject: &Subject<'_>, issuer: &str, signer: &PrivateKey, from: Timestamp, until: Timestamp) -> Certificate {
    try_sign(subject, issuer, signer, from, until).expect("a certificate of our own making can be signed")
}

fn try_sign(
    subject: &Subject<'_>,
    issuer: &str,
    signer: &PrivateKey,
    from: Timestamp,
    until: Timestamp,
) -> x509_cert::builder::Result<Certificate> {
    let name = |common: &str| {
        if common.is_empty() {
            return Ok(Name::default());
        }
        Name::from_str(&format!("CN={common},O=Lampholm Lighthouse Trust"))
    };
    let profile = Names { subject: name(subject.common_name)?, issuer: name(issuer)? };
    let mut serial = [0_u8; 16];
    aws_lc_rs::rand::fill(&mut serial).expect("the system has randomness");
    serial[0] &= 0x7f;
    let validity = Validity::new(time(from)?, time(until)?);
    let public = SubjectPublicKeyInfoOwned::from_der(subject.public_key)?;
    let mut builder = CertificateBuilder::new(profile, SerialNumber::new(&serial)?, validity, public)?;
    builder.add_extension(&BasicConstraints { ca: subject.ca, path_len_constraint: None })?;
    builder.add_extension(&SubjectKeyIdentifier(key_id(subject.public_key)?))?;
    builder.add_extension(&AuthorityKeyIdentifier {
        key_identifier: Some(key_id(&signer.public_key_der())?),
        ..AuthorityKeyIdentifier::default()
    })?;
    if subject.ca {
        builder.add_extension(&KeyUsage(KeyUsages::KeyCertSign | KeyUsages::CRLSign))?;
    } else {
        builder.add_extension(&KeyUsage(KeyUsages::DigitalSignature.into()))?;
        builder.add_extension(&ExtendedKeyUsage(vec![ID_KP_SERVER_AUTH, ID_KP_CLIENT_AUTH]))?;
        let names = subject.names.iter().map(|n| general_name(n).expect("a name is ASCII")).collect();
        builder.add_extension(&SubjectAltName(names))?;
    }
    if let Some(address) = subject.list_at {
        let name = GeneralName::UniformResourceIdentifier(Ia5String::new(address)?);
        let distribution_point = Some(DistributionPointName::FullName(vec![name]));
        let point = DistributionPoint { distribution_point, reasons: None, crl_issuer: None };
        builder.add_extension(&CrlDistributionPoints(vec![point]))?;
    }
    if let Some(address) = subject.responder_at {
        let access_location = GeneralName::UniformResourceIdentifier(Ia5String::new(address)?);
        let access = AccessDescription { access_method: ID_AD_OCSP, access_location };
        builder.add_extension(&AuthorityInfoAccessSyntax(vec![access]))?;
    }
    let certificate = builder.build::<_, Signature>(signer)?;
    Ok(Certificate::from_der(&certificate.to_der()?).expect("what was just built reads back"))
}

/// A DER value of several parts.
fn value(tag: u8, parts: &[&[u8]]) -> Vec<u8> {
    let mut whole = der_sequence(&parts.concat());
    whole[0] = tag;
    whole
}

/// RFC 7093 section 2: the first 160 bits of SHA-256.
fn key_id(public_key: &[u8]) -> der::Result<OctetString> {
    OctetString::new(&eskort_pki::sha256(public_key)[..20])
}

fn time(at: Timestamp) -> der::Result<Time> {
    let seconds = u64::try_from(at.as_second()).unwrap_or(0);
    let date = der::DateTime::from_unix_duration(std::time::Duration::from_secs(seconds))?;
    Ok(Time::GeneralTime(date.into()))
}
