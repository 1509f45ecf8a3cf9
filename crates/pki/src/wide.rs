//! PKCS#12 containers whose password has characters beyond Unicode's basic plane. RFC 7292 appendix B.1 makes a BMPString of the
//! password, which cannot have them; OpenSSL and Windows write UTF-16. The package that opens all other containers refuses it.

use aws_lc_rs::hmac;
use cbc::cipher::block_padding::Pkcs7;
use cbc::cipher::{BlockCipherDecrypt, BlockModeDecrypt, KeyInit, KeyIvInit};
use cms::content_info::ContentInfo;
use cms::encrypted_data::EncryptedData;
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5911::{ID_DATA, ID_ENCRYPTED_DATA};
use const_oid::db::rfc5912::{ID_SHA_1, ID_SHA_256, ID_SHA_512};
use der::asn1::{ContextSpecific, OctetString};
use der::{Any, Decode, Encode};
use pkcs8::pkcs5::pbes2;
use pkcs12::kdf::{Pkcs12KeyType, derive_key};
use pkcs12::pbe_params::{EncryptedPrivateKeyInfo, Pkcs12PbeParams};
use pkcs12::safe_bag::SafeContents;
use pkcs12::{AuthenticatedSafe, CertBag, MacData, Pfx};
use sha1::Sha1;
use sha2::{Sha256, Sha512};
use spki::AlgorithmIdentifierOwned;
use zeroize::Zeroizing;

/// What was in a container, in DER; keys in PKCS#8.
#[derive(Default)]
pub(crate) struct Opened {
    pub(crate) certificates: Vec<Vec<u8>>,
    pub(crate) keys: Vec<Zeroizing<Vec<u8>>>,
}

/// Why a container could not be opened.
pub(crate) enum WideError {
    WrongPassword,
    /// Encrypted in a way that is not known here.
    Unknown(ObjectIdentifier),
    Damaged(der::Error),
}

impl From<der::Error> for WideError {
    fn from(error: der::Error) -> Self {
        WideError::Damaged(error)
    }
}

struct Password {
    utf8: Zeroizing<Vec<u8>>,
    /// Big endian, with two zero bytes at the end.
    utf16: Zeroizing<Vec<u8>>,
}

/// Returns the first character of a password that the other package cannot encode.
pub(crate) fn beyond_the_basic_plane(password: &str) -> Option<char> {
    password.chars().find(|c| *c > '\u{ffff}')
}

/// Opens a container.
pub(crate) fn open(der: &[u8], password: &str) -> Result<Opened, WideError> {
    let utf16 = password.encode_utf16().chain([0]).flat_map(u16::to_be_bytes).collect();
    let password = Password { utf8: Zeroizing::new(password.into()), utf16: Zeroizing::new(utf16) };
    let pfx = Pfx::from_der(der)?;
    let content = OctetString::from_der(&pfx.auth_safe.content.to_der()?)?;
    if let Some(mac) = &pfx.mac_data {
        password.check(mac, content.as_bytes())?;
    }
    let mut opened = Opened::default();
    for safe in AuthenticatedSafe::from_der(content.as_bytes())? {
        opened.take(&safe, &password)?;
    }
    Ok(opened)
}

impl Opened {
    fn take(&mut self, safe: &ContentInfo, password: &Password) -> Result<(), WideError> {
        let content = safe.content.to_der()?;
        let bags = match safe.content_type {
            ID_DATA => OctetString::from_der(&content)?.into_bytes().into_vec().into(),
            ID_ENCRYPTED_DATA => {
                let inner = EncryptedData::from_der(&content)?.enc_content_info;
                let bytes = inner.encrypted_content.as_ref().map_or(&[][..], OctetString::as_bytes);
                password.decrypt(&inner.content_enc_alg, bytes)?
            }
            other => return Err(WideError::Unknown(other)),
        };
        for bag in SafeContents::from_der(&bags)? {
            match bag.bag_id {
                pkcs12::PKCS_12_CERT_BAG_OID => {
                    let bag = ContextSpecific::<CertBag>::from_der(&bag.bag_value)?;
                    self.certificates.push(bag.value.cert_value.into_bytes().into_vec());
                }
                pkcs12::PKCS_12_KEY_BAG_OID => {
                    let bag = ContextSpecific::<Any>::from_der(&bag.bag_value)?;
                    self.keys.push(bag.value.to_der()?.into());
                }
                pkcs12::PKCS_12_PKCS8_KEY_BAG_OID => {
                    let locked = ContextSpecific::<EncryptedPrivateKeyInfo>::from_der(&bag.bag_value)?.value;
                    self.keys.push(password.decrypt(&locked.encryption_algorithm, locked.encrypted_data.as_bytes())?);
                }
                _ => {}
            }
        }
        Ok(())
    }
}

impl Password {
    /// RFC 7292 section 5.2.
    fn check(&self, mac: &MacData, content: &[u8]) -> Result<(), WideError> {
        let (salt, rounds, kind) = (mac.mac_salt.as_bytes(), mac.iterations, Pkcs12KeyType::Mac);
        let (algorithm, key) = match mac.mac.algorithm.oid {
            ID_SHA_1 => (hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, derive_key::<Sha1>(&self.utf16, salt, kind, rounds, 20)),
            ID_SHA_256 => (hmac::HMAC_SHA256, derive_key::<Sha256>(&self.utf16, salt, kind, rounds, 32)),
            ID_SHA_512 => (hmac::HMAC_SHA512, derive_key::<Sha512>(&self.utf16, salt, kind, rounds, 64)),
            other => return Err(WideError::Unknown(other)),
        };
        let key = hmac::Key::new(algorithm, &Zeroizing::new(key));
        hmac::verify(&key, content, mac.mac.digest.as_bytes()).map_err(|_| WideError::WrongPassword)
    }

    fn decrypt(&self, how: &AlgorithmIdentifierOwned, bytes: &[u8]) -> Result<Zeroizing<Vec<u8>>, WideError> {
        let parameters = how.parameters.as_ref().ok_or(WideError::Unknown(how.oid))?.to_der()?;
        match how.oid {
            pbes2::PBES2_OID => {
                let opened = pbes2::Parameters::from_der(&parameters)?.decrypt(&*self.utf8, bytes);
                opened.map(Zeroizing::new).map_err(|_| WideError::WrongPassword)
            }
            pkcs12::PKCS_12_PBE_WITH_SHAAND3_KEY_TRIPLE_DES_CBC => self.old::<des::TdesEde3>(&parameters, bytes, 24),
            pkcs12::PKCS_12_PBEWITH_SHAAND40_BIT_RC2_CBC => self.old::<rc2::Rc2>(&parameters, bytes, 5),
            other => Err(WideError::Unknown(other)),
        }
    }

    /// RFC 7292 appendix C, with a key of `length` bytes.
    fn old<C: BlockCipherDecrypt + KeyInit>(
        &self,
        parameters: &[u8],
        bytes: &[u8],
        length: usize,
    ) -> Result<Zeroizing<Vec<u8>>, WideError> {
        let Pkcs12PbeParams { salt, iterations } = Pkcs12PbeParams::from_der(parameters)?;
        let derive =
            |kind, length| Zeroizing::new(derive_key::<Sha1>(&self.utf16, salt.as_bytes(), kind, iterations, length));
        let (key, iv) = (derive(Pkcs12KeyType::EncryptionKey, length), derive(Pkcs12KeyType::Iv, 8));
        let cipher = cbc::Decryptor::<C>::new_from_slices(&key, &iv).map_err(|_| WideError::WrongPassword)?;
        let opened = cipher.decrypt_padded_vec::<Pkcs7>(bytes).map_err(|_| WideError::WrongPassword)?;
        Ok(Zeroizing::new(opened))
    }
}
