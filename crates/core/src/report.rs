//! What is told to other programs: metrics for a collector, and dates for a calendar.

use crate::budget::Room;
use crate::renewal::Validity;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::fmt::Write;

/// What is told of one certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Told {
    /// Its name in the inventory.
    pub certificate: String,
    /// The names on it.
    pub names: Vec<String>,
    /// The validity of what visitors get; `None` where there is none yet.
    pub validity: Option<Validity>,
    /// When it is renewed.
    pub renew_at: Option<Timestamp>,
    /// How often in a row it has failed.
    pub failures: u32,
}

/// What is told of the runs of `keep`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ToldRuns {
    /// When the last one ended.
    pub last: Option<Timestamp>,
    /// When the last one without a failure ended.
    pub last_good: Option<Timestamp>,
}

/// Returns metrics in the text format of OpenMetrics 1.0.
/// `budgets` has how the budgets of authorities stand, each with the authority's name.
pub fn metrics(told: &[Told], runs: ToldRuns, budgets: &[(String, Room)]) -> String {
    let mut text = String::new();
    let seconds = |at: Timestamp| at.as_second();
    let mut family = |name: &str, unit: &str, help: &str, values: Vec<(String, i64)>| {
        let _ = writeln!(text, "# TYPE eskort_{name} gauge");
        if !unit.is_empty() {
            let _ = writeln!(text, "# UNIT eskort_{name} {unit}");
        }
        let _ = writeln!(text, "# HELP eskort_{name} {help}");
        for (labels, value) in values {
            let _ = writeln!(text, "eskort_{name}{labels} {value}");
        }
    };
    let of_each = |value: &dyn Fn(&Told) -> Option<i64>| -> Vec<(String, i64)> {
        let label = |told: &Told| format!("{{certificate=\"{}\"}}", escaped(&told.certificate));
        told.iter().filter_map(|told| Some((label(told), value(told)?))).collect()
    };
    let ends = of_each(&|told| Some(seconds(told.validity?.not_after)));
    family("certificate_end_seconds", "seconds", "When the certificate that visitors get ends, in Unix time.", ends);
    let renewals = of_each(&|told| told.renew_at.map(seconds));
    family("certificate_renewal_seconds", "seconds", "When the certificate is to be renewed, in Unix time.", renewals);
    let failures = of_each(&|told| Some(i64::from(told.failures)));
    family("certificate_failures", "", "How often in a row work on the certificate has failed.", failures);
    let run = |at: Option<Timestamp>| at.map(|at| (String::new(), seconds(at))).into_iter().collect();
    family("run_end_seconds", "seconds", "When the last run ended, in Unix time.", run(runs.last));
    family(
        "good_run_end_seconds",
        "seconds",
        "When the last run without a failure ended, in Unix time.",
        run(runs.last_good),
    );
    let left = budgets.iter().map(|(authority, room)| {
        let (authority, subject) = (escaped(authority), escaped(&room.subject));
        let counted = room.counted.word();
        let labels = format!("{{authority=\"{authority}\",counted=\"{counted}\",subject=\"{subject}\"}}");
        (labels, i64::from(room.left()))
    });
    family("budget_left", "", "How much is left of what an authority lets people order.", left.collect());
    text + "# EOF\n"
}

fn escaped(label: &str) -> String {
    label.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

/// Returns a calendar (RFC 5545) with the day of each certificate's renewal, and the moment at which it ends, with an alarm a week before. What has
/// moved has the same identifier as before.
pub fn calendar(told: &[Told], now: Timestamp) -> String {
    let mut lines: Vec<String> =
        ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Eskort//certificates//EN"].map(str::to_owned).into();
    let instant = |at: Timestamp| at.to_zoned(TimeZone::UTC).strftime("%Y%m%dT%H%M%SZ").to_string();
    for Told { certificate, names, validity, renew_at, .. } in told {
        let Some(validity) = validity else { continue };
        let dates = [
            ("renewal", *renew_at, format!("{certificate}: the certificate is renewed"), false),
            ("end", Some(validity.not_after), format!("{certificate}: the certificate ends"), true),
        ];
        for (what, at, summary, alarm) in dates {
            let Some(at) = at else { continue };
            lines.push("BEGIN:VEVENT".to_owned());
            lines.push(format!("UID:{}.{what}@eskort.invalid", certificate.replace(['\r', '\n'], "")));
            lines.push(format!("DTSTAMP:{}", instant(now)));
            lines.push(format!("DTSTART:{}", instant(at)));
            lines.push(format!("SUMMARY:{}", text(&summary)));
            lines.push(format!("DESCRIPTION:{}", text(&names.join(" "))));
            lines.push("TRANSP:TRANSPARENT".to_owned());
            if alarm {
                let alarm = ["BEGIN:VALARM", "ACTION:DISPLAY", "TRIGGER:-P7D"].map(str::to_owned);
                lines.extend(alarm);
                lines.push(format!("DESCRIPTION:{}", text(&summary)));
                lines.push("END:VALARM".to_owned());
            }
            lines.push("END:VEVENT".to_owned());
        }
    }
    lines.push("END:VCALENDAR".to_owned());
    lines.iter().map(|line| folded(line)).collect()
}

/// Returns a text as RFC 5545 section 3.3.11 has it.
fn text(text: &str) -> String {
    text.replace('\\', "\\\\").replace(';', "\\;").replace(',', "\\,").replace('\n', "\\n").replace('\r', "")
}

/// Folds a line so that none is longer than 75 bytes (section 3.1).
fn folded(line: &str) -> String {
    let (mut out, mut length) = (String::new(), 0);
    for c in line.chars() {
        if length + c.len_utf8() > 75 {
            out.push_str("\r\n ");
            length = 1;
        }
        out.push(c);
        length += c.len_utf8();
    }
    out + "\r\n"
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told() -> Vec<Told> {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let validity = Validity { not_before: at("2026-11-01T00:00:00Z"), not_after: at("2027-01-30T12:00:00Z") };
        let names = (0..9).map(|n| format!("name{n}.lampholm.example")).collect();
        let website = Told {
            certificate: "web\"site".into(),
            names,
            validity: Some(validity),
            renew_at: Some(at("2026-12-31T12:00:00Z")),
            failures: 2,
        };
        let none = Told { certificate: "new".into(), names: Vec::new(), validity: None, renew_at: None, failures: 0 };
        vec![website, none]
    }

    #[test]
    fn metrics_are_in_the_open_format() {
        let last = "2026-11-26T20:00:00Z".parse().ok();
        let room = Room {
            counted: crate::budget::Counted::Domain,
            subject: "lampholm.example".into(),
            most: 40,
            within: 3600,
            spent: 3,
            again: None,
        };
        let text = metrics(&told(), ToldRuns { last, last_good: None }, &[("public".into(), room)]);
        for line in [
            "# TYPE eskort_certificate_end_seconds gauge\n# UNIT eskort_certificate_end_seconds seconds\n",
            "eskort_certificate_end_seconds{certificate=\"web\\\"site\"} 1801310400\n",
            "eskort_certificate_failures{certificate=\"web\\\"site\"} 2\n",
            "eskort_certificate_failures{certificate=\"new\"} 0\n",
            "eskort_run_end_seconds 1795723200\n",
            "eskort_budget_left{authority=\"public\",counted=\"domain\",subject=\"lampholm.example\"} 37\n",
        ] {
            assert!(text.contains(line), "lacks {line:?}:\n{text}");
        }
        assert!(text.ends_with("# EOF\n") && !text.contains("good_run_end_seconds 1"));
        assert!(!text.contains("end_seconds{certificate=\"new\"}"));
    }

    #[test]
    fn a_calendar_has_short_lines_and_identifiers_that_stay() {
        let now = "2026-11-26T20:00:00Z".parse().unwrap();
        let text = calendar(&told(), now);
        assert!(text.lines().all(|line| line.len() <= 75), "{text}");
        assert_eq!(text.matches("BEGIN:VEVENT\r\n").count(), 2);
        let unfolded = text.replace("\r\n ", "");
        for line in
            ["UID:web\"site.end@eskort.invalid", "DTSTART:20270130T120000Z", "TRIGGER:-P7D", "name8.lampholm.example"]
        {
            assert!(unfolded.contains(line), "lacks {line}:\n{unfolded}");
        }
        let mut later = told();
        later[0].validity.as_mut().unwrap().not_after += jiff::SignedDuration::from_hours(24 * 60);
        let ids =
            |text: &str| text.lines().filter(|line| line.starts_with("UID:")).map(str::to_owned).collect::<Vec<_>>();
        assert_eq!(ids(&calendar(&later, now)), ids(&text));
    }
}
