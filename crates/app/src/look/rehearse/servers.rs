//! Whether servers could be changed now.

use super::firewall::Doors;
use super::{Rehearsed, Trial, Tried};
use crate::keep::planned_servers;
use eskort_core::inventory::CertificateEntry;
use eskort_core::words;
use eskort_install::confinement;
use eskort_prove::ProofContext;
use std::sync::Arc;

/// Plans what would change on servers, and has each test its configuration as it is now. Returns with it the ports that visitors come to.
pub(super) async fn installation(
    around: ProofContext<'_>,
    certificate: &str,
    entry: &CertificateEntry,
) -> (Vec<Rehearsed>, Doors) {
    let ProofContext { context, store, machines, .. } = around;
    let plans = match planned_servers(context, store, certificate, entry).await {
        Ok(plans) => plans,
        Err(error) => {
            let tried = Tried::Failed(Arc::new(error));
            let servers: Vec<&str> = entry.install.iter().map(|install| &*install.server).collect();
            return (vec![Rehearsed::of(Trial::Install, &words::list(&servers), tried)], Doors::new());
        }
    };
    let (mut trials, mut doors) = (Vec::new(), Doors::new());
    for plan in plans {
        for endpoint in &plan.endpoints {
            let address = endpoint.here.or(endpoint.instead);
            doors.insert((plan.host.clone(), address.and_then(|address| address.port).unwrap_or(endpoint.port)));
        }
        let tested = match &plan.test {
            Some(words) => machines.at(context, plan.host.as_deref()).run(words, b"", &plan.rules).await,
            None => Ok(()),
        };
        match eskort_install::ask_api(context, certificate, &plan.server).await {
            Ok(false) => {}
            Ok(true) => {
                let tried = Tried::Good("its API takes the secret, and says what is in use".to_owned());
                trials.push(Rehearsed::of(Trial::Install, &plan.server, tried));
                continue;
            }
            Err(error) => {
                let tried = Tried::Failed(Arc::new(error.into()));
                trials.push(Rehearsed::of(Trial::Install, &plan.server, tried));
                continue;
            }
        }
        if let Some((software, folder)) = &plan.reads
            && let Some(found) = confinement(&machines.at(context, plan.host.as_deref()), *software, folder).await
        {
            let tried = Tried::Risky { text: found.words(*software), advice: found.advice(folder) };
            trials.push(Rehearsed::of(Trial::Install, &plan.server, tried));
        }
        let changes = words::count(plan.changes.len() as u64, "file");
        let tried = match (tested, &plan.test) {
            (Ok(()), Some(_)) => Tried::Good(format!("it accepts its configuration; {changes} would change")),
            (Ok(()), None) => Tried::Good(format!("{changes} would change")),
            (Err(error), _) => Tried::Fatal {
                text: format!("it does not accept its configuration as it is: {error}"),
                advice: "mend it first: nothing can be installed before".into(),
            },
        };
        trials.push(Rehearsed::of(Trial::Install, &plan.server, tried));
    }
    (trials, doors)
}
