//! Errors in words: what was tried, what came back, why probably, what to do next; and the exit code.

use crate::guide;
use crate::ui::{ExitStatus, Tone, Ui};
use eskort_acme::{AcmeError, AtFault, Problem, Rejected, Step};
use eskort_app::{AnswerError, SetupError, StepError};
use eskort_core::desk::AskedError;
use eskort_inventory::{Mistake, Mistakes};

use eskort_core::pki::{ChainError, ChainFault, IntakeError};
use eskort_core::words;
use eskort_dns::UpdateError;
use eskort_host::{CommandError, HostError};
use eskort_install::InstallError;
use eskort_probe::{NotVisible, WhyNotVisible};
use eskort_prove::{ApiError, ProofError};
use eskort_siteconf::nginx::PlanError;
use eskort_store::StoreError;
use eskort_talk::http::HttpError;
use eskort_talk::{AuthorityError, EstError};
use serde::Serialize;
use std::path::Path;

/// An error in words.
#[derive(Clone, Debug, Default, Serialize)]
pub(crate) struct Told {
    /// What kind of error it is, in a word that stays the same.
    pub(crate) code: &'static str,
    /// What came back.
    pub(crate) cause: String,
    /// What to do next.
    pub(crate) hints: Vec<String>,
}

impl Told {
    /// Tells an error of a kind that has its own code.
    fn new<'e, E: ToString>(error: &'e E) -> Self
    where
        &'e E: Into<&'static str>,
    {
        Told::coded(error.into(), error.to_string())
    }

    /// Tells what went wrong under a code.
    pub(crate) fn coded(code: &'static str, cause: impl Into<String>) -> Self {
        Told { code, cause: cause.into(), hints: Vec::new() }
    }

    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }
}

/// Prints an error. Where JSON is wanted and nothing else comes, it becomes the report.
pub(crate) fn print(ui: &Ui, headline: &str, told: &Told) {
    ui.settle();
    ui.keep_error(headline, told);
    ui.talk(&format!("{} {headline}", Tone::Bad.paint("error:")));
    for (n, line) in told.cause.lines().enumerate() {
        ui.talk_wrapped(if n == 0 { "  cause: " } else { "         " }, line, Tone::Plain);
    }
    for hint in &told.hints {
        ui.talk_wrapped(&format!("{} ", Tone::Strong.paint("hint:")), hint, Tone::Plain);
    }
}

/// Prints why there is nothing to start from.
pub(crate) fn print_setup(ui: &Ui, error: &SetupError) -> ExitStatus {
    match error {
        SetupError::NoInventory { .. } => {
            let mut told = Told::coded(error.into(), "");
            if nix::unistd::geteuid().is_root() && Path::new("eskort.toml").exists() {
                told = told.hint("root does not obey an inventory for being in the working folder; if it is yours, name it: --config eskort.toml");
            }
            let told = told.hint("name another one with --config FILE, or begin one as follows");
            print(ui, &error.to_string(), &told);
            ui.talk("");
            ui.talk(guide::FIRST_STEPS);
        }
        SetupError::NotUtf8 { .. } => {
            print(
                ui,
                &error.to_string(),
                &Told::coded(error.into(), "").hint("keep the inventory in a folder with a name in UTF-8"),
            );
        }
        SetupError::Untrusted(error) => {
            let told = Told::coded("untrusted", error.to_string()).hint(match error.mended_by() {
                Some(mended) => format!("whoever may change it decides what is run here; {mended}"),
                None => "correct the path".to_owned(),
            });
            print(ui, "the inventory is not obeyed", &told);
        }
        SetupError::Unreadable { path, source } => {
            let told = Told::coded(error.into(), source.to_string())
                .hint("run as the user that owns it, or name another one with --config FILE");
            print(ui, &format!("cannot read the inventory {}", path.display()), &told);
        }
        SetupError::Mistakes { path, mistakes } => {
            ui.keep_mistakes(&path.display().to_string(), mistakes);
            print_mistakes(ui, path, mistakes);
        }
    }
    ExitStatus::Usage
}

fn print_mistakes(ui: &Ui, path: &Path, mistakes: &Mistakes) {
    ui.talk(&format!("{} {mistakes}; nothing was done", Tone::Bad.paint("error:")));
    for mistake in &mistakes.0 {
        let margin = " ".repeat(mistake.line.to_string().len());
        let place = format!("{}:{}:{}", path.display(), mistake.line, mistake.column);
        ui.talk("");
        ui.talk(&format!("{margin} {} {}", Tone::Faint.paint("in"), Tone::Faint.paint(&place)));
        let (text, before, width) = window(mistake, ui.width().saturating_sub(margin.len() + 3));
        ui.talk(&format!("{} {} {}", mistake.line, Tone::Faint.paint("|"), text));
        let marks = format!("{}{}", " ".repeat(before), "^".repeat(width));
        ui.talk(&format!("{margin} {} {}", Tone::Faint.paint("|"), Tone::Bad.paint(&marks)));
        ui.talk(&format!("{margin} {}", mistake.what));
        if let Some(advice) = &mistake.advice {
            ui.talk(&format!("{margin} {} {advice}", Tone::Strong.paint("hint:")));
        }
    }
}

/// Returns the part of a mistake's line that fits into `room`, how far in the mistake begins, and how wide it is there.
fn window(mistake: &Mistake, room: usize) -> (String, usize, usize) {
    let text = words::printable(&mistake.text, usize::MAX - 1);
    let (length, at) = (text.chars().count(), mistake.column - 1);
    if length <= room {
        return (text, at, mistake.width);
    }
    let lead = room / 3;
    let from = at.saturating_sub(lead).min(length.saturating_sub(room));
    let part: String = text.chars().skip(from).take(room).collect();
    let (front, end) = (if from > 0 { "…" } else { "" }, if from + room < length { "…" } else { "" });
    let inner: String = part.chars().skip(front.chars().count()).collect();
    let kept = room - front.chars().count() - end.chars().count();
    let shown = format!("{front}{}{end}", inner.chars().take(kept).collect::<String>());
    (shown, at - from, mistake.width.min(room - (at - from)))
}

/// Prints an error of the state folder, which stops everything.
pub(crate) fn print_store(ui: &Ui, error: &StoreError) -> ExitStatus {
    let headline = match error {
        StoreError::Busy { .. } => "nothing was done",
        _ => "cannot use the state folder",
    };
    print(ui, headline, &tell_store(error));
    match error {
        StoreError::Busy { .. } => ExitStatus::Busy,
        StoreError::Io { .. }
        | StoreError::Ledger { .. }
        | StoreError::Newer { .. }
        | StoreError::Path { .. }
        | StoreError::Row { .. } => ExitStatus::Failed,
    }
}

fn tell_store(error: &StoreError) -> Told {
    let told = Told::new(error);
    match error {
        StoreError::Io { .. } => {
            told.hint("check that the folder is yours to write and that the disk has room; then run the same again")
        }
        StoreError::Ledger { .. } => told.hint("check that the disk has room; the ledger goes on where it was"),
        StoreError::Path { .. } => told.hint("give the file a name in UTF-8, or name another one in the inventory"),
        StoreError::Newer { .. } => told.hint("use the newer program, or another state folder"),
        StoreError::Row { .. } => told.hint("put the ledger back from a backup, or move it aside to begin a new one"),
        StoreError::Busy { .. } => told.hint("wait until it has ended; a run that was killed holds no lock"),
    }
}

/// Returns an error of a journey in words. `certificate` is for the commands in the hints.
pub(crate) fn tell(error: &StepError, certificate: &str) -> Told {
    let told = Told::new(error);
    let again = format!("then run `eskort keep --only {certificate}`; it goes on from here");
    match error {
        StepError::Store(error) => tell_store(error),
        StepError::Authority(error) => tell_authority(error, certificate),
        // A person who has to place something is told what to run with it.
        StepError::Proof(error @ ProofError::AwaitsPerson { .. }) => tell_proof(error),
        StepError::Proof(error) => tell_proof(error).hint(again),
        StepError::AwaitsAnswer(_) => told.hint("carry the CSR to the authority, then `eskort receive FILE…`"),
        StepError::AwaitsApproval { .. } => told.hint("run `eskort keep` again then; it asks with the same CSR"),
        StepError::Answer(error) => tell_answer(error),
        StepError::NoChallenge { .. } => {
            told.hint("the authority wants these names proved in another way; see docs/inventory.md")
        }
        StepError::Chain(_) => {
            told.hint("the authority sent something else than was ordered; nothing was installed. Try again later")
        }
        StepError::KeyFile { .. } => told
            .hint("`key-file` takes PKCS#8, PKCS#1 or SEC 1 in PEM; `key-password-file` names a file with its password")
            .hint(again),
        StepError::Key { .. } => told.hint("if the file was damaged, move it aside; the next run makes a new key"),
        StepError::Install(error) => tell_install(error, certificate),
        StepError::NotConfirmed { findings, .. } => {
            let advice = findings.iter().filter_map(|f| f.advice.clone());
            Told { hints: advice.collect(), ..told }.hint(format!("look closer with `eskort check {certificate}`"))
        }
        StepError::Trust(_) => told.hint("correct `visitor-roots` in the inventory"),
        StepError::Stuck { .. } => told
            .hint("the authority is slow; run `eskort keep` again later, it goes on from here without a second order"),
        StepError::Interrupted => told,
        StepError::OtherKind { .. } => {
            told.hint("run the same again: it begins anew with the authority of the inventory")
        }
        StepError::Panic { .. } => told.hint(
            "the other certificates went on; what was done so far is in the ledger. Please report the cause, with the \
             ledger's events (`eskort show`)",
        ),
        StepError::Bug(_) => {
            told.hint("this is a bug of ours; please report it with the ledger's events (`eskort show`)")
        }
    }
}

/// Returns what is wrong with an answer that a person brings.
pub(crate) fn tell_answer(error: &AnswerError) -> Told {
    let told = Told::new(error);
    match error {
        AnswerError::Password(_) => told.hint("--password-file names a file with the password in its first line"),
        AnswerError::Read { .. } => told.hint("check the path; `-` stands for standard input"),
        AnswerError::Intake(IntakeError::Nothing(_)) => told
            .hint("it should be the certificate that the authority sent: PEM, DER, PKCS#7, PKCS#12, or a zip of them"),
        AnswerError::Intake(IntakeError::NeedsPassword(_) | IntakeError::WrongPassword(_)) => {
            told.hint("give the password in a file: --password-file FILE")
        }
        AnswerError::Earlier { .. } => told.hint("ask the authority for the answer to the newest CSR; `eskort show NAME` has it"),
        AnswerError::Intake(IntakeError::Empty) => told.hint("name the file that the authority sent, or put it into the folder"),
        AnswerError::Intake(IntakeError::CutOff(_)) => {
            told.hint("it was not copied to its end: save it again, or ask the authority to send it as a file")
        }
        AnswerError::Intake(IntakeError::TooMuch(_) | IntakeError::Unreadable { .. }) => {
            told.hint("unpack it by hand, and name the certificate's file")
        }
        AnswerError::Chain(ChainError::NotYet { .. }) => {
            told.hint("is this machine's clock right? Otherwise receive it again then")
        }
        AnswerError::Chain(ChainError::MissingNames { .. }) => {
            told.hint("ask the authority for a certificate with all names, or take them out of the inventory")
        }
        AnswerError::Chain(ChainError::Fault(ChainFault::Damaged { .. })) => {
            told.hint("compare it with what the authority sent, or ask for it again: something changed it on its way")
        }
        AnswerError::Chain(ChainError::Precertificate) => told.hint("ask the authority for the certificate itself"),
        AnswerError::Chain(_) => told.hint("ask the authority for the certificate that was made from this CSR"),
        AnswerError::Forbids { .. } => told.hint(
            "ask the authority for one that does; `usages` in the inventory says what is asked for, where it is not for servers",
        ),
        AnswerError::UnknownIssuer { fingerprint, .. } => {
            let told = match fingerprint {
                Some(fingerprint) => told.hint(format!("ask the authority whether the SHA-256 of its certificate is {fingerprint}")),
                None => told.hint("bring the issuer's certificate too, so that it can be shown"),
            };
            told.hint("`eskort receive FILE --accept-issuer` takes it, and the next ones by the same; `visitor-roots` of the authority \
                       names its roots for good")
        }
        AnswerError::NoKey => told.hint("name the key's file as well: PEM without a password, or a PKCS#12 container"),
        AnswerError::KeyFitsNone => told.hint("`eskort show FILE` says what is in each file"),
        AnswerError::CsrWaits { .. } => told
            .hint("if what was brought is the answer to it, `eskort receive FILE…` takes it with our key")
            .hint("if the authority made a key of its own, `eskort adopt --instead` takes that, and waits no longer"),
        AnswerError::UnderWay { certificate } => {
            told.hint(format!("let it come to its end: `eskort keep --only {certificate}`"))
        }
        AnswerError::Known { certificate } => told.hint(format!("`eskort keep --only {certificate}` puts it in place")),
        AnswerError::NotAtDesk { certificate } => {
            told.hint(format!("`eskort keep --only {certificate}` makes the CSR; `eskort list` shows what waits"))
        }
        AnswerError::NothingWaits => told.hint("`eskort list` shows what waits; `eskort keep` hands CSRs over"),
        AnswerError::FitsNone { generation: 0, .. } => {
            told.hint("it was made from another CSR; `eskort keep` shows the one that waits")
        }
        AnswerError::FitsNone { .. } => told.hint("it is an older one; ask for the one made from the CSR that waits"),
    }
}

fn tell_http(error: &HttpError) -> Told {
    let told = Told::new(error);
    match error {
        HttpError::Unreachable { untrusted: true, .. } => {
            told.hint("for a private authority name its root in the inventory: api-roots = \"root.pem\"")
        }
        HttpError::Unreachable { .. } => {
            told.hint("check the authority's address in the inventory, this machine's network, and its name servers")
        }
        HttpError::TimedOut { .. } => told.hint("the authority is slow or not there; try again later"),
        HttpError::TooLarge { .. } => told.hint("check the authority's address in the inventory"),
    }
}

fn tell_authority(error: &AuthorityError, certificate: &str) -> Told {
    let told = Told::new(error);
    match error {
        AuthorityError::Http(error) => tell_http(error),
        AuthorityError::Refused { step, problem, .. } => tell_problem(told, *step, problem, certificate),
        AuthorityError::Acme(AcmeError::Problem(problem)) => tell_problem(told, Step::Order, problem, certificate),
        AuthorityError::Rejected(rejected) => tell_rejected(told, rejected, certificate),
        AuthorityError::Acme(AcmeError::Rejected(rejected)) => {
            tell_rejected(told, std::slice::from_ref(rejected), certificate)
        }
        AuthorityError::AccountEnded { .. } => told.hint(
            "somebody deactivated it, or the authority revoked it: ask there if that was not you. The next run asks for a new \
             account, as far as the inventory agrees to the terms",
        ),
        AuthorityError::Acme(AcmeError::NotProtocol { .. }) => {
            told.hint("check the address of `directory`: it has to be that of an ACME directory, not of a web page")
        }
        AuthorityError::Acme(AcmeError::Signing) => told.hint("the account key has to be a P-256 key"),
        AuthorityError::Est(EstError::NotLetIn { .. }) => told.hint(
            "check `user` and its password, or `client-certificate` and `client-key`; a renewal shows the certificate in use",
        ),
        AuthorityError::Est(EstError::Refused { status: 404 | 204, .. } | EstError::NotProtocol { .. }) => {
            told.hint("check `address`: a server for several authorities wants a label behind /.well-known/est")
        }
        AuthorityError::Est(EstError::Refused { .. }) => {
            told.hint("the authority does not take the request: look at names, key and subject in the inventory")
        }
        AuthorityError::Secret(_) => told.hint("the inventory says where the secret is; correct that, or put it there"),
        AuthorityError::Terms { .. } => {
            told.hint("read them; if you agree, write accept-terms = true into the authority's section")
        }
        AuthorityError::NeedsExternalAccount => told.hint(
            "get a key identifier and a key from the authority's web site, and write external-key-id and \
             external-key-file into its section",
        ),
        AuthorityError::File { .. } => told.hint("correct the path in the inventory, or the file"),
        AuthorityError::AccountKey { .. } => {
            told.hint("put the key back from a backup; or move it aside, and the next run makes a new account")
        }
        AuthorityError::Store(error) => tell_store(error),
    }
}

fn tell_rejected(told: Told, rejected: &[Rejected], certificate: &str) -> Told {
    match rejected.iter().find_map(|rejected| rejected.problem.as_ref()) {
        Some(problem) => tell_problem(told, Step::Challenge, problem, certificate),
        None => told.hint(format!("look at what happened with `eskort show {certificate}`")),
    }
}

fn tell_problem(told: Told, step: Step, problem: &Problem, certificate: &str) -> Told {
    let when = problem.retry_after.as_deref().map(|v| format!(" (it says: Retry-After {v})")).unwrap_or_default();
    if problem.kind == "userActionRequired" {
        let told = match &problem.instance {
            Some(page) => told.hint(format!("somebody has to go to {page} and do what it says")),
            None => told.hint("somebody has to look at the authority's web site"),
        };
        return match &problem.terms {
            Some(terms) => told.hint(format!("its terms of service have changed, perhaps: {terms}")),
            None => told,
        };
    }
    match problem.at_fault(step) {
        AtFault::Site => told
            .hint(
                "the authority saw something else than this machine did: check what the name leads to from outside, \
                   IPv6 included, and CAA records",
            )
            .hint(format!("then run `eskort keep --only {certificate}`")),
        AtFault::Limits => told.hint(format!("too much was asked for lately; `keep` waits before it asks again{when}")),
        AtFault::Authority => told.hint(format!("trouble at the authority; try again later{when}")),
        AtFault::Account if problem.kind == "accountDoesNotExist" => {
            told.hint("the authority has forgotten the account; the next run asks for a new one")
        }
        AtFault::Account => told.hint(
            "look at `contact`, the external key and the account key; the authority does not take the account as it is",
        ),
        AtFault::Request => {
            told.hint("the authority does not take what was asked for: look at the names and the key in the inventory")
        }
    }
}

pub(crate) fn tell_proof(error: &ProofError) -> Told {
    let told = Told::new(error);
    match error {
        ProofError::NotVisible { name, seen, others } => {
            let mut told = tell_not_visible(name, seen);
            if !others.is_empty() {
                told.cause.push_str(&format!("\nnor can it be seen at {}", eskort_core::words::list(others)));
            }
            told
        }
        ProofError::NotShown { .. } => told
            .hint("authorities come to port 443 of the name: does it lead to this machine, is the port open or forwarded?"),
        ProofError::AwaitsPerson { .. } => told.hint("place the records, then run `eskort keep` again"),
        ProofError::NotEverywhere { found, .. } => {
            let mut told = told;
            for server in &found.behind {
                told.cause.push_str(&format!("\n{}: {}", server.server, server.what));
            }
            for (host, why) in &found.silent {
                told.cause.push_str(&format!("\n{host}: {why}"));
            }
            match (found.behind.is_empty(), found.have.is_empty()) {
                (true, _) => told.hint("does this machine reach name servers at all? `name-servers` of the proof says which to ask"),
                (false, true) => told.hint(
                    "no server has it: is it placed in the zone that they serve? `settle` of the proof says how long to wait",
                ),
                (false, false) => told
                    .hint("a secondary that lags: look at its transfers; `settle` of the proof says how long to wait"),
            }
        }
        ProofError::Write { .. } => told.hint("the proof's folder must be writable for the user that runs Eskort"),
        ProofError::NoFolder { .. } => told.hint("correct `folder` of the proof: it is where the site's pages are"),
        ProofError::NoSiteFolder { .. } => told.hint("name a [proof.NAME] of kind http-folder: it says where the site's folder is"),
        ProofError::PlacesNoRecords { .. } => told.hint("name a [proof.NAME] of a kind that works over DNS"),
        ProofError::Asked(error) => told.hint(match error {
            AskedError::Path(_) => "write it as the authority does: /.well-known/pki-validation/lamp.txt",
            AskedError::RecordName(_) => "give the name in full, with the domain: _a1b2.lampholm.example",
            AskedError::Elsewhere(_) => "the record stands at or below one of the names, or a domain above it",
            AskedError::Text => "copy it from the authority's page as it is, without quotes around it",
            AskedError::Target(_) => "the target is a DNS name in full: c3d4.ca.example",
            AskedError::Address(_) => "it is admin, administrator, hostmaster, postmaster or webmaster at a name or a domain above it",
        }),
        ProofError::Occupied { .. } => told.hint("move it away if it is an old one"),
        ProofError::Key { .. } => {
            told.hint("`key-file` of the proof wants the key in BIND's syntax, as tsig-keygen writes it; `key-name` and the like, its parts")
        }
        ProofError::Ask(_) => told.hint("check `server` of the proof, and that this machine may ask it"),
        ProofError::Update(error) => match error {
            UpdateError::Ask(_) => told.hint("check `server` of the proof: updates go to it over TCP"),
            UpdateError::Key { .. } => {
                told.hint("name, algorithm and secret of the key have to be the same on both sides")
            }
            UpdateError::Time { .. } => told.hint("set the clocks of both machines"),
            UpdateError::Refused { .. } => {
                told.hint("allow the key to update TXT records in the zone (in BIND: update-policy or allow-update)")
            }
            UpdateError::Unsigned { .. } => {
                told.hint("something between here and the name server changes what it says")
            }
        },
        ProofError::Certificate(_) => told.hint("this is a bug of ours; please report it"),
        ProofError::NoPrimary { .. } => told.hint("name the primary in the inventory: server = \"192.0.2.53\""),
        ProofError::Secret(_) => told.hint("the inventory says where the secret is; correct that, or put it there"),
        ProofError::Api(error) => match error {
            ApiError::Recipe { .. } => told.hint("correct the recipe; docs/inventory.md says what can stand in it"),
            ApiError::Unreachable { .. } => told.hint("check `address` of the proof, and `roots` for a private certificate"),
            ApiError::Refused { status: 401 | 403, .. } => told.hint("the API does not take the secret, or it may not do this"),
            ApiError::Refused { .. } => told.hint("the API says no: compare the recipe with the API's own description"),
            ApiError::NoId { .. } => told.hint("correct `id` of `add` in the recipe, or give it a `find`"),
        },
        ProofError::Host(error) => tell_host(told, error),
        ProofError::NoHost { .. } => told.hint("put it back into the inventory, or remove the file by hand"),
        ProofError::LinkOnHost { .. } => told.hint("put a folder there, or name the folder it leads to in `folder` of the proof"),
        ProofError::NotOnHost { .. } => told.hint("does something clean the folder up? Run the same again"),
        ProofError::Store(error) => tell_store(error),
        ProofError::Program(_) => {
            told.hint("run `command` of the proof by hand, with what docs/inventory.md says on its standard input")
        }
        ProofError::Gone { .. } => told.hint("put it back into the inventory, or remove the record by hand"),
        ProofError::Listen { source, .. } => match source.kind() {
            std::io::ErrorKind::AddrInUse => told
                .hint("another program holds the port: stop it meanwhile, or prove over its pages with `http-folder`"),
            std::io::ErrorKind::PermissionDenied => {
                told.hint("ports below 1024 want root, or the capability CAP_NET_BIND_SERVICE")
            }
            _ => told.hint("correct `listen` of the proof: it has to be an address of this machine"),
        },
    }
}

fn tell_host(told: Told, error: &HostError) -> Told {
    match error {
        HostError::Unreachable { .. } => told.hint("check `address` and `port` of the host, and that this machine may go there"),
        HostError::Untrusted { .. } => told.hint(
            "over SSH: connect once with `ssh` by hand, compare the key, and let it be remembered; over FTP: `roots` of \
             the host names the root of a private certificate",
        ),
        HostError::Login { .. } => {
            told.hint("check `user`, and the key or the password; `ssh` or an FTP program by hand must get in without a question")
        }
        HostError::File { .. } => told.hint("the user of the host must be allowed to write there; has the disk room?"),
        HostError::Command { .. } => told.hint("run the command on the host by hand"),
        HostError::NoCommands { .. } => told.hint("commands need a host of kind \"ssh\""),
        HostError::GivenUp { .. } | HostError::TimedOut { .. } => told.hint("`patience` of the host says how long a step may take"),
    }
}

pub(crate) fn tell_not_visible(name: &str, seen: &NotVisible) -> Told {
    let cause = format!("what the authority would fetch cannot be seen\nasked for {}\n{seen}", seen.url);
    let told = Told::coded("not-visible", cause);
    match &seen.why {
        WhyNotVisible::NoAddress { .. } => {
            told.hint(format!("add an address record for {name}, or leave the name out of the certificate"))
        }
        WhyNotVisible::NoConnection { from_inventory, .. } => {
            let told =
                told.hint("is the web server running, port 80 open in the firewall, the address this machine's?");
            if *from_inventory {
                told.hint("`check-address` of the proof says where to look; correct it if that is wrong")
            } else {
                told.hint("a machine that cannot reach itself by name needs `check-address` in the proof")
            }
        }
        WhyNotVisible::NoAnswer { .. } => told.hint("something other than a web server listens there"),
        WhyNotVisible::Status { status: 404, .. } => {
            told.hint("the proof's `folder` is probably not the one that this site is served from")
        }
        WhyNotVisible::Status { status: 401 | 403, .. } => {
            told.hint("the web server hides the path: allow /.well-known/acme-challenge/, hidden folders included")
        }
        WhyNotVisible::Status { .. } => told.hint("look into the web server's error log"),
        WhyNotVisible::Content { .. } => told.hint(
            "another site answers under this name, or a rule of the web server takes the path: serve \
             /.well-known/acme-challenge/ from the proof's folder",
        ),
        WhyNotVisible::Redirect { .. } => told.hint("leave /.well-known/acme-challenge/ out of the redirect"),
    }
}

fn tell_install(error: &InstallError, certificate: &str) -> Told {
    let told = Told::new(error);
    let undone = "everything was put back as it was; the certificate is stored, and the next run installs it";
    let again = format!("mend it and run `eskort keep --only {certificate}`");
    match error {
        InstallError::Load { .. } => {
            told.hint("correct `config` of the server, or the file; run the server's own test")
        }
        InstallError::Plan { source, .. } => match source {
            PlanError::NoServerBlock { .. } => {
                told.hint("add a server block with these names under server_name").hint(again)
            }
            PlanError::SeveralCertificates { .. } => {
                told.hint("leave one ssl_certificate and one ssl_certificate_key in the block").hint(again)
            }
            PlanError::WouldUncover { ours, .. } => told
                .hint("add these names to the certificate in the inventory, or take them out of the server block")
                .hint(format!(
                    "or give {} a server block of its own, with `server_name {};` and a `listen` for TLS",
                    words::list(ours),
                    ours.join(" ")
                ))
                .hint(again),
            PlanError::WouldTakeAddress { socket, .. } => told
                .hint(format!(
                    "visitors who come to {socket} for these sites would get this one; if that is meant, write `listen {socket} ssl;` and a certificate into the server block by hand"
                ))
                .hint("else let the block listen at all addresses, as the others do")
                .hint(again),
            PlanError::NoAddress { .. } => told
                .hint("add a `listen` for TLS with an address or a port to the server block, with any certificate; it is replaced then")
                .hint(again),
            PlanError::Variable { .. } => told.hint("choose a state folder without `$` in its path"),
            PlanError::Overlap { .. } => told.hint("nothing was changed; this is a bug of ours"),
            PlanError::SharedLines { .. } => {
                told.hint("move the two ssl_certificate lines from the shared file into each server block").hint(again)
            }
        },
        InstallError::Write { .. } => told.hint(undone).hint("check that the folder is writable and the disk has room"),
        InstallError::NoSuchOwner { .. } => told.hint("correct `owner` or `group` in the inventory"),
        InstallError::Test { .. } => told.hint(undone).hint(again),
        InstallError::BrokenBefore { .. } => told
            .hint("everything is as it was before; the certificate is stored, and the next run installs it")
            .hint(again),
        InstallError::Reload { source, .. } => match source {
            CommandError::Start { .. } => {
                told.hint(undone).hint("is the program installed, and in the PATH of this run?")
            }
            CommandError::Untrusted { .. } => told.hint(undone).hint(again),
            CommandError::NoSuchUser { .. } => told.hint(undone).hint("correct `user` of the server in the inventory"),
            CommandError::Failed { .. } => told.hint(undone).hint("is the server running? Start it").hint(again),
            CommandError::Endless { .. } => told
                .hint(undone)
                .hint("does it stay in the foreground? It has to end; `timeout` of the server gives it longer")
                .hint(again),
        },
        InstallError::NotServed { .. } => told.hint(undone).hint(
            "another server block or another program may answer there; `check-address` and `settle` of the server help",
        ),
        InstallError::Undo { .. } => told
            .hint("look at the server's files by hand: those as they were lie in the state folder under backups/SERVER")
            .hint(again),
        InstallError::Store(error) => tell_store(error),
    }
}
