//! Makes a TLS handshake and notes what the server shows, whatever it is.

use crate::approach::{Answers, NoTls, StartTls, diagnose};
use crate::{PATIENCE, addresses, connect};
use eskort_core::boxed;
use eskort_core::inventory::CheckAddress;
use eskort_core::pki::Certificate;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, aws_lc_rs};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, SignatureScheme};
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex};
use tokio_rustls::TlsConnector;

/// What a TLS endpoint showed.
#[derive(Clone, Debug)]
pub struct Observation {
    /// The name that was asked for.
    pub name: String,
    /// The address that answered.
    pub address: SocketAddr,
    /// The certificates as sent, leaf first; never empty.
    pub sent: Vec<Certificate>,
    /// The protocol agreed on: `TLS 1.3`.
    pub protocol: &'static str,
    /// What was spoken before TLS began.
    pub begun: Option<StartTls>,
    /// The revocation answer that was stapled; empty for none.
    pub staple: Vec<u8>,
}

/// Why nothing could be observed.
#[derive(Debug, thiserror::Error)]
pub enum ObserveError {
    /// The name leads to no address.
    #[error("{name} resolves to no address: {source}")]
    NoAddress {
        /// The name.
        name: String,
        /// What the resolver said.
        source: io::Error,
    },
    /// Nobody answered.
    #[error("no connection to {name} at {address}: {source}")]
    NoConnection {
        /// The name.
        name: String,
        /// The last address tried.
        address: SocketAddr,
        /// Why not.
        source: io::Error,
    },
    /// The handshake failed.
    #[error("no TLS with {name} at {address}: {why}")]
    NoHandshake {
        /// The name.
        name: String,
        /// The address.
        address: SocketAddr,
        /// Why.
        why: NoTls,
    },
}

/// Connects to a name's TLS port and notes what it shows. Nothing is verified here; `judge` does that.
///
/// # Errors
/// When no handshake comes about.
#[boxed]
pub async fn observe(name: &str, port: u16, instead: Option<CheckAddress>) -> Result<Observation, ObserveError> {
    handshake(name, port, instead, None).await
}

/// Connects as an authority does for a tls-alpn-01 challenge, asking for the protocol `acme-tls/1` (RFC 8737 section 3).
///
/// # Errors
/// As [`observe`].
#[boxed]
pub async fn observe_challenge(
    name: &str,
    port: u16,
    instead: Option<CheckAddress>,
) -> Result<Observation, ObserveError> {
    handshake(name, port, instead, Some(b"acme-tls/1")).await
}

/// Returns the name that stands for an address in a handshake (RFC 8738 section 6): its name in reverse DNS.
pub fn reverse_name(ip: IpAddr) -> String {
    match ip {
        IpAddr::V4(ip) => {
            let [a, b, c, d] = ip.octets();
            format!("{d}.{c}.{b}.{a}.in-addr.arpa")
        }
        IpAddr::V6(ip) => {
            let nibbles = ip.octets().into_iter().rev().flat_map(|b| [b & 15, b >> 4]);
            nibbles.fold(String::new(), |text, nibble| text + &format!("{nibble:x}.")) + "ip6.arpa"
        }
    }
}

async fn handshake(
    name: &str,
    port: u16,
    instead: Option<CheckAddress>,
    protocol: Option<&[u8]>,
) -> Result<Observation, ObserveError> {
    let found = addresses(name, port, instead).await;
    let found = found.map_err(|source| ObserveError::NoAddress { name: name.to_owned(), source })?;
    let (mut stream, address) = connect(&found).await.map_err(|(address, source)| ObserveError::NoConnection {
        name: name.to_owned(),
        address,
        source,
    })?;
    let failed = |why: NoTls| ObserveError::NoHandshake { name: name.to_owned(), address, why };
    let asked_for = match protocol.and(name.parse().ok()) {
        Some(ip) => reverse_name(ip),
        None => name.to_owned(),
    };
    let server_name = ServerName::try_from(asked_for).map_err(|_| failed(NoTls::UnknownName))?;
    let usual = StartTls::usual(port).filter(|_| protocol.is_none());
    if let Some(kind) = usual {
        kind.begin(&mut stream, name).await.map_err(|e| failed(NoTls::Refuses(kind, in_words(&e))))?;
    }
    let first = shake_hands(server_name.clone(), stream, protocol).await;
    let (shown, begun) = match first {
        Ok(shown) => (shown, usual),
        Err(NoHandshake { why, is_sure }) if is_sure || usual.is_some() || protocol.is_some() => {
            return Err(failed(why));
        }
        // What answers there may begin with other words.
        Err(_) => match diagnose(address).await {
            Answers::Else(why) => return Err(failed(why)),
            Answers::StartTls(kind) => {
                let refuses = |e: io::Error| failed(NoTls::Refuses(kind, in_words(&e)));
                let mut stream = connect(&[address]).await.map_err(|(_, e)| refuses(e))?.0;
                kind.begin(&mut stream, name).await.map_err(refuses)?;
                let shown = shake_hands(server_name, stream, protocol).await;
                (shown.map_err(|NoHandshake { why, .. }| failed(why))?, Some(kind))
            }
        },
    };
    let sent = shown.sent.iter().map(|der| Certificate::from_der(der)).collect::<Result<Vec<_>, _>>();
    let sent = sent.map_err(|e| failed(NoTls::BadCertificate(e.to_string())))?;
    if sent.is_empty() {
        return Err(failed(NoTls::NoCertificate));
    }
    Ok(Observation { name: name.to_owned(), address, sent, protocol: shown.protocol, begun, staple: shown.staple })
}

/// What a handshake showed.
struct Shown {
    sent: Vec<Vec<u8>>,
    staple: Vec<u8>,
    protocol: &'static str,
}

/// Why there was no handshake.
struct NoHandshake {
    why: NoTls,
    /// Whether the peer speaks TLS and says so; otherwise it is worth finding out what it speaks.
    is_sure: bool,
}

/// Makes a handshake.
async fn shake_hands(
    name: ServerName<'static>,
    stream: tokio::net::TcpStream,
    protocol: Option<&[u8]>,
) -> Result<Shown, NoHandshake> {
    let (connector, seen) = unverified_connector(protocol);
    let handshake = tokio::time::timeout(PATIENCE, connector.connect(name, stream)).await;
    let stream = match handshake {
        Ok(Ok(stream)) => stream,
        Ok(Err(error)) => {
            let is_sure = why_not(&error);
            return Err(NoHandshake { is_sure: is_sure.is_some(), why: is_sure.unwrap_or(NoTls::Closes) });
        }
        Err(_) => return Err(NoHandshake { why: NoTls::Silent, is_sure: false }),
    };
    let protocol = match stream.get_ref().1.protocol_version() {
        Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3",
        _ => "TLS 1.2",
    };
    let (sent, staple) = seen.take();
    Ok(Shown { sent, staple, protocol })
}

/// Says why a handshake failed, as far as the peer speaks TLS.
fn why_not(error: &io::Error) -> Option<NoTls> {
    use rustls::{AlertDescription as Alert, Error, PeerIncompatible};
    match error.get_ref()?.downcast_ref::<Error>()? {
        Error::AlertReceived(Alert::ProtocolVersion) => Some(NoTls::OldProtocols),
        Error::PeerIncompatible(
            PeerIncompatible::ServerDoesNotSupportTls12Or13 | PeerIncompatible::ServerTlsVersionIsDisabledByOurConfig,
        ) => Some(NoTls::OldProtocols),
        Error::AlertReceived(Alert::HandshakeFailure | Alert::InsufficientSecurity) => Some(NoTls::NoCommonCipher),
        Error::PeerIncompatible(_) => Some(NoTls::NoCommonCipher),
        Error::AlertReceived(Alert::UnrecognisedName) => Some(NoTls::UnknownName),
        Error::AlertReceived(Alert::CertificateRequired) => Some(NoTls::WantsCertificate),
        Error::NoCertificatesPresented => Some(NoTls::NoCertificate),
        Error::AlertReceived(_) => Some(NoTls::Odd),
        _ => None,
    }
}

fn in_words(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::UnexpectedEof | io::ErrorKind::ConnectionReset => "it closed the connection".to_owned(),
        io::ErrorKind::TimedOut => "no answer within 10 seconds".to_owned(),
        _ => error.to_string(),
    }
}

/// What a server sent: its certificates, and the revocation answer that it stapled.
#[derive(Debug, Default)]
pub(crate) struct Seen(Mutex<(Vec<Vec<u8>>, Vec<u8>)>);

impl Seen {
    fn take(&self) -> (Vec<Vec<u8>>, Vec<u8>) {
        std::mem::take(&mut self.0.lock().expect("no holder panics"))
    }
}

/// Takes any certificate and notes it, and takes the handshake's signature unchecked: a key that nobody should use any more is to be
/// seen too, and a challenge's certificate has a critical extension that no checker knows. Only for looking: nothing is ever sent
/// over such a connection that matters.
#[derive(Debug)]
struct Recorder {
    seen: Arc<Seen>,
    signatures: Signatures,
    provider: Arc<CryptoProvider>,
}

/// The kinds of signature that a visitor takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Signatures {
    All,
    Rsa,
    /// With keys on curves.
    Curves,
}

/// Makes a whole handshake, for a name or for none: returns the leaf, and the application protocol that was chosen.
pub(crate) async fn full_handshake(
    name: Option<&str>,
    stream: tokio::net::TcpStream,
    protocols: &[&str],
    signatures: Signatures,
) -> Option<(Vec<u8>, Option<String>)> {
    let protocols = protocols.iter().map(|one| one.as_bytes().to_vec()).collect();
    let (mut config, seen) = unverified_config(protocols, signatures);
    config.enable_sni = name.is_some();
    let name = ServerName::try_from(name.unwrap_or("localhost").to_owned()).ok()?;
    let stream = TlsConnector::from(Arc::new(config)).connect(name, stream).await.ok()?;
    let protocol = stream.get_ref().1.alpn_protocol().map(|chosen| String::from_utf8_lossy(chosen).into_owned());
    Some((seen.take().0.into_iter().next()?, protocol))
}

/// Makes a connector that asks for an application protocol, if one is given (RFC 7301).
pub(crate) fn unverified_connector(protocol: Option<&[u8]>) -> (TlsConnector, Arc<Seen>) {
    let (config, seen) = unverified_config(protocol.into_iter().map(<[u8]>::to_vec).collect(), Signatures::All);
    (TlsConnector::from(Arc::new(config)), seen)
}

fn unverified_config(protocols: Vec<Vec<u8>>, signatures: Signatures) -> (ClientConfig, Arc<Seen>) {
    let provider = Arc::new(aws_lc_rs::default_provider());
    let seen = Arc::new(Seen::default());
    let recorder = Recorder { seen: Arc::clone(&seen), signatures, provider: Arc::clone(&provider) };
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the provider speaks TLS 1.2 and 1.3")
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(recorder))
        .with_no_client_auth();
    config.alpn_protocols = protocols;
    (config, seen)
}

impl ServerCertVerifier for Recorder {
    fn verify_server_cert(
        &self,
        leaf: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        _name: &ServerName<'_>,
        staple: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let all = std::iter::once(leaf).chain(intermediates).map(|c| c.to_vec()).collect();
        *self.seen.0.lock().expect("no holder panics") = (all, staple.to_vec());
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _message: &[u8],
        _certificate: &CertificateDer<'_>,
        _signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn verify_tls13_signature(
        &self,
        _message: &[u8],
        _certificate: &CertificateDer<'_>,
        _signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        let old = [SignatureScheme::RSA_PKCS1_SHA1, SignatureScheme::ECDSA_SHA1_Legacy];
        let all = self.provider.signature_verification_algorithms.supported_schemes().into_iter().chain(old);
        let is_rsa = |scheme: &SignatureScheme| scheme.as_str().is_some_and(|name| name.starts_with("RSA"));
        match self.signatures {
            Signatures::All => all.collect(),
            Signatures::Rsa => all.filter(is_rsa).collect(),
            Signatures::Curves => all.filter(|scheme| !is_rsa(scheme)).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::reverse_name;

    #[test]
    fn an_address_is_asked_for_by_its_name_in_reverse_dns() {
        let tail = "0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa";
        for (ip, wanted) in
            [("192.0.2.7", "7.2.0.192.in-addr.arpa".to_owned()), ("2001:db8::2a", format!("a.2.0.0.{tail}"))]
        {
            assert_eq!(reverse_name(ip.parse().unwrap()), wanted);
        }
    }
}
