//! The pages of docs/guides, and how they read in a terminal.

use crate::draw::table::wrap;
use crate::draw::tone::Tone;

/// A page: a situation that people come with.
pub(crate) struct Situation {
    /// Its name: that of the file.
    pub(crate) name: &'static str,
    /// The page in Markdown.
    pub(crate) page: &'static str,
}

macro_rules! situations {
    ($($name:literal),* $(,)?) => {
        /// All of them, in the order in which they are listed.
        pub(crate) const SITUATIONS: &[Situation] =
            &[$(Situation { name: $name, page: include_str!(concat!("../../../../docs/guides/", $name, ".md")) }),*];
    };
}

situations!(
    "one-web-server",
    "several-sites",
    "moving-to-https",
    "mail",
    "load-balancer",
    "hosting-account",
    "application-platform",
    "paid-authority",
    "office-authority",
    "delegated-names",
    "unreachable-machine",
    "many-machines",
    "failed-renewal",
);

impl Situation {
    /// Returns the page's title.
    pub(crate) fn title(&self) -> &'static str {
        self.page.lines().next().unwrap_or_default().trim_start_matches("# ")
    }

    /// Returns the page for a terminal: paragraphs wrapped, commands indented.
    pub(crate) fn text(&self, width: usize) -> String {
        let mut out = String::new();
        let mut paragraph = String::new();
        let mut block: Option<&str> = None;
        for line in self.page.lines() {
            if let Some(info) = line.strip_prefix("```") {
                block = if block.is_some() { None } else { Some(info.split(' ').next().unwrap_or_default()) };
                continue;
            }
            if let Some(kind) = block {
                // What comes back has a line at its side.
                let line = if kind == "text" {
                    Tone::Faint.paint(&format!("    \u{2502} {line}"))
                } else {
                    format!("    {line}")
                };
                out.push_str(line.trim_end());
                out.push('\n');
                continue;
            }
            let begins = line.is_empty() || line.starts_with('#') || line.starts_with("* ");
            if begins && !paragraph.is_empty() {
                push_paragraph(&mut out, &std::mem::take(&mut paragraph), width);
            }
            match line.trim_start_matches('#') {
                "" => out.push('\n'),
                title if title.len() < line.len() => {
                    out.push_str(&format!("{}\n", Tone::Strong.paint(title.trim_start())));
                }
                text if paragraph.is_empty() => text.clone_into(&mut paragraph),
                text => {
                    paragraph.push(' ');
                    paragraph.push_str(text.trim_start());
                }
            }
        }
        push_paragraph(&mut out, &paragraph, width);
        out
    }
}

/// Adds a paragraph without its marks; a point of a list is indented behind its star.
fn push_paragraph(out: &mut String, text: &str, width: usize) {
    let indent = if text.starts_with("* ") { 2 } else { 0 };
    for (n, line) in wrap(&plain(&text[indent..]), width.saturating_sub(indent)).iter().enumerate() {
        let lead = if n == 0 { &text[..indent] } else { &"  "[..indent] };
        out.push_str(&format!("{lead}{line}\n"));
    }
}

/// Returns a paragraph without the marks of Markdown; of links only the words stay.
fn plain(text: &str) -> String {
    let text = text.replace("**", "");
    let mut out = String::new();
    let mut rest = text.as_str();
    while let Some((before, words, after)) = link(rest) {
        out.push_str(before);
        out.push_str(words);
        rest = after;
    }
    out + rest
}

/// Finds the first link: what stands before it, its words, and what follows.
fn link(text: &str) -> Option<(&str, &str, &str)> {
    let middle = text.find("](")?;
    let start = text[..middle].rfind('[')?;
    let end = middle + text[middle..].find(')')?;
    Some((&text[..start], &text[start + 1..middle], &text[end + 1..]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_is_wrapped_and_has_no_marks_left() {
        let page = "# A lamp\n\nIt **shines** by [the book](book.md) and\n[more](x.md).\n\n* one point that is long\n* two\n\n```sh exit=3\neskort keep\n\na = 1\n```\n\n```text\nit shines\n```\nEnd\n";
        let situation = Situation { name: "lamp", page };
        assert_eq!(situation.title(), "A lamp");
        let text = anstream::adapter::strip_str(&situation.text(20)).to_string();
        let wanted = "A lamp\n\nIt shines by the\nbook and more.\n\n* one point that is\n  long\n* two\n\n    eskort keep\n\n    a = 1\n\n    \u{2502} it shines\nEnd\n";
        assert_eq!(text, wanted);
    }

    #[test]
    fn every_page_has_a_title_and_a_name_of_its_own() {
        for (n, situation) in SITUATIONS.iter().enumerate() {
            assert!(situation.page.starts_with("# ") && situation.title().len() > 3, "{}", situation.name);
            assert!(
                SITUATIONS[..n].iter().all(|other| other.name != situation.name && other.title() != situation.title())
            );
        }
    }
}
