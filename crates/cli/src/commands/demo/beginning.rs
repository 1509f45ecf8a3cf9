//! How the story begins: what the site's server is configured to serve, and how its certificate gets into the inventory.

use super::{Teller, load};
use crate::commands::{add, survey};
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use eskort_app::{AddOptions, SurveyOptions};
use eskort_core::software::Software;

/// Adds the site's certificate to the inventory; tells about it where that is part of the story.
pub(super) async fn tell_beginning(teller: &mut Teller<'_>, told: bool) -> Result<(), ExitStatus> {
    let (ui, world) = (teller.ui, teller.world);
    let context = load(ui, world)?;
    let files = vec![(Software::Nginx, world.folder.join("nginx.conf"))];
    if told {
        teller.chapter(
            "What is there",
            "`eskort survey` reads what servers are configured to serve. Here it is one site, over plain HTTP.",
        );
        let options = SurveyOptions { files: files.clone(), ..SurveyOptions::default() };
        let report = eskort_app::survey(&context, &options).await.map_err(|error| {
            errors::print(ui, "the site cannot be surveyed", &ErrorText::coded("survey", error.to_string()));
            ExitStatus::Failed
        })?;
        survey::print(ui, &report, context.now());
        teller.chapter(
            "A certificate for it",
            "`eskort add --site lampholm.example` takes the names of the site, and writes what `eskort keep` needs to know into the inventory. \
             Authority, proof and server stand there already.",
        );
    }
    let options = AddOptions {
        site: Some("lampholm.example".into()),
        certificate: Some("website".into()),
        // The practice world's names are in no public name server.
        insist: true,
        proof: Some("pages".into()),
        servers: vec!["front".into()],
        files,
        ..AddOptions::default()
    };
    let added = eskort_app::plan_addition(&context, &world.folder.join("eskort.toml"), &options).await;
    let added = added.and_then(|added| eskort_app::write_addition(&added).map(|()| added));
    let added = added.map_err(|error| {
        errors::print(ui, "nothing was added", &ErrorText::coded((&error).into(), error.to_string()));
        ExitStatus::Failed
    })?;
    if told {
        add::print(ui, &added, true, false);
    }
    Ok(())
}
