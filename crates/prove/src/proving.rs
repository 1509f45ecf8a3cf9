//! Proves control of the names of one certificate: publishes what its tasks ask for, and checks it from here.

use crate::fetch::look_at_files;
use crate::file::SiteFile;
use crate::folder::{self, read_back};
use crate::listener::{self, Listener};
use crate::records::{look_at_records, publish_records};
use crate::site::SiteFolder;
use crate::{ProofContext, ProofError, tls};
use eskort_core::boxed;
use eskort_core::inventory::{CertificateEntry, Proof};
use eskort_core::journey::ProofTask;
use eskort_core::record::{Record, RecordToPlace};

/// What the proofs of one certificate's journey need.
#[derive(Clone, Copy)]
pub struct Proving<'a> {
    /// What is around it.
    pub around: ProofContext<'a>,
    /// The certificate in the inventory.
    pub certificate: &'a str,
    /// What the inventory says of it.
    pub entry: &'a CertificateEntry,
}

impl<'a> Proving<'a> {
    /// Puts the tasks together by the proof that serves them; what machines do comes before what people do.
    fn by_proof(&self, tasks: &[ProofTask]) -> Vec<(&'a str, &'a Proof, Vec<ProofTask>)> {
        let mut groups: Vec<(&str, &Proof, Vec<ProofTask>)> = Vec::new();
        for task in tasks {
            // The journey's proof is the inventory's, or it would have been given up.
            let Some((name, proof)) = self.around.context.inventory.proof_of(self.entry, &task.name) else { continue };
            match groups.iter_mut().find(|(known, ..)| *known == name) {
                Some((.., tasks)) => tasks.push(task.clone()),
                None => groups.push((name, proof, vec![task.clone()])),
            }
        }
        groups.sort_by_key(|(_, proof, _)| proof.awaits_person());
        groups
    }

    /// Puts up what the tasks ask for. Doing it again leaves things as they are.
    #[boxed]
    pub async fn publish(&self, tasks: &[ProofTask]) -> Result<Vec<Listener>, ProofError> {
        let mut listeners = Vec::new();
        for (name, proof, tasks) in self.by_proof(tasks) {
            match proof {
                Proof::HttpFolder { folder: root, hosts, .. } => {
                    let files: Vec<SiteFile> = tasks.iter().map(SiteFile::of).collect();
                    let Proving { around, certificate: owner, .. } = *self;
                    let site = SiteFolder { around, owner, root, hosts };
                    folder::publish(&site, &files).await?;
                }
                Proof::HttpListener { listen, .. } => {
                    listeners.push(listener::listen(&self.around.shared.http, *listen, &tasks).await?)
                }
                Proof::TlsListener { listen, .. } => {
                    let Proving { around: ProofContext { context, shared, .. }, .. } = *self;
                    listeners.push(tls::listen(&shared.tls, context, *listen, &tasks).await?)
                }
                Proof::Dns(dns) => {
                    let owed = (&self.around, self.certificate);
                    publish_records(owed, name, dns, &records(&tasks)).await?;
                }
            }
        }
        Ok(listeners)
    }

    /// Looks at every proof as the authority would. Returns what a person has yet to place; nothing when all can be seen.
    ///
    /// # Errors
    /// When something that machines have published cannot be seen.
    #[boxed]
    pub async fn self_check(&self, tasks: &[ProofTask]) -> Result<Vec<RecordToPlace>, ProofError> {
        let mut to_place = Vec::new();
        for (_, proof, tasks) in self.by_proof(tasks) {
            match proof {
                Proof::HttpFolder { folder, hosts, .. } => {
                    let files: Vec<SiteFile> = tasks.iter().map(SiteFile::of).collect();
                    read_back(self.around, folder, hosts, &files).await?;
                    look_at_tasks(proof, &tasks).await?;
                }
                Proof::HttpListener { .. } => look_at_tasks(proof, &tasks).await?,
                Proof::TlsListener { check_address, .. } => tls::look(*check_address, &tasks).await?,
                Proof::Dns(dns) => to_place.extend(look_at_records(self.around.context, dns, &records(&tasks)).await?),
            }
        }
        Ok(to_place)
    }
}

fn records(tasks: &[ProofTask]) -> Vec<Record> {
    tasks.iter().map(ProofTask::record).collect()
}

async fn look_at_tasks(proof: &Proof, tasks: &[ProofTask]) -> Result<(), ProofError> {
    let files = tasks.iter().map(|task| (task.name.clone(), SiteFile::of(task))).collect();
    look_at_files(files, proof.check_address()).await
}
