//! The demo's chapter of servers that nobody may touch: a hosting panel and an application platform, each behind an API.

use super::{Teller, cannot_write, keep_once, load, write_secret};
use crate::exit::ExitStatus;
use eskort_practice::Uploads;
use std::net::Ipv4Addr;

/// The sites: a certificate's name in the inventory, its name, its server and that one's recipe.
const SITES: [[&str; 4]; 2] = [
    ["lamps", "lamps.lampholm.example", "hosting", "lampholm-hosting"],
    ["tours", "tours.lampholm.example", "platform", "lampholm-platform"],
];

/// Tells the chapter.
pub(super) async fn tell_chapter(teller: &mut Teller<'_>) -> Result<(), ExitStatus> {
    let (ui, world) = (teller.ui, teller.world);
    teller.chapter(
        "Servers that nobody may touch",
        "The lamp shop lies with a host whose panel has three fields for each site, and takes its time to show what it was given. The guided tours run \
         on a platform that wants PKCS#12 with a password, bound to a name. Both have an API: Eskort uploads the certificates by recipes, waits until the API \
         says that they are in use, and looks at the sites.",
    );
    let path = world.folder.join("eskort.toml");
    let mut text = std::fs::read_to_string(&path).map_err(|source| cannot_write(ui, &source))?;
    for ([certificate, name, server, recipe], uploads) in SITES.into_iter().zip([&world.hosting, &world.platform]) {
        world.names.set(name, Ipv4Addr::LOCALHOST);
        text += &section(certificate, name, (server, recipe), uploads);
        let files = std::fs::write(world.folder.join(format!("{server}-root.pem")), uploads.root_pem());
        let token = world.folder.join(format!("{server}.token"));
        files.and_then(|()| write_secret(&token, uploads.token())).map_err(|source| cannot_write(ui, &source))?;
    }
    std::fs::write(&path, text).map_err(|source| cannot_write(ui, &source))?;
    keep_once(ui, &load(ui, world)?).await?;
    teller.chapter(
        "Somebody has uploaded another one",
        "A colleague has tried something out at the panel, and left another certificate in use. Each run of `eskort keep` reads back what is in use, and \
         puts ours there again.",
    );
    world.hosting.forget();
    keep_once(ui, &load(ui, world)?).await.map(drop)
}

fn section(certificate: &str, name: &str, (server, recipe): (&str, &str), uploads: &Uploads) -> String {
    format!(
        r#"
[server.{server}]
kind = "web-api"
recipe = "{recipe}"
address = "{}"
roots = "{server}-root.pem"
secret-file = "{server}.token"
check-address = "{}"

[certificate.{certificate}]
names = ["{name}"]
authority = "public"
proof = "pages"
install = [{{ server = "{server}" }}]
"#,
        uploads.address(),
        uploads.site(),
    )
}
