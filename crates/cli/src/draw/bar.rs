//! Bars: how much of a certificate's life is left, and where renewal falls; how much of a budget is spent.

use crate::draw::tone::Tone;
use eskort_core::renewal::Validity;
use jiff::Timestamp;

/// Cells of the bar.
const CELLS: usize = 24;

/// Returns the bar and its tone. Full at the start of the lifetime, it empties from the right; `┊` stands where renewal
/// falls due. Its blocks leave air between the lines of a table.
pub(crate) fn lifetime_bar(validity: &Validity, renew_at: Timestamp, now: Timestamp) -> (String, Tone) {
    let cell = |share: f64| (share * CELLS as f64).round() as usize;
    let left = validity.share_left(now);
    let mark = cell(validity.share_left(renew_at)).min(CELLS - 1);
    // A certificate that is still good shows at least one cell.
    let filled = if left > 0.0 { cell(left).max(1) } else { 0 };
    let draw = |i: usize| match i {
        i if i == mark => '┊',
        i if i < filled => '▆',
        _ => '▁',
    };
    let tone = match left {
        l if l <= 0.0 => Tone::Bad,
        _ if now >= renew_at => Tone::Notice,
        _ => Tone::Good,
    };
    ((0..CELLS).map(draw).collect(), tone)
}

/// Returns the bar of a budget and its tone: what is spent from the left, what would be (`▒`), and what is left.
pub(crate) fn budget_bar(spent: u32, planned: u32, most: u32) -> (String, Tone) {
    let cells = |n: u32| (f64::from(n.min(most)) / f64::from(most.max(1)) * CELLS as f64).ceil() as usize;
    let (spent, all) = (cells(spent), cells(spent.saturating_add(planned)));
    let draw = |i: usize| match i {
        i if i < spent => '▆',
        i if i < all => '▒',
        _ => '▁',
    };
    let tone = match CELLS.saturating_sub(all) {
        0 => Tone::Bad,
        left if left <= CELLS / 4 => Tone::Notice,
        _ => Tone::Good,
    };
    ((0..CELLS).map(draw).collect(), tone)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::SignedDuration;

    #[test]
    fn empties_from_the_right_and_marks_renewal() {
        let not_before: Timestamp = "2026-01-01T00:00:00Z".parse().unwrap();
        let validity = Validity { not_before, not_after: not_before + SignedDuration::from_hours(90 * 24) };
        for (day, wanted, tone) in [
            (0, "▆▆▆▆▆▆▆▆┊▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆", Tone::Good),
            (45, "▆▆▆▆▆▆▆▆┊▆▆▆▁▁▁▁▁▁▁▁▁▁▁▁", Tone::Good),
            (75, "▆▆▆▆▁▁▁▁┊▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁", Tone::Notice),
            (89, "▆▁▁▁▁▁▁▁┊▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁", Tone::Notice),
            (91, "▁▁▁▁▁▁▁▁┊▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁", Tone::Bad),
        ] {
            let (drawn, toned) =
                lifetime_bar(&validity, validity.renew_at(), not_before + SignedDuration::from_hours(day * 24));
            assert_eq!((drawn.as_str(), toned), (wanted, tone), "day {day}");
        }
    }

    #[test]
    fn a_budget_fills_from_the_left() {
        for (spent, planned, most, wanted, tone) in [
            (0, 0, 200, "▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁", Tone::Good),
            (0, 1, 200, "▒▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁", Tone::Good),
            (20, 10, 40, "▆▆▆▆▆▆▆▆▆▆▆▆▒▒▒▒▒▒▁▁▁▁▁▁", Tone::Notice),
            (5, 0, 4, "▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆▆", Tone::Bad),
        ] {
            assert_eq!(budget_bar(spent, planned, most), (wanted.to_owned(), tone), "{spent} {planned} {most}");
        }
    }
}
