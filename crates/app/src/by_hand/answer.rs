//! Answers to CSRs that a person carries to an authority: taken apart, put in order, checked.

use crate::{AnswerError, StepError};
use eskort_core::context::Context;
use eskort_core::names::Identifier;
use eskort_core::pki::{
    AssembledChain, Certificate, Chain, ChainError, CsrSpecification, Intake, KeyUse, LARGEST_INTAKE, PrivateKey,
    Secret, assemble,
};
use eskort_core::words;
use eskort_host::files::read_whole;
use eskort_probe::Trust;
use eskort_store::Store;
use jiff::Timestamp;
use std::path::{Path, PathBuf};

/// A piece of what was brought: its name for messages, and its bytes.
pub struct Brought {
    /// Its name.
    pub name: String,
    /// What it holds.
    pub bytes: Vec<u8>,
}

/// Returns the name of a CSR in the authority's folder.
pub(crate) fn dropped_name(certificate: &str, generation: u32) -> String {
    format!("{certificate}-{generation:04}.csr.pem")
}

/// A folder that several use may have this many files in it, and no more is read.
const MOST_FILES: usize = 2_000;

/// Looks through a folder for the certificates in it. Files that hold none are passed over, and so are links that somebody else
/// made, and files that are larger than any answer.
pub(crate) fn receive_from(folder: &Path) -> Result<Intake, StepError> {
    let fail = |source| AnswerError::Read { path: folder.to_owned(), source };
    let mut paths: Vec<PathBuf> =
        std::fs::read_dir(folder).map_err(fail)?.filter_map(|e| Some(e.ok()?.path())).collect();
    paths.sort();
    let mut intake = Intake::default();
    for path in paths.into_iter().take(MOST_FILES) {
        // A folder that several use has all sorts of things in it.
        if let Ok(Some(file)) = read_whole(&path, LARGEST_INTAKE as u64) {
            let _ = intake.take(&path.display().to_string(), &file.bytes, None);
        }
    }
    Ok(intake)
}

/// Puts a chain together, towards what visitors of an authority's certificates trust.
pub(crate) fn chain_of(
    context: &Context,
    authority: &str,
    leaf: &Certificate,
    pool: &[Certificate],
) -> Result<AssembledChain, StepError> {
    let trust = visitors_of(context, authority)?;
    Ok(assemble(leaf.clone(), pool, &trust.anchors(), context.now()))
}

/// Returns what visitors trust: `visitor-roots` where the inventory has them, else the system's roots.
pub(crate) fn visitors_of(context: &Context, authority: &str) -> Result<Trust, StepError> {
    let Some(path) = &context.inventory.authorities[authority].visitor_roots else { return Ok(Trust::system()) };
    let mut trust = Trust::nobody();
    trust.add_file(path)?;
    Ok(trust)
}

/// Returns the answer to a key among certificates: the newest that fits and that a known issuer has issued. Without one of those
/// it is the newest that fits, for a person to decide about.
pub(crate) async fn answer_among(
    context: &Context,
    store: &Store,
    certificate: &str,
    certificates: &[Certificate],
    key: &PrivateKey,
) -> Result<Option<AssembledChain>, StepError> {
    let mut fits: Vec<&Certificate> = Vec::new();
    let waiting = store.open_journey(certificate).await?.map(|open| open.generation);
    for candidate in certificates.iter().filter(|c| key.fits(c.public_key())) {
        // Where the key is kept, the answer to an earlier request fits it too.
        let known = store.generation_of(certificate, &candidate.fingerprint().to_string()).await?;
        if known.is_none() || known == waiting {
            fits.push(candidate);
        }
    }
    fits.sort_by_key(|c| std::cmp::Reverse((c.not_before, c.fingerprint())));
    let authority = &context.inventory.certificates[certificate].authority;
    let anchors = visitors_of(context, authority)?.anchors();
    let now = context.now();
    let assembled: Vec<AssembledChain> =
        fits.into_iter().map(|leaf| assemble(leaf.clone(), certificates, &anchors, now)).collect();
    for one in &assembled {
        if check_issuer(context, store, certificate, one, certificates).await?.is_ok() {
            return Ok(Some(one.clone()));
        }
    }
    Ok(assembled.into_iter().next())
}

/// Checks that an answer comes from whom it should: it leads to a root of `visitor-roots` or of the system, or the key that
/// issued it has issued for this authority before.
pub(crate) async fn check_issuer(
    context: &Context,
    store: &Store,
    certificate: &str,
    assembled: &AssembledChain,
    pool: &[Certificate],
) -> Result<Result<(), AnswerError>, StepError> {
    let authority = &context.inventory.certificates[certificate].authority;
    // What the certificates are good for today is checked elsewhere, and said with its dates.
    let at = assembled.chain.leaf().not_before.max(context.now().min(assembled.chain.leaf().not_after));
    let visitors = visitors_of(context, authority)?;
    if visitors.trusts(&assembled.chain, at) || Trust::system().trusts(&assembled.chain, at) {
        return Ok(Ok(()));
    }
    let accepted = store.accepted_issuers(authority).await?;
    if accepted.iter().any(|issuer| assembled.chain.leaf().is_signed_by(issuer)) {
        return Ok(Ok(()));
    }
    if let Some(newest) = store.newest(certificate).await?.filter(|newest| newest.specification.authority == *authority)
        && let Some(bundle) = store.generation_folder(certificate, newest.number).bundle()?
        && let Ok(chain) = Chain::from_pem(&bundle)
        && chain.certificates()[1..].iter().any(|before| assembled.chain.leaf().is_signed_by(before))
    {
        return Ok(Ok(()));
    }
    Ok(Err(AnswerError::UnknownIssuer {
        issuer: words::printable(&assembled.chain.leaf().issuer, 100),
        fingerprint: issuer_of(assembled, pool).map(|issuer| issuer.fingerprint().to_string()),
        certificate: certificate.to_owned(),
        authority: authority.clone(),
    }))
}

/// Returns the certificate whose key has issued an answer, where it was brought.
pub(crate) fn issuer_of<'c>(assembled: &'c AssembledChain, pool: &'c [Certificate]) -> Option<&'c Certificate> {
    let leaf = assembled.chain.leaf();
    let beside = assembled.chain.certificates()[1..].iter().chain(pool);
    beside.filter(|candidate| leaf.names_issuer(candidate)).find(|candidate| leaf.is_signed_by(candidate))
}

/// Puts together the chain of the newest certificate that fits a key.
pub(crate) fn fitting(
    context: &Context,
    authority: &str,
    certificates: &[Certificate],
    key: &PrivateKey,
) -> Result<Option<AssembledChain>, StepError> {
    let fits = certificates.iter().filter(|c| key.fits(c.public_key()));
    let leaf = fits.max_by_key(|c| (c.not_before, c.fingerprint()));
    leaf.map(|leaf| chain_of(context, authority, leaf, certificates)).transpose()
}

/// Takes in everything that was brought.
pub(crate) fn take_in(brought: &[Brought], password: Option<&Secret<String>>) -> Result<Intake, AnswerError> {
    let mut intake = Intake::default();
    intake.take_all(brought.iter().map(|b| (b.name.as_str(), b.bytes.as_slice())), password)?;
    Ok(intake)
}

/// Checks that an answer is for the key, the names and the uses that were asked for (for servers where none were), and good
/// today.
pub(crate) fn check(
    assembled: &AssembledChain,
    key: &PrivateKey,
    names: &[Identifier],
    asked: &CsrSpecification,
    now: Timestamp,
) -> Result<(), AnswerError> {
    if let Some(fault) = &assembled.fault {
        return Err(ChainError::from(fault.clone()).into());
    }
    assembled.chain.check_answers(key, names)?;
    let wanted = if asked.usages.is_empty() { &[KeyUse::ServerAuth][..] } else { &asked.usages };
    let forbidden = assembled.chain.leaf().forbids(wanted);
    if !forbidden.is_empty() {
        return Err(AnswerError::Forbids { usages: forbidden.into_iter().map(KeyUse::word).collect() });
    }
    let (from, until) = (assembled.chain.leaf().not_before, assembled.chain.leaf().not_after);
    match now {
        now if now < from => Err(ChainError::NotYet { from }.into()),
        now if now >= until => Err(ChainError::Over { until }.into()),
        _ => Ok(()),
    }
}

pub(crate) fn key_of(store: &Store, certificate: &str, generation: u32) -> Result<Option<PrivateKey>, StepError> {
    let pem = store.generation_folder(certificate, generation).key()?;
    Ok(pem.and_then(|pem| PrivateKey::from_pem(&pem).ok()))
}
