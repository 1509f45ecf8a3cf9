//! Whether domains let an authority issue (CAA, RFC 8659): looked at before each new order, and in rehearsals.

use eskort_core::caa::{CaaVerdict, Issuance, judge};
use eskort_core::words;
use eskort_dns::{KnownCaa, first_that_answers, system_servers};
use std::net::SocketAddr;

/// What the CAA records of a domain come to.
pub(crate) enum Caa {
    /// The authority may issue; in words.
    Allows(String),
    /// That cannot be told.
    Unclear {
        /// What was seen.
        text: String,
        /// What to do about it.
        advice: String,
    },
    /// The authority may not issue.
    Forbids {
        /// What was seen.
        text: String,
        /// What to do about it.
        advice: String,
    },
}

/// Returns the system's resolver; `None` when it has none that answers.
pub(crate) async fn resolver() -> Option<SocketAddr> {
    let resolv_conf = std::fs::read_to_string("/etc/resolv.conf").unwrap_or_default();
    first_that_answers(&system_servers(&resolv_conf)).await
}

/// Looks whether a domain lets an authority issue for a name; `None` where it says nothing about that.
pub(crate) async fn look_at_caa(
    name: &str,
    issuance: &Issuance<'_>,
    resolver: SocketAddr,
    known: &KnownCaa,
) -> Option<Caa> {
    let (at, records) = match known.find(resolver, name).await {
        Ok(found) => found?,
        Err(error) => {
            let advice = "an authority that gets no answer does not issue: mend the name servers of the domain".into();
            return Some(Caa::Unclear { text: format!("its CAA records cannot be asked for: {error}"), advice });
        }
    };
    // Authorities that do not say how they go are not judged.
    if issuance.identities.is_empty() {
        let advice = "compare the records with what the authority's documents say".into();
        return Some(Caa::Unclear {
            text: format!("{at} has CAA records, and the authority does not say its name for them"),
            advice,
        });
    }
    let ours = words::list(issuance.identities);
    let add = format!("add to {at}: CAA 0 issue \"{}\"", issuance.identities[0]);
    Some(match judge(&records, issuance) {
        CaaVerdict::Allowed => Caa::Allows(format!("the CAA records of {at} allow {ours}")),
        CaaVerdict::Others(others) if others.is_empty() => {
            Caa::Forbids { text: format!("the CAA records of {at} allow nobody"), advice: add }
        }
        CaaVerdict::Others(others) => {
            let text = format!("the CAA records of {at} allow {}, and not {ours}", words::list(&others));
            Caa::Forbids { text, advice: add }
        }
        CaaVerdict::OtherMethod(methods) => Caa::Forbids {
            text: format!("the CAA records of {at} allow {} only, and not {}", words::list(&methods), issuance.method),
            advice: format!("add {} to `validationmethods`, or prove control in one of these ways", issuance.method),
        },
        CaaVerdict::OtherAccount(accounts) => {
            let text = format!("the CAA records of {at} are for the account {}", words::list(&accounts));
            let ours = issuance.account.unwrap_or("not known yet");
            Caa::Forbids { text, advice: format!("change `accounturi` there: the account that is used here is {ours}") }
        }
        CaaVerdict::Unknown(tag) => Caa::Forbids {
            text: format!("{at} has a critical CAA record `{tag}`, which authorities may not know"),
            advice: "remove it, or ask the authority".into(),
        },
    })
}
