//! A column of labels: each text kept once, whatever the number of rows.

use std::collections::{BTreeSet, HashMap};
use std::rc::Rc;

use crate::table::row;

/// A column of labels. Cheap to take rows out of: the texts are shared.
#[derive(Clone, Debug, Default)]
pub struct Labels {
    names: Rc<Vec<String>>,
    at: Vec<u32>,
}

/// Puts a column together, cell by cell.
#[derive(Debug, Default)]
pub(super) struct Gatherer {
    known: HashMap<Box<[u8]>, u32>,
    labels: Labels,
}

impl Gatherer {
    /// Adds a row with this cell.
    pub(super) fn push(&mut self, cell: &[u8]) {
        let number = match self.known.get(cell) {
            Some(number) => *number,
            None => {
                let names = Rc::make_mut(&mut self.labels.names);
                names.push(row::text(cell));
                let number = u32::try_from(names.len() - 1).unwrap_or(u32::MAX);
                self.known.insert(cell.into(), number);
                number
            }
        };
        self.labels.at.push(number);
    }

    /// The column. Cells of different bytes may be one text.
    pub(super) fn end(self) -> Labels {
        self.labels.renamed(str::to_string)
    }
}

impl Labels {
    /// The number of rows.
    pub fn len(&self) -> usize {
        self.at.len()
    }

    /// Whether there are no rows.
    pub fn is_empty(&self) -> bool {
        self.at.is_empty()
    }

    /// The labels of the rows, in their order.
    pub fn iter(&self) -> impl Iterator<Item = &str> {
        self.at.iter().filter_map(|n| self.names.get(*n as usize)).map(String::as_str)
    }

    /// The label of a row; empty beyond the last.
    pub fn at(&self, row: usize) -> &str {
        self.at.get(row).and_then(|n| self.names.get(*n as usize)).map_or("", String::as_str)
    }

    /// The labels that occur, sorted.
    pub fn distinct(&self) -> BTreeSet<&str> {
        let mut met = vec![false; self.names.len()];
        self.at.iter().for_each(|n| met[*n as usize] = true);
        self.names.iter().zip(met).filter(|(_, met)| *met).map(|(name, _)| name.as_str()).collect()
    }

    /// Which rows have this label.
    pub fn are(&self, label: &str) -> Vec<bool> {
        let same: Vec<bool> = self.names.iter().map(|n| n == label).collect();
        self.at.iter().map(|n| same[*n as usize]).collect()
    }

    /// With other names; those that become the same are one label.
    pub fn renamed(self, name: impl Fn(&str) -> String) -> Labels {
        let mut names: Vec<String> = Vec::new();
        let mut known: HashMap<String, u32> = HashMap::new();
        let to: Vec<u32> = self
            .names
            .iter()
            .map(|old| {
                *known.entry(name(old)).or_insert_with_key(|new| {
                    names.push(new.clone());
                    (names.len() - 1) as u32
                })
            })
            .collect();
        Labels { names: Rc::new(names), at: self.at.into_iter().map(|n| to[n as usize]).collect() }
    }

    /// Only these rows.
    pub fn rows(&self, members: &[u32]) -> Labels {
        let at = members.iter().filter_map(|i| self.at.get(*i as usize).copied()).collect();
        Labels { names: self.names.clone(), at }
    }

    /// The number of each row's label among these, which must hold all of them.
    pub(super) fn places(&self, all: &HashMap<&str, usize>) -> impl Iterator<Item = usize> {
        let of: Vec<usize> = self.names.iter().map(|n| all.get(n.as_str()).copied().unwrap_or(0)).collect();
        self.at.iter().map(move |n| of[*n as usize])
    }
}

impl<'t> FromIterator<&'t str> for Labels {
    fn from_iter<I: IntoIterator<Item = &'t str>>(all: I) -> Labels {
        let mut gathered = Gatherer::default();
        all.into_iter().for_each(|label| gathered.push(label.as_bytes()));
        gathered.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_are_those_of_the_rows_whatever_is_done_to_their_names() {
        let labels: Labels = ["b", "a", "1.0", "b", "1"].into_iter().collect();
        assert_eq!(labels.iter().collect::<Vec<_>>(), ["b", "a", "1.0", "b", "1"]);
        assert_eq!(labels.distinct().into_iter().collect::<Vec<_>>(), ["1", "1.0", "a", "b"]);
        assert_eq!(labels.are("b"), [true, false, false, true, false]);
        let one = labels.clone().renamed(|name| name.trim_end_matches(".0").to_string());
        assert_eq!(one.iter().collect::<Vec<_>>(), ["b", "a", "1", "b", "1"]);
        assert_eq!(one.are("1"), [false, false, true, false, true]);
        let few = one.rows(&[4, 0]);
        assert_eq!((few.len(), few.iter().collect::<Vec<_>>()), (2, vec!["1", "b"]));
        assert_eq!(few.distinct().into_iter().collect::<Vec<_>>(), ["1", "b"], "only those that occur");
        assert!(Labels::default().is_empty() && Labels::default().distinct().is_empty());
    }
}
