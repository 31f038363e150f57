//! The columns of two tables beside each other.

use serde::Serialize;

use super::kind::KindCounts;

/// A column and what its cells are.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// Its type in a word, as of [`KindCounts::name`].
    pub r#type: String,
}

/// A column whose cells are of another type than before.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TypeChange {
    /// The column.
    pub column: String,
    /// Its type in the first table.
    pub from: String,
    /// Its type in the second.
    pub to: String,
}

/// How the columns of two tables differ.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct SchemaDiff {
    /// Columns that only the second has.
    pub added: Vec<Column>,
    /// Columns that only the first has.
    pub removed: Vec<Column>,
    /// Columns whose type is another.
    pub types: Vec<TypeChange>,
    /// Columns with the same values under another name.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub renamed: Vec<Renamed>,
    /// Whether the columns in both stand in another order.
    pub reordered: bool,
}

/// A column with the same values under another name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Renamed {
    /// Its name in the first table.
    pub from: String,
    /// Its name in the second.
    pub to: String,
}

impl SchemaDiff {
    /// Takes columns for the same that have the same values under another name.
    pub fn rename(&mut self, renamed: Vec<Renamed>) {
        self.removed.retain(|c| renamed.iter().all(|r| r.from != c.name));
        self.added.retain(|c| renamed.iter().all(|r| r.to != c.name));
        self.renamed = renamed;
    }

    /// Whether there is no difference.
    pub fn is_empty(&self) -> bool {
        *self == SchemaDiff::default()
    }
}

/// Compares the columns of two tables by name.
pub fn compare_schemas(old: (&[String], &[KindCounts]), new: (&[String], &[KindCounts])) -> SchemaDiff {
    let column = |(names, kinds): (&[String], &[KindCounts]), at: usize| Column {
        name: names[at].clone(),
        r#type: kinds[at].name().to_string(),
    };
    let only = |in_these: (&[String], &[KindCounts]), not_in: &[String]| -> Vec<Column> {
        (0..in_these.0.len()).filter(|i| !not_in.contains(&in_these.0[*i])).map(|i| column(in_these, i)).collect()
    };
    let place = |name: &String| new.0.iter().position(|n| n == name);
    let common: Vec<(usize, usize)> = old.0.iter().enumerate().filter_map(|(i, n)| Some((i, place(n)?))).collect();
    let types = common.iter().map(|(a, b)| (*a, old.1[*a].name(), new.1[*b].name()));
    SchemaDiff {
        added: only(new, old.0),
        removed: only(old, new.0),
        types: types
            .filter(|(_, from, to)| from != to)
            .map(|(at, from, to)| TypeChange { column: old.0[at].clone(), from: from.into(), to: to.into() })
            .collect(),
        renamed: Vec::new(),
        reordered: common.windows(2).any(|pair| pair[0].1 > pair[1].1),
    }
}
