//! Which old generations are kept.

use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeSet;

/// For how long old generations are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Keeping {
    /// So many of each certificate at least, the newest counted: two or more, since somebody may want to go back.
    pub generations: u32,
    /// For so long after they came, at least.
    pub time: SignedDuration,
}

impl Default for Keeping {
    fn default() -> Self {
        Keeping { generations: 3, time: SignedDuration::from_hours(24 * 30) }
    }
}

/// Returns the generations of a certificate whose files go at `now`. `generations` has the number of each that has files, and when it came, in
/// any order; those `in_use` stay: servers show them, or a journey needs them.
pub fn to_sweep(
    generations: &[(u32, Timestamp)],
    in_use: &BTreeSet<u32>,
    keeping: Keeping,
    now: Timestamp,
) -> Vec<u32> {
    let mut newest_first = generations.to_vec();
    newest_first.sort_by_key(|(number, _)| std::cmp::Reverse(*number));
    let kept = usize::try_from(keeping.generations.max(2)).unwrap_or(usize::MAX);
    let is_old =
        |(number, came): &(u32, Timestamp)| !in_use.contains(number) && now.duration_since(*came) > keeping.time;
    newest_first.into_iter().skip(kept).filter(is_old).map(|(number, _)| number).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn old_ones_go_but_for_those_in_use() {
        let day = |n: i64| Timestamp::from_second(1_800_000_000).unwrap() + SignedDuration::from_hours(24 * n);
        let all: Vec<(u32, Timestamp)> = (1..=6).map(|n| (n, day(i64::from(n) * 60))).collect();
        let keeping = |generations, days: i64| Keeping { generations, time: SignedDuration::from_hours(24 * days) };
        let table: [(Keeping, &[u32], i64, &[u32]); 6] = [
            (Keeping::default(), &[6], 365, &[3, 2, 1]),
            (keeping(2, 30), &[6], 365, &[4, 3, 2, 1]),
            // One is not enough to go back.
            (keeping(0, 30), &[6], 365, &[4, 3, 2, 1]),
            (keeping(2, 150), &[6], 365, &[3, 2, 1]),
            (keeping(2, 30), &[6, 3, 1], 365, &[4, 2]),
            // A clock that went back.
            (keeping(2, 30), &[6], 10, &[]),
        ];
        for (keeping, in_use, now, swept) in table {
            let in_use = in_use.iter().copied().collect();
            assert_eq!(to_sweep(&all, &in_use, keeping, day(now)), swept, "{keeping:?} on day {now}");
        }
    }
}
