//! `eskort links`

use super::block_on;
use crate::args::{LinksCommand, LinksFindArgs, LinksMendArgs, LinksPlaces};
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::password::{self, PasswordArgs};
use crate::ui::Ui;
use eskort_app::{
    AddressError, DatabaseAddress, DatabaseError, DatabaseLogin, Example, LeftAlone, LinkTable, LinksError,
    LinksOptions, LinksReport, OverHttps, ask_others, find_links, find_on_sites, mend_links, read_site_settings,
    undo_links,
};
use eskort_core::context::Context;
use eskort_core::pki::Secret;
use eskort_core::words;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use url::Url;

/// So many files and hosts are named; JSON names all.
const SHOWN: usize = 15;

pub(crate) fn run(ui: &Ui, context: &Context, command: &LinksCommand) -> ExitStatus {
    match command {
        LinksCommand::Find(args) => find(ui, context, args),
        LinksCommand::Mend(args) if args.undo => undo(ui, context, &args.places),
        LinksCommand::Mend(args) => mend(ui, context, args),
    }
}

fn options(ui: &Ui, places: &LinksPlaces, keep_times: bool) -> Result<LinksOptions, ExitStatus> {
    let databases = databases(ui, places)?;
    let here = || if databases.is_empty() { vec![PathBuf::from(".")] } else { Vec::new() };
    let all = if places.paths.is_empty() { here() } else { places.paths.clone() };
    let is_site =
        |path: &PathBuf| path.to_str().is_some_and(|text| text.starts_with("http://") || text.starts_with("https://"));
    let (sites, paths): (Vec<PathBuf>, Vec<PathBuf>) = all.into_iter().partition(is_site);
    let sites = sites.iter().map(|site| Url::parse(&site.display().to_string())).collect::<Result<Vec<_>, _>>();
    let sites = sites.map_err(|error| {
        let hint = "write it like https://www.lampholm.example/";
        errors::print(ui, "a site cannot be read", &ErrorText::coded("usage", error.to_string()).hint(hint));
        ExitStatus::Usage
    })?;
    Ok(LinksOptions { paths, hosts: places.hosts.clone(), keep_times, databases, sites, pages: 0 })
}

fn password(ui: &Ui, places: &LinksPlaces) -> Result<Option<Secret<String>>, ExitStatus> {
    let given = PasswordArgs::new(places.password_file.clone(), places.password_env.clone()).given();
    given.map_err(|cause| {
        errors::print(ui, "no password for the databases", &ErrorText::coded("password", cause));
        ExitStatus::Usage
    })
}

fn databases(ui: &Ui, places: &LinksPlaces) -> Result<Vec<DatabaseLogin>, ExitStatus> {
    let password = password(ui, places)?;
    let mut found = Vec::new();
    for text in &places.databases {
        let address = DatabaseAddress::parse(text).map_err(|error| {
            let hint = match error {
                AddressError::Malformed(_) => {
                    "write mysql://USER@/NAME, postgres://USER@127.0.0.1:5432/NAME or sqlite:FILE"
                }
                AddressError::HasPassword => "leave it out, and name a file with it: --password-file FILE",
                AddressError::Elsewhere(_) => {
                    "run Eskort on that machine, or lead a port of this one there: ssh -L 3307:127.0.0.1:3306 MACHINE"
                }
            };
            errors::print(ui, "a database cannot be used", &ErrorText::coded("usage", error.to_string()).hint(hint));
            ExitStatus::Usage
        })?;
        found.push(DatabaseLogin { address, password: password.clone() });
    }
    for path in &places.databases_of {
        let mut login = read_site_settings(path).map_err(|error| failed(ui, "a database cannot be used", &error))?;
        login.password = password.clone().or(login.password);
        found.push(login);
    }
    Ok(found)
}

fn find(ui: &Ui, context: &Context, args: &LinksFindArgs) -> ExitStatus {
    let options = match options(ui, &args.places, false) {
        Ok(options) => LinksOptions { pages: args.pages, ..options },
        Err(status) => return status,
    };
    let found = find_links(context, &options).and_then(|mut report| {
        block_on(async {
            find_on_sites(context, &options, &mut report).await?;
            if args.ask_others {
                ask_others(context, &mut report).await;
            }
            Ok(report)
        })
    });
    match found {
        Ok(report) => {
            ui.settle();
            if ui.is_json() {
                ui.json("links", &report);
            } else {
                print(ui, &report, false);
                if report.addresses > 0 {
                    ui.result("\n`eskort links mend` changes them, with `--plan` only as a preview.");
                }
            }
            let is_silent = |site: &Url| report.left_alone.iter().any(|left| left.path == Path::new(site.as_str()));
            match report.addresses > 0 || options.sites.iter().any(is_silent) {
                true => ExitStatus::NeedsAttention,
                false => ExitStatus::Well,
            }
        }
        Err(error) => failed(ui, "links cannot be looked for", &error),
    }
}

fn mend(ui: &Ui, context: &Context, args: &LinksMendArgs) -> ExitStatus {
    let options = match options(ui, &args.places, args.keep_times) {
        Ok(options) => options,
        Err(status) => return status,
    };
    if let Some(site) = options.sites.first() {
        let hint = "name its folder, or its database with --database";
        let cause = ErrorText::coded("usage", "a live site cannot be changed from outside").hint(hint);
        errors::print(ui, &format!("nothing of {site} is changed"), &cause);
        return ExitStatus::Usage;
    }
    if args.plan || !args.yes {
        let report = match find_links(context, &options) {
            Ok(report) => report,
            Err(error) => return failed(ui, "links cannot be looked for", &error),
        };
        ui.settle();
        if args.plan && ui.is_json() {
            ui.json("links", &report);
            return ExitStatus::Well;
        }
        if !ui.is_json() {
            print(ui, &report, false);
        }
        if args.plan {
            ui.result("\nOnly a plan: nothing was changed.");
            return ExitStatus::Well;
        }
        if report.addresses == 0 {
            if ui.is_json() {
                ui.json("links", &report);
            }
            return ExitStatus::Well;
        }
        if !password::on_terminal() {
            return errors::print_unconfirmed(
                ui,
                "nothing was changed",
                "`--yes` confirms it, `--plan` shows what would be changed",
            );
        }
        let count = words::count(report.addresses, "address");
        let places = places(&report);
        let question = format!("This changes {count} in {places}; copies are kept. Type yes to do it");
        if !password::says_yes(ui, &question) {
            ui.talk("Nothing was changed.");
            return ExitStatus::NeedsAttention;
        }
    }
    match mend_links(context, &options) {
        Ok(report) => {
            ui.settle();
            print_mended(ui, &report);
            ExitStatus::Well
        }
        Err(error) => failed(ui, "links cannot be changed", &error),
    }
}

/// Tells what was changed.
pub(super) fn print_mended(ui: &Ui, report: &LinksReport) {
    if ui.is_json() {
        return ui.json("links", report);
    }
    print(ui, report, true);
    if let Some(copies) = &report.copies {
        let copies = copies.display();
        ui.result(&format!("\nWhat was there before is in {copies}; `eskort links mend --undo` puts them back."));
    }
}

fn undo(ui: &Ui, context: &Context, places: &LinksPlaces) -> ExitStatus {
    let password = match password(ui, places) {
        Ok(password) => password,
        Err(status) => return status,
    };
    let undone = match undo_links(context, password.as_ref()) {
        Ok(undone) => undone,
        Err(error) => return failed(ui, "nothing was put back", &error),
    };
    if ui.is_json() {
        ui.json("links-undo", &undone);
    } else {
        let values = match undone.values {
            0 => String::new(),
            count => format!(" and {} of databases", words::count(count, "value")),
        };
        ui.result(&format!("{}{values} as before.", words::count(undone.restored.len() as u64, "file")));
        if undone.values_left > 0 {
            let count = words::count(undone.values_left, "value");
            ui.result(&Tone::Notice.paint(&format!("  stays: {count} of databases, changed or removed since")));
        }
        for path in &undone.left_alone {
            ui.result(&Tone::Notice.paint(&format!("  stays: {}, which was changed since", path.display())));
        }
        if let Some(copies) = &undone.copies {
            ui.result(&format!("  what was there before is in {}", copies.display()));
        }
    }
    if undone.left_alone.is_empty() && undone.values_left == 0 { ExitStatus::Well } else { ExitStatus::NeedsAttention }
}

pub(super) fn failed(ui: &Ui, what: &str, error: &LinksError) -> ExitStatus {
    let text = ErrorText::coded(
        match error {
            LinksError::NoHosts => "no-hosts",
            LinksError::Path { .. } => "path",
            LinksError::Copy { .. } => "copy",
            LinksError::Site { .. } => "site",
            LinksError::Database(_) => "database",
            LinksError::Settings { .. } => "settings",
            LinksError::NothingToUndo => "nothing-to-undo",
        },
        error.to_string(),
    );
    let text = match error {
        LinksError::NoHosts => text.hint("name the site: --site lampholm.example"),
        LinksError::Path { .. } => text.hint("name a file or folder that exists and that you may read"),
        LinksError::Copy { .. } => text.hint("is the state folder writable, and is there room?"),
        LinksError::Site { .. } => text.hint("is the name written right?"),
        LinksError::Database(DatabaseError::NoConnection { .. }) => {
            text.hint("is the address right, and does the server run? --password-file FILE has the password")
        }
        LinksError::Database(DatabaseError::Refused { .. }) => {
            text.hint("may the user read and change the tables? What was changed before this can be taken back")
        }
        LinksError::Settings { .. } => text.hint("name the database itself: --database mysql://USER@/NAME"),
        LinksError::NothingToUndo => text.hint("only the last change by `eskort links mend` on this machine is known"),
    };
    errors::print(ui, what, &text);
    ExitStatus::Failed
}

/// Says in how many places something is.
fn places(report: &LinksReport) -> String {
    let files = words::count(report.files.len() as u64, "file");
    match report.tables.len() as u64 {
        0 => files,
        tables if report.files.is_empty() => words::count(tables, "table"),
        tables => format!("{files} and {}", words::count(tables, "table")),
    }
}

fn print(ui: &Ui, report: &LinksReport, is_done: bool) {
    let LinksReport { hosts, read, read_tables, addresses, files, tables, left, left_alone, examples, .. } = report;
    let what = if is_done { "changed to https" } else { "over http" };
    let sites = if hosts.len() > 4 { words::count(hosts.len() as u64, "host") } else { words::list(hosts) };
    ui.result_wrapped(
        "",
        &format!(
            "{} of {sites} {what}, in {} ({} read).",
            Tone::Strong.paint(&words::count(*addresses, "address")),
            places(report),
            match read_tables {
                0 => read.to_string(),
                tables => words::list(&[words::count(*read as u64, "file"), words::count(*tables as u64, "table")]),
            }
        ),
    );
    if !tables.is_empty() {
        ui.result("");
        let row = |LinkTable { database, table, addresses }: &LinkTable| {
            vec![Cell::plain(format!("{addresses:>6}")), Cell::plain(table), Cell::plain(database)]
        };
        let rows: Vec<Vec<Cell>> = tables.iter().take(SHOWN).map(row).collect();
        ui.result(&draw(&[" COUNT", "TABLE", "OF"], &rows, ui.page()));
        more(ui, tables.len(), "table");
    }
    if !files.is_empty() {
        ui.result("");
        let row =
            |path: &Path, count: u64| vec![Cell::plain(format!("{count:>6}")), Cell::plain(path.display().to_string())];
        let rows: Vec<Vec<Cell>> = files.iter().take(SHOWN).map(|file| row(&file.path, file.addresses)).collect();
        ui.result(&draw(&[" COUNT", "FILE"], &rows, ui.page()));
        more(ui, files.len(), "file");
    }
    if !examples.is_empty() {
        ui.result(if is_done { "\nSuch as:" } else { "\nIt would read:" });
    }
    for Example { path, row, line, before, after } in examples {
        let at = match row {
            Some(row) => format!("  {}, row {}", path.display(), words::printable(row, 60)),
            None => format!("  {}:{line}", path.display()),
        };
        ui.result(&Tone::Faint.paint(&at));
        ui.result(&Tone::Bad.paint(&format!("  - {before}")));
        ui.result(&Tone::Good.paint(&format!("  + {after}")));
    }
    if !left.is_empty() || !left_alone.is_empty() {
        ui.result("\nThis stays as it is:");
    }
    for (why, count) in left {
        ui.result_wrapped("  ", &format!("{}: {}", words::count(*count, "address"), why.words()));
    }
    for LeftAlone { path, why } in left_alone.iter().take(SHOWN) {
        ui.result_wrapped("  ", &format!("{}: {why}", path.display()));
    }
    more(ui, left_alone.len(), "file");
    print_others(ui, &report.others, &report.others_over_https);
}

fn print_others(ui: &Ui, others: &BTreeMap<String, u64>, over_https: &BTreeMap<String, OverHttps>) {
    if others.is_empty() {
        return;
    }
    ui.result("\nOf other hosts, over http too:");
    let mut sorted: Vec<(&String, &u64)> = others.iter().collect();
    sorted.sort_by(|a, b| b.1.cmp(a.1).then_with(|| a.0.cmp(b.0)));
    for (host, count) in sorted.iter().take(SHOWN) {
        let (tone, answers) = match over_https.get(*host) {
            None => (Tone::Plain, ""),
            Some(OverHttps::Answers) => (Tone::Good, "  answers over https"),
            Some(OverHttps::Untrusted) => {
                (Tone::Notice, "  answers over https with a certificate that visitors do not trust")
            }
            Some(OverHttps::Silent) => (Tone::Bad, "  does not answer over https"),
        };
        ui.result(&format!("  {count:>6}  {}{}", words::printable(host, 80), tone.paint(answers)));
    }
    more(ui, others.len(), "host");
}

fn more(ui: &Ui, count: usize, what: &str) {
    if count > SHOWN {
        ui.result(&Tone::Faint.paint(&format!("  and {} more", words::count((count - SHOWN) as u64, what))));
    }
}
