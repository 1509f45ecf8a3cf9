//! PKCS#12 containers (RFC 7292): opened here, and closed in `pack.rs`.
//!
//! Appendix B.1 makes a BMPString of the password, which cannot have characters beyond Unicode's basic plane; OpenSSL and Windows
//! write UTF-16 then, which is the same for all others.

use aws_lc_rs::hmac;
use cbc::cipher::block_padding::Pkcs7;
use cbc::cipher::{BlockCipherDecrypt, BlockModeDecrypt, BlockModeEncrypt, KeyInit, KeyIvInit};
use cms::content_info::ContentInfo;
use cms::encrypted_data::EncryptedData;
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5911::{ID_DATA, ID_ENCRYPTED_DATA};
use const_oid::db::rfc5912::{ID_SHA_1, ID_SHA_224, ID_SHA_256, ID_SHA_384, ID_SHA_512};
use der::asn1::{AnyRef, ContextSpecific, OctetString};
use der::{Any, Decode, Encode, Tag, Tagged};
use pkcs8::pkcs5::pbes2;
use pkcs12::kdf::{Pkcs12KeyType, derive_key};
use pkcs12::pbe_params::{EncryptedPrivateKeyInfo, Pkcs12PbeParams};
use pkcs12::safe_bag::SafeContents;
use pkcs12::{AuthenticatedSafe, CertBag, MacData, Pfx};
use sha1::Sha1;
use sha2::{Sha224, Sha256, Sha384, Sha512};
use spki::AlgorithmIdentifierOwned;
use zeroize::Zeroizing;

const PBE_WITH_3DES: ObjectIdentifier = pkcs12::PKCS_12_PBE_WITH_SHAAND3_KEY_TRIPLE_DES_CBC;
/// The one kind of certificate that is of use (section 4.2.3).
pub(crate) const X509_CERTIFICATE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.22.1");

/// What was in a container, in DER; keys in PKCS#8.
#[derive(Default)]
pub(crate) struct Opened {
    pub(crate) certificates: Vec<Vec<u8>>,
    pub(crate) keys: Vec<Zeroizing<Vec<u8>>>,
}

/// Why a container could not be opened.
pub(crate) enum ContainerError {
    WrongPassword,
    /// Encrypted in a way that is not known here.
    Unknown(ObjectIdentifier),
    Damaged(der::Error),
}

impl From<der::Error> for ContainerError {
    fn from(error: der::Error) -> Self {
        ContainerError::Damaged(error)
    }
}

/// The password of a container, as its two kinds of key derivation want it.
pub(crate) struct Password {
    utf8: Zeroizing<Vec<u8>>,
    /// Big endian, with two zero bytes at the end.
    utf16: Zeroizing<Vec<u8>>,
}

/// Returns the first character of a password that programs encode in different ways.
pub(crate) fn beyond_the_basic_plane(password: &str) -> Option<char> {
    password.chars().find(|c| *c > '\u{ffff}')
}

/// Opens a container.
pub(crate) fn open(der: &[u8], password: &str) -> Result<Opened, ContainerError> {
    let password = Password::new(password);
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
    fn take(&mut self, safe: &ContentInfo, password: &Password) -> Result<(), ContainerError> {
        let content = safe.content.to_der()?;
        let bags = match safe.content_type {
            ID_DATA => OctetString::from_der(&content)?.into_bytes().into_vec().into(),
            ID_ENCRYPTED_DATA => {
                let inner = EncryptedData::from_der(&content)?.enc_content_info;
                let bytes = inner.encrypted_content.as_ref().map_or(&[][..], OctetString::as_bytes);
                password.decrypt(&inner.content_enc_alg, bytes)?
            }
            other => return Err(ContainerError::Unknown(other)),
        };
        for bag in SafeContents::from_der(&bags)? {
            match bag.bag_id {
                pkcs12::PKCS_12_CERT_BAG_OID => {
                    let bag = ContextSpecific::<CertBag>::from_der(&bag.bag_value)?.value;
                    if bag.cert_id == X509_CERTIFICATE {
                        self.certificates.push(bag.cert_value.into_bytes().into_vec());
                    }
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
    pub(crate) fn new(password: &str) -> Self {
        let utf16 = password.encode_utf16().chain([0]).flat_map(u16::to_be_bytes).collect();
        Password { utf8: Zeroizing::new(password.into()), utf16: Zeroizing::new(utf16) }
    }

    /// RFC 7292 section 5.2.
    fn check(&self, mac: &MacData, content: &[u8]) -> Result<(), ContainerError> {
        let (digest, salt) = (mac.mac.algorithm.oid, mac.mac_salt.as_bytes());
        let key = self.mac_key(digest, salt, mac.iterations).ok_or(ContainerError::Unknown(digest))?;
        hmac::verify(&key, content, mac.mac.digest.as_bytes()).map_err(|_| ContainerError::WrongPassword)
    }

    /// Returns the key of the code that guards a whole container, for a digest (appendix B); `None` for an unknown digest.
    pub(crate) fn mac_key(&self, digest: ObjectIdentifier, salt: &[u8], rounds: i32) -> Option<hmac::Key> {
        let (word, kind) = (&self.utf16, Pkcs12KeyType::Mac);
        let (algorithm, key) = match digest {
            ID_SHA_1 => (hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, derive_key::<Sha1>(word, salt, kind, rounds, 20)),
            ID_SHA_224 => (hmac::HMAC_SHA224, derive_key::<Sha224>(word, salt, kind, rounds, 28)),
            ID_SHA_256 => (hmac::HMAC_SHA256, derive_key::<Sha256>(word, salt, kind, rounds, 32)),
            ID_SHA_384 => (hmac::HMAC_SHA384, derive_key::<Sha384>(word, salt, kind, rounds, 48)),
            ID_SHA_512 => (hmac::HMAC_SHA512, derive_key::<Sha512>(word, salt, kind, rounds, 64)),
            _ => return None,
        };
        Some(hmac::Key::new(algorithm, &Zeroizing::new(key)))
    }

    /// Decrypts what is a sequence in DER: where no code guards the container, the padding alone lets one wrong password of 256 pass.
    fn decrypt(&self, how: &AlgorithmIdentifierOwned, bytes: &[u8]) -> Result<Zeroizing<Vec<u8>>, ContainerError> {
        let parameters = how.parameters.as_ref().ok_or(ContainerError::Unknown(how.oid))?.to_der()?;
        let opened = match how.oid {
            pbes2::PBES2_OID => {
                let opened = pbes2::Parameters::from_der(&parameters)?.decrypt(&*self.utf8, bytes);
                opened.map(Zeroizing::new).map_err(|_| ContainerError::WrongPassword)?
            }
            PBE_WITH_3DES => self.old::<des::TdesEde3>(&parameters, bytes, 24)?,
            pkcs12::PKCS_12_PBE_WITH_SHAAND128_BIT_RC2_CBC => self.old::<rc2::Rc2>(&parameters, bytes, 16)?,
            pkcs12::PKCS_12_PBEWITH_SHAAND40_BIT_RC2_CBC => self.old::<rc2::Rc2>(&parameters, bytes, 5)?,
            other => return Err(ContainerError::Unknown(other)),
        };
        let is_sequence = AnyRef::from_der(&opened).is_ok_and(|any| any.tag() == Tag::Sequence);
        if is_sequence { Ok(opened) } else { Err(ContainerError::WrongPassword) }
    }

    /// RFC 7292 appendix C, with a key of `length` bytes.
    fn old<C: BlockCipherDecrypt + KeyInit>(
        &self,
        parameters: &[u8],
        bytes: &[u8],
        length: usize,
    ) -> Result<Zeroizing<Vec<u8>>, ContainerError> {
        let Pkcs12PbeParams { salt, iterations } = Pkcs12PbeParams::from_der(parameters)?;
        let (key, iv) = self.old_key(salt.as_bytes(), iterations, length);
        let cipher = cbc::Decryptor::<C>::new_from_slices(&key, &iv).map_err(|_| ContainerError::WrongPassword)?;
        let opened = cipher.decrypt_padded_vec::<Pkcs7>(bytes).map_err(|_| ContainerError::WrongPassword)?;
        Ok(Zeroizing::new(opened))
    }

    fn old_key(&self, salt: &[u8], rounds: i32, length: usize) -> (Zeroizing<Vec<u8>>, Zeroizing<Vec<u8>>) {
        let derive = |kind, length| Zeroizing::new(derive_key::<Sha1>(&self.utf16, salt, kind, rounds, length));
        (derive(Pkcs12KeyType::EncryptionKey, length), derive(Pkcs12KeyType::Iv, 8))
    }

    /// Encrypts with PBES2: PBKDF2, HMAC-SHA-256 and AES-256 (RFC 8018). Returns how, and the encrypted bytes; `None` when the
    /// crypto library fails.
    pub(crate) fn encrypt(&self, bytes: &[u8], rounds: u32) -> Option<(AlgorithmIdentifierOwned, Vec<u8>)> {
        let (salt, iv) = (random::<16>()?, random::<16>()?);
        let how = pbes2::Parameters::generate_pbkdf2_sha256_aes256cbc(rounds, &salt, iv).ok()?;
        let encrypted = how.encrypt(&*self.utf8, bytes).ok()?;
        Some((
            AlgorithmIdentifierOwned { oid: pbes2::PBES2_OID, parameters: Some(Any::encode_from(&how).ok()?) },
            encrypted,
        ))
    }

    /// As [`Password::encrypt`], with three keys of DES and SHA-1 (appendix C).
    pub(crate) fn encrypt_as_before(&self, bytes: &[u8], rounds: i32) -> Option<(AlgorithmIdentifierOwned, Vec<u8>)> {
        let salt = random::<8>()?;
        let (key, iv) = self.old_key(&salt, rounds, 24);
        let cipher = cbc::Encryptor::<des::TdesEde3>::new_from_slices(&key, &iv).ok()?;
        let how = Pkcs12PbeParams { salt: OctetString::new(salt).ok()?, iterations: rounds };
        let how = AlgorithmIdentifierOwned { oid: PBE_WITH_3DES, parameters: Some(Any::encode_from(&how).ok()?) };
        Some((how, cipher.encrypt_padded_vec::<Pkcs7>(bytes)))
    }
}

/// Returns a text that nobody can guess, of letters, digits, `-` and `_`.
///
/// # Panics
/// When the system has no randomness.
pub fn random_text() -> String {
    crate::base64url(&random::<18>().expect("the system has randomness"))
}

/// Returns random bytes, for salts and the like.
pub(crate) fn random<const N: usize>() -> Option<[u8; N]> {
    let mut bytes = [0; N];
    aws_lc_rs::rand::fill(&mut bytes).ok().map(|()| bytes)
}
