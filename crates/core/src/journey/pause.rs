//! When to ask an authority for something that is not there yet.

use jiff::SignedDuration;

const SHORTEST: SignedDuration = SignedDuration::from_millis(20);
const LONGEST: SignedDuration = SignedDuration::from_secs(15);

/// How long an authority usually needs for something, as far as a run has learned it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct UsualWait(SignedDuration);

impl Default for UsualWait {
    fn default() -> Self {
        UsualWait(SHORTEST)
    }
}

impl UsualWait {
    /// Learns from something that came in the end: for how long it was not there, as far as it was asked for in vain.
    pub fn learn(&mut self, in_vain: Option<SignedDuration>) {
        self.0 = match in_vain {
            // One that took uncommonly long moves it no farther than this.
            Some(in_vain) => in_vain.clamp(self.0, self.0 * 2).min(LONGEST),
            None => (self.0 - self.0 / 32).max(SHORTEST),
        };
    }

    /// Returns how long to wait before asking, having asked so many times in vain.
    ///
    /// The authority's `Retry-After` rules when there is one, between one second and a day. Otherwise the wait begins with what is usual,
    /// and grows threefold each time, up to 15 seconds; `jitter` (0.0 to 1.0) adds up to as much again: orders that began together do not
    /// stay in step.
    pub fn pause(self, in_vain: u32, retry_after: Option<SignedDuration>, jitter: f64) -> SignedDuration {
        if let Some(asked_for) = retry_after {
            return asked_for.clamp(SignedDuration::from_secs(1), SignedDuration::from_hours(24));
        }
        // What is usual has passed already, so that it cannot be far.
        let least = if in_vain == 0 { self.0 } else { self.0 / 2 };
        let base = (SHORTEST * 3_i32.pow(in_vain.min(9))).clamp(least, LONGEST);
        base.mul_f64(1.0 + jitter.clamp(0.0, 1.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_pause_obeys_the_authority_and_stays_in_bounds() {
        let (seconds, millis) = (SignedDuration::from_secs, SignedDuration::from_millis);
        for (usual, in_vain, hint, jitter, pause) in [
            (20, 0, None, 0.0, 20),
            (20, 0, None, 1.0, 40),
            (20, 4, None, 0.5, 2_430),
            (20, 40, None, 0.0, 15_000),
            (2_000, 0, None, 0.5, 3_000),
            (2_000, 1, None, 0.0, 1_000),
            (2_000, 4, None, 0.0, 1_620),
            (2_000, 3, Some(seconds(7)), 1.0, 7_000),
            (20, 3, Some(seconds(0)), 0.0, 1_000),
            (20, 3, Some(seconds(86_400)), 0.0, 86_400_000),
            (20, 3, Some(seconds(1_000_000)), 0.0, 86_400_000),
        ] {
            assert_eq!(
                UsualWait(millis(usual)).pause(in_vain, hint, jitter),
                millis(pause),
                "{usual} {in_vain} {hint:?}"
            );
        }
    }

    #[test]
    fn what_is_usual_is_learned_quickly_and_forgotten_slowly() {
        let millis = SignedDuration::from_millis;
        let (mut usual, mut questions) = (UsualWait::default(), Vec::new());
        // Each takes two seconds.
        for order in 0..40_u32 {
            let (mut asked, mut after, mut in_vain) = (0, SignedDuration::ZERO, None);
            loop {
                after += usual.pause(asked, None, f64::from(order * 7 % 10) / 10.0);
                asked += 1;
                if after >= millis(2_000) {
                    break;
                }
                in_vain = Some(after);
            }
            usual.learn(in_vain);
            questions.push(asked);
        }
        assert_eq!(questions[..2], [5, 5]);
        assert!(questions[10..].iter().sum::<u32>() <= 40, "{questions:?}");
        // One that takes a minute, and one that never does; nothing of it is left after some more.
        let before = usual;
        usual.learn(Some(millis(60_000)));
        assert_eq!(usual.0, before.0 * 2);
        (0..200).for_each(|_| usual.learn(None));
        assert_eq!(usual, UsualWait::default());
        (0..20).for_each(|_| usual.learn(Some(millis(60_000))));
        assert_eq!(usual.0, LONGEST);
    }
}
