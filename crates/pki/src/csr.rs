//! Certificate signing requests (PKCS#10, RFC 2986).

use crate::certificate::{general_name, names_of};
use crate::{PkiError, PrivateKey, der_error, signer};
use aws_lc_rs::signature as verify;
use der::{Decode, Encode};
use x509_cert::builder::{Builder, RequestBuilder};
use x509_cert::ext::pkix::SubjectAltName;
use x509_cert::name::Name;
use x509_cert::request::ExtensionReq;

/// A PKCS#10 request.
type Request = <RequestBuilder as Builder>::Output;

/// Makes a request for DNS names and addresses in DER, with an empty subject: the names stand in the subjectAltName extension, where
/// RFC 8555 section 7.4 looks for them.
///
/// # Errors
/// When a name is not ASCII, or the crypto library fails.
pub fn make_csr(key: &PrivateKey, names: &[&str]) -> Result<Vec<u8>, PkiError> {
    let failed = |_| PkiError::Crypto { job: "making a CSR" };
    let alt_names: Result<Vec<_>, _> = names.iter().map(|n| general_name(n)).collect();
    let mut builder = RequestBuilder::new(Name::default()).map_err(failed)?;
    builder.add_extension(&SubjectAltName(alt_names?)).map_err(der_error("subjectAltName"))?;
    let request = builder.build::<_, signer::Signature>(key).map_err(failed)?;
    request.to_der().map_err(der_error("CSR"))
}

/// Returns a request in DER as one PEM block (RFC 7468 section 7).
pub fn request_pem(der: &[u8]) -> String {
    der::pem::encode_string("CERTIFICATE REQUEST", der::pem::LineEnding::LF, der).expect("any bytes encode as PEM")
}

/// What a request says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CsrFacts {
    /// The DNS names and addresses of its subjectAltName extension, lower case, in its order.
    pub names: Vec<String>,
    /// The key it is for, a DER SubjectPublicKeyInfo.
    pub public_key: Vec<u8>,
}

/// Reads a DER request and checks that it is signed by the key it names (RFC 2986 section 3).
///
/// # Errors
/// When the bytes are no request, the signature does not hold, or its algorithm is not ECDSA P-256/P-384 or RSA with
/// SHA-256.
pub fn read_csr(der: &[u8]) -> Result<CsrFacts, PkiError> {
    let request = Request::from_der(der).map_err(der_error("CSR"))?;
    let info = request.info.to_der().map_err(der_error("CSR"))?;
    let public_key = request.info.public_key.to_der().map_err(der_error("public key"))?;
    let signature = request.signature.as_bytes().ok_or(PkiError::BadRequestSignature)?;
    let algorithm: &'static dyn verify::VerificationAlgorithm = match request.algorithm.oid {
        const_oid::db::rfc5912::ECDSA_WITH_SHA_256 => &verify::ECDSA_P256_SHA256_ASN1,
        const_oid::db::rfc5912::ECDSA_WITH_SHA_384 => &verify::ECDSA_P384_SHA384_ASN1,
        const_oid::db::rfc5912::SHA_256_WITH_RSA_ENCRYPTION => &verify::RSA_PKCS1_2048_8192_SHA256,
        _ => return Err(PkiError::BadRequestSignature),
    };
    let bits = request.info.public_key.subject_public_key.raw_bytes();
    verify::UnparsedPublicKey::new(algorithm, bits)
        .verify(&info, signature)
        .map_err(|_| PkiError::BadRequestSignature)?;

    let mut names = Vec::new();
    for attribute in request.info.attributes.iter().filter(|a| a.oid == const_oid::db::rfc5912::ID_EXTENSION_REQ) {
        for value in attribute.values.iter() {
            let extensions: ExtensionReq = value.decode_as().map_err(der_error("CSR extensions"))?;
            for extension in extensions.0.iter().filter(|e| e.extn_id == const_oid::db::rfc5280::ID_CE_SUBJECT_ALT_NAME)
            {
                let alt = SubjectAltName::from_der(extension.extn_value.as_bytes()).map_err(der_error("names"))?;
                names.extend(names_of(&alt));
            }
        }
    }
    Ok(CsrFacts { names, public_key })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::KeyKind;

    #[test]
    fn what_is_made_reads_back() {
        for kind in [KeyKind::P256, KeyKind::P384, KeyKind::Rsa2048] {
            let key = PrivateKey::generate(kind).unwrap();
            let der = make_csr(&key, &["lampholm.example", "*.archive.lampholm.example", "192.0.2.7", "2001:db8::7"])
                .unwrap();
            let facts = read_csr(&der).unwrap();
            assert_eq!(facts.names, ["lampholm.example", "*.archive.lampholm.example", "192.0.2.7", "2001:db8::7"]);
            assert!(key.fits(&facts.public_key));
        }
    }

    #[test]
    fn a_changed_request_is_refused() {
        let key = PrivateKey::generate(KeyKind::P256).unwrap();
        let mut der = make_csr(&key, &["lampholm.example"]).unwrap();
        let at = der.windows(8).position(|w| w == b"lampholm").unwrap();
        der[at] = b'c';
        assert!(matches!(read_csr(&der), Err(PkiError::BadRequestSignature)));
        assert!(matches!(read_csr(b"lamp"), Err(PkiError::Der { .. })));
    }
}
