//! One table of the inventory while it is read: takes values out by key and notes every mistake with its place.

use crate::mistake::Mistake;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::ops::{Range, RangeInclusive};
use std::path::PathBuf;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// The source text and the mistakes found in it so far.
pub(crate) struct Notes<'a> {
    source: &'a str,
    found: RefCell<Vec<(usize, Mistake)>>,
}

impl<'a> Notes<'a> {
    pub(crate) fn new(source: &'a str) -> Self {
        Notes { source, found: RefCell::default() }
    }

    pub(crate) fn add(&self, span: Range<usize>, what: impl Into<String>, advice: Option<String>) {
        let mistake = Mistake::at(self.source, span.clone(), what.into(), advice);
        self.found.borrow_mut().push((span.start, mistake));
    }

    pub(crate) fn into_mistakes(self) -> Vec<Mistake> {
        let mut found = self.found.into_inner();
        found.sort_by_key(|(at, _)| *at);
        found.into_iter().map(|(_, mistake)| mistake).collect()
    }
}

/// A text value and where it stands.
#[derive(Clone)]
pub(crate) struct Text<'a> {
    pub(crate) value: &'a str,
    pub(crate) span: Range<usize>,
}

/// A table, its place, its title for messages, and where mistakes go.
#[derive(Clone, Copy)]
pub(crate) struct Section<'a> {
    table: &'a DeTable<'a>,
    start: usize,
    end: usize,
    title: &'a str,
    known: &'a [&'a str],
    notes: &'a Notes<'a>,
}

impl<'a> Section<'a> {
    /// Opens a table; keys that are not `known` are noted, with the nearest known one.
    pub(crate) fn open(
        table: &'a DeTable<'a>,
        span: Range<usize>,
        title: &'a str,
        known: &'a [&'a str],
        notes: &'a Notes<'a>,
    ) -> Self {
        for (key, _) in table.iter() {
            let word: &str = key.get_ref();
            if !known.contains(&word) {
                let advice = nearest(word, known).unwrap_or_else(|| format!("known here: {}", known.join(", ")));
                notes.add(key.span(), format!("unknown key `{word}` in {title}"), Some(advice));
            }
        }
        Section { table, start: span.start, end: span.end, title, known, notes }
    }

    /// Returns where the section's head stands.
    pub(crate) fn span(&self) -> Range<usize> {
        self.start..self.end
    }

    pub(crate) fn get(&self, key: &str) -> Option<&'a Spanned<DeValue<'a>>> {
        self.table.iter().find(|(k, _)| k.get_ref() == key).map(|(_, v)| v)
    }

    fn wrong(&self, value: &Spanned<DeValue<'a>>, key: &str, wants: &str) {
        let is = value.get_ref().type_str();
        self.notes.add(value.span(), format!("`{key}` in {} wants {wants}, this is a {is}", self.title), None);
    }

    /// Notes that a key is missing that must be there, unless it is there misspelled, which is noted already.
    pub(crate) fn missing(&self, key: &str, example: &str) {
        let unknown = self.table.iter().map(|(k, _)| &**k.get_ref()).filter(|k| !self.known.contains(k));
        if unknown.into_iter().any(|k| nearest(k, &[key]).is_some()) {
            return;
        }
        self.notes.add(self.span(), format!("{} has no `{key}`", self.title), Some(format!("add a line: {example}")));
    }

    pub(crate) fn text(&self, key: &str) -> Option<Text<'a>> {
        let value = self.get(key)?;
        match value.get_ref().as_str() {
            Some(text) => Some(Text { value: text, span: value.span() }),
            None => {
                self.wrong(value, key, "a text in quotes");
                None
            }
        }
    }

    pub(crate) fn path(&self, key: &str) -> Option<PathBuf> {
        self.text(key).map(|t| PathBuf::from(t.value))
    }

    pub(crate) fn flag(&self, key: &str) -> bool {
        let Some(value) = self.get(key) else { return false };
        value.get_ref().as_bool().unwrap_or_else(|| {
            self.wrong(value, key, "true or false");
            false
        })
    }

    pub(crate) fn number(&self, key: &str, range: RangeInclusive<u32>, usual: u32) -> u32 {
        let Some(value) = self.get(key) else { return usual };
        let number = value.get_ref().as_integer().and_then(|i| i.as_str().parse().ok()).filter(|n| range.contains(n));
        number.unwrap_or_else(|| {
            let (from, to) = (range.start(), range.end());
            self.notes.add(value.span(), format!("`{key}` in {} wants a number from {from} to {to}", self.title), None);
            usual
        })
    }

    /// Returns the numbers of a list.
    pub(crate) fn numbers(&self, key: &str) -> Vec<u16> {
        let Some(value) = self.get(key) else { return Vec::new() };
        let number = |item: &Spanned<DeValue<'_>>| item.get_ref().as_integer().and_then(|i| i.as_str().parse().ok());
        let read: Option<Vec<u16>> = value.get_ref().as_array().and_then(|items| items.iter().map(number).collect());
        read.unwrap_or_else(|| {
            self.wrong(value, key, "a list of numbers");
            Vec::new()
        })
    }

    /// Returns the texts of a list; `None` when the key is absent or wrong.
    pub(crate) fn texts(&self, key: &str) -> Option<Vec<Text<'a>>> {
        let value = self.get(key)?;
        let Some(items) = value.get_ref().as_array() else {
            self.wrong(value, key, "a list in square brackets");
            return None;
        };
        let text = |item: &'a Spanned<DeValue<'a>>| match item.get_ref().as_str() {
            Some(text) => Some(Text { value: text, span: item.span() }),
            None => {
                self.wrong(item, key, "a list of texts in quotes");
                None
            }
        };
        Some(items.iter().filter_map(text).collect())
    }

    /// Returns the texts of a key that takes one text or a list of them.
    pub(crate) fn one_or_more(&self, key: &str) -> Vec<Text<'a>> {
        match self.get(key).map(|value| value.get_ref().as_str().is_some()) {
            Some(true) => self.text(key).into_iter().collect(),
            Some(false) => self.texts(key).unwrap_or_default(),
            None => Vec::new(),
        }
    }

    /// Returns keys and texts of an inline table of texts.
    pub(crate) fn entries(&self, key: &str) -> Vec<(Text<'a>, Text<'a>)> {
        let Some((table, _)) = self.table(key) else { return Vec::new() };
        let mut found = Vec::new();
        for (name, value) in table.iter() {
            let name_text: &'a str = name.get_ref();
            match value.get_ref().as_str() {
                Some(text) => {
                    found.push((Text { value: name_text, span: name.span() }, Text { value: text, span: value.span() }))
                }
                None => self.wrong(value, key, "a table of texts, { name = \"text\" }"),
            }
        }
        found
    }

    /// Returns an inline table of texts.
    pub(crate) fn words(&self, key: &str) -> BTreeMap<String, String> {
        self.entries(key).into_iter().map(|(name, text)| (name.value.to_owned(), text.value.to_owned())).collect()
    }

    /// Returns a table, and where it stands.
    pub(crate) fn table(&self, key: &str) -> Option<(&'a DeTable<'a>, Range<usize>)> {
        let value = self.get(key)?;
        let table = value.get_ref().as_table();
        if table.is_none() {
            self.wrong(value, key, "a table, { … }");
        }
        table.map(|table| (table, value.span()))
    }

    /// Opens a table below this one.
    pub(crate) fn below(
        &self,
        table: &'a DeTable<'a>,
        span: Range<usize>,
        title: &'a str,
        known: &'a [&'a str],
    ) -> Self {
        Section::open(table, span, title, known, self.notes)
    }

    /// Returns the words of a command; at least one.
    pub(crate) fn command(&self, key: &str) -> Option<Vec<String>> {
        let words: Vec<String> = self.texts(key)?.iter().map(|w| w.value.to_owned()).collect();
        if words.is_empty() {
            let at = self.get(key).map_or(self.span(), Spanned::span);
            self.notes.add(at, format!("`{key}` in {} is empty; it wants a command", self.title), None);
        }
        Some(words)
    }

    /// Returns the tables of a list of inline tables.
    pub(crate) fn tables(&self, key: &str) -> Vec<(&'a DeTable<'a>, Range<usize>)> {
        let Some(value) = self.get(key) else { return Vec::new() };
        let Some(items) = value.get_ref().as_array() else {
            self.wrong(value, key, "a list of tables, [{ … }]");
            return Vec::new();
        };
        let table = |item: &'a Spanned<DeValue<'a>>| match item.get_ref().as_table() {
            Some(table) => Some((table, item.span())),
            None => {
                self.wrong(item, key, "a list of tables, [{ … }]");
                None
            }
        };
        items.iter().filter_map(table).collect()
    }

    /// Reads a text with `parse`; what it refuses is noted as a mistake with its word for what is wanted.
    pub(crate) fn parsed<T>(&self, key: &str, wants: &str, parse: impl Fn(&str) -> Option<T>) -> Option<T> {
        let text = self.text(key)?;
        let value = parse(text.value);
        if value.is_none() {
            let what = format!("`{key}` in {} wants {wants}, this is `{}`", self.title, text.value);
            self.notes.add(text.span, what, None);
        }
        value
    }

    /// Notes a mistake at a place of this section.
    pub(crate) fn note(&self, span: Range<usize>, what: impl Into<String>, advice: Option<String>) {
        self.notes.add(span, what, advice);
    }
}

/// Returns "did you mean `x`?" for the known word that is near enough.
pub(crate) fn nearest(word: &str, known: &[&str]) -> Option<String> {
    known
        .iter()
        .map(|k| (strsim::damerau_levenshtein(word, k), k))
        .min()
        .filter(|(distance, k)| *distance <= 1 + k.len() / 4)
        .map(|(_, k)| format!("did you mean `{k}`?"))
}
