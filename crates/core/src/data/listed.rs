//! The files of a folder as a table: each a row with what is known of it, of pictures more than of others.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use rayon::prelude::*;
use textum_picture::{Likeness, Picture};

use super::DataError;
use super::data_ref::DataRef;
use super::table_at::{table_in_store, table_in_tree};
use crate::fsio::IoError;
use crate::project::fingerprint::walk;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind};
use crate::store::{Digest, ItemKind, Store, hash_file, items_of_listing};
use crate::table::{Dialect, Listed, Origin, Table, TableError, looks_like_array};

/// A file above this is no picture that anybody trains on. In bytes.
const MOST_BYTES: u64 = 512 << 20;
/// So many bytes tell whether a file is a picture.
const START: usize = 32;

/// A file of a folder.
#[derive(Clone, Debug)]
pub struct ListedFile {
    /// Where it is below the folder.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// What is in it.
    pub content: Digest,
    /// What is known of it as a picture.
    pub picture: Option<Picture>,
}

impl ListedFile {
    /// The folder that it lies in directly, which names its class; nothing at the top.
    pub fn class(&self) -> &str {
        let folder = self.path.rsplit_once('/').map_or("", |(folder, _)| folder);
        folder.rsplit('/').next().unwrap_or_default()
    }
}

/// Where the bytes of a file are.
enum Bytes<'s> {
    File(PathBuf),
    Stored(&'s Store, Digest),
}

impl Bytes<'_> {
    fn start(&self) -> Result<Vec<u8>, DataError> {
        use std::io::Read;
        let mut start = Vec::new();
        let read = match self {
            Bytes::File(path) => {
                let file = std::fs::File::open(path).map_err(IoError::of("open", path))?;
                file.take(START as u64).read_to_end(&mut start).map_err(IoError::of("read", path))
            }
            Bytes::Stored(store, digest) => {
                let named = Path::new("the store");
                store.reader(digest)?.take(START as u64).read_to_end(&mut start).map_err(IoError::of("read from", named))
            }
        };
        read?;
        Ok(start)
    }

    fn all(&self) -> Result<Vec<u8>, DataError> {
        Ok(match self {
            Bytes::File(path) => std::fs::read(path).map_err(IoError::of("read", path))?,
            Bytes::Stored(store, digest) => store.read(digest)?,
        })
    }

    fn look(&self, path: String, size: u64) -> Result<ListedFile, DataError> {
        let known = match self {
            Bytes::Stored(_, digest) => Some(*digest),
            Bytes::File(_) => None,
        };
        if size <= MOST_BYTES && textum_picture::is_picture(&self.start()?) {
            let bytes = self.all()?;
            let content = known.unwrap_or_else(|| Digest::of(&bytes));
            return Ok(ListedFile { path, size: bytes.len() as u64, content, picture: textum_picture::look(&bytes) });
        }
        let content = match (known, self) {
            (Some(digest), _) => digest,
            (None, Bytes::File(file)) => hash_file(file)?.0,
            (None, Bytes::Stored(_, digest)) => *digest,
        };
        Ok(ListedFile { path, size, content, picture: None })
    }
}

fn look_at(files: Vec<(String, u64, Bytes<'_>)>, stop: &(dyn Fn() -> bool + Sync)) -> Result<Vec<ListedFile>, DataError> {
    let one = |(path, size, bytes): (String, u64, Bytes<'_>)| match stop() {
        true => Err(TableError::Stopped.into()),
        false => bytes.look(path, size),
    };
    files.into_par_iter().map(one).collect()
}

fn in_tree(folder: &Path) -> Result<Vec<(String, u64, Bytes<'static>)>, DataError> {
    let seen = walk(folder)?.into_iter().filter(|s| matches!(s.kind, ItemKind::File | ItemKind::Exec));
    Ok(seen.map(|s| (s.path.clone(), s.stat.size, Bytes::File(folder.join(&s.path)))).collect())
}

fn in_store<'s>(store: &'s Store, content: &Content) -> Result<Vec<(String, u64, Bytes<'s>)>, DataError> {
    let listing = store.listing(&content.digest)?;
    let items = items_of_listing(store, &content.digest, &listing)?;
    let files = items.into_iter().filter_map(|item| match (item.kind, item.digest) {
        (ItemKind::File | ItemKind::Exec, Some(digest)) => Some((item.path.into_owned(), item.size, Bytes::Stored(store, digest))),
        _ => None,
    });
    Ok(files.collect())
}

/// The files of a folder, in the order of their paths.
pub fn listed_files(project: &Project, side: &DataRef) -> Result<Vec<ListedFile>, DataError> {
    let never = || false;
    match &side.file {
        Some(folder) => look_at(in_tree(folder)?, &never),
        None => look_at(in_store(&project.store, &side.content)?, &never),
    }
}

/// Files as a table: `file`, `class`, `bytes`, `content`, and of pictures `format`, `width`, `height`, `mode`, `likeness` and,
/// of a broken one, `fault`.
pub fn as_table(name: &str, files: &[ListedFile]) -> Table<'static> {
    let mut columns = vec!["file", "class", "bytes", "content"];
    let any = files.iter().any(|f| f.picture.is_some());
    if any {
        columns.extend(["format", "width", "height", "mode", "likeness", "fault"]);
    }
    let row = |file: &ListedFile| {
        let mut cells = vec![file.path.clone(), file.class().to_string(), file.size.to_string(), file.content.to_string()];
        if any {
            let seen = file.picture.as_ref();
            let told = |value: u32| if value == 0 { String::new() } else { value.to_string() };
            cells.push(seen.map_or(String::new(), |p| p.format.to_string()));
            cells.push(seen.map_or(String::new(), |p| told(p.width)));
            cells.push(seen.map_or(String::new(), |p| told(p.height)));
            cells.push(seen.map_or(String::new(), |p| p.mode.to_string()));
            cells.push(seen.and_then(|p| p.likeness).map_or(String::new(), |l| l.to_string()));
            cells.push(seen.and_then(|p| p.fault.clone()).unwrap_or_default());
        }
        cells
    };
    let rows = files.iter().map(row).collect();
    let files = files.iter().map(|f| f.path.clone()).collect();
    Table::listed(name, Listed { columns: columns.into_iter().map(String::from).collect(), rows, files })
}

/// A folder of JSON documents is none of tables.
fn no_documents(table: Table<'_>) -> Result<Table<'_>, DataError> {
    let is_folder = matches!(table.origin, Origin::Parts(_));
    match is_folder && table.is_whole_document().is_some_and(|start| !looks_like_array(&start)) {
        true => Err(DataError::Folder(table.name.clone())),
        false => Ok(table),
    }
}

/// The table at a path below a folder; of a folder whose files make none, that of its files.
pub fn any_table_in_tree(
    root: &Path,
    path: &str,
    dialect: &Dialect,
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Table<'static>, DataError> {
    match table_in_tree(root, path, dialect).and_then(no_documents) {
        Err(DataError::Folder(_)) => Ok(as_table(path, &look_at(in_tree(&root.join(path))?, stop)?)),
        other => other,
    }
}

/// The same of a recorded state.
pub fn any_table_in_store<'s>(
    store: &'s Store,
    name: &str,
    path: &str,
    content: &Content,
    dialect: &Dialect,
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Table<'s>, DataError> {
    match table_in_store(store, name, path, content, dialect).and_then(no_documents) {
        Err(DataError::Folder(_)) if content.kind == ContentKind::Folder => {
            Ok(as_table(name, &look_at(in_store(store, content)?, stop)?))
        }
        other => other,
    }
}

impl DataRef {
    /// It as a table; a folder whose files make none as that of its files.
    pub fn any_table<'p>(&self, project: &'p Project) -> Result<Table<'p>, DataError> {
        match self.table(project) {
            Err(DataError::Folder(_)) => Ok(as_table(&self.name, &listed_files(project, self)?)),
            other => other,
        }
    }
}

/// What is told of the pictures among files.
#[derive(Clone, Debug, Default, serde::Serialize)]
pub struct PictureFacts {
    /// How many there are.
    pub pictures: u64,
    /// Files that are none.
    pub others: u64,
    /// Those that cannot be shown whole, and why.
    pub broken: Vec<(String, String)>,
    /// Files with the same content, each group in the order of paths.
    pub same: Vec<Vec<String>>,
    /// Pairs of other contents that show the same, and in how many of 63 bits they differ.
    pub alike: Vec<(String, String, u32)>,
    /// Those that show nothing: of one colour all over.
    pub blank: Vec<String>,
}

/// What is told of the pictures among files; `None` where there are none.
pub fn picture_facts(files: &[ListedFile]) -> Option<PictureFacts> {
    let pictures: Vec<(&ListedFile, &Picture)> = files.iter().filter_map(|f| Some((f, f.picture.as_ref()?))).collect();
    if pictures.is_empty() {
        return None;
    }
    let mut facts =
        PictureFacts { pictures: pictures.len() as u64, others: (files.len() - pictures.len()) as u64, ..PictureFacts::default() };
    let mut by_content: BTreeMap<Digest, Vec<&str>> = BTreeMap::new();
    let (mut likeness, mut first): (Vec<Likeness>, Vec<&ListedFile>) = (Vec::new(), Vec::new());
    for (file, picture) in &pictures {
        let same = by_content.entry(file.content).or_default();
        same.push(&file.path);
        match (&picture.fault, picture.likeness) {
            (Some(fault), _) => facts.broken.push((file.path.clone(), fault.clone())),
            (None, None) => facts.blank.push(file.path.clone()),
            // Of the same content one stands for all.
            (None, Some(found)) if same.len() == 1 => {
                likeness.push(found);
                first.push(file);
            }
            (None, Some(_)) => {}
        }
    }
    facts.same = by_content.into_values().filter(|g| g.len() > 1).map(|g| g.into_iter().map(String::from).collect()).collect();
    facts.same.sort();
    let nearest = Likeness::nearest(&likeness, &likeness, true).into_iter().enumerate();
    let pairs =
        nearest.filter_map(|(at, near)| near.map(|(other, apart)| (first[at].path.clone(), first[other].path.clone(), apart)));
    facts.alike = pairs.collect();
    Some(facts)
}
