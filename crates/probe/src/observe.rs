//! Makes a TLS handshake and notes what the server shows, whatever it is.

use crate::{PATIENCE, addresses, connect};
use eskort_core::inventory::CheckAddress;
use eskort_core::pki::Certificate;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{
    CryptoProvider, WebPkiSupportedAlgorithms, aws_lc_rs, verify_tls12_signature, verify_tls13_signature,
};
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
    #[error("no TLS handshake with {name} at {address}: {what}")]
    NoHandshake {
        /// The name.
        name: String,
        /// The address.
        address: SocketAddr,
        /// What happened.
        what: String,
    },
}

/// Connects to a name's TLS port and notes what it shows. Nothing is verified here; [`crate::judge`] does that.
///
/// # Errors
/// When no handshake comes about.
pub async fn observe(name: &str, port: u16, instead: Option<CheckAddress>) -> Result<Observation, ObserveError> {
    handshake(name, port, instead, None).await
}

/// Connects as an authority does for a tls-alpn-01 challenge, asking for the protocol `acme-tls/1` (RFC 8737 section 3).
///
/// # Errors
/// As [`observe`].
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
    let (stream, address) = connect(&found).await.map_err(|(address, source)| ObserveError::NoConnection {
        name: name.to_owned(),
        address,
        source,
    })?;
    let failed = |what: String| ObserveError::NoHandshake { name: name.to_owned(), address, what };
    let (connector, seen) = unverified_connector(protocol);
    let asked_for = match protocol.and(name.parse().ok()) {
        Some(ip) => reverse_name(ip),
        None => name.to_owned(),
    };
    let server_name = ServerName::try_from(asked_for).map_err(|e| failed(e.to_string()))?;
    let handshake = tokio::time::timeout(PATIENCE, connector.connect(server_name, stream)).await;
    let stream =
        handshake.map_err(|_| failed("no answer within 10 seconds".into()))?.map_err(|e| failed(in_words(&e)))?;
    let protocol = match stream.get_ref().1.protocol_version() {
        Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3",
        _ => "TLS 1.2",
    };
    let sent = seen.take().iter().map(|der| Certificate::from_der(der)).collect::<Result<Vec<_>, _>>();
    let sent = sent.map_err(|e| failed(format!("a certificate it sends is {e}")))?;
    if sent.is_empty() {
        return Err(failed("it sends no certificate".into()));
    }
    Ok(Observation { name: name.to_owned(), address, sent, protocol })
}

/// The certificates that a server sent.
/// Says what went wrong in a handshake; what is no TLS at all gets words of its own.
fn in_words(error: &io::Error) -> String {
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
    match inner {
        Some(rustls::Error::InvalidMessage(_)) => {
            "what answers there does not speak TLS; it may be a port for plain http".to_owned()
        }
        _ if error.kind() == io::ErrorKind::UnexpectedEof => "it closed the connection".to_owned(),
        _ => error.to_string(),
    }
}

#[derive(Debug, Default)]
pub(crate) struct Seen(Mutex<Vec<Vec<u8>>>);

impl Seen {
    fn take(&self) -> Vec<Vec<u8>> {
        std::mem::take(&mut self.0.lock().expect("no holder panics"))
    }
}

/// Takes any certificate and notes it. Only for looking: nothing is ever sent over such a connection that matters.
#[derive(Debug)]
struct Recorder {
    seen: Arc<Seen>,
    /// Takes the handshake's signature unchecked: a challenge's certificate has a critical extension that no checker knows.
    unchecked: bool,
    provider: Arc<CryptoProvider>,
}

/// Makes a connector that asks for an application protocol, if one is given (RFC 7301).
pub(crate) fn unverified_connector(protocol: Option<&[u8]>) -> (TlsConnector, Arc<Seen>) {
    let provider = Arc::new(aws_lc_rs::default_provider());
    let seen = Arc::new(Seen::default());
    let unchecked = protocol.is_some();
    let recorder = Recorder { seen: Arc::clone(&seen), unchecked, provider: Arc::clone(&provider) };
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the provider speaks TLS 1.2 and 1.3")
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(recorder))
        .with_no_client_auth();
    config.alpn_protocols = protocol.into_iter().map(<[u8]>::to_vec).collect();
    (TlsConnector::from(Arc::new(config)), seen)
}

impl Recorder {
    fn check(
        &self,
        signature: impl FnOnce(&WebPkiSupportedAlgorithms) -> Result<HandshakeSignatureValid, rustls::Error>,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        if self.unchecked {
            return Ok(HandshakeSignatureValid::assertion());
        }
        signature(&self.provider.signature_verification_algorithms)
    }
}

impl ServerCertVerifier for Recorder {
    fn verify_server_cert(
        &self,
        leaf: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        _name: &ServerName<'_>,
        _ocsp: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let all = std::iter::once(leaf).chain(intermediates).map(|c| c.to_vec()).collect();
        *self.seen.0.lock().expect("no holder panics") = all;
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.check(|algorithms| verify_tls12_signature(message, certificate, signed, algorithms))
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.check(|algorithms| verify_tls13_signature(message, certificate, signed, algorithms))
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
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
