//! A certificate that is added to the inventory, with what it needs there.

use super::advice::{Advice, advise_on_names, left_out};
use crate::look::survey::report::{SurveyedServer, SurveyedSite};
use crate::look::survey::{SurveyOptions, find_servers, survey};
use crate::setup::SetupError;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::{Inventory, Proof, ServerKind};
use eskort_core::names::Identifier;
use eskort_core::software::Software;
use eskort_core::words;
use eskort_host::files::{Access, read_whole, write_atomic};
use eskort_host::{TrustError, check_trust};
use eskort_inventory::{
    Addition, NewAuthority, NewCertificate, NewProof, NewServer, add_to_inventory, parse_inventory,
};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};

/// An inventory is no larger than this.
const LARGEST: u64 = 16 << 20;

/// What is to be added.
#[derive(Clone, Debug, Default)]
pub struct AddOptions {
    /// The names on the certificate.
    pub names: Vec<String>,
    /// Take the names of the surveyed site that has this one, too.
    pub site: Option<String>,
    /// The certificate's name in the inventory; `None` for one made of its first name.
    pub certificate: Option<String>,
    /// The authority, by its name in the inventory.
    pub authority: Option<String>,
    /// The address of an authority's directory, where the inventory has no authority yet.
    pub directory: Option<String>,
    /// Whether a person agrees to that authority's terms.
    pub accept_terms: bool,
    /// A mail address for authorities.
    pub contact: Option<String>,
    /// The proof, by its name in the inventory.
    pub proof: Option<String>,
    /// The folder of the site's pages, for a proof of its own.
    pub folder: Option<PathBuf>,
    /// Whether a listener of our own is to prove control.
    pub listener: bool,
    /// The servers, by their names in the inventory; empty for those that serve the names.
    pub servers: Vec<String>,
    /// Main files of servers to survey; empty for those in their usual places.
    pub files: Vec<(Software, PathBuf)>,
    /// Whether names that resolve nowhere are kept, too.
    pub insist: bool,
}

/// What is added, before it is written.
#[derive(Clone, Debug, Serialize)]
pub struct Added {
    /// The inventory.
    pub inventory: PathBuf,
    /// Whether there was none before.
    pub is_new: bool,
    /// The certificate.
    pub certificate: String,
    /// The names on it.
    pub names: Vec<String>,
    /// The lines that are added.
    pub lines: String,
    /// What is worth knowing.
    pub advice: Vec<Advice>,
    /// The text of the inventory before and after.
    #[serde(skip)]
    texts: (String, String),
}

/// Why nothing can be added.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum AddError {
    /// No name at all.
    #[error("no name was given for the certificate")]
    NoNames,
    /// No surveyed site has the name.
    #[error("no site of this machine's servers has the name {name}")]
    NoSite {
        /// The name.
        name: String,
    },
    /// Something that is no name.
    #[error("`{name}` cannot be on a certificate: {why}")]
    Name {
        /// What was given.
        name: String,
        /// Why not.
        why: String,
    },
    /// A name in the inventory that does not exist there, or does already.
    #[error("the inventory {} {what} `{name}`", if *exists { "already has the" } else { "has no" })]
    Entry {
        /// What it is: a certificate, an authority, a proof or a server.
        what: &'static str,
        /// Its name.
        name: String,
        /// Whether it exists.
        exists: bool,
        /// What the inventory has.
        known: Vec<String>,
    },
    /// No authority is known.
    #[error("the inventory has no authority yet")]
    NoAuthority,
    /// Several are.
    #[error("the inventory has several authorities")]
    SeveralAuthorities {
        /// Which.
        known: Vec<String>,
    },
    /// No way to prove control was found.
    #[error("no way was found to prove control of {}: {why}", words::list(names))]
    NoProof {
        /// Of which names.
        names: Vec<String>,
        /// Why.
        why: String,
        /// Whether only a proof over DNS will do.
        over_dns: bool,
    },
    /// The inventory has mistakes, or would have, or somebody else may change it.
    #[error(transparent)]
    Setup(#[from] SetupError),
    /// A file.
    #[error("cannot {job} {}: {source}", path.display())]
    Io {
        /// What was tried.
        job: &'static str,
        /// With what.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// Somebody has changed the inventory meanwhile.
    #[error("{} was changed meanwhile", path.display())]
    Changed {
        /// The inventory.
        path: PathBuf,
    },
}

fn read_text(path: &Path) -> Result<Option<String>, AddError> {
    let fail = |source| AddError::Io { job: "read", path: path.to_owned(), source };
    let Some(file) = read_whole(path, LARGEST).map_err(fail)? else { return Ok(None) };
    String::from_utf8(file.bytes).map(Some).map_err(|e| fail(io::Error::new(io::ErrorKind::InvalidData, e)))
}

/// Finds out what has to be added to the inventory at a path. Nothing is written.
///
/// # Errors
/// When something is missing that only a person knows, or what would come of it is no inventory.
#[boxed]
pub async fn plan_addition(context: &Context, path: &Path, options: &AddOptions) -> Result<Added, AddError> {
    match check_trust(path) {
        Err(TrustError::Io { .. }) | Ok(()) => {}
        Err(error) => return Err(SetupError::Untrusted(error).into()),
    }
    let text = read_text(path)?;
    let before = text.clone().unwrap_or_default();
    let inventory = match before.trim().is_empty() {
        true => Inventory::default(),
        false => {
            let bare = before.strip_prefix('\u{feff}').unwrap_or(&before);
            let read = parse_inventory(bare);
            let mut read = read.map_err(|mistakes| SetupError::Mistakes { path: path.to_owned(), mistakes })?;
            read.resolve_paths(path.parent().unwrap_or(Path::new("/")));
            read
        }
    };
    let servers = surveyed_servers(context, options).await;
    let mut advice = Vec::new();
    let names = names(options, &servers, &mut advice).await?;
    let mut addition = Addition { contact: contact(options, &inventory, &mut advice), ..Addition::default() };
    addition.certificate = certificate(options, &inventory, &names)?;
    choose_authority(options, &inventory, &mut addition)?;
    choose_proof(options, &inventory, &servers, &names, (&mut addition, &mut advice))?;
    choose_servers(options, &inventory, &servers, &names, (&mut addition, &mut advice))?;
    advise_on_names(&names, &inventory, &servers, context.now(), &mut advice);
    if addition.authority.as_ref().is_some_and(|authority| !authority.accept_terms) {
        let text = "you have not agreed to the authority's terms".to_owned();
        let why =
            "most authorities give no account without that: read them, then write `accept-terms = true`".to_owned();
        advice.push(Advice { text, why });
    }
    let (after, lines) = add_to_inventory(&before, &addition);
    let bare = after.strip_prefix('\u{feff}').unwrap_or(&after);
    parse_inventory(bare).map_err(|mistakes| SetupError::Mistakes { path: path.to_owned(), mistakes })?;
    Ok(Added {
        inventory: path.to_owned(),
        is_new: text.is_none(),
        certificate: addition.certificate.name,
        names: addition.certificate.names,
        lines: lines.trim_start().to_owned(),
        advice,
        texts: (before, after),
    })
}

/// Writes what was planned, if the inventory is as it was then.
///
/// # Errors
/// When it was changed meanwhile, or cannot be written; it is as it was then.
pub fn write_addition(added: &Added) -> Result<(), AddError> {
    let path = &added.inventory;
    let fail = |job| move |source| AddError::Io { job, path: path.clone(), source };
    let folder = path.parent().unwrap_or(Path::new("/"));
    std::fs::create_dir_all(folder).map_err(fail("make the folder of"))?;
    // Who adds at the same time waits here, and finds that the text has changed.
    let lock = std::fs::File::open(folder).map_err(fail("open the folder of"))?;
    lock.lock().map_err(fail("lock the folder of"))?;
    let now = read_whole(path, LARGEST).map_err(fail("read"))?;
    let (before, after) = &added.texts;
    match &now {
        found if found.as_ref().map_or(&b""[..], |file| &file.bytes) != before.as_bytes() => {
            Err(AddError::Changed { path: path.clone() })
        }
        found => {
            let access = found.as_ref().map_or(Access::mode(0o644), |file| file.access);
            write_atomic(path, after.as_bytes(), access).map_err(fail("write"))
        }
    }
}

/// Surveys this machine; what cannot be surveyed is left out: every choice can be made by an option, too.
async fn surveyed_servers(context: &Context, options: &AddOptions) -> Vec<SurveyedServer> {
    let files = match options.files.is_empty() {
        true => find_servers(context, None, &Software::ALL).await.unwrap_or_default(),
        false => options.files.clone(),
    };
    let options = SurveyOptions { files, ..SurveyOptions::default() };
    survey(context, &options).await.map(|report| report.servers).unwrap_or_default()
}

fn has_name(site: &SurveyedSite, name: &Identifier) -> bool {
    let own = |own: &String| match Identifier::parse_any(own) {
        Ok(own) => own == *name || own.covers(&name.to_string()),
        Err(_) => false,
    };
    site.names.iter().any(own)
}

/// Returns the names for the certificate: those that were given, and those of the site that was chosen.
async fn names(
    options: &AddOptions,
    servers: &[SurveyedServer],
    advice: &mut Vec<Advice>,
) -> Result<Vec<Identifier>, AddError> {
    let parse = |text: &str| {
        Identifier::parse(text).map_err(|error| AddError::Name { name: text.to_owned(), why: error.to_string() })
    };
    let mut found: Vec<Identifier> = options.names.iter().map(|name| parse(name)).collect::<Result<_, _>>()?;
    if let Some(site) = &options.site {
        let wanted = parse(site)?;
        let sites = servers.iter().flat_map(|server| &server.sites).filter(|site| has_name(site, &wanted));
        let all: BTreeSet<&String> = sites.flat_map(|site| &site.names).collect();
        if all.is_empty() {
            return Err(AddError::NoSite { name: site.clone() });
        }
        let mut more = vec![wanted];
        for name in all {
            match Identifier::parse(name) {
                Ok(name) if more.contains(&name) => {}
                Ok(name) if name.is_wildcard() => {
                    let text = left_out(&name.to_string());
                    advice.push(Advice { text, why: "a wildcard needs a proof over DNS: name it to have it".into() });
                }
                Ok(name) if options.insist || resolves(&name).await => more.push(name),
                Ok(name) => {
                    let text = left_out(&name.to_string());
                    advice.push(Advice { text, why: "it resolves to no address here; `--insist` keeps it".into() });
                }
                Err(error) => {
                    let text = left_out(&words::printable(name, 100));
                    advice.push(Advice { text, why: error.to_string() });
                }
            }
        }
        found.extend(more);
    }
    let mut seen = BTreeSet::new();
    found.retain(|name| seen.insert(name.clone()));
    if found.is_empty() { Err(AddError::NoNames) } else { Ok(found) }
}

/// Whether a name leads to any address from here.
#[boxed]
pub async fn resolves(name: &Identifier) -> bool {
    name.address().is_some()
        || tokio::net::lookup_host((name.to_string(), 0)).await.is_ok_and(|mut a| a.next().is_some())
}

fn contact(options: &AddOptions, inventory: &Inventory, advice: &mut Vec<Advice>) -> Option<String> {
    if inventory.contact.is_some() {
        return None;
    }
    if options.contact.is_none() && inventory.authorities.is_empty() {
        let text = "no contact is given to the authority".to_owned();
        advice.push(Advice { text, why: "some authorities write to it, or insist on one: `--contact MAIL`".into() });
    }
    options.contact.clone()
}

fn known<V>(entries: &BTreeMap<String, V>) -> Vec<String> {
    entries.keys().cloned().collect()
}

fn certificate(options: &AddOptions, inventory: &Inventory, names: &[Identifier]) -> Result<NewCertificate, AddError> {
    let exists = |name: &str| inventory.certificates.contains_key(name);
    let name = match &options.certificate {
        Some(name) if exists(name) => {
            let known = known(&inventory.certificates);
            return Err(AddError::Entry { what: "certificate", name: name.clone(), exists: true, known });
        }
        Some(name) => name.clone(),
        None => {
            let first = names[0].base().into_owned();
            let label = first.strip_prefix("www.").unwrap_or(&first).split('.').next().unwrap_or_default();
            let label: String = label.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
            free_name(&inventory.certificates, &label)
        }
    };
    let names = names.iter().map(ToString::to_string).collect();
    Ok(NewCertificate { name, names, ..NewCertificate::default() })
}

fn choose_authority(options: &AddOptions, inventory: &Inventory, addition: &mut Addition) -> Result<(), AddError> {
    let all = known(&inventory.authorities);
    match (&options.authority, &options.directory, &all[..]) {
        (Some(name), None, _) if !inventory.authorities.contains_key(name) => {
            demand(&inventory.authorities, "authority", name)?;
        }
        (Some(name), None, [_, _, ..]) => addition.certificate.authority = Some(name.clone()),
        (_, None, [_]) => {}
        (None, None, []) => return Err(AddError::NoAuthority),
        (None, None, _) => return Err(AddError::SeveralAuthorities { known: all }),
        (name, Some(directory), _) => {
            let name = name.clone().unwrap_or_else(|| "public".to_owned());
            if inventory.authorities.contains_key(&name) {
                return Err(AddError::Entry { what: "authority", name, exists: true, known: all });
            }
            if !all.is_empty() {
                addition.certificate.authority = Some(name.clone());
            }
            let (directory, accept_terms) = (directory.clone(), options.accept_terms);
            addition.authority = Some(NewAuthority { name, directory, accept_terms });
        }
        (Some(_), None, []) => unreachable!("it is not in an inventory without authorities"),
    }
    Ok(())
}

/// Refuses a name that the inventory does not have.
fn demand<V>(entries: &BTreeMap<String, V>, what: &'static str, name: &str) -> Result<(), AddError> {
    match entries.contains_key(name) {
        true => Ok(()),
        false => Err(AddError::Entry { what, name: name.to_owned(), exists: false, known: known(entries) }),
    }
}

/// Returns a name that the inventory does not have yet: the wanted one, or it with a number.
fn free_name<V>(entries: &BTreeMap<String, V>, wanted: &str) -> String {
    let numbered = |n: u32| if n == 1 { wanted.to_owned() } else { format!("{wanted}-{n}") };
    (1..).map(numbered).find(|name| !entries.contains_key(name)).expect("one is free")
}

/// Chooses how control is proved: as an option says, in the folder of the site that serves the names, or by a proof over DNS that the
/// inventory has.
fn choose_proof(
    options: &AddOptions,
    inventory: &Inventory,
    servers: &[SurveyedServer],
    names: &[Identifier],
    (addition, advice): (&mut Addition, &mut Vec<Advice>),
) -> Result<(), AddError> {
    if let Some(name) = &options.proof {
        demand(&inventory.proofs, "proof", name)?;
        addition.certificate.proof = Some(name.clone());
        return Ok(());
    }
    // An authority without ACME asks for none.
    let authority = addition.certificate.authority.as_ref().or(inventory.authorities.keys().next());
    let is_acme = addition.authority.is_some()
        || authority
            .and_then(|name| inventory.authorities.get(name))
            .is_some_and(|authority| authority.acme().is_some());
    if !is_acme {
        return Ok(());
    }
    let texts: Vec<String> = names.iter().map(ToString::to_string).collect();
    if names.iter().any(Identifier::is_wildcard) {
        let over_dns = inventory.proofs.iter().find(|(_, proof)| matches!(proof, Proof::Dns(_)));
        let Some((name, _)) = over_dns else {
            let why = "a wildcard needs a proof over DNS, and the inventory has none".to_owned();
            return Err(AddError::NoProof { names: texts, why, over_dns: true });
        };
        let why = "a wildcard is proved over DNS, and the inventory has this way".to_owned();
        advice.push(Advice { text: format!("control is proved by `{name}`"), why });
        addition.certificate.proof = Some(name.clone());
        return Ok(());
    }
    let folder = match (&options.folder, options.listener) {
        (Some(folder), _) => Some(std::path::absolute(folder).unwrap_or_else(|_| folder.clone())),
        (None, true) => None,
        (None, false) => Some(folder_of(servers, names, advice).map_err(|why| AddError::NoProof {
            names: texts,
            why,
            over_dns: false,
        })?),
    };
    let same = |proof: &Proof| match (proof, &folder) {
        (Proof::HttpFolder { folder, hosts, .. }, Some(wanted)) => hosts.is_empty() && folder == wanted,
        (Proof::HttpListener { listen: None, .. }, None) => true,
        _ => false,
    };
    let name = match inventory.proofs.iter().find(|(_, proof)| same(proof)) {
        Some((name, _)) => name.clone(),
        None => {
            let name = free_name(&inventory.proofs, if folder.is_some() { "pages" } else { "listener" });
            addition.proof = Some(NewProof { name: name.clone(), folder });
            name
        }
    };
    addition.certificate.proof = Some(name);
    Ok(())
}

/// Returns the folder of a site's pages, where it is one for all visitors.
fn pages(site: &SurveyedSite) -> Option<&str> {
    site.document_root.as_deref().filter(|root| root.starts_with('/') && !root.contains('$'))
}

/// Returns the folder of the site that serves all names on port 80, or where visitors are sent from there.
fn folder_of(servers: &[SurveyedServer], names: &[Identifier], advice: &mut Vec<Advice>) -> Result<PathBuf, String> {
    let mut folders: BTreeSet<&str> = BTreeSet::new();
    for name in names {
        let sites = || servers.iter().flat_map(|server| &server.sites).filter(|site| has_name(site, name));
        let plain = |site: &&SurveyedSite| site.listeners.iter().any(|l| l.protocol == "http" && l.security == "plain");
        let direct = sites().filter(plain).find(|site| site.redirect.is_none());
        let sent =
            || sites().find(|site| pages(site).is_some() && !plain(site)).filter(|_| sites().any(|site| plain(&site)));
        match direct.and_then(pages).or_else(|| sent().and_then(pages)) {
            Some(folder) => drop(folders.insert(folder)),
            None => {
                return Err(format!(
                    "no site of this machine's servers that was found serves {name} from a folder on port 80"
                ));
            }
        }
    }
    match folders.into_iter().collect::<Vec<_>>()[..] {
        [folder] => {
            let text = format!("control is proved by a file in {folder}");
            advice.push(Advice { text, why: "this machine's web server serves these names from there".into() });
            Ok(folder.into())
        }
        ref several => Err(format!("they are served from different folders: {}", words::list(several))),
    }
}

fn choose_servers(
    options: &AddOptions,
    inventory: &Inventory,
    servers: &[SurveyedServer],
    names: &[Identifier],
    (addition, advice): (&mut Addition, &mut Vec<Advice>),
) -> Result<(), AddError> {
    for name in &options.servers {
        demand(&inventory.servers, "server", name)?;
        addition.certificate.install.push(name.clone());
    }
    if !options.servers.is_empty() {
        return Ok(());
    }
    for server in servers {
        let named = || server.sites.iter().filter(|site| names.iter().any(|name| has_name(site, name)));
        if named().next().is_none() {
            continue;
        }
        let kind = server.server;
        let gets_tls = Software::ALL.iter().any(|software| software.word() == kind && software.gets_tls());
        if !gets_tls && named().all(|site| site.certificates.is_empty()) {
            let text = format!("{kind} serves these names without TLS, and gets nothing yet");
            let why = "give it a TLS listener with any certificate: Eskort replaces the certificate".into();
            advice.push(Advice { text, why });
            continue;
        }
        let same = |known: &ServerKind| matches!(known, ServerKind::Configured(known) if known.config == server.config && known.software.word() == kind);
        let there = inventory.servers.iter().find(|(_, known)| known.host.is_none() && same(&known.kind));
        let name = match there {
            Some((name, _)) => name.clone(),
            None => {
                let name = free_name(&inventory.servers, kind);
                let config = server.config.clone();
                addition.servers.push(NewServer { name: name.clone(), kind: kind.to_owned(), config });
                name
            }
        };
        addition.certificate.install.push(name);
    }
    if addition.certificate.install.is_empty() {
        let text = "the certificate is stored, and put on no server".to_owned();
        advice
            .push(Advice { text, why: "no server of this machine that was found serves these names with TLS".into() });
    }
    Ok(())
}
