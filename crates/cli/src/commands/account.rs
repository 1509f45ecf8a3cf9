//! `eskort account`

use super::block_on;
use crate::args::{AccountArgs, AccountCommand, AccountEndArgs, AccountTakeArgs};
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::password;
use crate::ui::Ui;
use eskort_app::{AccountView, StepError, bring_account, change_account_key, end_account, show_account, take_account};
use eskort_core::context::Context;
use eskort_core::words;
use jiff::Timestamp;
use serde::Serialize;

/// So many addresses of orders are printed.
const MOST_ORDERS: usize = 10;

pub(crate) fn run(ui: &Ui, context: &Context, command: &AccountCommand) -> ExitStatus {
    let authority = match command {
        AccountCommand::Show(AccountArgs { authority })
        | AccountCommand::Open(AccountArgs { authority })
        | AccountCommand::NewKey(AccountArgs { authority })
        | AccountCommand::Take(AccountTakeArgs { authority, .. }) => authority.as_deref(),
        AccountCommand::End(AccountEndArgs { authority, .. }) => Some(authority.as_str()),
    };
    let name = match chosen(ui, context, authority) {
        Ok(name) => name,
        Err(status) => return status,
    };
    let done = match command {
        AccountCommand::Show(_) => Ok(()),
        AccountCommand::Open(_) => block_on(bring_account(context, name)),
        AccountCommand::NewKey(_) => block_on(change_account_key(context, name)),
        AccountCommand::Take(args) => block_on(take_account(context, name, &args.key)).map(drop),
        AccountCommand::End(args) => return end(ui, context, name, args.yes),
    };
    match done {
        Ok(()) => show(ui, context, name),
        Err(error) => failed(ui, name, &error),
    }
}

/// Returns an authority that speaks ACME: the one that was named, or the only one.
fn chosen<'a>(ui: &Ui, context: &'a Context, wanted: Option<&str>) -> Result<&'a str, ExitStatus> {
    let speaking = context.inventory.authorities.iter().filter(|(_, authority)| authority.acme().is_some());
    let known: Vec<&str> = speaking.map(|(name, _)| name.as_str()).collect();
    let found = match wanted {
        Some(wanted) => known.iter().find(|name| **name == wanted),
        None => known.first().filter(|_| known.len() == 1),
    };
    if let Some(found) = found {
        return Ok(found);
    }
    let hint = match known[..] {
        [] => "the inventory has no authority of kind acme".to_owned(),
        _ => format!("those of kind acme are {}", words::list(&known)),
    };
    let headline = match wanted {
        Some(wanted) => format!("{} has no authority `{wanted}` with accounts", context.inventory_path.display()),
        None => "which authority is meant is not clear".to_owned(),
    };
    errors::print(ui, &headline, &ErrorText::coded("no-such-authority", "").hint(hint));
    Err(ExitStatus::Usage)
}

fn failed(ui: &Ui, name: &str, error: &StepError) -> ExitStatus {
    ui.settle();
    errors::print(ui, &format!("the account at `{name}`"), &errors::tell(error, "NAME"));
    match error {
        StepError::Store(eskort_store::StoreError::Busy { .. }) => ExitStatus::Busy,
        _ => ExitStatus::Failed,
    }
}

#[derive(Serialize)]
struct Report {
    at: Timestamp,
    account: AccountView,
}

fn show(ui: &Ui, context: &Context, name: &str) -> ExitStatus {
    let view = match block_on(show_account(context, name)) {
        Ok(view) => view,
        Err(error) => return failed(ui, name, &error),
    };
    ui.settle();
    if ui.is_json() {
        ui.json("account", &Report { at: context.now(), account: view });
        return ExitStatus::Well;
    }
    let mut rows = Vec::new();
    let mut fact = |name: &str, value: String, tone: Tone| {
        rows.push(vec![Cell::toned(name, Tone::Faint), Cell::toned(value, tone)]);
    };
    fact("directory", view.directory.clone(), Tone::Plain);
    match &view.url {
        None => fact("account", "none yet; the first order makes it, or `eskort account open`".into(), Tone::Notice),
        Some(url) => fact("account", url.clone(), Tone::Plain),
    }
    if let Some(status) = &view.status {
        fact("state", status.clone(), if status == "valid" { Tone::Good } else { Tone::Bad });
    }
    let theirs: Vec<&str> = view.contact.iter().map(|address| address.trim_start_matches("mailto:")).collect();
    let wanted = view.wanted_contact.as_deref();
    match (&view.url, wanted) {
        (Some(_), Some(wanted)) if !theirs.contains(&wanted) && !theirs.is_empty() => {
            let text = format!("{}; the inventory says {wanted}: the next order tells it", theirs.join(" "));
            fact("contact", text, Tone::Notice);
        }
        (_, wanted) => {
            let text = if theirs.is_empty() { wanted.unwrap_or("nobody").to_owned() } else { theirs.join(" ") };
            fact("contact", text, Tone::Plain);
        }
    }
    if let Some(thumbprint) = &view.thumbprint {
        fact("key", thumbprint.clone(), Tone::Plain);
        fact("", view.key_file.display().to_string(), Tone::Plain);
    }
    if let Some(external) = &view.external_account {
        fact("bound to", external.clone(), Tone::Plain);
    }
    if let Some(terms) = &view.terms {
        fact("terms", words::printable(terms, 200), Tone::Plain);
    }
    if let Some(agreed) = &view.agreed_terms {
        fact("", format!("those that were agreed to: {}", words::printable(agreed, 200)), Tone::Notice);
    }
    if let Some(orders) = &view.orders {
        fact("orders", words::count(orders.len() as u64, "order"), Tone::Plain);
        for url in orders.iter().rev().take(MOST_ORDERS) {
            fact("", words::printable(url, 200), Tone::Plain);
        }
    }
    ui.result(&format!("{}\n{}", Tone::Strong.paint(name), draw(&["", ""], &rows, ui.page())));
    ExitStatus::Well
}

fn end(ui: &Ui, context: &Context, name: &str, yes: bool) -> ExitStatus {
    let question = format!(
        "This ends the account at `{name}` for good. Its certificates stay good; the next order makes a new account. Type yes to do it"
    );
    if !yes && !password::on_terminal() {
        return errors::print_unconfirmed(ui, "the account was not ended", "`--yes` confirms it");
    }
    if !yes && !password::says_yes(ui, &question) {
        ui.talk("The account stays.");
        return ExitStatus::Well;
    }
    let ended = match block_on(end_account(context, name)) {
        Ok(ended) => ended,
        Err(error) => return failed(ui, name, &error),
    };
    ui.settle();
    if ui.is_json() {
        return show(ui, context, name);
    }
    ui.result(&if ended { format!("The account at `{name}` is ended.") } else { format!("`{name}` has no account.") });
    ExitStatus::Well
}
