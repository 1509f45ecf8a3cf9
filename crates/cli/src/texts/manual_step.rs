//! What a person has to do, in words: carry a CSR, show control, place records.

use crate::draw::table::{Cell, Page, draw};
use crate::draw::tone::Tone;
use eskort_core::manual::{Asked, AskedProof, OrderNotes};
use eskort_core::manual::{ManualStep, ProofSight};
use eskort_core::record::{RecordToPlace, RecordType};
use eskort_core::words;

/// Returns what a person has to do with a CSR, and what is known of the order.
pub(crate) fn manual_step(manual_step: &ManualStep, page: Page) -> String {
    let ManualStep { certificate, notes, authority, .. } = manual_step;
    let ordered = notes.is_ordered();
    let mut out = match ordered {
        true => format!("  The order is with authority `{authority}`:\n\n"),
        false => format!("  Carry this CSR to authority `{authority}`:\n\n"),
    };
    let mut rows = Vec::new();
    let mut row = |what: &str, value: String, tone| {
        rows.push(vec![Cell::toned(format!("    {what}"), Tone::Faint), Cell::toned(value, tone)]);
    };
    row("CSR", manual_step.csr.display().to_string(), Tone::Plain);
    if let Some(place) = &manual_step.submit_to {
        row("submit to", place.clone(), Tone::Plain);
    }
    if let Some(path) = &manual_step.copy {
        row("dropped", path.display().to_string(), Tone::Plain);
    }
    if let Some(path) = &manual_step.answers_folder {
        row("answer", format!("is looked for in {}", path.display()), Tone::Plain);
    }
    for (what, text, tone) in note_lines(notes) {
        row(what, text, tone);
    }
    match &manual_step.proof {
        Some(ProofSight::Seen { at }) => at.iter().for_each(|at| row("seen", at.clone(), Tone::Good)),
        Some(ProofSight::NotSeen { why, .. }) => row("not seen", why.clone(), Tone::Notice),
        Some(ProofSight::Mail) | None => {}
    }
    out.push_str(&draw(&["", ""], &rows, page));
    if let Some(ProofSight::NotSeen { to_place, .. }) = &manual_step.proof
        && !to_place.is_empty()
    {
        out.push_str(&format!("\n{}", records_to_place(to_place)));
    }
    if !ordered {
        out.push_str(&format!("\n{}", manual_step.csr_pem));
    }
    out.push('\n');
    for line in next_steps(manual_step, certificate) {
        for (n, part) in crate::draw::table::wrap(&line, page.width.saturating_sub(2)).into_iter().enumerate() {
            out.push_str(&format!("{}{part}\n", if n == 0 { "  " } else { "    " }));
        }
    }
    out
}

/// Returns what is noted of an order, each with what it is called.
pub(crate) fn note_lines(notes: &OrderNotes) -> Vec<(&'static str, String, Tone)> {
    let mut lines = Vec::new();
    let placed = notes.placed.map(|day| format!("placed on {day}"));
    let order: Vec<String> = notes.order.iter().cloned().chain(placed).collect();
    if !order.is_empty() {
        lines.push(("order", order.join(", "), Tone::Plain));
    }
    for (what, text) in [("page", &notes.page), ("remark", &notes.remark)] {
        lines.extend(text.iter().map(|text| (what, text.clone(), Tone::Plain)));
    }
    if let Some(notified) = notes.notified {
        lines.push(("notified", format!("on {}; validation in progress", words::day(notified)), Tone::Good));
    }
    if let Some(asked) = &notes.asked {
        lines.push(("asked", proof_words(asked), Tone::Strong));
        if let Asked::Record(record) = &asked.what {
            let text = format!("{}. {} {}", record.name, record.kind.word(), record.zone_data());
            lines.push(("", text, Tone::Plain));
        }
    }
    lines
}

fn next_steps(manual_step: &ManualStep, certificate: &str) -> Vec<String> {
    let notes = &manual_step.notes;
    let then = format!("then `eskort note {certificate} --notified`");
    let mut steps = Vec::new();
    match (&notes.asked, &manual_step.proof) {
        _ if notes.notified.is_some() => {}
        (Some(AskedProof { what: Asked::Mail { to }, .. }), _) => {
            steps.push(format!("Do what the mail to {to} says; {then}."));
        }
        (Some(_), Some(ProofSight::Seen { .. })) => {
            steps.push(format!("What the authority asks for can be seen: notify it that it may look; {then}."));
        }
        (Some(AskedProof { by: None, .. }), _) => {
            steps.push("Put it there; `eskort keep` looks again. With a proof of the inventory Eskort does it: --by PROOF.".into());
        }
        (Some(_), _) => steps.push("`eskort keep` looks again.".into()),
        (None, _) if notes.order.is_none() => steps.push(format!(
            "What they say there can be noted with `eskort note {certificate}`: the order's number, its page, and what is \
             asked as proof, which Eskort publishes."
        )),
        (None, _) => {}
    }
    steps.push("When the answer is here: `eskort receive FILE…`, in whatever shape it came.".into());
    steps
}

fn proof_words(asked: &AskedProof) -> String {
    let what = match &asked.what {
        Asked::File { path, text } => format!("the file /{path} ({})", words::count(text.len() as u64, "byte")),
        Asked::Record(record) => format!("a {} record", record.kind.word()),
        Asked::Mail { to } => return format!("a mail to {to}"),
    };
    match &asked.by {
        Some(by) => format!("{what}, published by proof `{by}`"),
        None => format!("{what}, which you publish"),
    }
}

/// Returns what a person has to place, and the same as lines of a zone file.
pub(crate) fn records_to_place(records: &[RecordToPlace]) -> String {
    let kind = records.first().map_or("", |r| r.record.kind.word());
    let same = records.iter().all(|r| r.record.kind.word() == kind);
    let what = if same { format!("{kind} record") } else { "record".to_owned() };
    let count = words::count(records.len() as u64, &what);
    let for_good = records.iter().any(|r| r.for_good);
    let stays = if for_good { ", once and for good" } else { "" };
    let who = if kind == RecordType::Tlsa.word() { "visitors" } else { "the authority" };
    let mut out = format!("  Place {}{stays} where {who} will look:\n", Tone::Strong.paint(&count));
    for r in records {
        let lines = [
            ("zone", r.zone.clone()),
            ("name", format!("{}   (in full {})", r.name_in_zone(), r.record.name)),
            ("type", r.record.kind.word().to_owned()),
            ("value", Tone::Strong.paint(&r.record.text)),
            ("TTL", r.ttl.to_string()),
        ];
        out.push('\n');
        for (what, value) in lines {
            out.push_str(&format!("    {} {value}\n", Tone::Faint.paint(&format!("{what:<5}"))));
        }
    }
    out.push_str("\n  The same for a zone file:\n\n");
    for r in records {
        out.push_str(&format!("    {}\n", r.zone_line()));
    }
    out
}
