//! Pictures of two folders that differ, small: what was added, removed and changed, to be looked at.

use rayon::prelude::*;
use textum_picture::Picture;

use super::DataError;
use super::data_ref::{DataRef, Entry};
use super::files::{FileChange, FileChangeKind, FilesDiff};
use crate::fsio::IoError;
use crate::project::workspace::Project;
use crate::store::Store;

/// The longer side of a small picture, in pixels.
const SIDE: u32 = 144;
/// A file above this is not looked at. In bytes.
const MOST_BYTES: u64 = 128 << 20;

/// A picture made small.
#[derive(Clone, Debug)]
pub struct Small {
    /// As PNG; none of one that cannot be shown.
    pub png: Option<Vec<u8>>,
    /// What is known of the whole one.
    pub picture: Picture,
}

/// A file that differs and is a picture on one side at least.
#[derive(Clone, Debug)]
pub struct Tile {
    /// What became of it.
    pub change: FileChange,
    /// As it was.
    pub old: Option<Small>,
    /// As it is.
    pub new: Option<Small>,
}

/// The pictures among the files that differ.
#[derive(Clone, Debug, Default)]
pub struct Sheet {
    /// So many of each kind of change as were asked for, in the order of the difference.
    pub tiles: Vec<Tile>,
    /// Files of which it was not looked whether they are pictures, since enough were found.
    pub left: u64,
}

/// The bytes of a file of a folder.
fn bytes_of(store: &Store, side: &DataRef, entries: &[Entry], path: &str) -> Result<Option<Vec<u8>>, DataError> {
    let Some((_, _, Some(digest), size)) = entries.iter().find(|e| e.0 == path) else { return Ok(None) };
    if *size > MOST_BYTES {
        return Ok(None);
    }
    match &side.file {
        Some(folder) => {
            let file = folder.join(path);
            // What has gone since cannot be shown; nothing else depends on it.
            match std::fs::read(&file) {
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
                read => Ok(Some(read.map_err(IoError::of("read", &file))?)),
            }
        }
        None => Ok(Some(store.read(digest)?)),
    }
}

fn small(bytes: Option<Vec<u8>>) -> Option<Small> {
    let bytes = bytes?;
    let picture = textum_picture::look(&bytes)?;
    Some(Small { png: textum_picture::thumbnail(&bytes, SIDE), picture })
}

/// Looks at the pictures among files that differ, at most so many of each kind of change. What was only moved is not shown.
pub fn sheet(project: &Project, old: &DataRef, new: &DataRef, diff: &FilesDiff, most: usize) -> Result<Sheet, DataError> {
    let (before, now) = (old.entries(project)?, new.entries(project)?);
    let (mut found, store) = (Sheet::default(), &*project.store);
    for kind in [FileChangeKind::Changed, FileChangeKind::Added, FileChangeKind::Removed] {
        let of_kind: Vec<&FileChange> = diff.files.iter().filter(|f| f.change == kind).collect();
        let taken = &of_kind[..most.min(of_kind.len())];
        found.left += (of_kind.len() - taken.len()) as u64;
        let one = |change: &&FileChange| -> Result<Option<Tile>, DataError> {
            let was = if kind == FileChangeKind::Added { None } else { bytes_of(store, old, &before, &change.path)? };
            let is = if kind == FileChangeKind::Removed { None } else { bytes_of(store, new, &now, &change.path)? };
            let (old, new) = (small(was), small(is));
            Ok((old.is_some() || new.is_some()).then(|| Tile { change: (*change).clone(), old, new }))
        };
        let tiles: Vec<Option<Tile>> = taken.par_iter().map(one).collect::<Result<_, _>>()?;
        found.tiles.extend(tiles.into_iter().flatten());
    }
    Ok(found)
}
