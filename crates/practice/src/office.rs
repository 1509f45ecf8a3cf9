//! The office's own CA: a desk that takes a CSR, and answers with a zip as messy as real ones.

use crate::{Clock, Issuer};
use eskort_pki::{find_csr, read_csr};
use jiff::SignedDuration;
use std::io::{Cursor, Write};

/// The desk.
pub struct Office {
    issuer: Issuer,
    clock: Clock,
}

impl Office {
    /// Opens the desk, with keys of its own.
    ///
    /// # Panics
    /// When the crypto library fails.
    pub fn new(clock: Clock) -> Self {
        Office { issuer: Issuer::named("Lampholm Office", clock.now()), clock }
    }

    /// Returns the root that its certificates lead to, as PEM.
    pub fn root_pem(&self) -> String {
        self.issuer.root_pem()
    }

    /// Takes a CSR over the desk, and answers with a zip: the certificate in DER, the chain in PEM with Windows line ends and
    /// a few words around it, an authority's certificate that has nothing to do with it, and a page of advice.
    ///
    /// # Errors
    /// What the desk says when it does not take the CSR.
    ///
    /// # Panics
    /// Never: the zip is made in memory.
    pub fn answer(&self, csr: &str) -> Result<Vec<u8>, String> {
        let der = find_csr(csr.as_bytes()).ok_or("this is no CSR")?;
        let facts = read_csr(&der).map_err(|e| e.to_string())?;
        if let Some(foreign) = facts.names.iter().find(|n| !n.ends_with(".internal")) {
            return Err(format!("{foreign} is not of this office"));
        }
        let from = self.clock.now() - SignedDuration::from_mins(5);
        let year = SignedDuration::from_hours(24 * 365);
        let leaf = self.issuer.issue(&facts.names, &facts.public_key, from, year);
        let chain = self.issuer.chain_pem(&leaf, false);
        let intermediate = chain.split_inclusive("-----END CERTIFICATE-----\n").nth(1).unwrap_or_default();
        let stranger = Issuer::named("Harbour", self.clock.now()).root_pem();
        let wordy = format!(
            "Lampholm Office CA\r\n\r\n1. Our root:\r\n{}\r\n2. What comes between:\r\n{}\r\nThe desk\r\n",
            self.root_pem().replace('\n', "\r\n"),
            intermediate.replace('\n', "\r\n")
        );
        let files: [(&str, &[u8]); 4] = [
            ("Read me first.html", b"<p>Install these on your server."),
            ("certs/CA bundle (new).txt", wordy.as_bytes()),
            ("certs/other-root.crt", stranger.as_bytes()),
            ("certs/4711.cer", leaf.der()),
        ];
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        for (name, bytes) in files {
            zip.start_file(name, zip::write::SimpleFileOptions::default()).expect("a zip in memory");
            zip.write_all(bytes).expect("a zip in memory");
        }
        Ok(zip.finish().expect("a zip in memory").into_inner())
    }
}
