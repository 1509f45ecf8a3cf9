//! `eskort rehearse`

use super::{block_on, known_certificate};
use crate::args::RehearseArgs;
use crate::draw::tone::Tone;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{Rehearsal, Rehearsed, StandIn, StepError, Trial, Tried, rehearse_renewal};
use eskort_core::context::Context;
use eskort_core::words;
use eskort_host::files;
use eskort_practice::{Authority, AuthorityOptions, Clock, NameServer, Offer};
use jiff::Timestamp;
use serde::Serialize;
use std::path::PathBuf;
use std::sync::Arc;

pub(crate) fn run(ui: &Ui, context: &Context, args: &RehearseArgs) -> ExitStatus {
    for name in &args.certificates {
        if let Err(status) = known_certificate(ui, context, name) {
            return status;
        }
    }
    let rehearsed = block_on(async {
        let mut rehearsals = eskort_app::rehearse(context, &args.certificates).await?;
        if args.renewal {
            renew(context, &mut rehearsals).await?;
            ui.settle();
            ui.talk("");
        }
        Ok(rehearsals)
    });
    let rehearsals = match rehearsed {
        Ok(rehearsals) => rehearsals,
        Err(StepError::Store(error)) => return errors::print_store(ui, &error),
        Err(error) => {
            errors::print(ui, "nothing was rehearsed", &errors::tell(&error, "NAME"));
            return ExitStatus::Failed;
        }
    };
    match print(ui, &rehearsals, context.now()) {
        true => ExitStatus::Failed,
        false => ExitStatus::Well,
    }
}

/// Renews at the authorities for rehearsals. A practice authority on this machine stands in for those that have none: it looks at no proof, so that
/// what counts is what this program saw of them.
async fn renew(context: &Context, rehearsals: &mut [Rehearsal]) -> Result<(), StepError> {
    let fail = |what: std::io::Error| StepError::Rehearsal { what: what.to_string() };
    let names = Arc::new(NameServer::start().await.map_err(fail)?);
    let options = AuthorityOptions { looks: false, offers: &Offer::ALL, ..AuthorityOptions::default() };
    let authority = Authority::start(options, Clock::default(), names).await.map_err(fail)?;
    let api_roots = write_root(context, authority.api_root_pem()).map_err(fail)?;
    let stand_in = StandIn { directory: authority.directory(), api_roots };
    rehearse_renewal(context, rehearsals, &stand_in).await
}

fn write_root(context: &Context, pem: &str) -> std::io::Result<PathBuf> {
    let folder = context.state.join("rehearsal");
    files::make_folders(&folder, 0o700)?;
    let path = folder.join("practice-root.pem");
    files::write_atomic(&path, pem.as_bytes(), files::Access::mode(0o600))?;
    Ok(path)
}

/// Prints what was rehearsed, and returns whether something would fail.
pub(crate) fn print(ui: &Ui, rehearsals: &[Rehearsal], now: Timestamp) -> bool {
    ui.settle();
    let told: Vec<(&Rehearsal, Vec<Told>)> = rehearsals
        .iter()
        .map(|one| (one, one.trials.iter().map(|trial| tell(trial, &one.certificate)).collect()))
        .collect();
    print_told(ui, &told, now);
    told.iter().flat_map(|(_, trials)| trials).any(|told| told.weight == Weight::Fatal)
}

/// How much something matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
enum Weight {
    Good,
    Risky,
    Fatal,
}

/// A trial in words.
#[derive(Serialize)]
struct Told {
    weight: Weight,
    what: &'static str,
    of: String,
    text: String,
    hints: Vec<String>,
}

fn tell(rehearsed: &Rehearsed, certificate: &str) -> Told {
    let (weight, text, hints) = match &rehearsed.tried {
        Tried::Good(text) => (Weight::Good, text.clone(), Vec::new()),
        Tried::Risky { text, advice } => (Weight::Risky, text.clone(), vec![advice.clone()]),
        Tried::Fatal { text, advice } => (Weight::Fatal, text.clone(), vec![advice.clone()]),
        Tried::Failed(error) => {
            // That the next run goes on from there is no news here: nothing was begun.
            let told = match &**error {
                StepError::Proof(error) => errors::tell_proof(error),
                other => errors::tell(other, certificate),
            };
            (Weight::Fatal, told.cause, told.hints)
        }
    };
    Told { weight, what: rehearsed.trial.word(), of: rehearsed.of.clone(), text, hints }
}

fn print_told(ui: &Ui, told: &[(&Rehearsal, Vec<Told>)], now: Timestamp) {
    if ui.is_json() {
        #[derive(Serialize)]
        struct One<'a> {
            certificate: &'a str,
            trials: &'a [Told],
        }
        #[derive(Serialize)]
        struct Report<'a> {
            at: Timestamp,
            certificates: Vec<One<'a>>,
        }
        let certificates =
            told.iter().map(|(rehearsal, trials)| One { certificate: &rehearsal.certificate, trials }).collect();
        return ui.json("rehearse", &Report { at: now, certificates });
    }
    if told.is_empty() {
        return ui.result("No certificate yet: `eskort add NAME` writes one into the inventory.");
    }
    for (n, (rehearsal, trials)) in told.iter().enumerate() {
        if n > 0 {
            ui.result("");
        }
        ui.result(&Tone::Strong.paint(&rehearsal.certificate));
        for told in trials {
            let (mark, tone) = match told.weight {
                Weight::Good => ("good ", Tone::Good),
                Weight::Risky => ("risky", Tone::Notice),
                Weight::Fatal => ("FATAL", Tone::Bad),
            };
            let lead = format!("  {}  {:<9}  ", tone.paint(mark), told.what);
            ui.result_wrapped(&lead, &format!("{}: {}", told.of, told.text));
            for hint in &told.hints {
                ui.result_wrapped(&format!("{:20}hint: ", ""), hint);
            }
        }
    }
    let of = |weight| told.iter().flat_map(|(_, trials)| trials).filter(|told| told.weight == weight).count() as u64;
    let all = told.iter().map(|(_, trials)| trials.len() as u64).sum();
    let counts = [(Weight::Fatal, "would fail"), (Weight::Risky, "may fail"), (Weight::Good, "would work")];
    let counts: Vec<String> =
        counts.iter().filter(|(w, _)| of(*w) > 0).map(|(w, words)| format!("{} {words}", of(*w))).collect();
    let renewed = told.iter().flat_map(|(rehearsal, _)| &rehearsal.trials).any(|one| one.trial == Trial::Renewal);
    let end =
        if renewed { "Nothing was ordered that counts, and nothing was installed" } else { "Nothing was ordered" };
    ui.result(&format!("\n{}: {}. {end}.", words::count(all, "trial"), counts.join(", ")));
}
