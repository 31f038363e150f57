//! Rows known by some of their cells, whatever format they are written in.

use std::hash::BuildHasher;

use crate::Row;
use crate::decimal::long_number;
use crate::kind::{Kind, is_missing, kind_of, number};

/// Some columns of a row as one sequence of bytes: the same for cells that mean the same.
#[derive(Default)]
pub struct Key {
    /// The bytes.
    pub bytes: Vec<u8>,
    /// Whether a cell of it is missing.
    pub any_missing: bool,
    /// Whether all are.
    pub all_missing: bool,
}

impl Key {
    /// Takes the cells in these places of a row.
    pub fn take(&mut self, row: &Row, places: impl Iterator<Item = usize>) {
        self.bytes.clear();
        (self.any_missing, self.all_missing) = (false, true);
        for at in places {
            let missing = put(row.cell(at), &mut self.bytes);
            self.any_missing |= missing;
            self.all_missing &= missing;
        }
    }

    /// Its hash, the same in every table.
    pub fn hash(&self) -> u64 {
        foldhash::quality::FixedState::with_seed(0x7E47).hash_one(self.bytes.as_slice())
    }
}

/// Adds a cell; whether it is missing.
fn put(cell: &[u8], out: &mut Vec<u8>) -> bool {
    let start = out.len();
    out.extend_from_slice(&[0; 5]);
    let kind = kind_of(cell);
    let sort = match kind {
        _ if is_missing(cell) => 0u8,
        Kind::Integer | Kind::Number => {
            match (long_number(cell), number(cell)) {
                // What a double cannot hold is told apart by its digits.
                (Some(exact), _) => out.extend_from_slice(exact.as_bytes()),
                (None, Some(value)) => out.extend_from_slice(&(value + 0.0).to_bits().to_be_bytes()),
                (None, None) => out.extend_from_slice(cell),
            }
            1
        }
        Kind::Boolean => {
            out.push(u8::from(cell.first().is_some_and(|c| c.eq_ignore_ascii_case(&b't'))));
            2
        }
        _ => {
            out.extend_from_slice(cell);
            3
        }
    };
    let length = (out.len() - start - 5) as u32;
    out[start] = sort;
    out[start + 1..start + 5].copy_from_slice(&length.to_be_bytes());
    sort == 0
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(cells: &[&str]) -> Key {
        let (mut row, mut key) = (Row::default(), Key::default());
        cells.iter().for_each(|c| row.push(c.as_bytes()));
        key.take(&row, 0..cells.len());
        key
    }

    #[test]
    fn cells_that_mean_the_same_are_the_same() {
        for (a, b) in [("1", "1.0"), ("0.50", ".5"), ("-0", "0"), ("True", "true"), ("", "NA"), ("1e3", "1000")] {
            assert_eq!((key(&[a]).bytes, key(&[a]).hash()), (key(&[b]).bytes, key(&[b]).hash()), "{a} {b}");
        }
        for (a, b) in [
            (["a", "b"], ["ab", ""]),
            (["", "a"], ["a", ""]),
            (["1", "x"], ["2", "x"]),
            (["9007199254740993", ""], ["9007199254740992", ""]),
        ] {
            assert_ne!(key(&a).bytes, key(&b).bytes, "{a:?} {b:?}");
        }
        assert!(key(&["", "x"]).any_missing && !key(&["", "x"]).all_missing && key(&["", "NA"]).all_missing);
    }
}
