//! A page that shows how all certificates stand: one HTML file that needs nothing from outside, and no script.

mod timeline;

use crate::finding::Severity;
use crate::rating::Rating;
use crate::renewal::Validity;
use crate::words;
use jiff::Timestamp;
use serde::Serialize;
use std::collections::BTreeMap;
use std::fmt::Write;

/// What is shown.
#[derive(Clone, Debug, Serialize)]
pub struct Page {
    /// The machine that it is about.
    pub machine: String,
    /// When it was made.
    pub at: Timestamp,
    /// The certificates, by name.
    pub certificates: Vec<PageCertificate>,
}

/// One certificate.
#[derive(Clone, Debug, Serialize)]
pub struct PageCertificate {
    /// Its name in the inventory.
    pub certificate: String,
    /// The names on it.
    pub names: Vec<String>,
    /// How it stands, in words.
    pub state: String,
    /// Whether somebody should look at it.
    pub needs_attention: bool,
    /// Whether a person has to do something.
    pub awaits_person: bool,
    /// The generations that came, the oldest first, each with its dates.
    pub generations: Vec<Validity>,
    /// The dates of what visitors get.
    pub validity: Option<Validity>,
    /// When it is renewed.
    pub renew_at: Option<Timestamp>,
    /// What was seen where it is served.
    pub endpoints: Vec<PageEndpoint>,
}

/// What was seen at an endpoint.
#[derive(Clone, Debug, Serialize)]
pub struct PageEndpoint {
    /// Name and port.
    pub endpoint: String,
    /// How good it is; not known where nothing was seen.
    pub rating: Option<Rating>,
    /// What is not as it should be, the heaviest first.
    pub findings: Vec<PageFinding>,
}

/// Something that is not as it should be.
#[derive(Clone, Debug, Serialize)]
pub struct PageFinding {
    /// How much it matters.
    pub severity: Severity,
    /// What was seen.
    pub text: String,
    /// What to do about it.
    pub advice: Option<String>,
}

impl PageCertificate {
    /// Returns the least rating of its endpoints.
    pub fn rating(&self) -> Option<&Rating> {
        self.endpoints.iter().filter_map(|one| one.rating.as_ref()).min_by_key(|rating| rating.points)
    }
}

/// Returns a text as it may stand in HTML.
fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c => out.push(c),
        }
    }
    out
}

const STYLE: &str = include_str!("style.css");

impl Page {
    /// Returns the page as HTML.
    pub fn to_html(&self) -> String {
        let title = format!("Certificates on {}", escape(&self.machine));
        let mut out = format!(
            "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
             <meta name=\"robots\" content=\"noindex\">\n<title>{title}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n<header>\n<h1>{title}</h1>\n<p>{}</p>\n</header>\n<main>\n",
            escape(&self.summary())
        );
        self.waiting(&mut out);
        let _ = write!(
            out,
            "<section>\n<h2>When they are good</h2>\n{}<p><small>The red line is today. A diamond is the next renewal; thin bars are generations of before.</small></p>\n</section>\n",
            timeline::draw(self)
        );
        self.table(&mut out);
        self.findings(&mut out);
        let _ = write!(
            out,
            "</main>\n<footer><p>Made by Eskort on <time datetime=\"{}\">{}</time>.</p></footer>\n</body>\n</html>\n",
            self.at,
            words::instant(self.at)
        );
        out
    }

    /// Returns how they stand in a sentence.
    pub fn summary(&self) -> String {
        let all = words::count(self.certificates.len() as u64, "certificate");
        let attention = self.certificates.iter().filter(|one| one.needs_attention).count();
        let next = self.certificates.iter().filter_map(|one| one.renew_at).filter(|at| *at > self.at).min();
        let next = next.map(|at| format!(" The next renewal is on {}.", words::day(at))).unwrap_or_default();
        match attention {
            0 => format!("{all}, and all is well.{next}"),
            1 => format!("{all}; 1 needs somebody's attention.{next}"),
            n => format!("{all}; {n} need somebody's attention.{next}"),
        }
    }

    fn waiting(&self, out: &mut String) {
        let waiting: Vec<&PageCertificate> =
            self.certificates.iter().filter(|one| one.needs_attention || one.awaits_person).collect();
        if waiting.is_empty() {
            return;
        }
        out.push_str("<section class=\"waits\">\n<h2>What needs somebody</h2>\n<ul>\n");
        for one in waiting {
            let name = escape(&one.certificate);
            let _ = writeln!(
                out,
                "<li><strong>{name}</strong>: {}. <code>eskort show {name}</code> says more.</li>",
                escape(&one.state)
            );
        }
        out.push_str("</ul>\n</section>\n");
    }

    fn table(&self, out: &mut String) {
        out.push_str(
            "<section>\n<h2>Each of them</h2>\n<table>\n<thead><tr><th scope=\"col\">Certificate</th><th scope=\"col\">State</th>\
             <th scope=\"col\">Good until</th><th scope=\"col\">Renewed on</th><th scope=\"col\">Rating</th></tr></thead>\n<tbody>\n",
        );
        for one in &self.certificates {
            let day = |at: Option<Timestamp>| {
                at.map_or("\u{2013}".to_owned(), |at| format!("<time datetime=\"{at}\">{}</time>", words::day(at)))
            };
            let rating = one.rating().map_or("\u{2013}".to_owned(), |rating| {
                format!(
                    "<span class=\"rating {}\"><meter min=\"0\" max=\"100\" low=\"40\" high=\"70\" optimum=\"100\" value=\"{points}\">{points} of 100</meter> {points} {}</span>",
                    rating.word,
                    rating.word,
                    points = rating.points
                )
            });
            let mark = if one.needs_attention { " class=\"attention\"" } else { "" };
            let _ = writeln!(
                out,
                "<tr{mark}><th scope=\"row\">{}<small>{}</small></th><td>{}</td><td>{}</td><td>{}</td><td>{rating}</td></tr>",
                escape(&one.certificate),
                escape(&one.names.join(", ")),
                escape(&one.state),
                day(one.validity.map(|validity| validity.not_after)),
                day(one.renew_at),
            );
        }
        out.push_str("</tbody>\n</table>\n</section>\n");
    }

    /// Returns what could be better, the weightiest first: each thing once, with all endpoints at which it was found.
    pub fn worth_mending(&self) -> Vec<(&PageFinding, Vec<&str>)> {
        let mut found: Vec<(&PageFinding, Vec<&str>)> = Vec::new();
        let mut known: BTreeMap<&str, usize> = BTreeMap::new();
        for endpoint in self.certificates.iter().flat_map(|one| &one.endpoints) {
            for finding in &endpoint.findings {
                let index = *known.entry(&finding.text).or_insert(found.len());
                if index == found.len() {
                    found.push((finding, Vec::new()));
                }
                found[index].1.push(&endpoint.endpoint);
            }
        }
        found.sort_by_key(|(finding, _)| std::cmp::Reverse(finding.severity));
        found
    }

    fn findings(&self, out: &mut String) {
        let found = self.worth_mending();
        if found.is_empty() {
            return;
        }
        out.push_str("<section>\n<h2>What could be better</h2>\n<ul class=\"findings\">\n");
        for (finding, at) in found {
            let (class, word) = match finding.severity {
                Severity::Bad => ("bad", "Bad"),
                Severity::Notice => ("notice", "Notice"),
                Severity::Good | Severity::Better => ("better", "Better"),
            };
            let advice = finding.advice.as_ref().map(|advice| format!("<br>{}", escape(advice))).unwrap_or_default();
            let _ = writeln!(
                out,
                "<li class=\"{class}\"><strong>{word}</strong> {}<small>{}{advice}</small></li>",
                escape(&finding.text),
                escape(&words::list(&at))
            );
        }
        out.push_str("</ul>\n</section>\n");
    }
}

#[cfg(test)]
mod tests;
