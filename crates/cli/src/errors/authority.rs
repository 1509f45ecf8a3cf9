//! Errors of authorities in words.

use super::store::tell_store;
use crate::error_text::ErrorText;
use eskort_acme::{AcmeError, AtFault, Problem, Rejected, Step};
use eskort_talk::http::HttpError;
use eskort_talk::{AuthorityError, EstError};

fn tell_http(error: &HttpError) -> ErrorText {
    let text = ErrorText::new(error);
    match error {
        HttpError::Unreachable { untrusted: true, .. } => {
            text.hint("for a private authority name its root in the inventory: api-roots = \"root.pem\"")
        }
        HttpError::Unreachable { .. } => {
            text.hint("check the authority's address in the inventory, this machine's network, and its name servers")
        }
        HttpError::TimedOut { .. } => text.hint("the authority is slow or down; try again later"),
        HttpError::TooLarge { .. } => text.hint("check the authority's address in the inventory"),
    }
}

pub(crate) fn tell_authority(error: &AuthorityError, certificate: &str) -> ErrorText {
    let text = ErrorText::new(error);
    match error {
        AuthorityError::Http(error) => tell_http(error),
        AuthorityError::Refused { step, problem, .. } => tell_problem(text, *step, problem, certificate),
        AuthorityError::Acme(AcmeError::Problem(problem)) => tell_problem(text, Step::Order, problem, certificate),
        AuthorityError::Rejected(rejected) => tell_rejected(text, rejected, certificate),
        AuthorityError::Acme(AcmeError::Rejected(rejected)) => {
            tell_rejected(text, std::slice::from_ref(rejected), certificate)
        }
        AuthorityError::AccountEnded { .. } => text.hint(
            "somebody deactivated it, or the authority revoked it: ask there if that was not you. The next run creates a new \
             account, if the inventory accepts the terms",
        ),
        AuthorityError::Acme(AcmeError::NotProtocol { .. }) => {
            text.hint("check the address of `directory`: it has to be that of an ACME directory, not of a web page")
        }
        AuthorityError::Acme(AcmeError::Signing) => text.hint("this is a bug in Eskort; please report it"),
        AuthorityError::Est(EstError::LoginRefused { .. }) => text.hint(
            "check `user` and its password, or `client-certificate` and `client-key`; a renewal shows the certificate in use",
        ),
        AuthorityError::Est(EstError::Refused { status: 404 | 204, .. } | EstError::NotProtocol { .. }) => {
            text.hint("check `address`: a server for several authorities needs a label behind /.well-known/est")
        }
        AuthorityError::Est(EstError::Refused { .. }) => {
            text.hint("the authority does not accept the request: check names, key and subject in the inventory")
        }
        AuthorityError::Secret(_) => text.hint("correct the place in the inventory, or put the secret there"),
        AuthorityError::Terms { .. } => {
            text.hint("read them; if you agree, add `accept-terms = true` to the authority's section")
        }
        AuthorityError::NeedsExternalAccount => text.hint(
            "get a key identifier and a key from the authority's web site, and write external-key-id and \
             external-key-file into its section",
        ),
        AuthorityError::File { .. } => text.hint("correct the path in the inventory, or the file"),
        AuthorityError::AccountKey { .. } => {
            text.hint("put the key back from a backup; or move it aside, and the next run makes a new account")
        }
        AuthorityError::Store(error) => tell_store(error),
    }
}

fn tell_rejected(text: ErrorText, rejected: &[Rejected], certificate: &str) -> ErrorText {
    match rejected.iter().find_map(|rejected| rejected.problem.as_ref()) {
        Some(problem) => tell_problem(text, Step::Challenge, problem, certificate),
        None => text.hint(format!("see what happened with `eskort show {certificate}`")),
    }
}

fn tell_problem(text: ErrorText, step: Step, problem: &Problem, certificate: &str) -> ErrorText {
    let when = problem.retry_after.as_deref().map(|v| format!(" (it says: Retry-After {v})")).unwrap_or_default();
    if problem.kind == "userActionRequired" {
        let text = match &problem.instance {
            Some(page) => text.hint(format!("open {page} and follow the instructions there")),
            None => text.hint("check the authority's web site"),
        };
        return match &problem.terms {
            Some(terms) => text.hint(format!("its terms of service may have changed: {terms}")),
            None => text,
        };
    }
    match problem.at_fault(step) {
        AtFault::Site => text
            .hint(
                "the authority did not see what this machine saw: check what the name resolves to from outside, \
                   IPv6 included, and CAA records",
            )
            .hint(format!("then run `eskort keep --only {certificate}`")),
        AtFault::Limits => text.hint(format!("rate limit reached; `keep` waits before it asks again{when}")),
        AtFault::Authority => text.hint(format!("the authority has a problem of its own; try again later{when}")),
        AtFault::Account if problem.kind == "accountDoesNotExist" => {
            text.hint("the authority does not know the account any more; the next run creates a new one")
        }
        AtFault::Account => text.hint(
            "check `contact`, the external key and the account key; the authority does not accept the account as it is",
        ),
        AtFault::Request => {
            text.hint("the authority does not accept the request: check the names and the key in the inventory")
        }
    }
}
