//! The command lines of what keeps certificates, and tells of it.

use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

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
#[group(required = true, multiple = true)]
pub(crate) struct ReportArgs {
    /// Write metrics in the text format of OpenMetrics to this file, whole or not at all; `-` for standard output
    #[arg(long, value_name = "FILE")]
    pub(crate) metrics: Option<PathBuf>,
    /// Write a calendar with renewals and ends (iCalendar) to this file; `-` for standard output
    #[arg(long, value_name = "FILE")]
    pub(crate) calendar: Option<PathBuf>,
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
