//! What every target checks of what was taken in.

use eskort_core::https::{Hsts, HttpsWishes, Prefer, TlsLevel};
use eskort_pki::{Anchors, Intake, LARGEST_INTAKE, Secret, assemble};

/// Takes bytes in under a name that would lead upwards, and checks that what was found is bounded and makes a chain.
pub fn take(bytes: &[u8]) {
    // The second password is of the kind that is read by our own code.
    let passwords = ["lamp", "lamp\u{1f56f}"].map(|word| Secret::new(word.to_owned()));
    for password in [None, Some(&passwords[0]), Some(&passwords[1])] {
        let mut intake = Intake::default();
        let taken = intake.take("../../outside", bytes, password);
        let size: usize = intake.certificates.iter().map(|c| c.der().len()).sum();
        assert!(size <= LARGEST_INTAKE);
        assert!(taken.is_err() || !intake.certificates.is_empty() || !intake.keys.is_empty());
        if let Some(first) = intake.certificates.first() {
            let built = assemble(first.clone(), &intake.certificates, &Anchors::default(), first.not_before);
            assert!(built.chain.certificates().len() <= intake.certificates.len());
            let _ = (first.issuer_addresses(), first.covers("lampholm.example"), built.chain.bundle_pem());
        }
    }
}

/// Returns all that a site can want of https.
pub fn all_wishes() -> HttpsWishes {
    HttpsWishes {
        redirect: true,
        prefer: Some(Prefer::Bare),
        hsts: Some(Hsts::Ramp),
        tls: Some(TlsLevel::Usual),
        http2: true,
        stapling: true,
        tls_port: None,
    }
}
