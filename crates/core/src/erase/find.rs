//! Which versions of a dataset have rows that are to go, which those are, and the dataset without them.

use std::collections::HashSet;

use tempfile::TempPath;
use textum_base::ProjectPath;

use super::EraseError;
use crate::data::{DataError, DataRef, Version, find_data, versions};
use crate::fsio;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind, StorageMode};
use crate::store::{Digest, hash_file};
use crate::table::TableError;
use crate::table::filter::{Condition, Named, Operand, Test};
use crate::table::without::{Going, Parted, WithoutError};

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
    /// The dataset without them: none where the newest state has none of them.
    pub next: Option<Next>,
}

impl Found {
    fn take(&mut self, row: &[u8], bytes: &mut usize) {
        let fits = row.len() >= LONG_ENOUGH && *bytes + row.len() <= MOST;
        if fits && self.rows.insert(row.to_vec()) {
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
            Test::Missing(operand, _) | Test::Kind(operand, ..) => take(operand),
            Test::Between(operand, ends, _) => std::iter::once(operand).chain(ends).for_each(&mut take),
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
    let mut bytes = 0;
    let all = versions(&project.ledger, &asked.dataset)?;
    let newest = all.last().map(|v| v.number);
    let place = place_of(project, asked)?;
    let (mut looked_at, mut no_column, mut in_tree, mut newest_with_rows) = (0, None, None, None);
    for version in all {
        if project.ledger.erased(&version.content.digest)?.is_some() {
            continue;
        }
        let side = find_data(project, &version.name(), root)?;
        let looked = side.table(project).map_err(EraseError::from).and_then(|t| Ok(Going::find(&t, &asked.condition)?));
        let going = match looked {
            Ok(going) => going,
            // A version without the column has no such rows.
            Err(EraseError::Without(WithoutError::Filter(source))) => {
                no_column.get_or_insert(source);
                continue;
            }
            Err(EraseError::Data(DataError::Folder(name))) => return Err(EraseError::Folder(name)),
            Err(e @ EraseError::Data(DataError::Table(TableError::NoTable { .. }))) => return Err(e),
            Err(e) => {
                found.unread.push((version.name(), e.to_string()));
                continue;
            }
        };
        looked_at += 1;
        let Parted { removed, kept } = going.parted;
        if removed == 0 {
            continue;
        }
        let stands = place.as_ref().is_some_and(|(_, now)| now.as_ref().is_some_and(|now| now.digest == version.content.digest));
        found.versions.push(FoundVersion { version: version.clone(), rows: removed, of: removed + kept });
        if stands {
            // Its rows are told when it is written without them.
            in_tree = Some(going);
            continue;
        }
        going.each(&side.table(project)?, &mut |row| found.take(row, &mut bytes))?;
        newest_with_rows = (newest == Some(version.number)).then_some((side, going));
    }
    match place {
        Some((path, Some(content))) => {
            let side = find_data(project, &asked.dataset, root)?;
            let going = match in_tree {
                Some(going) => Some(going),
                None => match Going::find(&side.table(project)?, &asked.condition) {
                    Err(WithoutError::Filter(_)) => None,
                    other => Some(other?),
                },
            };
            looked_at += u64::from(going.is_some());
            if let Some(going) = going.filter(|g| g.parted.removed > 0) {
                let stands = Some(content.digest);
                found.next = Some(next(project, &side, &going, path, content, &mut |row| found.take(row, &mut bytes))?);
                found.next.iter_mut().for_each(|next| next.in_tree = stands);
            }
        }
        Some((path, None)) => {
            if let Some((side, going)) = newest_with_rows {
                let content = side.content.clone();
                found.next = Some(next(project, &side, &going, path, content, &mut |_| ())?);
            }
        }
        None => {}
    }
    match no_column {
        Some(source) if looked_at == 0 && found.unread.is_empty() => {
            Err(DataError::Filter { text: asked.text.clone(), source }.into())
        }
        _ => Ok(found),
    }
}

/// Where the dataset is declared to lie, and what stands there; nothing where it is no longer declared, or only referred to.
fn place_of(project: &Project, asked: &Asked) -> Result<Option<(ProjectPath, Option<Content>)>, EraseError> {
    let Some(decl) = project.manifest.data.iter().find(|d| d.name == asked.dataset && d.hold == StorageMode::Store) else {
        return Ok(None);
    };
    let Some(path) = decl.path.in_project() else { return Ok(None) };
    match project.scanner.look(&decl.path)? {
        Some(content) if content.kind == ContentKind::Folder => Err(EraseError::Folder(asked.dataset.clone())),
        stands => Ok(Some((path, stands))),
    }
}

/// A state of the dataset without the rows.
fn next(
    project: &Project,
    side: &DataRef,
    going: &Going,
    path: ProjectPath,
    content: Content,
    away: &mut dyn FnMut(&[u8]),
) -> Result<Next, EraseError> {
    let folder = project.workspace.state().join("incoming");
    fsio::create_folder(&folder)?;
    // The name is made, and given to a file that nobody has written yet.
    let file = fsio::part_file(&folder, 0o600)?.into_temp_path();
    fsio::remove_file(&file)?;
    going.write(&side.table(project)?, &file, away)?;
    let (digest, size) = hash_file(&file)?;
    let content = Content { digest, size, ..content };
    Ok(Next { content, path, in_tree: None, removed: going.parted.removed, kept: going.parted.kept, file })
}
