//! A harvested directive table: one packed constant, sorted, searched in place. Nothing is parsed at start-up.

/// Rows of tab-separated columns, sorted by their first column; lines with `#` are comments.
#[derive(Clone, Copy, Debug)]
pub struct Table {
    text: &'static str,
}

impl Table {
    /// A table over committed text.
    pub const fn new(text: &'static str) -> Self {
        Self { text }
    }

    /// All rows whose first column is `key`.
    pub fn rows(self, key: &str) -> impl Iterator<Item = Row> {
        let bytes = self.text.as_bytes();
        let (mut low, mut high) = (0, bytes.len());
        while low < high {
            let middle = low + (high - low) / 2;
            let start = memchr::memrchr(b'\n', &bytes[..middle]).map_or(0, |at| at + 1);
            let end = memchr::memchr(b'\n', &bytes[middle..]).map_or(bytes.len(), |at| middle + at);
            let first = self.text[start..end].split('\t').next().unwrap_or_default();
            if first.starts_with('#') || first < key {
                low = end + 1;
            } else {
                high = start;
            }
        }
        let rest = self.text.get(low..).unwrap_or_default();
        let key = key.to_owned();
        rest.lines().map(Row).take_while(move |row| row.column(0) == key)
    }

    /// Every first column, in order, with repeats.
    pub fn keys(self) -> impl Iterator<Item = &'static str> {
        self.text.lines().filter(|l| !l.starts_with('#')).filter_map(|l| l.split('\t').next())
    }

    /// Every row.
    pub fn all(self) -> impl Iterator<Item = Row> {
        self.text.lines().filter(|l| !l.starts_with('#')).map(Row)
    }
}

/// One row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Row(&'static str);

impl Row {
    /// A column, empty when missing.
    pub fn column(self, index: usize) -> &'static str {
        self.0.split('\t').nth(index).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_key_is_found_and_nothing_else() {
        let table = Table::new("# head\na\t1\nb\t2\nb\t3\ncc\t4\n");
        for (key, expected) in [("a", 1), ("b", 2), ("cc", 1), ("", 0), ("c", 0), ("d", 0)] {
            assert_eq!(table.rows(key).count(), expected, "{key}");
        }
        assert_eq!(table.rows("b").last().map(|r| r.column(1)), Some("3"));
    }
}
