//! The demo's chapter of the stock room, whose authority speaks no ACME.

use super::{Teller, cannot_write, keep_once, load, tell};
use crate::commands::{keep, receive};
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{Brought, Noted};
use eskort_core::context::Context;
use eskort_core::manual::Asked;
use eskort_practice::Slip;
use std::io;
use std::path::Path;

/// Tells the chapter.
pub(super) async fn tell_chapter(teller: &mut Teller<'_>) -> Result<(), ExitStatus> {
    let (ui, world) = (teller.ui, teller.world);
    teller.chapter(
        "An authority without ACME",
        "The stock room is seen only in the office, whose own CA is a colleague. `eskort keep` makes key and CSR and says where \
         to carry it.",
    );
    add_office(&world.folder).map_err(|source| cannot_write(ui, &source))?;
    let context = load(ui, world)?;
    keep_once(ui, &context).await?;
    let path = world.folder.join("state/certificates/stock/0001/request.pem");
    let csr = std::fs::read_to_string(path).map_err(|source| cannot_write(ui, &source))?;
    let slip = world.office.take(&csr).map_err(|says| desk_says(ui, &says))?;
    tell(
        ui,
        &format!(
            "The colleague takes it as order {} and wants to see a file on the site first. `eskort note stock --order {} --file \
             {} --from slip.txt` writes that down, and publishes the file.",
            slip.number, slip.number, slip.path
        ),
    );
    note(ui, &context, noted(&slip)).await?;
    // The first time the colleague only looks.
    let says = world.office.collect(&slip.number).await.err().unwrap_or_default();
    tell(
        ui,
        &format!("Told that it may look, the office says: {says}. `eskort note stock --notified` writes that down."),
    );
    note(ui, &context, Noted { notified: true, ..Noted::default() }).await?;
    let bytes = world.office.collect(&slip.number).await.map_err(|says| desk_says(ui, &says))?;
    std::fs::write(world.folder.join("answer.zip"), &bytes).map_err(|source| cannot_write(ui, &source))?;
    tell(
        ui,
        "After lunch it gives a zip: the certificate in DER, a text with Windows line ends that has the intermediate and the root \
         in it, a stranger's root, and a page of advice. `eskort receive answer.zip` makes sense of it, and the file goes.",
    );
    receive_once(ui, &context, Brought { name: "answer.zip".into(), bytes }).await
}

/// Adds the stock room to the inventory.
fn add_office(folder: &Path) -> io::Result<()> {
    let path = folder.join("eskort.toml");
    let more = r#"
[authority.office]
kind = "csr"                               # a colleague signs
submit-to = "room 4, ask for the keeper"
visitor-roots = "office-root.pem"

[certificate.stock]
names = ["stock.lampholm.internal"]
authority = "office"
proof = "pages"                            # what the office wants to see goes there
subject = { organization = "Lampholm Lighthouse Trust", unit = "Stock room" }
"#;
    let text = std::fs::read_to_string(&path)?;
    // With a second authority, the others have to be named.
    let text = text.replace("\nproof = ", "\nauthority = \"public\"\nproof = ") + more;
    std::fs::write(&path, text)
}

fn noted(slip: &Slip) -> Noted {
    let asked = Asked::file(&slip.path, &slip.text).ok();
    Noted { order: Some(slip.number.clone()), asked: Some(asked), ..Noted::default() }
}

fn desk_says(ui: &Ui, says: &str) -> ExitStatus {
    errors::print(ui, "the office does not sign", &ErrorText::coded("office", says));
    ExitStatus::Failed
}

/// Runs `note` as the command does.
async fn note(ui: &Ui, context: &Context, noted: Noted) -> Result<(), ExitStatus> {
    let entry = &context.inventory.certificates["stock"];
    let done = eskort_app::note(context, "stock", entry, noted).await;
    ui.settle();
    let entry = done.map_err(|error| {
        errors::print(ui, "nothing was noted", &errors::tell(&error, "stock"));
        ExitStatus::Failed
    })?;
    keep::print(ui, context, std::slice::from_ref(&entry));
    match keep::status(&[entry]) {
        ExitStatus::AwaitsPerson => Ok(()),
        status => Err(status),
    }
}

/// Runs `receive` as the command does.
async fn receive_once(ui: &Ui, context: &Context, brought: Brought) -> Result<(), ExitStatus> {
    let received = eskort_app::receive(context, &[brought], None, None, false).await;
    ui.settle();
    let receipt = received.map_err(|error| {
        errors::print(ui, "nothing was received", &errors::tell(&error, "stock"));
        ExitStatus::Failed
    })?;
    match receive::print(ui, context, receipt) {
        ExitStatus::Well => Ok(()),
        status => Err(status),
    }
}
