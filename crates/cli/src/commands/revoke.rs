//! `eskort revoke`

use super::{block_on_stoppable, keep, known_certificate};
use crate::args::RevokeArgs;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::password;
use crate::ui::Ui;
use eskort_app::{RevokeError, RevokeOptions, Revoked};
use eskort_core::context::Context;
use eskort_core::revocation::Revocation;
use jiff::Timestamp;
use serde::Serialize;

#[derive(Serialize)]
struct Report<'a> {
    at: Timestamp,
    certificate: &'a str,
    generation: u32,
    reason: Revocation,
    /// The generation that was put in its place before.
    #[serde(skip_serializing_if = "Option::is_none")]
    replaced_by: Option<u32>,
}

pub(crate) fn run(ui: &Ui, context: &Context, args: &RevokeArgs) -> ExitStatus {
    let name = &args.certificate;
    if let Err(status) = known_certificate(ui, context, name) {
        return status;
    }
    let which = args.generation.map_or("the newest generation".to_owned(), |number| format!("generation {number}"));
    if !args.yes {
        let first = match args.reason {
            Revocation::KeyCompromise => ", after another one with a new key is in its place",
            _ => "",
        };
        let question = format!(
            "This revokes {which} of `{name}`{first}. It cannot be taken back: visitors who get it are turned away. Type yes to do it"
        );
        if !password::on_terminal() {
            return errors::print_unconfirmed(ui, "nothing was revoked", "`--yes` confirms it");
        }
        if !password::says_yes(ui, &question) {
            ui.talk("Nothing was revoked.");
            return ExitStatus::Well;
        }
    }
    let RevokeArgs { generation, reason, with_key, insist, .. } = *args;
    let options = RevokeOptions { generation, reason, with_key, insist };
    let revoked = match block_on_stoppable(ui, eskort_app::revoke(context, name, &options)) {
        Ok(revoked) => revoked,
        Err(status) => return status,
    };
    ui.settle();
    match revoked {
        Ok(Revoked { generation, renewed }) => {
            let replaced_by = renewed.as_ref().and_then(|entry| entry.decision.as_ref()?.generation());
            if ui.is_json() {
                ui.json("revoke", &Report { at: context.now(), certificate: name, generation, reason, replaced_by });
                return ExitStatus::Well;
            }
            if let Some(entry) = &renewed {
                keep::print(ui, context, std::slice::from_ref(entry));
            }
            ui.result(&format!("Generation {generation} of `{name}` is revoked: {}.", reason.words()));
            if replaced_by.is_none() {
                ui.talk("The next `eskort keep` gets another one, if this was the newest.");
            }
            ExitStatus::Well
        }
        Err(error) => refused(ui, context, name, &error),
    }
}

fn refused(ui: &Ui, context: &Context, name: &str, error: &RevokeError) -> ExitStatus {
    let text = ErrorText::coded(error.into(), error.to_string());
    let text = match error {
        RevokeError::Step(error) => errors::tell(error, name),
        RevokeError::NotRenewed { entry, .. } => {
            keep::print(ui, context, std::slice::from_ref(entry));
            text.hint("mend what stands in the way, or revoke it at once with `--insist`: visitors are turned away then")
        }
        RevokeError::InUse { .. } => text.hint(format!(
            "`eskort renew {name}` puts another one in its place; `--insist` revokes it all the same, and visitors are turned away"
        )),
        RevokeError::SameKey => text.hint(
            "take `keep-key` and `key-file` out of the certificate's section; or revoke it with `--insist`, and renew it after that",
        ),
        RevokeError::NoSuchGeneration { .. } | RevokeError::RevokedBefore { .. } | RevokeError::Swept { .. } => {
            text.hint(format!("`eskort show {name}` lists the generations"))
        }
        RevokeError::NotAcme { .. } => text.hint("ask whoever runs it; its fingerprint is in `eskort show`"),
    };
    errors::print(ui, "nothing was revoked", &text);
    ExitStatus::Failed
}
