//! The demo's chapter of a machine that has grown over the years.

use super::{Teller, cannot_write, load, tell};
use crate::commands::survey;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use eskort_app::SurveyOptions;
use eskort_core::context::{Clock, Context};
use eskort_siteconf::ServerKind;
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
    let files = vec![(ServerKind::Nginx, nginx), (ServerKind::Postfix, postfix)];
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
    Ok(())
}
