//! What an authority without ACME wants to see: published, and checked from here.

use crate::StepError;
use eskort_core::inventory::{DnsProof, Proof};
use eskort_core::manual::{Asked, AskedProof, ProofSight};
use eskort_core::names::Identifier;
use eskort_core::progress::Progress;
use eskort_prove::{ProofContext, ProofError, SiteFile, SitePlace, addresses, look, look_at_records, publish_records};
use eskort_store::{Store, StoreError};
use std::time::Duration;

/// Whether a journey has something published that an authority without ACME may look at any day.
pub(crate) async fn is_published_for_validation(store: &Store, certificate: &str) -> Result<bool, StoreError> {
    let open = store.open_journey(certificate).await?;
    Ok(open.is_some_and(|open| open.stage.handed_over().is_some() && open.stage.needs_publication()))
}

/// The validation of one certificate's order.
pub(crate) struct Validation<'a> {
    pub(crate) around: ProofContext<'a>,
    pub(crate) certificate: &'a str,
    pub(crate) names: &'a [Identifier],
}

impl Validation<'_> {
    /// Publishes what the authority asks as proof, and looks whether it can be seen. Doing it again leaves things as they are.
    /// Name servers are waited for only until the authority was notified that it may look.
    pub(crate) async fn show(&self, asked: &AskedProof, notified: bool) -> Result<ProofSight, StepError> {
        let shown = match &asked.what {
            Asked::Mail { .. } => return Ok(ProofSight::Mail),
            Asked::File { path, text } => {
                let file = SiteFile { path: path.clone(), bytes: text.clone().into_bytes() };
                self.show_file(&file, asked.by.as_deref()).await
            }
            Asked::Record(record) => {
                let records = std::slice::from_ref(record);
                let mut dns = self.dns_proof(asked.by.as_deref())?;
                if notified {
                    dns.look.propagation_timeout = Duration::ZERO;
                }
                if let Some(by) = &asked.by {
                    self.around.context.report(&Progress::Doing("publish the record"));
                    let owner = (&self.around, self.certificate);
                    publish_records(owner, by, &dns, records).await?;
                }
                self.around.context.report(&Progress::Doing("check the record from here"));
                match look_at_records(self.around.context, &dns, records).await {
                    Ok(to_place) if !to_place.is_empty() => {
                        return Ok(ProofSight::NotSeen { why: "it is not there yet".into(), to_place });
                    }
                    looked => looked.map(|_| vec![record.name.clone()]),
                }
            }
        };
        let not_seen = |why: String| Ok(ProofSight::NotSeen { why, to_place: Vec::new() });
        match shown {
            Ok(at) => Ok(ProofSight::Seen { at }),
            Err(ProofError::NotEverywhere { found, of, .. }) => {
                let lacks = found.lacking.first().map(|b| {
                    format!("{} of {of} name servers do not have it yet; {}: {}", found.lacking.len(), b.server, b.what)
                });
                let silent = || found.silent.first().map(|(_, why)| format!("no name server can be reached: {why}"));
                not_seen(lacks.or_else(silent).unwrap_or_default())
            }
            // Neither is a name server that does not answer, or a site, a reason to take anything away.
            Err(error @ (ProofError::NotVisible { .. } | ProofError::Ask(_))) => not_seen(error.to_string()),
            Err(error) => Err(error.into()),
        }
    }

    async fn show_file(&self, file: &SiteFile, by: Option<&str>) -> Result<Vec<String>, ProofError> {
        // An authority looks at the names themselves; a wildcard's is the domain below the star.
        let mut names: Vec<Identifier> = self.names.iter().map(Identifier::without_wildcard).collect();
        names.dedup();
        match by {
            Some(by) => {
                let site = SitePlace::of(self.around, by)?;
                site.show(self.certificate, file, &names).await?;
            }
            None => look(file, &names, None).await?,
        }
        Ok(addresses(file, &names))
    }

    /// Returns the proof that places records; without one, a person does.
    fn dns_proof(&self, by: Option<&str>) -> Result<DnsProof, ProofError> {
        let Some(by) = by else { return Ok(DnsProof::by_hand()) };
        match self.around.context.inventory.proofs.get(by) {
            Some(Proof::Dns(dns)) => Ok(dns.clone()),
            _ => Err(ProofError::PlacesNoRecords { proof: by.to_owned() }),
        }
    }
}
