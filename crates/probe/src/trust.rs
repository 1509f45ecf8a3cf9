//! The roots that visitors trust.

use eskort_core::finding::Finding;
use eskort_core::pki::{Anchors, Certificate, Chain, der_sequence};
use jiff::{SignedDuration, Timestamp};
use rustls::pki_types::{CertificateDer, TrustAnchor, UnixTime};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::Duration;

/// Where administrators of Debian's and of Red Hat's family put roots of their own.
const ADDED: [&str; 3] =
    ["/usr/local/share/ca-certificates", "/etc/pki/ca-trust/source/anchors", "/usr/share/pki/ca-trust-source/anchors"];

/// So long what was said of a chain stands: dates may pass.
const MOMENT: SignedDuration = SignedDuration::from_secs(60);

/// A set of trusted roots.
#[derive(Default)]
pub struct Trust {
    anchors: Vec<TrustAnchor<'static>>,
    /// What was said last, and of which chain: many endpoints of one server show the same.
    said: Mutex<Option<Said>>,
}

struct Said {
    of: Vec<Certificate>,
    at: Timestamp,
    findings: Vec<Finding>,
}

/// Why roots cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("cannot read roots from {}: {why}", path.display())]
pub struct TrustError {
    /// The file.
    pub path: PathBuf,
    /// What is wrong.
    pub why: String,
}

impl Trust {
    /// Reads the system's roots; what of them cannot be used is left out.
    pub fn system() -> Self {
        static SYSTEM: OnceLock<Vec<TrustAnchor<'static>>> = OnceLock::new();
        let load = || rustls_native_certs::load_native_certs().certs.iter().filter_map(anchor).collect();
        Trust { anchors: SYSTEM.get_or_init(load).clone(), ..Trust::default() }
    }

    /// Returns the system's roots without those that somebody has added on this machine: what is left is meant to be known everywhere.
    pub fn public() -> Self {
        static PUBLIC: OnceLock<Vec<TrustAnchor<'static>>> = OnceLock::new();
        let load = || {
            let mut added = Trust::nobody();
            for folder in ADDED {
                let files = std::fs::read_dir(folder).into_iter().flatten().flatten();
                // What is no certificate there is no root, either.
                files.for_each(|file| drop(added.add_file(&file.path())));
            }
            let is_added = |anchor: &TrustAnchor<'_>| {
                added.anchors.iter().any(|own| {
                    own.subject == anchor.subject && own.subject_public_key_info == anchor.subject_public_key_info
                })
            };
            Trust::system().anchors.into_iter().filter(|anchor| !is_added(anchor)).collect()
        };
        Trust { anchors: PUBLIC.get_or_init(load).clone(), ..Trust::default() }
    }

    /// Returns a trust that trusts nobody yet.
    pub fn nobody() -> Self {
        Trust::default()
    }

    /// Adds the roots of a PEM file.
    ///
    /// # Errors
    /// When it cannot be read or holds no certificate.
    pub fn add_file(&mut self, path: &Path) -> Result<(), TrustError> {
        let fail = |why: String| TrustError { path: path.to_owned(), why };
        let text = std::fs::read_to_string(path).map_err(|e| fail(e.to_string()))?;
        let roots = Certificate::all_from_pem(&text).map_err(|e| fail(e.to_string()))?;
        let before = self.anchors.len();
        self.said = Mutex::default();
        self.anchors.extend(roots.iter().filter_map(|r| anchor(&CertificateDer::from(r.der()))));
        if self.anchors.len() == before { Err(fail("there is no certificate in it".into())) } else { Ok(()) }
    }

    /// Returns the names and keys of the roots.
    pub fn anchors(&self) -> Anchors {
        let mut anchors = Anchors::default();
        for anchor in &self.anchors {
            anchors.add(der_sequence(&anchor.subject), der_sequence(&anchor.subject_public_key_info));
        }
        anchors
    }

    /// Returns what `say` has to say of the certificates sent by a server; what it said a moment ago where they were the same.
    pub(crate) fn once(
        &self,
        sent: &[Certificate],
        now: Timestamp,
        say: impl FnOnce() -> Vec<Finding>,
    ) -> Vec<Finding> {
        let said = || self.said.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(said) = &*said()
            && said.of == sent
            && now.duration_since(said.at).abs() < MOMENT
        {
            return said.findings.clone();
        }
        let findings = say();
        *said() = Some(Said { of: sent.to_vec(), at: now, findings: findings.clone() });
        findings
    }

    /// Checks that certificates sent by a server lead from the leaf to a trusted root at `now` (RFC 5280 section 6).
    pub(crate) fn verify(&self, sent: &[Certificate], now: Timestamp) -> Result<(), webpki::Error> {
        let leaf = CertificateDer::from(sent[0].der());
        let others: Vec<CertificateDer<'_>> = sent[1..].iter().map(|c| CertificateDer::from(c.der())).collect();
        let seconds = u64::try_from(now.as_second()).unwrap_or(0);
        webpki::EndEntityCert::try_from(&leaf)?
            .verify_for_usage(
                webpki::ALL_VERIFICATION_ALGS,
                &self.anchors,
                &others,
                UnixTime::since_unix_epoch(Duration::from_secs(seconds)),
                webpki::KeyUsage::server_auth(),
                None,
                None,
            )
            .map(drop)
    }

    /// Returns whether a certificate is one of the roots itself.
    pub(crate) fn has(&self, certificate: &Certificate) -> bool {
        self.anchors.iter().any(|anchor| {
            der_sequence(&anchor.subject) == certificate.subject_der()
                && der_sequence(&anchor.subject_public_key_info) == certificate.public_key()
        })
    }

    /// Returns whether certificates sent by a server lead to a trusted root at `now`.
    pub fn trusts_sent(&self, sent: &[Certificate], now: Timestamp) -> bool {
        !sent.is_empty() && self.verify(sent, now).is_ok()
    }

    /// Returns whether a stored chain is trusted at `now`.
    pub fn trusts(&self, chain: &Chain, now: Timestamp) -> bool {
        self.verify(chain.certificates(), now).is_ok()
    }
}

fn anchor(der: &CertificateDer<'_>) -> Option<TrustAnchor<'static>> {
    webpki::anchor_from_trusted_cert(der).ok().map(|a| a.to_owned())
}
