//! Answers of authorities that a person carries a CSR to.

use crate::turn::Run;
use crate::{KeepEntry, StepError};
use eskort_core::context::Context;
use eskort_core::journey::Stage;
use eskort_core::names::Identifier;
use eskort_core::pki::{
    Built, Certificate, Chain, ChainError, CsrWish, Intake, IntakeError, KeyUse, LARGEST_INTAKE, LeftAside, PrivateKey,
    Secret, assemble,
};
use eskort_core::progress::Progress;
use eskort_core::words;
use eskort_host::files::read_whole;
use eskort_install as install;
use eskort_probe::Trust;
use eskort_store::{JourneyRow, RunLock, Store};
use eskort_talk::add_missing_issuers;
use jiff::Timestamp;
use std::path::{Path, PathBuf};

/// Why what was brought is no answer.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum AnswerError {
    /// A file that cannot be read.
    #[error("cannot read {}: {source}", path.display())]
    Read {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// The password that was to be read.
    #[error("{0}")]
    Password(String),
    /// Nothing in it.
    #[error(transparent)]
    Intake(#[from] IntakeError),
    /// It fits a key of ours and not what was asked for.
    #[error("the answer is of no use: {0}")]
    Chain(#[from] ChainError),
    /// It does not allow what was asked for.
    #[error("the certificate does not allow {}", words::list(usages))]
    Forbids {
        /// The uses.
        usages: Vec<&'static str>,
    },
    /// Nobody has said yet that whoever issued it may.
    #[error("the certificate is issued by `{issuer}`, which is not known to be the authority's")]
    UnknownIssuer {
        /// The issuer's name.
        issuer: String,
        /// The issuer's fingerprint, where its certificate was brought.
        fingerprint: Option<String>,
        /// The certificate of the inventory.
        certificate: String,
        /// The authority of the inventory.
        authority: String,
    },
    /// There is no key in what is to be taken in.
    #[error("there is no private key in it")]
    NoKey,
    /// The key belongs to another certificate.
    #[error("the private key fits none of the certificates")]
    KeyFitsNone,
    /// A journey would bring another generation.
    #[error("a journey of `{certificate}` is under way")]
    UnderWay {
        /// The certificate.
        certificate: String,
    },
    /// The answer to a CSR of ours would bring another generation.
    #[error("a CSR of ours waits for an answer for `{certificate}`")]
    CsrWaits {
        /// The certificate.
        certificate: String,
    },
    /// It is ours already.
    #[error("this is the newest generation of `{certificate}` already")]
    Known {
        /// The certificate.
        certificate: String,
    },
    /// It was taken in before.
    #[error("this is generation {generation} of `{certificate}`, which is stored already")]
    Earlier {
        /// The certificate.
        certificate: String,
        /// Its generation.
        generation: u32,
    },
    /// There is nothing to note.
    #[error("no journey of `{certificate}` waits for an authority's answer")]
    NotAtDesk {
        /// The certificate.
        certificate: String,
    },
    /// No journey waits.
    #[error("no journey waits for an answer")]
    NothingWaits,
    /// Its certificate is for other keys.
    #[error("{} {}", words::list(titles), if *generation == 0 { "fits no key of ours".to_owned() } else { format!("fits no waiting key; it fits that of generation {generation} of `{certificate}`") })]
    FitsNone {
        /// What the certificates are for.
        titles: Vec<String>,
        /// The certificate of the inventory that it fits, if any.
        certificate: String,
        /// Its generation; 0 when there is none.
        generation: u32,
    },
}

/// A piece of what was brought: its name for messages, and its bytes.
pub struct Brought {
    /// Its name.
    pub name: String,
    /// What it holds.
    pub bytes: Vec<u8>,
}

/// What `receive` found for one certificate.
#[derive(Debug)]
pub struct Received {
    /// The certificate of the inventory.
    pub certificate: String,
    /// The chain, put in order.
    pub chain: Chain,
    /// The issuer that is missing.
    pub missing: Option<String>,
    /// What came of the journey.
    pub entry: KeepEntry,
}

/// All that came of what was brought.
#[derive(Debug, Default)]
pub struct Receipt {
    /// The certificates that were waited for.
    pub received: Vec<Received>,
    /// What was brought beside them.
    pub left_aside: Vec<LeftAside>,
}

/// Returns the name of a CSR in the authority's folder.
pub(crate) fn dropped_name(certificate: &str, generation: u32) -> String {
    format!("{certificate}-{generation:04}.csr.pem")
}

/// A folder that several use may have this many files in it, and no more is read.
const MOST_FILES: usize = 2_000;

/// Looks through a folder for the certificates in it. Files that hold none are passed over, and so are links that somebody else
/// made, and files that are larger than any answer.
pub(crate) fn pick_up(folder: &Path) -> Result<Intake, StepError> {
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
) -> Result<Built, StepError> {
    let trust = visitors_of(context, authority)?;
    Ok(assemble(leaf.clone(), pool, &trust.anchors(), (context.now)()))
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
pub(crate) fn answer_among(
    context: &Context,
    store: &Store,
    certificate: &str,
    certificates: &[Certificate],
    key: &PrivateKey,
) -> Result<Option<Built>, StepError> {
    let mut fits: Vec<&Certificate> = Vec::new();
    let waiting = store.open_journey(certificate)?.map(|open| open.generation);
    for candidate in certificates.iter().filter(|c| key.fits(c.public_key())) {
        // Where the key is kept, the answer to an earlier request fits it too.
        let known = store.generation_of(certificate, &candidate.fingerprint().to_string())?;
        if known.is_none() || known == waiting {
            fits.push(candidate);
        }
    }
    fits.sort_by_key(|c| std::cmp::Reverse((c.not_before, c.fingerprint())));
    let authority = &context.inventory.certificates[certificate].authority;
    let anchors = visitors_of(context, authority)?.anchors();
    let now = (context.now)();
    let built: Vec<Built> = fits.into_iter().map(|leaf| assemble(leaf.clone(), certificates, &anchors, now)).collect();
    for one in &built {
        if check_issuer(context, store, certificate, one, certificates)?.is_ok() {
            return Ok(Some(one.clone()));
        }
    }
    Ok(built.into_iter().next())
}

/// Checks that an answer comes from whom it should: it leads to a root of `visitor-roots` or of the system, or the key that
/// issued it has issued for this authority before.
pub(crate) fn check_issuer(
    context: &Context,
    store: &Store,
    certificate: &str,
    built: &Built,
    pool: &[Certificate],
) -> Result<Result<(), AnswerError>, StepError> {
    let authority = &context.inventory.certificates[certificate].authority;
    // What the certificates are good for today is checked elsewhere, and said with its dates.
    let at = built.chain.leaf().not_before.max((context.now)().min(built.chain.leaf().not_after));
    let visitors = visitors_of(context, authority)?;
    if visitors.trusts(&built.chain, at) || Trust::system().trusts(&built.chain, at) {
        return Ok(Ok(()));
    }
    let accepted = store.accepted_issuers(authority)?;
    if accepted.iter().any(|issuer| built.chain.leaf().is_signed_by(issuer)) {
        return Ok(Ok(()));
    }
    if let Some(newest) = store.newest(certificate)?.filter(|newest| newest.wanted.authority == *authority)
        && let Some(bundle) = store.generation_folder(certificate, newest.number).bundle()?
        && let Ok(chain) = Chain::from_pem(&bundle)
        && chain.certificates()[1..].iter().any(|before| built.chain.leaf().is_signed_by(before))
    {
        return Ok(Ok(()));
    }
    Ok(Err(AnswerError::UnknownIssuer {
        issuer: words::printable(&built.chain.leaf().issuer, 100),
        fingerprint: issuer_of(built, pool).map(|issuer| issuer.fingerprint().to_string()),
        certificate: certificate.to_owned(),
        authority: authority.clone(),
    }))
}

/// Returns the certificate whose key has issued an answer, where it was brought.
fn issuer_of<'c>(built: &'c Built, pool: &'c [Certificate]) -> Option<&'c Certificate> {
    let leaf = built.chain.leaf();
    let beside = built.chain.certificates()[1..].iter().chain(pool);
    beside.filter(|candidate| leaf.names_issuer(candidate)).find(|candidate| leaf.is_signed_by(candidate))
}

/// Puts together the chain of the newest certificate that fits a key.
pub(crate) fn fitting(
    context: &Context,
    authority: &str,
    certificates: &[Certificate],
    key: &PrivateKey,
) -> Result<Option<Built>, StepError> {
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

/// Takes what a person brings, in any shape and order, finds what was waited for, and takes those journeys to their end.
/// Issuers that are missing are fetched where `fetch_issuers` (with the hosts that need not be public) or the inventory allows it.
///
/// # Errors
/// When nothing in it was waited for, or it is by an issuer that is not known and `accept_issuer` is not set; when another run holds the lock. What becomes of a journey is in its entry.
pub async fn receive(
    context: &Context,
    brought: &[Brought],
    password: Option<&Secret<String>>,
    fetch_issuers: Option<&[String]>,
    accept_issuer: bool,
) -> Result<Receipt, StepError> {
    // A folder has all sorts of things in it; only when there is no certificate at all, that is said.
    let intake = take_in(brought, password)?;
    let _lock = RunLock::take(&context.state, "eskort receive", (context.now)())?;
    let store = Store::open(&context.state)?;
    install::recover(context, &store).await?;
    let mut waiting: Vec<(String, JourneyRow)> = Vec::new();
    for name in context.inventory.certificates.keys() {
        let open = store.open_journey(name)?.filter(|open| matches!(open.stage, Stage::HandedOver { .. }));
        waiting.extend(open.map(|open| (name.clone(), open)));
    }
    if waiting.is_empty() {
        return Err(AnswerError::NothingWaits.into());
    }
    let mut run = Run::new(context, &store);
    let mut receipt = Receipt { left_aside: intake.left_aside.clone(), ..Receipt::default() };
    let mut used: Vec<Certificate> = Vec::new();
    for (certificate, open) in waiting {
        let Some(key) = key_of(&store, &certificate, open.generation)? else { continue };
        let Some(mut built) = answer_among(context, &store, &certificate, &intake.certificates, &key)? else {
            continue;
        };
        let entry = &context.inventory.certificates[&certificate];
        let hosts = context.inventory.authorities[&entry.authority].fetch_issuers.as_deref();
        if let Some(hosts) = fetch_issuers.or(hosts) {
            let anchors = visitors_of(context, &entry.authority)?.anchors();
            built = add_missing_issuers(context, built, hosts, &anchors).await;
        }
        // Before the journey is touched: what is wrong with an answer is no failure of the journey.
        check(&built, &key, &open.wanted.names, &entry.wish, (context.now)())?;
        if let Err(unknown) = check_issuer(context, &store, &certificate, &built, &intake.certificates)? {
            if !accept_issuer {
                return Err(unknown.into());
            }
            if let Some(issuer) = issuer_of(&built, &intake.certificates) {
                store.accept_issuer(&entry.authority, issuer)?;
            }
        }
        used.extend(built.chain.certificates().iter().cloned());
        (context.watch)(&Progress::Answer { certificate: certificate.clone(), chain: built.chain.clone() });
        let (chain, missing) = (built.chain.clone(), built.missing.clone());
        for note in &built.notes {
            (context.watch)(&Progress::Note(note.to_string()));
        }
        run.bring(&certificate, built);
        let entry = run.turn(&certificate, entry, true).await;
        receipt.received.push(Received { certificate, chain, missing, entry });
        if run.stop().is_asked() {
            break;
        }
    }
    let rest = intake.certificates.iter().filter(|c| !used.contains(c));
    if receipt.received.is_empty() {
        // The answer may be in what nobody has opened.
        if let Some(error) = intake.locked() {
            return Err(AnswerError::from(error).into());
        }
        return Err(fits_none(context, &store, &intake)?.into());
    }
    // After a stop nobody has looked whether the rest is of use.
    if !run.stop().is_asked() {
        let not_needed = |c: &Certificate| LeftAside::NotNeeded { title: c.subject_or_title() };
        receipt.left_aside.extend(rest.map(not_needed));
    }
    Ok(receipt)
}

/// Checks that an answer is for the key, the names and the uses that were asked for (for servers where none were), and good
/// today.
pub(crate) fn check(
    built: &Built,
    key: &PrivateKey,
    names: &[Identifier],
    wish: &CsrWish,
    now: Timestamp,
) -> Result<(), AnswerError> {
    if let Some(fault) = &built.fault {
        return Err(ChainError::from(fault.clone()).into());
    }
    built.chain.check_answers(key, names)?;
    let wanted = if wish.usages.is_empty() { &[KeyUse::ServerAuth][..] } else { &wish.usages };
    let forbidden = built.chain.leaf().forbids(wanted);
    if !forbidden.is_empty() {
        return Err(AnswerError::Forbids { usages: forbidden.into_iter().map(KeyUse::word).collect() });
    }
    let (from, until) = (built.chain.leaf().not_before, built.chain.leaf().not_after);
    match now {
        now if now < from => Err(ChainError::NotYet { from }.into()),
        now if now >= until => Err(ChainError::Over { until }.into()),
        _ => Ok(()),
    }
}

fn key_of(store: &Store, certificate: &str, generation: u32) -> Result<Option<PrivateKey>, StepError> {
    let pem = store.generation_folder(certificate, generation).key()?;
    Ok(pem.and_then(|pem| PrivateKey::from_pem(&pem).ok()))
}

/// Says whose the certificates are that nobody waits for.
fn fits_none(context: &Context, store: &Store, intake: &Intake) -> Result<AnswerError, StepError> {
    let leaves: Vec<&Certificate> = intake.certificates.iter().filter(|c| !c.is_ca).collect();
    let mut titles: Vec<String> = leaves.iter().map(|c| format!("`{}`", c.title())).collect();
    if titles.is_empty() {
        titles = intake.certificates.iter().map(|c| format!("`{}`", c.subject_or_title())).collect();
    }
    for certificate in context.inventory.certificates.keys() {
        for leaf in &leaves {
            if let Some(generation) = store.generation_of(certificate, &leaf.fingerprint().to_string())? {
                return Ok(AnswerError::Earlier { certificate: certificate.clone(), generation });
            }
        }
    }
    for certificate in context.inventory.certificates.keys() {
        for known in store.generations(certificate)? {
            let key = key_of(store, certificate, known.number)?;
            if key.is_some_and(|key| leaves.iter().any(|c| key.fits(c.public_key()))) {
                return Ok(AnswerError::FitsNone {
                    titles,
                    certificate: certificate.clone(),
                    generation: known.number,
                });
            }
        }
    }
    Ok(AnswerError::FitsNone { titles, certificate: String::new(), generation: 0 })
}
