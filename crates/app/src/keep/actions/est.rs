//! The steps at an authority over EST (RFC 7030).

use super::by_hand::{completed, store_answer};
use super::work::Work;
use crate::by_hand::answer;
use crate::{AnswerError, StepError};
use eskort_core::journey::Outcome;
use eskort_core::pki::{Certificate, Chain, CsrSpecification, Secret, find_csr, make_csr, parse_csr, request_pem};
use eskort_core::progress::Progress;
use eskort_talk::{Enrolled, Est};
use jiff::Timestamp;

/// Asks for the certificate over EST. The CSR is stored first: asking again has to be with the very same.
pub(super) async fn enroll(work: &Work<'_>, polls: u32) -> Result<Outcome, StepError> {
    let (context, now) = (work.context, work.context.now());
    let authority = &context.inventory.authorities[&work.specification.authority];
    let est = authority.est().ok_or(StepError::OtherKind { kind: authority.kind_word() })?;
    let key = work.key()?;
    let renewed = renewed(work, now).await?;
    let folder = work.store.generation_folder(work.certificate, work.generation);
    let stored = folder.stored_request()?.and_then(|pem| find_csr(pem.as_bytes()));
    let fits = |der: &Vec<u8>| parse_csr(der).is_ok_and(|facts| key.fits(&facts.public_key));
    let csr = match stored.filter(fits) {
        Some(csr) => csr,
        None => {
            // RFC 7030 section 4.2.2 wants the subject of the certificate that is renewed.
            let same_subject = renewed.as_ref().map(|(leaf, _)| leaf.subject_der().to_vec());
            let specification = CsrSpecification { same_subject, ..work.entry.csr.clone() };
            let made = make_csr(key, &work.specification.names, &specification).map_err(|e| work.key_error(e))?;
            folder.save_request(&request_pem(&made))?;
            made
        }
    };
    let renews = renewed.is_some();
    let in_use = renewed.map(|(_, with_key)| with_key);
    let conversation = Est::open(est, in_use, authority.timeout, context.progress.clone())?;
    let mut pool = match conversation.enroll(&csr, renews, now).await? {
        Enrolled::NotYet(ask_again) => {
            if polls == 0 {
                context.report(&Progress::Note("the authority has the request, and takes its time".into()));
            }
            return Ok(Outcome::NotYet { ask_again });
        }
        Enrolled::Certificates(certificates) => certificates,
    };
    let authority = &work.entry.authority;
    let assembled = answer::fitting(context, authority, &pool, key)?;
    let incomplete = assembled.as_ref().is_some_and(|assembled| assembled.missing.is_some());
    if incomplete {
        pool.extend(conversation.ca_certificates().await?);
    }
    let assembled = if incomplete { answer::fitting(context, authority, &pool, key)? } else { assembled };
    let assembled = completed(work, assembled.ok_or(AnswerError::KeyFitsNone)?).await?;
    store_answer(work, assembled, key).await
}

/// Returns the certificate that this journey renews over EST, and it with its chain and key in PEM, as long as it is good:
/// RFC 7030 section 4.2.2 wants the same authority and the same names.
async fn renewed(work: &Work<'_>, now: Timestamp) -> Result<Option<(Certificate, Secret<String>)>, StepError> {
    let newest = work.store.newest(work.certificate).await?.filter(|newest| {
        let same = newest.specification.authority == work.specification.authority
            && newest.specification.names == work.specification.names;
        same && newest.number != work.generation && now < newest.validity.not_after
    });
    let Some(newest) = newest else { return Ok(None) };
    let folder = work.store.generation_folder(work.certificate, newest.number);
    let (Some(bundle), Some(key)) = (folder.bundle()?, folder.key()?) else { return Ok(None) };
    let leaf = Chain::from_pem(&bundle)?.leaf().clone();
    Ok(Some((leaf, Secret::new(format!("{bundle}\n{}", key.reveal())))))
}
