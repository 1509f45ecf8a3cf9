//! `eskort help`: a guide for each situation, and the help of commands.

use crate::args::{Args, HelpArgs};
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::texts::situations::{SITUATIONS, Situation};
use crate::ui::Ui;
use clap::CommandFactory;
use serde::Serialize;

pub(crate) fn run(ui: &Ui, args: &HelpArgs) -> ExitStatus {
    let Some(first) = args.about.first() else {
        list(ui);
        return ExitStatus::Well;
    };
    if let Some(situation) =
        SITUATIONS.iter().find(|situation| situation.name == first).filter(|_| args.about.len() == 1)
    {
        print(ui, situation);
        return ExitStatus::Well;
    }
    let mut program = Args::command();
    program.build();
    let mut named = &mut program;
    for word in &args.about {
        let Some(found) = named.find_subcommand_mut(word) else {
            let hint = "`eskort help` lists all situations, `eskort --help` all commands";
            let text = ErrorText::coded("no-such-help", "").hint(hint);
            errors::print(ui, &format!("`{}` is neither a situation nor a command", args.about.join(" ")), &text);
            return ExitStatus::Usage;
        };
        named = found;
    }
    let help = named.render_long_help();
    ui.result(&if ui.page().colour { help.ansi().to_string() } else { help.to_string() });
    ExitStatus::Well
}

#[derive(Serialize)]
struct Listed {
    name: &'static str,
    title: &'static str,
}

fn listed(situation: &Situation) -> Listed {
    Listed { name: situation.name, title: situation.title() }
}

fn list(ui: &Ui) {
    if ui.is_json() {
        #[derive(Serialize)]
        struct Report {
            situations: Vec<Listed>,
        }
        return ui.json("help", &Report { situations: SITUATIONS.iter().map(listed).collect() });
    }
    let row = |situation: &Situation| {
        vec![Cell::toned(format!("  {}", situation.name), Tone::Strong), Cell::plain(situation.title())]
    };
    let rows: Vec<Vec<Cell>> = SITUATIONS.iter().map(row).collect();
    ui.result(&format!(
        "A guide for each situation: what to have ready, the commands, what comes back, what goes wrong most.\n\n{}\n\
         `eskort help mail` shows one, `eskort help keep` what a command takes, `eskort --help` all commands.",
        draw(&["", ""], &rows, ui.page())
    ));
}

fn print(ui: &Ui, situation: &Situation) {
    if ui.is_json() {
        #[derive(Serialize)]
        struct Report {
            #[serde(flatten)]
            listed: Listed,
            markdown: &'static str,
        }
        return ui.json("guide", &Report { listed: listed(situation), markdown: situation.page });
    }
    ui.result(&situation.text(ui.width()));
}
