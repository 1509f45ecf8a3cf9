//! The lifetimes of certificates as a picture: a line for each, from left to right as time goes.

use super::{Page, PageCertificate, escape};
use crate::words;
use jiff::{SignedDuration, Timestamp, ToSpan};
use std::fmt::Write;

/// The width of the picture, of the part for names, and of a line, in the picture's own units.
const WIDTH: f64 = 960.0;
const NAMES: f64 = 190.0;
const ROW: f64 = 24.0;
const TOP: f64 = 26.0;
/// So much is shown before and after today at the least.
const LEAST: SignedDuration = SignedDuration::from_hours(24 * 14);
/// No more is shown of the past.
const PAST: SignedDuration = SignedDuration::from_hours(24 * 120);
/// No more is shown of the future.
const FUTURE: SignedDuration = SignedDuration::from_hours(24 * 420);

struct Scale {
    from: Timestamp,
    seconds: f64,
}

impl Scale {
    fn of(page: &Page) -> Self {
        let all = || page.certificates.iter().flat_map(|one| one.generations.iter().chain(&one.validity));
        let first = all().map(|validity| validity.not_before).min().unwrap_or(page.at);
        let last = all().map(|validity| validity.not_after).max().unwrap_or(page.at);
        let from = first.clamp(page.at - PAST, page.at - LEAST);
        let until = last.clamp(page.at + LEAST, page.at + FUTURE);
        Scale { from, seconds: until.duration_since(from).as_secs_f64() }
    }

    /// Returns where an instant is from left to right, within the picture.
    fn x(&self, at: Timestamp) -> f64 {
        let share = at.duration_since(self.from).as_secs_f64() / self.seconds;
        NAMES + share.clamp(0.0, 1.0) * (WIDTH - NAMES)
    }
}

/// Draws the timeline of a page; the table of the page says the same in words.
pub(super) fn draw(page: &Page) -> String {
    let scale = Scale::of(page);
    let rows = f64::from(u32::try_from(page.certificates.len()).unwrap_or(u32::MAX));
    let height = TOP + rows * ROW + 8.0;
    let mut out = format!(
        "<svg viewBox=\"0 0 {WIDTH} {height}\" role=\"img\" aria-label=\"Lifetimes of all certificates; the table below says the same\">\n"
    );
    months(&mut out, &scale, height);
    for (n, one) in (0_u32..).zip(&page.certificates) {
        row(&mut out, &scale, page.at, one, TOP + f64::from(n) * ROW);
    }
    let today = scale.x(page.at);
    let _ = writeln!(
        out,
        "<line class=\"today\" x1=\"{today:.1}\" y1=\"{:.1}\" x2=\"{today:.1}\" y2=\"{height:.1}\"/>",
        TOP - 6.0
    );
    out + "</svg>\n"
}

/// A mark for the first day of each month, or of each third or sixth where there are many.
fn months(out: &mut String, scale: &Scale, height: f64) {
    let step = match scale.seconds {
        ..=16_000_000.0 => 1,
        ..=40_000_000.0 => 3,
        _ => 6,
    };
    let zone = jiff::tz::TimeZone::UTC;
    let until = scale.from + SignedDuration::from_secs_f64(scale.seconds);
    let first = scale.from.to_zoned(zone).first_of_month();
    let Ok(mut month) = first.and_then(|day| day.start_of_day()) else { return };
    while month.timestamp() < until {
        if month.timestamp() > scale.from && (month.month() - 1) % step == 0 {
            let x = scale.x(month.timestamp());
            let _ = writeln!(
                out,
                "<line class=\"grid\" x1=\"{x:.1}\" y1=\"{:.1}\" x2=\"{x:.1}\" y2=\"{height:.1}\"/>",
                TOP - 6.0
            );
            if x < WIDTH - 50.0 {
                let _ = writeln!(
                    out,
                    "<text class=\"faint\" x=\"{:.1}\" y=\"14\">{}</text>",
                    x + 3.0,
                    month.strftime("%Y-%m")
                );
            }
        }
        let Ok(next) = month.checked_add(1.month()) else { return };
        month = next;
    }
}

fn row(out: &mut String, scale: &Scale, now: Timestamp, one: &PageCertificate, y: f64) {
    let name: String = one.certificate.chars().take(26).collect();
    let _ = writeln!(out, "<text x=\"0\" y=\"{:.1}\">{}</text>", y + 15.0, escape(&name));
    let mut bar = |class: &str, from: Timestamp, until: Timestamp, inset: f64| {
        let (left, right) = (scale.x(from), scale.x(until));
        if right > left {
            let _ = writeln!(
                out,
                "<rect class=\"{class}\" x=\"{left:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{:.1}\" rx=\"3\"/>",
                y + 4.0 + inset,
                right - left,
                ROW - 10.0 - 2.0 * inset
            );
        }
    };
    for validity in &one.generations {
        // Those of before are thinner.
        let inset = if Some(*validity) == one.validity { 0.0 } else { 4.0 };
        if inset > 0.0 {
            bar("past", validity.not_before, validity.not_after, inset);
        }
    }
    if let Some(validity) = one.validity {
        let class = if now >= validity.not_after { "over" } else { "now" };
        bar(class, validity.not_before, validity.not_after, 0.0);
    }
    if let Some(at) = one.renew_at.filter(|at| *at > now) {
        let (x, y) = (scale.x(at), y + ROW / 2.0 - 1.0);
        let _ = writeln!(
            out,
            "<path class=\"renewal\" d=\"M{x:.1} {:.1} l6 6 l-6 6 l-6 -6 z\"><title>{}: renewal on {}</title></path>",
            y - 6.0,
            escape(&one.certificate),
            words::day(at)
        );
    }
}
