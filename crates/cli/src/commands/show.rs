//! `eskort show`

use super::known_certificate;
use super::list::tone;
use crate::args::ShowArgs;
use crate::bar::lifetime_bar;
use crate::errors;
use crate::table::{Cell, Page, draw};
use crate::ui::{ExitStatus, Tone, Ui};
use eskort_app::{App, GenerationView, Show, State};
use eskort_core::journey::Milestone;
use eskort_core::words;
use jiff::Timestamp;

pub(crate) fn run(ui: &Ui, app: &App, args: &ShowArgs) -> ExitStatus {
    if let Err(status) = known_certificate(ui, app, &args.name) {
        return status;
    }
    match eskort_app::show(app, &args.name) {
        Err(error) => errors::print_store(ui, &error),
        Ok(shown) => {
            let shown = shown.expect("the certificate is in the inventory");
            if ui.is_json() {
                ui.json("show", &shown);
            } else {
                ui.result(&text(&shown, (app.now)(), ui.page()));
            }
            ExitStatus::Well
        }
    }
}

fn text(shown: &Show, now: Timestamp, page: Page) -> String {
    let mut rows = vec![
        fact("names", shown.row.names.join(" ")),
        vec![Cell::toned("state", Tone::Faint), Cell::toned(shown.row.state.words(), tone(&shown.row.state))],
    ];
    if let State::Failing { reason, .. } = &shown.row.state {
        rows.push(fact("why", reason.clone()));
    }
    if let Some((generation, passed)) = shown.journey {
        rows.push(fact("journey", format!("to generation {generation}: {}", stages(passed))));
    }
    if let Some(v) = &shown.row.validity {
        let (bar, tone) = lifetime_bar(v, now);
        rows.push(vec![Cell::toned("life left", Tone::Faint), Cell::toned(bar, tone)]);
        let left = v.not_after.duration_since(now);
        let end = if left.is_negative() { "over since" } else { "until" };
        let renewal =
            if v.is_due(now) { "renewal is due".into() } else { format!("renewal on {}", words::day(v.renew_at())) };
        rows.push(fact("", format!("{}, {end} {}; {renewal}", words::duration(left), words::instant(v.not_after))));
    }
    rows.push(fact("authority", shown.authority.clone()));
    rows.push(fact("proof", shown.proof.clone()));
    rows.push(fact("key", shown.key.clone()));
    rows.push(fact("servers", if shown.servers.is_empty() { "none".into() } else { shown.servers.join(" ") }));
    rows.push(fact("files", shown.folder.display().to_string()));
    for record in &shown.to_place {
        let text = format!("{}. TXT \"{}\", then run `eskort keep`", record.name, record.text);
        rows.push(vec![Cell::toned("place", Tone::Notice), Cell::toned(text, Tone::Notice)]);
    }
    for (what, trouble, by_hand) in &shown.debts {
        let why = trouble.as_deref().map(|t| format!(" ({t})")).unwrap_or_default();
        let text = format!("{what} is still published{why}; by hand: {by_hand}");
        rows.push(vec![Cell::toned("left over", Tone::Notice), Cell::toned(text, Tone::Notice)]);
    }
    let mut out = format!("{}\n", Tone::Strong.paint(&shown.row.certificate));
    out.push_str(&draw(&["", ""], &rows, page));
    if !shown.generations.is_empty() {
        let rows: Vec<Vec<Cell>> = shown.generations.iter().map(generation).collect();
        out.push('\n');
        out.push_str(&draw(&["GENERATION", "", "FROM", "UNTIL", "KEY", "SEEN LIVE", "ISSUER"], &rows, page));
        let newest = &shown.generations[0];
        let text = format!("SHA-256 of generation {}:", newest.number);
        out.push_str(&format!("\n{}\n{}\n", Tone::Faint.paint(&text), newest.fingerprint));
    }
    if !shown.events.is_empty() {
        let rows: Vec<Vec<Cell>> =
            shown.events.iter().map(|e| vec![Cell::plain(words::instant(e.at)), Cell::plain(&e.text)]).collect();
        out.push('\n');
        out.push_str(&draw(&["WHEN", "WHAT HAPPENED"], &rows, page));
    }
    out
}

fn fact(name: &str, value: String) -> Vec<Cell> {
    vec![Cell::toned(name, Tone::Faint), Cell::plain(value)]
}

fn stages(passed: Option<Milestone>) -> String {
    let mark = |m: &Milestone| format!("{} {m}", if Some(*m) <= passed { "■" } else { "□" });
    Milestone::ALL.iter().map(mark).collect::<Vec<_>>().join("  ")
}

fn generation(g: &GenerationView) -> Vec<Cell> {
    vec![
        Cell::toned(g.number.to_string(), Tone::Strong),
        Cell::toned(if g.in_use { "in use" } else { "" }, Tone::Good),
        Cell::plain(words::day(g.validity.not_before)),
        Cell::plain(words::day(g.validity.not_after)),
        Cell::plain(&g.key),
        Cell::plain(g.confirmed.map(words::day).unwrap_or_else(|| "not yet".into())),
        Cell::plain(&g.issuer),
    ]
}
