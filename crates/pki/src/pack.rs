//! Packs a key and its chain for other programs.

use crate::encoding::tlv;
use crate::wide::beyond_the_basic_plane;
use crate::{Certificate, Chain, PkiError, PrivateKey, Secret, sha256};
use p12_keystore::{
    Certificate as Pkcs12Certificate, EncryptionAlgorithm, KeyStore, KeyStoreEntry, MacAlgorithm,
    PrivateKey as Pkcs12Key, PrivateKeyChain,
};

/// How a PKCS#12 container is encrypted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pkcs12Form {
    /// PBES2 with AES-256 and HMAC-SHA-256: what today's programs read.
    Modern,
    /// Triple DES and HMAC-SHA-1, for programs from before 2019 or so. Its protection is weak.
    Old,
}

/// Key derivation rounds: as many as others use, so that guessing is slow and reading is not.
const ROUNDS: u32 = 100_000;
const OLD_ROUNDS: u32 = 2_048;

/// Packs key and chain into a PKCS#12 container (RFC 7292). `name` is the friendly name that programs show.
///
/// # Errors
/// When the password has characters beyond the basic plane, or a certificate or the key cannot be written.
pub fn to_pkcs12(
    key: &PrivateKey,
    chain: &Chain,
    name: &str,
    password: &Secret<String>,
    form: Pkcs12Form,
) -> Result<Secret<Vec<u8>>, PkiError> {
    if let Some(found) = beyond_the_basic_plane(password.reveal()) {
        return Err(PkiError::WidePassword(found));
    }
    let failed = |_| PkiError::Crypto { job: "packing PKCS#12" };
    let certificates: Result<Vec<_>, _> =
        chain.certificates().iter().map(|c| Pkcs12Certificate::from_der(c.der())).collect();
    let private = Pkcs12Key::from_der(key.to_pkcs8().reveal()).map_err(failed)?;
    let id = sha256(chain.leaf().der());
    let entry = PrivateKeyChain::new(&id[..20], private, certificates.map_err(failed)?);
    let mut store = KeyStore::new();
    store.add_entry(name, KeyStoreEntry::PrivateKeyChain(entry));
    let writer = store.writer(password.reveal());
    let writer = match form {
        Pkcs12Form::Modern => writer
            .encryption_algorithm(EncryptionAlgorithm::PbeWithHmacSha256AndAes256)
            .mac_algorithm(MacAlgorithm::HmacSha256)
            .encryption_iterations(ROUNDS)
            .mac_iterations(ROUNDS),
        Pkcs12Form::Old => writer
            .encryption_algorithm(EncryptionAlgorithm::PbeWithShaAnd3KeyTripleDesCbc)
            .mac_algorithm(MacAlgorithm::HmacSha1)
            .encryption_iterations(OLD_ROUNDS)
            .mac_iterations(OLD_ROUNDS),
    };
    writer.write().map(Secret::new).map_err(failed)
}

/// Packs certificates into a PKCS#7 bag without signatures (RFC 5652 section 5.1), in DER. The bag has no order: whoever reads
/// it puts the chain together anew.
pub fn to_pkcs7(certificates: &[Certificate]) -> Vec<u8> {
    // A SET OF is sorted by its bytes (X.690 section 11.6).
    let mut sorted: Vec<&[u8]> = certificates.iter().map(Certificate::der).collect();
    sorted.sort_unstable();
    let data = [0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x01];
    let signed_data = [0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02];
    let content =
        [vec![0x02, 0x01, 0x01], tlv(0x31, &[]), tlv(0x30, &data), tlv(0xa0, &sorted.concat()), tlv(0x31, &[])];
    tlv(0x30, &[&signed_data[..], &tlv(0xa0, &tlv(0x30, &content.concat()))].concat())
}
