//! A list to choose from on a terminal: arrow keys move, typing narrows it down, the space bar chooses.

use crate::draw::tone::Tone;
use dialoguer::console::{Key, Term};
use std::io;

/// A list, what is chosen of it, and what is typed.
pub(crate) struct Picker {
    items: Vec<String>,
    chosen: Vec<bool>,
    /// Only items with this in them are shown; `*` stands for anything.
    pattern: String,
    /// Where the cursor is, among the items that are shown.
    at: usize,
}

/// What a key leads to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Step {
    /// On.
    On,
    /// These were chosen, by their places in the list.
    Done(Vec<usize>),
    /// Somebody thought better of it.
    Cancelled,
}

impl Picker {
    /// Begins with items, each with whether it is chosen.
    pub(crate) fn new(items: impl IntoIterator<Item = (String, bool)>) -> Self {
        let (items, chosen) = items.into_iter().unzip();
        Picker { items, chosen, pattern: String::new(), at: 0 }
    }

    /// Lets a person choose; `None` when they thought better of it.
    pub(crate) fn ask(mut self, prompt: &str) -> io::Result<Option<Vec<usize>>> {
        let term = Term::stderr();
        let mut drawn = 0;
        loop {
            let (height, width) = term.size();
            let lines = self.lines(prompt, (usize::from(width), usize::from(height)));
            let text = lines.join("\n") + "\n";
            term.clear_last_lines(drawn)?;
            match anstream::AutoStream::choice(&io::stderr()) {
                anstream::ColorChoice::Never => term.write_str(&anstream::adapter::strip_str(&text).to_string())?,
                _ => term.write_str(&text)?,
            }
            drawn = lines.len();
            match self.key(&term.read_key()?) {
                Step::On => {}
                end => {
                    term.clear_last_lines(drawn)?;
                    return Ok(if let Step::Done(chosen) = end { Some(chosen) } else { None });
                }
            }
        }
    }

    /// Takes in a key.
    fn key(&mut self, key: &Key) -> Step {
        let shown = self.shown();
        let under = shown.get(self.at).copied();
        match key {
            Key::ArrowUp => self.at = self.at.checked_sub(1).unwrap_or(shown.len().saturating_sub(1)),
            Key::ArrowDown => self.at = if self.at + 1 < shown.len() { self.at + 1 } else { 0 },
            Key::PageUp | Key::Home => self.at = 0,
            Key::PageDown | Key::End => self.at = shown.len().saturating_sub(1),
            Key::Char(' ') => {
                if let Some(under) = under {
                    self.chosen[under] = !self.chosen[under];
                }
            }
            // All that are shown, or none of them.
            Key::Tab => {
                let all = shown.iter().all(|item| self.chosen[*item]);
                shown.iter().for_each(|item| self.chosen[*item] = !all);
            }
            Key::Enter => {
                let chosen: Vec<usize> = (0..self.items.len()).filter(|item| self.chosen[*item]).collect();
                return match (chosen.is_empty(), under) {
                    (false, _) => Step::Done(chosen),
                    (true, Some(under)) => Step::Done(vec![under]),
                    (true, None) => Step::On,
                };
            }
            Key::Escape if self.pattern.is_empty() => return Step::Cancelled,
            Key::Escape => self.narrow(String::new()),
            Key::Backspace => {
                let mut pattern = self.pattern.clone();
                pattern.pop();
                self.narrow(pattern);
            }
            Key::Char(typed) if !typed.is_control() => self.narrow(format!("{}{typed}", self.pattern)),
            _ => {}
        }
        Step::On
    }

    fn narrow(&mut self, pattern: String) {
        self.pattern = pattern;
        self.at = 0;
    }

    /// Returns the places of the items that fit what is typed.
    fn shown(&self) -> Vec<usize> {
        let pattern = self.pattern.to_lowercase();
        let fits = |item: &String| {
            let item = item.to_lowercase();
            let mut rest = item.as_str();
            pattern.split('*').all(|part| match rest.find(part) {
                Some(at) => {
                    rest = &rest[at + part.len()..];
                    true
                }
                None => false,
            })
        };
        (0..self.items.len()).filter(|item| fits(&self.items[*item])).collect()
    }

    /// Returns what is drawn, on a terminal of this width and height.
    fn lines(&self, prompt: &str, (width, height): (usize, usize)) -> Vec<String> {
        let shown = self.shown();
        let room = height.saturating_sub(4).clamp(3, 20);
        let first = self.at.saturating_sub(room - 1);
        let cut = |text: String| text.chars().take(width.saturating_sub(1).max(20)).collect::<String>();
        let mut lines = vec![match self.pattern.is_empty() {
            true => format!("{} {}", Tone::Strong.paint(prompt), Tone::Faint.paint("(type to narrow it down)")),
            false => format!("{} {}", Tone::Strong.paint(prompt), cut(self.pattern.clone())),
        }];
        for (n, item) in shown.iter().enumerate().skip(first).take(room) {
            let pointer = if n == self.at { "›" } else { " " };
            let mark = if self.chosen[*item] { "■" } else { "□" };
            let line = cut(format!("{pointer} {mark} {}", self.items[*item]));
            lines.push(if n == self.at { Tone::Strong.paint(&line) } else { line });
        }
        let chosen = self.chosen.iter().filter(|chosen| **chosen).count();
        let (all, fitting) = (self.items.len(), shown.len());
        let fit = if self.pattern.is_empty() { String::new() } else { format!(", {fitting} fit") };
        lines.push(cut(format!("{chosen} of {all} chosen{fit} · space: choose, tab: all, enter: go on, esc: end")));
        lines
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picker() -> Picker {
        let items = ["lampholm.example", "shop.lampholm.example", "mail.harbour.example"];
        Picker::new(items.map(|item| (item.to_owned(), false)))
    }

    #[test]
    fn keys_lead_to_a_choice() {
        use Key::{ArrowDown, ArrowUp, Backspace, Enter, Escape, Tab};
        let typed = |text: &str| text.chars().map(Key::Char).collect::<Vec<_>>();
        let cases: [(Vec<Key>, Step); 10] = [
            (vec![Enter], Step::Done(vec![0])),
            (vec![ArrowDown, Enter], Step::Done(vec![1])),
            (vec![ArrowUp, Key::Char(' '), ArrowDown, Key::Char(' '), Enter], Step::Done(vec![0, 2])),
            ([typed("SHOP"), vec![Enter]].concat(), Step::Done(vec![1])),
            ([typed("l*harb"), vec![Enter]].concat(), Step::Done(vec![2])),
            ([typed("lamp"), vec![Tab, Enter]].concat(), Step::Done(vec![0, 1])),
            ([typed("lamp"), vec![Tab, Tab, Enter]].concat(), Step::Done(vec![0])),
            ([typed("none"), vec![Enter]].concat(), Step::On),
            ([typed("mail"), vec![Escape, Escape]].concat(), Step::Cancelled),
            ([typed("mailx"), vec![Backspace, Enter]].concat(), Step::Done(vec![2])),
        ];
        for (keys, wanted) in cases {
            let mut picker = picker();
            let last = keys.iter().map(|key| picker.key(key)).last();
            assert_eq!(last, Some(wanted), "{keys:?}");
        }
        let mut all = Picker::new([("a".to_owned(), true), ("b".to_owned(), true)]);
        assert_eq!(all.key(&Key::Char(' ')), Step::On);
        assert_eq!(all.key(&Enter), Step::Done(vec![1]));
    }

    #[test]
    fn what_is_drawn_fits_and_follows_the_cursor() {
        let mut picker = Picker::new((0..100).map(|n| (format!("room{n}.lampholm.example"), false)));
        for _ in 0..50 {
            picker.key(&Key::ArrowDown);
        }
        let lines = picker.lines("Sites", (40, 12));
        assert_eq!(lines.len(), 10);
        let plain: Vec<String> = lines.iter().map(|line| anstream::adapter::strip_str(line).to_string()).collect();
        assert!(plain.iter().all(|line| line.chars().count() < 40), "{plain:#?}");
        assert_eq!(plain[8], "› □ room50.lampholm.example");
        picker.key(&Key::Char('9'));
        assert!(picker.lines("Sites", (80, 12)).last().unwrap().starts_with("0 of 100 chosen, 19 fit"));
    }
}
