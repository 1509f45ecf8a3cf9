//! Issuers that are missing in an answer, fetched from where the certificate says that they are.

use crate::http::{self, host_of, innermost, is_public};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::pki::{Anchors, AssembledChain, Certificate, Intake, OcspQuestion, assemble};
use eskort_core::progress::Progress;
use eskort_core::words::printable;
use std::net::SocketAddr;
use std::time::Duration;

const LONGEST_FETCH: Duration = Duration::from_secs(15);
const LARGEST: usize = 1 << 20;
const LARGEST_LIST: usize = 64 << 20;
const LARGEST_ANSWER: usize = 64 << 10;
/// No chain is longer.
const MOST_ISSUERS: usize = 4;

/// Goes on with a chain up to a root, as far as its certificates name web addresses and what lies there has signed them. What
/// cannot be had is said, and left out.
///
/// `hosts` are those that may be on this machine or network; any other has to be public, and redirects are not followed: the
/// address comes from whoever made the certificate.
#[boxed]
pub async fn add_missing_issuers(
    context: &Context,
    built: AssembledChain,
    hosts: &[String],
    anchors: &Anchors,
) -> AssembledChain {
    let mut pool: Vec<Certificate> = built.chain.certificates().to_vec();
    let mut built = built;
    for _ in 0..MOST_ISSUERS {
        let last = built.chain.certificates().last().expect("a chain has a leaf").clone();
        let issued = |c: &Certificate| c != &last && last.names_issuer(c) && last.is_signed_by(c);
        if last.is_self_issued() || pool.iter().any(issued) {
            break;
        }
        let Some(issuer) = fetch_issuer(context, &last, hosts).await else { break };
        pool.push(issuer);
        built = assemble(built.chain.leaf().clone(), &pool, anchors, context.now());
    }
    built
}

async fn fetch_issuer(context: &Context, of: &Certificate, hosts: &[String]) -> Option<Certificate> {
    for address in of.issuer_addresses().into_iter().take(3) {
        let shown = printable(&address, 200);
        let found = match fetch(&address, (hosts, false), None, LARGEST).await {
            Ok(bytes) => {
                let mut intake = Intake::default();
                let _ = intake.take(&shown, &bytes, None);
                intake.certificates.into_iter().find(|candidate| of.is_signed_by(candidate))
            }
            Err(what) => {
                context.report(&Progress::Note(format!("cannot fetch the issuer from {shown}: {what}")));
                continue;
            }
        };
        let text = match &found {
            Some(issuer) => format!("`{}` was fetched from {shown}", issuer.subject_or_title()),
            None => format!("what lies at {shown} did not issue this certificate"),
        };
        context.report(&Progress::Note(text));
        if found.is_some() {
            return found;
        }
    }
    None
}

/// Fetches a list of revoked certificates, of at most 64 MiB. With `anywhere` it may be on this machine or network: its authority is one of one's own.
///
/// # Errors
/// In words: when it cannot be had.
#[boxed]
pub async fn fetch_revocation_list(address: &str, hosts: &[String], anywhere: bool) -> Result<Vec<u8>, String> {
    fetch(address, (hosts, anywhere), None, LARGEST_LIST).await
}

/// Asks a responder whether a certificate was revoked (OCSP, RFC 6960 appendix A.1), and returns its answer in DER; `hosts` and `anywhere` as for lists.
///
/// # Errors
/// In words: when there is no answer.
#[boxed]
pub async fn ask_responder(
    address: &str,
    question: &OcspQuestion,
    hosts: &[String],
    anywhere: bool,
) -> Result<Vec<u8>, String> {
    fetch(address, (hosts, anywhere), Some(question.request()), LARGEST_ANSWER).await
}

/// Fetches what lies at an address, or sends an OCSP request there.
async fn fetch(
    address: &str,
    (hosts, anywhere): (&[String], bool),
    ocsp: Option<Vec<u8>>,
    largest: usize,
) -> Result<Vec<u8>, String> {
    let url = reqwest::Url::parse(address).map_err(|e| e.to_string())?;
    let host = host_of(address).ok_or("it has no host name")?;
    let named = anywhere || hosts.iter().any(|known| known.eq_ignore_ascii_case(&host));
    let port = url.port_or_known_default().unwrap_or(80);
    let found = tokio::net::lookup_host((host.as_str(), port)).await.map_err(|e| e.to_string())?;
    let found: Vec<SocketAddr> = found.filter(|address| named || is_public(address.ip())).collect();
    if found.is_empty() {
        return Err(format!("{host} is not public; `fetch-issuers = [\"{host}\"]` of the authority allows it"));
    }
    let builder = http::client(address)
        .redirect(reqwest::redirect::Policy::none())
        .resolve_to_addrs(&host, &found)
        .timeout(LONGEST_FETCH);
    let builder = builder.build().map_err(|e| e.to_string())?;
    let failed = |e: reqwest::Error| innermost(&e.without_url()).0;
    let request = match ocsp {
        Some(question) => builder.post(address).header("content-type", "application/ocsp-request").body(question),
        None => builder.get(address),
    };
    let answer = request.send().await.map_err(failed)?;
    if !answer.status().is_success() {
        return Err(format!("status {}", answer.status().as_u16()));
    }
    http::body(answer, largest, address, LONGEST_FETCH).await.map_err(|e| e.to_string())
}
