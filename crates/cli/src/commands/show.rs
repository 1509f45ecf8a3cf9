//! `eskort show`

use super::list::tone;
use super::{block_on, known_certificate, load, load_if_there};
use crate::args::ShowArgs;
use crate::draw::bar::lifetime_bar;
use crate::draw::table::{Cell, Page, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::texts::event::event;
use crate::texts::manual_step;
use crate::ui::Ui;
use eskort_app::{
    AnswerError, AskedView, DebtView, FileView, GenerationView, InspectError, JourneyView, KeyView, OursView, RampView,
    Show, State,
};
use eskort_core::context::Context;
use eskort_core::journey::Milestone;
use eskort_core::pki::IntakeError;
use eskort_core::renewal::Window;
use eskort_core::words;
use eskort_store::{InstallRow, InstallState};
use jiff::{SignedDuration, Timestamp};
use std::path::{Path, PathBuf};

pub(crate) fn run(ui: &Ui, config: Option<PathBuf>, args: &ShowArgs) -> ExitStatus {
    let is_file = Path::new(&args.name).is_file();
    let context = match if is_file { load_if_there(ui, config) } else { load(ui, config).map(Some) } {
        Ok(context) => context,
        Err(status) => return status,
    };
    match context {
        Some(context) if !is_file || context.inventory.certificates.contains_key(&args.name) => {
            certificate(ui, &context, &args.name)
        }
        context => file(ui, context.as_ref(), args),
    }
}

fn certificate(ui: &Ui, context: &Context, name: &str) -> ExitStatus {
    if let Err(status) = known_certificate(ui, context, name) {
        return status;
    }
    match block_on(eskort_app::show(context, name)) {
        Err(error) => errors::print_store(ui, &error),
        Ok(shown) => {
            let shown = shown.expect("the certificate is in the inventory");
            if ui.is_json() {
                ui.json("show", &shown);
            } else {
                ui.result(&text(&shown, context.now(), ui.page()));
            }
            ExitStatus::Well
        }
    }
}

fn file(ui: &Ui, context: Option<&Context>, args: &ShowArgs) -> ExitStatus {
    let failed = |text: &ErrorText| {
        errors::print(ui, &format!("no certificate or key found in {}", words::printable(&args.name, 200)), text);
        ExitStatus::Failed
    };
    let path = Path::new(&args.name);
    let bytes = match std::fs::read(path) {
        Ok(bytes) => bytes,
        Err(source) => return failed(&errors::tell_answer(&AnswerError::Read { path: path.to_owned(), source })),
    };
    let now = context.map_or_else(Timestamp::now, |context| context.now());
    let view = args.password.open(
        |error| matches!(error, InspectError::Intake(IntakeError::NeedsPassword(_) | IntakeError::WrongPassword(_))),
        InspectError::Password,
        |password| block_on(eskort_app::inspect(context, &args.name, &bytes, password, now)),
    );
    match view {
        Err(InspectError::Intake(error)) => {
            let mut text = errors::tell_answer(&AnswerError::Intake(error));
            if eskort_core::pki::find_csr(&bytes).is_some() {
                text.hints = vec![format!("it is a CSR: `eskort csr read {}`", args.name)];
            }
            failed(&text)
        }
        Err(error) => failed(&ErrorText::coded((&error).into(), error.to_string())),
        Ok(view) => {
            if ui.is_json() {
                ui.json("show-file", &view);
            } else {
                ui.result(&file_text(&view, now, ui.page()));
            }
            ExitStatus::Well
        }
    }
}

fn file_text(view: &FileView, now: Timestamp, page: Page) -> String {
    let mut out = String::new();
    for (n, c) in view.certificates.iter().enumerate() {
        let what = match n {
            0 if view.in_chain > 0 && !c.is_ca => "certificate",
            _ if c.is_root => "root",
            _ if n < view.in_chain && c.is_ca => "intermediate",
            _ => "beside it",
        };
        let title = c.names.first().filter(|_| !c.is_ca).unwrap_or(&c.subject);
        if n > 0 {
            out.push('\n');
        }
        out.push_str(&format!("{}  {}\n", Tone::Strong.paint(title), Tone::Faint.paint(what)));
        let mut rows = Vec::new();
        if !c.names.is_empty() {
            rows.push(fact("  names", c.names.join(" ")));
        }
        if !c.subject.is_empty() && c.subject != *title {
            rows.push(fact("  subject", c.subject.clone()));
        }
        rows.push(fact("  issuer", c.issuer.clone()));
        let (bar, tone) = lifetime_bar(&c.validity, c.validity.renew_at(), now);
        rows.push(vec![Cell::toned("  life left", Tone::Faint), Cell::toned(bar, tone)]);
        let (from, until) = (words::day(c.validity.not_before), words::day(c.validity.not_after));
        let good = if c.is_good_at(now) { "" } else { "; not valid today" };
        rows.push(fact("", format!("{from} to {until}{good}")));
        rows.push(fact("  key", c.key.clone()));
        rows.push(fact("  serial", c.serial.clone()));
        rows.push(fact("  SHA-256", c.fingerprint.clone()));
        if let Some(OursView { certificate, generation }) = &c.ours {
            let text = format!("our key, that of generation {generation} of `{certificate}`");
            rows.push(vec![Cell::toned("  whose", Tone::Faint), Cell::toned(text, Tone::Good)]);
        }
        out.push_str(&draw(&["", ""], &rows, page));
    }
    for KeyView { kind, fits } in &view.keys {
        let fits = if *fits { "it matches the certificate" } else { "it matches no certificate here" };
        out.push_str(&format!("{}  {kind}; {fits}\n", Tone::Strong.paint("private key")));
    }
    if let Some(issuer) = &view.missing_issuer {
        let text = format!("missing: the certificate of `{issuer}`, without which visitors may not trust this one");
        out.push_str(&format!("{}\n", Tone::Notice.paint(&text)));
    }
    for what in &view.left_aside {
        out.push_str(&format!("{}\n", Tone::Faint.paint(&format!("left aside: {}", words::printable(what, 200)))));
    }
    out
}

/// Says how long a certificate lasts, when it is renewed, and what its authority says of that.
fn renewal_rows(shown: &Show, now: Timestamp) -> Vec<Vec<Cell>> {
    let mut rows = Vec::new();
    if let Some((v, renew_at)) = shown.row.validity.as_ref().zip(shown.row.renew_at) {
        let (bar, tone) = lifetime_bar(v, renew_at, now);
        rows.push(vec![Cell::toned("life left", Tone::Faint), Cell::toned(bar, tone)]);
        let left = v.not_after.duration_since(now);
        let end = if left.is_negative() { "over since" } else { "until" };
        let renewal =
            if now >= renew_at { "renewal is due".into() } else { format!("renewal on {}", words::day(renew_at)) };
        rows.push(fact("", format!("{}, {end} {}; {renewal}", words::duration(left), words::instant(v.not_after))));
    }
    if let Some(AskedView { window, trouble, .. }) = &shown.asked_renewal {
        if let Some(Window { start, end, explanation }) = window {
            let why = explanation.as_ref().map(|url| format!("; why: {url}")).unwrap_or_default();
            let (from, until) = (words::instant(*start), words::instant(*end));
            rows.push(fact("", format!("its authority wants it renewed between {from} and {until}{why}")));
        }
        if let Some(trouble) = trouble {
            let text = format!("its authority does not say when to renew it: {trouble}");
            rows.push(vec![Cell::plain(""), Cell::toned(text, Tone::Notice)]);
        }
    }
    rows
}

fn text(shown: &Show, now: Timestamp, page: Page) -> String {
    let mut rows = vec![
        fact("names", shown.row.names.join(" ")),
        vec![Cell::toned("state", Tone::Faint), Cell::toned(shown.row.state.words(), tone(&shown.row.state))],
    ];
    if let State::Failing { reason: why, .. } | State::Unconfirmed { why } = &shown.row.state {
        rows.push(fact("why", why.clone()));
    }
    if let State::Failing { fault: Some(fault), .. } = &shown.row.state {
        rows.push(fact("look at", fault.words().to_owned()));
    }
    if let Some(JourneyView { generation, passed }) = shown.journey {
        rows.push(fact("journey", format!("to generation {generation}: {}", stages(passed))));
    }
    for (what, text, tone) in shown.notes.iter().flat_map(manual_step::note_lines) {
        rows.push(vec![Cell::toned(what, Tone::Faint), Cell::toned(text, tone)]);
    }
    rows.extend(renewal_rows(shown, now));
    rows.push(fact("authority", shown.authority.clone()));
    if !shown.proof.is_empty() {
        rows.push(fact("proof", shown.proof.clone()));
    }
    rows.push(fact("key", shown.key.clone()));
    rows.push(fact("servers", if shown.servers.is_empty() { "none".into() } else { shown.servers.join(" ") }));
    rows.push(fact("files", shown.folder.display().to_string()));
    for RampView { server, max_age, next, .. } in &shown.ramps {
        let time = words::duration(SignedDuration::from_secs(i64::from(*max_age)));
        let next = next.map(|at| format!("; for longer from {} on, if all is well until then", words::instant(at)));
        rows.push(fact("HSTS", format!("{time} on `{server}`{}", next.unwrap_or_default())));
    }
    for record in &shown.to_place {
        let text = format!("{}. {} {}, then run `eskort keep`", record.name, record.kind.word(), record.zone_data());
        rows.push(vec![Cell::toned("place", Tone::Notice), Cell::toned(text, Tone::Notice)]);
    }
    for DebtView { what, trouble, by_hand } in &shown.debts {
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
    if !shown.installs.is_empty() {
        let newest = shown.generations.first().map(|g| g.number);
        let has = |i: &&InstallRow| Some(i.generation) == newest && i.state != InstallState::Failed;
        let (have, all) = (shown.installs.iter().filter(has).count(), shown.installs.len());
        let rows: Vec<Vec<Cell>> = shown.installs.iter().map(install).collect();
        out.push('\n');
        out.push_str(&draw(&["SERVER", "GENERATION", "STATE", "SINCE", "SEEN"], &rows, page));
        if all > 1 {
            out.push_str(&format!("{have} of {all} servers have the newest generation\n"));
        }
    }
    if !shown.events.is_empty() {
        let rows: Vec<Vec<Cell>> = shown
            .events
            .iter()
            .map(|e| vec![Cell::plain(words::instant(e.at)), Cell::plain(event(&e.event))])
            .collect();
        out.push('\n');
        out.push_str(&draw(&["WHEN", "WHAT HAPPENED"], &rows, page));
    }
    out
}

fn install(i: &InstallRow) -> Vec<Cell> {
    let tone = match i.state {
        InstallState::Confirmed => Tone::Good,
        InstallState::Installed if i.seen.is_none() => Tone::Plain,
        InstallState::Installed => Tone::Notice,
        InstallState::Failed => Tone::Bad,
    };
    let server = if i.machine.is_empty() { i.server.clone() } else { format!("{} on {}", i.server, i.machine) };
    vec![
        Cell::toned(server, Tone::Strong),
        Cell::plain(i.generation.to_string()),
        Cell::toned(i.state.word(), tone),
        Cell::plain(words::day(i.changed)),
        Cell::plain(i.seen.clone().unwrap_or_default()),
    ]
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
        match (g.in_use, g.revoked, g.swept) {
            (_, Some(_), _) => Cell::toned("revoked", Tone::Bad),
            (true, None, _) => Cell::toned("in use", Tone::Good),
            (false, None, Some(_)) => Cell::toned("removed", Tone::Faint),
            (false, None, None) => Cell::plain(""),
        },
        Cell::plain(words::day(g.validity.not_before)),
        Cell::plain(words::day(g.validity.not_after)),
        Cell::plain(&g.key),
        Cell::plain(g.confirmed.map(words::day).unwrap_or_else(|| "not yet".into())),
        Cell::plain(&g.issuer),
    ]
}
