//! Tables where stages find them: in a tree, or as a recorded version in the store.

use std::path::Path;
use std::sync::Arc;

use super::DataError;
use super::stored_table::StoredTable;
use crate::project::fingerprint::walk;
use crate::record::receipt::{Content, ContentKind};
use crate::store::{ItemKind, Store, items_of_listing};
use crate::table::{Dialect, Origin, Table, TableFormat, format_of};

/// How a table at a path is written: where its name tells no format, one of fields.
pub(super) fn dialect_at(dialect: &Dialect, path: &str) -> Dialect {
    let mut dialect = dialect.clone();
    if dialect != Dialect::default() && dialect.format.is_none() && format_of(path).is_none() {
        dialect.format = Some(TableFormat::Csv);
    }
    dialect
}

/// The files of a folder as one table.
pub(super) fn of_files<'t>(name: &str, files: Vec<(String, Origin<'t>)>, dialect: &Dialect) -> Option<Table<'t>> {
    let some = files.first().map(|(path, _)| path.clone()).unwrap_or_default();
    Table::of_parts(name, files, &dialect_at(dialect, &some))
}

/// The table at a path below a folder: a file, or a folder of files.
pub fn table_in_tree(root: &Path, path: &str, dialect: &Dialect) -> Result<Table<'static>, DataError> {
    let full = root.join(path);
    if !full.is_dir() {
        return Ok(Table::with(path, path, Origin::File(full), &dialect_at(dialect, path))?);
    }
    let seen = walk(&full)?.into_iter().filter(|s| matches!(s.kind, ItemKind::File | ItemKind::Exec));
    let files = seen.map(|s| (s.path.clone(), Origin::File(full.join(&s.path)))).collect();
    of_files(path, files, dialect).ok_or_else(|| DataError::Folder(path.to_string()))
}

/// A recorded state as a table; `path` tells its format.
pub fn table_in_store<'s>(
    store: &'s Store,
    name: &str,
    path: &str,
    content: &Content,
    dialect: &Dialect,
) -> Result<Table<'s>, DataError> {
    let origin = |digest| Origin::Source(Arc::new(StoredTable { store, digest }));
    if content.kind != ContentKind::Folder {
        return Ok(Table::with(name, path, origin(content.digest), &dialect_at(dialect, path))?);
    }
    let listing = store.listing(&content.digest)?;
    let items = items_of_listing(store, &content.digest, &listing)?;
    let files = items.into_iter().filter_map(|item| match (item.kind, item.digest) {
        (ItemKind::File | ItemKind::Exec, Some(digest)) => Some((item.path.into_owned(), origin(digest))),
        _ => None,
    });
    of_files(name, files.collect(), dialect).ok_or_else(|| DataError::Folder(name.to_string()))
}
