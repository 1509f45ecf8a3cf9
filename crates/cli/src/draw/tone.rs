//! Colours of texts.

use owo_colors::{OwoColorize, Style};

/// What a text's colour says; the text itself says it too.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Tone {
    Plain,
    Strong,
    Faint,
    Good,
    Notice,
    Bad,
}

impl Tone {
    /// Returns the text with its colour; the streams take colours out where they do not belong.
    pub(crate) fn paint(self, text: &str) -> String {
        let style = match self {
            Tone::Plain => return text.to_owned(),
            Tone::Strong => Style::new().bold(),
            Tone::Faint => Style::new().dimmed(),
            Tone::Good => Style::new().green(),
            Tone::Notice => Style::new().yellow(),
            Tone::Bad => Style::new().red(),
        };
        text.style(style).to_string()
    }
}
