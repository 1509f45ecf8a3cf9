//! An authority that speaks EST, written from RFC 7030: strict, patient when told so, and it remembers what it was asked.

use crate::http::{self, Asked, PeerCertificate, Server, response};
use crate::issuer::ApiCertificate;
use crate::{Clock, Issuer};
use async_recursion::async_recursion as boxed;
use bytes::Bytes;
use eskort_pki::{Certificate, base64, find_csr, parse_csr_unverified, to_pkcs7};
use http_body_util::Full;
use hyper::{Method, Response};
use jiff::SignedDuration;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, RwLock};

/// The user that it lets in.
pub const EST_USER: &str = "stock-room";
/// That user's password.
pub const EST_PASSWORD: &str = "oil and wick";
const PATH: &str = "/.well-known/est/";
/// The label of the one authority that it has behind the usual address (RFC 7030 section 3.2.2).
const LABEL: &str = "lamps/";

/// A running authority. It stops when dropped.
pub struct EstServer {
    server: Server,
    api_root: String,
    shared: Arc<Shared>,
}

struct Shared {
    issuer: Issuer,
    clock: Clock,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// How often requests are put off, and for how many seconds.
    hesitation: (u32, u32),
    /// The CSR that was put off; the next has to be the same.
    pending: Option<Vec<u8>>,
    asked: Vec<String>,
}

impl EstServer {
    /// Starts one on loopback, with keys of its own.
    ///
    /// # Errors
    /// When no port is to be had.
    ///
    /// # Panics
    /// When the crypto library fails.
    #[boxed]
    pub async fn start(clock: Clock) -> std::io::Result<Self> {
        let issuer = Issuer::named("Lampholm Devices", clock.now());
        let api = ApiCertificate::new();
        let tls = http::tls_config_asking(&api.chain, api.key.reveal(), &issuer.root_pem());
        let tls = Arc::new(RwLock::new(Arc::new(tls.expect("certificates of our own making are usable"))));
        let shared = Arc::new(Shared { issuer, clock, state: Mutex::default() });
        let known = Arc::clone(&shared);
        let any = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
        let server = http::start(any, Some(tls), move |asked| {
            let answer = known.answer(&asked);
            async move { Ok(answer) }
        });
        Ok(EstServer { server: server.await?, api_root: api.root, shared })
    }

    /// Returns its address, without the well-known path.
    pub fn address(&self) -> String {
        format!("https://{}", self.server.address)
    }

    /// Returns the root of its own TLS certificate as PEM.
    pub fn api_root_pem(&self) -> &str {
        &self.api_root
    }

    /// Returns the root that the certificates it issues lead to, as PEM.
    pub fn root_pem(&self) -> String {
        self.shared.issuer.root_pem()
    }

    /// Makes it put off the next requests so often, and ask to wait for so many seconds.
    ///
    /// # Panics
    /// Only when another holder of the lock has panicked.
    pub fn hesitate(&self, times: u32, seconds: u32) {
        self.shared.state().hesitation = (times, seconds);
    }

    /// Returns what it was asked: the operation, and who asked by which means.
    ///
    /// # Panics
    /// As [`EstServer::hesitate`].
    pub fn asked(&self) -> Vec<String> {
        self.shared.state().asked.clone()
    }
}

type Reply = Response<Full<Bytes>>;

impl Shared {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().expect("no holder panics")
    }

    fn answer(&self, asked: &Asked) -> Reply {
        let Some(operation) = asked.uri().path().strip_prefix(PATH) else { return refusal(404, "no such page") };
        match (operation.strip_prefix(LABEL).unwrap_or(operation), asked.method()) {
            ("cacerts", &Method::GET) => {
                self.state().asked.push("cacerts".into());
                let above = self.issuer.above();
                bag(&above)
            }
            (operation @ ("simpleenroll" | "simplereenroll"), &Method::POST) => self.enroll(operation, asked),
            _ => refusal(404, "no such operation"),
        }
    }

    fn enroll(&self, operation: &str, asked: &Asked) -> Reply {
        let header = |name: &str| asked.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or_default();
        let peer = asked.extensions().get::<PeerCertificate>();
        let peer = peer.and_then(|peer| Certificate::from_der(&peer.0).ok());
        let login = format!("Basic {}", base64(format!("{EST_USER}:{EST_PASSWORD}").as_bytes()));
        let who = match &peer {
            Some(_) => "a certificate",
            None if header("authorization") == login => "a password",
            None => {
                let mut answer = refusal(401, "who are you?");
                let wants = "Basic realm=\"estrealm\"".parse().expect("a header's value");
                answer.headers_mut().insert("www-authenticate", wants);
                return answer;
            }
        };
        if header("content-type") != "application/pkcs10" {
            return refusal(400, "a request is of type application/pkcs10");
        }
        let Some(csr) = find_csr(asked.body()).filter(|_| asked.body().first() != Some(&0x30)) else {
            return refusal(400, "a request is base64 of DER");
        };
        let facts = match parse_csr_unverified(&csr) {
            Ok(facts) if facts.signature_valid == Some(true) => facts,
            _ => return refusal(400, "the request is not signed with its key"),
        };
        let names = match facts.identifiers() {
            Some(names) if !names.is_empty() => names,
            _ => return refusal(400, "the request has no names"),
        };
        if let (Some(peer), "simplereenroll") = (&peer, operation)
            && (peer.names != facts.names || !facts.subject.iter().any(|(_, value)| *value == peer.subject))
        {
            return refusal(400, "names or subject are not those of the certificate to be renewed");
        }
        if names.iter().any(|name| !name.base().ends_with(".internal")) {
            return refusal(403, "the stock room only");
        }
        let mut state = self.state();
        state.asked.push(format!("{operation} with {who}"));
        if state.pending.as_ref().is_some_and(|pending| *pending != csr) {
            return refusal(400, "another request is being looked at");
        }
        if state.hesitation.0 > 0 {
            state.hesitation.0 -= 1;
            let seconds = state.hesitation.1;
            state.pending = Some(csr);
            let mut answer = response(202, "text/plain", "somebody has to look at it");
            answer.headers_mut().insert("retry-after", seconds.into());
            return answer;
        }
        state.pending = None;
        let from = self.clock.now() - SignedDuration::from_mins(5);
        // Such authorities have opinions about subjects.
        let (title, key) = (names[0].to_string(), &facts.public_key);
        let leaf = self.issuer.issue_titled(&title, &names, key, from, SignedDuration::from_hours(24 * 90));
        bag(&[leaf])
    }
}

/// RFC 7030 section 4.1.3, with the line ends that base64 in mails has.
fn bag(certificates: &[Certificate]) -> Reply {
    let text = base64(&to_pkcs7(certificates));
    let lines: Vec<&str> = text.as_bytes().chunks(76).map(|c| std::str::from_utf8(c).expect("base64")).collect();
    let mut answer = response(200, "application/pkcs7-mime; smime-type=certs-only", lines.join("\r\n"));
    let encoding = "base64".parse().expect("a header's value");
    answer.headers_mut().insert("content-transfer-encoding", encoding);
    answer
}

fn refusal(status: u16, why: &'static str) -> Reply {
    response(status, "text/plain", why)
}
