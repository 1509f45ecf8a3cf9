//! Times and numbers in words, the same in every output.

use jiff::{SignedDuration, Timestamp};
use std::cmp::Ordering;

/// Says how far this machine's clock is from another one, given by how much it is ahead: "3 days ahead of"; `None` where they are close enough to
/// hurt nobody.
pub fn clock_off(ahead: SignedDuration) -> Option<String> {
    let way = if ahead.is_negative() { "behind" } else { "ahead of" };
    (ahead.abs() > SignedDuration::from_mins(10)).then(|| format!("{} {way}", duration(ahead.abs())))
}

/// Returns a duration in its largest fitting unit: `62 days`, `5 hours`, `1 minute`, `12 seconds`.
///
/// Rounded to the nearest, negative durations as if positive.
pub fn duration(d: SignedDuration) -> String {
    let seconds = d.as_secs().unsigned_abs();
    let (n, unit) = match seconds {
        0..=119 => (seconds, "second"),
        120..=7_199 => ((seconds + 30) / 60, "minute"),
        7_200..=172_799 => ((seconds + 1_800) / 3_600, "hour"),
        _ => ((seconds + 43_200) / 86_400, "day"),
    };
    count(n, unit)
}

/// Returns `1 name`, `2 names`.
pub fn count(n: u64, thing: &str) -> String {
    let more = if thing.ends_with('s') { "es" } else { "s" };
    if n == 1 { format!("1 {thing}") } else { format!("{n} {thing}{more}") }
}

/// Returns an instant as `2026-11-23 08:15 UTC`.
pub fn instant(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M UTC").to_string()
}

/// Returns an instant as exactly as somebody needs it who has `left` until then: with seconds, with minutes, or the day alone.
pub fn by_when(at: Timestamp, left: SignedDuration) -> String {
    match left.as_secs().unsigned_abs() {
        0..=3_599 => at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
        3_600..=259_199 => instant(at),
        _ => day(at),
    }
}

/// Returns the day of an instant as `2026-11-23` (UTC).
pub fn day(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d").to_string()
}

/// Joins with commas and a last `and`: `a`, `a and b`, `a, b and c`.
pub fn list<T: std::fmt::Display>(items: &[T]) -> String {
    match items {
        [] => String::new(),
        [one] => one.to_string(),
        [head @ .., last] => {
            let head: Vec<String> = head.iter().map(ToString::to_string).collect();
            format!("{} and {last}", head.join(", "))
        }
    }
}

/// Compares names as people order them: `c2` before `c10`. Names that differ in leading zeros only are told apart too.
pub fn natural_order(a: &str, b: &str) -> Ordering {
    let (mut left, mut right) = (a, b);
    loop {
        let head = |text: &str| text.find(|c: char| c.is_ascii_digit()).unwrap_or(text.len());
        let ((left_word, left_rest), (right_word, right_rest)) =
            (left.split_at(head(left)), right.split_at(head(right)));
        let digits = |text: &str| text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
        let (left_number, left_next) = left_rest.split_at(digits(left_rest));
        let (right_number, right_next) = right_rest.split_at(digits(right_rest));
        let [left_value, right_value] = [left_number, right_number].map(|digits| digits.trim_start_matches('0'));
        let by_value = || left_value.len().cmp(&right_value.len()).then_with(|| left_value.cmp(right_value));
        let here = left_word.cmp(right_word).then_with(by_value);
        if here.is_ne() || (left_next.is_empty() && right_next.is_empty()) {
            return here.then_with(|| a.cmp(b));
        }
        (left, right) = (left_next, right_next);
    }
}

/// Returns `text` without control characters (line ends and tabs become blanks), cut to `most` characters.
///
/// For everything that comes from outside (an authority, a site, a server) before it is shown.
pub fn printable(text: &str, most: usize) -> String {
    let blanks: String = text.chars().map(|c| if c.is_whitespace() { ' ' } else { c }).collect();
    let mut out: String = crate::pki::printable(&blanks).chars().take(most + 1).collect();
    if out.chars().count() > most {
        out.pop();
        out.push('…');
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_ordered_as_people_order_them() {
        let mut names = ["c10", "c2", "c02", "b", "c2a", "c", "c2-10", "c2-9", "10", "9", ""];
        names.sort_by(|a, b| natural_order(a, b));
        assert_eq!(names, ["", "9", "10", "b", "c", "c02", "c2", "c2-9", "c2-10", "c2a", "c10"]);
    }

    #[test]
    fn says_durations_and_lists() {
        for (seconds, said) in [
            (0, "0 seconds"),
            (1, "1 second"),
            (119, "119 seconds"),
            (120, "2 minutes"),
            (7_200, "2 hours"),
            (172_800, "2 days"),
            (-86_400 * 3, "3 days"),
        ] {
            assert_eq!(duration(SignedDuration::from_secs(seconds)), said);
        }
        assert_eq!(list(&["a", "b", "c"]), "a, b and c");
        assert_eq!(list::<&str>(&[]), "");
    }

    #[test]
    fn outside_text_is_tamed() {
        assert_eq!(printable("a\u{1b}[31mb\nc", 20), "a[31mb c");
        assert_eq!(printable("abcdef", 3), "abc…");
    }
}
