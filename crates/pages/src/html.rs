//! What a page loads, and what browsers make of it where the page came over https (W3C Mixed Content).

use html5gum::Tokenizer;
use html5gum::emitters::default::{DefaultEmitter, Token};
use serde::Serialize;
use std::collections::BTreeSet;
use url::Url;

/// The kinds of links that a browser follows by itself.
const LOADED: [&str; 5] = ["stylesheet", "manifest", "preload", "modulepreload", "icon"];
/// No more of a page is told.
const MOST: usize = 200;

/// What browsers do with something that a page from https wants over http.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum LoadKind {
    /// They leave it out: scripts, style sheets, frames, images to choose from, the site's icon.
    Blocked,
    /// They ask for it over https instead: images, sound, films.
    Upgraded,
    /// They warn when somebody sends it: forms.
    Warned,
}

/// Something that a page wants over http.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Load {
    /// What browsers do with it.
    pub kind: LoadKind,
    /// The element that wants it.
    pub element: String,
    /// Its address.
    pub url: String,
}

/// What a page loads and leads to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Loads {
    /// What it wants over http, each once.
    pub mixed: Vec<Load>,
    /// The pages of the same host that it leads to, each once, without what stands behind `#`.
    pub pages: Vec<Url>,
}

/// Reads what a page at an address loads and leads to.
pub fn loads(page: &[u8], at: &Url) -> Loads {
    let text = String::from_utf8_lossy(page);
    let mut found = Found { base: at.clone(), mixed: BTreeSet::new(), pages: Vec::new() };
    let mut in_style = false;
    // What stands in a script is no page.
    let mut emitter = DefaultEmitter::default();
    emitter.naively_switch_states(true);
    for Ok(token) in Tokenizer::new_with_emitter(&*text, emitter) {
        match token {
            Token::StartTag(tag) => {
                let name = String::from_utf8_lossy(&tag.name).into_owned();
                in_style = name == "style";
                let attribute = |wanted: &str| {
                    let value = tag.attributes.iter().find(|(key, _)| ***key == *wanted.as_bytes());
                    value.map(|(_, value)| String::from_utf8_lossy(value).trim().to_owned())
                };
                found.element(&name, &attribute, at);
            }
            Token::EndTag(_) => in_style = false,
            Token::String(text) if in_style => found.style("style", &String::from_utf8_lossy(&text)),
            _ => {}
        }
    }
    Loads { mixed: found.mixed.into_iter().take(MOST).collect(), pages: found.pages }
}

struct Found {
    base: Url,
    mixed: BTreeSet<Load>,
    pages: Vec<Url>,
}

impl Found {
    fn element(&mut self, name: &str, attribute: &dyn Fn(&str) -> Option<String>, at: &Url) {
        let rel = attribute("rel").unwrap_or_default().to_ascii_lowercase();
        let has_rel = |word: &str| rel.split_ascii_whitespace().any(|one| one == word);
        let loaded: &[(&str, LoadKind)] = match name {
            "script" | "iframe" | "frame" | "embed" | "track" => &[("src", LoadKind::Blocked)],
            "object" => &[("data", LoadKind::Blocked)],
            "img" => &[("src", LoadKind::Upgraded)],
            "audio" | "source" | "input" => &[("src", LoadKind::Upgraded)],
            "video" => &[("src", LoadKind::Upgraded), ("poster", LoadKind::Upgraded)],
            "form" => &[("action", LoadKind::Warned)],
            "button" => &[("formaction", LoadKind::Warned)],
            "link" if LOADED.iter().any(|one| has_rel(one)) => &[("href", LoadKind::Blocked)],
            // Of drawings within the page.
            "image" => &[("href", LoadKind::Upgraded), ("xlink:href", LoadKind::Upgraded)],
            "body" | "table" | "td" => &[("background", LoadKind::Upgraded)],
            _ => &[],
        };
        for (key, kind) in loaded {
            if let Some(value) = attribute(key) {
                self.mixed(*kind, name, &value);
            }
        }
        // Of images to choose from none is asked for over https instead.
        if let Some(choices) = attribute("srcset") {
            for choice in choices.split(',').filter_map(|choice| choice.split_ascii_whitespace().next()) {
                self.mixed(LoadKind::Blocked, name, choice);
            }
        }
        if let Some(style) = attribute("style") {
            self.style(name, &style);
        }
        if let Some(href) = attribute("href") {
            match name {
                "base" => self.base = at.join(&href).unwrap_or_else(|_| self.base.clone()),
                "a" | "area" => self.page(&href, at),
                _ => {}
            }
        }
    }

    fn mixed(&mut self, kind: LoadKind, element: &str, value: &str) {
        let Ok(url) = self.base.join(value) else { return };
        if url.scheme() == "http" {
            self.mixed.insert(Load { kind, element: element.to_owned(), url: url.to_string() });
        }
    }

    /// Finds what a style sheet within the page loads.
    fn style(&mut self, element: &str, text: &str) {
        for (at, _) in text.match_indices("url(") {
            let value = text[at + 4..].trim_start().trim_start_matches(['"', '\'']);
            let end = value.find(['"', '\'', ')']).unwrap_or(value.len());
            let is_import = text[..at].trim_end().ends_with("@import");
            let kind = if is_import { LoadKind::Blocked } else { LoadKind::Upgraded };
            self.mixed(kind, element, value[..end].trim());
        }
    }

    fn page(&mut self, href: &str, at: &Url) {
        let Ok(mut url) = self.base.join(href) else { return };
        url.set_fragment(None);
        let same = url.host() == at.host() && url.port_or_known_default() == at.port_or_known_default();
        if url.scheme() == at.scheme() && same && self.pages.len() < MOST && !self.pages.contains(&url) {
            self.pages.push(url);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(page: &str) -> Vec<String> {
        let at = Url::parse("https://lampholm.example/oil/").unwrap();
        let short = |load: Load| format!("{:?} {} {}", load.kind, load.element, load.url);
        loads(page.as_bytes(), &at).mixed.into_iter().map(short).collect()
    }

    #[test]
    fn each_element_is_blocked_upgraded_or_warned_of_as_browsers_do() {
        for (page, wanted) in [
            ("<script src=http://a.test/x.js></script>", &["Blocked script http://a.test/x.js"][..]),
            ("<script src=//a.test/x.js></script><script>var x = '<img src=http://no.test>'</script>", &[]),
            ("<link rel='Stylesheet' href='http://a.test/x.css'>", &["Blocked link http://a.test/x.css"]),
            ("<link rel=canonical href='http://a.test/'>", &[]),
            ("<LINK REL=\"shortcut icon\" HREF=http://a.test/i.png>", &["Blocked link http://a.test/i.png"]),
            ("<svg><image href=http://a.test/1 /></svg>", &["Upgraded image http://a.test/1"]),
            ("<img src=\" http://a.test/x.png \" alt=x>", &["Upgraded img http://a.test/x.png"]),
            (
                "<img src=/x srcset='http://a.test/1 1x, http://a.test/2 2x'>",
                &["Blocked img http://a.test/1", "Blocked img http://a.test/2"],
            ),
            ("<iframe src=http://a.test></iframe>", &["Blocked iframe http://a.test/"]),
            ("<object data=http://a.test/x>", &["Blocked object http://a.test/x"]),
            ("<video src=http://a.test/v poster=x>", &["Upgraded video http://a.test/v"]),
            ("<form action='http://a.test/send'>", &["Warned form http://a.test/send"]),
            ("<p style=\"background: url('http://a.test/b.png')\">", &["Upgraded p http://a.test/b.png"]),
            (
                "<style>@import url(http://a.test/c.css); p { background: url( http://a.test/d ) }</style>url(http://no.test)",
                &["Blocked style http://a.test/c.css", "Upgraded style http://a.test/d"],
            ),
            ("<base href=http://lampholm.example/><img src=x.png>", &["Upgraded img http://lampholm.example/x.png"]),
            ("<a href=http://a.test/>x</a><!-- <script src=http://a.test> --><img src=x.png>", &[]),
            ("<img src=http://a.test/x><img src=http://a.test/x>", &["Upgraded img http://a.test/x"]),
            ("<img src='http://", &[]),
        ] {
            assert_eq!(found(page), wanted, "{page}");
        }
    }

    #[test]
    fn pages_of_the_same_host_are_found_once() {
        let at = Url::parse("https://lampholm.example/oil/").unwrap();
        let page = "<a href=wick#top>1</a><a href=wick>2</a><a href=/tar?x=1>3</a><a href=http://lampholm.example/>4</a>\
                    <a href=https://else.test/>5</a><area href=https://lampholm.example/map><a href=mailto:a@b>6</a>";
        let pages: Vec<String> = loads(page.as_bytes(), &at).pages.iter().map(ToString::to_string).collect();
        let of = |path: &str| format!("https://lampholm.example{path}");
        assert_eq!(pages, [of("/oil/wick"), of("/tar?x=1"), of("/map")]);
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read(bytes in proptest::collection::vec(0..=255_u8, 0..300)) {
            let _ = loads(&bytes, &Url::parse("https://lampholm.example/").unwrap());
        }
    }
}
