//! Whether control of names can be shown.

use super::{Rehearsed, Rehearsing, Trial, Tried};
use eskort_core::challenge::ChallengeKind;
use eskort_core::context::Context;
use eskort_core::inventory::Proof;
use eskort_core::journey::ProofTask;
use eskort_core::names::Identifier;
use eskort_core::pki::{hex, sha256};
use eskort_core::record::challenge_record;
use eskort_prove::{ProofError, Proving};
use futures_util::future::join_all;
use std::sync::Arc;

/// A token that nobody has used, and what answers it.
fn token(context: &Context, name: &Identifier, n: usize) -> (String, String) {
    let seed = format!("{} {n} {name} {}", context.now(), eskort_host::passing_name());
    let digest = hex(&sha256(seed.as_bytes()));
    (digest[..32].to_owned(), format!("{}.rehearsal", &digest[..32]))
}

impl Rehearsing<'_> {
    /// Publishes for each name what its proof would, and looks at it as the authority would.
    pub(super) async fn proofs(&self, proving: &Proving<'_>) -> Vec<Rehearsed> {
        let (context, entry) = (self.around.context, proving.entry);
        let mut trials = Vec::new();
        let mut tasks: Vec<ProofTask> = Vec::new();
        for (n, name) in entry.names.iter().enumerate() {
            let Some((proof_name, proof)) = context.inventory.proof_of(entry, name) else { continue };
            if proof.awaits_person() {
                let text = format!("a person shows control (`{proof_name}`): that cannot be tried");
                let advice = "`keep` says what to place when the time has come".to_owned();
                trials.push(Rehearsed::of(Trial::Proof, &name.to_string(), Tried::Risky { text, advice }));
                continue;
            }
            let (token, key_authorization) = token(context, name, n);
            let kind = match proof {
                Proof::Dns(_) => ChallengeKind::Dns01,
                other => other.challenges()[0],
            };
            let record = (kind == ChallengeKind::Dns01).then(|| challenge_record(&name.base(), &key_authorization));
            let proof = Some(proof_name.to_owned());
            tasks.push(ProofTask {
                name: name.clone(),
                challenge: String::new(),
                token,
                key_authorization,
                kind,
                proof,
                record,
            });
        }
        // Each proof is published by itself: one that fails says nothing about the others.
        let mut by_proof: Vec<(Option<String>, Vec<ProofTask>)> = Vec::new();
        for task in tasks {
            match by_proof.iter_mut().find(|(proof, _)| *proof == task.proof) {
                Some((_, tasks)) => tasks.push(task),
                None => by_proof.push((task.proof.clone(), vec![task])),
            }
        }
        for (proof, tasks) in by_proof {
            let proof = proof.unwrap_or_default();
            let failed = |error: ProofError| Tried::Failed(Arc::new(error.into()));
            // Listeners end when they are dropped.
            let _listeners = match proving.publish(&tasks).await {
                Ok(listeners) => listeners,
                Err(error) => {
                    trials.push(Rehearsed::of(Trial::Proof, &format!("[proof.{proof}]"), failed(error)));
                    continue;
                }
            };
            let look = |task: ProofTask| async move {
                let _turn = self.looks.acquire().await;
                let tried = match proving.self_check(std::slice::from_ref(&task)).await {
                    Ok(_) => Tried::Good(format!(
                        "what `{}` publishes can be seen",
                        task.proof.as_deref().unwrap_or_default()
                    )),
                    Err(error) => failed(error),
                };
                Rehearsed::of(Trial::Proof, &task.name.to_string(), tried)
            };
            trials.extend(join_all(tasks.into_iter().map(look)).await);
        }
        trials
    }
}
