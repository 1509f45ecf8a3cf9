//! A bare client: just the protocol's own messages, and nothing else: no ledger, no look beforehand, nothing written but the proofs and
//! the certificate.

use eskort_acme::{AcmeError, Directory, Method, NewOrder, OrderStatus, Request, Response, Signer};
use eskort_core::challenge::ChallengeKind;
use eskort_core::journey::UsualWait;
use eskort_core::names::Identifier;
use eskort_core::pki::{Chain, CsrSpecification, KeyKind, PrivateKey, make_csr};
use jiff::{SignedDuration, Timestamp};
use std::path::Path;
use std::time::Duration;

/// How long a bare client waits between its questions whether something is there yet.
#[derive(Clone, Copy, PartialEq)]
pub(crate) enum Pauses {
    /// Not at all, 68 ms, and three times as long each time: so it was when the wanted measures were set.
    #[allow(dead_code, reason = "one of the two benches needs it")]
    Fixed,
    /// As long as Eskort, before the first question too.
    Eskort,
}

/// A bare client with an account.
pub(crate) struct Bare {
    pauses: Pauses,
    http: reqwest::Client,
    signer: Signer,
    directory: Directory,
    nonce: String,
}

impl Bare {
    /// Fetches the directory and makes an account.
    pub(crate) async fn open(directory: &str, root_pem: &[u8], pauses: Pauses) -> Self {
        let roots = reqwest::Certificate::from_pem_bundle(root_pem).unwrap();
        let http = reqwest::Client::builder().tls_certs_only(roots).build().unwrap();
        let answer = send(&http, Request { method: Method::Get, url: directory.to_owned(), body: None }).await;
        let directory = eskort_acme::parse_directory(&answer).unwrap();
        let nonce = match answer.nonce {
            Some(nonce) => nonce,
            None => {
                let url = directory.new_nonce.clone();
                send(&http, Request { method: Method::Head, url, body: None }).await.nonce.unwrap()
            }
        };
        let signer = Signer::new(PrivateKey::generate(KeyKind::P256).unwrap(), None);
        let mut bare = Bare { pauses, http, signer, directory, nonce };
        let directory = bare.directory.clone();
        let answer = bare.post(|s, n| eskort_acme::new_account(s, n, &directory, None, true, None)).await;
        bare.signer.set_account(eskort_acme::parse_account(&answer).unwrap());
        bare
    }

    /// Sends a signed request, again as long as its nonce is refused.
    async fn post(&mut self, make: impl Fn(&Signer, &str) -> Result<Request, AcmeError>) -> Response {
        loop {
            let answer = send(&self.http, make(&self.signer, &self.nonce).unwrap()).await;
            self.nonce.clone_from(answer.nonce.as_ref().unwrap());
            match answer.success() {
                Err(AcmeError::Problem(problem)) if problem.is_bad_nonce() => {}
                done => {
                    done.unwrap();
                    return answer;
                }
            }
        }
    }

    async fn get(&mut self, url: &str) -> Response {
        self.post(|s, n| eskort_acme::post_as_get(s, n, url)).await
    }

    /// Obtains a certificate, its proofs being files below `www`, and returns how long it waited between questions.
    pub(crate) async fn order(&mut self, names: &[Identifier], www: &Path, to: &Path) -> Duration {
        let order = NewOrder { identifiers: names, ..NewOrder::default() };
        let directory = self.directory.clone();
        let answer = self.post(|s, n| eskort_acme::new_order(s, n, &directory, &order)).await;
        let (order, order_url) = (eskort_acme::parse_order(&answer).unwrap(), answer.location.unwrap());
        let folder = www.join(".well-known/acme-challenge");
        std::fs::create_dir_all(&folder).unwrap();
        let mut challenges = Vec::new();
        for url in &order.authorizations {
            let found = eskort_acme::parse_authorization(&self.get(url).await).unwrap();
            let challenge = found.challenges.into_iter().find(|c| c.kind == Some(ChallengeKind::Http01)).unwrap();
            std::fs::write(folder.join(&challenge.token), self.signer.key_authorization(&challenge.token)).unwrap();
            challenges.push(challenge);
        }
        let (mut waited, mut asked) = (Duration::ZERO, 0);
        let mut last = None;
        for challenge in &challenges {
            last = Some(self.post(|s, n| eskort_acme::respond_to_challenge(s, n, &challenge.url)).await);
        }
        if let Some(answer) = last.filter(|a| self.pauses == Pauses::Eskort && !eskort_acme::has_looked(a)) {
            waited += self.pause(&answer, 0).await;
            asked = 1;
        }
        loop {
            let answer = self.get(&order_url).await;
            let status = eskort_acme::parse_order(&answer).unwrap().status;
            assert!(status != OrderStatus::Invalid, "the authority did not take the proof: {order_url}");
            if status == OrderStatus::Ready {
                break;
            }
            waited += self.pause(&answer, asked).await;
            asked += 1;
        }
        challenges.iter().for_each(|challenge| std::fs::remove_file(folder.join(&challenge.token)).unwrap());
        let key = PrivateKey::generate(KeyKind::P256).unwrap();
        let csr = make_csr(&key, names, &CsrSpecification::default()).unwrap();
        let mut answer = self.post(|s, n| eskort_acme::finalize(s, n, &order.finalize, &csr)).await;
        asked = 0;
        let url = loop {
            match eskort_acme::parse_order(&answer).unwrap().certificate {
                Some(url) => break url,
                None => waited += self.pause(&answer, asked).await,
            }
            asked += 1;
            answer = self.get(&order_url).await;
        };
        let answer = self.get(&url).await;
        let chain = Chain::from_pem(&eskort_acme::parse_certificate(&answer).unwrap()).unwrap();
        std::fs::write(to.with_extension("key"), key.to_pem().reveal()).unwrap();
        std::fs::write(to.with_extension("pem"), chain.bundle_pem()).unwrap();
        waited
    }

    /// Waits before it asks again, and returns how long.
    async fn pause(&self, answer: &Response, asked: u32) -> Duration {
        let hint = answer.retry_after.as_deref().and_then(|v| eskort_acme::retry_after(v, Timestamp::now()));
        let pause = match (self.pauses, hint) {
            (Pauses::Fixed, None) => SignedDuration::from_micros(67_500 * 3_i64.pow(asked.min(5))),
            _ => UsualWait::default().pause(asked, hint, 0.5),
        };
        let pause = Duration::try_from(pause).unwrap();
        tokio::time::sleep(pause).await;
        pause
    }
}

async fn send(http: &reqwest::Client, request: Request) -> Response {
    let method = match request.method {
        Method::Get => reqwest::Method::GET,
        Method::Head => reqwest::Method::HEAD,
        Method::Post => reqwest::Method::POST,
    };
    let mut sending = http.request(method, &request.url);
    if let Some(body) = request.body {
        sending = sending.header("content-type", "application/jose+json").body(body);
    }
    let response = sending.send().await.unwrap();
    let head = |name: &str| response.headers().get(name).map(|v| v.to_str().unwrap().to_owned());
    let (location, nonce, status) = (head("location"), head("replay-nonce"), response.status().as_u16());
    let (retry_after, content_type) = (head("retry-after"), head("content-type").unwrap_or_default());
    let body = response.bytes().await.unwrap().to_vec();
    Response { status, location, nonce, retry_after, content_type, body, ..Response::default() }
}
