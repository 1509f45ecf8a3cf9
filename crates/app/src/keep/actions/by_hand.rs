//! The steps at an authority that a person carries the CSR to.

use super::super::steps::{Acted, Awaited};
use super::work::Work;
use crate::by_hand::answer;
use crate::by_hand::validation::Validation;
use crate::{AnswerError, StepError};
use eskort_core::inventory::CsrAuthority;
use eskort_core::journey::Outcome;
use eskort_core::manual::{ManualStep, OrderNotes};
use eskort_core::pki::{AssembledChain, PrivateKey, request_pem};
use eskort_core::progress::Progress;
use eskort_host::files::{Access, write_atomic};
use eskort_install::InstallError;
use eskort_talk::add_missing_issuers;

fn office<'a>(work: &Work<'a>) -> Result<&'a CsrAuthority, StepError> {
    let authority = &work.context.inventory.authorities[&work.specification.authority];
    authority.csr().ok_or(StepError::OtherKind { kind: authority.kind_word() })
}

/// Puts the CSR where a person finds it, and into the authority's folder. Both are written whole, so twice is as once.
pub(super) fn hand_over(work: &Work<'_>) -> Result<Outcome, StepError> {
    let folder = work.store.generation_folder(work.certificate, work.generation);
    let csr = work.csr()?;
    folder.save_request(&request_pem(csr))?;
    if let Some(drop) = &office(work)?.requests_folder {
        let path = drop.join(answer::dropped_name(work.certificate, work.generation));
        let written = write_atomic(&path, request_pem(csr).as_bytes(), Access::mode(0o644));
        written.map_err(|source| InstallError::Write { server: String::new(), path, source })?;
    }
    Ok(Outcome::HandedOver)
}

/// Takes the answer that was brought, or one that lies in the authority's folder.
pub(super) async fn take_answer(
    work: &Work<'_>,
    brought: Option<AssembledChain>,
    notes: &OrderNotes,
) -> Result<Acted, StepError> {
    let key = work.key()?;
    let answer = match (brought, &office(work)?.answers_folder) {
        (Some(answer), _) => Some(answer),
        (None, Some(folder)) => {
            let found = answer::receive_from(folder)?.certificates;
            match answer::answer_among(work.context, work.store, work.certificate, &found, key).await? {
                Some(assembled) => {
                    let assembled = completed(work, assembled).await?;
                    answer::check_issuer(work.context, work.store, work.certificate, &assembled, &found).await??;
                    Some(assembled)
                }
                None => None,
            }
        }
        (None, None) => None,
    };
    let Some(assembled) = answer else {
        let validation =
            Validation { around: work.around(), certificate: work.certificate, names: &work.specification.names };
        let proof = match &notes.asked {
            Some(asked) => Some(validation.show(asked, notes.notified.is_some()).await?),
            None => None,
        };
        let office = office(work)?;
        let folder = work.store.generation_folder(work.certificate, work.generation);
        let manual_step = ManualStep {
            certificate: work.certificate.to_owned(),
            csr: folder.request(),
            csr_pem: folder.stored_request()?.unwrap_or_default(),
            authority: work.specification.authority.clone(),
            submit_to: office.submit_to.clone(),
            copy: office
                .requests_folder
                .as_ref()
                .map(|d| d.join(answer::dropped_name(work.certificate, work.generation))),
            answers_folder: office.answers_folder.clone(),
            notes: notes.clone(),
            proof,
        };
        return Ok(Acted::Awaits(Awaited::Answer(Box::new(manual_step))));
    };
    store_answer(work, assembled, key).await.map(Acted::Came)
}

/// Fetches issuers that are missing, where the inventory allows that.
pub(super) async fn completed(work: &Work<'_>, assembled: AssembledChain) -> Result<AssembledChain, StepError> {
    let authority = &work.specification.authority;
    match &work.context.inventory.authorities[authority].fetch_issuers {
        Some(hosts) => {
            let anchors = answer::visitors_of(work.context, authority)?.anchors();
            Ok(add_missing_issuers(work.context, assembled, hosts, &anchors).await)
        }
        None => Ok(assembled),
    }
}

/// Checks what an authority without ACME answered, and stores it.
pub(super) async fn store_answer(
    work: &Work<'_>,
    assembled: AssembledChain,
    key: &PrivateKey,
) -> Result<Outcome, StepError> {
    let now = work.context.now();
    answer::check(&assembled, key, &work.specification.names, &work.entry.csr, now)?;
    let known = work.store.generation_of(work.certificate, &assembled.chain.leaf().fingerprint().to_string()).await?;
    if let Some(generation) = known.filter(|known| *known != work.generation) {
        return Err(AnswerError::Earlier { certificate: work.certificate.to_owned(), generation }.into());
    }
    if let Some(issuer) = &assembled.missing {
        let text =
            format!("the answer has no certificate of `{issuer}`, which issued this one: visitors may not trust it");
        work.context.report(&Progress::Note(text));
    }
    work.store.generation_folder(work.certificate, work.generation).save_chain(&assembled.chain)?;
    work.store
        .record_generation(work.certificate, work.generation, &work.specification, &assembled.chain, None, now)
        .await?;
    Ok(Outcome::Stored)
}
