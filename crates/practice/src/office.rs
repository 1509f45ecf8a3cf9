//! The office's own CA: a desk that takes a CSR, and answers with a zip as messy as real ones.

use crate::ca::look::fetch_and_compare;
use crate::{Clock, Issuer, NameServer};
use async_recursion::async_recursion as boxed;
use eskort_pki::names::Identifier;
use eskort_pki::{find_csr, parse_csr};
use jiff::SignedDuration;
use std::io::{Cursor, Write};
use std::sync::{Arc, Mutex, MutexGuard};

/// What the desk gives for a CSR.
#[derive(Clone, Debug)]
pub struct Slip {
    /// The order's number.
    pub number: String,
    /// A path on the site; the text has to be there,
    pub path: String,
    /// which is this,
    pub text: String,
    /// or in a TXT record at this name.
    pub record: String,
}

#[derive(Clone)]
struct Order {
    slip: Slip,
    names: Vec<Identifier>,
    public_key: Vec<u8>,
    /// Whether the colleague has seen the file or the record.
    seen: bool,
}

/// The desk.
pub struct Office {
    issuer: Issuer,
    clock: Clock,
    names: Arc<NameServer>,
    site_port: u16,
    orders: Mutex<Vec<Order>>,
}

impl Office {
    /// Opens the desk, with keys of its own. It looks at sites on `site_port` of where the name server says that they are.
    ///
    /// # Panics
    /// When the crypto library fails.
    pub fn new(clock: Clock, names: Arc<NameServer>, site_port: u16) -> Self {
        let issuer = Issuer::named("Lampholm Office", clock.now());
        Office { issuer, clock, names, site_port, orders: Mutex::default() }
    }

    /// Returns the root that its certificates lead to, as PEM.
    pub fn root_pem(&self) -> String {
        self.issuer.root_pem()
    }

    /// Takes a CSR over the desk, and gives a slip that says what has to be shown at its first name: a file or a record.
    ///
    /// # Errors
    /// What the desk says when it does not take the CSR.
    pub fn take(&self, csr: &str) -> Result<Slip, String> {
        let der = find_csr(csr.as_bytes()).ok_or("this is no CSR")?;
        let facts = parse_csr(&der).map_err(|e| e.to_string())?;
        let names = facts.identifiers().ok_or("a name of the CSR is none")?;
        if let Some(foreign) = names.iter().find(|n| !n.base().ends_with(".internal")) {
            return Err(format!("{foreign} is not of this office"));
        }
        let name = names.first().ok_or("the CSR has no name")?.clone();
        let code = eskort_pki::base32(&eskort_pki::sha256(&der)[..10]).to_ascii_lowercase();
        let mut orders = self.orders();
        let slip = Slip {
            number: format!("{:04}", 4711 + orders.len()),
            path: format!("/.well-known/pki-validation/{code}.txt"),
            text: format!("lampholm-office={code}"),
            record: format!("_office.{name}"),
        };
        orders.push(Order { slip: slip.clone(), names, public_key: facts.public_key, seen: false });
        Ok(slip)
    }

    /// Asks at the desk for the certificate of an order: the colleague looks at the file or the record first, and has it the
    /// next time. It is a zip: the certificate in DER, the chain in PEM with Windows line ends and a few words around it, an
    /// authority's certificate that has nothing to do with it, and a page of advice.
    ///
    /// # Errors
    /// What the desk says when it is not there yet.
    ///
    /// # Panics
    /// Never: the zip is made in memory.
    #[boxed]
    pub async fn collect(&self, number: &str) -> Result<Vec<u8>, String> {
        let found = self.orders().iter().find(|order| order.slip.number == number).cloned();
        let order = found.ok_or("no such order")?;
        if order.seen {
            return Ok(self.answer(&order.names, &order.public_key));
        }
        let Slip { path, text, record, .. } = order.slip;
        let by_record = self.names.texts_everywhere(&record).contains(&text);
        let by_file = fetch_and_compare(&self.names, self.site_port, &order.names[0].to_string(), path, &text).await;
        if let (false, Err((_, lack))) = (by_record, by_file) {
            return Err(format!("{lack}; nor is there the right record at {record}"));
        }
        self.orders().iter_mut().filter(|order| order.slip.number == number).for_each(|order| order.seen = true);
        Err("seen; come back after lunch".into())
    }

    fn orders(&self) -> MutexGuard<'_, Vec<Order>> {
        self.orders.lock().expect("no holder panics")
    }

    fn answer(&self, names: &[Identifier], public_key: &[u8]) -> Vec<u8> {
        let from = self.clock.now() - SignedDuration::from_mins(5);
        let year = SignedDuration::from_hours(24 * 365);
        let leaf = self.issuer.issue(names, public_key, from, year);
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
        zip.finish().expect("a zip in memory").into_inner()
    }
}
