//! Takes in certificates that exist already, with their keys.

use crate::by_hand::answer::{Brought, chain_of, check, take_in};
use crate::keep::gather::specification_of;
use crate::{AnswerError, StepError};
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::decision::Specification;
use eskort_core::event::{Event, GivenUp};
use eskort_core::pki::{LeftAside, PrivateKey, Secret};
use eskort_core::renewal::Validity;
use eskort_store::{RunLock, Store};

/// What became of a certificate that was taken in.
#[derive(Clone, Debug)]
pub struct Adopted {
    /// Its generation.
    pub generation: u32,
    /// Its dates.
    pub validity: Validity,
    /// The issuer that visitors need and that was not brought.
    pub missing: Option<String>,
    /// What was brought beside them.
    pub left_aside: Vec<LeftAside>,
}

/// Takes a certificate with its key, and makes it the newest generation of a certificate of the inventory. The next `keep`
/// puts it in place. A journey that waits for an answer to a CSR of ours is given up for it where `instead` is set.
///
/// # Errors
/// When no key fits a certificate, the certificate lacks names of the inventory or has run out, or a journey is under way.
///
/// # Panics
/// When the certificate is not in the inventory: callers look first.
#[boxed]
pub async fn adopt(
    context: &Context,
    certificate: &str,
    brought: &[Brought],
    password: Option<&Secret<String>>,
    instead: bool,
) -> Result<Adopted, StepError> {
    let entry = &context.inventory.certificates[certificate];
    let intake = take_in(brought, password)?;
    if intake.keys.is_empty() {
        return Err(intake.encrypted().map_or(AnswerError::NoKey, AnswerError::from).into());
    }
    let fits = |key: &&PrivateKey| intake.certificates.iter().any(|c| key.fits(c.public_key()));
    let none = || intake.encrypted().map_or(AnswerError::KeyFitsNone, AnswerError::from);
    let key = intake.keys.iter().find(fits).ok_or_else(none)?;
    let leaf = intake.certificates.iter().filter(|c| key.fits(c.public_key())).max_by_key(|c| c.not_before);
    let assembled = chain_of(context, &entry.authority, leaf.ok_or(AnswerError::KeyFitsNone)?, &intake.certificates)?;
    let now = context.now();
    check(&assembled, key, &entry.names, &entry.csr, now)?;
    let _lock = RunLock::take(&context.state, "eskort adopt", now)?;
    let store = Store::open(&context.state)?;
    let open = store.open_journey(certificate).await?;
    match open.as_ref().map(|open| open.stage.handed_over()) {
        None => {}
        Some(Some(_)) if instead => {}
        Some(Some(_)) => return Err(AnswerError::CsrWaits { certificate: certificate.to_owned() }.into()),
        Some(None) => return Err(AnswerError::UnderWay { certificate: certificate.to_owned() }.into()),
    }
    let newest = store.newest(certificate).await?;
    let same = assembled.chain.leaf().fingerprint().to_string();
    if newest.as_ref().is_some_and(|g| g.fingerprint == same) {
        return Err(AnswerError::Known { certificate: certificate.to_owned() }.into());
    }
    if let Some(open) = open {
        store.give_up_journey(certificate, open.id, GivenUp::Superseded, now).await?;
    }
    let generation = store.next_generation(certificate, None).await?;
    let folder = store.generation_folder(certificate, generation);
    // The key first: a certificate without one is of no use.
    folder.save_key(key)?;
    folder.save_chain(&assembled.chain)?;
    let wanted = Specification { key: key.kind().word().to_owned(), ..specification_of(context, entry) };
    let adopted = Event::Adopted { generation };
    store.record_generation(certificate, generation, &wanted, &assembled.chain, Some(&adopted), now).await?;
    let leaf = assembled.chain.leaf();
    let validity = Validity { not_before: leaf.not_before, not_after: leaf.not_after };
    Ok(Adopted { generation, validity, missing: assembled.missing, left_aside: intake.left_aside })
}
