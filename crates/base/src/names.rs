//! Names that are like others, and those of the project's own files.

/// The manifest of a project.
pub const MANIFEST_NAME: &str = "textum.toml";
/// The receipt of the working tree.
pub const TREE_RECEIPT_NAME: &str = "textum.receipt.json";

/// The name among `known` that is most like `name`, if any is like it enough to be meant.
pub fn nearest<'k>(name: &str, known: impl IntoIterator<Item = &'k str>) -> Option<&'k str> {
    known
        .into_iter()
        .map(|k| (strsim::damerau_levenshtein(name, k), k))
        .filter(|(distance, k)| *distance <= 1 + name.len().min(k.len()) / 3)
        .min()
        .map(|(_, k)| k)
}
