//! Errors of answers in words.

use crate::error_text::ErrorText;
use eskort_app::AnswerError;
use eskort_core::pki::{ChainError, ChainFault, IntakeError};

/// Returns what is wrong with an answer that a person brings.
pub(crate) fn tell_answer(error: &AnswerError) -> ErrorText {
    let text = ErrorText::new(error);
    match error {
        AnswerError::Password(_) => text.hint("--password-file names a file with the password in its first line"),
        AnswerError::Read { .. } => text.hint("check the path; `-` stands for standard input"),
        AnswerError::Intake(IntakeError::Nothing(_)) => text
            .hint("it should be the certificate that the authority sent: PEM, DER, PKCS#7, PKCS#12, or a zip of them"),
        AnswerError::Intake(IntakeError::NeedsPassword(_) | IntakeError::WrongPassword(_)) => {
            text.hint("give the password in a file: --password-file FILE")
        }
        AnswerError::Earlier { .. } => text.hint("ask the authority for the answer to the newest CSR; `eskort show NAME` has it"),
        AnswerError::Intake(IntakeError::Empty) => text.hint("name the file that the authority sent, or put it into the folder"),
        AnswerError::Intake(IntakeError::CutOff(_)) => {
            text.hint("it was not copied completely: save it again, or ask the authority to send it as a file")
        }
        AnswerError::Intake(IntakeError::TooMuch(_) | IntakeError::Unreadable { .. }) => {
            text.hint("unpack it by hand, and name the certificate's file")
        }
        AnswerError::Chain(ChainError::NotYet { .. }) => {
            text.hint("is this machine's clock right? Otherwise receive it again then")
        }
        AnswerError::Chain(ChainError::MissingNames { .. }) => {
            text.hint("ask the authority for a certificate with all names, or take them out of the inventory")
        }
        AnswerError::Chain(ChainError::Fault(ChainFault::Damaged { .. })) => {
            text.hint("compare it with what the authority sent, or ask for it again: something changed it on its way")
        }
        AnswerError::Chain(ChainError::Precertificate) => text.hint("ask the authority for the certificate itself"),
        AnswerError::Chain(_) => text.hint("ask the authority for the certificate that was made from this CSR"),
        AnswerError::Forbids { .. } => text.hint(
            "ask the authority for one that does; `usages` in the inventory says what is asked for, where it is not for servers",
        ),
        AnswerError::UnknownIssuer { fingerprint, .. } => {
            let text = match fingerprint {
                Some(fingerprint) => text.hint(format!("ask the authority whether the SHA-256 of its certificate is {fingerprint}")),
                None => text.hint("bring the issuer's certificate too, so that it can be shown"),
            };
            text.hint("`eskort receive FILE --accept-issuer` takes it, and the next ones by the same; `visitor-roots` of the authority \
                       names its roots for good")
        }
        AnswerError::NoKey => text.hint("name the key's file as well: PEM without a password, or a PKCS#12 container"),
        AnswerError::KeyFitsNone => text.hint("`eskort show FILE` says what is in each file"),
        AnswerError::CsrWaits { .. } => text
            .hint("if what was brought is the answer to it, `eskort receive FILE…` takes it with our key")
            .hint("if the authority made a key of its own, `eskort adopt --instead` takes that, and waits no longer"),
        AnswerError::UnderWay { certificate } => {
            text.hint(format!("finish it first: `eskort keep --only {certificate}`"))
        }
        AnswerError::Known { certificate } => text.hint(format!("`eskort keep --only {certificate}` puts it in place")),
        AnswerError::NotWaiting { certificate } => {
            text.hint(format!("`eskort keep --only {certificate}` makes the CSR; `eskort list` shows what waits"))
        }
        AnswerError::NothingWaits => text.hint("`eskort list` shows what waits; `eskort keep` hands CSRs over"),
        AnswerError::FitsNone { generation: 0, .. } => {
            text.hint("it was made from another CSR; `eskort keep` shows the one that waits")
        }
        AnswerError::FitsNone { .. } => text.hint("it is an older one; ask for the one made from the CSR that waits"),
    }
}
