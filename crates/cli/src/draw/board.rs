//! The live table of certificates that are worked on side by side: what each is at, and for how long.

use crate::draw::tone::Tone;
use eskort_core::journey::Milestone;
use eskort_core::progress::TurnEnd;
use eskort_core::words;
use std::collections::BTreeMap;
use std::time::Instant;

/// Cells of the bar in the first line.
const CELLS: usize = 24;
/// A certificate's name takes no more room than this.
const WIDEST_NAME: usize = 28;

/// What a certificate is at.
struct Row {
    /// How many of the six stages it has passed.
    passed: usize,
    doing: String,
    since: Instant,
}

/// The certificates of a run that are worked on side by side.
pub(crate) struct Board {
    certificates: usize,
    /// How much room their names take.
    room: usize,
    rows: BTreeMap<String, Row>,
    done: usize,
    waiting: usize,
    left_alone: usize,
    failed: usize,
}

impl Board {
    /// Returns a board for certificates, none of which has been begun.
    pub(crate) fn new(certificates: &[String]) -> Self {
        let room = certificates.iter().map(|name| name.chars().count()).max().unwrap_or(0).min(WIDEST_NAME);
        Board {
            certificates: certificates.len(),
            room,
            rows: BTreeMap::new(),
            done: 0,
            waiting: 0,
            left_alone: 0,
            failed: 0,
        }
    }

    /// Returns a certificate's name as it stands at the beginning of a line.
    pub(crate) fn lead(&self, name: &str) -> String {
        format!("  {}  ", Tone::Strong.paint(&shortened(name, self.room)))
    }

    fn row(&mut self, name: &str, now: Instant) -> &mut Row {
        let begun = || Row { passed: 0, doing: "begin".to_owned(), since: now };
        self.rows.entry(name.to_owned()).or_insert_with(begun)
    }

    /// Takes in what a certificate is at; returns whether that is something else than before.
    pub(crate) fn doing(&mut self, name: &str, doing: &str, now: Instant) -> bool {
        let row = self.row(name, now);
        let changed = row.doing != doing;
        if changed {
            doing.clone_into(&mut row.doing);
            row.since = now;
        }
        changed
    }

    /// Takes in that a certificate has passed a stage.
    pub(crate) fn passed(&mut self, name: &str, milestone: Milestone, now: Instant) {
        self.row(name, now).passed = place_of(milestone);
    }

    /// Takes in that a certificate's turn is over.
    pub(crate) fn ended(&mut self, name: &str, end: &TurnEnd) {
        self.rows.remove(name);
        *match end {
            TurnEnd::Done => &mut self.done,
            TurnEnd::Waits => &mut self.waiting,
            TurnEnd::LeftAlone => &mut self.left_alone,
            TurnEnd::Failed(_) => &mut self.failed,
        } += 1;
    }

    /// Returns the board in lines: one that counts, and one for each certificate under way, as many as there is room for.
    pub(crate) fn lines(&self, (width, height): (usize, usize), now: Instant) -> Vec<String> {
        let over = self.done + self.waiting + self.left_alone + self.failed;
        let to_come = self.certificates.saturating_sub(over + self.rows.len());
        let filled = (over * CELLS).checked_div(self.certificates).unwrap_or(CELLS);
        let bar = format!("{}{}", "▆".repeat(filled), "▁".repeat(CELLS - filled));
        let count = |n: usize, what: &str| (n > 0).then(|| format!("{n} {what}"));
        let counts = [
            Some(format!("{} of {} done", self.done, self.certificates)),
            count(self.failed, "failed").map(|text| Tone::Bad.paint(&text)),
            count(self.waiting, "waiting for somebody").map(|text| Tone::Notice.paint(&text)),
            count(self.left_alone, "left alone"),
            count(self.rows.len(), "under way"),
            count(to_come, "to come"),
        ];
        let counts: Vec<String> = counts.into_iter().flatten().collect();
        let mut lines = vec![format!("  {}  {}", Tone::Good.paint(&bar), counts.join(", "))];
        let mut rows: Vec<(&String, &Row)> = self.rows.iter().collect();
        rows.sort_by(|(a, _), (b, _)| words::natural_order(a, b));
        let room = height.saturating_sub(2).max(1);
        let hidden = if rows.len() > room { rows.len() - (room - 1).max(1) } else { 0 };
        rows.truncate(rows.len() - hidden);
        for (name, Row { passed, doing, since }) in rows {
            let steps = steps(*passed);
            let age = now.saturating_duration_since(*since);
            // What has just begun has no age worth reading.
            let age = match age.as_secs() {
                0..2 => String::new(),
                _ => format!(", {}", words::duration(age.try_into().unwrap_or_default())),
            };
            let taken = 2 + self.room + 2 + Milestone::ALL.len() + 2 + 2 + 12;
            let doing = shortened(doing, width.saturating_sub(taken).max(10)).trim_end().to_owned();
            let line = format!("{}{}  {doing}{age}", self.lead(name), Tone::Good.paint(&steps));
            lines.push(line);
        }
        if hidden > 0 {
            lines.push(format!("  and {hidden} more under way"));
        }
        lines
    }
}

/// Returns how many of the six stages are passed with this one.
pub(crate) fn place_of(milestone: Milestone) -> usize {
    Milestone::ALL.iter().position(|m| *m == milestone).unwrap_or(0) + 1
}

/// Returns the six stages as boxes; those that are passed are filled.
pub(crate) fn steps(passed: usize) -> String {
    format!("{}{}", "■".repeat(passed), "□".repeat(Milestone::ALL.len() - passed))
}

/// Returns a text that takes so many columns: filled up, or cut with a sign for that.
fn shortened(text: &str, columns: usize) -> String {
    if text.chars().count() <= columns {
        return format!("{text:<columns$}");
    }
    text.chars().take(columns.saturating_sub(1)).chain(['…']).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    fn drawn(board: &Board, size: (usize, usize), now: Instant) -> Vec<String> {
        board.lines(size, now).iter().map(|line| anstream::adapter::strip_str(line).to_string()).collect()
    }

    #[test]
    fn says_what_each_is_at_and_counts_the_others() {
        let begun = Instant::now();
        let later = begun + Duration::from_secs(4);
        let mut board = Board::new(&(1..=20).map(|n| format!("c{n}")).collect::<Vec<_>>());
        for n in [10, 2, 1] {
            board.doing(&format!("c{n}"), "place the order", begun);
        }
        board.passed("c10", Milestone::Ordered, begun);
        board.doing("c10", "waiting for validation", later);
        board.doing("c10", "waiting for validation", later + Duration::from_secs(60));
        board.ended("c1", &TurnEnd::Done);
        board.ended("c3", &TurnEnd::Failed("refused".into()));
        board.ended("c4", &TurnEnd::Waits);
        assert_eq!(
            drawn(&board, (80, 24), later + Duration::from_secs(2)),
            [
                "  ▆▆▆▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁▁  1 of 20 done, 1 failed, 1 waiting for somebody, 2 under way, 15 to come",
                "  c2   □□□□□□  place the order, 6 seconds",
                "  c10  ■■□□□□  waiting for validation, 2 seconds",
            ]
        );
        board.doing("c5", "x", later);
        assert_eq!(drawn(&board, (80, 24), later)[2], "  c5   □□□□□□  x");
        assert_eq!(
            drawn(&board, (80, 4), later)[1..],
            ["  c2   □□□□□□  place the order, 4 seconds", "  and 2 more under way"]
        );
        board.doing("lighthouse-with-a-very-long-name.lampholm.example", &"a long story ".repeat(9), later);
        for line in drawn(&board, (80, 24), later).iter().skip(1) {
            assert!(line.chars().count() <= 80, "{line}");
        }
    }
}
