//! The command line of `links`.

use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum LinksCommand {
    /// Find addresses that still say http, in pages, programs, JSON, dumps and databases; nothing is changed
    Find(LinksFindArgs),
    /// Change them to https; copies of what was there before are kept
    Mend(LinksMendArgs),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct LinksFindArgs {
    #[command(flatten)]
    pub(crate) places: LinksPlaces,
    /// Read so many pages of each live site
    #[arg(long, value_name = "PAGES", default_value_t = 20)]
    pub(crate) pages: usize,
    /// Ask the other hosts that are found whether they answer over https
    #[arg(long)]
    pub(crate) ask_others: bool,
}

#[derive(Debug, Default, ClapArgs)]
pub(crate) struct LinksPlaces {
    /// Files and folders to look through [default: this folder]; for `find` also live sites, like https://www.lampholm.example/
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only addresses of this host; `*.NAME` for all one level below (can be repeated) [default: the names in the inventory]
    #[arg(long = "site", value_name = "HOST")]
    pub(crate) hosts: Vec<String>,
    /// Live database of this machine, like mysql://USER@/NAME, postgres://USER@127.0.0.1/NAME or sqlite:FILE (can be repeated)
    #[arg(long = "database", value_name = "ADDRESS")]
    pub(crate) databases: Vec<String>,
    /// Live database that this file of the site's configuration names, with its login (can be repeated)
    #[arg(long = "database-of", value_name = "FILE")]
    pub(crate) databases_of: Vec<PathBuf>,
    /// File with the password of the databases
    #[arg(long, value_name = "FILE")]
    pub(crate) password_file: Option<PathBuf>,
    /// Variable of the environment with that password
    #[arg(long, value_name = "NAME", conflicts_with = "password_file")]
    pub(crate) password_env: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct LinksMendArgs {
    #[command(flatten)]
    pub(crate) places: LinksPlaces,
    /// Only say what would be changed
    #[arg(long)]
    pub(crate) plan: bool,
    /// Put the files and values of the last change back as they were
    #[arg(long, conflicts_with_all = ["plan", "paths", "hosts", "keep_times", "databases", "databases_of"])]
    pub(crate) undo: bool,
    /// Keep the time at which a file was changed last
    #[arg(long)]
    pub(crate) keep_times: bool,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}
