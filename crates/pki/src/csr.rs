//! Certificate signing requests (PKCS#10, RFC 2986).

use crate::certificate::{general_name, names_of, printable, verify};
use crate::chain::pem_blocks_lenient;
use crate::{PkiError, PrivateKey, der_error, signer};
use const_oid::{AssociatedOid, ObjectIdentifier};
use der::asn1::Any;
use der::{Decode, Encode, Tag};
use x509_cert::attr::AttributeTypeAndValue;
use x509_cert::builder::{Builder, RequestBuilder};
use x509_cert::ext::pkix::SubjectAltName;
use x509_cert::ext::{Criticality, Extension};
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

/// What a request is to ask for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CsrWish {
    /// Who it is for.
    pub subject: Subject,
    /// Whether servers have to staple a revocation answer (RFC 7633).
    pub must_staple: bool,
}

/// Makes a request for DNS names and addresses in DER. The names stand in the subjectAltName extension, where RFC 8555
/// section 7.4 looks for them.
///
/// # Errors
/// When a name is not ASCII, a part of the subject cannot be written, or the crypto library fails.
pub fn make_csr(key: &PrivateKey, names: &[&str], wish: &CsrWish) -> Result<Vec<u8>, PkiError> {
    let failed = |_| PkiError::Crypto { job: "making a CSR" };
    let alt_names: Result<Vec<_>, _> = names.iter().map(|n| general_name(n)).collect();
    let mut builder = RequestBuilder::new(wish.subject.to_name()?).map_err(failed)?;
    builder.add_extension(&SubjectAltName(alt_names?)).map_err(der_error("subjectAltName"))?;
    if wish.must_staple {
        builder.add_extension(&MustStaple).map_err(der_error("TLS features"))?;
    }
    let request = builder.build::<_, signer::Signature>(key).map_err(failed)?;
    request.to_der().map_err(der_error("CSR"))
}

/// The TLS feature extension with the feature status_request (RFC 7633 section 4).
struct MustStaple;

impl AssociatedOid for MustStaple {
    const OID: ObjectIdentifier = TLS_FEATURE;
}

impl Encode for MustStaple {
    fn encoded_len(&self) -> der::Result<der::Length> {
        der::Length::try_from(STATUS_REQUEST.len())
    }

    fn encode(&self, writer: &mut impl der::Writer) -> der::Result<()> {
        writer.write(STATUS_REQUEST)
    }
}

impl Criticality for MustStaple {
    fn criticality(&self, _: &Name, _: &[Extension]) -> bool {
        false
    }
}

/// id-pe-tlsfeature.
const TLS_FEATURE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.1.24");
/// A sequence of one integer, 5.
const STATUS_REQUEST: &[u8] = &[0x30, 0x03, 0x02, 0x01, 0x05];

/// Returns a request in DER as one PEM block (RFC 7468 section 7).
pub fn request_pem(der: &[u8]) -> String {
    der::pem::encode_string("CERTIFICATE REQUEST", der::pem::LineEnding::LF, der).expect("any bytes encode as PEM")
}

/// What a request says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CsrFacts {
    /// Its subject: types and values in words, in its order.
    pub subject: Vec<(String, String)>,
    /// The DNS names and addresses of its subjectAltName extension, lower case, in its order.
    pub names: Vec<String>,
    /// The key it is for, a DER SubjectPublicKeyInfo.
    pub public_key: Vec<u8>,
    /// Whether its own signature holds (RFC 2986 section 3); `None` when the algorithm is not known here.
    pub signature_holds: Option<bool>,
    /// Whether it asks for a certificate whose servers have to staple (RFC 7633).
    pub must_staple: bool,
    /// The other extensions that it asks for, in words where they are known.
    pub extensions: Vec<String>,
}

/// Reads a DER request and checks that it is signed by the key it names (RFC 2986 section 3).
///
/// # Errors
/// When the bytes are no request, or the signature does not hold.
pub fn read_csr(der: &[u8]) -> Result<CsrFacts, PkiError> {
    let facts = look_at_csr(der)?;
    if facts.signature_holds == Some(true) { Ok(facts) } else { Err(PkiError::BadRequestSignature) }
}

/// Reads a DER request, whether its signature holds or not.
///
/// # Errors
/// When the bytes are no request.
pub fn look_at_csr(der: &[u8]) -> Result<CsrFacts, PkiError> {
    let request = Request::from_der(der).map_err(der_error("CSR"))?;
    let info = request.info.to_der().map_err(der_error("CSR"))?;
    let public_key = request.info.public_key.to_der().map_err(der_error("public key"))?;
    let signature = request.signature.as_bytes().unwrap_or_default();
    let signature_holds = verify(request.algorithm.oid, &public_key, &info, signature);
    let word = |oid: ObjectIdentifier| const_oid::db::DB.by_oid(&oid).map_or(oid.to_string(), str::to_owned);
    let value = |value: &Any| printable(&String::from_utf8_lossy(value.value()));
    let subject = request.info.subject.iter().map(|part| (word(part.oid), value(&part.value))).collect();
    let mut facts = CsrFacts {
        subject,
        names: Vec::new(),
        public_key,
        signature_holds,
        must_staple: false,
        extensions: Vec::new(),
    };
    for attribute in request.info.attributes.iter().filter(|a| a.oid == const_oid::db::rfc5912::ID_EXTENSION_REQ) {
        for value in attribute.values.iter() {
            let extensions: ExtensionReq = value.decode_as().map_err(der_error("CSR extensions"))?;
            for extension in &extensions.0 {
                match extension.extn_id {
                    const_oid::db::rfc5280::ID_CE_SUBJECT_ALT_NAME => {
                        let alt =
                            SubjectAltName::from_der(extension.extn_value.as_bytes()).map_err(der_error("names"))?;
                        facts.names.extend(names_of(&alt));
                    }
                    TLS_FEATURE => facts.must_staple |= extension.extn_value.as_bytes() == STATUS_REQUEST,
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
    let text = crate::intake::text_of(bytes);
    let mut blocks = pem_blocks_lenient(&text).into_iter().map(|(_, der)| der);
    blocks.find(is_request).or_else(|| crate::intake::bare_base64(&text).filter(is_request))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::KeyKind;

    #[test]
    fn what_is_made_reads_back() {
        for kind in [KeyKind::P256, KeyKind::P384, KeyKind::Rsa2048, KeyKind::Ed25519] {
            let key = PrivateKey::generate(kind).unwrap();
            let der = make_csr(
                &key,
                &["lampholm.example", "*.archive.lampholm.example", "192.0.2.7", "2001:db8::7"],
                &CsrWish::default(),
            )
            .unwrap();
            let facts = read_csr(&der).unwrap();
            assert_eq!(facts.names, ["lampholm.example", "*.archive.lampholm.example", "192.0.2.7", "2001:db8::7"]);
            assert!(key.fits(&facts.public_key));
        }
    }

    #[test]
    fn a_changed_request_is_refused() {
        let key = PrivateKey::generate(KeyKind::P256).unwrap();
        let mut der = make_csr(&key, &["lampholm.example"], &CsrWish::default()).unwrap();
        let at = der.windows(8).position(|w| w == b"lampholm").unwrap();
        der[at] = b'c';
        assert!(matches!(read_csr(&der), Err(PkiError::BadRequestSignature)));
        assert!(matches!(read_csr(b"lamp"), Err(PkiError::Der { .. })));
    }
}
