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

    /// Returns when renewal is due where it has to begin `lead` before the end at the latest; never before half of the
    /// lifetime is over.
    pub fn renew_at_with(&self, lead: SignedDuration) -> Timestamp {
        let half = self.not_after.checked_sub(self.lifetime() / 2).unwrap_or(self.not_before);
        let latest = self.not_after.checked_sub(lead).unwrap_or(self.not_before).max(half);
        self.renew_at().min(latest)
    }

    /// Returns whether renewal is due at `now`, where it has to begin `lead` before the end at the latest.
    pub fn is_due(&self, lead: SignedDuration, now: Timestamp) -> bool {
        now >= self.renew_at_with(lead)
    }

    /// Returns how much of the lifetime is left at `now`, from 1.0 (just begun) to 0.0 (over).
    pub fn share_left(&self, now: Timestamp) -> f64 {
        share(self.not_after.duration_since(now), self.lifetime())
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
            assert!(v.is_due(SignedDuration::ZERO, v.renew_at()));
            assert!(days == 0 || !v.is_due(SignedDuration::ZERO, v.renew_at() - SignedDuration::from_secs(1)));
        }
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
