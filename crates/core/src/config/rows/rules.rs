//! Which rules are about a row: looked for once for each row that a configuration uses.
use super::Row;

/// Places in a kind's list of rules, by the number of a row.
#[derive(Debug, Default)]
pub struct RuleIndex {
    places: Vec<Option<Vec<u8>>>,
}

impl RuleIndex {
    /// The place of the nth rule about a row, out of `all` rules, each with the names that it is about.
    pub fn nth(&mut self, row: &Row, nth: usize, all: &[impl AsRef<[&'static str]>]) -> Option<usize> {
        let at = usize::from(row.number);
        if self.places.len() <= at {
            self.places.resize(at + 1, None);
        }
        let about = || {
            let named = all.iter().enumerate().filter(|(_, names)| names.as_ref().contains(&row.name));
            named.filter_map(|(place, _)| u8::try_from(place).ok()).collect()
        };
        self.places[at].get_or_insert_with(about).get(nth).map(|place| usize::from(*place))
    }
}

#[cfg(test)]
mod tests {
    use super::super::Marks;
    use super::*;

    #[test]
    fn rules_about_a_row_come_in_their_order() {
        let all: [&[&str]; 3] = [&["ebb", "flood"], &["slack"], &["flood"]];
        let row = |number, name| Row {
            number,
            name,
            places: 0,
            refused: 0,
            takes: &[],
            from: "",
            releases: &[],
            marks: Marks(0),
            default: None,
        };
        let mut index = RuleIndex::default();
        let mut of = |row: &Row| (0..).map_while(|nth| index.nth(row, nth, &all)).collect::<Vec<_>>();
        for _ in 0..2 {
            assert_eq!(of(&row(7, "flood")), [0, 2]);
            assert_eq!(of(&row(3, "slack")), [1]);
            assert!(of(&row(4, "none")).is_empty());
        }
    }
}
