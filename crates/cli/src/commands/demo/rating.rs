//! The demo's chapter of a site that is looked at closely: from a poor rating to the best one, its pages from mixed to clean.

use super::{Teller, cannot_write, load};
use crate::commands::{check, links};
use crate::errors;
use crate::exit::ExitStatus;
use eskort_app::{CheckDepth, CheckTarget, CloseLook, LinksOptions, mend_links};
use eskort_core::context::Context;
use eskort_core::inventory::CheckAddress;
use eskort_practice::Manners;

/// A page as it was written when the site was on http: a style sheet, a picture, a form.
const PAGE: &str = "<!doctype html><title>Lampholm</title>\n<link rel=\"stylesheet\" href=\"http://lampholm.example/sea.css\">\n\
    <h1>The lighthouse is open from ten to four.</h1>\n<img src=\"http://lampholm.example/lamp.png\" alt=\"The lamp\">\n\
    <form action=\"http://lampholm.example/visit\"><button>Book a visit</button></form>\n";

/// Tells the chapter.
pub(super) async fn tell_chapter(teller: &mut Teller<'_>) -> Result<(), ExitStatus> {
    let (ui, world) = (teller.ui, teller.world);
    let write = |text: &str| {
        std::fs::write(world.folder.join("www/index.html"), text).map_err(|source| cannot_write(ui, &source))
    };
    teller.chapter(
        "A site with six faults",
        "The site is on https now, and grew up on http: who comes over http stays there, browsers are not told to come back over https alone, a cookie goes over http, \
         too, and its page has a style sheet, a picture and a form over http. `eskort check` finds all that, and rates it.",
    );
    write(PAGE)?;
    world.site.treat(Manners { cookie: Some("visit=1; Path=/".to_owned()), ..Manners::default() });
    let context = load(ui, world)?;
    look(teller, &context).await?;
    teller.chapter(
        "Its pages say https",
        "`eskort links mend` changes the addresses of the site in its pages, and keeps copies of the files of before.",
    );
    let options = LinksOptions { paths: vec![world.folder.join("www")], ..LinksOptions::default() };
    let mended =
        mend_links(&context, &options).map_err(|error| links::failed(ui, "links cannot be changed", &error))?;
    links::print_mended(ui, &mended);
    teller.chapter(
        "And so does the site",
        "Its server redirects to https, tells browsers to come back over https alone for a year, and marks the cookie as `Secure`. With nginx or Apache `eskort check --advise` \
         shows the difference, and `eskort install` makes it.",
    );
    let hsts = Some("max-age=31536000".to_owned());
    world.site.treat(Manners { redirects: true, hsts, cookie: Some("visit=1; Path=/; Secure".to_owned()) });
    look(teller, &context).await?;
    // The other chapters go on with the site as it was.
    world.site.treat(Manners::default());
    Ok(())
}

/// Looks at the site by its first name, and says what is found.
async fn look(teller: &Teller<'_>, context: &Context) -> Result<(), ExitStatus> {
    let (ui, world) = (teller.ui, teller.world);
    let address = |at: std::net::SocketAddr| CheckAddress { ip: at.ip(), port: Some(at.port()) };
    let target = CheckTarget::Endpoint {
        name: "lampholm.example".to_owned(),
        port: world.site.tls_address().port(),
        instead: Some(address(world.site.tls_address())),
        roots: None,
    };
    let plain = Some(address(world.site.plain_address()));
    let depth = CheckDepth::Whole(CloseLook { plain, ..CloseLook::default() });
    let reports = eskort_app::check(context, &target, &depth).await.map_err(|error| {
        errors::print(ui, "cannot look at the site", &errors::tell(&error, "website"));
        ExitStatus::Failed
    })?;
    check::print(ui, &reports, context.now());
    Ok(())
}
