//! The steps at authorities without ACME: a CSR is handed to a person, or sent over EST.

use super::JourneyActions;
use crate::by_hand::answer;
use crate::by_hand::validation::Validation;
use crate::{AnswerError, StepError};
use eskort_core::inventory::CsrAuthority;
use eskort_core::journey::Outcome;
use eskort_core::manual::{ManualStep, OrderNotes};
use eskort_core::pki::{
    AssembledChain, Certificate, Chain, CsrSpecification, PrivateKey, Secret, find_csr, make_csr, parse_csr,
    request_pem,
};
use eskort_core::progress::Progress;
use eskort_host::files::{Access, write_atomic};
use eskort_install::InstallError;
use eskort_talk::{Enrolled, Est, add_missing_issuers};
use jiff::Timestamp;

impl JourneyActions<'_> {
    /// Asks for the certificate over EST. The CSR is stored first: asking again has to be with the very same.
    pub(super) async fn enroll(&mut self, polls: u32) -> Result<Outcome, StepError> {
        let (context, now) = (self.context, (self.context.now)());
        let authority = &context.inventory.authorities[&self.specification.authority];
        let est = authority.est().ok_or(StepError::OtherKind { kind: authority.kind_word() })?;
        let key = self.key()?;
        let renewed = self.renewed(now)?;
        let folder = self.store.generation_folder(self.certificate, self.generation);
        let stored = folder.stored_request()?.and_then(|pem| find_csr(pem.as_bytes()));
        let fits = |der: &Vec<u8>| parse_csr(der).is_ok_and(|facts| key.fits(&facts.public_key));
        let csr = match stored.filter(fits) {
            Some(csr) => csr,
            None => {
                // RFC 7030 section 4.2.2 wants the subject of the certificate that is renewed.
                let same_subject = renewed.as_ref().map(|(leaf, _)| leaf.subject_der().to_vec());
                let wish = CsrSpecification { same_subject, ..self.entry.wish.clone() };
                let made = make_csr(&key, &self.specification.names, &wish).map_err(|e| self.key_error(e))?;
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
        let authority = &self.entry.authority;
        let built = answer::fitting(context, authority, &pool, &key)?;
        let incomplete = built.as_ref().is_some_and(|built| built.missing.is_some());
        if incomplete {
            pool.extend(conversation.ca_certificates().await?);
        }
        let built = if incomplete { answer::fitting(context, authority, &pool, &key)? } else { built };
        let built = self.completed(built.ok_or(AnswerError::KeyFitsNone)?).await?;
        self.store_answer(built, &key)
    }

    /// Returns the certificate that this journey renews over EST, and it with its chain and key in PEM, as long as it is good:
    /// RFC 7030 section 4.2.2 wants the same authority and the same names.
    fn renewed(&self, now: Timestamp) -> Result<Option<(Certificate, Secret<String>)>, StepError> {
        let newest = self.store.newest(self.certificate)?.filter(|newest| {
            let same = newest.specification.authority == self.specification.authority
                && newest.specification.names == self.specification.names;
            same && newest.number != self.generation && now < newest.validity.not_after
        });
        let Some(newest) = newest else { return Ok(None) };
        let folder = self.store.generation_folder(self.certificate, newest.number);
        let (Some(bundle), Some(key)) = (folder.bundle()?, folder.key()?) else { return Ok(None) };
        let leaf = Chain::from_pem(&bundle)?.leaf().clone();
        Ok(Some((leaf, Secret::new(format!("{bundle}\n{}", key.reveal())))))
    }

    fn office(&self) -> Result<&CsrAuthority, StepError> {
        let authority = &self.context.inventory.authorities[&self.specification.authority];
        authority.csr().ok_or(StepError::OtherKind { kind: authority.kind_word() })
    }

    /// Puts the CSR where a person finds it, and into the authority's folder. Both are written whole, so twice is as once.
    pub(super) fn hand_over(&mut self) -> Result<Outcome, StepError> {
        let folder = self.store.generation_folder(self.certificate, self.generation);
        let csr = make_csr(&self.key()?, &self.specification.names, &self.entry.wish)
            .map_err(|source| self.key_error(source))?;
        folder.save_request(&request_pem(&csr))?;
        if let Some(drop) = &self.office()?.requests_folder {
            let path = drop.join(answer::dropped_name(self.certificate, self.generation));
            let written = write_atomic(&path, request_pem(&csr).as_bytes(), Access::mode(0o644));
            written.map_err(|source| InstallError::Write { path, source })?;
        }
        Ok(Outcome::HandedOver)
    }

    /// Takes the answer that was brought, or one that lies in the authority's folder.
    pub(super) async fn take_answer(&mut self, notes: &OrderNotes) -> Result<Outcome, StepError> {
        let key = self.key()?;
        let answer = match (self.answer.take(), &self.office()?.answers_folder) {
            (Some(answer), _) => Some(answer),
            (None, Some(folder)) => {
                let found = answer::pick_up(folder)?.certificates;
                match answer::answer_among(self.context, self.store, self.certificate, &found, &key)? {
                    Some(built) => {
                        let built = self.completed(built).await?;
                        answer::check_issuer(self.context, self.store, self.certificate, &built, &found)??;
                        Some(built)
                    }
                    None => None,
                }
            }
            (None, None) => None,
        };
        let Some(built) = answer else {
            let validation = Validation {
                context: self.context,
                store: self.store,
                certificate: self.certificate,
                names: &self.specification.names,
            };
            let proof = match &notes.asked {
                Some(asked) => Some(validation.show(asked, notes.told.is_some()).await?),
                None => None,
            };
            let office = self.office()?;
            let folder = self.store.generation_folder(self.certificate, self.generation);
            let manual_step = ManualStep {
                certificate: self.certificate.to_owned(),
                csr: folder.request(),
                csr_pem: folder.stored_request()?.unwrap_or_default(),
                authority: self.specification.authority.clone(),
                submit_to: office.submit_to.clone(),
                copy: office
                    .requests_folder
                    .as_ref()
                    .map(|d| d.join(answer::dropped_name(self.certificate, self.generation))),
                answers_folder: office.answers_folder.clone(),
                notes: notes.clone(),
                proof,
            };
            return Err(StepError::AwaitsAnswer(Box::new(manual_step)));
        };
        self.store_answer(built, &key)
    }

    /// Fetches issuers that are missing, where the inventory allows that.
    async fn completed(&self, built: AssembledChain) -> Result<AssembledChain, StepError> {
        let authority = &self.specification.authority;
        match &self.context.inventory.authorities[authority].fetch_issuers {
            Some(hosts) => {
                let anchors = answer::visitors_of(self.context, authority)?.anchors();
                Ok(add_missing_issuers(self.context, built, hosts, &anchors).await)
            }
            None => Ok(built),
        }
    }

    /// Checks what an authority without ACME answered, and stores it.
    fn store_answer(&mut self, built: AssembledChain, key: &PrivateKey) -> Result<Outcome, StepError> {
        let now = (self.context.now)();
        answer::check(&built, key, &self.specification.names, &self.entry.wish, now)?;
        let known = self.store.generation_of(self.certificate, &built.chain.leaf().fingerprint().to_string())?;
        if let Some(generation) = known.filter(|known| *known != self.generation) {
            return Err(AnswerError::Earlier { certificate: self.certificate.to_owned(), generation }.into());
        }
        if let Some(issuer) = &built.missing {
            let text = format!(
                "the answer has no certificate of `{issuer}`, which issued this one: visitors may not trust it"
            );
            self.context.report(&Progress::Note(text));
        }
        self.store.generation_folder(self.certificate, self.generation).save_chain(&built.chain)?;
        self.store.record_generation(self.certificate, self.generation, &self.specification, &built.chain, now)?;
        Ok(Outcome::Stored)
    }
}
