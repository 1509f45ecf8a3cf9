//! What `eskort add` asks on a terminal: for which sites, with which of their names, and at which authority.

use crate::args::RehearseArgs;
use crate::commands::{block_on, rehearse};
use crate::draw::picker::Picker;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use dialoguer::{Confirm, Input};
use eskort_app::{AddOptions, SurveyOptions, SurveyedSite, find_servers, resolves, survey};
use eskort_core::context::Context;
use eskort_core::names::Identifier;
use eskort_core::software::Software;
use eskort_core::words;
use std::collections::BTreeSet;
use std::io;

/// A site that can have a certificate.
struct Choice {
    names: Vec<Identifier>,
    /// Where it is defined, and whether it has TLS.
    about: String,
}

/// Asks for which sites certificates are to be added; `None` when for none.
pub(super) fn choose(context: &Context, base: &AddOptions) -> io::Result<Option<Vec<AddOptions>>> {
    let sites = sites(context, base);
    let groups = match sites.is_empty() {
        true => names_typed()?.map(|names| vec![names]),
        false => sites_chosen(&sites)?,
    };
    let Some(groups) = groups else { return Ok(None) };
    // One name cannot be that of several certificates.
    let certificate = base.certificate.clone().filter(|_| groups.len() == 1);
    let mut wanted = Vec::new();
    for names in groups {
        let Some(names) = names_chosen(names)? else { return Ok(None) };
        let names = names.iter().map(ToString::to_string).collect();
        wanted.push(AddOptions { names, certificate: certificate.clone(), insist: true, ..base.clone() });
    }
    Ok(Some(wanted))
}

/// Returns the sites of this machine's servers that have names for a certificate, each once.
fn sites(context: &Context, base: &AddOptions) -> Vec<Choice> {
    let surveyed = block_on(async {
        let files = match base.files.is_empty() {
            true => find_servers(context, None, &Software::ALL).await?,
            false => base.files.clone(),
        };
        survey(context, &SurveyOptions { files, ..SurveyOptions::default() }).await
    });
    // What cannot be surveyed is not in the list; names can be typed all the same.
    let servers = surveyed.map(|report| report.servers).unwrap_or_default();
    let mut choices: Vec<Choice> = Vec::new();
    for server in &servers {
        for site in &server.sites {
            let (names, with_tls) = (names_of(site), !site.certificates.is_empty());
            if names.is_empty() {
                continue;
            }
            let file = site.place.path.file_name().unwrap_or_default().display();
            let file = words::printable(&file.to_string(), 60);
            let tls = if with_tls { "with TLS" } else { "without TLS" };
            let about = format!("{}  {file}:{}  {tls}", server.server, site.place.line);
            // Many sites have one block for http, which redirects, and one for https.
            match choices.iter_mut().find(|choice| choice.names == names) {
                Some(known) if with_tls => known.about = about,
                Some(_) => {}
                None => choices.push(Choice { names, about }),
            }
        }
    }
    choices
}

fn names_of(site: &SurveyedSite) -> Vec<Identifier> {
    let mut names: Vec<Identifier> = site.names.iter().filter_map(|name| Identifier::parse(name).ok()).collect();
    let mut seen = BTreeSet::new();
    names.retain(|name| !name.is_wildcard() && name.is_qualified() && seen.insert(name.clone()));
    names
}

fn sites_chosen(sites: &[Choice]) -> io::Result<Option<Vec<Vec<Identifier>>>> {
    let title = |site: &Choice| match site.names.len() {
        1 => site.names[0].to_string(),
        more => format!("{} +{}", site.names[0], more - 1),
    };
    let width = sites.iter().map(|site| title(site).chars().count()).max().unwrap_or(0);
    let items = sites.iter().map(|site| (format!("{:<width$}  {}", title(site), site.about), false));
    let Some(chosen) = Picker::new(items).ask("Which sites are to have a certificate?")? else { return Ok(None) };
    let groups: Vec<Vec<Identifier>> = chosen.iter().map(|at| sites[*at].names.clone()).collect();
    let together = groups.len() > 1
        && Confirm::new().with_prompt("One certificate for all of them?").default(false).interact().map_err(into_io)?;
    Ok(Some(if together { vec![groups.concat()] } else { groups }))
}

fn names_typed() -> io::Result<Option<Vec<Identifier>>> {
    let read = |text: &str| text.split_whitespace().map(Identifier::parse).collect::<Result<Vec<_>, _>>();
    let typed: String = Input::new()
        .with_prompt("Names for the certificate (no site was found)")
        .allow_empty(true)
        .validate_with(|text: &String| read(text).map(drop).map_err(|error| error.to_string()))
        .interact_text()
        .map_err(into_io)?;
    Ok(read(&typed).ok().filter(|names| !names.is_empty()))
}

/// Asks which of several names are wanted: at first those that lead somewhere.
fn names_chosen(names: Vec<Identifier>) -> io::Result<Option<Vec<Identifier>>> {
    if names.len() == 1 {
        return Ok(Some(names));
    }
    let items = block_on(async {
        let mut items = Vec::new();
        for name in &names {
            let leads = resolves(name).await;
            let about = if leads { "" } else { "  resolves to no address here" };
            items.push((format!("{name}{about}"), leads));
        }
        items
    });
    let chosen = Picker::new(items).ask("Which names are to be on it?")?;
    Ok(chosen.map(|chosen| chosen.into_iter().map(|at| names[at].clone()).collect()))
}

/// Asks for an authority, where the inventory has none.
pub(super) fn for_authority(options: &mut AddOptions) -> io::Result<()> {
    let is_address = |text: &String| match text.starts_with("https://") && !text.contains(char::is_whitespace) {
        true => Ok(()),
        false => Err("it begins with https://; your authority's documents name it"),
    };
    let directory = Input::new().with_prompt("Directory address of your authority").validate_with(is_address);
    options.directory = Some(directory.interact_text().map_err(into_io)?);
    options.accept_terms =
        options.accept_terms || agrees("Have you read its terms of service, and do you agree?", false);
    if options.contact.is_none() {
        let contact = Input::<String>::new().with_prompt("Mail address for it (may be empty)").allow_empty(true);
        options.contact = Some(contact.interact_text().map_err(into_io)?).filter(|contact| !contact.is_empty());
    }
    Ok(())
}

/// Asks a question that is answered with yes or no.
pub(super) fn agrees(question: &str, usually: bool) -> bool {
    Confirm::new().with_prompt(question).default(usually).interact().unwrap_or(false)
}

/// Rehearses what was added, when that is wanted; returns whether the certificates are to be obtained now.
pub(super) fn goes_on(ui: &Ui, context: &Context, certificates: &[String]) -> io::Result<bool> {
    let mut good = false;
    if agrees("Rehearse it now? Nothing is ordered.", true) {
        good = rehearse::run(ui, context, &RehearseArgs { certificates: certificates.to_vec(), renewal: false })
            == ExitStatus::Well;
    }
    let question = if certificates.len() == 1 { "Get the certificate now?" } else { "Get the certificates now?" };
    Ok(agrees(question, good))
}

fn into_io(error: dialoguer::Error) -> io::Error {
    let dialoguer::Error::IO(error) = error;
    error
}
