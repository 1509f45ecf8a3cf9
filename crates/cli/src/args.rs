//! The command line.

mod links;
mod upkeep;

pub(crate) use links::{LinksCommand, LinksFindArgs, LinksMendArgs, LinksPlaces};

pub(crate) use upkeep::{
    AccountArgs, AccountCommand, AccountEndArgs, AccountTakeArgs, HistoryArgs, KeepArgs, NotifyCommand, NotifyTestArgs,
    RenewArgs, ReportArgs, RevokeArgs, ScheduleAction, ScheduleArgs,
};

use crate::password::PasswordArgs;
use crate::ui::Output;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use eskort_app::StateKind;
use eskort_core::inventory::CheckAddress;
use eskort_core::software::Software;
use std::path::PathBuf;
use strum::VariantNames;

/// Where the practice world goes unless somebody says otherwise.
pub(crate) const DEMO_FOLDER: &str = "eskort-demo";

/// Take this server's TLS certificates all the way: ordered, proved, installed, checked, renewed
#[derive(Debug, Parser)]
#[command(name = "eskort", version, max_term_width = 100, disable_help_subcommand = true)]
#[command(
    after_help = "Exit codes: 0 all is well; 1 something failed; 2 wrong usage or inventory; 3 waiting for a person;\n\
                        4 something needs attention soon; 5 another run is at work; 70 a bug in Eskort.\n\
                        Environment: ESKORT_CONFIG as --config; NO_COLOR for no colour."
)]
pub(crate) struct Args {
    /// Inventory to use [default: eskort.toml here or the user's; for root the system's]
    #[arg(
        long,
        global = true,
        value_name = "FILE",
        env = "ESKORT_CONFIG",
        hide_env_values = true,
        display_order = 900
    )]
    pub(crate) config: Option<PathBuf>,
    /// How results are written
    #[arg(long, global = true, value_enum, default_value_t = Output::Text, display_order = 901)]
    pub(crate) output: Output,
    /// Print every request to the authority
    #[arg(long, short, global = true, display_order = 902)]
    pub(crate) verbose: bool,
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Run the whole journey in a practice world on this machine: no root, no network
    Demo(DemoArgs),
    /// Bring everything in the inventory to where it should be
    Keep(KeepArgs),
    /// Get a new certificate, though the one that is stored would still do
    Renew(RenewArgs),
    /// Put a stored certificate on its servers, or go back to the one before; nothing is ordered
    Install(InstallArgs),
    /// Try everything that the authority would try and that installing needs, and order nothing
    Rehearse(RehearseArgs),
    /// List the certificates, with how long each lasts
    List(ListArgs),
    /// Show everything about one certificate, or about those in a file
    Show(ShowArgs),
    /// Look at live endpoints as a visitor would
    Check(CheckArgs),
    /// Add a certificate to the inventory, with what it needs there
    Add(Box<AddArgs>),
    /// Survey what this machine's servers are configured to serve, with which certificates
    Survey(SurveyArgs),
    /// Make a CSR, or read one
    #[command(subcommand)]
    Csr(CsrCommand),
    /// Note what an authority without ACME said, and publish what it asks as proof
    Note(Box<NoteArgs>),
    /// Take what an authority without ACME sent back, in any shape, and go on from there
    Receive(ReceiveArgs),
    /// Take in a certificate that exists already, with its key
    Adopt(AdoptArgs),
    /// Pack a certificate with its chain and key for another program
    Pack(PackArgs),
    /// Place a file that an authority without ACME wants to see on a site, and look at it
    Place(PlaceArgs),
    /// Say what happened, to a certificate or to all
    History(HistoryArgs),
    /// Report how all certificates stand: here, on a page, to a collector of metrics, in a calendar
    Report(ReportArgs),
    /// Set up the timer that runs `keep`, look at it, or remove it
    Schedule(ScheduleArgs),
    /// Revoke a certificate
    Revoke(RevokeArgs),
    /// Show, change or end the account at an authority
    #[command(subcommand)]
    Account(AccountCommand),
    /// Tell people what is new: who is told, and a test
    #[command(subcommand)]
    Notify(NotifyCommand),
    /// Find and change addresses in a site's pages, dumps and databases that still say http
    #[command(subcommand)]
    Links(LinksCommand),
    /// Show a guide for a situation, or the help of a command
    Help(HelpArgs),
    /// Print manual pages, or the reference of all commands
    Man(ManArgs),
    /// Print what completes commands and options in a shell
    Completions(CompletionsArgs),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct HelpArgs {
    /// Situation, like `mail`, or command, like `csr make` [default: the list of situations]
    #[arg(value_name = "SITUATION or COMMAND")]
    pub(crate) about: Vec<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct ManArgs {
    /// Command whose page is printed, like `keep` or `csr make`; without one that of the program
    #[arg(value_name = "COMMAND")]
    pub(crate) command: Vec<String>,
    /// Write the pages of all commands into this folder instead
    #[arg(long, value_name = "FOLDER", conflicts_with = "command")]
    pub(crate) to: Option<PathBuf>,
    /// Print the reference of all commands in Markdown instead
    #[arg(long, conflicts_with_all = ["command", "to"])]
    pub(crate) reference: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    pub(crate) shell: clap_complete::Shell,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct DemoArgs {
    /// Tell this chapter of the story instead of the short one
    #[arg(value_name = "CHAPTER", value_enum)]
    pub(crate) chapter: Option<DemoChapter>,
    /// Tell every chapter
    #[arg(long, conflicts_with = "chapter")]
    pub(crate) all: bool,
    /// Folder for the demo's inventory and state; it must be new or an earlier demo's
    #[arg(long, value_name = "FOLDER", default_value = DEMO_FOLDER)]
    pub(crate) folder: PathBuf,
    /// Keep the practice world up until Ctrl-C, for trying commands in another terminal
    #[arg(long)]
    pub(crate) stay: bool,
}

/// What the demo tells beside the first certificate and its renewal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum DemoChapter {
    /// What a machine serves that nobody has looked at for years, an inventory for it, and a rehearsal
    Survey,
    /// Control proved over DNS, on a hosting account over FTP, and by a person
    Proofs,
    /// An authority without ACME: a CSR that is carried, and an answer that is brought
    Office,
    /// A hosting panel and an application platform, each behind an API
    Uploads,
    /// A site with six faults, its rating, and how both get better
    Rating,
    /// Twenty certificates at once
    Many,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct AddArgs {
    /// Names and addresses for the certificate [default: on a terminal, chosen from the sites of a survey]
    #[arg(value_name = "NAME")]
    pub(crate) names: Vec<String>,
    /// Take all names of the site that has this one in a server's configuration
    #[arg(long, value_name = "NAME")]
    pub(crate) site: Option<String>,
    /// Name of the certificate in the inventory [default: made of its first name]
    #[arg(long, value_name = "CERTIFICATE")]
    pub(crate) certificate: Option<String>,
    /// Authority, by its name in the inventory [default: the only one]; with --directory: what to call the new one
    #[arg(long, value_name = "NAME")]
    pub(crate) authority: Option<String>,
    /// Directory address of an authority that the inventory does not have yet
    #[arg(long, value_name = "URL")]
    pub(crate) directory: Option<String>,
    /// Agree to that authority's terms
    #[arg(long, requires = "directory")]
    pub(crate) accept_terms: bool,
    /// Mail address for authorities, where the inventory has none
    #[arg(long, value_name = "MAIL")]
    pub(crate) contact: Option<String>,
    /// How control is proved, by its name in the inventory [default: found by a survey]
    #[arg(long, value_name = "PROOF", conflicts_with_all = ["folder", "listener"])]
    pub(crate) proof: Option<String>,
    /// Prove control with a file in this folder, from which the site is served
    #[arg(long, value_name = "FOLDER", conflicts_with = "listener")]
    pub(crate) folder: Option<PathBuf>,
    /// Prove control with a listener on port 80
    #[arg(long)]
    pub(crate) listener: bool,
    /// Server to install it on, by its name in the inventory (can be repeated) [default: found by a survey]
    #[arg(long, value_name = "SERVER")]
    pub(crate) server: Vec<String>,
    /// Survey the server with this main file (can be repeated) [default: those in their usual places]
    #[arg(long, value_name = "MAIN-FILE")]
    pub(crate) survey: Vec<PathBuf>,
    /// Keep names of the site that resolve to no address, too
    #[arg(long, requires = "site")]
    pub(crate) insist: bool,
    /// Only show what would be added
    #[arg(long)]
    pub(crate) plan: bool,
    /// Go on to `keep` for this certificate
    #[arg(long, conflicts_with = "plan")]
    pub(crate) go: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct SurveyArgs {
    /// Main files of servers [default: those in their usual places]
    #[arg(value_name = "MAIN-FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// Survey this host of the inventory, over SSH
    #[arg(long, value_name = "NAME")]
    pub(crate) host: Option<String>,
    /// Only servers of this kind (can be repeated); with main files: the kind of server that they are for
    #[arg(long, value_name = "KIND", value_parser = server_kind())]
    pub(crate) server: Vec<Software>,
    /// Only sites with a name that fits this pattern with * and ? (can be repeated)
    #[arg(long, value_name = "PATTERN", value_parser = glob::Pattern::new)]
    pub(crate) name: Vec<glob::Pattern>,
    /// Only sites of this sort: those about which there is something to say
    #[arg(long, value_enum, value_name = "SORT")]
    pub(crate) only: Option<OnlySites>,
    /// Connect to each listener with TLS, too, and say where it shows another certificate
    #[arg(long)]
    pub(crate) deep: bool,
}

/// A sort of sites.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum OnlySites {
    /// Those about which there is something to say
    Findings,
}

/// Reads the word for a server.
fn server_kind() -> impl TypedValueParser<Value = Software> {
    let words = Software::ALL.map(Software::word);
    let kind = |word: String| Software::ALL.into_iter().find(|kind| kind.word() == word);
    PossibleValuesParser::new(words).map(move |word| kind(word).expect("it is one of the possible words"))
}

#[derive(Debug, ClapArgs)]
pub(crate) struct ListArgs {
    /// Only certificates in this state (can be repeated)
    #[arg(long, value_name = "STATE", value_parser = state_kind())]
    pub(crate) state: Vec<StateKind>,
    /// Only certificates whose name, or a name on them, fits this pattern with * and ? (can be repeated)
    #[arg(long, value_name = "PATTERN", value_parser = glob::Pattern::new)]
    pub(crate) name: Vec<glob::Pattern>,
    /// Fail when one of them ends within this time, like 14d or 36h
    #[arg(long, value_name = "TIME", value_parser = days)]
    pub(crate) fail_within: Option<jiff::SignedDuration>,
    /// Say it in one line, with the exit codes of monitoring plug-ins: 0 all is well, 1 worth a look, 2 ends within the time of
    /// --fail-within [default: 7d], or has ended
    #[arg(long)]
    pub(crate) as_plugin: bool,
}

/// Reads a time in days or hours.
fn days(text: &str) -> Result<jiff::SignedDuration, String> {
    let (number, hours) = match (text.strip_suffix('d'), text.strip_suffix('h')) {
        (Some(number), _) => (number, 24),
        (_, Some(number)) => (number, 1),
        _ => return Err("a number with d or h, like 14d".to_owned()),
    };
    let number: i64 = number.parse::<u16>().map_err(|_| "a number with d or h, like 14d".to_owned())?.into();
    Ok(jiff::SignedDuration::from_hours(number * hours))
}

/// Reads the word for a state.
fn state_kind() -> impl TypedValueParser<Value = StateKind> {
    PossibleValuesParser::new(StateKind::VARIANTS).map(|word| word.parse().expect("it is one of the possible words"))
}

#[derive(Debug, ClapArgs)]
pub(crate) struct RehearseArgs {
    /// Certificates of the inventory [default: all of them]
    #[arg(value_name = "CERTIFICATE")]
    pub(crate) certificates: Vec<String>,
    /// Also get a certificate for each: from the address that `rehearsal` names for its authority, or from a practice authority;
    /// it is thrown away
    #[arg(long)]
    pub(crate) renewal: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct ShowArgs {
    /// Certificate of the inventory; or a file with certificates in any shape
    #[arg(value_name = "NAME or FILE")]
    pub(crate) name: String,
    #[command(flatten)]
    pub(crate) password: PasswordArgs,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct CheckArgs {
    /// Certificates of the inventory, or endpoints like www.lampholm.example or mail.lampholm.example:8443
    /// [default: every certificate of the inventory]
    #[arg(value_name = "NAME or HOST[:PORT]")]
    pub(crate) targets: Vec<String>,
    /// What visitors of endpoints trust, instead of the system's roots: a file with certificates in PEM
    #[arg(long, value_name = "FILE")]
    pub(crate) roots: Option<PathBuf>,
    /// Connect to this address instead of where the host's name leads; only for endpoints
    #[arg(long, value_name = "ADDRESS[:PORT]")]
    pub(crate) address: Option<CheckAddress>,
    /// Make one handshake at each endpoint and no more: no rating
    #[arg(long, conflicts_with_all = ["fail_under", "pages", "plain_address"])]
    pub(crate) short: bool,
    /// Read so many pages of a site, and tell what they load over http
    #[arg(long, value_name = "PAGES", default_value_t = 1)]
    pub(crate) pages: usize,
    /// Ask for http at this address instead of port 80 of the endpoint's
    #[arg(long, value_name = "ADDRESS[:PORT]")]
    pub(crate) plain_address: Option<CheckAddress>,
    /// Fail when an endpoint is rated below this
    #[arg(long, value_name = "POINTS", value_parser = clap::value_parser!(u32).range(1..=100))]
    pub(crate) fail_under: Option<u32>,
    /// Look again until every endpoint shows the newest generation, for so many minutes at the most
    #[arg(long, value_name = "MINUTES", value_parser = clap::value_parser!(u32).range(1..=1440))]
    pub(crate) wait: Option<u32>,
    /// Ask authorities whether they have revoked what is served: by their lists, or by OCSP
    #[arg(long, conflicts_with = "short")]
    pub(crate) online: bool,
    /// Check the promises of transparency logs with their keys: a file in PEM, or a list of logs in JSON
    #[arg(long, value_name = "FILE", conflicts_with = "short")]
    pub(crate) logs: Option<PathBuf>,
    /// Show what would mend the servers of the inventory, as a difference of their configuration
    #[arg(long, conflicts_with = "short")]
    pub(crate) advise: bool,
    /// Read more endpoints from a file, one on each line; `-` for standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,
    /// Tell everything of each, also when there are many
    #[arg(long)]
    pub(crate) details: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct InstallArgs {
    /// Certificate of the inventory
    pub(crate) certificate: String,
    /// Only show what would change, as a difference for each file
    #[arg(long, conflicts_with = "undo")]
    pub(crate) plan: bool,
    /// Go back to the generation before the one in use, which then stays; without one, put back what was changed
    #[arg(long)]
    pub(crate) undo: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct PlaceArgs {
    /// Proof of the inventory (of kind http-folder) that says where the site's folder is
    pub(crate) proof: String,
    /// Path on the site, as the authority names it: /.well-known/pki-validation/lamp.txt
    #[arg(required_unless_present = "remove")]
    pub(crate) path: Option<String>,
    /// File with what the authority wants to see there; `-` for standard input
    #[arg(long, value_name = "FILE", default_value = "-", conflicts_with = "remove")]
    pub(crate) from: PathBuf,
    /// Name at which the file has to be seen (can be repeated)
    #[arg(long = "at", value_name = "NAME", required_unless_present = "remove")]
    pub(crate) names: Vec<String>,
    /// Remove what was placed for this proof
    #[arg(long, conflicts_with_all = ["path", "names"])]
    pub(crate) remove: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct ReceiveArgs {
    /// Files, folders or zips that the authority sent, in any shape and order; `-` for standard input
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// Fetch an issuer that is missing from the public web address that the certificate names for it; from a host of your own
    /// network where that is named (can be repeated)
    #[arg(long, value_name = "HOST", num_args = 0..=1, require_equals = true, default_missing_value = "")]
    pub(crate) fetch_issuers: Vec<String>,
    /// Take an answer of an issuer that is not known yet
    #[arg(long)]
    pub(crate) accept_issuer: bool,
    #[command(flatten)]
    pub(crate) password: PasswordArgs,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct NoteArgs {
    /// Certificate of the inventory whose CSR was handed over
    pub(crate) name: String,
    /// What the authority calls the order
    #[arg(long, value_name = "NUMBER")]
    pub(crate) order: Option<String>,
    /// Day on which it was placed
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub(crate) placed: Option<jiff::civil::Date>,
    /// Address at which it can be looked up
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) page: Option<String>,
    /// Anything else
    #[arg(long, value_name = "TEXT")]
    pub(crate) remark: Option<String>,
    /// Proof by a file: its path on the site, like /.well-known/pki-validation/lamp.txt
    #[arg(long, value_name = "PATH", group = "asked")]
    pub(crate) file: Option<String>,
    /// File with what the authority wants to see there; `-` for standard input
    #[arg(long, value_name = "FILE", default_value = "-", requires = "file")]
    pub(crate) from: PathBuf,
    /// Proof by a record: its name in full
    #[arg(long, value_name = "NAME", group = "asked", requires = "data")]
    pub(crate) record: Option<String>,
    /// The TXT record's text
    #[arg(long, value_name = "TEXT", group = "data", requires = "record")]
    pub(crate) txt: Option<String>,
    /// The CNAME record's target
    #[arg(long, value_name = "TARGET", group = "data", requires = "record")]
    pub(crate) cname: Option<String>,
    /// Proof by a mail: the address that the authority writes to
    #[arg(long, value_name = "ADDRESS", group = "asked")]
    pub(crate) mail: Option<String>,
    /// Take back what was asked as proof
    #[arg(long, group = "asked")]
    pub(crate) no_proof: bool,
    /// Proof of the inventory that publishes the file or record [default: the certificate's own]
    #[arg(long, value_name = "PROOF", requires = "asked")]
    pub(crate) by: Option<String>,
    /// The authority was notified that it may look, or what its mail asks for was done
    #[arg(long)]
    pub(crate) notified: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CsrCommand {
    /// Make a CSR, and a key for it where there is none
    Make(Box<CsrMakeArgs>),
    /// Read a CSR: what it says, and whose key it is made with
    Read(CsrReadArgs),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct CsrMakeArgs {
    /// Names and addresses for the certificate
    #[arg(required_unless_present = "certificate", value_name = "NAME")]
    pub(crate) names: Vec<String>,
    /// Take names, subject and the rest from this certificate of the inventory, and without --key its stored key
    #[arg(long = "for", value_name = "CERTIFICATE", conflicts_with_all = ["names", "csr"])]
    pub(crate) certificate: Option<String>,
    /// Key to make the CSR with; when the file is not there, a new key is stored in it
    #[arg(long, value_name = "FILE", required_unless_present = "certificate")]
    pub(crate) key: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) password: PasswordArgs,
    /// Protect a new key with the password; on a terminal it is asked for
    #[arg(long)]
    pub(crate) protect: bool,
    /// Write the CSR to a file instead of showing it
    #[arg(long, value_name = "FILE")]
    pub(crate) to: Option<PathBuf>,
    /// Only the base64 on one line, for forms that want nothing around it
    #[arg(long)]
    pub(crate) bare: bool,
    #[command(flatten)]
    pub(crate) csr: CsrContentArgs,
}

#[derive(Debug, ClapArgs)]
#[group(id = "csr")]
pub(crate) struct CsrContentArgs {
    /// Kind of a new key: p256 (the usual one), p384, rsa2048, rsa3072, rsa4096, ed25519
    #[arg(long, value_name = "KIND")]
    pub(crate) kind: Option<String>,
    /// Put the first name into the subject, too
    #[arg(long)]
    pub(crate) common_name: bool,
    /// Organization
    #[arg(long, value_name = "TEXT")]
    pub(crate) organization: Option<String>,
    /// Unit of the organization
    #[arg(long, value_name = "TEXT")]
    pub(crate) unit: Option<String>,
    /// Place
    #[arg(long, value_name = "TEXT")]
    pub(crate) locality: Option<String>,
    /// State or province
    #[arg(long, value_name = "TEXT")]
    pub(crate) state: Option<String>,
    /// Country in two letters
    #[arg(long, value_name = "XX")]
    pub(crate) country: Option<String>,
    /// Mail address
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) mail: Option<String>,
    /// Ask for a certificate whose servers have to staple a revocation answer
    #[arg(long)]
    pub(crate) must_staple: bool,
    /// What the key is to be used for: digital-signature, key-encipherment, server-auth, client-auth, …
    #[arg(long = "usage", value_name = "USE", value_delimiter = ',')]
    pub(crate) usages: Vec<String>,
    /// Another extension: its object identifier, `=`, the DER of its value in hexadecimal (can be repeated)
    #[arg(long = "extension", value_name = "OID=HEX")]
    pub(crate) extensions: Vec<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct CsrReadArgs {
    /// File with the CSR, in any form; `-` for standard input
    #[arg(default_value = "-")]
    pub(crate) file: PathBuf,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct PackArgs {
    /// Certificate of the inventory
    pub(crate) name: String,
    /// What to pack it as
    #[arg(long = "as", value_enum, value_name = "FORM")]
    pub(crate) form: PackForm,
    /// File to write, or folder for parts; with the key in it, readable by its owner only
    #[arg(long, value_name = "FILE")]
    pub(crate) to: PathBuf,
    /// Generation to pack [default: the newest]
    #[arg(long, value_name = "NUMBER")]
    pub(crate) generation: Option<u32>,
    #[command(flatten)]
    pub(crate) password: PasswordArgs,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum PackForm {
    /// Certificate and intermediates in PEM
    Pem,
    /// Certificate, intermediates and key in one PEM file
    PemWithKey,
    /// Certificate, intermediates and key in PEM files of their own, in a folder
    PemParts,
    /// The certificate alone in DER
    Der,
    /// Certificate and intermediates in PKCS#7
    Pkcs7,
    /// Key, certificate and intermediates in PKCS#12, for today's programs
    Pkcs12,
    /// The same with old ciphers, for programs that read no others
    Pkcs12Old,
    /// Manifest of a TLS secret for a container orchestrator
    Manifest,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct AdoptArgs {
    /// Certificate of the inventory that it becomes the newest generation of
    pub(crate) name: String,
    /// Files with certificate, intermediates and key, in any shape
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// Take it even though a CSR of ours waits for an answer: that is waited for no longer
    #[arg(long)]
    pub(crate) instead: bool,
    #[command(flatten)]
    pub(crate) password: PasswordArgs,
}
