//! The command lines of what keeps certificates, and tells of it.

use crate::texts::log::LogFormat;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args as ClapArgs, Subcommand};
use eskort_core::revocation::Revocation;
use std::path::PathBuf;
use strum::VariantNames;

#[derive(Clone, Debug, Default, ClapArgs)]
pub(crate) struct KeepArgs {
    /// Only say what would be done
    #[arg(long)]
    pub(crate) plan: bool,
    /// Wait for records that people have to place, and go on by itself
    #[arg(long, conflicts_with = "plan")]
    pub(crate) wait: bool,
    /// Only this certificate, at once, even if it is left alone after failures or CAA records speak against it (can be repeated)
    #[arg(long, value_name = "NAME")]
    pub(crate) only: Vec<String>,
    /// Order also what the authority's budget has no room for
    #[arg(long)]
    pub(crate) beyond_budget: bool,
    /// Replace a certificate also where the inventory has dropped names of it, before it is due
    #[arg(long)]
    pub(crate) drop_names: bool,
    /// Stay, and do it again after so many hours each: where neither systemd nor cron runs, as in a container
    #[arg(long, value_name = "HOURS", value_parser = hours, conflicts_with_all = ["plan", "wait", "only"])]
    pub(crate) every: Option<u32>,
    /// With --every: write `well` or `failed` and the time into this file after each run, for a health check
    #[arg(long, value_name = "FILE", requires = "every")]
    pub(crate) health: Option<PathBuf>,
    /// How it is told what goes on [default: text; with a timer of systemd: journal]
    #[arg(long, value_name = "FORMAT", value_enum)]
    pub(crate) log_format: Option<LogFormat>,
    /// Write down that a timer began this run
    #[arg(long, hide = true)]
    pub(crate) by_timer: bool,
}

#[derive(Debug, ClapArgs)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct ScheduleArgs {
    #[command(subcommand)]
    pub(crate) action: Option<ScheduleAction>,
    /// Hours from one run to the next
    #[arg(long, value_name = "HOURS", default_value_t = 12, value_parser = hours)]
    pub(crate) every: u32,
    /// Set it up for this user, not for the system
    #[arg(long)]
    pub(crate) user: bool,
    /// Use cron though systemd is there
    #[arg(long)]
    pub(crate) cron: bool,
    /// Only show what would be written
    #[arg(long)]
    pub(crate) plan: bool,
}

/// What else is done with the timer.
#[derive(Clone, Copy, Debug, Subcommand)]
pub(crate) enum ScheduleAction {
    /// Say when it runs next and how the last runs went, and find what has broken
    Show,
    /// Remove it
    Remove,
}

/// Reads how often a timer runs: at the same times each day.
fn hours(text: &str) -> Result<u32, String> {
    let known = eskort_core::schedule::HOURS;
    let found = text.trim_end_matches('h').parse().ok().filter(|hours| known.contains(hours));
    let words = || known.map(|hours| hours.to_string()).join(", ");
    found.ok_or_else(|| format!("one of {}", words()))
}

#[derive(Debug, ClapArgs)]
pub(crate) struct RenewArgs {
    /// Certificates of the inventory
    #[arg(value_name = "CERTIFICATE", required = true)]
    pub(crate) certificates: Vec<String>,
    /// Only say what would be done
    #[arg(long)]
    pub(crate) plan: bool,
    /// Order also what the authority's budget has no room for
    #[arg(long)]
    pub(crate) beyond_budget: bool,
    /// Also where names of the certificate are lost
    #[arg(long)]
    pub(crate) drop_names: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct HistoryArgs {
    /// Certificate of the inventory [default: all of them, and the runs]
    pub(crate) name: Option<String>,
    /// So many lines
    #[arg(long, value_name = "NUMBER", default_value_t = 30)]
    pub(crate) last: u32,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct ReportArgs {
    /// Write metrics in the text format of OpenMetrics to this file, whole or not at all; `-` for standard output
    #[arg(long, value_name = "FILE")]
    pub(crate) metrics: Option<PathBuf>,
    /// Write a calendar with renewals and ends (iCalendar) to this file; `-` for standard output
    #[arg(long, value_name = "FILE")]
    pub(crate) calendar: Option<PathBuf>,
    /// Write a page with all certificates (index.html) into this folder, whole or not at all; `-` for standard output
    #[arg(long, value_name = "FOLDER")]
    pub(crate) page: Option<PathBuf>,
    /// Do not look at endpoints: no ratings
    #[arg(long)]
    pub(crate) without_looks: bool,
}

/// What is done about those who are told what is new.
#[derive(Debug, Subcommand)]
pub(crate) enum NotifyCommand {
    /// Say who is told what is new, and what waits to be delivered
    Show,
    /// Send a test
    Test(NotifyTestArgs),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct NotifyTestArgs {
    /// Sections [notify.NAME] of the inventory [default: all of them]
    #[arg(value_name = "NAME")]
    pub(crate) names: Vec<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct RevokeArgs {
    /// Certificate of the inventory
    #[arg(value_name = "CERTIFICATE")]
    pub(crate) certificate: String,
    /// Generation [default: the newest]
    #[arg(long, value_name = "NUMBER")]
    pub(crate) generation: Option<u32>,
    /// Why; with key-compromise another certificate with a new key is put in its place first
    #[arg(long, value_name = "REASON", default_value = "unspecified", value_parser = revocation())]
    pub(crate) reason: Revocation,
    /// Sign with the certificate's own key, for one that another account got
    #[arg(long)]
    pub(crate) with_key: bool,
    /// Also while servers still show it
    #[arg(long)]
    pub(crate) insist: bool,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}

/// Reads the word for a reason.
fn revocation() -> impl TypedValueParser<Value = Revocation> {
    PossibleValuesParser::new(Revocation::VARIANTS).map(|word| word.parse().expect("it is one of the possible words"))
}

/// What is done with the accounts at authorities.
#[derive(Debug, Subcommand)]
pub(crate) enum AccountCommand {
    /// Show an account as its authority knows it
    Show(AccountArgs),
    /// Make the account where there is none, and tell the authority the contact of the inventory
    Open(AccountArgs),
    /// Give the account another key
    NewKey(AccountArgs),
    /// Take in the account that a key from another machine has
    Take(AccountTakeArgs),
    /// End the account for good
    End(AccountEndArgs),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct AccountArgs {
    /// Authority, by its name in the inventory [default: the only one]
    #[arg(value_name = "AUTHORITY")]
    pub(crate) authority: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct AccountTakeArgs {
    /// The key (PEM)
    #[arg(value_name = "KEY-FILE")]
    pub(crate) key: PathBuf,
    /// Authority, by its name in the inventory [default: the only one]
    #[arg(value_name = "AUTHORITY")]
    pub(crate) authority: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct AccountEndArgs {
    /// Authority, by its name in the inventory
    #[arg(value_name = "AUTHORITY")]
    pub(crate) authority: String,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}
