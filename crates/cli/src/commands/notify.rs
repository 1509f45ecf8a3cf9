//! `eskort notify`

use super::block_on;
use crate::args::{NotifyCommand, NotifyTestArgs};
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{NotifyError, NotifyView};
use eskort_core::context::Context;
use eskort_core::words;
use jiff::Timestamp;
use serde::Serialize;

const NOBODY: &str =
    "The inventory has no [notify.NAME] section, so nobody is told what is new; docs/notify.md has examples.";

pub(crate) fn run(ui: &Ui, context: &Context, command: &NotifyCommand) -> ExitStatus {
    match command {
        NotifyCommand::Show => show(ui, context),
        NotifyCommand::Test(args) => test(ui, context, args),
    }
}

#[derive(Serialize)]
struct Report<T> {
    at: Timestamp,
    notify: Vec<T>,
}

fn show(ui: &Ui, context: &Context) -> ExitStatus {
    let views = match block_on(eskort_app::look_at_news(context)) {
        Ok(views) => views,
        Err(error) => return errors::print_store(ui, &error),
    };
    let waits = views.iter().any(|view| view.waiting > 0);
    if ui.is_json() {
        ui.json("notify-show", &Report { at: context.now(), notify: views });
    } else if views.is_empty() {
        ui.talk(NOBODY);
    } else {
        let row = |view: &NotifyView| {
            let state = match (view.since, &view.trouble) {
                (None, _) => Cell::plain("nothing waits"),
                (Some(since), trouble) => {
                    let waited = words::duration(context.now().duration_since(since));
                    let why = trouble.as_ref().map(|trouble| format!(": {trouble}")).unwrap_or_default();
                    let pieces = words::count(view.waiting as u64, "piece");
                    Cell::toned(format!("{pieces} of news not delivered for {waited}{why}"), Tone::Notice)
                }
            };
            vec![Cell::toned(&view.name, Tone::Strong), Cell::plain(view.kind), Cell::plain(&view.to), state]
        };
        let rows: Vec<Vec<Cell>> = views.iter().map(row).collect();
        ui.result(&draw(&["NOTIFY", "KIND", "TO", "STATE"], &rows, ui.page()));
    }
    if waits { ExitStatus::NeedsAttention } else { ExitStatus::Well }
}

#[derive(Serialize)]
struct Tested<'a> {
    name: &'a str,
    delivered: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<ErrorText>,
}

fn test(ui: &Ui, context: &Context, args: &NotifyTestArgs) -> ExitStatus {
    let known = &context.inventory.notify;
    if let Some(name) = args.names.iter().find(|name| !known.contains_key(*name)) {
        let names: Vec<&String> = known.keys().collect();
        let hint = match names[..] {
            [] => "add a section [notify.NAME]; docs/notify.md has examples".to_owned(),
            _ => format!("the inventory has {}", words::list(&names)),
        };
        let headline = format!("{} has no [notify.{name}]", context.inventory_path.display());
        errors::print(ui, &headline, &ErrorText::coded("no-such-notify", "").hint(hint));
        return ExitStatus::Usage;
    }
    let tested = block_on(eskort_app::test_news(context, &args.names));
    let failed = tested.iter().any(|(_, result)| result.is_err());
    for (name, result) in &tested {
        match result {
            Ok(()) => ui.talk(&format!("`{name}`: delivered to {}", known[*name].goes_to())),
            Err(error) => errors::print(ui, &format!("`{name}` was not told"), &tell(error)),
        }
    }
    if ui.is_json() {
        let notify = tested.iter().map(|(name, result)| Tested {
            name,
            delivered: result.is_ok(),
            error: result.as_ref().err().map(tell),
        });
        ui.json("notify-test", &Report { at: context.now(), notify: notify.collect() });
    } else if tested.is_empty() {
        ui.talk(NOBODY);
    }
    if failed { ExitStatus::Failed } else { ExitStatus::Well }
}

fn tell(error: &NotifyError) -> ErrorText {
    let hint = match error {
        NotifyError::Mail { .. } => {
            "check `server`, `tls` and the login; a server with a certificate of your own authority needs `roots`"
        }
        NotifyError::Webhook { .. } => {
            "check `address`; a server with a certificate of your own authority needs `roots`"
        }
        NotifyError::Program(_) => "run the program by hand; it gets the message as JSON on its standard input",
        NotifyError::Log { .. } => "is there such a log on this machine? `to` takes \"journal\" or \"syslog\"",
        NotifyError::Secret(_) | NotifyError::File { .. } => {
            "check the path in the inventory, and who may read the file"
        }
        NotifyError::TimedOut { .. } => "is the server slow or silent? `timeout` gives it more time",
    };
    ErrorText::coded(error.into(), error.to_string()).hint(hint)
}
