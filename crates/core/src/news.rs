//! What people are told of, by mail or otherwise: from how a certificate stands, and from what they were told before.

use crate::decision::Fault;
use crate::renewal::Validity;
use crate::words;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// Before the end of a certificate that a person renews, people are told so many days ahead.
const AHEAD: [i64; 5] = [30, 14, 7, 3, 1];

/// How one certificate stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Standing {
    /// Its name in the inventory.
    pub certificate: String,
    /// The names on it.
    pub names: Vec<String>,
    /// The generation that visitors are to get, its validity, and when it is renewed; `None` when there is none yet.
    pub newest: Option<(u32, Validity, Timestamp)>,
    /// What went wrong lately.
    pub failing: Option<Failing>,
    /// Whether a person has to do something for its renewal.
    pub by_hand: bool,
}

/// What goes wrong with a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failing {
    /// How often in a row.
    pub failures: u32,
    /// What came back, the last time.
    pub reason: String,
    /// Where to look, in words; `None` where that is not known.
    pub fault: Option<String>,
}

impl Failing {
    /// Puts it together.
    pub fn new(failures: u32, reason: String, fault: Option<Fault>) -> Self {
        Failing { failures, reason, fault: fault.map(|fault| fault.words().to_owned()) }
    }
}

/// What people were told of a certificate, so that they are told nothing twice.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    /// The generation that it was about; 0 for none.
    pub generation: u32,
    /// That it fails.
    #[serde(default)]
    pub failing: bool,
    /// That its renewal is in danger.
    #[serde(default)]
    pub danger: bool,
    /// That it has ended.
    #[serde(default)]
    pub ended: bool,
    /// So many days before its end.
    #[serde(default)]
    pub days: Option<i64>,
}

impl Told {
    /// Whether people were told that anything is wrong.
    fn is_bad(&self) -> bool {
        self.failing || self.danger || self.ended
    }
}

/// The kinds of news.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantNames,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum NewsKind {
    /// It has ended.
    Ended,
    /// Less than a third of the time for its renewal is left.
    Danger,
    /// Work on it has failed for the first time.
    Failed,
    /// It ends in some days, and a person has to do something about that.
    EndsSoon,
    /// It is well again.
    Recovered,
}

/// A piece of news about a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct News {
    /// What kind.
    pub what: NewsKind,
    /// The certificate's name in the inventory.
    pub certificate: String,
    /// The names on it.
    pub names: Vec<String>,
    /// When the generation ends that visitors get.
    pub ends: Option<Timestamp>,
    /// It in a sentence.
    pub text: String,
    /// What goes wrong.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub failing: Option<Failing>,
}

/// Returns what is new about a certificate, at most one piece, and what people have been told then.
pub fn news(standing: &Standing, told: &Told, now: Timestamp) -> (Option<News>, Told) {
    let generation = standing.newest.map_or(0, |(generation, ..)| generation);
    let is_newer = generation != told.generation;
    let kept = Told { generation, failing: told.failing, ..Told::default() };
    let mut next = if is_newer { kept } else { told.clone() };
    next.failing = standing.failing.is_some();
    let ends = standing.newest.map(|(_, validity, _)| validity.not_after);
    let left = ends.map(|ends| ends.duration_since(now));
    next.ended = left.is_some_and(|left| left <= SignedDuration::ZERO);
    next.danger = next.ended
        || standing.newest.is_some_and(|(_, validity, renew_at)| {
            let third = validity.not_after.duration_since(renew_at.min(validity.not_after)) / 3;
            validity.not_after.duration_since(now) <= third
        });
    // The nearest of the days before the end that has been reached.
    let reached = left
        .filter(|_| standing.by_hand)
        .and_then(|left| AHEAD.into_iter().filter(|days| left <= SignedDuration::from_hours(days * 24)).min());
    let is_nearer = reached.is_some_and(|days| next.days.is_none_or(|known| days < known));
    next.days = if is_nearer { reached } else { next.days };
    let first = |now: bool, before: bool| now && !before;
    let what = if first(next.ended, told.ended && !is_newer) {
        NewsKind::Ended
    } else if first(next.danger, told.danger && !is_newer) {
        NewsKind::Danger
    } else if first(next.failing, told.failing) {
        NewsKind::Failed
    } else if is_nearer && !next.ended {
        NewsKind::EndsSoon
    } else if told.is_bad() && !next.is_bad() {
        NewsKind::Recovered
    } else {
        return (None, next);
    };
    let name = &standing.certificate;
    let time = left.map(|left| words::duration(left.abs())).unwrap_or_default();
    let day = ends.map(words::day).unwrap_or_default();
    let text = match what {
        NewsKind::Ended => format!("the certificate `{name}` ended on {day}: visitors are turned away"),
        NewsKind::Danger => format!("the certificate `{name}` is not renewed yet, and ends in {time}, on {day}"),
        NewsKind::Failed => match ends {
            Some(_) => {
                format!("the renewal of `{name}` has failed; the certificate is good for {time} more, until {day}")
            }
            None => format!("the first certificate for `{name}` could not be obtained"),
        },
        NewsKind::EndsSoon => format!("the certificate `{name}` ends in {time}, on {day}, and waits for a person"),
        NewsKind::Recovered => format!("the certificate `{name}` is well again, until {day}"),
    };
    let failing = standing.failing.clone().filter(|_| what != NewsKind::Recovered);
    let (certificate, names) = (name.clone(), standing.names.clone());
    (Some(News { what, certificate, names, ends, text, failing }), next)
}

/// What is sent to somebody in one go.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Message {
    /// Tells it from all others of this machine: the same when it is sent again.
    pub id: String,
    /// The machine that sends it.
    pub machine: String,
    /// When it was put together.
    pub at: Timestamp,
    /// What it says, the most urgent first; nothing for a test.
    pub news: Vec<News>,
}

impl Message {
    /// Returns it in one line.
    pub fn subject(&self) -> String {
        let machine = &self.machine;
        match &self.news[..] {
            [] => format!("Eskort on {machine}: a test"),
            [one] => format!("Eskort on {machine}: {}", one.text),
            [first, ..] => {
                let others = words::count(self.news.len() as u64 - 1, "other piece");
                format!("Eskort on {machine}: {}, and {others} of news", first.text)
            }
        }
    }

    /// Returns it as a text of several lines.
    pub fn text(&self) -> String {
        use std::fmt::Write;
        let mut text = String::new();
        if self.news.is_empty() {
            text.push_str("This is a test: news of certificates arrives here.\n");
        }
        for News { certificate, names, text: said, failing, what, .. } in &self.news {
            let mut said = said.clone();
            said[..1].make_ascii_uppercase();
            let _ = writeln!(text, "{said}.");
            let shown: Vec<&str> = names.iter().take(10).map(String::as_str).collect();
            let more = if names.len() > shown.len() { ", …" } else { "" };
            let _ = writeln!(text, "  names: {}{more}", shown.join(", "));
            if let Some(Failing { failures, reason, fault }) = failing {
                let times = words::count(u64::from(*failures), "failure");
                let _ = writeln!(text, "  {times}; the last one: {}", reason.replace('\n', "\n    "));
                if let Some(fault) = fault {
                    let _ = writeln!(text, "  where to look: {fault}");
                }
            }
            if *what != NewsKind::Recovered {
                let _ = writeln!(text, "  on the machine, `eskort show {certificate}` says more");
            }
            text.push('\n');
        }
        let _ = write!(text, "-- \nEskort on {}, {}\n", self.machine, words::instant(self.at));
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(n: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000).unwrap() + SignedDuration::from_hours(24 * n)
    }

    fn standing(generation: u32, from: i64) -> Standing {
        let validity = Validity { not_before: day(from), not_after: day(from + 90) };
        Standing {
            certificate: "website".into(),
            names: vec!["lampholm.example".into()],
            newest: Some((generation, validity, day(from + 60))),
            failing: None,
            by_hand: false,
        }
    }

    /// Tells day after day; returns what was told, and when.
    fn told(of: impl Fn(i64) -> Standing, days: i64) -> Vec<String> {
        let (mut told, mut said) = (Told::default(), Vec::new());
        for n in 0..days {
            // Each day several runs.
            for _ in 0..3 {
                let (news, next) = news(&of(n), &told, day(n));
                told = next;
                said.extend(news.map(|news| format!("{n} {}", <&str>::from(news.what))));
            }
        }
        said
    }

    #[test]
    fn each_piece_of_news_is_told_once() {
        let failing = |of: Standing, fails: bool| {
            let failing = fails.then(|| Failing::new(2, "no answer".into(), Some(Fault::Network)));
            Standing { failing, ..of }
        };
        type Case<'a> = (&'a str, &'a dyn Fn(i64) -> Standing, &'a [&'a str]);
        let cases: [Case<'_>; 6] = [
            ("all is well", &|n| standing(if n < 61 { 1 } else { 2 }, if n < 61 { 0 } else { 61 }), &[]),
            (
                "it fails for a while",
                &|n| match n {
                    0..66 => failing(standing(1, 0), n >= 61),
                    _ => standing(2, 66),
                },
                &["61 failed", "66 recovered"],
            ),
            ("nobody mends it", &|n| failing(standing(1, 0), n >= 61), &["61 failed", "80 danger", "90 ended"]),
            (
                "it fails and comes back without a new one, twice",
                &|n| failing(standing(1, 0), n == 10 || n == 12),
                &["10 failed", "11 recovered", "12 failed", "13 recovered", "80 danger", "90 ended"],
            ),
            (
                "a person has to see to it",
                &|_| Standing { by_hand: true, ..standing(1, 0) },
                &[
                    "60 ends-soon",
                    "76 ends-soon",
                    "80 danger",
                    "83 ends-soon",
                    "87 ends-soon",
                    "89 ends-soon",
                    "90 ended",
                ],
            ),
            ("the first never comes", &|n| failing(Standing { newest: None, ..standing(0, 0) }, n >= 3), &["3 failed"]),
        ];
        for (case, of, expected) in cases {
            assert_eq!(told(of, 110), expected, "{case}");
        }
    }

    #[test]
    fn a_message_is_read_by_people() {
        let failing = Some(Failing::new(3, "no answer\nfrom there".into(), Some(Fault::Network)));
        let (one, _) = news(&Standing { failing, ..standing(1, 0) }, &Told::default(), day(61));
        let message = Message { id: "7".into(), machine: "lamp1".into(), at: day(61), news: one.into_iter().collect() };
        let subject = "Eskort on lamp1: the renewal of `website` has failed; the certificate is good for 29 days more, until 2027-04-15";
        assert_eq!(message.subject(), subject);
        let text = message.text();
        for part in
            ["The renewal of", "3 failures; the last one: no answer\n    from there", "where to look: the network"]
        {
            assert!(text.contains(part), "{text}");
        }
        let empty = Message { news: Vec::new(), ..message };
        assert_eq!(empty.subject(), "Eskort on lamp1: a test");
    }
}
