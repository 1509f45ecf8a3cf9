//! The demo's chapters of a machine that has grown over the years: what it serves, what is added to an inventory, and a rehearsal.

use super::{Teller, cannot_write, load, tell};
use crate::commands::{add, rehearse, survey};
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use eskort_app::{AddOptions, SurveyOptions};
use eskort_core::context::{Clock, Context};
use eskort_core::software::Software;
use jiff::Timestamp;

/// Tells the chapter.
pub(super) async fn tell_chapter(teller: &mut Teller<'_>) -> Result<(), ExitStatus> {
    let (ui, world) = (teller.ui, teller.world);
    teller.chapter(
        "What a machine has",
        "Another machine of the trust has a web server and a mail server that nobody has looked at for years. `eskort survey` reads their \
         configurations, and says what they serve, with which certificates, and what is wrong. It changes nothing.",
    );
    let folder = world.folder.join("old-machine");
    // This machine has nothing to do with the authority: its certificates are seen with today's date.
    let clock = Clock::new(Timestamp::now, tokio::time::sleep);
    let context = Context { clock, ..load(ui, world)? };
    let [nginx, postfix] =
        eskort_practice::write_machine(&folder, context.now()).map_err(|source| cannot_write(ui, &source))?;
    let files = vec![(Software::Nginx, nginx.clone()), (Software::Postfix, postfix)];
    let options = SurveyOptions { files, ..SurveyOptions::default() };
    let report = eskort_app::survey(&context, &options).await.map_err(|error| {
        errors::print(ui, "the machine cannot be surveyed", &ErrorText::coded("survey", error.to_string()));
        ExitStatus::Failed
    })?;
    survey::print(ui, &report, context.now());
    tell(
        ui,
        "Each line names the site and the line of its file. With hundreds of sites, `--only findings`, `--name 'shop*'` and `--server nginx` choose; \
         `--deep` also connects to each listener and says where another certificate is shown than the configured one.",
    );
    teller.chapter(
        "A certificate goes into the inventory",
        "`eskort add --site lampholm.example` finds the site that has the name, and writes what `eskort keep` needs to know: how to prove \
         control, and where to install. This inventory is the old machine's own.",
    );
    let options = AddOptions {
        site: Some("lampholm.example".into()),
        insist: true,
        directory: Some(world.authority.directory()),
        accept_terms: true,
        contact: Some("keeper@lampholm.example".into()),
        files: vec![(Software::Nginx, nginx)],
        ..AddOptions::default()
    };
    let inventory = folder.join("eskort.toml");
    let added = eskort_app::plan_addition(&context, &inventory, &options).await;
    let added = added.and_then(|added| eskort_app::write_addition(&added).map(|()| added));
    let added = added.map_err(|error| {
        errors::print(ui, "nothing was added", &ErrorText::coded((&error).into(), error.to_string()));
        ExitStatus::Failed
    })?;
    add::print(ui, &added, true, false);
    rehearsal(teller).await
}

/// Rehearses with two faults in the inventory, and once more when they are mended.
async fn rehearsal(teller: &mut Teller<'_>) -> Result<(), ExitStatus> {
    let (ui, world) = (teller.ui, teller.world);
    teller.chapter(
        "A rehearsal",
        "Two slips are in the inventory now: a wrong folder, and nobody has agreed to the authority's terms. `eskort rehearse` finds them without an \
         order: failed tries count against you at an authority, these do not.",
    );
    let path = world.folder.join("eskort.toml");
    let good = std::fs::read_to_string(&path).map_err(|source| cannot_write(ui, &source))?;
    let slips =
        good.replace("folder = \"www\"", "folder = \"tls\"").replace("accept-terms = true", "accept-terms = false");
    for (text, now) in [(&slips, None), (&good, Some("Both are mended, and it is rehearsed once more."))] {
        std::fs::write(&path, text).map_err(|source| cannot_write(ui, &source))?;
        if let Some(now) = now {
            tell(ui, now);
        }
        let context = load(ui, world)?;
        let rehearsed = eskort_app::rehearse(&context, &["website".to_owned()]).await.map_err(|error| {
            errors::print(ui, "nothing was rehearsed", &errors::tell(&error, "website"));
            ExitStatus::Failed
        })?;
        rehearse::print(ui, &rehearsed, context.now());
    }
    Ok(())
}
