//! Errors of proofs in words.

use super::store::tell_store;
use crate::error_text::ErrorText;
use eskort_core::manual::AskedError;
use eskort_dns::{Propagation, UpdateError};
use eskort_host::HostError;
use eskort_probe::{NotVisible, WhyNotVisible};
use eskort_prove::ProofError;
use eskort_talk::ApiError;
use std::io::ErrorKind;

pub(crate) fn tell_proof(error: &ProofError) -> ErrorText {
    let text = ErrorText::new(error);
    match error {
        ProofError::NotVisible { name, seen, others } => {
            let mut text = tell_not_visible(name, seen);
            if !others.is_empty() {
                text.cause.push_str(&format!("\nnor can it be seen at {}", eskort_core::words::list(others)));
            }
            text
        }
        ProofError::NotShown { .. } => text
            .hint("the authority connects to port 443 of the name: does the name resolve to this machine, and is the port open or forwarded?"),
        ProofError::NotEverywhere { found, .. } => tell_not_everywhere(text, found),
        ProofError::Write { .. } => text.hint("the proof's folder must be writable for the user that runs Eskort"),
        ProofError::NoFolder { .. } => text.hint("correct `folder` of the proof: it is where the site's pages are"),
        ProofError::NoSiteFolder { .. } => text.hint("name a [proof.NAME] of kind http-folder: it says where the site's folder is"),
        ProofError::PlacesNoRecords { .. } => text.hint("name a [proof.NAME] of a kind that works over DNS"),
        ProofError::Asked(error) => text.hint(match error {
            AskedError::Path(_) => "write it as the authority does: /.well-known/pki-validation/lamp.txt",
            AskedError::RecordName(_) => "give the fully qualified name, with the domain: _a1b2.lampholm.example",
            AskedError::Elsewhere(_) => "the record stands at or below one of the names, or a domain above it",
            AskedError::Text => "copy it from the authority's page as it is, without quotes around it",
            AskedError::Target(_) => "the target is a fully qualified DNS name: c3d4.ca.example",
            AskedError::Address(_) => "it is admin, administrator, hostmaster, postmaster or webmaster at a name or a domain above it",
        }),
        ProofError::Occupied { .. } => text.hint("move it away if it is an old one"),
        ProofError::Key { .. } => {
            text.hint("`key-file` of the proof wants the key in BIND's syntax, as tsig-keygen writes it; `key-name` and the like, its parts")
        }
        ProofError::Ask(_) => text.hint("check `server` of the proof, and that this machine may ask it"),
        ProofError::Update(error) => match error {
            UpdateError::Ask(_) => text.hint("check `server` of the proof: updates go to it over TCP"),
            UpdateError::Key { .. } => {
                text.hint("name, algorithm and secret of the key have to be the same on both sides")
            }
            UpdateError::Time { .. } => text.hint("set the clocks of both machines"),
            UpdateError::Refused { .. } => {
                text.hint("allow the key to update TXT records in the zone (in BIND: update-policy or allow-update)")
            }
            UpdateError::Unsigned { .. } => {
                text.hint("something between here and the name server changes the messages")
            }
        },
        ProofError::Certificate(_) => text.hint("this is a bug in Eskort; please report it"),
        ProofError::NoPrimary { .. } => text.hint("name the primary in the inventory: server = \"192.0.2.53\""),
        ProofError::Secret(_) => text.hint("correct the place in the inventory, or put the secret there"),
        ProofError::Api(error) => tell_api(text, error),
        ProofError::Host(error) => tell_host(text, error),
        ProofError::NoHost { .. } => text.hint("put it back into the inventory, or remove the file by hand"),
        ProofError::LinkOnHost { .. } => text.hint("put a folder there, or name the folder it leads to in `folder` of the proof"),
        ProofError::NotOnHost { .. } => text.hint("does something empty the folder? Run the command again"),
        ProofError::Store(error) => tell_store(error),
        ProofError::Program(_) => {
            text.hint("run `command` of the proof by hand, with what docs/inventory.md says on its standard input")
        }
        ProofError::Gone { .. } => text.hint("put it back into the inventory, or remove the record by hand"),
        ProofError::Listen { source, .. } => match source.kind() {
            std::io::ErrorKind::AddrInUse => text
                .hint("another program uses the port: stop it for a moment, or prove through its pages with `http-folder`"),
            std::io::ErrorKind::PermissionDenied => {
                text.hint("ports below 1024 need root, or the capability CAP_NET_BIND_SERVICE")
            }
            _ => text.hint("correct `listen` of the proof: it has to be an address of this machine"),
        },
    }
}

/// Says what each name server that lacks the records has said.
fn tell_not_everywhere(mut text: ErrorText, found: &Propagation) -> ErrorText {
    for server in &found.lacking {
        text.cause.push_str(&format!("\n{}: {}", server.server, server.what));
    }
    for (host, why) in &found.silent {
        text.cause.push_str(&format!("\n{host}: {why}"));
    }
    match (found.lacking.is_empty(), found.have.is_empty()) {
        (true, _) => text.hint("can this machine reach name servers at all? `name-servers` of the proof says which ones to ask"),
        (false, true) => text.hint(
            "no server has it: is it placed in the zone that they serve? `propagation-timeout` of the proof says how long to wait",
        ),
        (false, false) => text
            .hint("a secondary server is behind: check its zone transfers; `propagation-timeout` of the proof says how long to wait"),
    }
}

pub(super) fn tell_host(text: ErrorText, error: &HostError) -> ErrorText {
    match error {
        HostError::Unreachable { .. } => {
            text.hint("check `address` and `port` of the host, and that this machine may go there")
        }
        HostError::Untrusted { .. } => text.hint(
            "over SSH: connect once with `ssh` by hand, compare the host key, and accept it; over FTP: `roots` of \
             the host names the root of a private certificate",
        ),
        HostError::Login { .. } => text.hint(
            "check `user`, and the key or the password; `ssh` or an FTP program must be able to log in without asking",
        ),
        HostError::File { .. } => text.hint("the user must be allowed to write there; is the disk full?"),
        HostError::Command { .. } => text.hint("run the command on the host by hand"),
        HostError::NoCommands { .. } => text.hint("commands need a host of kind \"ssh\""),
        HostError::TimedOut { job: "run a command", .. } => {
            text.hint("`timeout` of the proof or the server says how long a command may take")
        }
        HostError::GivenUp { .. } | HostError::TimedOut { .. } => {
            text.hint("`timeout` of the host says how long a step may take")
        }
    }
}

/// Returns what it is that stands in the way, in words.
fn in_the_way(seen: &NotVisible) -> &'static str {
    match &seen.why {
        WhyNotVisible::NoAddress { .. } => "the name resolves to no address",
        WhyNotVisible::NoConnection { source, .. } => match source.kind() {
            ErrorKind::ConnectionRefused => "nothing listens there",
            ErrorKind::TimedOut => "nothing answers there, not even a refusal",
            _ => "no connection comes about",
        },
        WhyNotVisible::NoAnswer { .. } => "what answers is no web server",
        WhyNotVisible::Status { status: 401 | 407, .. } => "the site asks for a password",
        WhyNotVisible::Status { status: 403, .. } => "the site forbids the path",
        WhyNotVisible::Status { status: 404 | 410, .. } => "the site does not have the file",
        WhyNotVisible::Status { status: 500.., .. } => "the site fails",
        WhyNotVisible::Status { .. } => "the site refuses",
        WhyNotVisible::Content { begins } if begins.starts_with('<') => "a page comes back instead of the file",
        WhyNotVisible::Content { begins } if begins.is_empty() => "an empty page comes back instead of the file",
        WhyNotVisible::Content { .. } => "another text comes back",
        WhyNotVisible::Redirect { .. } => "a redirect leads nowhere",
    }
}

pub(crate) fn tell_not_visible(name: &str, seen: &NotVisible) -> ErrorText {
    let what = in_the_way(seen);
    let cause = format!("what the authority would fetch cannot be seen: {what}\nasked for {}\n{seen}", seen.url);
    let text = ErrorText::coded("not-visible", cause);
    let serve = "/.well-known/acme-challenge/ from the proof's folder";
    match &seen.why {
        WhyNotVisible::NoAddress { .. } => {
            text.hint(format!("add an address record for {name}, or leave the name out of the certificate"))
        }
        WhyNotVisible::NoConnection { from_inventory, source, .. } => {
            let text = text.hint(match source.kind() {
                ErrorKind::TimedOut => {
                    "a firewall on the way drops it, or the address belongs to a machine that is off: is it this machine's?"
                }
                _ => "is the web server running, is port 80 open in the firewall, and is the address this machine's?",
            });
            if *from_inventory {
                text.hint("`check-address` of the proof says where to look; correct it if that is wrong")
            } else {
                text.hint("a machine that cannot reach itself by name needs `check-address` in the proof")
            }
        }
        WhyNotVisible::NoAnswer { .. } => text.hint("something other than a web server listens there"),
        WhyNotVisible::Status { status: 404 | 410, .. } => {
            text.hint("the proof's `folder` is probably not the one that this site is served from")
        }
        WhyNotVisible::Status { status: 401 | 407, .. } => {
            text.hint("let everybody have /.well-known/acme-challenge/ without a password: authorities have none")
        }
        WhyNotVisible::Status { status: 403, .. } => {
            text.hint("the web server hides the path: allow /.well-known/acme-challenge/, hidden folders included")
        }
        WhyNotVisible::Status { .. } => text.hint("see the web server's error log"),
        WhyNotVisible::Content { begins } if begins.starts_with('<') => text.hint(format!(
            "an application or a page for everything unknown answers for this path, too: serve {serve} before it"
        )),
        WhyNotVisible::Content { .. } => text.hint(format!(
            "another site answers under this name, or a rule of the web server covers the path: serve {serve}"
        )),
        WhyNotVisible::Redirect { .. } => text.hint("exclude /.well-known/acme-challenge/ from the redirect"),
    }
}

/// Says what to do when an API does not do what was asked.
pub(super) fn tell_api(text: ErrorText, error: &ApiError) -> ErrorText {
    match error {
        ApiError::Recipe { .. } => text.hint("correct the recipe; docs/inventory.md says what can stand in it"),
        ApiError::Unreachable { .. } => {
            text.hint("check `address` in the inventory, and `roots` for a private certificate")
        }
        ApiError::Refused { status: 401 | 403, .. } => {
            text.hint("the API does not accept the secret, or the secret does not permit this")
        }
        ApiError::Refused { .. } => text.hint("the API refused: compare the recipe with the API's documentation"),
        ApiError::NoId { .. } => text.hint("correct `id` in the recipe, or give it a `find`"),
        ApiError::Secret(_) => text.hint("correct the place in the inventory, or put the secret there"),
    }
}
