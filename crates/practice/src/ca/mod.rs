//! A strict certificate authority that speaks ACME (RFC 8555) and really looks at the sites.

mod fault;
mod handlers;
mod jws;
pub(crate) mod look;
mod state;

pub use fault::{Fault, Resource};
pub(crate) use state::random_text;

use crate::http::{self, Server, tls_config};
use crate::issuer::ApiCertificate;
use crate::{Clock, Issuer, NameServer};
use async_recursion::async_recursion as boxed;
use der::{Decode, Encode};
use eskort_pki::Certificate;
use fault::Faults;
use jiff::{SignedDuration, Timestamp};
use state::State;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, OnceLock, RwLock};

/// How a practice authority is set up.
#[derive(Clone, Debug)]
pub struct AuthorityOptions {
    /// How long its certificates are good.
    pub lifetime: SignedDuration,
    /// The port that it takes for port 80 when it looks at a site.
    pub site_port: u16,
    /// Key identifier and MAC key for external account binding; `None` to ask for none.
    pub external_account: Option<(String, Vec<u8>)>,
    /// How long it thinks before it has looked at a site, and before it has issued.
    pub thinking: std::time::Duration,
    /// Whether names that were proved once need no new proof.
    pub remembers_proofs: bool,
    /// The port of its API; 0 lets the system choose.
    pub port: u16,
    /// The challenges that it offers.
    pub offers: &'static [Offer],
    /// How many nonces of a hundred it refuses.
    pub refused_nonces: u8,
    /// Whether it gives an open order for the same names again, instead of a new one.
    pub repeats_orders: bool,
    /// Whether it says when certificates are to be renewed (RFC 9773).
    pub renewals: bool,
    /// Whether its certificates say where the list of the revoked ones is.
    pub lists: bool,
    /// Whether its certificates say where one may ask whether they were revoked (OCSP).
    pub responds: bool,
    /// Whether it looks at proofs; one that does not takes whoever answers a challenge at their word, for any name.
    pub looks: bool,
    /// The profiles of certificates that it offers, with the lifetime of each.
    pub profiles: &'static [(&'static str, SignedDuration)],
}

/// A kind of challenge.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Offer {
    /// RFC 8555 section 8.3; not for wildcards.
    Http01,
    /// RFC 8555 section 8.4; not for addresses.
    Dns01,
    /// draft-ietf-acme-dns-account-label; not for addresses.
    DnsAccount01,
    /// draft-ietf-acme-dns-persist; not for addresses.
    DnsPersist01,
    /// RFC 8737; only for one that does not look.
    TlsAlpn01,
}

impl Offer {
    /// All kinds.
    pub const ALL: [Offer; 5] =
        [Offer::Http01, Offer::Dns01, Offer::DnsAccount01, Offer::DnsPersist01, Offer::TlsAlpn01];

    fn word(self) -> &'static str {
        match self {
            Offer::Http01 => "http-01",
            Offer::Dns01 => "dns-01",
            Offer::DnsAccount01 => "dns-account-01",
            Offer::DnsPersist01 => "dns-persist-01",
            Offer::TlsAlpn01 => "tls-alpn-01",
        }
    }
}

impl Default for AuthorityOptions {
    fn default() -> Self {
        AuthorityOptions {
            lifetime: SignedDuration::from_hours(24 * 90),
            site_port: 80,
            external_account: None,
            thinking: std::time::Duration::ZERO,
            remembers_proofs: false,
            port: 0,
            offers: &[Offer::Dns01, Offer::Http01],
            refused_nonces: 0,
            repeats_orders: true,
            renewals: false,
            lists: false,
            responds: false,
            looks: true,
            profiles: &[],
        }
    }
}

/// A running authority. It stops when dropped.
pub struct Authority {
    core: Arc<Core>,
    server: Server,
    api_root: String,
    /// Says which certificates are revoked.
    _told: Option<Server>,
}

/// What the handlers share.
struct Core {
    base: RwLock<String>,
    options: AuthorityOptions,
    clock: Clock,
    issuer: Issuer,
    names: Arc<NameServer>,
    state: Mutex<State>,
    faults: Mutex<Faults>,
    /// How often it looked for a record that not every name server had.
    early_looks: AtomicUsize,
}

impl Core {
    /// Returns the list of revoked certificates.
    fn list(&self) -> Vec<u8> {
        let (state, now) = (self.state.lock().expect("no holder panics"), self.clock.now());
        let revoked = state
            .revoked
            .iter()
            .filter_map(|(order, reason)| Some((state.orders[*order].certificate.as_ref()?, now, *reason)));
        self.issuer.list(&revoked.collect::<Vec<_>>(), now)
    }

    /// Answers an OCSP request.
    fn status(&self, request: &[u8]) -> Option<Vec<u8>> {
        let state = self.state.lock().expect("no holder panics");
        let has = |certificate: &Certificate, serial: &[u8]| {
            let parsed = x509_cert::Certificate::from_der(certificate.der()).ok();
            parsed
                .is_some_and(|parsed| parsed.tbs_certificate().serial_number().to_der().is_ok_and(|own| own == serial))
        };
        let reason = |serial: &[u8]| {
            let mut revoked = state.revoked.iter();
            let found = revoked
                .find(|(order, _)| state.orders[**order].certificate.as_ref().is_some_and(|one| has(one, serial)));
            found.map(|(_, reason)| *reason)
        };
        self.issuer.answer(request, self.clock.now(), reason)
    }
}

impl Authority {
    /// Starts an authority that looks names up at `names`.
    ///
    /// # Errors
    /// When its port is not to be had.
    ///
    /// # Panics
    /// When the crypto library fails.
    #[boxed]
    pub async fn start(options: AuthorityOptions, clock: Clock, names: Arc<NameServer>) -> std::io::Result<Self> {
        let now = jiff::Timestamp::now();
        let api = ApiCertificate::new();
        let tls = tls_config(&api.chain, api.key.reveal());
        let tls = Arc::new(RwLock::new(Arc::new(tls.expect("our own certificate fits its key"))));
        let mut issuer = Issuer::new(now);
        let asks: Arc<OnceLock<Arc<Core>>> = Arc::default();
        let told = match options.lists || options.responds {
            true => {
                let asks = Arc::clone(&asks);
                let answer = move |asked: http::Asked| {
                    let core = asks.get();
                    let reply = match asked.uri().path() {
                        "/list" => core.map(|core| ("application/pkix-crl", core.list())),
                        _ => core
                            .and_then(|core| core.status(asked.body()))
                            .map(|answer| ("application/ocsp-response", answer)),
                    };
                    let (kind, body) = reply.unwrap_or_default();
                    std::future::ready(Ok(http::response(200, kind, body)))
                };
                let told = http::start(SocketAddr::from((Ipv4Addr::LOCALHOST, 0)), None, answer).await?;
                if options.lists {
                    issuer.lists_at(format!("http://{}/list", told.address));
                }
                if options.responds {
                    issuer.answers_at(format!("http://{}/ocsp", told.address));
                }
                Some(told)
            }
            false => None,
        };
        let core = Arc::new(Core {
            base: RwLock::default(),
            issuer,
            clock,
            names,
            state: Mutex::default(),
            faults: Mutex::default(),
            early_looks: AtomicUsize::new(0),
            options,
        });
        let _ = asks.set(Arc::clone(&core));
        let shared = Arc::clone(&core);
        let handler = move |asked| handlers::handle(Arc::clone(&shared), asked);
        let at = SocketAddr::from((Ipv4Addr::LOCALHOST, core.options.port));
        let server = http::start(at, Some(tls), handler).await?;
        *core.base.write().expect("no holder panics") = format!("https://{}", server.address);
        Ok(Authority { core, server, api_root: api.root, _told: told })
    }

    /// Returns the address of its directory.
    pub fn directory(&self) -> String {
        format!("https://{}/directory", self.server.address)
    }

    /// Returns the root that its own TLS is checked against, as PEM.
    pub fn api_root_pem(&self) -> &str {
        &self.api_root
    }

    /// Returns the root that its certificates lead to, as PEM.
    pub fn visitor_root_pem(&self) -> String {
        self.core.issuer.root_pem()
    }

    /// Returns the root that its alternate chains lead to, as PEM.
    pub fn old_visitor_root_pem(&self) -> String {
        self.core.issuer.old_root_pem()
    }

    /// Ends all accounts, as their owners may.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn end_accounts(&self) {
        let mut state = self.core.state.lock().expect("no holder panics");
        state.ended = (0..state.accounts.len()).collect();
    }

    /// Forgets all accounts, as test authorities do.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn forget_accounts(&self) {
        let mut state = self.core.state.lock().expect("no holder panics");
        state.forgotten = state.accounts.len();
    }

    /// Returns the contacts that it was told, the latest last.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn contacts(&self) -> Vec<String> {
        let state = self.core.state.lock().expect("no holder panics");
        state.contacts.iter().map(|contact| contact[0].as_str().unwrap_or_default().to_owned()).collect()
    }

    /// Makes it misbehave the next `times` that a resource is asked for.
    ///
    /// # Panics
    /// Only when another holder of the lock has panicked; so do the others.
    pub fn misbehave(&self, resource: Resource, fault: Fault, times: u32) {
        self.core.faults.lock().expect("no holder panics").add(resource, fault, times);
    }

    /// Makes it behave again, and lets go of the orders that it held back.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn behave(&self) {
        *self.core.faults.lock().expect("no holder panics") = Faults::default();
        let mut state = self.core.state.lock().expect("no holder panics");
        state.orders.iter_mut().for_each(state::Order::let_go);
    }

    /// Wants all certificates renewed in a window, and says where it is explained.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn ask_renewal(&self, start: Timestamp, end: Timestamp) {
        self.core.state.lock().expect("no holder panics").window = Some((start, end));
    }

    /// Returns the orders whose certificates are revoked, each with the code of the reason.
    ///
    /// # Panics
    /// Only when another holder of a lock has panicked.
    pub fn revoked(&self) -> Vec<(usize, u64)> {
        let state = self.core.state.lock().expect("no holder panics");
        state.revoked.iter().map(|(order, reason)| (*order, *reason)).collect()
    }

    /// Returns which orders were for a replacement, by the number of the certificate that was replaced.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn replaced(&self) -> Vec<Option<usize>> {
        let state = self.core.state.lock().expect("no holder panics");
        state.orders.iter().map(|order| order.replaces).collect()
    }

    /// Returns the resources asked for so far, in order.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn asked(&self) -> Vec<Resource> {
        self.core.state.lock().expect("no holder panics").asked.clone()
    }

    /// Returns how often it was made to look for a record that not every name server had.
    pub fn early_looks(&self) -> usize {
        self.core.early_looks.load(Ordering::Relaxed)
    }

    /// Returns how many proofs it has looked for.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn looks(&self) -> usize {
        let state = self.core.state.lock().expect("no holder panics");
        state.authorizations.iter().filter(|authorization| authorization.result.is_some()).count()
    }

    /// Returns how many orders it has, and how many certificates it has issued.
    ///
    /// # Panics
    /// As [`Authority::misbehave`].
    pub fn counts(&self) -> (usize, usize) {
        let state = self.core.state.lock().expect("no holder panics");
        (state.orders.len(), state.orders.iter().filter(|o| o.certificate.is_some()).count())
    }
}
