//! Which versions of a dataset have rows that are to go, which those are, and the dataset without them.

use std::collections::HashSet;

use tempfile::TempPath;
use textum_base::ProjectPath;

use super::EraseError;
use crate::data::{DataError, DataRef, Version, find_data, find_rows, versions};
use crate::fsio;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind, StorageMode};
use crate::store::{Digest, hash_file};
use crate::table::TableError;
use crate::table::filter::{Condition, Named, Operand, Test};
use crate::table::without::{rows_of, without};

/// Rows are looked for elsewhere by their bytes, if they have so many: shorter ones stand anywhere.
const LONG_ENOUGH: usize = 12;
/// So many bytes of rows are looked for at most.
const MOST: usize = 32 << 20;

/// What is to be erased.
pub struct Asked {
    /// The dataset.
    pub dataset: String,
    /// The rows that are meant.
    pub condition: Condition<Named>,
    /// The condition as it was written; it is kept nowhere.
    pub text: String,
    /// Why.
    pub because: String,
    /// Whether models made of the rows stay.
    pub keep_models: bool,
}

/// A version with such rows.
#[derive(Clone, Debug)]
pub struct FoundVersion {
    /// The version.
    pub version: Version,
    /// So many of its rows meet the condition.
    pub rows: u64,
    /// Of so many.
    pub of: u64,
}

/// The dataset without the rows, written but not recorded.
pub struct Next {
    /// What it is.
    pub content: Content,
    /// The dataset's path.
    pub path: ProjectPath,
    /// What stands in the tree, if that has such rows: it is replaced.
    pub in_tree: Option<Digest>,
    /// So many rows were left out.
    pub removed: u64,
    /// So many stayed.
    pub kept: u64,
    /// Where it is written.
    pub file: TempPath,
}

/// What was found.
#[derive(Default)]
pub struct Found {
    /// Versions with such rows.
    pub versions: Vec<FoundVersion>,
    /// Versions that could not be looked through, and why.
    pub unread: Vec<(String, String)>,
    /// The rows as they stand in the files, as far as those are texts.
    pub rows: HashSet<Vec<u8>>,
    /// Whether there are more of them, that are not looked for elsewhere.
    pub more: bool,
    /// The dataset without them: none where the newest state has none of them.
    pub next: Option<Next>,
}

impl Found {
    fn take(&mut self, row: &[u8], bytes: &mut usize) {
        if row.len() < LONG_ENOUGH {
            return;
        }
        if *bytes + row.len() > MOST {
            self.more = true;
        } else if self.rows.insert(row.to_vec()) {
            *bytes += row.len();
        }
    }

    /// Whether nothing is there to be erased.
    pub fn is_empty(&self) -> bool {
        self.versions.is_empty() && self.next.is_none()
    }
}

/// The texts that a condition looks for.
fn values(condition: &Condition<Named>) -> Vec<String> {
    let mut found = Vec::new();
    let mut take = |operand: &Operand<Named>| {
        if let Operand::Value(bytes, _) = operand {
            found.extend(String::from_utf8(bytes.clone()));
        }
    };
    for test in condition.0.tests() {
        match test {
            Test::Compare(a, _, b) => [a, b].into_iter().for_each(&mut take),
            Test::Missing(operand, _) => take(operand),
            Test::OneOf(operand, values, _) => std::iter::once(operand).chain(values).for_each(&mut take),
        }
    }
    found
}

/// The columns that a condition looks at. A condition or a reason that must not be is an error.
pub(super) fn columns_of(asked: &Asked) -> Result<Vec<String>, EraseError> {
    let mut named = Vec::new();
    asked.condition.names(&mut named);
    if named.is_empty() {
        return Err(EraseError::NoColumn(asked.text.clone()));
    }
    // A word of one or two letters stands in many others.
    let told = values(&asked.condition).into_iter().find(|value| value.len() > 2 && asked.because.contains(value.as_str()));
    match told {
        Some(value) => Err(EraseError::Reason(value)),
        None => Ok(named.into_iter().map(|n| n.name).collect()),
    }
}

/// Looks through all versions of a dataset, and through what stands in the tree. What is not here is fetched.
pub fn find(project: &Project, asked: &Asked) -> Result<Found, EraseError> {
    columns_of(asked)?;
    let root = project.workspace.root();
    let mut found = Found::default();
    let (mut bytes, mut looked_at, mut no_column) = (0, 0, None);
    let all = versions(&project.ledger, &asked.dataset)?;
    let newest = all.last().map(|v| v.number);
    let mut newest_with_rows = None;
    for version in all {
        if project.ledger.erased(&version.content.digest)?.is_some() {
            continue;
        }
        let side = find_data(project, &version.name(), root)?;
        let rows = match find_rows(project, &side, &asked.condition, 0) {
            Ok(Ok(looked)) => looked,
            // A version without the column has no such rows.
            Ok(Err(source)) => {
                no_column.get_or_insert(source);
                continue;
            }
            Err(DataError::Folder(name)) => return Err(EraseError::Folder(name)),
            Err(e @ DataError::Table(TableError::NoTable { .. })) => return Err(e.into()),
            Err(e) => {
                found.unread.push((version.name(), e.to_string()));
                continue;
            }
        };
        looked_at += 1;
        let (count, of) = (rows.rows.unwrap_or(0), rows.of.unwrap_or(0));
        if count > 0 {
            rows_of(&side.table(project)?, &asked.condition, &mut |row| found.take(row, &mut bytes))?;
            newest_with_rows = (newest == Some(version.number)).then_some(side);
            found.versions.push(FoundVersion { version, rows: count, of });
        }
    }
    if let Some(decl) = project.manifest.data.iter().find(|d| d.name == asked.dataset)
        && let Some(path) = decl.path.in_project().filter(|_| decl.hold == StorageMode::Store)
    {
        let stands = project.scanner.look(&decl.path)?;
        match stands {
            Some(content) if content.kind == ContentKind::Folder => return Err(EraseError::Folder(asked.dataset.clone())),
            Some(content) => {
                let side = find_data(project, &asked.dataset, root)?;
                found.next = next(project, asked, &side, path, content, true, &mut |row| {
                    found.rows.insert(row.to_vec());
                })?;
            }
            None => {
                if let Some(side) = newest_with_rows {
                    let content = side.content.clone();
                    found.next = next(project, asked, &side, path, content, false, &mut |_| ())?;
                }
            }
        }
        looked_at += u64::from(found.next.is_some());
    }
    match no_column {
        Some(source) if looked_at == 0 && found.unread.is_empty() => {
            Err(DataError::Filter { text: asked.text.clone(), source }.into())
        }
        _ => Ok(found),
    }
}

/// What stands somewhere without the rows; nothing where it has none of them.
fn next(
    project: &Project,
    asked: &Asked,
    side: &DataRef,
    path: ProjectPath,
    content: Content,
    in_tree: bool,
    away: &mut dyn FnMut(&[u8]),
) -> Result<Option<Next>, EraseError> {
    let table = side.table(project)?;
    let mut opened = table.open().map_err(DataError::from)?;
    if asked.condition.for_columns(&opened.columns).is_err() {
        return Ok(None);
    }
    let (mut row, mut any) = (crate::table::Row::default(), false);
    if let Ok(condition) = asked.condition.for_columns(&opened.columns) {
        while !any && opened.rows.next(&mut row).map_err(DataError::from)? {
            any = condition.holds(&row);
        }
    }
    drop(opened);
    if !any {
        return Ok(None);
    }
    let folder = project.workspace.state().join("incoming");
    fsio::create_folder(&folder)?;
    // The name is made, and given to a file that nobody has written yet.
    let file = fsio::part_file(&folder, 0o600)?.into_temp_path();
    fsio::remove_file(&file)?;
    let parted = without(&table, &asked.condition, &file, &mut |row| {
        if row.len() >= LONG_ENOUGH {
            away(row);
        }
    })?;
    let (digest, size) = hash_file(&file)?;
    let in_tree = in_tree.then_some(content.digest);
    let content = Content { digest, size, ..content };
    Ok(Some(Next { content, path, in_tree, removed: parted.removed, kept: parted.kept, file }))
}
