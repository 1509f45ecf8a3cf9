//! When a certificate is renewed.

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

/// Lifetimes below this are renewed at half, since a third of them would leave too little room for mending.
const SHORT_LIFETIME: SignedDuration = SignedDuration::from_hours(10 * 24);

/// The two ends of a certificate's validity.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Validity {
    /// The first instant it is good.
    pub not_before: Timestamp,
    /// The last instant it is good.
    pub not_after: Timestamp,
}

impl Validity {
    /// Returns the whole lifetime.
    pub fn lifetime(&self) -> SignedDuration {
        self.not_after.duration_since(self.not_before)
    }

    /// Returns when renewal is due: when a third of the lifetime is left, or half of it for lifetimes under ten days.
    pub fn renew_at(&self) -> Timestamp {
        let lifetime = self.lifetime();
        let left = if lifetime < SHORT_LIFETIME { lifetime / 2 } else { lifetime / 3 };
        self.not_after.checked_sub(left).unwrap_or(self.not_before)
    }

    /// Returns how much of the lifetime is left at `now`, from 1.0 (just begun) to 0.0 (over).
    pub fn share_left(&self, now: Timestamp) -> f64 {
        share(self.not_after.duration_since(now), self.lifetime())
    }
}

/// What the inventory says of when a certificate is renewed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Timing {
    /// How long before its end a renewal has to begin at the latest.
    pub lead: SignedDuration,
    /// What its share of the spread is drawn from, the same each time; `None` where nothing is spread: a person does several at once.
    pub seed: Option<String>,
}

impl Timing {
    /// Returns when renewal is due: as the lifetime says, up to a thirtieth of the lifetime earlier (a different share for each seed), and
    /// `lead` before the end at the latest; but never before half of the lifetime is over.
    pub fn renew_at(&self, validity: &Validity) -> Timestamp {
        let before = |end: Timestamp, time| end.checked_sub(time).unwrap_or(validity.not_before);
        let half = before(validity.not_after, validity.lifetime() / 2);
        let usual = validity.renew_at();
        let earliest = before(usual, validity.lifetime() / SPREAD);
        let spread = self.seed.as_ref().map_or(usual, |seed| moment_between(earliest, usual, seed));
        spread.min(before(validity.not_after, self.lead)).max(half.min(usual))
    }
}

/// The due moments of certificates that were made together lie within this part of their lifetime.
const SPREAD: i32 = 30;

/// Returns a moment between two, any, but the same one for the same seed.
pub(crate) fn moment_between(start: Timestamp, end: Timestamp, seed: &str) -> Timestamp {
    // FNV-1a, spread by a last multiplication: the same with each build of the program.
    let hash = seed
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3));
    let hash = (hash ^ (hash >> 32)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let length = end.duration_since(start).as_secs().max(0).unsigned_abs();
    let offset = (u128::from(hash) * u128::from(length)) >> 64;
    let offset = SignedDuration::from_secs(i64::try_from(offset).unwrap_or_default());
    let moment = start.checked_add(offset).unwrap_or(end);
    // In whole seconds, as the ledger keeps it.
    Timestamp::from_second(moment.as_second()).unwrap_or(moment)
}

/// When an authority wants a certificate renewed (RFC 9773 section 4.2).
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Window {
    /// From when on.
    pub start: Timestamp,
    /// Until when.
    pub end: Timestamp,
    /// The address of a page that says why.
    pub explanation: Option<String>,
}

impl Window {
    /// Returns a moment in it, any, but the same one for the same `seed`: so that all certificates are not renewed at once, and none twice.
    pub fn moment(&self, seed: &str) -> Timestamp {
        moment_between(self.start, self.end, seed)
    }
}

/// When a certificate is renewed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Renewal {
    /// From when on it is due.
    pub at: Timestamp,
    /// Whether its authority wants it then; else it follows from the lifetime.
    pub asked_for: bool,
}

impl Renewal {
    /// Returns when a certificate is renewed: when its authority `asked` for it, as long as that leaves a tenth of the lifetime for mending; else as
    /// its lifetime and the inventory say.
    pub fn of(validity: &Validity, timing: &Timing, asked: Option<Timestamp>) -> Self {
        let latest = validity.not_after.checked_sub(validity.lifetime() / 10).unwrap_or(validity.not_before);
        match asked.filter(|moment| *moment <= latest) {
            Some(at) => Renewal { at, asked_for: true },
            None => Renewal { at: timing.renew_at(validity), asked_for: false },
        }
    }
}

fn share(part: SignedDuration, whole: SignedDuration) -> f64 {
    if whole <= SignedDuration::ZERO {
        return 0.0;
    }
    (part.as_secs_f64() / whole.as_secs_f64()).clamp(0.0, 1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn validity(hours: i64) -> Validity {
        let not_before = Timestamp::from_second(1_800_000_000).unwrap();
        Validity { not_before, not_after: not_before + SignedDuration::from_hours(hours) }
    }

    #[test]
    fn due_at_a_third_or_half_of_the_lifetime() {
        for (days, due_after_hours) in [(90, 60 * 24), (10, 160), (9, 108), (6, 72), (1, 12), (0, 0)] {
            let v = validity(days * 24);
            assert_eq!(v.renew_at(), v.not_before + SignedDuration::from_hours(due_after_hours), "{days} days");
            assert_eq!(Timing::default().renew_at(&v), v.renew_at());
        }
    }

    #[test]
    fn those_made_together_are_spread_and_the_inventory_has_its_say() {
        for (days, earliest, latest) in [(90, 57 * 24, 60 * 24), (6, 72, 72), (12, 182, 192)] {
            let v = validity(days * 24);
            let of = |n: i64| Timing { seed: Some(format!("certificate {n}")), ..Timing::default() }.renew_at(&v);
            let hours: Vec<i64> = (0..200).map(|n| of(n).duration_since(v.not_before).as_hours()).collect();
            assert!(hours.iter().all(|hour| (earliest..=latest).contains(hour)), "{days} days: {hours:?}");
            let different = hours.iter().collect::<std::collections::BTreeSet<_>>().len();
            assert!(different as i64 >= (latest - earliest) / 2, "{days} days: {different} moments");
            assert_eq!(of(7), of(7));
        }
        // A lead counts where it is earlier, and never brings a renewal into the first half of the lifetime.
        let v = validity(90 * 24);
        for (lead, due_after) in [(10, 60), (40, 50), (80, 45)] {
            let timing = Timing { lead: SignedDuration::from_hours(lead * 24), seed: None };
            assert_eq!(timing.renew_at(&v).duration_since(v.not_before).as_hours(), due_after * 24, "{lead} days");
        }
    }

    #[test]
    fn a_window_has_its_moment_for_each_certificate() {
        let v = validity(90 * 24);
        let day = |n: i64| v.not_before + SignedDuration::from_hours(n * 24);
        let window = Window { start: day(50), end: day(54), explanation: None };
        let moments: Vec<Timestamp> = (0..200).map(|n| window.moment(&format!("certificate {n}"))).collect();
        assert!(moments.iter().all(|at| (window.start..window.end).contains(at)));
        // Each quarter has its share.
        for quarter in 0..4 {
            let within = moments.iter().filter(|at| (day(50 + quarter)..day(51 + quarter)).contains(at)).count();
            assert!((25..=75).contains(&within), "{within} of 200 in quarter {quarter}");
        }
        assert_eq!(window.moment("lamp"), window.moment("lamp"));
        assert_ne!(window.moment("lamp"), window.moment("wick"));
        let of = |window: Option<&Window>| Renewal::of(&v, &Timing::default(), window.map(|w| w.moment("lamp")));
        assert_eq!(of(Some(&window)), Renewal { at: window.moment("lamp"), asked_for: true });
        // A window in the past means now; one that is too late does not count, and neither does none.
        let past = Window { start: day(-3), end: day(-2), explanation: None };
        assert!(of(Some(&past)).at < v.not_before && of(Some(&past)).asked_for);
        let late = Window { start: day(88), end: day(89), explanation: None };
        assert_eq!(of(Some(&late)), of(None));
        assert_eq!(of(None), Renewal { at: v.renew_at(), asked_for: false });
    }

    #[test]
    fn shares_stay_between_nothing_and_all() {
        let v = validity(90 * 24);
        assert_eq!(v.share_left(v.not_before - SignedDuration::from_hours(5)), 1.0);
        assert_eq!(v.share_left(v.not_after + SignedDuration::from_hours(5)), 0.0);
        assert!((v.share_left(v.renew_at()) - 1.0 / 3.0).abs() < 1e-6);
        assert_eq!(validity(-4).share_left(v.not_before), 0.0);
    }
}
