//! SQL that goes through a table by its key, page by page.

use crate::{Key, KeyPart, PAGE, Table, TextColumn};

impl Table {
    /// Returns the condition of rows behind a key: `(a > ?) OR (a = ? AND b > ?)`, which indices serve better than a comparison of rows; and which
    /// part of the key each `?` stands for.
    fn behind(&self) -> (String, Vec<usize>) {
        let mut parts = Vec::new();
        let mut places = Vec::new();
        for last in 0..self.key.len() {
            let mut terms = Vec::new();
            for (n, column) in self.key[..=last].iter().enumerate() {
                let sign = if n == last { ">" } else { "=" };
                terms.push(format!("{} {sign} {}", column.quoted, column.value));
                places.push(n);
            }
            parts.push(format!("({})", terms.join(" AND ")));
        }
        (parts.join(" OR "), places)
    }

    /// Returns the condition of the row with a key.
    pub(crate) fn at_key(&self) -> String {
        let terms: Vec<String> =
            self.key.iter().map(|column| format!("{} = {}", column.quoted, column.value)).collect();
        terms.join(" AND ")
    }

    /// Returns the question for the page of rows behind a key, and what stands in it for each `?`. `worth` is the condition under which the
    /// text of a column is worth reading, `text` how it is read.
    pub(crate) fn page<'k>(
        &self,
        worth: &dyn Fn(&TextColumn) -> String,
        text: &dyn Fn(&TextColumn) -> String,
        after: Option<&'k Key>,
    ) -> (String, Vec<&'k KeyPart>) {
        let texts = self.columns.iter().map(|column| format!("CASE WHEN {} THEN {} END", worth(column), text(column)));
        let read: Vec<String> = self.key.iter().map(|column| column.read.clone()).chain(texts).collect();
        let filter: Vec<String> = self.columns.iter().map(worth).collect();
        let order: Vec<&str> = self.key.iter().map(|column| column.quoted.as_str()).collect();
        let (behind, values) = match after {
            None => (String::new(), Vec::new()),
            Some(key) => {
                let (behind, places) = self.behind();
                (format!("({behind}) AND "), places.into_iter().map(|place| &key[place]).collect())
            }
        };
        let sql = format!(
            "SELECT {} FROM {} WHERE {behind}({}) ORDER BY {} LIMIT {PAGE}",
            read.join(", "),
            self.quoted,
            filter.join(" OR "),
            order.join(", ")
        );
        (sql, values)
    }
}

/// Puts numbers in the place of `?`, as PostgreSQL wants them: `$1`, `$2`.
pub(crate) fn numbered(sql: &str) -> String {
    let mut out = String::with_capacity(sql.len() + 16);
    let mut n = 0;
    // No name and no literal of ours has a question mark in it: names are checked before.
    for part in sql.split_inclusive('?') {
        match part.strip_suffix('?') {
            Some(before) => {
                n += 1;
                out.push_str(&format!("{before}${n}"));
            }
            None => out.push_str(part),
        }
    }
    out
}

/// Returns a name in quotes; `None` for one that cannot be written so that every program agrees what it is.
pub(crate) fn quote(name: &str, mark: char) -> Option<String> {
    let is_odd = |c: char| c == '?' || c == '\\' || c.is_control();
    (!name.is_empty() && !name.contains(is_odd)).then(|| {
        let twice = format!("{mark}{mark}");
        format!("{mark}{}{mark}", name.replace(mark, &twice))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::KeyColumn;

    #[test]
    fn pages_go_on_behind_the_last_key_and_names_are_quoted() {
        let column = |name: &str| KeyColumn { quoted: name.into(), read: name.into(), value: "?".into() };
        let mut table = Table {
            name: "t".into(),
            columns: vec![],
            without_key: None,
            quoted: "t".into(),
            key: vec![column("a"), column("b")],
            kept: vec![],
        };
        assert_eq!(table.behind(), ("(a > ?) OR (a = ? AND b > ?)".into(), vec![0, 0, 1]));
        assert_eq!(table.at_key(), "a = ? AND b = ?");
        let text = |column: &TextColumn| column.quoted.clone();
        let worth = |column: &TextColumn| format!("w({})", column.name);
        let column = |name: &str| TextColumn {
            name: name.into(),
            characters: None,
            bytes: None,
            quoted: name.into(),
            kind: String::new(),
        };
        table.columns = vec![column("c"), column("d")];
        let key = vec![KeyPart::Int(1), KeyPart::Int(2)];
        let (page, values) = table.page(&worth, &text, Some(&key));
        let texts = "CASE WHEN w(c) THEN c END, CASE WHEN w(d) THEN d END";
        assert_eq!(
            page,
            format!(
                "SELECT a, b, {texts} FROM t WHERE ((a > ?) OR (a = ? AND b > ?)) AND (w(c) OR w(d)) ORDER BY a, b LIMIT 500"
            )
        );
        assert_eq!(values, [&key[0], &key[0], &key[1]]);
        assert_eq!(numbered(&table.at_key()), "a = $1 AND b = $2");
        table.key.truncate(1);
        assert_eq!(
            table.page(&worth, &text, None).0,
            format!("SELECT a, {texts} FROM t WHERE (w(c) OR w(d)) ORDER BY a LIMIT 500")
        );
        assert_eq!(quote("a\"b", '"').as_deref(), Some("\"a\"\"b\""));
        for odd in ["", "a?b", "a\0", "a\\"] {
            assert_eq!(quote(odd, '`'), None);
        }
    }
}
