//! Tables for people: columns as wide as they need, the last one wrapped to what is left of the line.

use crate::draw::tone::Tone;

/// A cell: its text, and how it is toned.
#[derive(Clone, Debug)]
pub(crate) struct Cell {
    text: String,
    tone: Tone,
}

impl Cell {
    pub(crate) fn plain(text: impl Into<String>) -> Self {
        Cell { text: text.into(), tone: Tone::Plain }
    }

    pub(crate) fn toned(text: impl Into<String>, tone: Tone) -> Self {
        Cell { text: text.into(), tone }
    }

    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    /// Puts something before the text.
    pub(crate) fn led_by(self, lead: &str) -> Self {
        Cell { text: format!("{lead}{}", self.text), ..self }
    }
}

/// What is drawn on.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Page {
    /// How many characters a line may have.
    pub(crate) width: usize,
    /// Whether colours show.
    pub(crate) colour: bool,
}

/// Returns the table's lines. The last column is wrapped at blanks to fit. Where not even
/// its longest word fits, it stands on lines of its own below the others.
pub(crate) fn draw(heads: &[&str], rows: &[Vec<Cell>], page: Page) -> String {
    let width = page.width;
    let paint = |out: &mut String, cell: &Cell, text: &str| match page.colour {
        true => out.push_str(&cell.tone.paint(text)),
        false => out.push_str(text),
    };
    let last = heads.len() - 1;
    let of = |column: usize| rows.iter().map(move |r| r[column].text.chars().count()).max().unwrap_or(0);
    let widths: Vec<usize> = (0..last).map(|c| of(c).max(heads[c].chars().count())).collect();
    let before: usize = widths.iter().map(|w| w + 2).sum();
    let words = rows.iter().flat_map(|r| r[last].text.split_whitespace());
    let longest_word = words.map(|w| w.chars().count()).max().unwrap_or(0);
    let room = width.saturating_sub(before);
    // Below the others it is indented by two; a word that fits nowhere may as well stand in its column.
    let below = longest_word > room && longest_word + 2 <= width;
    let (indent, room) = if below { (2, width - 2) } else { (before, room.max(1)) };

    let mut out = String::new();
    let heads: Vec<Cell> = heads.iter().map(|h| Cell::toned(*h, Tone::Faint)).collect();
    for row in std::iter::once(&heads).filter(|h| h.iter().any(|c| !c.text.is_empty())).chain(rows) {
        for (cell, width) in row.iter().zip(&widths) {
            let pad = width - cell.text.chars().count();
            paint(&mut out, cell, &cell.text);
            push_blanks(&mut out, pad + 2);
        }
        for (n, line) in wrap(&row[last].text, room).iter().enumerate() {
            if n > 0 || below {
                end_line(&mut out);
                push_blanks(&mut out, indent);
            }
            paint(&mut out, &row[last], line);
        }
        end_line(&mut out);
    }
    out
}

/// Not one by one: tables may have thousands of lines.
fn push_blanks(out: &mut String, count: usize) {
    const BLANKS: &str = "                                ";
    (0..count / BLANKS.len()).for_each(|_| out.push_str(BLANKS));
    out.push_str(&BLANKS[..count % BLANKS.len()]);
}

fn end_line(out: &mut String) {
    out.truncate(out.trim_end_matches(' ').len());
    out.push('\n');
}

/// Cuts a text into lines of at most `room` characters, at blanks where there are any. At least one line.
pub(crate) fn wrap(text: &str, room: usize) -> Vec<String> {
    let mut lines = Vec::new();
    for paragraph in text.split('\n') {
        let (mut line, mut length) = (String::new(), 0);
        for word in paragraph.split(' ') {
            let more = word.chars().count();
            if length > 0 && length + 1 + more > room {
                lines.push(std::mem::take(&mut line));
                length = 0;
            } else if length > 0 {
                line.push(' ');
                length += 1;
            }
            line.push_str(word);
            length += more;
        }
        lines.push(line);
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_line_up_and_the_last_one_wraps() {
        let rows = vec![
            vec![Cell::plain("website"), Cell::plain("lampholm.example, www.lampholm.example")],
            vec![Cell::plain("ö"), Cell::plain("")],
        ];
        let page = Page { width: 30, colour: false };
        assert_eq!(
            draw(&["NAME", "NAMES"], &rows, page),
            "NAME     NAMES\nwebsite  lampholm.example,\n         www.lampholm.example\nö\n"
        );
    }

    #[test]
    fn what_does_not_fit_beside_the_others_stands_below_them() {
        let rows = vec![vec![Cell::plain("website"), Cell::plain("lampholm.example www.lampholm.example")]];
        let page = Page { width: 24, colour: false };
        assert_eq!(
            draw(&["NAME", "NAMES"], &rows, page),
            "NAME\n  NAMES\nwebsite\n  lampholm.example\n  www.lampholm.example\n"
        );
    }

    #[test]
    fn keeps_words_whole() {
        assert_eq!(wrap("aa bb cc", 5), ["aa bb", "cc"]);
        assert_eq!(wrap("aaaaaaaa b", 3), ["aaaaaaaa", "b"]);
        assert_eq!(wrap("", 3), [""]);
    }
}
