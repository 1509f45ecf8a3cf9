//! Mistakes of an inventory, each shown at its place.

use crate::draw::tone::Tone;
use crate::ui::Ui;
use eskort_core::words;
use eskort_inventory::{Mistake, Mistakes};
use std::path::Path;

/// Prints the mistakes of an inventory.
pub(crate) fn print_mistakes(ui: &Ui, path: &Path, mistakes: &Mistakes) {
    ui.talk(&format!("{} {mistakes}; nothing was done", Tone::Bad.paint("error:")));
    for mistake in &mistakes.0 {
        let margin = " ".repeat(mistake.line.to_string().len());
        let place = format!("{}:{}:{}", path.display(), mistake.line, mistake.column);
        ui.talk("");
        ui.talk(&format!("{margin} {} {}", Tone::Faint.paint("in"), Tone::Faint.paint(&place)));
        let (text, before, width) = window(mistake, ui.width().saturating_sub(margin.len() + 3));
        ui.talk(&format!("{} {} {}", mistake.line, Tone::Faint.paint("|"), text));
        let marks = format!("{}{}", " ".repeat(before), "^".repeat(width));
        ui.talk(&format!("{margin} {} {}", Tone::Faint.paint("|"), Tone::Bad.paint(&marks)));
        ui.talk(&format!("{margin} {}", mistake.what));
        if let Some(advice) = &mistake.advice {
            ui.talk(&format!("{margin} {} {advice}", Tone::Strong.paint("hint:")));
        }
    }
}

/// Returns the part of a mistake's line that fits into `room`, how far in the mistake begins, and how wide it is there.
fn window(mistake: &Mistake, room: usize) -> (String, usize, usize) {
    let text = words::printable(&mistake.text, usize::MAX - 1);
    let (length, at) = (text.chars().count(), mistake.column - 1);
    if length <= room {
        return (text, at, mistake.width);
    }
    let lead = room / 3;
    let from = at.saturating_sub(lead).min(length.saturating_sub(room));
    let part: String = text.chars().skip(from).take(room).collect();
    let (front, end) = (if from > 0 { "…" } else { "" }, if from + room < length { "…" } else { "" });
    let inner: String = part.chars().skip(front.chars().count()).collect();
    let kept = room - front.chars().count() - end.chars().count();
    let shown = format!("{front}{}{end}", inner.chars().take(kept).collect::<String>());
    (shown, at - from, mistake.width.min(room - (at - from)))
}
