//! The command line of `links`.

use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum LinksCommand {
    /// Find addresses that still say http, in pages, programs, JSON and dumps; nothing is changed
    Find(LinksPlaces),
    /// Change them to https; copies of the files of before are kept
    Mend(LinksMendArgs),
}

#[derive(Debug, Default, ClapArgs)]
pub(crate) struct LinksPlaces {
    /// Files and folders to look through [default: this folder]
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only addresses of this host; `*.NAME` for all one level below (can be repeated) [default: the names in the inventory]
    #[arg(long = "site", value_name = "HOST")]
    pub(crate) hosts: Vec<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct LinksMendArgs {
    #[command(flatten)]
    pub(crate) places: LinksPlaces,
    /// Only say what would be changed
    #[arg(long)]
    pub(crate) plan: bool,
    /// Put the files of the last change back as they were
    #[arg(long, conflicts_with_all = ["plan", "paths", "hosts", "keep_times"])]
    pub(crate) undo: bool,
    /// Keep the time at which a file was changed last
    #[arg(long)]
    pub(crate) keep_times: bool,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}
