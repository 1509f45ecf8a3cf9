//! Errors in words: what was tried, what came back, why probably, what to do next; and the exit code.

mod answer;
mod authority;
mod install;
mod mistakes;
mod proof;
mod store;

pub(crate) use answer::tell_answer;
pub(crate) use install::tell_machine_error;
pub(crate) use proof::{tell_not_visible, tell_proof};

use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::exit::ExitStatus;
use crate::texts::guide;
use crate::ui::Ui;
use authority::tell_authority;
use eskort_app::{SetupError, StepError};
use eskort_store::StoreError;
use install::tell_install;
use mistakes::print_mistakes;
use std::path::Path;
use store::tell_store;

/// Prints an error. Where JSON is wanted and nothing else comes, it becomes the report.
pub(crate) fn print(ui: &Ui, headline: &str, text: &ErrorText) {
    ui.settle();
    ui.keep_error(headline, text);
    ui.talk(&format!("{} {headline}", Tone::Bad.paint("error:")));
    for (n, line) in text.cause.lines().enumerate() {
        ui.talk_wrapped(if n == 0 { "  cause: " } else { "         " }, line, Tone::Plain);
    }
    for hint in &text.hints {
        ui.talk_wrapped(&format!("{} ", Tone::Strong.paint("hint:")), hint, Tone::Plain);
    }
}

/// Says that something has to be confirmed first, and nobody can be asked here.
pub(crate) fn print_unconfirmed(ui: &Ui, undone: &str, hint: &str) -> ExitStatus {
    let headline = format!("{undone}: that has to be confirmed, and there is no terminal to ask on");
    print(ui, &headline, &ErrorText::coded("not-confirmed", "").hint(hint));
    ExitStatus::Usage
}

/// Prints why there is nothing to start from.
pub(crate) fn print_setup(ui: &Ui, error: &SetupError) -> ExitStatus {
    match error {
        SetupError::NoInventory { .. } => {
            let mut text = ErrorText::coded(error.into(), "");
            if nix::unistd::geteuid().is_root() && Path::new("eskort.toml").exists() {
                text = text.hint("root does not use an inventory for being in the working folder; if it is yours, name it: --config eskort.toml");
            }
            let text = text.hint("name another one with --config FILE, or begin one as follows");
            print(ui, &error.to_string(), &text);
            ui.talk("");
            ui.talk(guide::FIRST_STEPS);
        }
        SetupError::NotUtf8 { .. } => {
            print(
                ui,
                &error.to_string(),
                &ErrorText::coded(error.into(), "").hint("keep the inventory in a folder with a name in UTF-8"),
            );
        }
        SetupError::Untrusted(error) => {
            let text = ErrorText::coded("untrusted", error.to_string()).hint(match error.mended_by() {
                Some(mended) => format!("whoever may change it decides what is run here; {mended}"),
                None => "correct the path".to_owned(),
            });
            print(ui, "the inventory is not used", &text);
        }
        SetupError::Unreadable { path, source } => {
            let text = ErrorText::coded(error.into(), source.to_string())
                .hint("run as the user that owns it, or name another one with --config FILE");
            print(ui, &format!("cannot read the inventory {}", path.display()), &text);
        }
        SetupError::Mistakes { path, mistakes } => {
            ui.keep_mistakes(&path.display().to_string(), mistakes);
            print_mistakes(ui, path, mistakes);
        }
    }
    ExitStatus::Usage
}

/// Prints an error of the state folder, which stops everything.
pub(crate) fn print_store(ui: &Ui, error: &StoreError) -> ExitStatus {
    let headline = match error {
        StoreError::Busy { .. } | StoreError::Leased { .. } => "nothing was done",
        _ => "cannot use the state folder",
    };
    print(ui, headline, &tell_store(error));
    match error {
        StoreError::Busy { .. } | StoreError::Leased { .. } => ExitStatus::Busy,
        StoreError::Io { .. }
        | StoreError::Ledger { .. }
        | StoreError::Lost { .. }
        | StoreError::Newer { .. }
        | StoreError::Path { .. }
        | StoreError::Row { .. } => ExitStatus::Failed,
    }
}

/// Returns an error of a journey in words. `certificate` is for the commands in the hints.
pub(crate) fn tell(error: &StepError, certificate: &str) -> ErrorText {
    let text = ErrorText::new(error);
    let again = format!("then run `eskort keep --only {certificate}`; it goes on from here");
    match error {
        StepError::Store(error) => tell_store(error),
        StepError::Authority(error) => tell_authority(error, certificate),
        StepError::Proof(error) => tell_proof(error).hint(again),
        StepError::Answer(error) => tell_answer(error),
        StepError::NoChallenge { .. } => {
            text.hint("the authority wants these names proved in another way; see docs/inventory.md")
        }
        StepError::Rehearsal { .. } => text.hint("the state folder has to be writable, and some port free on loopback"),
        StepError::Schedule { .. } => {
            text.hint("run it as root, or with `--user`; where there is no systemd, `--cron` takes cron")
        }
        StepError::NoProfile { offered, .. } if offered.is_empty() => {
            text.hint("it offers no profiles: take `profile` out of the certificate's section").hint(again)
        }
        StepError::NoProfile { offered, .. } => {
            text.hint(format!("correct `profile` in the certificate's section; it offers {}", eskort_core::words::list(offered))).hint(again)
        }
        StepError::Chain(_) => {
            text.hint("the certificate differs from the order; nothing was installed. Try again later")
        }
        StepError::KeyFile { .. } => text
            .hint("`key-file` takes PKCS#8, PKCS#1 or SEC 1 in PEM; `key-password-file` names a file with its password")
            .hint(again),
        StepError::Key { .. } => text.hint("if the file was damaged, move it aside; the next run makes a new key"),
        StepError::Install(error) => tell_install(error, certificate),
        StepError::NotConfirmed { findings, .. } => {
            let advice = findings.iter().filter_map(|f| f.advice.clone());
            ErrorText { hints: advice.collect(), ..text }.hint(format!("look closer with `eskort check {certificate}`"))
        }
        StepError::Trust(_) => text.hint("correct `visitor-roots` in the inventory"),
        StepError::Stuck { .. } => text
            .hint("the authority is slow; run `eskort keep` again later, it goes on from here without a second order"),
        StepError::Interrupted => text,
        StepError::Forbidden { advice, .. } => text.hint(advice.clone()).hint(format!(
            "nothing was ordered; where the authority sees another zone than this machine, `eskort keep --only {certificate}` orders all the same"
        )),
        StepError::NoRoom { .. } => text.hint("`eskort keep --beyond-budget` orders all the same"),
        StepError::OtherKind { .. } => {
            text.hint("run the command again: it starts over with the authority in the inventory")
        }
        StepError::Panic { .. } => text.hint(
            "the other certificates went on; what was done so far is in the ledger. Please report the cause, with the \
             ledger's events (`eskort show`)",
        ),
        StepError::NothingStored => text.hint(format!("`eskort keep --only {certificate}` gets it and installs it")),
        StepError::Swept { .. } => text.hint(format!(
            "`keep-generations` and `keep-days` say how long generations are kept; `eskort renew {certificate}` gets a new one"
        )),
        StepError::AwaitsTtl { .. } => text.hint("run it again then"),
        StepError::ToPlace { records } => {
            let lines = records.iter().map(|record| format!("place {}", record.zone_line()));
            lines.fold(text, ErrorText::hint).hint("then run it again")
        }
        StepError::NotInstalled => text.hint(format!("`eskort install {certificate}` puts it on its servers")),
        StepError::Ended { .. } => text.hint(format!("`eskort keep --only {certificate}` renews it")),
        StepError::Bug(_) => {
            text.hint("this is a bug in Eskort; please report it with the ledger's events (`eskort show`)")
        }
    }
}
